use std::collections::{HashMap, HashSet};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::time::interval;
use tokio_util::sync::{CancellationToken, DropGuard};
use tracing::{info, warn};

use super::Serving;
use crate::listener::open;
use crate::routing_table::RoutingTable;

/// How often an address that could not be had is tried again.
const TRY_AGAIN: Duration = Duration::from_secs(2);

/// The names with their own loopback addresses, to listen on.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct OwnAddresses {
    /// Addresses for HTTP, on the ports of the listeners for everybody: of names, and this machine's on open
    /// networks of containers.
    pub(crate) http: HashSet<Ipv4Addr>,
    /// Places for HTTP on ports of their own.
    pub(crate) http_ports: HashSet<(Ipv4Addr, u16)>,
    /// Places for raw TCP.
    pub(crate) raw: HashSet<(Ipv4Addr, u16)>,
}

impl OwnAddresses {
    pub(crate) fn of(table: &RoutingTable) -> Self {
        Self {
            http: {
                let gateways = table.snapshot.bridges().iter().map(|it| it.gateway);
                table.snapshot.own_listeners().chain(gateways).collect()
            },
            http_ports: table.snapshot.http_ports().collect(),
            raw: table.raw_places().collect(),
        }
    }
}

/// Listeners on the loopback addresses that names have for their own, which come and go with the
/// routes.
#[derive(Debug)]
pub(crate) struct OwnListeners {
    inner: Mutex<Inner>,
}

#[derive(Debug)]
struct Inner {
    wanted: OwnAddresses,
    /// What accepts there, for as long as its guard is kept.
    held: HashMap<(Ipv4Addr, u16), Held>,
    /// Addresses whose failure has been logged.
    failed: HashSet<(Ipv4Addr, u16)>,
    place: Option<Place>,
    /// Listeners that were passed on by the process before, until they are wanted or not.
    passed_on: Vec<TcpListener>,
}

#[derive(Debug)]
struct Held {
    what: What,
    /// Another handle to what is listened on, to be passed on.
    listener: TcpListener,
    _guard: DropGuard,
}

/// What is spoken at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    Plain,
    Tls,
    /// Plain HTTP and TLS, for the routes of this port alone.
    Port,
    Raw,
}

/// How an address is listened on.
#[derive(Debug)]
struct Place {
    serving: Serving,
    plain_port: Option<u16>,
    tls_port: Option<u16>,
    /// Where the proxy listens anyway.
    everybodys: Vec<IpAddr>,
}

impl OwnListeners {
    pub(crate) fn new(wanted: OwnAddresses) -> Self {
        Self {
            inner: Mutex::new(Inner {
                wanted,
                held: HashMap::new(),
                failed: HashSet::new(),
                place: None,
                passed_on: Vec::new(),
            }),
        }
    }

    /// From now on this is listened for, and nothing else. When this returns it is, unless another
    /// program has a port.
    pub(crate) fn want(&self, wanted: OwnAddresses) {
        let mut inner = self.inner();
        if inner.wanted != wanted {
            inner.wanted = wanted;
            inner.settle();
        }
    }

    /// Listens beside listeners at `plain` and `tls`, on their ports, from now on. Those that were
    /// `passed_on` are used where they have a wanted address, and closed otherwise.
    pub(crate) fn serve_with(
        &self,
        serving: &Serving,
        plain: &[SocketAddr],
        tls: &[SocketAddr],
        passed_on: Vec<TcpListener>,
    ) {
        let mut inner = self.inner();
        inner.passed_on = passed_on;
        inner.place = Some(Place {
            serving: serving.clone(),
            plain_port: plain.first().map(SocketAddr::port),
            tls_port: tls.first().map(SocketAddr::port),
            everybodys: plain.iter().chain(tls).map(SocketAddr::ip).collect(),
        });
        inner.settle();
        inner.passed_on.clear();
    }

    /// Tries the addresses again that could not be had, until the service stops.
    pub(crate) async fn keep(&self, shutdown: &CancellationToken) {
        let mut turns = interval(TRY_AGAIN);
        loop {
            tokio::select! {
                () = shutdown.cancelled() => return,
                _ = turns.tick() => self.inner().settle(),
            }
        }
    }

    /// Listens no more; gives the listeners.
    pub(crate) fn close(&self) -> Vec<TcpListener> {
        let mut inner = self.inner();
        inner.place = None;
        let held = inner.held.drain();
        held.map(|(_, held)| held.listener).collect()
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    /// Closes listeners that are no longer needed, and opens new ones.
    fn settle(&mut self) {
        let Some(place) = &self.place else {
            return;
        };
        let wanted = place.wanted(&self.wanted);
        let unwanted = |at: &_, held: &mut Held| wanted.get(at) != Some(&held.what);
        for (at, held) in self.held.extract_if(unwanted) {
            // Where something else is spoken from now on, clients that wait are not refused.
            if wanted.contains_key(&at) {
                self.passed_on.push(held.listener);
            }
        }
        self.failed.retain(|at| wanted.contains_key(at));
        for (at @ (ip, port), what) in wanted {
            if self.held.contains_key(&at) {
                continue;
            }
            let is_there = |it: &TcpListener| it.local_addr().ok() == Some((ip, port).into());
            let passed_on = self.passed_on.iter().position(is_there);
            let passed_on = passed_on.map(|place| self.passed_on.swap_remove(place));
            match place.listen(ip, port, what, passed_on) {
                Ok(held) => {
                    self.held.insert(at, held);
                    if self.failed.remove(&at) {
                        info!(%ip, port, "listening on a name's own address now");
                    }
                }
                Err(cause) if self.failed.insert(at) => {
                    warn!(%ip, port, %cause, "cannot listen on a name's own address; trying again");
                }
                Err(_) => {}
            }
        }
    }
}

impl Place {
    /// Every place to listen at. A route for raw TCP goes before HTTP on the same port.
    fn wanted(&self, wanted: &OwnAddresses) -> HashMap<(Ipv4Addr, u16), What> {
        let mut places = HashMap::new();
        for ip in wanted.http.iter().filter(|ip| !self.covers(**ip)) {
            let ports = [(self.plain_port, What::Plain), (self.tls_port, What::Tls)];
            for (port, what) in ports {
                places.extend(port.map(|port| ((*ip, port), what)));
            }
        }
        for at in &wanted.http_ports {
            // Where everybody's routes are served on the same port, these are served beside them.
            places.entry(*at).or_insert(What::Port);
        }
        places.extend(wanted.raw.iter().map(|at| (*at, What::Raw)));
        places
    }

    fn covers(&self, ip: Ipv4Addr) -> bool {
        let everybodys = |at: &IpAddr| *at == ip || *at == Ipv4Addr::UNSPECIFIED;
        self.everybodys.iter().any(everybodys)
    }

    fn listen(
        &self,
        ip: Ipv4Addr,
        port: u16,
        what: What,
        passed_on: Option<TcpListener>,
    ) -> io::Result<Held> {
        let end = self.serving.supervisor.shutdown().child_token();
        let guard = end.clone().drop_guard();
        let listener = open(SocketAddr::from((ip, port)), passed_on)?;
        let held = Held {
            what,
            listener: listener.try_clone()?,
            _guard: guard,
        };
        match what {
            What::Plain => self.serving.listen_plain(listener, end)?,
            What::Tls => self.serving.listen_tls(listener, end)?,
            What::Port => self.serving.listen_port(listener, port, end)?,
            What::Raw => self.serving.listen_raw(listener, end)?,
        }
        Ok(held)
    }
}
