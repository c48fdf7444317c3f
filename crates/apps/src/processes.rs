//! The processes of an app: which there are, where they listen, and how they are ended.
//!
//! A process is one of the app's when it is in the session that was made for it, descends from one that
//! is, or has the mark of the run in its environment, which children inherit. Signals are sent by pidfd,
//! once it is known whose process that is, so that none reaches a process that has got its number since.

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use procfs::process::{FDTarget, Process, Stat, all_processes};
use procfs::{Current, Uptime, ticks_per_second};
use rustix::fd::OwnedFd;
use rustix::process::{
    Pid, PidfdFlags, Signal, WaitId, WaitIdOptions, pidfd_open, pidfd_send_signal, waitid,
};
use time::OffsetDateTime;

use crate::listening::listening_sockets;

/// The variable that has the mark of the run.
pub(crate) const MARK: &str = "BENTLANE_RUN";
/// For how long a list of all processes is good enough.
const FRESH: Duration = Duration::from_millis(50);

/// A process: its number, and when it was started, in ticks since the system was.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) struct Seen {
    pub(crate) pid: i32,
    pub(crate) started: u64,
}

impl Seen {
    /// The process that has this number now.
    pub(crate) fn of(pid: i32) -> Option<Self> {
        let stat = Process::new(pid).ok()?.stat().ok()?;
        Some(Self {
            pid,
            started: stat.starttime,
        })
    }

    /// Something to wait for its end with, or to send it a signal; `None` when it is gone.
    pub(crate) fn open(self) -> Option<OwnedFd> {
        let pid = Pid::from_raw(self.pid)?;
        let fd = pidfd_open(pid, PidfdFlags::empty()).ok()?;
        // From here on the number cannot be another's without this being noticed.
        (Self::of(self.pid) == Some(self)).then_some(fd)
    }

    fn signal(self, signal: Signal) {
        if let Some(fd) = self.open() {
            // It may have ended in this moment.
            let _ = pidfd_send_signal(fd, signal);
        }
    }
}

/// The processes of one run of an app.
#[derive(Debug)]
pub(crate) struct Tree {
    /// The first one, which leads the session.
    pub(crate) first: Seen,
    mark: String,
    /// Those that were of the app when they were last looked at.
    known: HashSet<Seen>,
    /// Processes of others, whose environment was read.
    others: HashSet<Seen>,
}

impl Tree {
    pub(crate) fn new(first: Seen, mark: String) -> Self {
        Self {
            first,
            mark,
            known: HashSet::from([first]),
            others: HashSet::new(),
        }
    }

    /// Those that live. What ended and was given to us is reaped.
    pub(crate) fn living(&mut self) -> Vec<Seen> {
        let all = processes();
        let own = i32::try_from(std::process::id()).unwrap_or(0);
        let mut members: HashSet<i32> = HashSet::new();
        let by_pid: HashMap<i32, &Stat> = all.iter().map(|stat| (stat.pid, stat)).collect();
        let seen = |stat: &Stat| Seen {
            pid: stat.pid,
            started: stat.starttime,
        };
        for stat in all.iter() {
            if stat.session == self.first.pid || self.known.contains(&seen(stat)) {
                members.insert(stat.pid);
            }
        }
        // Children of members, and of their children.
        loop {
            let before = members.len();
            let new = all.iter().filter(|stat| members.contains(&stat.ppid));
            let new: Vec<i32> = new.map(|stat| stat.pid).collect();
            members.extend(new);
            if members.len() == before {
                break;
            }
        }
        for stat in all.iter() {
            let this = seen(stat);
            let may_be = stat.starttime >= self.first.started && stat.pid != own;
            if may_be && !members.contains(&stat.pid) && !self.others.contains(&this) {
                match has_mark(stat.pid, &self.mark) {
                    true => drop(members.insert(stat.pid)),
                    false => drop(self.others.insert(this)),
                }
            }
        }
        self.others.retain(|it| by_pid.contains_key(&it.pid));
        let members = members.iter().filter_map(|pid| by_pid.get(pid));
        let members: Vec<&&Stat> = members.filter(|stat| stat.pid != own).collect();
        self.known = members.iter().map(|stat| seen(stat)).collect();
        let mut living = Vec::new();
        for stat in members {
            match stat.state {
                'Z' if stat.pid != self.first.pid && stat.ppid == own => reap(stat.pid),
                'Z' | 'X' => {}
                _ => living.push(seen(stat)),
            }
        }
        living.sort();
        living
    }

    /// Sends `signal` to all that live; gives how many these are.
    pub(crate) fn signal(&mut self, signal: Signal) -> usize {
        forget_processes();
        let living = self.living();
        for member in &living {
            member.signal(signal);
        }
        living.len()
    }

    /// Where they listen.
    pub(crate) fn listeners(&mut self) -> Vec<SocketAddr> {
        let sockets = listening_sockets();
        let mut found: Vec<SocketAddr> = Vec::new();
        for member in self.living() {
            let Ok(fds) = Process::new(member.pid).and_then(|process| process.fd()) else {
                continue;
            };
            for fd in fds.flatten() {
                if let FDTarget::Socket(inode) = fd.target
                    && let Some(at) = sockets.get(&inode)
                {
                    found.push(*at);
                }
            }
        }
        found.sort();
        found.dedup();
        found
    }
}

/// Ends the waiting of the system for us to ask how a process ended that it gave to us.
fn reap(pid: i32) {
    if let Some(pid) = Pid::from_raw(pid) {
        // Another look may have reaped it.
        let _ = waitid(
            WaitId::Pid(pid),
            WaitIdOptions::EXITED | WaitIdOptions::NOHANG,
        );
    }
}

fn has_mark(pid: i32, mark: &str) -> bool {
    let environment = Process::new(pid).and_then(|process| process.environ());
    environment.is_ok_and(|all| all.get(OsStr::new(MARK)).is_some_and(|own| own == mark))
}

static PROCESSES: Mutex<Option<(Instant, Arc<Vec<Stat>>)>> = Mutex::new(None);

/// All processes of this machine; read once for apps that look at the same time.
fn processes() -> Arc<Vec<Stat>> {
    let mut cached = PROCESSES.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((at, all)) = &*cached
        && at.elapsed() < FRESH
    {
        return Arc::clone(all);
    }
    let all = all_processes().into_iter().flatten().flatten();
    let all: Vec<Stat> = all.filter_map(|process| process.stat().ok()).collect();
    let all = Arc::new(all);
    *cached = Some((Instant::now(), Arc::clone(&all)));
    all
}

/// Has the next look see every process of that moment.
pub(crate) fn forget_processes() {
    *PROCESSES.lock().unwrap_or_else(PoisonError::into_inner) = None;
}

/// Whether something listens on `port` at an address that a client of this machine reaches.
pub(crate) fn listens_on(port: u16) -> bool {
    listening_sockets().values().any(|at| at.port() == port)
}

/// When a process was started; `None` where the system does not say.
fn started(stat: &Stat) -> Option<OffsetDateTime> {
    let up = Uptime::current().ok()?.uptime_duration();
    let ticks = Duration::from_secs(stat.starttime) / u32::try_from(ticks_per_second()).ok()?;
    Some(OffsetDateTime::now_utc() - up.checked_sub(ticks)?)
}

/// The process that listens on `port`, in words, and when it was started; `None` when it is another
/// user's.
pub(crate) fn holder(port: u16) -> Option<(String, Option<OffsetDateTime>)> {
    let sockets = listening_sockets();
    for stat in processes().iter() {
        let Ok(fds) = Process::new(stat.pid).and_then(|process| process.fd()) else {
            continue;
        };
        let has_it = |target: &FDTarget| match target {
            FDTarget::Socket(inode) => sockets.get(inode).is_some_and(|at| at.port() == port),
            _ => false,
        };
        if fds.flatten().any(|fd| has_it(&fd.target)) {
            return Some((
                format!("{} (process {})", stat.comm, stat.pid),
                started(stat),
            ));
        }
    }
    None
}

/// Where a client of this machine reaches what listens at these, on one port.
pub(crate) fn reachable(listeners: &[SocketAddr], port: u16) -> Vec<SocketAddr> {
    let of_port = listeners.iter().filter(|at| at.port() == port);
    let mut at: Vec<IpAddr> = Vec::new();
    for listener in of_port {
        match listener.ip() {
            IpAddr::V4(ip) if ip.is_unspecified() => at.push(Ipv4Addr::LOCALHOST.into()),
            // It takes both families, as most systems have it.
            IpAddr::V6(ip) if ip.is_unspecified() => {
                at.extend([
                    Ipv4Addr::LOCALHOST.into(),
                    IpAddr::from(Ipv6Addr::LOCALHOST),
                ]);
            }
            ip => at.push(ip),
        }
    }
    at.sort();
    at.dedup();
    // Loopback first.
    at.sort_by_key(|ip| !ip.is_loopback());
    at.into_iter().map(|ip| (ip, port).into()).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&["0.0.0.0:20"], &["127.0.0.1:20"])]
    #[case(&["[::]:20"], &["127.0.0.1:20", "[::1]:20"])]
    #[case(&["[::1]:20", "0.0.0.0:21"], &["[::1]:20"])]
    #[case(&["0.0.0.0:20", "[::]:20"], &["127.0.0.1:20", "[::1]:20"])]
    #[case(&["192.0.2.1:20", "127.0.0.1:20"], &["127.0.0.1:20", "192.0.2.1:20"])]
    #[case(&["127.0.0.1:21"], &[])]
    fn listeners_are_reached_on_loopback(#[case] listeners: &[&str], #[case] at: &[&str]) {
        let parsed = |all: &[&str]| all.iter().map(|it| it.parse().unwrap()).collect::<Vec<_>>();
        assert_eq!(reachable(&parsed(listeners), 20), parsed(at));
    }

    #[test]
    fn a_process_is_known_by_its_number_and_start() {
        let own = Seen::of(i32::try_from(std::process::id()).unwrap()).unwrap();
        assert!(own.open().is_some());
        let former = Seen {
            started: own.started - 1,
            ..own
        };
        assert!(former.open().is_none(), "the number is another's now");
    }
}
