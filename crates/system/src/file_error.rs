use std::io;
use std::path::{Path, PathBuf};

use rustix::io::Errno;

/// Why a file or folder is not used.
#[derive(Debug, thiserror::Error)]
pub enum FileError {
    /// A link that its owner can change at any moment.
    #[error(
        "{path} is a symbolic link of the user {owner}, which is not followed: give the real path"
    )]
    Link {
        /// The link.
        path: PathBuf,
        /// The uid of its owner.
        owner: u32,
    },
    /// A pipe, device, socket or folder.
    #[error("{path} is {kind}, and has to be a regular file")]
    NotRegular {
        /// Its path.
        path: PathBuf,
        /// Its kind, in words.
        kind: &'static str,
    },
    /// A file of another owner.
    #[error("{path} belongs to the user {owner}, and has to belong to {wanted}")]
    Owner {
        /// The file.
        path: PathBuf,
        /// The uid of its owner.
        owner: u32,
        /// The uid that is accepted.
        wanted: u32,
    },
    /// A file with further names, which other programs know it by.
    #[error("{path} has {links} names (hard links), and has to have one")]
    Linked {
        /// The file.
        path: PathBuf,
        /// How many.
        links: u64,
    },
    /// A file that is larger than is read.
    #[error("{path} has more than {limit} bytes")]
    TooLarge {
        /// The file.
        path: PathBuf,
        /// The limit.
        limit: u64,
    },
    /// A file or folder with an attribute that forbids to change it (chattr(1)).
    #[error(
        "{path} is {kind} (chattr +{letter}), so nothing was changed: run `sudo chattr -{letter} {path}` if it may be changed"
    )]
    Attribute {
        /// The file or folder.
        path: PathBuf,
        /// The attribute, in words.
        kind: &'static str,
        /// Its letter.
        letter: char,
    },
    /// A path that names no file.
    #[error("{path} does not name a file in a folder")]
    NoFile {
        /// The path.
        path: PathBuf,
    },
    /// The system's own reason.
    #[error("cannot {verb} {path}: {source}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// Where.
        path: PathBuf,
        /// Why it failed.
        source: io::Error,
    },
}

impl FileError {
    pub(crate) fn io(verb: &'static str, path: &Path) -> impl FnOnce(Errno) -> Self {
        let path = path.to_owned();
        move |errno| Self::Io {
            verb,
            path,
            source: errno.into(),
        }
    }

    /// Whether there is nothing at the path.
    #[must_use]
    pub fn is_missing(&self) -> bool {
        matches!(self, Self::Io { source, .. } if source.kind() == io::ErrorKind::NotFound)
    }

    /// Whether the file is mounted, so that no other can take its place.
    pub(crate) fn is_busy(&self) -> bool {
        matches!(self, Self::Io { source, .. } if source.kind() == io::ErrorKind::ResourceBusy)
    }

    /// The same as an error of the system.
    #[must_use]
    pub fn into_io(self) -> io::Error {
        match self {
            Self::Io { source, .. } => source,
            other => io::Error::other(other),
        }
    }
}
