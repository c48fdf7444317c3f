use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

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

    /// A file with this text in the place of what is here: owner and mode of a file stay.
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
        let beside = beside(path);
        let folder = path.parent().unwrap_or(Path::new("/"));
        fs::create_dir_all(folder)?;
        remove(&beside)?;
        match self {
            Self::Absent => remove(path)?,
            Self::Link { to } => {
                std::os::unix::fs::symlink(to, &beside)?;
                fs::rename(&beside, path)?;
            }
            Self::File {
                text,
                mode,
                uid,
                gid,
            } => {
                let mut file = OpenOptions::new()
                    .write(true)
                    .create_new(true)
                    .mode(0o600)
                    .open(&beside)?;
                file.write_all(text.as_bytes())?;
                chown(&beside, Some(*uid), Some(*gid))?;
                file.set_permissions(fs::Permissions::from_mode(*mode))?;
                file.sync_all()?;
                match fs::rename(&beside, path) {
                    // A file that is mounted, as in a container, can only be written in place.
                    Err(error) if error.kind() == io::ErrorKind::ResourceBusy => {
                        fs::write(path, text)?;
                        remove(&beside)?;
                    }
                    renamed => renamed?,
                }
            }
        }
        File::open(folder)?.sync_all()
    }
}

/// Where the next content of `path` is made.
fn beside(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".bentlane-new");
    path.with_file_name(name)
}

fn remove(path: &Path) -> io::Result<()> {
    match fs::remove_file(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        removed => removed,
    }
}
