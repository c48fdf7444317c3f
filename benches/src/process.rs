use std::fs;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// CPU time that a process has taken so far, over all its threads that live.
///
/// From `schedstat`, which counts nanoseconds; `stat` counts in hundredths of a second.
pub(crate) fn cpu_time(pid: u32) -> Duration {
    thread_time(pid, "")
}

/// The same over those threads alone whose names start with `name`.
pub(crate) fn thread_time(pid: u32, name: &str) -> Duration {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).unwrap();
    let folders = tasks.filter_map(|task| Some(task.ok()?.path()));
    let named = folders.filter(|folder| {
        let found = fs::read_to_string(folder.join("comm"));
        found.is_ok_and(|found| found.starts_with(name))
    });
    let nanoseconds = named
        .filter_map(|folder| fs::read_to_string(folder.join("schedstat")).ok())
        .map(|text| {
            let first = text.split_whitespace().next().unwrap();
            first.parse::<u64>().unwrap()
        })
        .sum();
    Duration::from_nanos(nanoseconds)
}

/// How often the threads of a process went to sleep so far, and were woken again.
pub(crate) fn wake_ups(pid: u32) -> f64 {
    let tasks = fs::read_dir(format!("/proc/{pid}/task")).unwrap();
    let count = |task: fs::DirEntry| {
        let status = fs::read_to_string(task.path().join("status")).ok()?;
        let line = status
            .lines()
            .find(|line| line.starts_with("voluntary_ctxt_switches"))?;
        line.split_whitespace().nth(1)?.parse::<f64>().ok()
    };
    tasks.flatten().filter_map(count).sum()
}

/// Resident memory of a process in KiB.
pub(crate) fn resident_kib(pid: u32) -> u64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:"));
    line.unwrap()
        .split_whitespace()
        .nth(1)
        .unwrap()
        .parse()
        .unwrap()
}

/// A bare server: this binary under another subcommand. It ends when it is dropped.
#[derive(Debug)]
pub(crate) struct Server {
    child: Child,
    address: SocketAddr,
}

impl Server {
    /// Starts one and waits until it has printed where it listens.
    pub(crate) fn start(args: &[&str]) -> Self {
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(args)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap())
            .read_line(&mut line)
            .unwrap();
        Self {
            child,
            address: line.trim().parse().unwrap(),
        }
    }

    pub(crate) fn address(&self) -> SocketAddr {
        self.address
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
