use std::ffi::{OsStr, OsString};
use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::file_error::FileError;
use crate::files::Folder;
use crate::text::{decode, encode};

/// Bytes of the largest file that is read.
const LARGEST: u64 = 64 << 20;

/// What is at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Content {
    /// Nothing.
    Absent,
    /// A symbolic link.
    Link {
        /// Where it leads, as it is written.
        to: PathBuf,
    },
    /// A file.
    File {
        /// What it holds: bytes that are not UTF-8 are characters of a private plane.
        text: String,
        /// Its permissions.
        mode: u32,
        /// Its owner.
        uid: u32,
        /// Its group.
        gid: u32,
    },
}

impl Content {
    /// What is at `path` now.
    pub(crate) fn read(path: &Path) -> io::Result<Self> {
        match Folder::of(path) {
            Err(error) if error.is_missing() => Ok(Self::Absent),
            opened => {
                let (folder, name) = opened.map_err(FileError::into_io)?;
                Self::at(&folder, &name).map_err(FileError::into_io)
            }
        }
    }

    /// What has this name in the folder now.
    pub(crate) fn at(folder: &Folder, name: &OsStr) -> Result<Self, FileError> {
        if let Some(to) = folder.read_link(name)? {
            return Ok(Self::Link { to });
        }
        let Some((bytes, metadata)) = folder.read_with_metadata(name, LARGEST)? else {
            return Ok(Self::Absent);
        };
        Ok(Self::File {
            text: decode(&bytes),
            mode: metadata.permissions().mode() & 0o7777,
            uid: metadata.uid(),
            gid: metadata.gid(),
        })
    }

    /// A file for everybody to read that belongs to root.
    pub(crate) fn public(text: String) -> Self {
        Self::File {
            text,
            mode: 0o644,
            uid: 0,
            gid: 0,
        }
    }

    /// Replaces the content by this text; owner and mode of a file stay.
    pub(crate) fn with_text(&self, text: String) -> Self {
        match self {
            Self::File { mode, uid, gid, .. } => Self::File {
                text,
                mode: *mode,
                uid: *uid,
                gid: *gid,
            },
            Self::Link { .. } | Self::Absent => Self::public(text),
        }
    }

    /// The folder in which this is to be at `path`, made if need be, and the name there. `None` when there
    /// is no folder, and nothing is to be in it.
    pub(crate) fn folder_for(&self, path: &Path) -> Result<Option<(Folder, OsString)>, FileError> {
        if *self != Self::Absent {
            let folder = path.parent().unwrap_or(Path::new("/"));
            fs::create_dir_all(folder).map_err(|source| FileError::Io {
                verb: "create",
                path: folder.to_owned(),
                source,
            })?;
        }
        match Folder::of(path) {
            Err(error) if error.is_missing() && *self == Self::Absent => Ok(None),
            opened => opened.map(Some),
        }
    }

    /// Puts this at `path`, whole or not at all.
    pub(crate) fn write(&self, path: &Path) -> io::Result<()> {
        let Some((folder, name)) = self.folder_for(path).map_err(FileError::into_io)? else {
            return Ok(());
        };
        let put = match self {
            Self::Absent => folder.remove(&name),
            Self::Link { to } => folder.link_to(&name, to),
            Self::File {
                text,
                mode,
                uid,
                gid,
            } => match folder.replace(&name, &encode(text), *mode, (*uid, *gid)) {
                // A file that is mounted, as in a container, can only be written in place.
                Err(error) if error.is_busy() => folder.overwrite(&name, &encode(text)),
                replaced => replaced,
            },
        };
        put.map_err(FileError::into_io)
    }
}
