use std::convert::Infallible;
use std::future::Future;
use std::io;
use std::net::{SocketAddr, TcpListener as StdListener};
use std::pin::Pin;
use std::sync::Arc;

use arc_swap::ArcSwap;
use bentlane_core::Snapshot;
use http::Request;
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use rustls::ServerConfig;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tracing::debug;

use crate::certificates::Certificates;
use crate::forward::Client;
use crate::listener::{Listeners, accept};
use crate::own::OwnListeners;
use crate::plane::{Limits, Plane};
use crate::redirect;
use crate::tickets::Tickets;

/// What all connections share.
#[derive(Debug)]
pub(crate) struct Shared {
    plane: ArcSwap<Plane>,
    pub(crate) limits: Limits,
}

impl Shared {
    /// The routes of the moment; a request keeps them until it is answered.
    pub(crate) fn plane(&self) -> Arc<Plane> {
        self.plane.load_full()
    }
}

/// The reverse proxy. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub struct Proxy {
    shared: Arc<Shared>,
    certificates: Arc<Certificates>,
    tickets: Tickets,
    own: Arc<OwnListeners>,
}

impl Proxy {
    /// A proxy that routes by `snapshot`, shows `certificates`, and lets clients resume their
    /// sessions with `tickets`.
    #[must_use]
    pub fn new(
        snapshot: Arc<Snapshot>,
        certificates: Arc<Certificates>,
        tickets: Tickets,
        limits: Limits,
    ) -> Self {
        let own = OwnListeners::new(snapshot.own_addresses().map(|(ip, _)| ip).collect());
        let plane = ArcSwap::from_pointee(Plane::new(snapshot, None));
        Self {
            shared: Arc::new(Shared { plane, limits }),
            certificates,
            tickets,
            own: Arc::new(own),
        }
    }

    /// Routes by `snapshot` from now on, and listens on the addresses that names have for their
    /// own. Requests at work finish as they began, and targets that stay keep their connections.
    pub fn publish(&self, snapshot: Arc<Snapshot>) {
        let own = snapshot.own_addresses().map(|(ip, _)| ip).collect();
        let next = Plane::new(snapshot, Some(&self.shared.plane.load()));
        self.shared.plane.store(Arc::new(next));
        self.own.want(own);
    }

    /// The certificates that the listeners show.
    #[must_use]
    pub fn certificates(&self) -> &Certificates {
        &self.certificates
    }

    /// Serves on `listeners` until `shutdown` is cancelled, then lets connections finish for as
    /// long as [`Limits::drain`] says.
    ///
    /// # Errors
    /// When a socket or the TLS engine cannot be set up.
    pub async fn serve(&self, listeners: Listeners, shutdown: CancellationToken) -> io::Result<()> {
        let (plain, tls) = (listeners.plain_addresses()?, listeners.tls_addresses()?);
        let serving = Serving {
            shared: Arc::clone(&self.shared),
            acceptor: TlsAcceptor::from(Arc::new(self.tls_config()?)),
            permits: Arc::new(Semaphore::new(self.shared.limits.connections)),
            https_port: tls.first().map_or(443, SocketAddr::port),
            accepting: TaskTracker::new(),
            connections: TaskTracker::new(),
            shutdown: shutdown.clone(),
        };
        for listener in listeners.plain {
            serving.listen_plain(listener, shutdown.clone())?;
        }
        for listener in listeners.tls {
            serving.listen_tls(listener, shutdown.clone())?;
        }
        self.own.keep(&serving, &plain, &tls).await;
        serving.accepting.close();
        serving.accepting.wait().await;
        serving.connections.close();
        let drained = timeout(self.shared.limits.drain, serving.connections.wait()).await;
        if drained.is_err() {
            let cut = serving.connections.len();
            debug!(cut, "connections did not finish in time");
        }
        Ok(())
    }

    fn tls_config(&self) -> io::Result<ServerConfig> {
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_cert_resolver(self.certificates.clone());
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        config.ticketer = Arc::new(self.tickets.clone());
        Ok(config)
    }
}

/// What listeners and connections need while the proxy serves.
#[derive(Clone)]
pub(crate) struct Serving {
    shared: Arc<Shared>,
    acceptor: TlsAcceptor,
    permits: Arc<Semaphore>,
    https_port: u16,
    accepting: TaskTracker,
    connections: TaskTracker,
    pub(crate) shutdown: CancellationToken,
}

impl std::fmt::Debug for Serving {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Serving").finish_non_exhaustive()
    }
}

impl Serving {
    /// Accepts HTTP in the clear until `end`.
    pub(crate) fn listen_plain(
        &self,
        listener: StdListener,
        end: CancellationToken,
    ) -> io::Result<()> {
        self.listen(listener, end, |serving, stream, _| {
            serving.serve_plain(stream)
        })
    }

    /// Accepts TLS until `end`.
    pub(crate) fn listen_tls(
        &self,
        listener: StdListener,
        end: CancellationToken,
    ) -> io::Result<()> {
        self.listen(listener, end, Self::serve_tls)
    }

    fn listen<F>(
        &self,
        listener: StdListener,
        end: CancellationToken,
        serve: fn(Self, TcpStream, SocketAddr) -> F,
    ) -> io::Result<()>
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let listener = TcpListener::from_std(listener)?;
        let serving = self.clone();
        let serve = move |stream, peer, permit| {
            let work = serve(serving.clone(), stream, peer);
            serving.connections.track_future(hold(permit, work))
        };
        let permits = Arc::clone(&self.permits);
        self.accepting.spawn(accept(listener, permits, end, serve));
        Ok(())
    }

    async fn serve_plain(self, stream: TcpStream) {
        let https_port = self.https_port;
        let service = service_fn(move |request: Request<Incoming>| async move {
            Ok::<_, Infallible>(redirect::to_https(&request, https_port))
        });
        let connection = self.http1().serve_connection(TokioIo::new(stream), service);
        self.finish(connection, http1::Connection::graceful_shutdown)
            .await;
    }

    async fn serve_tls(self, stream: TcpStream, peer: SocketAddr) {
        let stream = match timeout(self.shared.limits.head, self.acceptor.accept(stream)).await {
            Ok(Ok(stream)) => stream,
            Ok(Err(cause)) => return debug!(%peer, %cause, "a handshake failed"),
            Err(_) => return debug!(%peer, "a handshake took too long"),
        };
        let h2 = stream.get_ref().1.alpn_protocol() == Some(b"h2");
        let client = Client::new(Arc::clone(&self.shared), peer, self.https_port);
        if h2 {
            self.serve_http2(stream, Arc::new(client)).await;
        } else {
            self.serve_http1(stream, Arc::new(client)).await;
        }
    }

    async fn serve_http1<S>(&self, stream: S, client: Arc<Client>)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let service = service_fn(move |request| {
            let client = Arc::clone(&client);
            async move { Ok::<_, Infallible>(client.answer(request).await) }
        });
        let connection = self.http1().serve_connection(TokioIo::new(stream), service);
        let connection = connection.with_upgrades();
        self.finish(connection, http1::UpgradeableConnection::graceful_shutdown)
            .await;
    }

    async fn serve_http2<S>(&self, stream: S, client: Arc<Client>)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let service = service_fn(move |request| {
            let client = Arc::clone(&client);
            async move { Ok::<_, Infallible>(client.answer(request).await) }
        });
        let mut builder = http2::Builder::new(TokioExecutor::new());
        builder
            .timer(TokioTimer::new())
            .max_header_list_size(self.shared.limits.head_octets)
            .initial_stream_window_size(1 << 20)
            .initial_connection_window_size(4 << 20)
            .max_frame_size(64 * 1024)
            .max_concurrent_streams(250);
        let connection = builder.serve_connection(TokioIo::new(stream), service);
        self.finish(connection, http2::Connection::graceful_shutdown)
            .await;
    }

    fn http1(&self) -> http1::Builder {
        let limits = &self.shared.limits;
        let mut builder = http1::Builder::new();
        builder
            .timer(TokioTimer::new())
            .header_read_timeout(limits.head)
            // A head that does not fit the buffer gets 431 from the engine (RFC 6585 §5).
            .max_buf_size(usize::try_from(limits.head_octets).unwrap_or(usize::MAX));
        builder
    }

    /// Serves `connection` to its end; once the proxy stops, to the end of its request at work.
    async fn finish<C>(&self, connection: C, stop_after_this: fn(Pin<&mut C>))
    where
        C: Future<Output = Result<(), hyper::Error>>,
    {
        let mut connection = std::pin::pin!(connection);
        let outcome = tokio::select! {
            outcome = connection.as_mut() => outcome,
            () = self.shutdown.cancelled() => {
                stop_after_this(connection.as_mut());
                connection.await
            }
        };
        if let Err(cause) = outcome {
            debug!(%cause, "a client's connection ended early");
        }
    }
}

/// Keeps `permit` until `work` is done, also when it panics.
async fn hold(permit: OwnedSemaphorePermit, work: impl Future<Output = ()>) {
    work.await;
    drop(permit);
}
