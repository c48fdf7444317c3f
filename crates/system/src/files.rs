//! Files in folders that are not ours: an export's, an access log's, the system's settings.
//!
//! The owner of such a folder may put links, pipes and other users' files into it at any moment,
//! also between two of our steps, and the service or a command may have more rights than they. So
//! a folder is opened once and held by its handle; files are opened below it without following
//! links and without waiting; what is opened is looked at before it is used; owner and mode of a
//! new file are set by its handle, before it gets its name; and nothing is written to a file of
//! another owner.

use std::ffi::{OsStr, OsString};
use std::fs::{File, Metadata};
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{
    AtFlags, FileType, Gid, Mode, OFlags, ResolveFlags, Stat, Uid, fchmod, fchown, fstat, fsync,
    openat, openat2, readlinkat, renameat, statat, unlinkat,
};
use rustix::io::Errno;

use crate::file_error::FileError;

/// Links that are followed on the way to a folder, as the system's own limit is (path_resolution(7)).
const MOST_LINKS: usize = 40;
/// The most attempts to find an unused name for a new file.
pub(crate) const NAME_TRIES: u32 = 100;

/// A folder that is not ours, held by its handle.
#[derive(Debug)]
pub struct Folder {
    handle: OwnedFd,
    path: PathBuf,
    owner: (Uid, Gid),
}

impl Folder {
    /// Opens the folder at `path`. A link on the way is followed where only root or we could have
    /// put it there.
    ///
    /// # Errors
    /// When there is no such folder, or another user's link is on the way.
    pub fn open(path: &Path) -> Result<Self, FileError> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let root =
            rustix::fs::open("/", flags, Mode::empty()).map_err(FileError::io("open", path))?;
        let mut walk = PathWalk {
            at: root,
            seen: PathBuf::from("/"),
            links: 0,
        };
        let whole = std::path::absolute(path).map_err(|source| FileError::Io {
            verb: "open",
            path: path.to_owned(),
            source,
        })?;
        walk.down(&whole)?;
        let stat = fstat(&walk.at).map_err(FileError::io("look at", path))?;
        if kind(&stat) != FileType::Directory {
            return Err(FileError::io("open", path)(Errno::NOTDIR));
        }
        Ok(Self {
            handle: walk.at,
            path: path.to_owned(),
            owner: (Uid::from_raw(stat.st_uid), Gid::from_raw(stat.st_gid)),
        })
    }

    /// The folder of the file at `path`, and the file's name in it.
    ///
    /// # Errors
    /// As [`Folder::open`], and when `path` names no file.
    pub fn of(path: &Path) -> Result<(Self, OsString), FileError> {
        let (Some(folder), Some(name)) = (path.parent(), path.file_name()) else {
            return Err(FileError::NoFile {
                path: path.to_owned(),
            });
        };
        let here = Path::new(".");
        let folder = if folder.as_os_str().is_empty() {
            here
        } else {
            folder
        };
        Ok((Self::open(folder)?, name.to_owned()))
    }

    /// Whose it is: uid and gid.
    #[must_use]
    pub fn owner(&self) -> (u32, u32) {
        (self.owner.0.as_raw(), self.owner.1.as_raw())
    }

    /// Whose files are written here: the folder's owner's when we may give files away, else our own.
    fn writes_as(&self) -> (Uid, Gid) {
        if rustix::process::geteuid().is_root() {
            self.owner
        } else {
            (rustix::process::geteuid(), rustix::process::getegid())
        }
    }

    pub(crate) fn handle(&self) -> &OwnedFd {
        &self.handle
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// Where the link `name` leads, as it is written; `None` when it is no link, or there is none.
    pub(crate) fn read_link(&self, name: &OsStr) -> Result<Option<PathBuf>, FileError> {
        match readlinkat(&self.handle, name, Vec::new()) {
            Ok(to) => Ok(Some(OsStr::from_bytes(to.as_bytes()).into())),
            Err(Errno::INVAL | Errno::NOENT) => Ok(None),
            Err(errno) => Err(FileError::io("read", &self.path.join(name))(errno)),
        }
    }

    /// Reads a file of `limit` bytes at most; `None` when there is none.
    ///
    /// # Errors
    /// When it is no regular file, too large, or cannot be read.
    pub fn read(&self, name: &OsStr, limit: u64) -> Result<Option<Vec<u8>>, FileError> {
        Ok(self
            .read_with_metadata(name, limit)?
            .map(|(content, _)| content))
    }

    /// The same, with what the file system says of the file.
    pub(crate) fn read_with_metadata(
        &self,
        name: &OsStr,
        limit: u64,
    ) -> Result<Option<(Vec<u8>, Metadata)>, FileError> {
        let path = self.path.join(name);
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = match openat(&self.handle, name, flags, Mode::empty()) {
            Ok(file) => file,
            Err(Errno::NOENT) => return Ok(None),
            Err(Errno::LOOP) => return Err(self.link(name)),
            Err(errno) => return Err(FileError::io("read", &path)(errno)),
        };
        let file = File::from(file);
        let metadata = file.metadata().map_err(|source| FileError::Io {
            verb: "look at",
            path: path.clone(),
            source,
        })?;
        let content = read_regular(file.into(), &path, limit)?;
        Ok(Some((content, metadata)))
    }

    /// Writes a file whole or not at all, with this mode: beside its place, to the disk, then
    /// renamed. When root does it, the file gets the owner of the folder.
    ///
    /// # Errors
    /// When a file of another owner is there, or a step fails; what was there is still there then.
    pub fn write(&self, name: &OsStr, content: &[u8], mode: u32) -> Result<(), FileError> {
        let owner = self.writes_as();
        self.check_replaceable(name, owner.0)?;
        self.write_for(name, mode, owner, |file| file.write_all(content))
    }

    /// The same for a file of the given owner, replacing whatever has the name, a link included: for
    /// files of the system, in folders that only root writes to.
    ///
    /// # Errors
    /// When a step fails.
    pub(crate) fn replace(
        &self,
        name: &OsStr,
        content: &[u8],
        mode: u32,
        (uid, gid): (u32, u32),
    ) -> Result<(), FileError> {
        self.replace_by(name, mode, (uid, gid), |file| file.write_all(content))
    }

    /// The same for what `write` writes.
    ///
    /// # Errors
    /// When a step fails.
    pub(crate) fn replace_by(
        &self,
        name: &OsStr,
        mode: u32,
        (uid, gid): (u32, u32),
        write: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> Result<(), FileError> {
        self.write_for(name, mode, (Uid::from_raw(uid), Gid::from_raw(gid)), write)
    }

    fn write_for(
        &self,
        name: &OsStr,
        mode: u32,
        owner: (Uid, Gid),
        write: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> Result<(), FileError> {
        let beside = self.write_beside(name, mode, (owner.0.as_raw(), owner.1.as_raw()), write)?;
        self.rename_over(&beside, name)
    }

    /// Writes what is to get `name`, to the disk, under a temporary name, which is given.
    pub(crate) fn write_beside(
        &self,
        name: &OsStr,
        mode: u32,
        (uid, gid): (u32, u32),
        write: impl FnOnce(&mut File) -> io::Result<()>,
    ) -> Result<OsString, FileError> {
        let path = self.path.join(name);
        let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
        let (file, beside) = self.create_beside(name)?;
        let written = (|| {
            let mut file = File::from(file);
            write(&mut file).map_err(|source| FileError::Io {
                verb: "write",
                path: path.clone(),
                source,
            })?;
            let failed = |verb| FileError::io(verb, &path);
            if uid != rustix::process::geteuid() || gid != rustix::process::getegid() {
                fchown(&file, Some(uid), Some(gid)).map_err(failed("set the owner of"))?;
            }
            fchmod(&file, Mode::from_raw_mode(mode)).map_err(failed("set the mode of"))?;
            fsync(&file).map_err(failed("write"))
        })();
        if written.is_err() {
            // As above.
            let _ = unlinkat(&self.handle, &beside, AtFlags::empty());
        }
        written.map(|()| beside)
    }

    /// Opens a file to append to it, and makes it if it is not there.
    ///
    /// # Errors
    /// When it is no regular file, of another owner, or cannot be opened.
    pub fn append(&self, name: &OsStr, mode: u32) -> Result<File, FileError> {
        let path = self.path.join(name);
        let (uid, gid) = self.writes_as();
        let flags = OFlags::WRONLY
            | OFlags::APPEND
            | OFlags::NOFOLLOW
            | OFlags::NONBLOCK
            | OFlags::NOCTTY
            | OFlags::CLOEXEC;
        let file = loop {
            match openat(&self.handle, name, flags, Mode::empty()) {
                Ok(file) => break file,
                Err(Errno::NOENT) => {}
                Err(Errno::LOOP) => return Err(self.link(name)),
                // A pipe without a reader.
                Err(Errno::NXIO) => return Err(self.not_regular(name)),
                Err(errno) => return Err(FileError::io("open", &path)(errno)),
            }
            let new = flags | OFlags::CREATE | OFlags::EXCL;
            match openat(&self.handle, name, new, Mode::from_raw_mode(0o600)) {
                Ok(file) => {
                    let failed = |verb| FileError::io(verb, &path);
                    fchown(&file, Some(uid), Some(gid)).map_err(failed("set the owner of"))?;
                    fchmod(&file, Mode::from_raw_mode(mode)).map_err(failed("set the mode of"))?;
                    break file;
                }
                // Another process was faster: its file is checked.
                Err(Errno::EXIST) => {}
                Err(errno) => return Err(FileError::io("create", &path)(errno)),
            }
        };
        let stat = fstat(&file).map_err(FileError::io("look at", &path))?;
        check_regular(&stat, &path)?;
        check_owner(&stat, &path, uid)?;
        if stat.st_nlink > 1 {
            return Err(FileError::Linked {
                path,
                links: stat.st_nlink,
            });
        }
        Ok(File::from(file))
    }

    /// Writes into the file that is there, which others may read half-written: for one that is
    /// mounted, as in a container, and cannot be replaced.
    ///
    /// # Errors
    /// When it is no regular file, or cannot be written.
    pub(crate) fn overwrite(&self, name: &OsStr, content: &[u8]) -> Result<(), FileError> {
        let path = self.path.join(name);
        let flags = OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = openat(&self.handle, name, flags, Mode::empty())
            .map_err(FileError::io("open", &path))?;
        check_regular(
            &fstat(&file).map_err(FileError::io("look at", &path))?,
            &path,
        )?;
        let mut file = File::from(file);
        let written = file.set_len(0).and_then(|()| file.write_all(content));
        let written = written.and_then(|()| file.sync_all());
        written.map_err(|source| FileError::Io {
            verb: "write",
            path,
            source,
        })
    }

    /// Replaces `name` by a symbolic link to `to`.
    pub(crate) fn link_to(&self, name: &OsStr, to: &Path) -> Result<(), FileError> {
        let beside = self.link_beside(name, to)?;
        self.rename_over(&beside, name)
    }

    /// Makes a link to `to` under a temporary name, which is given.
    pub(crate) fn link_beside(&self, name: &OsStr, to: &Path) -> Result<OsString, FileError> {
        for number in 0..NAME_TRIES {
            let beside = beside(name, number);
            match rustix::fs::symlinkat(to, &self.handle, &beside) {
                Ok(()) => return Ok(beside),
                Err(Errno::EXIST) => {}
                Err(errno) => return Err(FileError::io("create", &self.path.join(name))(errno)),
            }
        }
        Err(FileError::io("create", &self.path.join(name))(Errno::EXIST))
    }

    /// Gives what has the temporary name `beside` the name `name`.
    fn rename_over(&self, beside: &OsStr, name: &OsStr) -> Result<(), FileError> {
        let renamed = renameat(&self.handle, beside, &self.handle, name);
        if renamed.is_err() {
            // It may be gone already; what was wrong with the file is what is reported.
            let _ = unlinkat(&self.handle, beside, AtFlags::empty());
        }
        renamed.map_err(FileError::io("replace", &self.path.join(name)))?;
        self.sync()
    }

    /// Removes a file or link, if it is there.
    ///
    /// # Errors
    /// When it stays.
    pub fn remove(&self, name: &OsStr) -> Result<(), FileError> {
        match unlinkat(&self.handle, name, AtFlags::empty()) {
            Ok(()) => self.sync(),
            Err(Errno::NOENT) => Ok(()),
            Err(errno) => Err(FileError::io("remove", &self.path.join(name))(errno)),
        }
    }

    pub(crate) fn sync(&self) -> Result<(), FileError> {
        // A handle that only names the folder cannot be synced.
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = openat(&self.handle, ".", flags, Mode::empty());
        match folder.and_then(fsync) {
            // A folder that may be written to need not be readable.
            Ok(()) | Err(Errno::ACCESS | Errno::INVAL) => Ok(()),
            Err(errno) => Err(FileError::io("write", &self.path)(errno)),
        }
    }

    /// Whether what is at `name`, if anything, may be replaced by a file of `owner`.
    fn check_replaceable(&self, name: &OsStr, owner: Uid) -> Result<(), FileError> {
        let path = self.path.join(name);
        match statat(&self.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
            Err(Errno::NOENT) => Ok(()),
            Err(errno) => Err(FileError::io("look at", &path)(errno)),
            Ok(stat) if kind(&stat) == FileType::Symlink => Err(FileError::Link {
                path,
                owner: stat.st_uid,
            }),
            Ok(stat) => {
                check_regular(&stat, &path)?;
                let ours = stat.st_uid == rustix::process::geteuid().as_raw();
                if ours {
                    Ok(())
                } else {
                    check_owner(&stat, &path, owner)
                }
            }
        }
    }

    /// A new file with a temporary name, readable only for us.
    fn create_beside(&self, name: &OsStr) -> Result<(OwnedFd, OsString), FileError> {
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        for number in 0..NAME_TRIES {
            let beside = beside(name, number);
            match openat(&self.handle, &beside, flags, Mode::from_raw_mode(0o600)) {
                Ok(file) => return Ok((file, beside)),
                Err(Errno::EXIST) => {}
                Err(errno) => {
                    return Err(
                        FileError::io("create a file beside", &self.path.join(name))(errno),
                    );
                }
            }
        }
        Err(FileError::io("create a file beside", &self.path.join(name))(Errno::EXIST))
    }

    fn link(&self, name: &OsStr) -> FileError {
        let stat = statat(&self.handle, name, AtFlags::SYMLINK_NOFOLLOW);
        FileError::Link {
            path: self.path.join(name),
            owner: stat.map_or(0, |stat| stat.st_uid),
        }
    }

    fn not_regular(&self, name: &OsStr) -> FileError {
        let path = self.path.join(name);
        match statat(&self.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => FileError::NotRegular {
                path,
                kind: in_words(kind(&stat)),
            },
            Err(errno) => FileError::io("open", &path)(errno),
        }
    }
}

/// The way down to a folder, one component at a time.
struct PathWalk {
    at: OwnedFd,
    seen: PathBuf,
    links: usize,
}

impl PathWalk {
    fn down(&mut self, path: &Path) -> Result<(), FileError> {
        for component in path.components() {
            match component {
                Component::RootDir => {
                    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
                    let root = rustix::fs::open("/", flags, Mode::empty());
                    self.at = root.map_err(FileError::io("open", path))?;
                    self.seen = PathBuf::from("/");
                }
                Component::CurDir | Component::Prefix(_) => {}
                Component::ParentDir => self.enter(OsStr::new(".."))?,
                Component::Normal(name) => self.enter(name)?,
            }
        }
        Ok(())
    }

    fn enter(&mut self, name: &OsStr) -> Result<(), FileError> {
        let path = self.seen.join(name);
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let next =
            openat(&self.at, name, flags, Mode::empty()).map_err(FileError::io("open", &path))?;
        let stat = fstat(&next).map_err(FileError::io("look at", &path))?;
        if kind(&stat) != FileType::Symlink {
            self.at = next;
            self.seen = path;
            return Ok(());
        }
        let folder = fstat(&self.at).map_err(FileError::io("look at", &self.seen))?;
        if !is_trusted(&stat, &folder) {
            return Err(FileError::Link {
                path,
                owner: stat.st_uid,
            });
        }
        self.links += 1;
        if self.links > MOST_LINKS {
            return Err(FileError::io("open", &path)(Errno::LOOP));
        }
        let to = readlinkat(&next, "", Vec::new()).map_err(FileError::io("read", &path))?;
        self.down(Path::new(OsStr::from_bytes(to.as_bytes())))
    }
}

/// Whether a link is root's or ours, in a folder where no other user could have replaced it.
fn is_trusted(link: &Stat, folder: &Stat) -> bool {
    let own = rustix::process::geteuid().as_raw();
    let by_us = |stat: &Stat| stat.st_uid == 0 || stat.st_uid == own;
    let sticky = folder.st_mode & 0o1000 != 0;
    by_us(link) && by_us(folder) && (sticky || folder.st_mode & 0o022 == 0)
}

/// Reads a regular file of at most `limit` bytes by its path, on behalf of its owner.
///
/// # Errors
/// When it is not there, no regular file, or too large.
pub fn read_file(path: &Path, limit: u64) -> Result<Vec<u8>, FileError> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = rustix::fs::open(path, flags, Mode::empty()).map_err(FileError::io("read", path))?;
    read_regular(file, path, limit)
}

/// Reads a file as a process with another root folder sees it: no link leads out of that folder.
///
/// # Errors
/// When it is not there, no regular file, too large, or the folder cannot be entered.
pub fn read_in_root(root: impl AsFd, path: &Path, limit: u64) -> Result<Vec<u8>, FileError> {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = openat2(
        root,
        path,
        flags,
        Mode::empty(),
        ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS,
    );
    read_regular(file.map_err(FileError::io("read", path))?, path, limit)
}

fn read_regular(file: OwnedFd, path: &Path, limit: u64) -> Result<Vec<u8>, FileError> {
    let stat = fstat(&file).map_err(FileError::io("look at", path))?;
    check_regular(&stat, path)?;
    let mut content = Vec::new();
    File::from(file)
        .take(limit.saturating_add(1))
        .read_to_end(&mut content)
        .map_err(|source| FileError::Io {
            verb: "read",
            path: path.to_owned(),
            source,
        })?;
    if content.len() as u64 > limit {
        return Err(FileError::TooLarge {
            path: path.to_owned(),
            limit,
        });
    }
    Ok(content)
}

fn kind(stat: &Stat) -> FileType {
    FileType::from_raw_mode(stat.st_mode)
}

fn check_regular(stat: &Stat, path: &Path) -> Result<(), FileError> {
    match kind(stat) {
        FileType::RegularFile => Ok(()),
        other => Err(FileError::NotRegular {
            path: path.to_owned(),
            kind: in_words(other),
        }),
    }
}

fn check_owner(stat: &Stat, path: &Path, wanted: Uid) -> Result<(), FileError> {
    if stat.st_uid == wanted.as_raw() {
        return Ok(());
    }
    Err(FileError::Owner {
        path: path.to_owned(),
        owner: stat.st_uid,
        wanted: wanted.as_raw(),
    })
}

fn in_words(kind: FileType) -> &'static str {
    match kind {
        FileType::Directory => "a folder",
        FileType::Symlink => "a symbolic link",
        FileType::Fifo => "a pipe",
        FileType::Socket => "a socket",
        FileType::CharacterDevice | FileType::BlockDevice => "a device",
        FileType::RegularFile | FileType::Unknown => "something else",
    }
}

/// The name under which the next content of `name` is written.
pub(crate) fn beside(name: &OsStr, number: u32) -> OsString {
    let mut beside = OsString::from(".");
    beside.push(name);
    beside.push(format!(".bentlane-{}-{number}", std::process::id()));
    beside
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};

    use rstest::{fixture, rstest};
    use tempfile::TempDir;

    use super::*;

    #[fixture]
    fn folder() -> TempDir {
        tempfile::tempdir().unwrap()
    }

    fn names(folder: &TempDir) -> Vec<String> {
        let entries = std::fs::read_dir(folder.path()).unwrap();
        let mut names: Vec<String> = entries
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        names.sort();
        names
    }

    #[rstest]
    fn files_are_replaced_in_one_step_without_leftovers(folder: TempDir) {
        let handle = Folder::open(folder.path()).unwrap();
        for content in ["one", "two"] {
            handle
                .write(OsStr::new("a.pem"), content.as_bytes(), 0o640)
                .unwrap();
        }
        let path = folder.path().join("a.pem");
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "two");
        let mode = std::fs::metadata(&path).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o640);
        assert_eq!(names(&folder), ["a.pem"]);
        let read = handle.read(OsStr::new("a.pem"), 3).unwrap();
        assert_eq!(read.as_deref(), Some(&b"two"[..]));
        assert!(handle.read(OsStr::new("none"), 3).unwrap().is_none());
        let long = handle.read(OsStr::new("a.pem"), 2).unwrap_err();
        assert!(matches!(long, FileError::TooLarge { .. }), "{long}");
    }

    /// What has the name in place of a regular file.
    fn put(kind: &str, folder: &TempDir) {
        let path = folder.path().join("it");
        match kind {
            "link" => symlink("/etc/passwd", path).unwrap(),
            "dangling" => symlink("/nonexistent/it", path).unwrap(),
            "folder" => std::fs::create_dir(path).unwrap(),
            _ => rustix::fs::mknodat(
                rustix::fs::CWD,
                path,
                FileType::Fifo,
                Mode::from_raw_mode(0o600),
                0,
            )
            .unwrap(),
        }
    }

    #[rstest]
    #[case("link", "symbolic link")]
    #[case("dangling", "symbolic link")]
    #[case("folder", "a folder")]
    #[case("pipe", "a pipe")]
    fn only_regular_files_are_opened(folder: TempDir, #[case] kind: &str, #[case] words: &str) {
        put(kind, &folder);
        let handle = Folder::open(folder.path()).unwrap();
        let name = OsStr::new("it");
        let refusals = [
            handle.write(name, b"x", 0o600).unwrap_err(),
            handle.append(name, 0o600).map(drop).unwrap_err(),
            handle.read(name, 100).map(drop).unwrap_err(),
        ];
        for refusal in refusals {
            let said = refusal.to_string();
            // The system itself refuses to open a folder for writing.
            assert!(said.contains(words) || said.contains("directory"), "{said}");
        }
        assert_eq!(names(&folder), ["it"]);
        assert!(!Path::new("/nonexistent").exists());
    }

    #[rstest]
    fn a_log_is_created_once_and_appended_to(folder: TempDir) {
        let handle = Folder::open(folder.path()).unwrap();
        for line in ["a\n", "b\n"] {
            let mut file = handle.append(OsStr::new("log"), 0o640).unwrap();
            file.write_all(line.as_bytes()).unwrap();
        }
        let path = folder.path().join("log");
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "a\nb\n");
        assert_eq!(std::fs::metadata(&path).unwrap().mode() & 0o777, 0o640);
        std::fs::hard_link(&path, folder.path().join("other")).unwrap();
        let refused = handle
            .append(OsStr::new("log"), 0o640)
            .map(drop)
            .unwrap_err();
        assert!(
            matches!(refused, FileError::Linked { links: 2, .. }),
            "{refused}"
        );
    }

    #[rstest]
    fn trusted_links_are_followed_and_loops_are_refused(folder: TempDir) {
        let real = folder.path().join("real");
        std::fs::create_dir(&real).unwrap();
        symlink("real", folder.path().join("link")).unwrap();
        symlink("circle", folder.path().join("circle")).unwrap();
        let (opened, name) = Folder::of(&folder.path().join("link/a")).unwrap();
        opened.write(&name, b"x", 0o600).unwrap();
        assert!(real.join("a").exists());
        assert!(Folder::open(&folder.path().join("circle")).is_err());
        assert!(
            Folder::open(&folder.path().join("real/a")).is_err(),
            "a file"
        );
        assert!(
            Folder::open(&folder.path().join("none"))
                .unwrap_err()
                .is_missing()
        );
        assert!(matches!(
            Folder::of(Path::new("/")),
            Err(FileError::NoFile { .. })
        ));
    }

    #[rstest]
    #[case("/etc/it", "inside")]
    #[case("../../../../etc/it", "inside")]
    fn paths_cannot_leave_a_root_folder(folder: TempDir, #[case] to: &str, #[case] wanted: &str) {
        std::fs::create_dir(folder.path().join("etc")).unwrap();
        std::fs::write(folder.path().join("etc/it"), "inside").unwrap();
        symlink(to, folder.path().join("link")).unwrap();
        let root = File::open(folder.path()).unwrap();
        let content = read_in_root(&root, Path::new("link"), 100).unwrap();
        assert_eq!(content, wanted.as_bytes());
    }
}
