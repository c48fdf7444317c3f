//! What root was allowed to change on this machine, and what a service wants changed.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::fs;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use bentlane_model::Name;
use serde::{Deserialize, Serialize};

use crate::content::Content;
use crate::error::SystemError;
use crate::facts::Facts;
use crate::files::{Folder, read_file};

/// Where it is kept, below the folder of the system's settings.
const FILE: &str = "bentlane/attached.toml";
/// The file in its data folder in which a service says what it wants.
pub const WANTED_FILE: &str = "names.json";
/// Bytes of either file: 100,000 names are some 6 MB.
const LARGEST: u64 = 16 * 1024 * 1024;

const ABOUT: &str = "# Written by `bentlane system attach`, and removed by `bentlane system detach`.\n\
    # Names in these zones, and no others, are changed on this machine for the service below.\n";

/// What was approved when the system was attached. The file belongs to root, so that a service
/// cannot widen it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Approved {
    /// The user of the service.
    pub uid: u32,
    /// The service's data folder.
    pub data_dir: PathBuf,
    /// The zones whose names may be changed.
    pub zones: Vec<Name>,
    /// The keys of the roots that were put into trust stores: SHA-256, hexadecimal.
    #[serde(default)]
    pub roots: BTreeSet<String>,
}

impl Approved {
    pub(crate) fn path(etc: &Path) -> PathBuf {
        etc.join(FILE)
    }

    /// What was approved; `None` when nothing was.
    ///
    /// # Errors
    /// When the file cannot be read, or others than its owner can write to it.
    pub(crate) fn read(etc: &Path) -> Result<Option<Self>, SystemError> {
        let path = Self::path(etc);
        let content = match read_file(&path, LARGEST) {
            Err(error) if error.is_missing() => return Ok(None),
            content => content.map_err(|error| SystemError::io("read", &path)(error.into_io()))?,
        };
        let damaged = |reason: String| SystemError::NotApproved {
            path: path.clone(),
            reason,
        };
        let metadata = fs::metadata(&path).map_err(SystemError::io("look at", &path))?;
        let folder = path.parent().unwrap_or(etc);
        let above = fs::metadata(folder).map_err(SystemError::io("look at", folder))?;
        if metadata.permissions().mode() & 0o022 != 0 || metadata.uid() != above.uid() {
            return Err(damaged("others than its owner can write to it".to_owned()));
        }
        let text = String::from_utf8(content).map_err(|_| damaged("it is no text".to_owned()))?;
        toml_edit::de::from_str(&text)
            .map(Some)
            .map_err(|error| damaged(error.to_string().trim_end().to_owned()))
    }

    pub(crate) fn write(&self, etc: &Path) -> Result<(), SystemError> {
        let path = Self::path(etc);
        let failed = || SystemError::io("write", &path);
        let text = toml_edit::ser::to_string_pretty(self)
            .map_err(|error| failed()(io::Error::other(error)))?;
        Content::public(format!("{ABOUT}{text}"))
            .write(&path)
            .map_err(failed())
    }

    pub(crate) fn remove(etc: &Path) -> Result<(), SystemError> {
        let path = Self::path(etc);
        let removed = Content::Absent.write(&path);
        removed.map_err(SystemError::io("remove", &path))?;
        if let Some(folder) = path.parent() {
            // Files of other programs stay.
            let _ = fs::remove_dir(folder);
        }
        Ok(())
    }
}

/// What a service wants the system to know, as it says in its data folder. Root reads it, and takes
/// nothing of it that was not approved.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wanted {
    /// Where its resolver listens.
    pub dns: Vec<SocketAddr>,
    /// Its zones.
    pub zones: Vec<Name>,
    /// The names of exact routes, with what they resolve to.
    pub names: BTreeMap<Name, Vec<IpAddr>>,
}

impl Wanted {
    /// What the service of `approved` wants.
    ///
    /// # Errors
    /// When the file is not that user's, no regular file, too large, or does not parse.
    pub(crate) fn read(approved: &Approved) -> Result<Self, SystemError> {
        let path = approved.data_dir.join(WANTED_FILE);
        let refused = |reason: String| SystemError::NotApproved {
            path: path.clone(),
            reason,
        };
        let folder =
            Folder::open(&approved.data_dir).map_err(|error| refused(error.to_string()))?;
        if folder.owner().0 != approved.uid {
            return Err(refused(format!(
                "its folder belongs to the user {}, and was approved for {}",
                folder.owner().0,
                approved.uid
            )));
        }
        let content = folder.read(OsStr::new(WANTED_FILE), LARGEST);
        let content = content.map_err(|error| refused(error.to_string()))?;
        let content = content.ok_or_else(|| refused("it is not there".to_owned()))?;
        serde_json::from_slice(&content).map_err(|error| refused(error.to_string()))
    }
}

impl Facts {
    /// The facts without what leads beyond `zones` or this machine; with what was left out, in
    /// words.
    #[must_use]
    pub fn limited_to(&self, zones: &[Name]) -> (Self, Vec<String>) {
        let approved = |name: &Name| zones.iter().any(|zone| name.is_within(zone));
        let mut left_out = Vec::new();
        let mut limited = Self {
            zones: Vec::new(),
            names: BTreeMap::new(),
            dns: Vec::new(),
            ..self.clone()
        };
        for zone in &self.zones {
            if approved(zone) {
                limited.zones.push(zone.clone());
            } else {
                left_out.push(format!("the zone {zone} was not approved"));
            }
        }
        for at in &self.dns {
            if at.ip().is_loopback() {
                limited.dns.push(*at);
            } else {
                left_out.push(format!("{at} is not an address of this machine"));
            }
        }
        for (name, addresses) in &self.names {
            let loopback = addresses.iter().all(IpAddr::is_loopback);
            if approved(name) && loopback {
                limited.names.insert(name.clone(), addresses.clone());
            } else if !loopback {
                left_out.push(format!("{name} leads to another machine"));
            }
        }
        (limited, left_out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    #[test]
    fn only_approved_zones_are_accepted() {
        let at = |text: &str| vec![text.parse().unwrap()];
        let facts = Facts {
            dns: vec![
                "127.0.0.1:53".parse().unwrap(),
                "192.0.2.1:53".parse().unwrap(),
            ],
            zones: vec![name("moor.test"), name("bank.example")],
            names: [
                (name("a.moor.test"), at("127.0.0.1")),
                (name("b.moor.test"), at("192.0.2.7")),
                (name("www.bank.example"), at("127.0.0.1")),
                (name("xmoor.test"), at("127.0.0.1")),
            ]
            .into(),
            ..Facts::default()
        };
        let (limited, left_out) = facts.limited_to(&[name("moor.test")]);
        assert_eq!(limited.zones, [name("moor.test")]);
        assert_eq!(limited.dns, ["127.0.0.1:53".parse().unwrap()]);
        assert_eq!(
            limited.names.keys().collect::<Vec<_>>(),
            [&name("a.moor.test")]
        );
        assert_eq!(left_out.len(), 3, "{left_out:?}");
    }

    #[test]
    fn a_file_that_others_can_write_to_is_rejected() {
        let etc = tempfile::tempdir().unwrap();
        assert_eq!(Approved::read(etc.path()).unwrap(), None);
        let approved = Approved {
            uid: 1000,
            data_dir: "/data".into(),
            zones: vec![name("moor.test")],
            roots: BTreeSet::new(),
        };
        if !rustix::process::geteuid().is_root() {
            return; // only root gives files to root
        }
        approved.write(etc.path()).unwrap();
        assert_eq!(Approved::read(etc.path()).unwrap(), Some(approved));
        let path = Approved::path(etc.path());
        for mode in [0o664, 0o646] {
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
            let refused = Approved::read(etc.path()).unwrap_err();
            assert!(refused.to_string().contains("can write to it"), "{refused}");
        }
        Approved::remove(etc.path()).unwrap();
        assert!(!path.parent().unwrap().exists());
    }

    #[test]
    fn a_services_request_is_read_with_its_users_rights() {
        let folder = tempfile::tempdir().unwrap();
        let own = rustix::process::geteuid().as_raw();
        let approved = |uid| Approved {
            uid,
            data_dir: folder.path().to_owned(),
            ..Approved::default()
        };
        let wanted = Wanted {
            zones: vec![name("moor.test")],
            ..Wanted::default()
        };
        let path = folder.path().join(WANTED_FILE);
        fs::write(&path, serde_json::to_string(&wanted).unwrap()).unwrap();
        assert_eq!(Wanted::read(&approved(own)).unwrap(), wanted);
        assert!(
            Wanted::read(&approved(own + 1)).is_err(),
            "another user's folder"
        );
        fs::remove_file(&path).unwrap();
        std::os::unix::fs::symlink("/etc/passwd", &path).unwrap();
        let refused = Wanted::read(&approved(own)).unwrap_err().to_string();
        assert!(refused.contains("symbolic link"), "{refused}");
    }
}
