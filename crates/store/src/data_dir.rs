use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// The folder in which everything of one service lies.
#[derive(Clone, Debug)]
pub struct DataDir {
    root: PathBuf,
}

/// Keeps a second service out of the folder for as long as it lives.
#[derive(Debug)]
#[must_use = "the folder is free again when the lock is dropped"]
pub struct Lock {
    _file: File,
}

/// Why the data folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum DataDirError {
    /// A file or folder cannot be read or written.
    #[error("cannot {verb} {path}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// Where.
        path: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
    /// Another service uses the folder.
    #[error(
        "another service uses {path}: stop it first (`bentlane status` tells more), or give this one a folder of its own with --data-dir"
    )]
    Locked {
        /// The folder.
        path: PathBuf,
    },
    /// Others can look into a folder of secrets.
    #[error("{path} is open to other users (mode {mode:o}): run `chmod 700 {path}`")]
    OpenFolder {
        /// The folder.
        path: PathBuf,
        /// Its permissions.
        mode: u32,
    },
    /// A secret can be read by others.
    #[error("{path} can be read by other users (mode {mode:o}): run `chmod 600 {path}`")]
    Open {
        /// The file.
        path: PathBuf,
        /// Its permissions.
        mode: u32,
    },
}

impl DataDir {
    /// Opens the folder and makes it if it is not there. Others may pass through it, since the
    /// database's own user has to, but not list it.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn open(root: impl Into<PathBuf>) -> Result<Self, DataDirError> {
        let root = root.into();
        DirBuilder::new()
            .recursive(true)
            .mode(0o711)
            .create(&root)
            .and_then(|()| fs::canonicalize(&root))
            .map(|root| Self { root })
            .map_err(|source| DataDirError::Io {
                verb: "create the folder",
                path: root,
                source,
            })
    }

    /// A folder inside for what is its owner's alone, made if it is not there.
    ///
    /// # Errors
    /// When it cannot be made, or others may look into it.
    pub fn private(&self, name: &str) -> Result<Self, DataDirError> {
        let path = self.path(name);
        DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(&path)
            .map_err(|source| DataDirError::Io {
                verb: "create the folder",
                path: path.clone(),
                source,
            })?;
        let metadata = fs::metadata(&path).map_err(|source| DataDirError::Io {
            verb: "read",
            path: path.clone(),
            source,
        })?;
        let mode = metadata.permissions().mode() & 0o777;
        if mode & 0o077 != 0 {
            return Err(DataDirError::OpenFolder { path, mode });
        }
        Ok(Self { root: path })
    }

    /// A path inside the folder.
    #[must_use]
    pub fn path(&self, name: &str) -> PathBuf {
        self.root.join(name)
    }

    /// The folder.
    #[must_use]
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Takes the folder for this process alone.
    ///
    /// # Errors
    /// When another process has it.
    pub fn lock(&self) -> Result<Lock, DataDirError> {
        let path = self.path("lock");
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&path)
            .map_err(|source| DataDirError::Io {
                verb: "open",
                path,
                source,
            })?;
        file.try_lock().map_err(|_| DataDirError::Locked {
            path: self.root.clone(),
        })?;
        Ok(Lock { _file: file })
    }

    /// Reads a text file; `None` when there is none.
    ///
    /// # Errors
    /// When it is there and cannot be read.
    pub fn read(&self, name: &str) -> Result<Option<String>, DataDirError> {
        let path = self.path(name);
        match fs::read_to_string(&path) {
            Ok(text) => Ok(Some(text)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(DataDirError::Io {
                verb: "read",
                path,
                source,
            }),
        }
    }

    /// Reads a secret, which only its owner may read.
    ///
    /// # Errors
    /// Also when others may read it: then it is no secret any more.
    pub fn read_secret(&self, name: &str) -> Result<Option<String>, DataDirError> {
        let path = self.path(name);
        if let Ok(metadata) = fs::metadata(&path) {
            let mode = metadata.permissions().mode() & 0o777;
            if mode & 0o077 != 0 {
                return Err(DataDirError::Open { path, mode });
            }
        }
        self.read(name)
    }

    /// Writes a file whole or not at all: beside its place, to the disk, then renamed.
    ///
    /// # Errors
    /// When a step fails; what was there before is still there.
    pub fn write(&self, name: &str, content: &[u8]) -> Result<(), DataDirError> {
        self.replace(name, content, 0o644)
    }

    /// Writes a secret, mode 0600, whole or not at all.
    ///
    /// # Errors
    /// When a step fails; what was there before is still there.
    pub fn write_secret(&self, name: &str, content: &[u8]) -> Result<(), DataDirError> {
        self.replace(name, content, 0o600)
    }

    fn replace(&self, name: &str, content: &[u8], mode: u32) -> Result<(), DataDirError> {
        let path = self.path(name);
        write_whole(&path, content, mode).map_err(|source| DataDirError::Io {
            verb: "write",
            path: path.clone(),
            source,
        })
    }

    /// When a file was last written; `None` when it is not there.
    #[must_use]
    pub fn written_at(&self, name: &str) -> Option<time::OffsetDateTime> {
        let metadata = fs::metadata(self.path(name)).ok()?;
        metadata.modified().ok().map(Into::into)
    }

    /// Removes a file if it is there.
    ///
    /// # Errors
    /// When it is there and stays.
    pub fn remove(&self, name: &str) -> Result<(), DataDirError> {
        let path = self.path(name);
        match fs::remove_file(&path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(DataDirError::Io {
                verb: "remove",
                path,
                source: error,
            }),
            _ => Ok(()),
        }
    }
}

/// Writes a file whole or not at all: beside its place, to the disk, then renamed.
///
/// # Errors
/// When a step fails; what was there before is still there.
pub fn write_whole(path: &Path, content: &[u8], mode: u32) -> io::Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".new");
    // One left by a crash may have another mode, and `mode` is for new files only.
    match fs::remove_file(&beside) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mut file = OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(mode)
        .open(&beside)?;
    file.write_all(content)?;
    file.sync_all()?;
    fs::rename(&beside, path)?;
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty());
    File::open(folder.unwrap_or(Path::new(".")))?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> (tempfile::TempDir, DataDir) {
        let outer = tempfile::tempdir().unwrap();
        let folder = DataDir::open(outer.path().join("data")).unwrap();
        (outer, folder)
    }

    #[test]
    fn secrets_are_for_their_owner_alone() {
        let (_outer, folder) = folder();
        assert_eq!(folder.read_secret("token").unwrap(), None);
        folder.write_secret("token", b"abc").unwrap();
        let mode = fs::metadata(folder.path("token"))
            .unwrap()
            .permissions()
            .mode();
        assert_eq!(mode & 0o777, 0o600);
        assert_eq!(folder.read_secret("token").unwrap().as_deref(), Some("abc"));

        fs::set_permissions(folder.path("token"), fs::Permissions::from_mode(0o640)).unwrap();
        let error = folder.read_secret("token").unwrap_err().to_string();
        assert!(
            error.contains("mode 640") && error.contains("chmod 600"),
            "{error}"
        );
    }

    #[test]
    fn a_leftover_of_a_crash_does_not_stand_in_the_way() {
        let (_outer, folder) = folder();
        fs::write(folder.path("token.new"), "half").unwrap();
        folder.write_secret("token", b"whole").unwrap();
        assert_eq!(
            folder.read_secret("token").unwrap().as_deref(),
            Some("whole")
        );
        assert!(!folder.path("token.new").exists());
    }

    #[test]
    fn one_service_a_folder() {
        let (_outer, folder) = folder();
        let lock = folder.lock().unwrap();
        assert!(matches!(folder.lock(), Err(DataDirError::Locked { .. })));
        drop(lock);
        let _again = folder.lock().unwrap();
    }
}
