use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
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
    /// Of a file that earlier versions lock as well; `None` where the disk is full or read-only.
    _file: Option<File>,
    /// Of the folder itself, which is locked also when that file is removed.
    _folder: File,
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
        "another service uses {path}: stop it first (see `bentlane status`), or use another folder with --data-dir"
    )]
    Locked {
        /// The folder.
        path: PathBuf,
    },
    /// The folder is another user's.
    #[error(
        "{path} belongs to the user {owner}, and this is {own}: run the service as its owner, or use another folder with --data-dir"
    )]
    Foreign {
        /// The folder.
        path: PathBuf,
        /// Its owner's uid.
        owner: u32,
        /// Our uid.
        own: u32,
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
    /// Opens the folder for a service, and makes it if it is not there. It is its owner's alone
    /// (mode 0700): one that others may enter, as earlier versions had it, is closed to them.
    ///
    /// # Errors
    /// When it cannot be made, or belongs to another user.
    pub fn open(root: impl Into<PathBuf>) -> Result<Self, DataDirError> {
        let root = root.into();
        let made = DirBuilder::new().recursive(true).mode(0o700).create(&root);
        let failed = |verb| {
            let path = root.clone();
            move |source| DataDirError::Io { verb, path, source }
        };
        made.map_err(failed("create the folder"))?;
        // Through a handle, so that what is looked at is what is changed.
        let handle = File::open(&root).map_err(failed("open the folder"))?;
        let metadata = handle.metadata().map_err(failed("look at the folder"))?;
        let own = rustix::process::geteuid().as_raw();
        if metadata.uid() != own {
            return Err(DataDirError::Foreign {
                path: root,
                owner: metadata.uid(),
                own,
            });
        }
        if metadata.permissions().mode() & 0o077 != 0 {
            handle
                .set_permissions(fs::Permissions::from_mode(0o700))
                .map_err(failed("set the mode of the folder"))?;
        }
        let root = fs::canonicalize(&root).map_err(failed("open the folder"))?;
        Ok(Self { root })
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
            .mode(0o600)
            .open(&path);
        let file = match file {
            Ok(file) => Some(file),
            Err(cause) if is_unwritable(&cause) => None,
            Err(source) => {
                let verb = "open";
                return Err(DataDirError::Io { verb, path, source });
            }
        };
        let folder = File::open(&self.root).map_err(|source| DataDirError::Io {
            verb: "open",
            path: self.root.clone(),
            source,
        })?;
        for locked in file.iter().chain([&folder]) {
            locked.try_lock().map_err(|_| DataDirError::Locked {
                path: self.root.clone(),
            })?;
        }
        Ok(Lock {
            _file: file,
            _folder: folder,
        })
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

    /// Writes a file whole or not at all, for its owner alone (mode 0600): beside its place, to the
    /// disk, then renamed.
    ///
    /// # Errors
    /// When a step fails; the former file is unchanged then.
    pub fn write(&self, name: &str, content: &[u8]) -> Result<(), DataDirError> {
        let path = self.path(name);
        write_whole(&path, content).map_err(|source| DataDirError::Io {
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
            // A read-only disk refuses to remove what is not there.
            Err(source) if fs::symlink_metadata(&path).is_ok() => Err(DataDirError::Io {
                verb: "remove",
                path,
                source,
            }),
            _ => Ok(()),
        }
    }
}

/// Whether nothing can be written to the disk, for now or until somebody makes room.
#[must_use]
pub fn is_unwritable(cause: &io::Error) -> bool {
    matches!(
        cause.kind(),
        io::ErrorKind::ReadOnlyFilesystem
            | io::ErrorKind::StorageFull
            | io::ErrorKind::QuotaExceeded
    )
}

impl DataDirError {
    /// Whether the disk is full or read-only.
    #[must_use]
    pub fn is_unwritable(&self) -> bool {
        matches!(self, Self::Io { source, .. } if is_unwritable(source))
    }
}

/// Writes a file of the data folder, which nobody else can enter.
fn write_whole(path: &Path, content: &[u8]) -> io::Result<()> {
    let mut beside = path.as_os_str().to_owned();
    beside.push(".new");
    // One left by a crash may have another mode, and a mode is for new files only.
    match fs::remove_file(&beside) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mut file = OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
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
    use std::time::Duration;

    use tokio::time::sleep;

    use super::*;

    fn folder() -> (tempfile::TempDir, DataDir) {
        let outer = tempfile::tempdir().unwrap();
        let folder = DataDir::open(outer.path().join("data")).unwrap();
        (outer, folder)
    }

    #[test]
    fn only_the_owner_can_read_secrets() {
        let (_outer, folder) = folder();
        assert_eq!(folder.read_secret("token").unwrap(), None);
        folder.write("token", b"abc").unwrap();
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
        folder.write("token", b"whole").unwrap();
        assert_eq!(
            folder.read_secret("token").unwrap().as_deref(),
            Some("whole")
        );
        assert!(!folder.path("token.new").exists());
    }

    #[test]
    fn other_users_cannot_enter_the_folder() {
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        let (_outer, folder) = folder();
        assert_eq!(mode(folder.root()), 0o700);
        fs::set_permissions(folder.root(), fs::Permissions::from_mode(0o711)).unwrap();
        let again = DataDir::open(folder.root()).unwrap();
        assert_eq!(mode(again.root()), 0o700, "closed again");
        again.write("public.pem", b"abc").unwrap();
        assert_eq!(mode(&again.path("public.pem")), 0o600);
    }

    #[tokio::test]
    async fn a_folder_has_one_service() {
        let (_outer, folder) = folder();
        let lock = folder.lock().unwrap();
        assert!(matches!(folder.lock(), Err(DataDirError::Locked { .. })));
        fs::remove_file(folder.path("lock")).unwrap();
        assert!(matches!(folder.lock(), Err(DataDirError::Locked { .. })));
        drop(lock);
        // A process that another test is starting has a copy of the lock until it runs its program.
        for _ in 0..100 {
            if folder.lock().is_ok() {
                return;
            }
            sleep(Duration::from_millis(10)).await;
        }
        panic!("the lock was not released");
    }
}
