//! Executing this program in the same process (execve(2)), with sockets that stay open.

use std::ffi::OsStr;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

use bentlane_service::{HANDOVER_VARIABLE, Handover, Relaunch};
use command_fds::{CommandFdExt, FdMapping};
use tracing::warn;

use super::unprivileged::keep_right_to_bind;
use crate::error::CliError;

/// The first number of a socket that is passed on (sd_listen_fds(3)).
const FIRST_PASSED: i32 = 3;
/// The file that runs now, whatever is at its path meanwhile.
pub(super) const RUNNING: &str = "/proc/self/exe";

/// The command that executes `program` in place of this process.
pub(super) fn command(program: &Path, args: impl Iterator<Item = impl AsRef<OsStr>>) -> Command {
    let mut command = Command::new(program);
    command.arg0("bentlane").args(args);
    command
}

/// Executes `command` with `sockets`; comes back only when that fails.
pub(super) fn execute(mut command: Command, sockets: Vec<OwnedFd>) -> CliError {
    let failed = |verb: &str, source| CliError::Io {
        verb: verb.to_owned(),
        source,
    };
    command
        .env("LISTEN_PID", std::process::id().to_string())
        .env("LISTEN_FDS", sockets.len().to_string());
    let mappings = sockets.into_iter().zip(FIRST_PASSED..);
    let mappings = mappings.map(|(parent_fd, child_fd)| FdMapping {
        parent_fd,
        child_fd,
    });
    match command.fd_mappings(mappings.collect()) {
        Ok(command) => failed("execute this program again", command.exec()),
        Err(collision) => failed("pass the sockets on", io::Error::other(collision)),
    }
}

/// Starts the service again in place of this process; comes back only when that fails.
pub(super) fn relaunch(relaunch: &Relaunch, handover: Handover) -> CliError {
    let program = relaunch.program();
    if may_have_our_rights(program) {
        keep_right_to_bind();
    } else {
        warn!(
            program = %program.display(),
            "it may be replaced by others than root, and gets no right to ports below 1024"
        );
    }
    let Handover {
        mut sockets,
        database,
    } = handover;
    let mut taken_over = std::process::id().to_string();
    if let Some((guard, socket)) = database {
        taken_over = format!("{taken_over} {}", guard.as_raw_pid());
        sockets.push(socket);
    }
    let mut next = command(program, relaunch.args().iter());
    next.env(HANDOVER_VARIABLE, taken_over);
    execute(next, sockets)
}

/// Whether `program` is the file that runs now, or one that root alone can replace. Another one gets
/// none of the rights that root gave to this one.
fn may_have_our_rights(program: &Path) -> bool {
    let place = |path: &Path| std::fs::metadata(path).ok();
    let (Some(next), Some(now)) = (place(program), place(Path::new(RUNNING))) else {
        return false;
    };
    let is_roots = next.uid() == 0 && next.permissions().mode() & 0o022 == 0;
    is_roots || (next.dev(), next.ino()) == (now.dev(), now.ino())
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn only_roots_programs_and_the_running_one_keep_the_rights() {
        let folder = tempfile::tempdir().unwrap();
        let other = folder.path().join("bentlane");
        fs::copy("/bin/true", &other).unwrap();
        fs::set_permissions(&other, fs::Permissions::from_mode(0o775)).unwrap();
        assert!(!may_have_our_rights(&other), "its group can replace it");
        assert!(!may_have_our_rights(&folder.path().join("nothing")));
        assert!(may_have_our_rights(Path::new(RUNNING)));
        assert!(may_have_our_rights(Path::new("/bin/true")));
    }
}
