//! Which processes and users have sockets, from the kernel's tables in `/proc` (proc(5)).

use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bentlane_checks::Holder;
use bentlane_traffic::is_secret_key;
use procfs::ProcResult;
use procfs::net::{TcpNetEntry, TcpState, UdpNetEntry, UdpState, tcp, tcp6, udp, udp6};
use procfs::process::{FDTarget, Process, all_processes};
use time::OffsetDateTime;

/// The most characters of a command line that are shown.
const LONGEST_LINE: usize = 200;
/// The unit of times in `/proc/PID/stat` (proc_pid_stat(5)): `USER_HZ`, which is 100 on the architectures of
/// today, whatever the kernel's own clock.
const TICKS_PER_SECOND: u64 = 100;
/// How long what an index has read is used again.
const READ_EVERY: Duration = Duration::from_secs(1);

/// The process that has `address`, or a wildcard address that includes it (`0.0.0.0`, `::`).
///
/// `None` when no process has it, when the process is another user's, or on systems without `/proc`.
#[must_use]
pub fn port_holder(address: SocketAddr) -> Option<Holder> {
    let inode = sockets()
        .find(|socket| socket.accepts_at(address) && socket.is_unconnected)?
        .inode;
    holders(&HashMap::from([(inode, address)])).remove(&address)
}

/// The unit of systemd's that a process belongs to, such as `example.service`; `None` when it was not
/// started as one, as from a terminal.
#[must_use]
pub fn unit_of(pid: u32) -> Option<String> {
    let groups = std::fs::read_to_string(format!("/proc/{pid}/cgroup")).ok()?;
    unit_in(&groups)
}

/// The innermost service in the lines of `/proc/PID/cgroup` (cgroups(7)). A user's own services are in
/// `user@UID.service`, which is none itself.
fn unit_in(groups: &str) -> Option<String> {
    let path = groups.lines().find_map(|line| line.strip_prefix("0::"))?;
    let mut units = path.rsplit('/').filter(|it| it.ends_with(".service"));
    let unit = units.next()?;
    (!unit.starts_with("user@")).then(|| unit.to_owned())
}

/// The user who has `address`, or a wildcard address that includes it. It is known for processes of
/// other users, too. `None` when no process has it, or on systems without `/proc`.
#[must_use]
pub fn port_owner(address: SocketAddr) -> Option<u32> {
    let mut sockets = sockets();
    let found = sockets.find(|socket| socket.accepts_at(address) && socket.is_unconnected);
    found.map(|socket| socket.uid)
}

/// The processes that have the sockets with these local addresses, as far as they can be found.
#[must_use]
pub fn socket_holders(addresses: &HashSet<SocketAddr>) -> HashMap<SocketAddr, Holder> {
    if addresses.is_empty() {
        return HashMap::new();
    }
    let mut wanted = HashMap::new();
    for socket in sockets() {
        if let Some(address) = addresses
            .iter()
            .find(|address| socket.accepts_at(**address))
        {
            wanted.insert(socket.inode, *address);
            if wanted.len() == addresses.len() {
                break;
            }
        }
    }
    holders(&wanted)
}

/// The process that has the standard port of HTTPS, where the listeners `https` do not.
#[must_use]
pub fn other_on_443(https: &[SocketAddr]) -> Option<Holder> {
    const HTTPS: u16 = 443;
    if https.iter().any(|at| at.port() == HTTPS) {
        return None;
    }
    port_holder(SocketAddr::new(https.first()?.ip(), HTTPS))
}

/// Every TCP socket that listens, with its process; those of other users are left out.
#[must_use]
pub fn listeners() -> HashMap<SocketAddr, Holder> {
    Arc::unwrap_or_clone(ListenerIndex::default().listeners(Instant::now()))
}

/// The TCP sockets that listen, with their processes. It is read at most once a second, and the
/// process of a socket, which takes a look at every open file of the machine, is looked up once.
#[derive(Debug, Default)]
pub(crate) struct ListenerIndex {
    read_at: Option<Instant>,
    listeners: Arc<HashMap<SocketAddr, Holder>>,
    /// The same with the processes of other users, which are not known.
    sockets: Arc<Vec<ListeningSocket>>,
    /// By the socket's inode; `None` for one of another user.
    known: HashMap<u64, Option<Holder>>,
}

/// A TCP socket that listens.
#[derive(Clone, Debug)]
pub(crate) struct ListeningSocket {
    pub(crate) at: SocketAddr,
    /// The user whose it is.
    pub(crate) uid: u32,
    /// The process, when it is one of this user's, or root asks.
    pub(crate) holder: Option<Holder>,
}

impl ListenerIndex {
    /// The listeners, as they were a second ago or less.
    pub(crate) fn listeners(&mut self, now: Instant) -> Arc<HashMap<SocketAddr, Holder>> {
        self.refresh(now);
        Arc::clone(&self.listeners)
    }

    /// The sockets that listen, as they were a second ago or less.
    pub(crate) fn sockets(&mut self, now: Instant) -> Arc<Vec<ListeningSocket>> {
        self.refresh(now);
        Arc::clone(&self.sockets)
    }

    fn refresh(&mut self, now: Instant) {
        let is_recent = |at: Instant| now.saturating_duration_since(at) < READ_EVERY;
        if !self.read_at.is_some_and(is_recent) {
            self.read();
            self.read_at = Some(now);
        }
    }

    fn read(&mut self) {
        let listening = tcp_sockets().filter(|socket| socket.is_unconnected);
        let listening: Vec<Socket> = listening.collect();
        let sockets: HashMap<u64, SocketAddr> = listening
            .iter()
            .map(|socket| (socket.inode, socket.local))
            .collect();
        let lives = |holder: &Holder| pid(holder).and_then(|pid| Process::new(pid).ok()).is_some();
        self.known.retain(|inode, holder| {
            sockets.contains_key(inode) && holder.as_ref().is_none_or(lives)
        });
        let new: HashMap<u64, SocketAddr> = sockets
            .iter()
            .filter(|(inode, _)| !self.known.contains_key(inode))
            .map(|(inode, at)| (*inode, *at))
            .collect();
        let mut found = holders(&new);
        for (inode, at) in new {
            self.known.insert(inode, found.remove(&at));
        }
        let sockets = listening.into_iter().map(|socket| ListeningSocket {
            at: socket.local,
            uid: socket.uid,
            holder: self.known.get(&socket.inode).cloned().flatten(),
        });
        let sockets: Vec<ListeningSocket> = sockets.collect();
        let held = sockets.iter();
        let held = held.filter_map(|socket| Some((socket.at, socket.holder.clone()?)));
        self.listeners = Arc::new(held.collect());
        self.sockets = Arc::new(sockets);
    }
}

fn pid(holder: &Holder) -> Option<i32> {
    holder.pid.try_into().ok()
}

/// The user at the other end of a TCP connection within this machine, which came from `theirs` to
/// `ours`.
///
/// `None` when that is another machine or network namespace, or the other end is closed already, whose
/// user the kernel no longer knows.
#[must_use]
pub fn peer_uid(ours: SocketAddr, theirs: SocketAddr) -> Option<u32> {
    let plain = |at: SocketAddr| SocketAddr::new(at.ip().to_canonical(), at.port());
    let (ours, theirs) = (plain(ours), plain(theirs));
    let is_theirs = |socket: &Socket| {
        let ends = (socket.local, socket.remote) == (theirs, ours);
        // A socket without an inode was closed by its owner, and is listed as root's.
        ends && socket.is_established && socket.inode != 0
    };
    tcp_sockets().find(is_theirs).map(|socket| socket.uid)
}

/// A socket in the kernel's tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Socket {
    local: SocketAddr,
    remote: SocketAddr,
    uid: u32,
    inode: u64,
    is_established: bool,
    /// Whether it listens, or is a datagram socket without a peer.
    is_unconnected: bool,
}

impl Socket {
    /// Whether it has this address, or is bound to a wildcard address that includes it.
    fn accepts_at(&self, address: SocketAddr) -> bool {
        stands_for(self.local, address)
    }
}

/// Whether a socket with the address `own` accepts at `address`: with the same, or with a wildcard
/// address, which on most systems includes both families.
pub(crate) fn stands_for(own: SocketAddr, address: SocketAddr) -> bool {
    let ip = own.ip();
    own.port() == address.port() && (ip == address.ip() || ip.is_unspecified())
}

fn plain(at: SocketAddr) -> SocketAddr {
    SocketAddr::new(at.ip().to_canonical(), at.port())
}

impl From<TcpNetEntry> for Socket {
    fn from(entry: TcpNetEntry) -> Self {
        Self {
            local: plain(entry.local_address),
            remote: plain(entry.remote_address),
            uid: entry.uid,
            inode: entry.inode,
            is_established: entry.state == TcpState::Established,
            is_unconnected: entry.state == TcpState::Listen,
        }
    }
}

impl From<UdpNetEntry> for Socket {
    fn from(entry: UdpNetEntry) -> Self {
        Self {
            local: plain(entry.local_address),
            remote: plain(entry.remote_address),
            uid: entry.uid,
            inode: entry.inode,
            is_established: entry.state == UdpState::Established,
            is_unconnected: entry.state == UdpState::Close,
        }
    }
}

/// All sockets: first those of datagrams, which may be gone soon.
fn sockets() -> impl Iterator<Item = Socket> {
    let read: [fn() -> ProcResult<Vec<UdpNetEntry>>; 2] = [udp, udp6];
    let entries = read.into_iter().flat_map(|read| read().unwrap_or_default());
    entries.map(Socket::from).chain(tcp_sockets())
}

fn tcp_sockets() -> impl Iterator<Item = Socket> {
    let read: [fn() -> ProcResult<Vec<TcpNetEntry>>; 2] = [tcp, tcp6];
    let entries = read.into_iter().flat_map(|read| read().unwrap_or_default());
    entries.map(Socket::from)
}

/// The processes that have these sockets open. The newest are looked at first: one that has just asked
/// something has often just started, and may be gone soon.
fn holders(wanted: &HashMap<u64, SocketAddr>) -> HashMap<SocketAddr, Holder> {
    let mut found = HashMap::new();
    if wanted.is_empty() {
        return found;
    }
    let mut processes: Vec<Process> = all_processes().into_iter().flatten().flatten().collect();
    processes.sort_unstable_by_key(|process| std::cmp::Reverse(process.pid));
    for process in processes {
        if found.len() == wanted.len() {
            break;
        }
        for inode in open_sockets(&process) {
            if let Some(address) = wanted.get(&inode)
                && let Ok(process) = Process::new(process.pid)
                && let Some(holder) = describe(&oldest_holder(process, inode))
            {
                found.insert(*address, holder);
            }
        }
    }
    found
}

/// The inodes of the sockets that a process has open; none when it is another user's.
fn open_sockets(process: &Process) -> impl Iterator<Item = u64> {
    let files = process.fd().into_iter().flatten().flatten();
    files.filter_map(|file| match file.target {
        FDTarget::Socket(inode) => Some(inode),
        _ => None,
    })
}

/// The first of a process and its ancestors that had the socket: a child has its parent's until it
/// runs another program, and workers of one server share one.
fn oldest_holder(process: Process, inode: u64) -> Process {
    let parent = |process: &Process| Process::new(process.stat().ok()?.ppid).ok();
    let mut oldest = process;
    while let Some(parent) = parent(&oldest)
        && open_sockets(&parent).any(|it| it == inode)
    {
        oldest = parent;
    }
    oldest
}

/// The description of a process; `None` when it has ended.
fn describe(process: &Process) -> Option<Holder> {
    let words = process.cmdline().unwrap_or_default();
    let words: Vec<&str> = words.iter().map(|word| word.trim()).collect();
    let words: Vec<&str> = words.into_iter().filter(|word| !word.is_empty()).collect();
    Some(Holder {
        pid: process.pid.try_into().ok()?,
        command: process.stat().ok()?.comm,
        line: without_secrets(&words).chars().take(LONGEST_LINE).collect(),
        folder: process.cwd().ok().map(|path| path.display().to_string()),
        started: started(process),
    })
}

/// Whether the process still runs: that one, and not another with its number.
#[must_use]
pub fn runs(holder: &Holder) -> bool {
    let process = pid(holder).and_then(|pid| Process::new(pid).ok());
    let now = process.and_then(|process| describe(&process));
    now.is_some_and(|now| now.is_same_process(holder))
}

/// When a process was started, to the second.
fn started(process: &Process) -> Option<OffsetDateTime> {
    let since_boot = process.stat().ok()?.starttime / TICKS_PER_SECOND;
    let seconds = i64::try_from(boot_time()?.checked_add(since_boot)?).ok()?;
    OffsetDateTime::from_unix_timestamp(seconds).ok()
}

/// When the machine was started, in seconds since 1970, as it was first read: it moves with the clock.
fn boot_time() -> Option<u64> {
    static BOOTED: OnceLock<Option<u64>> = OnceLock::new();
    *BOOTED.get_or_init(|| {
        let stat = std::fs::read_to_string("/proc/stat").ok()?;
        let line = stat.lines().find_map(|line| line.strip_prefix("btime "))?;
        line.trim().parse().ok()
    })
}

/// The words of a command line, without the values of options and variables whose names are those of
/// secrets.
fn without_secrets(words: &[&str]) -> String {
    let mut hidden = false;
    let shown = words.iter().map(|word| match word.split_once('=') {
        _ if std::mem::take(&mut hidden) => "…".to_owned(),
        Some((name, _)) if is_secret_key(name) => format!("{name}=…"),
        Some(_) => (*word).to_owned(),
        None => {
            hidden = word.starts_with('-') && is_secret_key(word);
            (*word).to_owned()
        }
    });
    shown.collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    #[rstest::rstest]
    #[case("0::/system.slice/example.service\n", Some("example.service"))]
    #[case(
        "1:name=systemd:/a\n0::/system.slice/example.service/sub\n",
        Some("example.service")
    )]
    #[case("0::/user.slice/user-1000.slice/session-2.scope\n", None)]
    #[case(
        "0::/user.slice/user-1000.slice/user@1000.service/app.slice/app.scope\n",
        None
    )]
    #[case(
        "0::/user.slice/user@1000.service/app.slice/hut.service\n",
        Some("hut.service")
    )]
    #[case("", None)]
    fn units_are_found(#[case] groups: &str, #[case] unit: Option<&str>) {
        assert_eq!(unit_in(groups).as_deref(), unit);
    }

    use std::net::TcpListener;

    use rstest::rstest;

    use super::*;

    #[test]
    fn an_index_follows_sockets_that_come_and_go() {
        let mut index = ListenerIndex::default();
        let listen = || TcpListener::bind("127.0.0.1:0").unwrap();
        let (first, second) = (listen(), listen());
        let at = |listener: &TcpListener| listener.local_addr().unwrap();
        let now = Instant::now();
        let before = index.listeners(now);
        assert_eq!(before[&at(&first)].pid, std::process::id());
        let (gone, third) = (at(&second), listen());
        drop(second);
        let stale = index.listeners(now + READ_EVERY / 2);
        assert_eq!(stale, before, "it is read once a second");
        let after = index.listeners(now + READ_EVERY);
        assert_eq!(after.get(&gone), None);
        assert_eq!(after[&at(&third)], before[&at(&first)]);
        assert_eq!(after[&at(&first)], before[&at(&first)]);
    }

    #[test]
    fn our_own_connection_is_ours() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let ours = listener.local_addr().unwrap();
        let connected = std::net::TcpStream::connect(ours).unwrap();
        let theirs = connected.local_addr().unwrap();
        let own = rustix::process::geteuid().as_raw();
        assert_eq!(peer_uid(ours, theirs), Some(own));
        drop(connected);
        assert_eq!(peer_uid(ours, theirs), None);
    }

    #[rstest]
    #[case("node server.js --port 4310", "node server.js --port 4310")]
    #[case("run --password hunter2 --x", "run --password … --x")]
    #[case(
        "run --api-token=abc DB_PASSWORD=x y=z",
        "run --api-token=… DB_PASSWORD=… y=z"
    )]
    #[case("run --key", "run --key")]
    #[case("run --csrf-seed x --otp 1", "run --csrf-seed … --otp …")]
    fn secrets_are_not_shown(#[case] line: &str, #[case] shown: &str) {
        let words: Vec<&str> = line.split(' ').collect();
        assert_eq!(without_secrets(&words), shown);
    }

    #[test]
    fn the_process_behind_a_query_is_found() {
        let asking = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
        asking.connect("127.0.0.1:9").unwrap();
        let address = asking.local_addr().unwrap();
        let gone = "127.0.0.1:1".parse().unwrap();
        let found = socket_holders(&HashSet::from([address, gone]));
        assert_eq!(found[&address].pid, std::process::id());
        assert_eq!(found.len(), 1);
    }

    #[test]
    fn a_socket_shared_with_a_child_belongs_to_the_parent() {
        let asking = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
        let shared = std::os::fd::OwnedFd::from(asking.try_clone().unwrap());
        let mut child = std::process::Command::new("sleep")
            .arg("20")
            .stdin(shared)
            .spawn()
            .unwrap();
        let address = asking.local_addr().unwrap();
        let found = socket_holders(&HashSet::from([address]));
        assert_eq!(found[&address].pid, std::process::id());
        child.kill().unwrap();
        child.wait().unwrap();
    }

    #[test]
    fn our_own_listener_is_found() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let holder = port_holder(listener.local_addr().unwrap()).unwrap();
        assert_eq!(holder.pid, std::process::id());
    }
}
