use std::fmt;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::Path;

/// A process that has a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Its id.
    pub pid: u32,
    /// Its command's name.
    pub command: String,
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} (process {})", self.command, self.pid)
    }
}

/// Which process has `address`, or an address that stands for it (`0.0.0.0`, `::`).
///
/// `None` when nobody has, when the process is another user's, or on systems without `/proc`.
#[must_use]
pub fn port_holder(address: SocketAddr) -> Option<Holder> {
    let tables = ["tcp", "tcp6", "udp", "udp6"];
    let inode = tables.iter().find_map(|table| {
        let table = fs::read_to_string(Path::new("/proc/net").join(table)).ok()?;
        table
            .lines()
            .skip(1)
            .find_map(|line| inode_of(line, address))
    })?;
    let wanted = format!("socket:[{inode}]");
    fs::read_dir("/proc").ok()?.flatten().find_map(|entry| {
        let pid: u32 = entry.file_name().to_str()?.parse().ok()?;
        let files = fs::read_dir(entry.path().join("fd")).ok()?;
        files
            .flatten()
            .any(|file| {
                fs::read_link(file.path()).is_ok_and(|link| link.to_str() == Some(&*wanted))
            })
            .then(|| {
                let command = fs::read_to_string(entry.path().join("comm")).unwrap_or_default();
                Holder {
                    pid,
                    command: command.trim().to_owned(),
                }
            })
    })
}

/// The inode of a line of `/proc/net/{tcp,udp}*` whose local address stands for `wanted`, when the
/// socket listens (state 0A) or is an unconnected datagram socket (state 07).
fn inode_of(line: &str, wanted: SocketAddr) -> Option<u64> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let (local, state, inode) = (fields.get(1)?, fields.get(3)?, fields.get(9)?);
    if !matches!(*state, "0A" | "07") {
        return None;
    }
    let (ip, port) = local.split_once(':')?;
    let ip = ip_from_hex(ip)?;
    let stands_for = ip == wanted.ip() || ip.is_unspecified();
    (stands_for && u16::from_str_radix(port, 16).ok()? == wanted.port())
        .then(|| inode.parse().ok())
        .flatten()
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
    const SIX: &str = "0: 00000000000000000000000001000000:1CBF 0:0 0A 0:0 00:0 0 0 0 9 1";

    #[rstest]
    #[case(LINE, "127.0.0.1:7359", Some(4242))]
    #[case(LINE, "127.0.0.1:7358", None)]
    #[case(LINE, "127.0.0.2:7359", None)]
    #[case(ANY, "127.0.0.1:7359", Some(77))]
    #[case(BUSY, "127.0.0.1:7359", None)]
    #[case(SIX, "[::1]:7359", Some(9))]
    #[case("", "127.0.0.1:7359", None)]
    #[case("a b c d e f g h i j", "127.0.0.1:7359", None)]
    fn kernel_tables(#[case] line: &str, #[case] address: &str, #[case] inode: Option<u64>) {
        assert_eq!(inode_of(line, address.parse().unwrap()), inode);
    }

    #[test]
    fn our_own_listener_is_found() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let holder = port_holder(listener.local_addr().unwrap()).unwrap();
        assert_eq!(holder.pid, std::process::id());
    }
}
