//! The trust stores of this machine: which there are, which of our roots each holds, and adding and
//! removing one. The stores themselves are asked, so that the answer is true also after a crash, or
//! when another program changed a store.

mod java;
pub(crate) mod policy;

use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::{fs, io};

use rustix::process::geteuid;
use serde::Serialize;

use crate::browsers::{Browser, Family};
use crate::content::Content;
use crate::error::SystemError;
use crate::profiles::{PROFILES, profiles};

/// The password that Java's own store has, wherever nobody changed it.
const JAVA_PASSWORD: &str = "changeit";
/// Where Chromium and its relatives keep their database of NSS's when they make one, below
/// `$XDG_DATA_HOME`.
const DATABASE: &str = "pki/nssdb";
/// Where they keep it if it is there already, and where a snap keeps it, below the home folder.
const OLD_DATABASE: &str = ".pki/nssdb";
const SNAP_DATABASE: &str = "snap/chromium/current/.pki/nssdb";
/// Whose store it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StoreKind {
    /// The system's own, which most programs go by.
    System,
    /// A browser's (a database of NSS).
    Browser,
    /// A managed policy of a browser's, which holds for every user and profile.
    Policy,
    /// Java's.
    Java,
}

/// A trust store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TrustStore {
    /// Whose it is.
    pub kind: StoreKind,
    /// Its file or folder.
    pub path: PathBuf,
    /// Whether it is there. One that is not is made where its browser would make it.
    pub exists: bool,
    /// The browser, of a policy and of a database that one browser has alone.
    #[serde(skip)]
    pub(crate) family: Option<Family>,
    /// The folder where roots are put by hand, for the system's own.
    #[serde(skip)]
    anchors: PathBuf,
    /// The command that works on it.
    #[serde(skip)]
    tool: Tool,
    /// Whose it is: as this user the command runs where root calls it, so that a link of the user's
    /// leads no further than the user could go.
    #[serde(skip)]
    owner: (u32, u32),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Tool {
    name: &'static str,
    /// The Debian package that has it.
    package: &'static str,
}

const UPDATE_DEBIAN: Tool = Tool {
    name: "update-ca-certificates",
    package: "ca-certificates",
};
const UPDATE_FEDORA: Tool = Tool {
    name: "update-ca-trust",
    package: "ca-certificates",
};
const CERTUTIL: Tool = Tool {
    name: "certutil",
    package: "libnss3-tools",
};
const KEYTOOL: Tool = Tool {
    name: "keytool",
    package: "a Java runtime",
};

/// A root to be trusted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Root {
    /// Its subject's common name.
    pub name: String,
    /// The certificate, PEM.
    #[serde(skip)]
    pub pem: String,
}

/// A certificate in a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredCertificate {
    /// The certificate, PEM.
    pub pem: String,
    /// Whether it is trusted for TLS servers.
    pub trusted: bool,
}

impl Root {
    /// Its name as that of a file, without an ending.
    pub(crate) fn file_name(&self) -> String {
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
        self.name.to_lowercase().chars().map(plain).collect()
    }
}

impl TrustStore {
    /// The certificates that the store holds. Of a browser's these are the added ones.
    ///
    /// # Errors
    /// Why it is unknown.
    pub fn held(&self) -> Result<Vec<StoredCertificate>, String> {
        let trusted = |roots: Vec<String>| {
            roots
                .into_iter()
                .map(|pem| StoredCertificate { pem, trusted: true })
        };
        match self.kind {
            StoreKind::System => {
                let text = fs::read_to_string(&self.path).map_err(|cause| cause.to_string())?;
                Ok(trusted(certificates(&text)).collect())
            }
            StoreKind::Policy => Ok(trusted(policy::roots(self.family, &self.path)?).collect()),
            StoreKind::Browser if !self.exists => Ok(Vec::new()),
            StoreKind::Browser => {
                let named = self.named_certificates()?.into_iter();
                Ok(named.flat_map(|(_, held)| held).collect())
            }
            StoreKind::Java => {
                // Another user's is read by a program that has only that user's rights.
                if (self.owner.0 == 0 || !geteuid().is_root())
                    && let Some(roots) = java::trusted(&self.path).map_err(|it| it.to_string())?
                {
                    return Ok(trusted(roots).collect());
                }
                let text = self.call(&[
                    "-list",
                    "-rfc",
                    "-keystore",
                    &self.text(),
                    "-storepass",
                    JAVA_PASSWORD,
                ])?;
                Ok(trusted(certificates(&text)).collect())
            }
        }
    }

    /// Has the store trust `root`.
    ///
    /// # Errors
    /// When it cannot be changed.
    pub fn add(&self, root: &Root) -> Result<(), SystemError> {
        match self.kind {
            StoreKind::System => {
                let path = self.anchor(root);
                let content = Content::public(root.pem.clone());
                content
                    .write(&path)
                    .map_err(SystemError::io("write", &path))?;
                self.update()
            }
            StoreKind::Policy => policy::add(self.family, &self.path, root),
            StoreKind::Browser => {
                let database = self.database();
                if !self.exists {
                    self.create().map_err(|reason| self.refused(reason))?;
                }
                self.fed(
                    &["-A", "-d", &database, "-n", &root.name, "-t", "C,,", "-a"],
                    &root.pem,
                )
            }
            StoreKind::Java => {
                let path = self.text();
                let args = [
                    "-importcert",
                    "-noprompt",
                    "-trustcacerts",
                    "-alias",
                    &root.name,
                    "-keystore",
                    &path,
                    "-storepass",
                    JAVA_PASSWORD,
                ];
                self.fed(&args, &root.pem)
            }
        }
    }

    /// Has the store no longer trust the root of this name.
    ///
    /// # Errors
    /// When it cannot be changed.
    pub fn remove(&self, root: &Root) -> Result<(), SystemError> {
        let failed = |reason| self.refused(reason);
        match self.kind {
            StoreKind::System => {
                let path = self.anchor(root);
                Content::Absent
                    .write(&path)
                    .map_err(SystemError::io("remove", &path))?;
                self.drop_links(&path)?;
                self.update()
            }
            StoreKind::Policy => policy::remove(self.family, &self.path, root),
            StoreKind::Browser => {
                let database = self.database();
                let wanted = body(&root.pem);
                for (nickname, held) in self.named_certificates().map_err(failed)? {
                    if wanted.is_some() && held.iter().any(|it| body(&it.pem) == wanted) {
                        let gone = self.call(&["-D", "-d", &database, "-n", &nickname]);
                        gone.map_err(failed)?;
                    }
                }
                Ok(())
            }
            StoreKind::Java => {
                let path = self.text();
                let store = ["-keystore", &path, "-storepass", JAVA_PASSWORD];
                let listed = self.call(&[&["-list", "-rfc"], &store[..]].concat());
                for alias in aliases(&listed.map_err(failed)?, &root.pem) {
                    let args = [&["-delete", "-alias", alias], &store[..]].concat();
                    self.call(&args).map_err(failed)?;
                }
                Ok(())
            }
        }
    }

    /// The browser whose policy it is.
    #[must_use]
    pub fn browser(&self) -> Option<&'static str> {
        let family = self.family.filter(|_| self.kind == StoreKind::Policy);
        family.map(Family::name)
    }

    /// Whether only root can change it.
    #[must_use]
    pub fn needs_root(&self) -> bool {
        match self.kind {
            StoreKind::System | StoreKind::Policy => true,
            StoreKind::Browser | StoreKind::Java => self.owner.0 == 0,
        }
    }

    #[cfg(test)]
    pub(crate) fn stand_in(kind: StoreKind, family: Option<Family>, path: &str) -> Self {
        Self {
            kind,
            path: path.into(),
            exists: true,
            family,
            anchors: PathBuf::new(),
            tool: CERTUTIL,
            owner: (0, 0),
        }
    }

    /// Makes an empty database, as the browser would.
    fn create(&self) -> Result<(), String> {
        let making = Tool {
            name: "mkdir",
            package: "coreutils",
        };
        let folder = Self {
            tool: making,
            ..self.clone()
        };
        folder.call(&["-p", "-m", "0700", &self.text()])?;
        self.call(&["-N", "-d", &self.database(), "--empty-password"])?;
        Ok(())
    }

    /// What is in a browser's database, by the names that it was given there.
    fn named_certificates(&self) -> Result<Vec<(String, Vec<StoredCertificate>)>, String> {
        let database = self.database();
        let listed = self.call(&["-L", "-d", &database])?;
        let read = |(nickname, trusted): (String, bool)| {
            let pem = self.call(&["-L", "-d", &database, "-n", &nickname, "-a"])?;
            let held = certificates(&pem).into_iter();
            Ok((
                nickname,
                held.map(|pem| StoredCertificate { pem, trusted }).collect(),
            ))
        };
        listed
            .lines()
            .filter_map(listed_nickname)
            .map(read)
            .collect()
    }

    /// Where a root of ours is put for the system's own store.
    fn anchor(&self, root: &Root) -> PathBuf {
        self.anchors.join(format!("{}.crt", root.file_name()))
    }

    /// Removes the links to an anchor that is gone, and those to the links. Debian's tool leaves
    /// them, unless it makes all of them again, which takes a minute for Java's store.
    fn drop_links(&self, anchor: &Path) -> Result<(), SystemError> {
        let (Some(folder), Some(name)) = (self.path.parent(), anchor.file_stem()) else {
            return Ok(());
        };
        let link = PathBuf::from(name).with_extension("pem");
        let entries = fs::read_dir(folder).map_err(SystemError::io("read", folder))?;
        for path in entries.flatten().map(|entry| entry.path()) {
            let leads_there = fs::read_link(&path).is_ok_and(|to| to == anchor || to == link);
            if leads_there {
                fs::remove_file(&path).map_err(SystemError::io("remove", &path))?;
            }
        }
        Ok(())
    }

    fn update(&self) -> Result<(), SystemError> {
        self.call(&[])
            .map(drop)
            .map_err(|reason| self.refused(reason))
    }

    fn refused(&self, reason: String) -> SystemError {
        SystemError::Store {
            path: self.path.clone(),
            reason,
        }
    }

    fn database(&self) -> String {
        format!("sql:{}", self.text())
    }

    fn text(&self) -> String {
        self.path.display().to_string()
    }

    /// Calls the tool, as the owner of the store where that is another user: what it writes beside
    /// stays theirs.
    fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(self.tool.name);
        command
            .args(args)
            .current_dir("/")
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let (uid, gid) = self.owner;
        if geteuid().is_root() && uid != 0 {
            // The standard library takes root's groups away with its user.
            command.uid(uid).gid(gid).env_remove("HOME");
        }
        command
    }

    fn call(&self, args: &[&str]) -> Result<String, String> {
        let output = self.command(args).stdin(Stdio::null()).output();
        self.outcome(output)
    }

    fn fed(&self, args: &[&str], input: &str) -> Result<(), SystemError> {
        let fed = || {
            let mut child = self.command(args).stdin(Stdio::piped()).spawn()?;
            if let Some(mut stdin) = child.stdin.take() {
                io::Write::write_all(&mut stdin, input.as_bytes())?;
            }
            child.wait_with_output()
        };
        let outcome = self.outcome(fed());
        outcome.map(drop).map_err(|reason| self.refused(reason))
    }

    fn outcome(&self, output: io::Result<std::process::Output>) -> Result<String, String> {
        let Tool { name, package } = self.tool;
        let output = output.map_err(|cause| match cause.kind() {
            io::ErrorKind::NotFound => {
                format!("`{name}` is missing: install it ({package} has it)")
            }
            _ => format!("`{name}`: {cause}"),
        })?;
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        if output.status.success() {
            return Ok(said);
        }
        let words = String::from_utf8_lossy(&output.stderr).into_owned() + &said;
        let first = words.lines().find(|line| !line.trim().is_empty());
        Err(format!("`{name}`: {}", first.unwrap_or("it failed").trim()))
    }
}

/// The system's own store, as Debian and as Fedora have it: the file with all roots, where roots are
/// put by hand, and what makes the one from the other.
const SYSTEM_STORES: [(&str, &str, Tool); 2] = [
    (
        "/etc/ssl/certs/ca-certificates.crt",
        "/usr/local/share/ca-certificates",
        UPDATE_DEBIAN,
    ),
    (
        "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
        "/etc/pki/ca-trust/source/anchors",
        UPDATE_FEDORA,
    ),
];

fn system_store() -> Option<(&'static str, &'static str, Tool)> {
    let mut stores = SYSTEM_STORES.into_iter();
    stores.find(|(bundle, ..)| Path::new(bundle).exists())
}

/// The file with all roots that the system trusts.
#[must_use]
pub fn system_bundle() -> Option<&'static Path> {
    system_store().map(|(bundle, ..)| Path::new(bundle))
}

fn has_database(folder: &Path) -> bool {
    folder.join("cert9.db").is_file()
}

/// Where Chromium and its relatives keep their database: where it is, or where they would make it.
fn database_of(home: &Path) -> PathBuf {
    let old = home.join(OLD_DATABASE);
    if has_database(&old) {
        return old;
    }
    data_home(home).join(DATABASE)
}

/// `$XDG_DATA_HOME`, which is known of the own user alone.
fn data_home(home: &Path) -> PathBuf {
    let own = std::env::var_os("HOME").is_some_and(|own| Path::new(&own) == home);
    let set = std::env::var_os("XDG_DATA_HOME").map(PathBuf::from);
    let set = set.filter(|folder| own && folder.is_absolute());
    set.unwrap_or_else(|| home.join(".local/share"))
}

/// The trust stores of this machine and of the users whose home folders these are: those that are
/// there, and those that an installed browser would make.
#[must_use]
pub fn trust_stores(homes: &[PathBuf], browsers: &[Browser]) -> Vec<TrustStore> {
    let mut stores = Vec::new();
    if let Some((bundle, anchors, tool)) = system_store() {
        stores.push(TrustStore {
            kind: StoreKind::System,
            path: bundle.into(),
            exists: true,
            family: None,
            anchors: anchors.into(),
            tool,
            owner: (0, 0),
        });
    }
    stores.extend(browsers.iter().map(|browser| TrustStore {
        kind: StoreKind::Policy,
        path: browser.family.policy().into(),
        exists: Path::new(browser.family.policy()).exists(),
        family: Some(browser.family),
        anchors: PathBuf::new(),
        tool: CERTUTIL,
        owner: (0, 0),
    }));
    for home in homes {
        stores.extend(databases(home, browsers));
    }
    stores.extend(java_store().map(|path| TrustStore {
        kind: StoreKind::Java,
        exists: true,
        family: None,
        owner: fs::metadata(&path).map_or((0, 0), |it| (it.uid(), it.gid())),
        path,
        anchors: PathBuf::new(),
        tool: KEYTOOL,
    }));
    stores
}

/// The databases of a user's browsers.
fn databases(home: &Path, browsers: &[Browser]) -> Vec<TrustStore> {
    // The tools run as that user, whatever the owner of a link's target.
    let owner = fs::metadata(home).map_or((0, 0), |it| (it.uid(), it.gid()));
    let made = browsers.iter().any(|it| it.family.shares_a_database());
    let used = made.then(|| database_of(home));
    let mut paths: Vec<PathBuf> = used.iter().cloned().collect();
    let others = [
        data_home(home).join(DATABASE),
        home.join(OLD_DATABASE),
        home.join(SNAP_DATABASE),
    ];
    let others = others.into_iter().chain(profiles(home));
    for path in others.filter(|path| has_database(path)) {
        if !paths.contains(&path) {
            paths.push(path);
        }
    }
    let own_profiles = home.join(PROFILES);
    let store = |path: PathBuf| TrustStore {
        kind: StoreKind::Browser,
        exists: has_database(&path),
        family: match path.starts_with(&own_profiles) {
            true => Some(Family::Firefox),
            false if Some(&path) == used.as_ref() => Some(Family::Chromium),
            false => None,
        },
        path,
        anchors: PathBuf::new(),
        tool: CERTUTIL,
        owner,
    };
    paths.into_iter().map(store).collect()
}

/// The store of the Java runtime that is found first.
fn java_store() -> Option<PathBuf> {
    let home = std::env::var_os("JAVA_HOME").map(PathBuf::from);
    let path = std::env::var_os("PATH")?;
    let java = std::env::split_paths(&path).map(|folder| folder.join("java"));
    let java = java.filter_map(|java| fs::canonicalize(java).ok());
    let found = java.filter_map(|java| Some(java.parent()?.parent()?.to_owned()));
    let homes = home.into_iter().chain(found);
    let mut stores = homes.map(|home| home.join("lib/security/cacerts"));
    stores.find_map(|store| fs::canonicalize(store).ok())
}

/// The aliases under which a Java store lists this certificate; they need not be ours.
fn aliases<'a>(listed: &'a str, pem: &str) -> Vec<&'a str> {
    let wanted = body(pem);
    let entries = listed.split("Alias name: ").skip(1);
    let same = entries.filter(|entry| wanted.is_some() && body(entry) == wanted);
    same.filter_map(|entry| entry.lines().next().map(str::trim))
        .collect()
}

/// The first certificate in a text, to compare it with others.
pub(crate) fn body(text: &str) -> Option<String> {
    let first = certificates(text).into_iter().next()?;
    Some(first.split_whitespace().collect())
}

/// The certificates in a text, PEM each.
pub(crate) fn certificates(text: &str) -> Vec<String> {
    const BEGIN: &str = "-----BEGIN CERTIFICATE-----";
    const END: &str = "-----END CERTIFICATE-----";
    let parts = text.split(BEGIN).skip(1);
    let whole = parts.filter_map(|part| part.split_once(END));
    whole
        .map(|(body, _)| format!("{BEGIN}{body}{END}\n"))
        .collect()
}

/// The nickname on a line of the tool's list, and whether that root is trusted for TLS servers. A root
/// that a browser has by policy may be listed without trust flags.
fn listed_nickname(line: &str) -> Option<(String, bool)> {
    let (nickname, trust) = line.trim_end().rsplit_once(char::is_whitespace)?;
    let is_flags = |part: &str| part.chars().all(|c| "pPcCTuw".contains(c));
    if trust.split(',').count() != 3 || !trust.split(',').all(is_flags) {
        return None;
    }
    let for_servers = trust.split(',').next()?;
    let nickname = nickname.trim();
    (!nickname.is_empty()).then(|| (nickname.to_owned(), for_servers.contains('C')))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Bent Lane root 1a on fell       C,,  ", Some(("Bent Lane root 1a on fell", true)))]
    #[case("Bent Lane root 1a on fell       ,,   ", Some(("Bent Lane root 1a on fell", false)))]
    #[case("Some other root                CT,C,C", Some(("Some other root", true)))]
    #[case("                               SSL,S/MIME,JAR/XPI", None)]
    #[case("", None)]
    #[case("Certificate Nickname    Trust Attributes", None)]
    fn nicknames_in_a_certificate_list(#[case] line: &str, #[case] wanted: Option<(&str, bool)>) {
        let listed = listed_nickname(line);
        let listed = listed
            .as_ref()
            .map(|(name, trusted)| (name.as_str(), *trusted));
        assert_eq!(listed, wanted);
    }

    #[test]
    fn a_certificate_has_the_names_that_it_was_given() {
        let pem = |body: &str| {
            format!("-----BEGIN CERTIFICATE-----\n{body}\n-----END CERTIFICATE-----\n")
        };
        let (one, other) = (pem("QUFB\nQUFB"), pem("QkJC"));
        let text = format!("Alias name: a b\n{one}\nAlias name: c\n{other}\nAlias name: d\nnone");
        assert_eq!(aliases(&text, &pem("QUFBQUFB")), ["a b"]);
        assert!(aliases(&text, "").is_empty());
    }

    #[test]
    fn certificates_are_found_among_other_text() {
        let one = "-----BEGIN CERTIFICATE-----\nQQ==\n-----END CERTIFICATE-----\n";
        let text = format!("Alias name: x\n{one}\n*****\n{one}-----BEGIN CERTIFICATE-----\ncut");
        assert_eq!(certificates(&text), [one, one]);
        assert!(certificates("").is_empty());
    }
}
