//! Starting a command in a session of its own, with or without a terminal.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};

use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{Mode, OFlags};
use rustix::io::ioctl_fionbio;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

use crate::processes::Seen;

/// The size of the terminal: wide enough that few programs break their lines.
const SIZE: Winsize = Winsize {
    ws_row: 40,
    ws_col: 120,
    ws_xpixel: 0,
    ws_ypixel: 0,
};

/// What our program is called with to become an app: `launch-app [--terminal] COMMAND`.
pub const LAUNCH_COMMAND: &str = "launch-app";
/// The app gets a terminal.
const TERMINAL: &str = "--terminal";

/// The environment of an app.
pub type Environment = BTreeMap<OsString, OsString>;

/// A command that was started.
#[derive(Debug)]
pub(crate) struct Launched {
    pub(crate) first: Seen,
    /// What it prints, with the names of the streams.
    pub(crate) sources: Vec<(&'static str, OwnedFd)>,
}

/// Starts `command` in a shell, in a session of its own, by way of `program`, which is ours.
///
/// # Errors
/// When the system does not.
pub(crate) fn launch(
    program: &Path,
    command: &str,
    folder: &Path,
    environment: &Environment,
    terminal: bool,
) -> io::Result<Launched> {
    let mut launching = Command::new(program);
    launching.arg0("bentlane").arg(LAUNCH_COMMAND);
    launching.env_clear().envs(environment).current_dir(folder);
    let sources = match terminal {
        true => {
            let (ours, theirs) = open_terminal()?;
            launching
                .arg(TERMINAL)
                .stdin(theirs.try_clone()?)
                .stdout(theirs.try_clone()?)
                .stderr(theirs);
            vec![("terminal", ours)]
        }
        false => {
            let (out, to_out) = io::pipe()?;
            let (err, to_err) = io::pipe()?;
            launching.stdin(Stdio::null()).stdout(to_out).stderr(to_err);
            vec![
                ("stdout", OwnedFd::from(out)),
                ("stderr", OwnedFd::from(err)),
            ]
        }
    };
    for (_, source) in &sources {
        ioctl_fionbio(source, true)?;
    }
    let child = launching.arg(command).spawn()?;
    let pid = i32::try_from(child.id()).map_err(io::Error::other)?;
    // It is waited for by its pidfd, and cannot have another's number until then.
    let first = Seen::of(pid).ok_or_else(|| io::Error::other("it ended at once"))?;
    Ok(Launched { first, sources })
}

/// A pseudo-terminal: our end, and the app's.
fn open_terminal() -> io::Result<(OwnedFd, OwnedFd)> {
    let ours = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    grantpt(&ours)?;
    unlockpt(&ours)?;
    let name = ptsname(&ours, Vec::new())?;
    let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC;
    let theirs = rustix::fs::open(name.as_c_str(), flags, Mode::empty())?;
    tcsetwinsize(&ours, SIZE)?;
    Ok((ours, theirs))
}

/// Becomes the app that `arguments` say, as `launch` wrote them: in a session of its own, with the
/// terminal that is standard input as its terminal. Comes back when that fails.
///
/// # Errors
/// Always: why it failed.
pub fn become_app(arguments: &[OsString]) -> io::Error {
    let (terminal, command) = match arguments {
        [flag, command] if flag == OsStr::new(TERMINAL) => (true, command),
        [command] => (false, command),
        _ => return io::Error::other("a command is wanted"),
    };
    if let Err(error) = rustix::process::setsid() {
        return error.into();
    }
    if terminal && let Err(error) = rustix::process::ioctl_tiocsctty(io::stdin().as_fd()) {
        return error.into();
    }
    Command::new("/bin/sh").arg("-c").arg(command).exec()
}
