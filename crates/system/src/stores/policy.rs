//! Managed policies that make browsers trust a root, for every user and every profile, also one that
//! is made tomorrow.
//!
//! Chromium and its relatives read every file in a folder, so there is one of ours (the policy
//! `CACertificates`: DER in base64). Firefox reads one file, which is merged (`Certificates`,
//! `Install`) and is given back to the byte.

use std::path::{Path, PathBuf};
use std::{fs, io};

use serde_json::{Map, Value, json};

use crate::browsers::Family;
use crate::content::Content;
use crate::error::SystemError;
use crate::files::read_file;
use crate::plan::KEPT;
use crate::record::Replaced;
use crate::stores::{Root, body, certificates};

/// The policy of Chromium's that lists roots.
const CHROMIUM_KEY: &str = "CACertificates";
/// Where Firefox's policies list them.
const FIREFOX_LIST: &str = "/policies/Certificates/Install";
/// What was in Firefox's file before us, in the folder of what was replaced.
const FIREFOX_KEPT: &str = "firefox-policies.json";
/// Bytes of a policy file, and of a root that one names.
const LARGEST: u64 = 1024 * 1024;

/// The roots that the policy in `path` has a browser trust, PEM.
///
/// # Errors
/// Why it is unknown.
pub(crate) fn roots(family: Option<Family>, path: &Path) -> Result<Vec<String>, String> {
    if family == Some(Family::Firefox) {
        let policies = parse(path)?.unwrap_or_default();
        let files = listed(&policies).into_iter();
        // What it names and is not there, Firefox passes over.
        let read = files.filter_map(|file| read_file(Path::new(&file), LARGEST).ok());
        let texts = read.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
        return Ok(texts.flat_map(|text| certificates(&text)).collect());
    }
    if let Some(other) = other_list(path)? {
        return Err(format!(
            "{} sets {CHROMIUM_KEY} already, and the browser takes one list alone",
            other.display()
        ));
    }
    Ok(own_list(path)?.iter().map(|der| pem(der)).collect())
}

/// Has the policy in `path` name `root`, too.
///
/// # Errors
/// When it cannot be changed.
pub(crate) fn add(family: Option<Family>, path: &Path, root: &Root) -> Result<(), SystemError> {
    if family == Some(Family::Firefox) {
        return Firefox::new(path).add(root);
    }
    let mut list = own_list(path).map_err(refused(path))?;
    let wanted = body_of(root);
    if !list.contains(&wanted) {
        list.push(wanted);
    }
    write_list(path, &list)
}

/// Has the policy in `path` no longer name `root`.
///
/// # Errors
/// When it cannot be changed.
pub(crate) fn remove(family: Option<Family>, path: &Path, root: &Root) -> Result<(), SystemError> {
    if family == Some(Family::Firefox) {
        return Firefox::new(path).remove(root);
    }
    let mut list = own_list(path).map_err(refused(path))?;
    let gone = body_of(root);
    list.retain(|der| *der != gone);
    write_list(path, &list)
}

fn refused(path: &Path) -> impl FnOnce(String) -> SystemError {
    let path = path.to_owned();
    move |reason| SystemError::Store { path, reason }
}

/// A root's DER in base64.
fn body_of(root: &Root) -> String {
    let text = body(&root.pem).unwrap_or_default();
    let text = text.replace("-----BEGINCERTIFICATE-----", "");
    text.replace("-----ENDCERTIFICATE-----", "")
}

fn pem(der: &str) -> String {
    format!("-----BEGIN CERTIFICATE-----\n{der}\n-----END CERTIFICATE-----\n")
}

/// What a policy file says; `None` when there is none.
fn parse(path: &Path) -> Result<Option<Value>, String> {
    let text = match fs::read_to_string(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    match serde_json::from_str(&text) {
        Ok(Value::Object(object)) => Ok(Some(Value::Object(object))),
        Ok(_) => Err(format!("{} is not a JSON object", path.display())),
        Err(error) => Err(format!("{} is not valid JSON: {error}", path.display())),
    }
}

fn own_list(path: &Path) -> Result<Vec<String>, String> {
    let policies = parse(path)?.unwrap_or_default();
    let list = policies.get(CHROMIUM_KEY).and_then(Value::as_array);
    let texts = list.into_iter().flatten().filter_map(Value::as_str);
    Ok(texts.map(str::to_owned).collect())
}

fn write_list(path: &Path, list: &[String]) -> Result<(), SystemError> {
    let content = match list {
        [] => Content::Absent,
        list => Content::public(format!("{:#}\n", json!({ CHROMIUM_KEY: list }))),
    };
    let written = content.write(path);
    written.map_err(SystemError::io("write", path))?;
    if list.is_empty() {
        drop_empty_folders(path);
    }
    Ok(())
}

/// Removes the folders of a policy that is gone, as far as nothing else is in them: those of a browser
/// below `/etc`.
fn drop_empty_folders(path: &Path) {
    let folders = path.ancestors().skip(1);
    for folder in folders.take_while(|folder| folder.components().count() > 2) {
        // One that is not empty stays, with those above it.
        if fs::remove_dir(folder).is_err() {
            break;
        }
    }
}

/// Another file of the same folder that has its own list.
fn other_list(path: &Path) -> Result<Option<PathBuf>, String> {
    let Some(folder) = path.parent() else {
        return Ok(None);
    };
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(format!("{}: {error}", folder.display())),
    };
    let files = entries.flatten().map(|entry| entry.path());
    let mut others = files.filter(|other| other != path);
    Ok(others.find(|other| matches!(parse(other), Ok(Some(it)) if it.get(CHROMIUM_KEY).is_some())))
}

/// The files that Firefox's policies name.
fn listed(policies: &Value) -> Vec<String> {
    let list = policies.pointer(FIREFOX_LIST).and_then(Value::as_array);
    let files = list.into_iter().flatten().filter_map(Value::as_str);
    files.map(str::to_owned).collect()
}

/// Firefox's policies.
struct Firefox {
    path: PathBuf,
    /// Where the original is kept.
    kept: PathBuf,
}

impl Firefox {
    fn new(path: &Path) -> Self {
        Self {
            path: path.to_owned(),
            kept: Path::new(KEPT).join(FIREFOX_KEPT),
        }
    }

    /// Where a root is put for Firefox to read: beside its policies.
    fn file(&self, root: &Root) -> PathBuf {
        self.path
            .with_file_name(format!("{}.pem", root.file_name()))
    }

    fn now(&self) -> Result<Content, SystemError> {
        Content::read(&self.path).map_err(SystemError::io("read", &self.path))
    }

    fn add(&self, root: &Root) -> Result<(), SystemError> {
        let now = self.now()?;
        let mut policies = parse(&self.path)
            .map_err(refused(&self.path))?
            .unwrap_or_else(|| Value::Object(Map::new()));
        let file = self.file(root);
        let name = Value::from(file.display().to_string());
        let list = list_of(&mut policies).ok_or_else(|| SystemError::Store {
            path: self.path.clone(),
            reason: "what it has at policies.Certificates.Install is not a list".to_owned(),
        })?;
        if !list.contains(&name) {
            list.push(name);
        }
        let left = now.with_text(format!("{policies:#}\n"));
        let before = match self.replaced()? {
            Some(known) if known.left == now => known.before,
            _ => now,
        };
        let replaced = Replaced {
            path: self.path.clone(),
            before,
            left: left.clone(),
        };
        self.keep(&replaced)?;
        let pem = Content::public(root.pem.clone());
        pem.write(&file).map_err(SystemError::io("write", &file))?;
        left.write(&self.path)
            .map_err(SystemError::io("write", &self.path))
    }

    fn remove(&self, root: &Root) -> Result<(), SystemError> {
        let (file, now) = (self.file(root), self.now()?);
        let mut policies = parse(&self.path)
            .map_err(refused(&self.path))?
            .unwrap_or_default();
        take_out(&mut policies, &file.display().to_string());
        let known = self.replaced()?;
        let others = listed(&policies)
            .iter()
            .any(|it| Path::new(it).parent() == self.path.parent());
        let rest = now.with_text(format!("{policies:#}\n"));
        // The original, unless another program has written there since.
        let before = known.filter(|known| known.left == now).map(|it| it.before);
        let after = match (&before, others) {
            (Some(before), false) => before.clone(),
            (None, false) if policies == json!({}) => Content::Absent,
            _ => rest,
        };
        after
            .write(&self.path)
            .map_err(SystemError::io("write", &self.path))?;
        Content::Absent
            .write(&file)
            .map_err(SystemError::io("remove", &file))?;
        if let (Some(before), true) = (before, others) {
            return self.keep(&Replaced {
                path: self.path.clone(),
                before,
                left: after,
            });
        }
        drop_empty_folders(&self.path);
        Content::Absent
            .write(&self.kept)
            .map_err(SystemError::io("remove", &self.kept))
    }

    fn replaced(&self) -> Result<Option<Replaced>, SystemError> {
        match fs::read(&self.kept) {
            Ok(bytes) => serde_json::from_slice(&bytes)
                .map(Some)
                .map_err(io::Error::other)
                .map_err(SystemError::io("read", &self.kept)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(SystemError::io("read", &self.kept)(error)),
        }
    }

    fn keep(&self, replaced: &Replaced) -> Result<(), SystemError> {
        let text = serde_json::to_string_pretty(replaced).map_err(io::Error::other);
        let written = text.and_then(|text| Content::public(text + "\n").write(&self.kept));
        written.map_err(SystemError::io("write", &self.kept))
    }
}

/// The list of files, made where it is missing; `None` when something else is in its place.
fn list_of(policies: &mut Value) -> Option<&mut Vec<Value>> {
    let mut at = policies;
    for key in ["policies", "Certificates"] {
        at = at.as_object_mut()?.entry(key).or_insert_with(|| json!({}));
    }
    let list = at.as_object_mut()?.entry("Install");
    list.or_insert_with(|| json!([])).as_array_mut()
}

/// Takes a file out of the list, and what is empty then.
fn take_out(policies: &mut Value, file: &str) {
    let Some(list) = policies
        .pointer_mut(FIREFOX_LIST)
        .and_then(Value::as_array_mut)
    else {
        return;
    };
    list.retain(|it| it.as_str() != Some(file));
    if !list.is_empty() {
        return;
    }
    for (parent, key, empty) in [
        ("/policies/Certificates", "Install", json!([])),
        ("/policies", "Certificates", json!({})),
        ("", "policies", json!({})),
    ] {
        let parent = policies.pointer_mut(parent).and_then(Value::as_object_mut);
        if let Some(parent) = parent.filter(|parent| parent.get(key) == Some(&empty)) {
            parent.remove(key);
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn root(digits: &str) -> Root {
        Root {
            name: format!("Bent Lane root {digits} on fell"),
            pem: pem("QUFB"),
        }
    }

    #[test]
    fn a_policy_file_of_ours_is_added_and_removed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("managed/bentlane.json");
        let family = Some(Family::Chromium);
        assert!(roots(family, &path).unwrap().is_empty());
        add(family, &path, &root("1a")).unwrap();
        add(family, &path, &root("1a")).unwrap();
        assert_eq!(roots(family, &path).unwrap(), [pem("QUFB")]);
        let other = path.with_file_name("company.json");
        fs::write(&other, r#"{"CACertificates": []}"#).unwrap();
        let why = roots(family, &path).unwrap_err();
        assert!(why.contains("company.json"), "{why}");
        remove(family, &path, &root("1a")).unwrap();
        assert!(!path.exists());
    }

    #[rstest]
    #[case(None)]
    #[case(Some("{ \"policies\":{\"DisableTelemetry\":true } }"))]
    #[case(Some(
        "{\"policies\": {\"Certificates\": {\"ImportEnterpriseRoots\": true, \"Install\": [\"company.pem\"]}}}\n"
    ))]
    fn policies_of_others_come_back_to_the_byte(#[case] before: Option<&str>) {
        let folder = tempfile::tempdir().unwrap();
        let kept = tempfile::tempdir().unwrap();
        let firefox = Firefox {
            path: folder.path().join("policies.json"),
            kept: kept.path().join("kept.json"),
        };
        if let Some(text) = before {
            fs::write(&firefox.path, text).unwrap();
        }
        let there = firefox.now().unwrap();
        firefox.add(&root("1a")).unwrap();
        firefox.add(&root("1a")).unwrap();
        let policies = parse(&firefox.path).unwrap().unwrap();
        let files = listed(&policies);
        assert!(
            files
                .last()
                .unwrap()
                .ends_with("bent-lane-root-1a-on-fell.pem")
        );
        assert_eq!(
            roots(Some(Family::Firefox), &firefox.path).unwrap(),
            [pem("QUFB")]
        );

        // With a root that came after it, as when roots are changed.
        firefox.add(&root("2b")).unwrap();
        firefox.remove(&root("1a")).unwrap();
        firefox.remove(&root("2b")).unwrap();
        assert_eq!(firefox.now().unwrap(), there);

        // Another program adds a policy: it stays, and ours is removed.
        firefox.add(&root("1a")).unwrap();
        let text = fs::read_to_string(&firefox.path).unwrap();
        fs::write(&firefox.path, text.replacen("{", "{\"x\": 1,", 1)).unwrap();
        firefox.remove(&root("1a")).unwrap();
        let policies = parse(&firefox.path).unwrap().unwrap();
        assert_eq!(policies["x"], 1);
        assert!(
            !listed(&policies)
                .iter()
                .any(|file| file.contains("bent-lane"))
        );
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[rstest]
    #[case("[]", "not a JSON object")]
    #[case("{", "not valid JSON")]
    #[case("{\"policies\": {\"Certificates\": {\"Install\": 7}}}", "not a list")]
    fn other_files_are_not_taken_for_policies(#[case] text: &str, #[case] why: &str) {
        let folder = tempfile::tempdir().unwrap();
        let firefox = Firefox {
            path: folder.path().join("policies.json"),
            kept: folder.path().join("kept.json"),
        };
        fs::write(&firefox.path, text).unwrap();
        let refused = firefox.add(&root("1a")).unwrap_err();
        assert!(refused.to_string().contains(why), "{refused}");
        assert_eq!(fs::read_to_string(&firefox.path).unwrap(), text);
    }
}
