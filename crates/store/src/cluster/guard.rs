//! The process that runs the database server, and ends it when the service ends in whatever way.

use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::process::{Command, Stdio};

use rustix::process::{Pid, Signal, WaitOptions, kill_process, kill_process_group, waitpid};

/// Runs the server `$1` for the folder `$2`, with the log `$3`. Its standard input is a socket of the
/// service's that nothing is written to: once that is closed, also by the kernel after a SIGKILL, the
/// server is told to stop. A parent-death signal would not do, since it is sent at the end of the
/// thread that started the process.
pub(super) const SCRIPT: &str = r#"
umask 077
exec 3<&0 </dev/null
nice -n 10 "$1" -D "$2" >>"$3" 2>&1 3<&- &
server=$!
trap '' HUP INT QUIT TERM
{ read -r _ <&3; kill -s INT "$server"; } &
watcher=$!
exec 3<&-
wait "$server"
status=$?
kill -s KILL "$watcher"
exit "$status"
"#;

/// A running guard. Dropping it ends the server, without waiting for that.
#[derive(Debug)]
pub struct Guard {
    process: Pid,
    /// Closed to stop the server.
    socket: Option<OwnedFd>,
    has_ended: bool,
}

impl Guard {
    /// Starts the guard by this command.
    pub(super) fn start(command: &mut Command) -> io::Result<Self> {
        let (socket, theirs) = UnixStream::pair()?;
        let process = command.stdin(Stdio::from(OwnedFd::from(theirs))).spawn()?;
        let process = i32::try_from(process.id()).ok().and_then(Pid::from_raw);
        Ok(Self::taken_over(
            process.ok_or(io::ErrorKind::InvalidData)?,
            socket.into(),
        ))
    }

    /// The guard that this process started before it executed itself again: its number, and what
    /// [`Guard::hand_over`] gave.
    #[must_use]
    pub fn taken_over(process: Pid, socket: OwnedFd) -> Self {
        Self {
            process,
            socket: Some(socket),
            has_ended: false,
        }
    }

    /// What the process needs to take it over once it has executed itself again: its number, and the
    /// socket to its standard input. `None` when it is about to stop.
    #[must_use]
    pub fn hand_over(mut self) -> Option<(Pid, OwnedFd)> {
        Some((self.process, self.socket.take()?))
    }

    /// Has the server stop; clients are disconnected and nothing is lost.
    pub(super) fn stop(&mut self) {
        self.socket = None;
    }

    /// Kills the guard and the server, which is in its process group, also when its folder is gone.
    pub(super) fn kill(&self) {
        // It fails for one that has just ended.
        let _ = kill_process_group(self.process, Signal::KILL);
    }

    /// Whether the server has ended.
    pub(super) fn has_ended(&mut self) -> bool {
        // Once it is reaped, its number may be another's.
        let still_runs = || matches!(waitpid(Some(self.process), WaitOptions::NOHANG), Ok(None));
        self.has_ended = self.has_ended || !still_runs();
        self.has_ended
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        self.stop();
        // Reaped if it has ended; otherwise it is after us.
        self.has_ended();
    }
}

/// Whether `pid` is a process of the database server that works in `folder`, as each of them does in the
/// folder of its data. This is what makes it ours: its number may be another process's by now, and its
/// name any server's. A shell may work there, too.
pub(super) fn is_of_server(pid: u32, folder: &Path) -> bool {
    let of = |path: &Path| fs::metadata(path).map(|it| (it.dev(), it.ino())).ok();
    let place = of(Path::new(&format!("/proc/{pid}/cwd")));
    let name = fs::read_to_string(format!("/proc/{pid}/comm"));
    place.is_some() && place == of(folder) && name.is_ok_and(|name| name.trim_end() == "postgres")
}

/// Sends `signal` to the process `pid`, if it is one of the server in `folder`.
pub(super) fn signal(pid: u32, folder: &Path, signal: Signal) {
    let process = i32::try_from(pid).ok().and_then(Pid::from_raw);
    if let Some(process) = process
        && is_of_server(pid, folder)
    {
        // It fails for one that has just ended.
        let _ = kill_process(process, signal);
    }
}

/// Kills every process of the server in `folder`, also of one that is stopped (SIGSTOP).
pub(super) fn kill_all(folder: &Path) {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok());
    for pid in pids {
        signal(pid, folder, Signal::KILL);
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn a_process_is_known_by_the_folder_that_it_works_in() {
        let outer = tempfile::tempdir().unwrap();
        let folder = outer.path().join("data");
        fs::create_dir(&folder).unwrap();
        let program = outer.path().join("postgres");
        symlink("/bin/sleep", &program).unwrap();
        let start = |program: &Path| {
            let mut command = Command::new(program);
            command.arg("60").current_dir(&folder).spawn().unwrap()
        };
        let (mut server, mut shell) = (start(&program), start(Path::new("sleep")));
        let (pid, other) = (server.id(), shell.id());
        assert!(is_of_server(pid, &folder));
        assert!(!is_of_server(pid, Path::new("/")));
        assert!(!is_of_server(other, &folder), "it only works there");
        signal(pid, Path::new("/"), Signal::KILL);
        assert!(is_of_server(pid, &folder), "it is not of that folder");
        kill_all(&folder);
        server.wait().unwrap();
        assert!(!is_of_server(pid, &folder));
        assert!(shell.try_wait().unwrap().is_none());
        shell.kill().unwrap();
        shell.wait().unwrap();
    }
}
