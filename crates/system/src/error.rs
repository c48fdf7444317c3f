use std::io;
use std::path::{Path, PathBuf};

use crate::file_error::FileError;

/// Why the system is not attached or detached.
#[derive(Debug, thiserror::Error)]
pub enum SystemError {
    /// The system's lookups ask port 53 only.
    #[error(
        "the resolver does not listen on port 53 (but on {listening}), and the system's lookups ask no other: run `bentlane serve` with its standard ports, or `sudo bentlane system attach --only hosts` for exact names"
    )]
    NotOnPort53 {
        /// Where it listens.
        listening: String,
    },
    /// There is nothing to ask us for.
    #[error("there is no zone yet: add one first with `bentlane zone add moor.test`")]
    NoZone,
    /// systemd does not run this machine.
    #[error(
        "systemd does not run this machine, so it cannot run the service: have `bentlane serve` started in the way that is usual here"
    )]
    NoSystemd,
    /// A systemctl command failed.
    #[error("`systemctl {command}` failed: {reason}")]
    Systemd {
        /// The command.
        command: String,
        /// What it said.
        reason: String,
    },
    /// The system's resolver does not load its settings.
    #[error("{path} is in place, but `systemctl restart systemd-resolved` failed: {reason}")]
    NotTakenUp {
        /// The file with the settings.
        path: PathBuf,
        /// What the command said.
        reason: String,
    },
    /// What was approved, or what a service wants, is not to be trusted.
    #[error("{path} is not used: {reason}")]
    NotApproved {
        /// The file.
        path: PathBuf,
        /// Why.
        reason: String,
    },
    /// Root would run a program that others can replace.
    #[error("{path} can be changed by others than root, so root runs no program from there")]
    Insecure {
        /// The folder.
        path: PathBuf,
    },
    /// A file that is not ours.
    #[error(transparent)]
    File(#[from] FileError),
    /// A trust store does not change.
    #[error("cannot change the trust store {path}: {reason}")]
    Store {
        /// The store.
        path: PathBuf,
        /// What its tool said.
        reason: String,
    },
    /// Another program writes to the file all the time.
    #[error(
        "{path} is being changed by another program again and again, so it was left as it is: try again, or stop that program"
    )]
    KeepsChanging {
        /// The file.
        path: PathBuf,
    },
    /// The file is another one than when the change was shown.
    #[error(
        "{path} has changed since this was shown, and was left as it is: run the command again"
    )]
    ChangedSince {
        /// The file.
        path: PathBuf,
    },
    /// What is attached is not known.
    #[error(
        "{record} does not say any more what is attached ({reason}): put back what you need of the former files that are kept beside it ({kept}), remove the lines between the marks of Bent Lane from /etc/hosts, and then run `sudo rm {record}`"
    )]
    Record {
        /// The file.
        record: PathBuf,
        /// What is wrong with it.
        reason: String,
        /// The copies that are there.
        kept: String,
    },
    /// The file is on a file system that cannot be written to.
    #[error(
        "cannot change {path}: its file system is mounted read-only, and nothing was changed (`findmnt -T {path}` shows it)"
    )]
    ReadOnly {
        /// The file.
        path: PathBuf,
    },
    /// A file that we may not change.
    #[error("cannot change {path} as this user: run it with sudo")]
    NotAllowed {
        /// The file.
        path: PathBuf,
    },
    /// A file.
    #[error("cannot {verb} {path}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// The file.
        path: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
}

impl SystemError {
    pub(crate) fn io(verb: &'static str, path: &Path) -> impl FnOnce(io::Error) -> Self {
        let path = path.to_owned();
        move |source| match source.kind() {
            // Root is not told to become root.
            io::ErrorKind::PermissionDenied if !rustix::process::geteuid().is_root() => {
                Self::NotAllowed { path }
            }
            io::ErrorKind::ReadOnlyFilesystem => Self::ReadOnly { path },
            _ => Self::Io { verb, path, source },
        }
    }

    /// The same for an error of [`Folder`](crate::Folder).
    pub(crate) fn file(verb: &'static str, path: &Path) -> impl FnOnce(FileError) -> Self {
        let path = path.to_owned();
        move |error| match error {
            FileError::Io { source, .. } => Self::io(verb, &path)(source),
            other => Self::File(other),
        }
    }
}
