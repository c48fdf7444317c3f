use std::fs;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::file_error::FileError;
use crate::files::Folder;

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
        /// What it holds.
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
        let metadata = match fs::symlink_metadata(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::Absent),
            metadata => metadata?,
        };
        if metadata.is_symlink() {
            let to = fs::read_link(path)?;
            return Ok(Self::Link { to });
        }
        Ok(Self::File {
            text: fs::read_to_string(path)?,
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

    /// Puts this at `path`, whole or not at all.
    pub(crate) fn write(&self, path: &Path) -> io::Result<()> {
        if *self != Self::Absent {
            fs::create_dir_all(path.parent().unwrap_or(Path::new("/")))?;
        }
        let (folder, name) = match Folder::of(path) {
            Err(error) if error.is_missing() && *self == Self::Absent => return Ok(()),
            opened => opened.map_err(FileError::into_io)?,
        };
        let put = match self {
            Self::Absent => folder.remove(&name),
            Self::Link { to } => folder.link_to(&name, to),
            Self::File {
                text,
                mode,
                uid,
                gid,
            } => match folder.replace(&name, text.as_bytes(), *mode, (*uid, *gid)) {
                // A file that is mounted, as in a container, can only be written in place.
                Err(error) if error.is_busy() => folder.overwrite(&name, text.as_bytes()),
                replaced => replaced,
            },
        };
        put.map_err(FileError::into_io)
    }
}
