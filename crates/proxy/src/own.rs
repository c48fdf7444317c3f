use std::collections::{HashMap, HashSet};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::time::interval;
use tokio_util::sync::DropGuard;
use tracing::{info, warn};

use crate::server::Serving;

/// How often an address that could not be had is tried again.
const TRY_AGAIN: Duration = Duration::from_secs(2);

/// Listeners on the loopback addresses that names have for their own, which come and go with the
/// routes.
#[derive(Debug)]
pub(crate) struct OwnListeners {
    inner: Mutex<Inner>,
}

#[derive(Debug)]
struct Inner {
    wanted: HashSet<Ipv4Addr>,
    /// What accepts there, for as long as its guard is kept.
    held: HashMap<Ipv4Addr, DropGuard>,
    /// Addresses whose failure has been told.
    failed: HashSet<Ipv4Addr>,
    place: Option<Place>,
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
    pub(crate) fn new(wanted: HashSet<Ipv4Addr>) -> Self {
        Self {
            inner: Mutex::new(Inner {
                wanted,
                held: HashMap::new(),
                failed: HashSet::new(),
                place: None,
            }),
        }
    }

    /// From now on these are listened on, and no others. When this returns they are, unless another
    /// program has their ports.
    pub(crate) fn want(&self, addresses: HashSet<Ipv4Addr>) {
        let mut inner = self.inner();
        if inner.wanted != addresses {
            inner.wanted = addresses;
            inner.settle();
        }
    }

    /// Listens beside listeners at `plain` and `tls`, on their ports, until the proxy stops.
    pub(crate) async fn keep(&self, serving: &Serving, plain: &[SocketAddr], tls: &[SocketAddr]) {
        self.inner().place = Some(Place {
            serving: serving.clone(),
            plain_port: plain.first().map(SocketAddr::port),
            tls_port: tls.first().map(SocketAddr::port),
            everybodys: plain.iter().chain(tls).map(SocketAddr::ip).collect(),
        });
        let mut turns = interval(TRY_AGAIN);
        loop {
            tokio::select! {
                () = serving.shutdown.cancelled() => break,
                _ = turns.tick() => self.inner().settle(),
            }
        }
        let mut inner = self.inner();
        inner.place = None;
        inner.held.clear();
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    /// Lets go of what is no longer wanted, and takes what is.
    fn settle(&mut self) {
        let Some(place) = &self.place else {
            return;
        };
        self.held.retain(|ip, _| self.wanted.contains(ip));
        self.failed.retain(|ip| self.wanted.contains(ip));
        for ip in &self.wanted {
            if self.held.contains_key(ip) || place.covers(*ip) {
                continue;
            }
            match place.listen(*ip) {
                Ok(guard) => {
                    self.held.insert(*ip, guard);
                    if self.failed.remove(ip) {
                        info!(%ip, "listening on a name's own address now");
                    }
                }
                Err(cause) if self.failed.insert(*ip) => {
                    warn!(%ip, %cause, "cannot listen on a name's own address; trying again");
                }
                Err(_) => {}
            }
        }
    }
}

impl Place {
    fn covers(&self, ip: Ipv4Addr) -> bool {
        let everybodys = |at: &IpAddr| *at == ip || *at == Ipv4Addr::UNSPECIFIED;
        self.everybodys.iter().any(everybodys)
    }

    fn listen(&self, ip: Ipv4Addr) -> io::Result<DropGuard> {
        let end = self.serving.shutdown.child_token();
        let guard = end.clone().drop_guard();
        let bind = |port| {
            let listener = TcpListener::bind((ip, port))?;
            listener.set_nonblocking(true).map(|()| listener)
        };
        let (plain, tls) = (
            self.plain_port.map(bind).transpose()?,
            self.tls_port.map(bind).transpose()?,
        );
        if let Some(listener) = plain {
            self.serving.listen_plain(listener, end.clone())?;
        }
        if let Some(listener) = tls {
            self.serving.listen_tls(listener, end)?;
        }
        Ok(guard)
    }
}
