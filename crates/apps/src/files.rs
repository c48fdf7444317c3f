//! Files of the user's alone, replaced as a whole.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Replaces a file, readable by its user alone: readers find the former content or this one.
pub(crate) fn replace(path: &Path, octets: &[u8]) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let temporary = path.with_extension("new");
    let mut options = OpenOptions::new();
    options.write(true).create(true).truncate(true).mode(0o600);
    options.open(&temporary)?.write_all(octets)?;
    fs::rename(temporary, path)
}
