use std::os::linux::net::SocketAddrExt;
use std::os::unix::net::{SocketAddr, UnixListener};
use std::sync::Mutex;

/// Ports below those that the kernel assigns to sockets that ask for any (ip_local_port_range), so that
/// no socket gets one by chance.
const FIRST: u16 = 12_000;
const LAST: u16 = 31_000;
/// The distance between two ports: a check of a route looks for its app on the ports close by.
const DISTANCE: usize = 32;

/// Locks of the ports that this process has reserved.
static RESERVED: Mutex<Vec<UnixListener>> = Mutex::new(Vec::new());

/// A port of loopback on which nothing listens. It is this process's until that ends: other tests do
/// not get it, nor one close to it.
///
/// # Panics
/// When no port is left.
#[must_use]
pub fn reserve_port() -> u16 {
    let mut reserved = RESERVED.lock().unwrap();
    let start = usize::try_from(std::process::id()).unwrap() * DISTANCE;
    let count = usize::from(LAST - FIRST);
    let candidates = (0..count / DISTANCE).map(|step| {
        let offset = (start + step * DISTANCE) % (count / DISTANCE * DISTANCE);
        FIRST + u16::try_from(offset).unwrap()
    });
    for port in candidates {
        // An abstract socket belongs to the network namespace, as ports do, and ends with the process.
        let name = SocketAddr::from_abstract_name(format!("bentlane-test-port-{port}")).unwrap();
        let Ok(lock) = UnixListener::bind_addr(&name) else {
            continue;
        };
        let is_free = std::net::TcpListener::bind(("127.0.0.1", port)).is_ok()
            && std::net::UdpSocket::bind(("127.0.0.1", port)).is_ok();
        if is_free {
            reserved.push(lock);
            return port;
        }
    }
    panic!("no port is left");
}
