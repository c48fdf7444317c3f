use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use bentlane_system::{FileError, Folder};
use tracing::{info, warn};

/// Appends lines to their files. Each file is opened again, so that it can be moved away at any time.
/// One that cannot be written is reported once, in `failed`.
pub(crate) fn append_all(lines: BTreeMap<PathBuf, String>, failed: &mut HashSet<PathBuf>) {
    for (file, text) in lines {
        match append(&file, &text) {
            Ok(()) => {
                if failed.remove(&file) {
                    info!(file = %file.display(), "the access log is written again");
                }
            }
            Err(cause) => {
                if failed.insert(file.clone()) {
                    warn!(file = %file.display(), %cause, "an access log cannot be written");
                }
            }
        }
    }
}

fn append(file: &Path, text: &str) -> Result<(), FileError> {
    let mut log = open(file)?;
    log.write_all(text.as_bytes())
        .map_err(|source| FileError::Io {
            verb: "write to",
            path: file.to_owned(),
            source,
        })
}

/// Opens an access log to append to it. A new one is readable for its owner and group.
pub(crate) fn open(file: &Path) -> Result<File, FileError> {
    let (folder, name) = Folder::of(file)?;
    folder.append(&name, 0o640)
}
