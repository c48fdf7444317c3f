use std::io;
use std::net::{SocketAddr, TcpListener as StdListener, TcpStream as StdStream};
use std::sync::Arc;
use std::time::Duration;

use tokio::net::TcpListener;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use tracing::{debug, warn};

/// Connections that wait to be accepted, as far as the system allows (listen(2)): also those that come
/// while the service starts again.
const QUEUE: i32 = 4096;
/// How long accepting pauses when the system has no descriptor left.
const EXHAUSTED_PAUSE: Duration = Duration::from_millis(200);

/// The bound sockets of a proxy that does not serve yet.
#[derive(Debug)]
pub struct Listeners {
    pub(crate) plain: Vec<StdListener>,
    pub(crate) tls: Vec<StdListener>,
    /// On addresses that names have for their own.
    pub(crate) own: Vec<StdListener>,
}

/// An address that could not be bound.
#[derive(Debug, thiserror::Error)]
#[error("cannot listen on {address}")]
pub struct BindError {
    /// The address.
    pub address: SocketAddr,
    /// The system's reason.
    pub source: io::Error,
}

impl Listeners {
    /// Takes what `inherited` has for the addresses for plain HTTP, and binds the others.
    /// Port 0 finds a free one.
    ///
    /// # Errors
    /// The first address that cannot be bound.
    pub fn plain(
        addresses: &[SocketAddr],
        inherited: impl FnMut(SocketAddr) -> Option<StdListener>,
    ) -> Result<Self, BindError> {
        Ok(Self {
            plain: bind_all(addresses, inherited)?,
            tls: Vec::new(),
            own: Vec::new(),
        })
    }

    /// The same with the addresses for TLS.
    ///
    /// # Errors
    /// The first address that cannot be bound.
    pub fn and_tls(
        mut self,
        addresses: &[SocketAddr],
        inherited: impl FnMut(SocketAddr) -> Option<StdListener>,
    ) -> Result<Self, BindError> {
        self.tls = bind_all(addresses, inherited)?;
        Ok(self)
    }

    /// The same with listeners of the process before, for those names that have their addresses for
    /// their own. The others are closed when the proxy starts.
    #[must_use]
    pub fn and_own(mut self, own: Vec<StdListener>) -> Self {
        self.own = own;
        self
    }

    /// Further handles to the sockets. Clients can connect to them as long as there is one.
    ///
    /// # Errors
    /// When the system has no descriptor left.
    pub fn handles(&self) -> io::Result<Vec<StdListener>> {
        let all = self.plain.iter().chain(&self.tls);
        all.map(StdListener::try_clone).collect()
    }

    /// Where the plain sockets listen.
    ///
    /// # Errors
    /// When the system call fails.
    pub fn plain_addresses(&self) -> io::Result<Vec<SocketAddr>> {
        self.plain.iter().map(StdListener::local_addr).collect()
    }

    /// Where the TLS sockets listen.
    ///
    /// # Errors
    /// When the system call fails.
    pub fn tls_addresses(&self) -> io::Result<Vec<SocketAddr>> {
        self.tls.iter().map(StdListener::local_addr).collect()
    }
}

fn bind_all(
    addresses: &[SocketAddr],
    mut inherited: impl FnMut(SocketAddr) -> Option<StdListener>,
) -> Result<Vec<StdListener>, BindError> {
    addresses
        .iter()
        .map(|address| {
            open(*address, inherited(*address)).map_err(|source| BindError {
                address: *address,
                source,
            })
        })
        .collect()
}

/// Listens at `address`, on the socket that was passed on or on a new one.
pub(crate) fn open(address: SocketAddr, passed_on: Option<StdListener>) -> io::Result<StdListener> {
    let listener = passed_on.map_or_else(|| StdListener::bind(address), Ok)?;
    listener.set_nonblocking(true)?;
    // Whoever opened it may have set a shorter queue.
    rustix::net::listen(&listener, QUEUE)?;
    Ok(listener)
}

/// The most connections beyond the limit that get a 503 at the same time.
const REFUSED: usize = 64;

/// How many connections there may be.
#[derive(Clone, Debug)]
pub(crate) struct Permits {
    served: Arc<Semaphore>,
    refused_places: Arc<Semaphore>,
}

/// A connection's place among those that there may be, until it is dropped.
#[derive(Debug)]
pub(crate) struct Permit {
    _place: OwnedSemaphorePermit,
    /// Whether the connection is one too many, and only learns that it is.
    pub(crate) refused: bool,
}

impl Permits {
    pub(crate) fn new(connections: usize) -> Self {
        Self {
            served: Arc::new(Semaphore::new(connections)),
            refused_places: Arc::new(Semaphore::new(REFUSED)),
        }
    }

    /// The next place; `None` never comes while this lives.
    async fn next(&self) -> Option<Permit> {
        let permit = |place, refused| Permit {
            _place: place,
            refused,
        };
        if let Ok(place) = Arc::clone(&self.served).try_acquire_owned() {
            return Some(permit(place, false));
        }
        tokio::select! {
            biased;
            place = Arc::clone(&self.served).acquire_owned() => Some(permit(place.ok()?, false)),
            place = Arc::clone(&self.refused_places).acquire_owned() => Some(permit(place.ok()?, true)),
        }
    }
}

/// Accepts until `shutdown`, one `serve` for each connection; the permit counts it until dropped.
pub(crate) async fn accept<S>(
    listener: &TcpListener,
    permits: &Permits,
    shutdown: &CancellationToken,
    serve: &S,
) where
    S: Fn(StdStream, SocketAddr, Permit),
{
    let accepting = async {
        loop {
            match listener.accept().await {
                Ok((stream, peer)) => {
                    let Some(permit) = permits.next().await else {
                        return;
                    };
                    let _ = stream.set_nodelay(true); // a refusal costs only latency
                    match stream.into_std() {
                        Ok(stream) => serve(stream, peer, permit),
                        Err(cause) => debug!(%peer, %cause, "a connection cannot be handed over"),
                    }
                }
                Err(error) if is_peer_error(&error) => {}
                Err(cause) => {
                    warn!(%cause, "cannot accept connections for now");
                    sleep(EXHAUSTED_PAUSE).await;
                }
            }
        }
    };
    tokio::select! {
        () = shutdown.cancelled() => {}
        () = accepting => {}
    }
}

fn is_peer_error(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::ConnectionRefused
            | io::ErrorKind::ConnectionAborted
            | io::ErrorKind::ConnectionReset
    )
}
