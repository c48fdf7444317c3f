//! The TCP sockets that listen, as the system's socket diagnostics report them (sock_diag(7)).
//!
//! The files in /proc say the same, but go through the whole table of connections for it, which takes
//! tens of milliseconds on machines with much memory.

use std::collections::BTreeMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use procfs::net::{TcpNetEntry, TcpState};
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, netlink, recv, send, socket_with,
};

/// The type of a request and of each answer (linux/sock_diag.h), and of the end of a dump and an error
/// (linux/netlink.h).
const BY_FAMILY: u16 = 20;
const DONE: u16 = 3;
const ERROR: u16 = 2;
/// A request for everything: NLM_F_REQUEST and NLM_F_DUMP.
const DUMP: u16 = 0x301;
/// Bytes of the header of a message, of a request and of an answer (linux/inet_diag.h).
const HEADER: usize = 16;
const REQUEST: usize = 56;
const ANSWER: usize = 72;
const TCP: u8 = 6;
/// The states that are asked for: TCP_LISTEN alone.
const LISTEN: u32 = 1 << 10;
const BUFFER: usize = 64 * 1024;

/// The TCP sockets that listen, by their inodes.
pub(crate) fn listening_sockets() -> BTreeMap<u64, SocketAddr> {
    asked().unwrap_or_else(|_| read())
}

fn asked() -> io::Result<BTreeMap<u64, SocketAddr>> {
    let mut found = BTreeMap::new();
    for family in [AddressFamily::INET, AddressFamily::INET6] {
        let socket = socket_with(
            AddressFamily::NETLINK,
            SocketType::RAW,
            SocketFlags::CLOEXEC,
            Some(netlink::SOCK_DIAG),
        )?;
        let family = u8::try_from(family.as_raw()).map_err(io::Error::other)?;
        send(&socket, &request(family), SendFlags::empty())?;
        let mut buffer = vec![0; BUFFER];
        loop {
            let (count, _) = recv(&socket, &mut buffer, RecvFlags::empty())?;
            if take_in(&buffer[..count.min(BUFFER)], &mut found)? {
                break;
            }
        }
    }
    Ok(found)
}

fn request(family: u8) -> Vec<u8> {
    let mut message = Vec::with_capacity(HEADER + REQUEST);
    let length = u32::try_from(HEADER + REQUEST).unwrap_or_default();
    message.extend_from_slice(&length.to_ne_bytes());
    message.extend_from_slice(&BY_FAMILY.to_ne_bytes());
    message.extend_from_slice(&DUMP.to_ne_bytes());
    message.extend_from_slice(&[0; 8]);
    message.extend_from_slice(&[family, TCP, 0, 0]);
    message.extend_from_slice(&LISTEN.to_ne_bytes());
    message.resize(HEADER + REQUEST, 0);
    message
}

/// Reads the messages of one datagram; gives whether the last one was among them.
fn take_in(mut octets: &[u8], found: &mut BTreeMap<u64, SocketAddr>) -> io::Result<bool> {
    let cut = || io::Error::other("a message of the socket diagnostics is cut off");
    while octets.len() >= HEADER {
        let length = u32::from_ne_bytes(field(octets, 0).ok_or_else(cut)?);
        let kind = u16::from_ne_bytes(field(octets, 4).ok_or_else(cut)?);
        let length = usize::try_from(length).map_err(io::Error::other)?;
        let message = octets.get(HEADER..length).ok_or_else(cut)?;
        match kind {
            DONE => return Ok(true),
            ERROR => return Err(io::Error::other("the socket diagnostics refuse")),
            BY_FAMILY if message.len() >= ANSWER => {
                let (inode, at) = socket_of(message).ok_or_else(cut)?;
                found.insert(inode, at);
            }
            _ => {}
        }
        // Each begins at a multiple of four.
        octets = octets.get(length.next_multiple_of(4)..).unwrap_or_default();
    }
    Ok(false)
}

/// The inode and address of an answer.
fn socket_of(message: &[u8]) -> Option<(u64, SocketAddr)> {
    let is_v4 = i32::from(*message.first()?) == i32::from(AddressFamily::INET.as_raw());
    let port = u16::from_be_bytes(field(message, 4)?);
    let ip: IpAddr = match is_v4 {
        true => Ipv4Addr::from(field::<4>(message, 8)?).into(),
        false => Ipv6Addr::from(field::<16>(message, 8)?).into(),
    };
    let inode = u32::from_ne_bytes(field(message, 68)?);
    Some((inode.into(), (ip, port).into()))
}

fn field<const N: usize>(octets: &[u8], at: usize) -> Option<[u8; N]> {
    octets.get(at..at + N)?.try_into().ok()
}

/// The same by the files in /proc, where the diagnostics are not available.
fn read() -> BTreeMap<u64, SocketAddr> {
    let all = [procfs::net::tcp(), procfs::net::tcp6()];
    let listens = |entry: &TcpNetEntry| entry.state == TcpState::Listen;
    let all = all.into_iter().flatten().flatten().filter(listens);
    all.map(|entry| (entry.inode, entry.local_address))
        .collect()
}

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use super::*;

    #[test]
    fn both_ways_know_the_same_listeners() {
        let listeners =
            ["127.0.0.1:0", "[::1]:0", "127.64.0.7:0"].map(|at| TcpListener::bind(at).unwrap());
        let (asked, read) = (asked().unwrap(), read());
        for listener in listeners {
            let at = listener.local_addr().unwrap();
            let of = |all: &BTreeMap<u64, SocketAddr>| {
                all.iter()
                    .find(|(_, it)| **it == at)
                    .map(|(inode, _)| *inode)
            };
            assert!(of(&asked).is_some(), "{at}");
            assert_eq!(of(&asked), of(&read), "{at}");
        }
    }

    #[test]
    fn what_is_cut_off_is_refused() {
        let mut found = BTreeMap::new();
        let mut message = request(2);
        assert!(
            !take_in(&message, &mut found).unwrap(),
            "too short for a socket"
        );
        message.truncate(40);
        assert!(take_in(&message, &mut found).is_err());
        assert!(!take_in(&[], &mut found).unwrap());
        assert!(found.is_empty());
    }
}
