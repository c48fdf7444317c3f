//! Files of the user's that a command edits: read, changed as text, and replaced as a whole.

use std::ffi::OsStr;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use bentlane_system::Folder;

use crate::error::CliError;

/// A file as it was read, by its path without links; one that is not there is empty.
#[derive(Debug)]
pub(crate) struct TextFile {
    pub(crate) path: PathBuf,
    pub(crate) text: String,
    folder: Folder,
    largest: u64,
}

impl TextFile {
    /// Reads a file of at most so many bytes.
    pub(crate) fn open(file: &Path, largest: u64) -> Result<Self, CliError> {
        let io = |source| CliError::Io {
            verb: format!("read {}", file.display()),
            source,
        };
        let path = match file.canonicalize() {
            Ok(path) => path,
            Err(_) => std::path::absolute(file).map_err(io)?,
        };
        let folder = Folder::open(path.parent().unwrap_or(Path::new("/")))?;
        let read = folder.read(name_of(&path), largest)?;
        let text = String::from_utf8(read.unwrap_or_default());
        let text = text.map_err(|_| io(std::io::Error::other("it is not UTF-8")))?;
        Ok(Self {
            path,
            text,
            folder,
            largest,
        })
    }

    /// Replaces the text, unless another program has changed it since it was read. A new file has this
    /// mode, another one keeps its own.
    pub(crate) fn replace(&self, text: &str, mode: u32) -> Result<(), CliError> {
        if Self::open(&self.path, self.largest)?.text != self.text {
            return Err(CliError::Value {
                field: "--write",
                reason: format!(
                    "{} was changed meanwhile: nothing was written, run it again",
                    self.path.display()
                ),
            });
        }
        let mode = std::fs::metadata(&self.path).map_or(mode, |it| it.mode() & 0o7777);
        Ok(self
            .folder
            .write(name_of(&self.path), text.as_bytes(), mode)?)
    }
}

fn name_of(path: &Path) -> &OsStr {
    path.file_name().unwrap_or_default()
}
