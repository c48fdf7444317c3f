//! Serving the API on its Unix socket and the console on its TCP listener.

use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::pin::pin;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use axum::Router;
use axum::body::Body;
use bentlane_checks::Since;
use bentlane_proxy::{OwnSite, SiteAnswer, SiteRequest, SocketPair};
use bentlane_supervisor::Supervisor;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::Semaphore;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tower::ServiceExt;
use tracing::{debug, info, warn};

use super::guard::Connection;
use crate::checker::RouteChecker;

/// Connections at a time, to the socket and to each TCP listener; more wait in the system's queue.
const CONNECTIONS: usize = 128;
/// For a client to send a request's head.
const HEAD_LIMIT: Duration = Duration::from_secs(10);
/// Bytes of a request's head.
const HEAD_BYTES: usize = 64 * 1024;
/// How long accepting pauses when the system has no descriptor left.
const EXHAUSTED_PAUSE: Duration = Duration::from_millis(200);
/// How often a socket that there could not be is bound again.
const BIND_AGAIN: Duration = Duration::from_secs(2);
/// How long requests may finish when the service stops.
const DRAIN: Duration = Duration::from_secs(3);
/// Bytes of the longest path of a Unix socket (`sun_path` in unix(7), with its final zero).
const LONGEST_SOCKET_PATH: usize = 107;

/// Binds the socket in the data folder, for its owner alone. One that a former service left there is
/// removed: the folder's lock is held, so that no other service listens on it.
pub(crate) fn bind_socket(path: &Path) -> io::Result<UnixListener> {
    let length = path.as_os_str().len();
    if length > LONGEST_SOCKET_PATH {
        return Err(io::Error::new(
            io::ErrorKind::InvalidInput,
            format!(
                "its path has {length} bytes, and a socket's path has {LONGEST_SOCKET_PATH} at \
                 most: choose a shorter --data-dir"
            ),
        ));
    }
    match std::fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let listener = UnixListener::bind(path)?;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))?;
    Ok(listener)
}

/// Serves the API on the Unix socket to its owner and to root, until the service stops; removes the
/// socket then, unless the service starts again.
pub(crate) async fn serve_socket(
    bound: Arc<OnceLock<UnixListener>>,
    path: PathBuf,
    router: Router,
    supervisor: Supervisor,
) {
    let shutdown = supervisor.shutdown().clone();
    let bound = shutdown.run_until_cancelled(bound_socket(&bound, &path));
    let Some(listener) = bound.await else {
        return;
    };
    let serving = Serving::new(router, shutdown.clone());
    let accept = || async {
        let (stream, _) = listener.accept().await?;
        Ok(stream)
    };
    let own = rustix::process::geteuid().as_raw();
    serving
        .run(accept, |stream| {
            let uid = stream
                .peer_cred()
                .inspect_err(|cause| debug!(%cause, "cannot send an answer"))
                .ok()?
                .uid();
            if uid != own && uid != 0 {
                warn!(uid, "refused a client of another user");
                return None;
            }
            Some(Connection::Socket { uid })
        })
        .await;
    if supervisor.is_restarting() {
        return;
    }
    if let Err(cause) = std::fs::remove_file(&path) {
        debug!(%cause, "the API's socket was gone before");
    }
}

/// The socket, which there may be once the disk can be written to.
async fn bound_socket<'a>(bound: &'a OnceLock<UnixListener>, path: &Path) -> &'a UnixListener {
    loop {
        if let Some(listener) = bound.get() {
            return listener;
        }
        match bind_socket(path) {
            Ok(listener) => {
                info!("commands can reach the service now");
                return bound.get_or_init(|| listener);
            }
            Err(cause) => debug!(%cause, "still no socket for the API"),
        }
        sleep(BIND_AGAIN).await;
    }
}

/// Serves the console on its TCP listener until `shutdown`.
pub(crate) async fn serve_console(
    listener: Arc<TcpListener>,
    ours: SocketAddr,
    router: Router,
    shutdown: CancellationToken,
) {
    let serving = Serving::new(router, shutdown);
    let accept = || async {
        let (stream, _) = listener.accept().await?;
        let _ = stream.set_nodelay(true); // a refusal costs only latency
        Ok(stream)
    };
    serving
        .run(accept, |stream| {
            let ours = stream.local_addr().unwrap_or(ours);
            let theirs = stream.peer_addr().ok()?;
            Some(Connection::Console(Arc::new(SocketPair::new(ours, theirs))))
        })
        .await;
}

/// What a listener needs.
#[derive(Clone)]
struct Serving {
    router: Router,
    permits: Arc<Semaphore>,
    connections: TaskTracker,
    shutdown: CancellationToken,
}

impl Serving {
    fn new(router: Router, shutdown: CancellationToken) -> Self {
        Self {
            router,
            permits: Arc::new(Semaphore::new(CONNECTIONS)),
            connections: TaskTracker::new(),
            shutdown,
        }
    }

    /// Accepts until the service stops, and serves those connections that `meet` knows.
    async fn run<S, F>(&self, accept: impl Fn() -> F, meet: impl Fn(&S) -> Option<Connection>)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
        F: Future<Output = io::Result<S>>,
    {
        let accepting = async {
            while let Ok(permit) = Arc::clone(&self.permits).acquire_owned().await {
                match accept().await {
                    Ok(stream) => {
                        let Some(connection) = meet(&stream) else {
                            continue;
                        };
                        let serving = self.clone();
                        self.connections.spawn(async move {
                            serving.serve(stream, connection).await;
                            drop(permit);
                        });
                    }
                    Err(cause) => {
                        debug!(%cause, "the API cannot accept a connection");
                        sleep(EXHAUSTED_PAUSE).await;
                    }
                }
            }
        };
        tokio::select! {
            () = self.shutdown.cancelled() => {}
            () = accepting => {}
        }
        self.connections.close();
        if timeout(DRAIN, self.connections.wait()).await.is_err() {
            debug!("calls of the API did not finish in time");
        }
    }

    async fn serve<S>(&self, stream: S, connection: Connection)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let service = service_fn(|request: hyper::Request<hyper::body::Incoming>| {
            let mut request = request.map(Body::new);
            request.extensions_mut().insert(connection.clone());
            let answer = self.router.clone().oneshot(request);
            async { answer.await.map_err(|never: Infallible| match never {}) }
        });
        let serving = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(HEAD_LIMIT)
            .max_buf_size(HEAD_BYTES)
            .serve_connection(TokioIo::new(stream), service);
        let mut serving = pin!(serving);
        let ended = tokio::select! {
            ended = serving.as_mut() => ended,
            () = self.shutdown.cancelled() => {
                serving.as_mut().graceful_shutdown();
                serving.await
            }
        };
        if let Err(cause) = ended {
            debug!(%cause, "a connection of the API ended early");
        }
    }
}

/// The console and DNS over HTTPS under our own name, behind the proxy's TLS.
#[derive(Debug)]
pub(crate) struct Site {
    router: Router,
    checker: Arc<RouteChecker>,
}

impl Site {
    pub(crate) fn new(router: Router, checker: Arc<RouteChecker>) -> Self {
        Self { router, checker }
    }
}

impl OwnSite for Site {
    fn answer(&self, request: SiteRequest, pair: Arc<SocketPair>) -> SiteAnswer {
        let mut request = request.map(Body::new);
        request.extensions_mut().insert(Connection::Site(pair));
        let answer = self.router.clone().oneshot(request);
        Box::pin(async {
            let response = answer
                .await
                .unwrap_or_else(|never: Infallible| match never {});
            response.map(bentlane_proxy::site_body)
        })
    }

    fn since(&self, address: &str) -> Option<Since> {
        let last = self.checker.verdict(address);
        last.filter(|verdict| !verdict.passed)?.since
    }
}
