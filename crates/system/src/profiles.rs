//! Where browsers keep the profiles of a user.

use std::fs;
use std::path::{Path, PathBuf};

/// Folders below the home folder with Firefox's profiles, which each have a database.
pub(crate) const PROFILES: &str = ".mozilla/firefox";

const PACKED_PROFILES: [&str; 2] = [
    "snap/firefox/common/.mozilla/firefox",
    ".var/app/org.mozilla.firefox/.mozilla/firefox",
];

/// The folders of Firefox's profiles below a home folder.
pub(crate) fn profiles(home: &Path) -> Vec<PathBuf> {
    let packed = PACKED_PROFILES.iter().copied();
    folders_in(home, std::iter::once(PROFILES).chain(packed))
}

pub(crate) fn folders_in<'a>(home: &Path, folders: impl Iterator<Item = &'a str>) -> Vec<PathBuf> {
    let entries = folders.filter_map(|folder| fs::read_dir(home.join(folder)).ok());
    let entries = entries.flatten().flatten().map(|entry| entry.path());
    let mut folders: Vec<PathBuf> = entries.collect();
    folders.sort();
    folders
}
