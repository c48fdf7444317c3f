//! Replacing a file that other programs write to as well, without losing what they write.
//!
//! The new file changes places with the old one in one step (`RENAME_EXCHANGE`, renameat2(2)), and
//! what came out is compared with what was expected. If another program has replaced the file
//! meanwhile, its file gets the place back. Lines that were appended to the old file are appended to
//! the new one. What remains: a program that has opened the old file and writes to it later than
//! [`LAST_WRITES`] after the change. On a file system without that step, and for a mounted file, which
//! can only be written in place, what is written between the comparison and the change is lost.

use std::ffi::{OsStr, OsString};
use std::io::Write;
use std::path::Path;
use std::time::Duration;

use rustix::fs::{
    AtFlags, IFlags, Mode, OFlags, RenameFlags, ioctl_getflags, openat, renameat, renameat_with,
    statat, unlinkat,
};
use rustix::io::Errno;

use crate::content::Content;
use crate::file_error::FileError;
use crate::files::{Folder, NAME_TRIES, beside};
use crate::text::encode;

/// How long programs that have opened the old file may go on to write to it.
const LAST_WRITES: Duration = Duration::from_millis(20);

/// What another program may do to the file between the comparison and the change.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tolerance {
    /// Nothing.
    Same,
    /// Append to it.
    Appended,
}

impl Folder {
    /// Replaces `name` by `after`, if it is as `expected`. Returns whether it was; otherwise
    /// nothing is changed.
    ///
    /// # Errors
    /// When the file may not be changed, or a step fails; nothing is changed then, and no temporary
    /// file is left.
    pub(crate) fn swap(
        &self,
        name: &OsStr,
        expected: &Content,
        after: &Content,
        tolerance: Tolerance,
    ) -> Result<bool, FileError> {
        self.check_changeable(name)?;
        if tail(&self.content(name)?, expected, tolerance).is_none() {
            return Ok(false);
        }
        let beside = self.put_beside(name, after)?;
        let swapped = self.exchange(name, &beside, (expected, after), tolerance);
        // It has the old content, or the new one if nothing was changed.
        match unlinkat(self.handle(), &beside, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(errno) => return Err(FileError::io("remove", &self.path().join(&beside))(errno)),
        }
        self.sync()?;
        swapped
    }

    /// What is at `name` now.
    pub(crate) fn content(&self, name: &OsStr) -> Result<Content, FileError> {
        Content::at(self, name)
    }

    fn exchange(
        &self,
        name: &OsStr,
        beside: &OsStr,
        (expected, after): (&Content, &Content),
        tolerance: Tolerance,
    ) -> Result<bool, FileError> {
        let path = self.path().join(name);
        let rename = |from: &OsStr, to: &OsStr, flags| {
            renameat_with(self.handle(), from, self.handle(), to, flags)
        };
        let done = match (expected, after) {
            (Content::Absent, Content::Absent) => return Ok(true),
            (Content::Absent, _) => match rename(beside, name, RenameFlags::NOREPLACE) {
                Err(Errno::EXIST) => return Ok(false),
                done => done,
            },
            (_, Content::Absent) => rename(name, beside, RenameFlags::NOREPLACE),
            _ => rename(beside, name, RenameFlags::EXCHANGE),
        };
        match done {
            Ok(()) => {}
            // The file went meanwhile.
            Err(Errno::NOENT) => return Ok(false),
            Err(Errno::BUSY) if matches!(after, Content::File { .. }) => {
                return self.overwrite_if(name, expected, after);
            }
            // This file system cannot.
            Err(Errno::INVAL | Errno::NOSYS) => {
                return self.replace_if(name, beside, (expected, after));
            }
            Err(errno) => return Err(FileError::io("replace", &path)(errno)),
        }
        if *expected == Content::Absent {
            return Ok(true);
        }
        let former = self.content(beside)?;
        if tail(&former, expected, tolerance).is_none() {
            // Another program was faster.
            let back = match after {
                Content::Absent => rename(beside, name, RenameFlags::NOREPLACE),
                _ => rename(beside, name, RenameFlags::EXCHANGE),
            };
            back.map_err(FileError::io("restore", &path))?;
            self.carry_over(beside, after, name)?;
            return Ok(false);
        }
        pause();
        self.carry_over(beside, expected, name)?;
        Ok(true)
    }

    /// Appends what was appended to `from` since it was `known` to `to`.
    fn carry_over(&self, from: &OsStr, known: &Content, to: &OsStr) -> Result<(), FileError> {
        let now = self.content(from)?;
        let Some(tail) = tail(&now, known, Tolerance::Appended).filter(|tail| !tail.is_empty())
        else {
            return Ok(());
        };
        let path = self.path().join(to);
        let flags = OFlags::WRONLY | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = openat(self.handle(), to, flags, Mode::empty());
        let mut file = std::fs::File::from(file.map_err(FileError::io("open", &path))?);
        let written = file.write_all(&encode(tail)).and_then(|()| file.sync_all());
        written.map_err(|source| FileError::Io {
            verb: "write",
            path,
            source,
        })
    }

    fn overwrite_if(
        &self,
        name: &OsStr,
        expected: &Content,
        after: &Content,
    ) -> Result<bool, FileError> {
        let Content::File { text, .. } = after else {
            return Ok(false);
        };
        if self.content(name)? != *expected {
            return Ok(false);
        }
        self.overwrite(name, &encode(text))?;
        Ok(true)
    }

    fn replace_if(
        &self,
        name: &OsStr,
        beside: &OsStr,
        (expected, after): (&Content, &Content),
    ) -> Result<bool, FileError> {
        let path = self.path().join(name);
        if self.content(name)? != *expected {
            return Ok(false);
        }
        let done = match after {
            Content::Absent => unlinkat(self.handle(), name, AtFlags::empty()),
            _ => renameat(self.handle(), beside, self.handle(), name),
        };
        done.map_err(FileError::io("replace", &path))?;
        Ok(true)
    }

    /// Puts `content` under a temporary name, which is given.
    fn put_beside(&self, name: &OsStr, content: &Content) -> Result<OsString, FileError> {
        let path = self.path().join(name);
        match content {
            Content::File {
                text,
                mode,
                uid,
                gid,
            } => self.write_beside(name, *mode, (*uid, *gid), |file| {
                file.write_all(&encode(text))
            }),
            Content::Link { to } => self.link_beside(name, to),
            Content::Absent => (0..NAME_TRIES)
                .map(|number| beside(name, number))
                .find(|beside| {
                    let stat = statat(self.handle(), beside, AtFlags::SYMLINK_NOFOLLOW);
                    matches!(stat, Err(Errno::NOENT))
                })
                .ok_or_else(|| FileError::io("create", &path)(Errno::EXIST)),
        }
    }

    /// Whether neither the file nor its folder has an attribute that forbids to change it (chattr(1)).
    /// Checked first, since a temporary file could not be removed from such a folder.
    fn check_changeable(&self, name: &OsStr) -> Result<(), FileError> {
        for (name, path) in [
            (OsStr::new("."), self.path().to_owned()),
            (name, self.path().join(name)),
        ] {
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            // What cannot be opened, or is on a file system without attributes, has none.
            let attributes =
                openat(self.handle(), name, flags, Mode::empty()).and_then(ioctl_getflags);
            let attributes = attributes.unwrap_or(IFlags::empty());
            for (flag, letter, kind) in [
                (IFlags::IMMUTABLE, 'i', "immutable"),
                (IFlags::APPEND, 'a', "append-only"),
            ] {
                if attributes.contains(flag) {
                    return Err(FileError::Attribute { path, kind, letter });
                }
            }
        }
        Ok(())
    }
}

/// What `now` has more than `known` at its end: nothing when they are the same. `None` when it differs
/// in another way than `tolerance` allows.
fn tail<'a>(now: &'a Content, known: &Content, tolerance: Tolerance) -> Option<&'a str> {
    if now == known {
        return Some("");
    }
    match (now, known) {
        (Content::File { text, .. }, Content::File { text: before, .. })
            if tolerance == Tolerance::Appended && now.with_text(before.clone()) == *known =>
        {
            text.strip_prefix(before.as_str())
        }
        _ => None,
    }
}

#[allow(
    clippy::disallowed_methods,
    reason = "it is short, and of a command that does nothing else"
)]
fn pause() {
    std::thread::sleep(LAST_WRITES);
}

/// Replaces the file at `path` by `after`, as [`Folder::swap`] does.
pub(crate) fn swap(
    path: &Path,
    expected: &Content,
    after: &Content,
    tolerance: Tolerance,
) -> Result<bool, FileError> {
    match after.folder_for(path)? {
        Some((folder, name)) => folder.swap(&name, expected, after, tolerance),
        None => Ok(*expected == Content::Absent),
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;

    const LOCALHOST: &str = "127.0.0.1 localhost\n";

    fn file(text: &str) -> Content {
        let uid = rustix::process::geteuid().as_raw();
        let gid = rustix::process::getegid().as_raw();
        Content::File {
            text: text.to_owned(),
            mode: 0o644,
            uid,
            gid,
        }
    }

    fn link() -> Content {
        Content::Link {
            to: "stub.conf".into(),
        }
    }

    #[rstest]
    #[case(file(LOCALHOST), file("new\n"))]
    #[case(file(LOCALHOST), Content::Absent)]
    #[case(Content::Absent, file("new\n"))]
    #[case(Content::Absent, Content::Absent)]
    #[case(link(), file("new\n"))]
    #[case(file(LOCALHOST), link())]
    #[case(link(), Content::Absent)]
    fn a_file_is_replaced_only_if_it_is_as_expected(#[case] now: Content, #[case] after: Content) {
        let outer = tempfile::tempdir().unwrap();
        let folder = Folder::open(outer.path()).unwrap();
        let name = OsStr::new("hosts");
        now.write(&outer.path().join(name)).unwrap();
        let other = file("changed since\n");
        assert!(
            !folder
                .swap(name, &other, &after, Tolerance::Appended)
                .unwrap()
        );
        assert_eq!(folder.content(name).unwrap(), now);
        assert!(folder.swap(name, &now, &after, Tolerance::Same).unwrap());
        assert_eq!(folder.content(name).unwrap(), after);
        let names = fs::read_dir(outer.path()).unwrap().count();
        assert_eq!(names, usize::from(after != Content::Absent), "no leftovers");
    }

    #[rstest]
    #[case(Tolerance::Appended, Some("10.0.0.2 scanner\n"))]
    #[case(Tolerance::Same, None)]
    fn appended_lines_are_recognised(#[case] tolerance: Tolerance, #[case] wanted: Option<&str>) {
        let now = file(&format!("{LOCALHOST}10.0.0.2 scanner\n"));
        assert_eq!(tail(&now, &file(LOCALHOST), tolerance), wanted);
        assert_eq!(tail(&file(LOCALHOST), &now, tolerance), None, "lines went");
        assert_eq!(tail(&link(), &now, tolerance), None);
    }
}
