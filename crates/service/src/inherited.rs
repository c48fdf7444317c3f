use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};

use listenfd::ListenFd;
use rustix::io::{FdFlags, fcntl_setfd};
use tracing::warn;

/// Sockets that were opened before us and passed on (sd_listen_fds(3)): that is how an ordinary
/// user gets to listen on ports below 1024.
#[derive(Debug, Default)]
pub struct Inherited {
    udp: Vec<UdpSocket>,
    tcp: Vec<TcpListener>,
}

impl Inherited {
    /// Those that this process was started with. To be called once, before anything is started
    /// that would inherit them in turn.
    ///
    /// # Errors
    /// When one is neither a UDP socket nor a TCP listener.
    pub fn take() -> io::Result<Self> {
        let mut passed = ListenFd::from_env();
        let mut inherited = Self::default();
        for index in 0..passed.len() {
            match passed.take_tcp_listener(index) {
                Ok(Some(socket)) => {
                    fcntl_setfd(&socket, FdFlags::CLOEXEC)?;
                    inherited.tcp.push(socket);
                }
                Ok(None) => {}
                Err(_) => {
                    if let Some(socket) = passed.take_udp_socket(index)? {
                        fcntl_setfd(&socket, FdFlags::CLOEXEC)?;
                        inherited.udp.push(socket);
                    }
                }
            }
        }
        Ok(inherited)
    }

    /// The listener at exactly `address`.
    pub(crate) fn tcp(&mut self, address: SocketAddr) -> Option<TcpListener> {
        let is_there = |socket: &TcpListener| socket.local_addr().is_ok_and(|at| at == address);
        let position = self.tcp.iter().position(is_there)?;
        Some(self.tcp.swap_remove(position))
    }

    /// The sockets for DNS at exactly `address`.
    pub(crate) fn dns(&mut self, address: SocketAddr) -> Option<(UdpSocket, TcpListener)> {
        let is_there = |socket: &UdpSocket| socket.local_addr().is_ok_and(|at| at == address);
        let position = self.udp.iter().position(is_there)?;
        let tcp = self.tcp(address)?;
        Some((self.udp.swap_remove(position), tcp))
    }

    /// Warns of sockets that no listener uses: connections to them would never be answered.
    pub(crate) fn warn_of_unused(&self) {
        let udp = self.udp.iter().map(UdpSocket::local_addr);
        for address in udp.chain(self.tcp.iter().map(TcpListener::local_addr)) {
            warn!(
                ?address,
                "was passed a socket that no listener is set for, and closes it"
            );
        }
    }
}
