//! Users of this machine, and the one for whom root runs a command.

use std::ffi::CString;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use nix::unistd::{Gid, Uid, User, getgrouplist};

/// A user of this machine.
#[derive(Clone, Debug)]
pub(crate) struct Account {
    pub(crate) name: String,
    pub(crate) uid: Uid,
    pub(crate) gid: Gid,
    pub(crate) home: PathBuf,
}

impl Account {
    /// The user of this name.
    pub(crate) fn named(name: &str) -> Option<Self> {
        User::from_name(name).ok().flatten().map(Self::from)
    }

    /// Whether `folder` is the home of the user whom it belongs to.
    pub(crate) fn lives_in(folder: &Path) -> bool {
        let Ok(found) = std::fs::symlink_metadata(folder) else {
            return false;
        };
        let user = User::from_uid(Uid::from_raw(found.uid())).ok().flatten();
        found.is_dir() && user.is_some_and(|user| user.dir == folder)
    }

    /// The user who called sudo, when this is root and that is another one.
    pub(crate) fn behind_sudo() -> Option<Self> {
        if !nix::unistd::geteuid().is_root() {
            return None;
        }
        let uid = std::env::var("SUDO_UID").ok()?.parse().ok()?;
        let user = User::from_uid(Uid::from_raw(uid)).ok().flatten()?;
        (!user.uid.is_root()).then(|| user.into())
    }

    /// Every group of the user's.
    pub(crate) fn groups(&self) -> Vec<Gid> {
        let name = CString::new(self.name.as_bytes()).ok();
        let groups = name.and_then(|name| getgrouplist(&name, self.gid).ok());
        groups.unwrap_or_else(|| vec![self.gid])
    }
}

impl From<User> for Account {
    fn from(user: User) -> Self {
        Self {
            name: user.name,
            uid: user.uid,
            gid: user.gid,
            home: user.dir,
        }
    }
}

/// The home folder of the user for whom this runs, also under sudo.
pub(crate) fn home() -> PathBuf {
    let behind = Account::behind_sudo().map(|account| account.home);
    behind
        .or_else(|| std::env::var_os("HOME").map(PathBuf::from))
        .unwrap_or_else(|| Path::new("/").to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_home_folder_belongs_to_its_owner() {
        let own = User::from_uid(nix::unistd::geteuid()).unwrap().unwrap();
        assert!(Account::lives_in(&own.dir), "{own:?}");
        let folder = tempfile::tempdir().unwrap();
        assert!(!Account::lives_in(folder.path()));
        let link = folder.path().join("home");
        std::os::unix::fs::symlink(&own.dir, &link).unwrap();
        assert!(!Account::lives_in(&link) && !Account::lives_in(&folder.path().join("none")));
    }
}
