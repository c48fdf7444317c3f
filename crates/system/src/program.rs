//! The copy of our program that the unit runs.

use std::fs;
use std::fs::DirBuilder;
use std::io::{self, Read};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::Path;

use crate::error::SystemError;
use crate::files::Folder;

/// Whether two files hold the same; `false` when one cannot be read.
pub(super) fn same_content(one: &Path, other: &Path) -> bool {
    let compare = || -> io::Result<bool> {
        let (mut one, mut other) = (fs::File::open(one)?, fs::File::open(other)?);
        if one.metadata()?.len() != other.metadata()?.len() {
            return Ok(false);
        }
        let (mut a, mut b) = (vec![0; 1 << 16], vec![0; 1 << 16]);
        loop {
            let length = one.read(&mut a)?;
            if length == 0 {
                return Ok(true);
            }
            let (a, b) = (&a[..length], &mut b[..length]);
            other.read_exact(b)?;
            if a != b {
                return Ok(false);
            }
        }
    };
    compare().unwrap_or(false)
}

/// Makes the copy of the program that root runs, in a folder that nobody else can write to.
pub(super) fn install(from: &Path, to: &Path) -> Result<(), SystemError> {
    let folder = to.parent().unwrap_or(to);
    DirBuilder::new()
        .recursive(true)
        .mode(0o755)
        .create(folder)
        .map_err(SystemError::io("make", folder))?;
    check_only_root_writes(folder)?;
    let mut program = fs::File::open(from).map_err(SystemError::io("read", from))?;
    let (folder, name) = Folder::of(to)?;
    let copy = |file: &mut fs::File| io::copy(&mut program, file).map(drop);
    Ok(folder.replace_by(&name, 0o755, (0, 0), copy)?)
}

pub(super) fn uninstall(path: &Path) -> Result<(), SystemError> {
    let (folder, name) = Folder::of(path)?;
    folder.remove(&name)?;
    if let Some(folder) = path.parent() {
        // Files of others stay.
        let _ = fs::remove_dir(folder);
    }
    Ok(())
}

/// Whether a folder and all above it are root's, so that nobody else can put another program there.
pub(super) fn check_only_root_writes(folder: &Path) -> Result<(), SystemError> {
    for path in folder.ancestors() {
        let metadata = fs::symlink_metadata(path).map_err(SystemError::io("look at", path))?;
        let mode = metadata.permissions().mode();
        let is_sticky = mode & 0o1000 != 0;
        if metadata.uid() != 0 || !metadata.is_dir() || (mode & 0o002 != 0 && !is_sticky) {
            return Err(SystemError::Insecure {
                path: path.to_owned(),
            });
        }
    }
    Ok(())
}
