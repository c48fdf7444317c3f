use std::collections::{HashMap, HashSet};
use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::Path;

use bentlane_checks::Holder;

/// What is in the names of options whose values are nobody's business.
const SECRETS: [&str; 6] = ["pass", "secret", "token", "key", "auth", "credential"];
/// Characters of the line that started a process that are kept.
const LONGEST_LINE: usize = 200;

/// Which process has `address`, or an address that stands for it (`0.0.0.0`, `::`).
///
/// `None` when nobody has, when the process is another user's, or on systems without `/proc`.
#[must_use]
pub fn port_holder(address: SocketAddr) -> Option<Holder> {
    let stands_for = |socket: &Socket| {
        let ip = socket.local.ip();
        socket.awaits_others()
            && socket.local.port() == address.port()
            && (ip == address.ip() || ip.is_unspecified())
    };
    let inode = sockets().find(stands_for)?.inode;
    holders(&HashMap::from([(inode, address)])).remove(&address)
}

/// Which user has `address`, or an address that stands for it: of other users' processes nothing
/// more can be seen. `None` when nobody has, or on systems without `/proc`.
#[must_use]
pub fn port_owner(address: SocketAddr) -> Option<u32> {
    ["tcp", "tcp6", "udp", "udp6"].into_iter().find_map(|name| {
        let table = fs::read_to_string(Path::new("/proc/net").join(name)).unwrap_or_default();
        table.lines().skip(1).find_map(|line| {
            let socket = socket(line).filter(|it| it.awaits_others())?;
            let ip = socket.local.ip();
            let stands_for = ip == address.ip() || ip.is_unspecified();
            let uid = line.split_whitespace().nth(7);
            (stands_for && socket.local.port() == address.port()).then(|| uid?.parse().ok())?
        })
    })
}

/// Which processes have the sockets with these local addresses; those that cannot be told are left
/// out.
#[must_use]
pub fn socket_holders(addresses: &HashSet<SocketAddr>) -> HashMap<SocketAddr, Holder> {
    if addresses.is_empty() {
        return HashMap::new();
    }
    let mut wanted = HashMap::new();
    for socket in sockets() {
        // One that was not bound to an address has the one that it is spoken to at.
        let ip = socket.local.ip();
        let is_his = |address: &&SocketAddr| {
            address.port() == socket.local.port() && (ip == address.ip() || ip.is_unspecified())
        };
        if let Some(address) = addresses.iter().find(is_his) {
            wanted.insert(socket.inode, *address);
            if wanted.len() == addresses.len() {
                break;
            }
        }
    }
    holders(&wanted)
}

/// Who has the standard port of HTTPS, where the listeners `https` do not.
#[must_use]
pub fn other_on_443(https: &[SocketAddr]) -> Option<Holder> {
    const HTTPS: u16 = 443;
    if https.iter().any(|at| at.port() == HTTPS) {
        return None;
    }
    port_holder(SocketAddr::new(https.first()?.ip(), HTTPS))
}

/// Every TCP socket that listens, with who has it; those of other users are left out.
#[must_use]
pub fn listeners() -> HashMap<SocketAddr, Holder> {
    ListenerIndex::default().refresh()
}

/// The TCP sockets that listen, with who has them. To find the process of a socket costs a look at
/// every open file of the machine, so each socket is looked for once.
#[derive(Debug, Default)]
pub(crate) struct ListenerIndex {
    /// By the socket's inode; `None` for one of another user.
    known: HashMap<u64, Option<Holder>>,
}

impl ListenerIndex {
    /// Reads the kernel's table again, and looks for the processes of sockets that are new.
    pub(crate) fn refresh(&mut self) -> HashMap<SocketAddr, Holder> {
        let listening = ["tcp", "tcp6"].into_iter().flat_map(table);
        let listening = listening.filter(|socket| socket.awaits_others());
        let sockets: HashMap<u64, SocketAddr> = listening
            .map(|socket| (socket.inode, socket.local))
            .collect();
        let lives = |holder: &Holder| Path::new("/proc").join(holder.pid.to_string()).exists();
        self.known.retain(|inode, holder| {
            sockets.contains_key(inode) && holder.as_ref().is_none_or(lives)
        });
        let new: HashMap<u64, SocketAddr> = sockets
            .iter()
            .filter(|(inode, _)| !self.known.contains_key(inode))
            .map(|(inode, at)| (*inode, *at))
            .collect();
        let mut found = match new.is_empty() {
            true => HashMap::new(),
            false => holders(&new),
        };
        for (inode, at) in new {
            self.known.insert(inode, found.remove(&at));
        }
        let held = sockets.into_iter().filter_map(|(inode, at)| {
            let holder = self.known.get(&inode)?.clone()?;
            Some((at, holder))
        });
        held.collect()
    }
}

/// The user at the other end of a TCP connection within this machine, which came from `theirs` to
/// `ours`.
///
/// `None` when that is another machine or network namespace, or the other end is closed already:
/// the kernel has forgotten then whose it was.
#[must_use]
pub fn peer_uid(ours: SocketAddr, theirs: SocketAddr) -> Option<u32> {
    let plain = |at: SocketAddr| SocketAddr::new(at.ip().to_canonical(), at.port());
    let (ours, theirs) = (plain(ours), plain(theirs));
    ["tcp", "tcp6"].into_iter().find_map(|name| {
        let table = fs::read_to_string(Path::new("/proc/net").join(name)).unwrap_or_default();
        table
            .lines()
            .skip(1)
            .find_map(|line| connected_uid(line, ours, theirs))
    })
}

/// The user of a socket at `local` that is connected to `remote`, if this is its line.
fn connected_uid(line: &str, remote: SocketAddr, local: SocketAddr) -> Option<u32> {
    const ESTABLISHED: u8 = 0x01;
    let socket = socket(line)?;
    if socket.local != local || socket.state != ESTABLISHED || socket.inode == 0 {
        return None;
    }
    let fields: Vec<&str> = line.split_whitespace().collect();
    (address(fields.get(2)?)? == remote).then(|| fields.get(7)?.parse().ok())?
}

/// What can be told of a process.
fn described(pid: u32) -> Holder {
    let read = |file: &str| fs::read(format!("/proc/{pid}/{file}")).unwrap_or_default();
    let text = |octets: &[u8]| String::from_utf8_lossy(octets).trim().to_owned();
    let line: Vec<String> = read("cmdline")
        .split(|octet| *octet == 0)
        .map(text)
        .filter(|word| !word.is_empty())
        .collect();
    let folder = fs::read_link(format!("/proc/{pid}/cwd")).ok();
    Holder {
        pid,
        command: text(&read("comm")),
        line: without_secrets(&line).chars().take(LONGEST_LINE).collect(),
        folder: folder.map(|path| path.display().to_string()),
    }
}

/// The words of a command line, without what seems to be secret: the value of an option, or of a
/// variable, whose name says so.
fn without_secrets(words: &[String]) -> String {
    let tells = |name: &str| {
        let name = name.to_ascii_lowercase();
        SECRETS.iter().any(|word| name.contains(word))
    };
    let mut hidden = false;
    let shown = words.iter().map(|word| match word.split_once('=') {
        _ if std::mem::take(&mut hidden) => "…".to_owned(),
        Some((name, _)) if tells(name) => format!("{name}=…"),
        Some(_) => word.clone(),
        None => {
            hidden = word.starts_with('-') && tells(word);
            word.clone()
        }
    });
    shown.collect::<Vec<_>>().join(" ")
}

/// A socket in the kernel's tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Socket {
    local: SocketAddr,
    state: u8,
    inode: u64,
}

impl Socket {
    /// Whether it listens, or is a datagram socket that is not connected.
    fn awaits_others(self) -> bool {
        const LISTENING: u8 = 0x0a;
        const UNCONNECTED: u8 = 0x07;
        matches!(self.state, LISTENING | UNCONNECTED)
    }
}

fn sockets() -> impl Iterator<Item = Socket> {
    // Short-lived ones first: those of datagrams.
    ["udp", "udp6", "tcp", "tcp6"].into_iter().flat_map(table)
}

fn table(name: &str) -> Vec<Socket> {
    let table = fs::read_to_string(Path::new("/proc/net").join(name)).unwrap_or_default();
    table.lines().skip(1).filter_map(socket).collect()
}

/// The processes that have these sockets open. The newest are looked at first: who has just asked
/// something has often just started, and will soon be gone.
fn holders(wanted: &HashMap<u64, SocketAddr>) -> HashMap<SocketAddr, Holder> {
    let mut found = HashMap::new();
    let Ok(entries) = fs::read_dir("/proc") else {
        return found;
    };
    let pid = |name: &std::ffi::OsStr| name.to_str()?.parse::<u32>().ok();
    let mut pids: Vec<u32> = entries
        .flatten()
        .filter_map(|entry| pid(&entry.file_name()))
        .collect();
    pids.sort_unstable_by(|a, b| b.cmp(a));
    for pid in pids {
        if found.len() == wanted.len() {
            break;
        }
        let place = format!("/proc/{pid}");
        let Ok(files) = fs::read_dir(format!("{place}/fd")) else {
            continue;
        };
        for file in files.flatten() {
            let inode = fs::read_link(file.path())
                .ok()
                .and_then(|link| inode(&link));
            let Some(inode) = inode else {
                continue;
            };
            if let Some(address) = wanted.get(&inode) {
                found.insert(*address, described(eldest(pid, inode)));
            }
        }
    }
    found
}

/// Whoever among a process and its ancestors has had the socket first: a child has its parent's until
/// it runs a program of its own, and workers of one server share one.
fn eldest(pid: u32, inode: u64) -> u32 {
    let holds = |pid: u32| {
        let files = fs::read_dir(format!("/proc/{pid}/fd"));
        let mut files = files.into_iter().flatten().flatten();
        files.any(|file| {
            fs::read_link(file.path()).is_ok_and(|link| self::inode(&link) == Some(inode))
        })
    };
    let mut eldest = pid;
    while let Some(parent) = parent(eldest).filter(|parent| holds(*parent)) {
        eldest = parent;
    }
    eldest
}

/// The parent of a process (proc(5), the fourth field of `stat`; the name before may hold anything).
fn parent(pid: u32) -> Option<u32> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let behind = stat.rsplit_once(')')?.1;
    behind.split_whitespace().nth(1)?.parse().ok()
}

/// The inode in the name that the kernel gives an open socket: `socket:[4242]`.
fn inode(link: &Path) -> Option<u64> {
    let number = link.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?;
    number.parse().ok()
}

/// A line of `/proc/net/{tcp,udp}*`.
fn socket(line: &str) -> Option<Socket> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let (local, state, inode) = (fields.get(1)?, fields.get(3)?, fields.get(9)?);
    Some(Socket {
        local: address(local)?,
        state: u8::from_str_radix(state, 16).ok()?,
        inode: inode.parse().ok()?,
    })
}

/// An address and a port as the kernel writes them.
fn address(text: &str) -> Option<SocketAddr> {
    let (ip, port) = text.split_once(':')?;
    let ip = ip_from_hex(ip)?.to_canonical();
    Some((ip, u16::from_str_radix(port, 16).ok()?).into())
}

/// The kernel writes addresses as words of 32 bits in the machine's order.
fn ip_from_hex(hex: &str) -> Option<IpAddr> {
    let words: Vec<[u8; 4]> = hex
        .as_bytes()
        .chunks(8)
        .map(|word| {
            let word = std::str::from_utf8(word).ok()?;
            Some(u32::from_str_radix(word, 16).ok()?.to_ne_bytes())
        })
        .collect::<Option<_>>()?;
    match words.as_slice() {
        [word] => Some(Ipv4Addr::from(*word).into()),
        [_, _, _, _] => Some(Ipv6Addr::from(<[u8; 16]>::try_from(words.concat()).ok()?).into()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use rstest::rstest;

    use super::*;

    const LINE: &str =
        "0: 0100007F:1CBF 00000000:0000 0A 00000000:00000000 00:00000000 00000000 0 0 4242 1";
    const ANY: &str =
        "0: 00000000:1CBF 00000000:0000 0A 00000000:00000000 00:00000000 00000000 0 0 77 1";
    const BUSY: &str =
        "0: 0100007F:1CBF 0100007F:9999 01 00000000:00000000 00:00000000 00000000 0 0 8 1";
    const MAPPED: &str = "0: 0000000000000000FFFF00000100007F:1CBF 0:0 01 0:0 00:0 0 0 0 10 1";
    const SIX: &str = "0: 00000000000000000000000001000000:1CBF 0:0 0A 0:0 00:0 0 0 0 9 1";

    #[rstest]
    #[case(LINE, Some(("127.0.0.1:7359", true, 4242)))]
    #[case(ANY, Some(("0.0.0.0:7359", true, 77)))]
    #[case(BUSY, Some(("127.0.0.1:7359", false, 8)))]
    #[case(SIX, Some(("[::1]:7359", true, 9)))]
    #[case(MAPPED, Some(("127.0.0.1:7359", false, 10)))]
    #[case("", None)]
    #[case("a b c d e f g h i j", None)]
    fn kernel_tables(#[case] line: &str, #[case] wanted: Option<(&str, bool, u64)>) {
        let found = socket(line);
        let found = found.map(|it| (it.local, it.awaits_others(), it.inode));
        let wanted = wanted.map(|(at, awaits, inode)| (at.parse().unwrap(), awaits, inode));
        assert_eq!(found, wanted);
    }

    #[test]
    fn an_index_follows_sockets_that_come_and_go() {
        let mut index = ListenerIndex::default();
        let listen = || TcpListener::bind("127.0.0.1:0").unwrap();
        let (first, second) = (listen(), listen());
        let at = |listener: &TcpListener| listener.local_addr().unwrap();
        let before = index.refresh();
        assert_eq!(before[&at(&first)].pid, std::process::id());
        let (gone, third) = (at(&second), listen());
        drop(second);
        let after = index.refresh();
        assert_eq!(after.get(&gone), None);
        assert_eq!(after[&at(&third)], before[&at(&first)]);
        assert_eq!(after[&at(&first)], before[&at(&first)]);
    }

    #[rstest]
    #[case("01", "1000", "4242", Some(1000))]
    #[case("01", "0", "4242", Some(0))]
    // Closed by its owner: the kernel says 0, whoever it was.
    #[case("01", "0", "0", None)]
    #[case("06", "0", "0", None)]
    #[case("08", "1000", "4242", None)]
    fn whose_a_connection_is(
        #[case] state: &str,
        #[case] uid: &str,
        #[case] inode: &str,
        #[case] wanted: Option<u32>,
    ) {
        let line = format!("0: 0100007F:9C40 0100007F:1CBF {state} 0:0 00:0 0 {uid} 0 {inode} 1");
        let (ours, theirs) = ("127.0.0.1:7359", "127.0.0.1:40000");
        let (ours, theirs) = (ours.parse().unwrap(), theirs.parse().unwrap());
        assert_eq!(connected_uid(&line, ours, theirs), wanted);
        assert_eq!(
            connected_uid(&line, theirs, ours),
            None,
            "the other end's line"
        );
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
    fn secrets_are_not_shown(#[case] line: &str, #[case] shown: &str) {
        let words: Vec<String> = line.split(' ').map(str::to_owned).collect();
        assert_eq!(without_secrets(&words), shown);
    }

    #[test]
    fn who_asked_is_found() {
        let asking = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
        asking.connect("127.0.0.1:9").unwrap();
        let address = asking.local_addr().unwrap();
        let gone = "127.0.0.1:1".parse().unwrap();
        let found = socket_holders(&HashSet::from([address, gone]));
        assert_eq!(found[&address].pid, std::process::id());
        assert_eq!(found.len(), 1);
    }

    #[test]
    fn a_socket_that_a_child_has_too_is_its_parents() {
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
