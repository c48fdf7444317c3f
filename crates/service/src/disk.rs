//! What the disk with the data folder lets the service do.

use bentlane_api_types::Attention;
use bentlane_store::DataDir;
use rustix::fs::{StatVfsMountFlags, statvfs};

/// Bytes that have to be free, for the files that the service writes and the log of its database.
const ROOM: u64 = 16 * 1024 * 1024;

/// What is wrong with the disk of the data folder; `None` when it can be written to.
pub(crate) fn attention(data_dir: &DataDir) -> Option<Attention> {
    let folder = data_dir.root();
    let disk = statvfs(folder).ok()?;
    let free = disk.f_bavail.saturating_mul(disk.f_frsize);
    let (state, command) = if disk.f_flag.contains(StatVfsMountFlags::RDONLY) {
        ("is read-only", "findmnt --target")
    } else if free < ROOM {
        ("is full", "df -h")
    } else {
        return None;
    };
    let folder = folder.display();
    Some(Attention {
        text: format!(
            "the disk with {folder} {state}: names and routes work as they did last, and changes and \
             traffic cannot be stored"
        ),
        command: Some(format!("{command} {folder}")),
    })
}
