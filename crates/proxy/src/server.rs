use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
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
use crate::plane::{Limits, Plane};
use crate::redirect;

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
}

impl Proxy {
    /// A proxy that routes by `snapshot` and shows `certificates`.
    #[must_use]
    pub fn new(snapshot: Arc<Snapshot>, certificates: Arc<Certificates>, limits: Limits) -> Self {
        let plane = ArcSwap::from_pointee(Plane::new(snapshot, None));
        Self {
            shared: Arc::new(Shared { plane, limits }),
            certificates,
        }
    }

    /// Routes by `snapshot` from now on. Requests at work finish as they began, and targets that
    /// stay keep their connections.
    pub fn publish(&self, snapshot: Arc<Snapshot>) {
        let next = Plane::new(snapshot, Some(&self.shared.plane.load()));
        self.shared.plane.store(Arc::new(next));
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
        let acceptor = TlsAcceptor::from(Arc::new(self.tls_config()?));
        let permits = Arc::new(Semaphore::new(self.shared.limits.connections));
        let https_port = listeners
            .tls_addresses()?
            .first()
            .map_or(443, |address| address.port());
        let (accepting, connections) = (TaskTracker::new(), TaskTracker::new());
        for listener in listeners.plain {
            let listener = TcpListener::from_std(listener)?;
            let (proxy, connections, token) = (self.clone(), connections.clone(), shutdown.clone());
            let serve = move |stream, _: SocketAddr, permit| {
                let work = proxy.clone().serve_plain(stream, https_port, token.clone());
                connections.track_future(hold(permit, work))
            };
            accepting.spawn(accept(
                listener,
                Arc::clone(&permits),
                shutdown.clone(),
                serve,
            ));
        }
        for listener in listeners.tls {
            let listener = TcpListener::from_std(listener)?;
            let (proxy, connections, token, acceptor) = (
                self.clone(),
                connections.clone(),
                shutdown.clone(),
                acceptor.clone(),
            );
            let serve = move |stream, peer, permit| {
                let work = proxy.clone().serve_tls(
                    stream,
                    acceptor.clone(),
                    peer,
                    https_port,
                    token.clone(),
                );
                connections.track_future(hold(permit, work))
            };
            accepting.spawn(accept(
                listener,
                Arc::clone(&permits),
                shutdown.clone(),
                serve,
            ));
        }
        accepting.close();
        accepting.wait().await;
        connections.close();
        if timeout(self.shared.limits.drain, connections.wait())
            .await
            .is_err()
        {
            debug!(
                cut = connections.len(),
                "connections did not finish in time"
            );
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
        Ok(config)
    }

    async fn serve_plain(self, stream: TcpStream, https_port: u16, shutdown: CancellationToken) {
        let service = service_fn(move |request: Request<Incoming>| async move {
            Ok::<_, Infallible>(redirect::to_https(&request, https_port))
        });
        let connection = self.http1().serve_connection(TokioIo::new(stream), service);
        let mut connection = std::pin::pin!(connection);
        let outcome = tokio::select! {
            outcome = connection.as_mut() => outcome,
            () = shutdown.cancelled() => {
                connection.as_mut().graceful_shutdown();
                connection.await
            }
        };
        note(outcome);
    }

    async fn serve_tls(
        self,
        stream: TcpStream,
        acceptor: TlsAcceptor,
        peer: SocketAddr,
        port: u16,
        shutdown: CancellationToken,
    ) {
        let stream = match timeout(self.shared.limits.head, acceptor.accept(stream)).await {
            Ok(Ok(stream)) => stream,
            Ok(Err(cause)) => return debug!(%peer, %cause, "a handshake failed"),
            Err(_) => return debug!(%peer, "a handshake took too long"),
        };
        let h2 = stream.get_ref().1.alpn_protocol() == Some(b"h2");
        let client = Arc::new(Client::new(Arc::clone(&self.shared), peer, port));
        if h2 {
            self.serve_http2(stream, client, shutdown).await;
        } else {
            self.serve_http1(stream, client, shutdown).await;
        }
    }

    async fn serve_http1<S>(&self, stream: S, client: Arc<Client>, shutdown: CancellationToken)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let service = service_fn(move |request| {
            let client = Arc::clone(&client);
            async move { Ok::<_, Infallible>(client.answer(request).await) }
        });
        let connection = self
            .http1()
            .serve_connection(TokioIo::new(stream), service)
            .with_upgrades();
        let mut connection = std::pin::pin!(connection);
        let outcome = tokio::select! {
            outcome = connection.as_mut() => outcome,
            () = shutdown.cancelled() => {
                connection.as_mut().graceful_shutdown();
                connection.await
            }
        };
        note(outcome);
    }

    async fn serve_http2<S>(&self, stream: S, client: Arc<Client>, shutdown: CancellationToken)
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
        let mut connection = std::pin::pin!(connection);
        let outcome = tokio::select! {
            outcome = connection.as_mut() => outcome,
            () = shutdown.cancelled() => {
                connection.as_mut().graceful_shutdown();
                connection.await
            }
        };
        note(outcome);
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
}

/// Keeps `permit` until `work` is done, also when it panics.
async fn hold(permit: OwnedSemaphorePermit, work: impl Future<Output = ()>) {
    work.await;
    drop(permit);
}

fn note(outcome: Result<(), hyper::Error>) {
    if let Err(cause) = outcome {
        debug!(%cause, "a client's connection ended early");
    }
}
