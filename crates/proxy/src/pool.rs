use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::task::{Context, Poll};
use std::time::Duration;

use arc_swap::ArcSwapOption;
use bentlane_checks::{Attempt, Refusal};
use bentlane_model::{AppPlace, ContainerPlace, Destination, Scheme};
use bytes::Bytes;
use hyper::Request;
use hyper::body::{Body, Frame, Incoming};
use hyper::client::conn::http2;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use rustls::ClientConfig;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, lookup_host};
use tokio::task::spawn_blocking;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_util::either::Either;
use tracing::debug;

use crate::activity::{Activity, Busy};
use crate::replicas::Replicas;
use crate::request_body::RequestBody;
use crate::target_connection::{self, ResponseDeadline, Sent, Stream, TargetConnection};
use crate::target_tls::{self, TargetRoots};

/// How often it is looked whether a shared connection is still wanted.
const LOOK_AGAIN: Duration = Duration::from_secs(4);
/// How long a target may take to show that it speaks TLS, when its answer was no HTTP.
const SHOWING: Duration = Duration::from_secs(1);

/// The connections to one destination.
///
/// Those of HTTP/1.1 wait with the thread that made them, without a lock; a request takes one out and
/// its response's body puts it back when the last byte has been read. Over HTTP/2 all requests share
/// one.
#[derive(Debug)]
pub(crate) struct Pool {
    id: u64,
    destination: Destination,
    roots: TargetRoots,
    shared: ArcSwapOption<http2::SendRequest<RequestBody>>,
    /// Which family of loopback answered last, to be tried first.
    prefers_ipv6: AtomicBool,
    /// Whether something is asked of the app at the moment, when it leads to one.
    activity: Option<Activity>,
    /// The containers that it leads to, when these are several.
    replicas: Option<Replicas>,
}

/// A future for what is rare while a request is answered. Boxed, so that the futures of all requests
/// stay small.
pub(crate) type Boxed<'a, T> = Pin<Box<dyn Future<Output = T> + Send + 'a>>;

/// A connection in use. Giving it back makes it idle; dropping it closes it.
#[derive(Debug)]
pub(crate) enum Lease {
    Http1(Box<TargetConnection>),
    /// One of many handles: dropping it returns it.
    Http2(http2::SendRequest<RequestBody>),
}

impl Lease {
    /// Whether requests go out as HTTP/2.
    pub(crate) fn is_http2(&self) -> bool {
        matches!(self, Self::Http2(_))
    }

    /// Sends; `None` when the answer is late.
    pub(crate) fn send(
        &mut self,
        request: Request<RequestBody>,
        deadline: ResponseDeadline,
    ) -> impl Future<Output = Option<Sent>> {
        match self {
            Self::Http1(link) => Either::Left(link.send(request, deadline)),
            Self::Http2(sender) => {
                // In boxes, since most targets speak HTTP/1.1.
                let sending = Box::pin(sender.try_send_request(request));
                Either::Right(Box::pin(in_time(deadline, sending)))
            }
        }
    }

    /// The next frame of a response that came over this connection.
    pub(crate) fn poll_frame(
        &mut self,
        incoming: &mut Incoming,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        match self {
            Self::Http1(link) => link.poll_frame(incoming, context),
            Self::Http2(_) => Pin::new(incoming).poll_frame(context),
        }
    }

    /// Has the connection not be used again after this request.
    pub(crate) fn use_once(&mut self) {
        if let Self::Http1(link) = self {
            link.use_once();
        }
    }

    /// Puts the connection back, once its response has been read.
    pub(crate) fn give_back(self) {
        if let Self::Http1(link) = self {
            link.give_back();
        }
    }

    /// What is spoken over after a change of protocol, and what was read of that: `None` over HTTP/2,
    /// which knows none.
    pub(crate) async fn change(self) -> Option<(Stream, Bytes)> {
        match self {
            Self::Http1(link) => Some(link.change().await),
            Self::Http2(_) => None,
        }
    }
}

/// What comes of `work`, unless it is late.
async fn in_time<T>(
    deadline: ResponseDeadline,
    mut work: Pin<Box<impl Future<Output = T>>>,
) -> Option<T> {
    let mut left = deadline.limit;
    loop {
        if let Ok(outcome) = timeout(left, &mut work).await {
            return Some(outcome);
        }
        left = deadline.left()?;
    }
}

/// Why no connection could be made.
#[derive(Debug)]
pub(crate) enum ConnectError {
    /// No address accepted.
    Closed {
        attempts: Vec<Attempt>,
        /// Where it does: on the other family of loopback.
        elsewhere: Option<SocketAddr>,
    },
    /// The container cannot be connected to.
    Container(ContainerPlace),
    /// The app is not ready.
    AppNotReady,
    /// The host has no address.
    UnknownHost(String),
    /// The target's certificate is not accepted.
    Untrusted(String),
    /// The target answers a hello with something that is not TLS.
    SpeaksPlain,
    /// The TLS handshake failed for another reason.
    Tls(String),
    /// It breaks off before it can be used.
    Broken(String),
}

impl Pool {
    pub(crate) fn new(destination: Destination, roots: TargetRoots) -> Self {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        Self {
            id: NEXT.fetch_add(1, Ordering::Relaxed),
            destination,
            roots,
            shared: ArcSwapOption::empty(),
            prefers_ipv6: AtomicBool::new(false),
            activity: None,
            replicas: None,
        }
    }

    /// The same for a destination that may be several containers; `known` gives the connections that
    /// there are to one of them.
    pub(crate) fn with_replicas(self, known: impl Fn(&Destination) -> Option<Arc<Self>>) -> Self {
        let Some(ContainerPlace::Replicas(replicas)) = &self.destination.place else {
            return self;
        };
        let pools = replicas.iter().map(|replica| {
            let destination = Destination {
                place: Some(ContainerPlace::At(replica.at.clone())),
                ..self.destination.clone()
            };
            known(&destination)
                .unwrap_or_else(|| Arc::new(Self::new(destination, self.roots.clone())))
        });
        let replicas = Some(Replicas::new(pools.collect::<Vec<_>>()));
        Self { replicas, ..self }
    }

    /// The containers that it leads to, when these are several.
    pub(crate) fn replicas(&self) -> Option<&Replicas> {
        self.replicas.as_ref()
    }

    /// The same with requests counted by `activity`.
    pub(crate) fn counted_by(self, activity: Option<Activity>) -> Self {
        Self { activity, ..self }
    }

    /// Says that something is asked of the app, when it leads to one, for as long as that is kept.
    pub(crate) fn in_use(&self) -> Option<Busy> {
        self.activity.as_ref().map(Activity::begin)
    }

    pub(crate) fn destination(&self) -> &Destination {
        &self.destination
    }

    fn scheme(&self) -> Scheme {
        self.destination.to.scheme().unwrap_or(Scheme::Bare)
    }

    /// An idle connection that can take a request now.
    pub(crate) async fn take_idle(&self) -> Option<Lease> {
        if let Some(link) = target_connection::take(self.id).await {
            return Some(Lease::Http1(link));
        }
        let shared = self.shared.load();
        let sender = shared.as_ref().filter(|sender| !sender.is_closed())?;
        Some(Lease::Http2(http2::SendRequest::clone(sender)))
    }

    /// A new connection; one that can be upgraded speaks HTTP/1.1.
    #[inline(never)]
    pub(crate) fn connect(
        self: &Arc<Self>,
        limit: Duration,
        upgrade: bool,
        head_octets: usize,
    ) -> Boxed<'_, Result<Lease, ConnectError>> {
        Box::pin(self.new_lease(limit, upgrade, head_octets))
    }

    async fn new_lease(
        self: &Arc<Self>,
        limit: Duration,
        upgrade: bool,
        head_octets: usize,
    ) -> Result<Lease, ConnectError> {
        let stream = self.open(limit).await?;
        let stream = match self.scheme() {
            Scheme::Bare | Scheme::Http => Either::Left(stream),
            Scheme::H2c => return self.http2(stream).await,
            Scheme::Https => {
                let stream = self.secure(stream, limit, upgrade).await?;
                if stream.get_ref().1.alpn_protocol() == Some(b"h2") {
                    return self.http2(stream).await;
                }
                Either::Right(stream)
            }
        };
        let link = TargetConnection::new(stream, self.id, head_octets).await;
        link.map(|link| Lease::Http1(Box::new(link)))
            .map_err(broken)
    }

    /// A connection without anything on it yet.
    pub(crate) async fn open(&self, limit: Duration) -> Result<TcpStream, ConnectError> {
        let Some(mut choice) = self.replicas.as_ref().and_then(Replicas::choose) else {
            return self.open_one(limit).await;
        };
        loop {
            let failure = match choice.pool.open_one(limit).await {
                Ok(stream) => return Ok(stream),
                Err(failure) => failure,
            };
            let next = self
                .replicas
                .as_ref()
                .and_then(|all| all.instead_of(&choice));
            choice = next.ok_or(failure)?;
        }
    }

    async fn open_one(&self, limit: Duration) -> Result<TcpStream, ConnectError> {
        let mut attempts = Vec::new();
        for address in self.candidates().await? {
            match dial(address, limit).await {
                Ok(stream) => {
                    self.prefers_ipv6
                        .store(address.is_ipv6(), Ordering::Relaxed);
                    let _ = stream.set_nodelay(true); // a refusal costs only latency
                    return Ok(stream);
                }
                Err(refusal) => attempts.push(Attempt { address, refusal }),
            }
        }
        let elsewhere = match self.destination.to.other_family() {
            Some(address) => dial(address, limit).await.ok().map(|_| address),
            None => None,
        };
        Err(ConnectError::Closed {
            attempts,
            elsewhere,
        })
    }

    async fn candidates(&self) -> Result<Vec<SocketAddr>, ConnectError> {
        match &self.destination.place {
            None => {}
            Some(ContainerPlace::At(addresses)) => return Ok(addresses.clone()),
            Some(ContainerPlace::Replicas(replicas)) => {
                return Ok(replicas.iter().flat_map(|it| it.at.clone()).collect());
            }
            Some(place) => return Err(ConnectError::Container(place.clone())),
        }
        match &self.destination.app {
            None => {}
            Some(AppPlace::At(addresses)) => return Ok(addresses.clone()),
            Some(AppPlace::NotReady) => return Err(ConnectError::AppNotReady),
        }
        match self.destination.to.addresses() {
            Ok(mut addresses) => {
                if self.prefers_ipv6.load(Ordering::Relaxed) {
                    addresses.reverse();
                }
                Ok(addresses)
            }
            Err((host, port)) => lookup_host((host, port))
                .await
                .map(Iterator::collect)
                .map_err(|error| ConnectError::UnknownHost(error.to_string())),
        }
    }

    async fn secure(
        self: &Arc<Self>,
        stream: TcpStream,
        limit: Duration,
        http1_only: bool,
    ) -> Result<TlsStream<TcpStream>, ConnectError> {
        let pool = Arc::clone(self);
        // The roots may have to be read from their file.
        let config = spawn_blocking(move || {
            target_tls::config(&pool.destination, &pool.roots, http1_only).map(Arc::new)
        });
        let config: Arc<ClientConfig> = config
            .await
            .map_err(|error| ConnectError::Tls(error.to_string()))?
            .map_err(|error| ConnectError::Tls(error.to_string()))?;
        let name = target_tls::server_name(&self.destination)
            .map_err(|error| ConnectError::Tls(error.to_string()))?;
        match timeout(limit, TlsConnector::from(config).connect(name, stream)).await {
            Ok(Ok(stream)) => Ok(stream),
            Ok(Err(error)) => Err(tls_failure(&error)),
            Err(_) => Err(ConnectError::Tls(
                "the target does not answer the hello".to_owned(),
            )),
        }
    }

    async fn http2<S>(self: &Arc<Self>, stream: S) -> Result<Lease, ConnectError>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let mut builder = http2::Builder::new(TokioExecutor::new());
        builder
            .timer(TokioTimer::new())
            .initial_stream_window_size(1 << 20)
            .initial_connection_window_size(4 << 20)
            .max_frame_size(64 * 1024);
        let (sender, connection) = builder
            .handshake(TokioIo::new(stream))
            .await
            .map_err(broken)?;
        // Of two that are made at once the later is shared; the other ends with its request.
        self.shared.store(Some(Arc::new(sender.clone())));
        let pool = Arc::downgrade(self);
        tokio::spawn(async move {
            // A shared connection lives as long as its pool: until no route has this target.
            let gone = async {
                while pool.strong_count() > 0 {
                    tokio::time::sleep(LOOK_AGAIN).await;
                }
            };
            tokio::select! {
                outcome = connection => {
                    if let Err(cause) = outcome {
                        debug!(%cause, "a connection to a target ended early");
                    }
                }
                () = gone => {}
            }
        });
        Ok(Lease::Http2(sender))
    }

    /// Whether the target answers a hello with TLS: asked when its answer to HTTP was none.
    pub(crate) async fn speaks_tls(&self) -> bool {
        if self.scheme().is_tls() {
            return false;
        }
        let ask = async {
            let mut stream = self.open(SHOWING).await.ok()?;
            let unverified = Destination {
                tls: bentlane_model::TargetTls::Unverified,
                ..self.destination.clone()
            };
            let config = target_tls::config(&unverified, &self.roots, true).ok()?;
            let name = target_tls::server_name(&unverified).ok()?;
            let mut hello = rustls::ClientConnection::new(Arc::new(config), name).ok()?;
            let mut octets = Vec::new();
            hello.write_tls(&mut octets).ok()?;
            stream.write_all(&octets).await.ok()?;
            let mut first = [0; 2];
            stream.read_exact(&mut first).await.ok()?;
            // A handshake or an alert, of version 3.x (RFC 8446 §5.1).
            Some(matches!(first, [0x16 | 0x15, 3]))
        };
        matches!(timeout(SHOWING, ask).await, Ok(Some(true)))
    }
}

async fn dial(address: SocketAddr, limit: Duration) -> Result<TcpStream, Refusal> {
    match timeout(limit, TcpStream::connect(address)).await {
        Ok(Ok(stream)) => Ok(stream),
        Ok(Err(error)) if error.kind() == io::ErrorKind::ConnectionRefused => Err(Refusal::Refused),
        Ok(Err(error)) => Err(Refusal::Other(error.to_string())),
        Err(_) => Err(Refusal::Silent),
    }
}

fn broken(error: hyper::Error) -> ConnectError {
    ConnectError::Broken(bentlane_model::chain(&error))
}

fn tls_failure(error: &io::Error) -> ConnectError {
    let cause = error
        .get_ref()
        .and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match cause {
        Some(rustls::Error::InvalidMessage(_)) => ConnectError::SpeaksPlain,
        Some(rustls::Error::InvalidCertificate(reason)) => {
            ConnectError::Untrusted(reason.to_string())
        }
        Some(other) => ConnectError::Tls(other.to_string()),
        None if error.kind() == io::ErrorKind::UnexpectedEof => {
            ConnectError::Tls("the target closes the connection during the handshake".to_owned())
        }
        None => ConnectError::Tls(error.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use bentlane_model::{Observed, Route};
    use tokio::net::TcpListener;

    use super::*;

    fn pool(target: &str) -> Arc<Pool> {
        let address = "a.moor.test".parse().unwrap();
        let route = Route::new(address, target.parse().unwrap());
        let destination = Destination::of(&route, &Observed::default());
        Arc::new(Pool::new(destination, TargetRoots::new("/nowhere".into())))
    }

    const LIMIT: Duration = Duration::from_secs(20);

    /// A port of ::1 that is closed on 127.0.0.1, as with a dev server that listens on ::1 alone.
    async fn on_ipv6_alone() -> (TcpListener, u16) {
        loop {
            let listener = TcpListener::bind("[::1]:0").await.unwrap();
            let port = listener.local_addr().unwrap().port();
            if TcpListener::bind(("127.0.0.1", port)).await.is_ok() {
                return (listener, port);
            }
        }
    }

    #[tokio::test]
    async fn both_families_of_loopback_are_tried_and_the_one_that_answers_is_preferred() {
        let (listener, port) = on_ipv6_alone().await;
        let pool = pool(&port.to_string());
        let stream = pool.open(LIMIT).await.unwrap();
        assert_eq!(stream.peer_addr().unwrap(), listener.local_addr().unwrap());
        let next = pool.candidates().await.unwrap();
        assert!(next[0].is_ipv6(), "{next:?}");
    }

    #[tokio::test]
    async fn the_other_family_is_named_where_the_target_names_one() {
        let (listener, port) = on_ipv6_alone().await;
        let failure = pool(&format!("http://127.0.0.1:{port}")).open(LIMIT).await;
        let Err(ConnectError::Closed {
            attempts,
            elsewhere,
        }) = failure
        else {
            panic!("{failure:?}");
        };
        assert_eq!(attempts[0].refusal, Refusal::Refused);
        assert_eq!(elsewhere, Some(listener.local_addr().unwrap()));
    }

    #[tokio::test]
    async fn a_returned_connection_is_idle() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let pool = pool(&port.to_string());
        assert!(pool.take_idle().await.is_none());
        let lease = pool.connect(LIMIT, false, 64 * 1024).await.unwrap();
        assert!(!lease.is_http2());
        let (_kept_open, _) = listener.accept().await.unwrap();
        lease.give_back();
        assert!(pool.take_idle().await.is_some());
        assert!(pool.take_idle().await.is_none(), "it is in use");
    }

    #[tokio::test]
    async fn a_host_without_an_address_is_named() {
        let failure = pool("http://no-such-host.invalid:80").open(LIMIT).await;
        assert!(
            matches!(failure, Err(ConnectError::UnknownHost(_))),
            "{failure:?}"
        );
    }
}
