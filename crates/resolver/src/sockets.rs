use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};

use rustix::net::sockopt::set_socket_recv_buffer_size;
use tracing::debug;

use crate::filter::drop_garbage;

/// How often to look for a port that is free for both transports when any port will do.
const PORT_TRIES: usize = 16;

/// Bytes of queries that wait in the system, so that a burst of garbage does not displace them.
const RECEIVE_BUFFER: usize = 4 * 1024 * 1024;

/// The bound sockets of a resolver that does not serve yet.
#[derive(Debug)]
pub struct Sockets {
    pub(crate) pairs: Vec<(UdpSocket, TcpListener)>,
}

/// An address that could not be bound.
#[derive(Debug, thiserror::Error)]
#[error("cannot listen for DNS on {address}")]
pub struct BindError {
    /// The address.
    pub address: SocketAddr,
    /// The system's reason.
    pub source: io::Error,
}

impl Sockets {
    /// Takes what `inherited` has for each address, and binds UDP and TCP where it has nothing.
    /// Port 0 finds one that is free for both.
    ///
    /// # Errors
    /// The first address that cannot be bound.
    pub fn bind(
        addresses: &[SocketAddr],
        mut inherited: impl FnMut(SocketAddr) -> Option<(UdpSocket, TcpListener)>,
    ) -> Result<Self, BindError> {
        let pairs = addresses
            .iter()
            .map(|address| {
                let pair = inherited(*address).map_or_else(|| bind_pair(*address), Ok);
                if let Ok((udp, _)) = &pair {
                    // The system takes as much of it as it allows; without, it is as it was.
                    let _ = set_socket_recv_buffer_size(udp, RECEIVE_BUFFER);
                    if let Err(cause) = drop_garbage(udp) {
                        debug!(%cause, "garbage waits with the queries");
                    }
                }
                pair.and_then(|(udp, tcp)| tcp.set_nonblocking(true).map(|()| (udp, tcp)))
                    .map_err(|source| BindError {
                        address: *address,
                        source,
                    })
            })
            .collect::<Result<_, _>>()?;
        Ok(Self { pairs })
    }

    /// Further handles to the sockets: queries and connections wait in them as long as there is one.
    ///
    /// # Errors
    /// When the system has no descriptor left.
    pub fn handles(&self) -> io::Result<Vec<(UdpSocket, TcpListener)>> {
        let both = |(udp, tcp): &(UdpSocket, TcpListener)| Ok((udp.try_clone()?, tcp.try_clone()?));
        self.pairs.iter().map(both).collect()
    }

    /// Where the sockets listen, with the ports that were found.
    ///
    /// # Errors
    /// When the system call fails.
    pub fn addresses(&self) -> io::Result<Vec<SocketAddr>> {
        self.pairs.iter().map(|(udp, _)| udp.local_addr()).collect()
    }
}

fn bind_pair(address: SocketAddr) -> io::Result<(UdpSocket, TcpListener)> {
    let tries = if address.port() == 0 { PORT_TRIES } else { 1 };
    let mut outcome = try_pair(address);
    for _ in 1..tries {
        if outcome.is_ok() {
            break;
        }
        outcome = try_pair(address);
    }
    outcome
}

fn try_pair(address: SocketAddr) -> io::Result<(UdpSocket, TcpListener)> {
    let udp = UdpSocket::bind(address)?;
    let tcp = TcpListener::bind(udp.local_addr()?)?;
    Ok((udp, tcp))
}
