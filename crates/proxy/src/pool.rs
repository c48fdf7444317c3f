use std::io;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use arc_swap::ArcSwapOption;
use bentlane_core::check::{Attempt, Refusal};
use bentlane_core::{ContainerPlace, Destination, Scheme};
use crossbeam_queue::ArrayQueue;
use hyper::body::Incoming;
use hyper::client::conn::{TrySendError, http1, http2};
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use rustls::ClientConfig;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, lookup_host};
use tokio::task::spawn_blocking;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tracing::debug;

use crate::body::RequestBody;
use crate::target_tls::{self, TargetRoots};

/// Idle connections kept for one target.
const KEPT: usize = 64;
/// How long an idle connection is used again: less than the 5 s after which the most common dev
/// servers close theirs, so that a request hardly ever meets a closing connection.
const FRESH: Duration = Duration::from_secs(4);
/// How long to wait for a connection whose last response was just read to be ready for the next
/// request: its task has seen the end too and only needs a turn.
const SETTLING: Duration = Duration::from_millis(5);
/// How long a target may take to show that it speaks TLS, when its answer was no HTTP.
const SHOWING: Duration = Duration::from_secs(1);

/// The connections to one destination.
///
/// Idle ones wait in a queue without a lock; a request takes one out and its response's body puts
/// it back when the last octet has been read. Over HTTP/2 all requests share one.
#[derive(Debug)]
pub(crate) struct Pool {
    destination: Destination,
    roots: TargetRoots,
    /// Made when the first connection comes back: most targets are asked seldom.
    idle: OnceLock<ArrayQueue<Idle>>,
    shared: ArcSwapOption<http2::SendRequest<RequestBody>>,
    /// Which family of loopback answered last, to be tried first.
    prefers_ipv6: AtomicBool,
}

#[derive(Debug)]
struct Idle {
    sender: http1::SendRequest<RequestBody>,
    since: Instant,
}

/// A connection in use. Giving it back makes it idle; dropping it closes it.
#[derive(Debug)]
pub(crate) struct Lease {
    sender: Sender,
    pool: Arc<Pool>,
}

#[derive(Debug)]
enum Sender {
    Http1(http1::SendRequest<RequestBody>),
    /// One of many handles: giving it back is letting go of it.
    Http2(http2::SendRequest<RequestBody>),
}

impl Lease {
    /// Whether requests go out as HTTP/2.
    pub(crate) fn is_http2(&self) -> bool {
        matches!(self.sender, Sender::Http2(_))
    }

    /// Sends; a request of which no octet went out comes back with the error.
    pub(crate) async fn send(
        &mut self,
        request: Request<RequestBody>,
    ) -> Result<Response<Incoming>, TrySendError<Request<RequestBody>>> {
        match &mut self.sender {
            Sender::Http1(sender) => sender.try_send_request(request).await,
            Sender::Http2(sender) => sender.try_send_request(request).await,
        }
    }

    /// Puts the connection back. It may still be reading: taking it out again waits for that.
    pub(crate) fn give_back(self) {
        if let Sender::Http1(sender) = self.sender
            && !sender.is_closed()
        {
            // A full queue hands the connection back, and dropping it closes it.
            let idle = self.pool.idle.get_or_init(|| ArrayQueue::new(KEPT));
            let _ = idle.push(Idle {
                sender,
                since: Instant::now(),
            });
        }
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
    /// The host has no address.
    UnknownHost(String),
    /// The target's certificate is not accepted.
    Untrusted(String),
    /// The target answers a hello with something that is not TLS.
    SpeaksPlain,
    /// No TLS comes about, for another reason.
    Tls(String),
    /// It breaks off before it can be used.
    Broken(String),
}

impl Pool {
    pub(crate) fn new(destination: Destination, roots: TargetRoots) -> Self {
        Self {
            destination,
            roots,
            idle: OnceLock::new(),
            shared: ArcSwapOption::empty(),
            prefers_ipv6: AtomicBool::new(false),
        }
    }

    pub(crate) fn destination(&self) -> &Destination {
        &self.destination
    }

    fn scheme(&self) -> Scheme {
        self.destination.to.scheme().unwrap_or(Scheme::Bare)
    }

    /// An idle connection that can take a request now.
    pub(crate) async fn take_idle(self: &Arc<Self>) -> Option<Lease> {
        let lease = |sender| {
            Some(Lease {
                sender,
                pool: Arc::clone(self),
            })
        };
        if let Some(idle) = self.idle.get() {
            while let Some(Idle { mut sender, since }) = idle.pop() {
                if sender.is_closed() || since.elapsed() > FRESH {
                    continue;
                }
                if sender.is_ready()
                    || matches!(timeout(SETTLING, sender.ready()).await, Ok(Ok(())))
                {
                    return lease(Sender::Http1(sender));
                }
            }
        }
        let shared = self.shared.load();
        let sender = shared.as_ref().filter(|sender| !sender.is_closed())?;
        lease(Sender::Http2(http2::SendRequest::clone(sender)))
    }

    /// A new connection; one that can be upgraded speaks HTTP/1.1.
    pub(crate) async fn connect(
        self: &Arc<Self>,
        limit: Duration,
        upgrade: bool,
        head_octets: usize,
    ) -> Result<Lease, ConnectError> {
        let stream = self.open(limit).await?;
        let sender = match self.scheme() {
            Scheme::Bare | Scheme::Http => http1(stream, head_octets).await?,
            Scheme::H2c => self.http2(stream).await?,
            Scheme::Https => {
                let stream = self.secure(stream, limit, upgrade).await?;
                if stream.get_ref().1.alpn_protocol() == Some(b"h2") {
                    self.http2(stream).await?
                } else {
                    http1(stream, head_octets).await?
                }
            }
        };
        Ok(Lease {
            sender,
            pool: Arc::clone(self),
        })
    }

    /// A connection without anything on it yet.
    pub(crate) async fn open(&self, limit: Duration) -> Result<TcpStream, ConnectError> {
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
            Some(place) => return Err(ConnectError::Container(place.clone())),
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

    async fn http2<S>(self: &Arc<Self>, stream: S) -> Result<Sender, ConnectError>
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
            // A shared connection lives as long as its pool: until no route leads there.
            let gone = async {
                while pool.strong_count() > 0 {
                    tokio::time::sleep(FRESH).await;
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
        Ok(Sender::Http2(sender))
    }

    /// Whether the target answers a hello with TLS: asked when its answer to HTTP was none.
    pub(crate) async fn speaks_tls(&self) -> bool {
        if self.scheme().is_tls() {
            return false;
        }
        let ask = async {
            let mut stream = self.open(SHOWING).await.ok()?;
            let unverified = Destination {
                tls: bentlane_core::TargetTls::Unverified,
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

async fn http1<S>(stream: S, head_octets: usize) -> Result<Sender, ConnectError>
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let (sender, connection) = http1::Builder::new()
        .max_buf_size(head_octets)
        .handshake(TokioIo::new(stream))
        .await
        .map_err(broken)?;
    tokio::spawn(async move {
        if let Err(cause) = connection.with_upgrades().await {
            debug!(%cause, "a connection to a target ended early");
        }
    });
    Ok(Sender::Http1(sender))
}

fn broken(error: hyper::Error) -> ConnectError {
    ConnectError::Broken(bentlane_core::chain(&error))
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
