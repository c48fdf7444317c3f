use std::io;
use std::net::SocketAddr;
use std::os::fd::{AsFd, OwnedFd};

use bentlane_api_types::SOCKET;
use bentlane_proxy::Listeners;
use bentlane_resolver::Sockets;
use bentlane_store::{DataDir, is_unwritable};
use tokio::net::{TcpListener, UnixListener};

use crate::api::serve::bind_socket;
use crate::config::{Listen, ListenAt};
use crate::error::{ServiceError, bind_error, io_error};
use crate::inherited::Inherited;
use crate::listening::Listening;

/// Every socket that the service listens on, bound but not yet served.
#[derive(Debug)]
pub(crate) struct BoundSockets {
    pub(crate) resolver: Sockets,
    pub(crate) proxy: Listeners,
    pub(crate) console: Vec<TcpListener>,
    /// `None` where the disk is full or read-only, so that there can be no socket for now.
    pub(crate) api: Option<UnixListener>,
}

/// The first address of `listen` that another program has, as the error that binding it would be.
#[must_use]
pub fn taken_port(listen: &Listen) -> Option<ServiceError> {
    let bind = |purpose, at: SocketAddr| {
        if purpose == "DNS" {
            std::net::UdpSocket::bind(at)?;
        }
        std::net::TcpListener::bind(at).map(drop)
    };
    listen.each().into_iter().find_map(|(purpose, flag, all)| {
        all.into_iter().find_map(|at| {
            let cause = bind(purpose, at).err()?;
            let taken = cause.kind() == io::ErrorKind::AddrInUse;
            taken.then(|| bind_error(purpose, flag, at, &cause))
        })
    })
}

impl BoundSockets {
    /// Takes what is `inherited` where that has an address of `listen`, and binds the rest.
    pub(crate) fn bind(
        listen: &Listen,
        inherited: &mut Inherited,
        data_dir: &DataDir,
    ) -> Result<Self, ServiceError> {
        let resolver = Sockets::bind(&addresses(&listen.dns), |at| inherited.dns(at))
            .map_err(|e| bind_error("DNS", "--dns", e.address, &e.source))?;
        let proxy = Listeners::plain(&addresses(&listen.http), |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTP", "--http", e.address, &e.source))?
            .and_tls(&addresses(&listen.https), |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTPS", "--https", e.address, &e.source))?;
        let console = bind_console(&addresses(&listen.console), inherited)?;
        let path = data_dir.path(SOCKET);
        let api = match inherited.unix(&path) {
            Some(socket) => from_std(socket),
            None => bind_socket(&path),
        };
        let api = match api {
            Err(cause) if is_unwritable(&cause) => None,
            api => Some(api.map_err(io_error("listen on the API's socket in the data folder"))?),
        };
        let proxy = proxy.and_own(inherited.rest());
        inherited.warn_of_unused();
        Ok(Self {
            resolver,
            proxy,
            console,
            api,
        })
    }

    /// Further handles to all of them: clients wait in them as long as there is one.
    pub(crate) fn handles(&self) -> io::Result<Vec<OwnedFd>> {
        let mut handles = Vec::new();
        for (udp, tcp) in self.resolver.handles()? {
            handles.extend([OwnedFd::from(udp), tcp.into()]);
        }
        handles.extend(self.proxy.handles()?.into_iter().map(OwnedFd::from));
        for listener in &self.console {
            handles.push(listener.as_fd().try_clone_to_owned()?);
        }
        if let Some(socket) = &self.api {
            handles.push(socket.as_fd().try_clone_to_owned()?);
        }
        Ok(handles)
    }

    /// Where they listen; the console has `label` in its name.
    pub(crate) fn listening(&self, label: String) -> io::Result<Listening> {
        let console = self.console.iter().map(TcpListener::local_addr);
        Ok(Listening {
            dns: self.resolver.addresses()?,
            http: self.proxy.plain_addresses()?,
            https: self.proxy.tls_addresses()?,
            console: console.collect::<Result<_, _>>()?,
            label,
        })
    }
}

fn from_std(socket: std::os::unix::net::UnixListener) -> io::Result<UnixListener> {
    socket.set_nonblocking(true)?;
    UnixListener::from_std(socket)
}

fn addresses(places: &[ListenAt]) -> Vec<SocketAddr> {
    places.iter().flat_map(|place| place.addresses()).collect()
}

fn bind_console(
    addresses: &[SocketAddr],
    inherited: &mut Inherited,
) -> Result<Vec<TcpListener>, ServiceError> {
    let mut bind = |address: &SocketAddr| {
        let listener = inherited.tcp(*address);
        let listener = listener.map_or_else(|| std::net::TcpListener::bind(address), Ok)?;
        listener.set_nonblocking(true)?;
        TcpListener::from_std(listener)
    };
    let mut listeners = Vec::with_capacity(addresses.len());
    for address in addresses {
        let listener = bind(address)
            .map_err(|source| bind_error("the console", "--console", *address, &source))?;
        listeners.push(listener);
    }
    Ok(listeners)
}
