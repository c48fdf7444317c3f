use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::unix::net::{UnixDatagram, UnixListener};
use std::path::Path;

use bentlane_apps::{HandedOver, unpack};
use bentlane_store::Guard;
use listenfd::ListenFd;
use rustix::process::Pid;
use tracing::warn;

use crate::kept_console::KeptConsole;

/// The variable that says what a service that starts again leaves to itself: its process, and the
/// guard of the private database server, if there is one. The guard's socket is the last one then.
pub const HANDOVER_VARIABLE: &str = "BENTLANE_HANDOVER";

/// Sockets that were opened before us and passed on (sd_listen_fds(3)): that is how an ordinary
/// user gets to listen on ports below 1024, and how a service that starts again refuses no connection.
#[derive(Debug, Default)]
pub struct Inherited {
    udp: Vec<UdpSocket>,
    tcp: Vec<TcpListener>,
    unix: Vec<UnixListener>,
    guard: Option<Guard>,
    /// What has the apps that go on.
    apps: Option<UnixDatagram>,
    console: Option<KeptConsole>,
    is_restart: bool,
}

impl Inherited {
    /// Those that this process was started with. To be called once, before anything is started
    /// that would inherit them in turn.
    ///
    /// # Errors
    /// When one is no socket, or of another kind.
    pub fn take() -> io::Result<Self> {
        let mut passed = ListenFd::from_env();
        let mut inherited = Self::default();
        for index in 0..passed.len() {
            if let Ok(Some(socket)) = passed.take_tcp_listener(index) {
                inherited.tcp.push(socket);
            } else if let Ok(Some(socket)) = passed.take_udp_socket(index) {
                inherited.udp.push(socket);
            } else if let Ok(Some(socket)) = passed.take_unix_datagram(index) {
                match KeptConsole::unpack(&socket) {
                    Some(console) => inherited.console = Some(console),
                    None => inherited.apps = Some(socket),
                }
            } else if let Some(socket) = passed.take_unix_listener(index)? {
                inherited.unix.push(socket);
            }
        }
        let handover = std::env::var(HANDOVER_VARIABLE).unwrap_or_default();
        let mut numbers = handover.split(' ').map(str::parse);
        // Meant for this process, and not left over from one that started it.
        if numbers.next() == Some(Ok(std::process::id())) {
            inherited.is_restart = true;
            let guard = numbers.next().and_then(Result::ok);
            let guard = guard.and_then(|pid| Pid::from_raw(i32::try_from(pid).ok()?));
            inherited.guard =
                guard.and_then(|pid| Some(Guard::taken_over(pid, inherited.unix.pop()?.into())));
        }
        Ok(inherited)
    }

    /// Whether this process ran as a service already, and started again.
    pub(crate) fn is_restart(&self) -> bool {
        self.is_restart
    }

    /// The guard of the database server that this process has started before.
    pub(crate) fn guard(&mut self) -> Option<Guard> {
        self.guard.take()
    }

    /// The console that this process had before.
    pub(crate) fn console(&mut self) -> Option<KeptConsole> {
        self.console.take().filter(|_| self.is_restart)
    }

    /// The apps that this process ran before, and that go on.
    pub(crate) fn apps(&mut self) -> Vec<HandedOver> {
        let Some(socket) = self.apps.take().filter(|_| self.is_restart) else {
            return Vec::new();
        };
        unpack(&socket).unwrap_or_else(|error| {
            warn!(%error, "cannot go on with the apps that run");
            Vec::new()
        })
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

    /// The Unix socket that is bound at `path`.
    pub(crate) fn unix(&mut self, path: &Path) -> Option<UnixListener> {
        let is_there = |socket: &UnixListener| {
            let at = socket.local_addr();
            at.is_ok_and(|at| at.as_pathname() == Some(path))
        };
        let position = self.unix.iter().position(is_there)?;
        Some(self.unix.swap_remove(position))
    }

    /// The listeners that are left of a service that started again: those of names with their own
    /// addresses.
    pub(crate) fn rest(&mut self) -> Vec<TcpListener> {
        match self.is_restart {
            true => std::mem::take(&mut self.tcp),
            false => Vec::new(),
        }
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
        for address in self.unix.iter().map(UnixListener::local_addr) {
            warn!(
                ?address,
                "was passed a socket that is not used, and closes it"
            );
        }
    }
}
