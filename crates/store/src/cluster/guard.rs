//! The process that runs the database server, and ends it when the service ends in whatever way.

use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Child, ChildStdin, ExitStatus};

use rustix::process::{Pid, Signal, kill_process};

/// Runs the server `$1` for the folder `$2`, with the log `$3`. Its standard input is a pipe from the
/// service that nothing is written to: once that is closed, also by the kernel after a SIGKILL, the
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
pub(super) struct Guard {
    process: Child,
    /// Closed to stop the server.
    pipe: Option<ChildStdin>,
}

impl Guard {
    pub(super) fn new(mut process: Child) -> Self {
        let pipe = process.stdin.take();
        Self { process, pipe }
    }

    /// Has the server stop; clients are disconnected and nothing is lost.
    pub(super) fn stop(&mut self) {
        self.pipe = None;
    }

    /// How the server ended; `None` while it runs.
    pub(super) fn ended(&mut self) -> Option<ExitStatus> {
        self.process.try_wait().ok().flatten()
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        self.stop();
        // Reaped if it has ended; otherwise it is after us.
        let _ = self.process.try_wait();
    }
}

/// Whether `pid` works in `folder`, as each process of a database server does in that of its data. This
/// is what makes it ours: its number may be another process's by now, and its name any server's.
pub(super) fn works_in(pid: u32, folder: &Path) -> bool {
    let of = |path: &Path| fs::metadata(path).map(|it| (it.dev(), it.ino())).ok();
    let place = of(Path::new(&format!("/proc/{pid}/cwd")));
    place.is_some() && place == of(folder)
}

/// Sends `signal` to the server `pid`, if it works in `folder`.
pub(super) fn signal(pid: u32, folder: &Path, signal: Signal) {
    let process = i32::try_from(pid).ok().and_then(Pid::from_raw);
    if let Some(process) = process
        && works_in(pid, folder)
    {
        // It fails for one that has just ended.
        let _ = kill_process(process, signal);
    }
}

/// Kills every process that works in `folder`: also those of a server that is stopped (SIGSTOP).
pub(super) fn kill_all(folder: &Path) {
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok());
    for pid in pids {
        signal(pid, folder, Signal::KILL);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_known_by_the_folder_that_it_works_in() {
        let folder = tempfile::tempdir().unwrap();
        let mut process = std::process::Command::new("sleep")
            .arg("60")
            .current_dir(folder.path())
            .spawn()
            .unwrap();
        let pid = process.id();
        assert!(works_in(pid, folder.path()));
        assert!(!works_in(pid, Path::new("/")));
        assert!(!works_in(std::process::id(), folder.path()));
        signal(pid, Path::new("/"), Signal::KILL);
        assert!(works_in(pid, folder.path()), "it is not of that folder");
        kill_all(folder.path());
        process.wait().unwrap();
        assert!(!works_in(pid, folder.path()));
    }
}
