mod own_listeners;
mod raw_tcp;

use std::convert::Infallible;
use std::future::{Future, poll_fn};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener as StdListener};
use std::pin::{Pin, pin};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use arc_swap::ArcSwap;
use bentlane_checks::RawClients;
use bentlane_model::{AppName, Snapshot};
use bentlane_supervisor::{Policy, Supervisor};
use http::Request;
use hyper::body::Incoming;
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use rustls::crypto::aws_lc_rs::Ticketer;
use rustls::server::ProducesTickets;
use rustls::{CipherSuite, ServerConfig};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{sleep, timeout};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tokio_util::task::task_tracker::TaskTrackerToken;
use tracing::debug;

use crate::activity::{Activity, FirstRequest, UntilIdle};
use crate::apps::{AppHost, RestartTokens};
use crate::certificates::Certificates;
use crate::forward::{Client, Connected, NamedPools};
use crate::head_check::HeadCheck;
use crate::listener::{Listeners, Permit, Permits, accept};
use crate::raw;
use crate::record::Recorder;
use crate::routing_table::{Limits, RoutingTable};
use crate::shared::Shared;
use crate::site::OwnSite;
use crate::stopping::Stopping;
use crate::target_tls::TargetRoots;
use crate::workers::{Place, Workers};
use own_listeners::{OwnAddresses, OwnListeners};

/// The first byte of a TLS hello (RFC 8446 §5.1); no request begins with it.
const HANDSHAKE: u8 = 0x16;
/// The first bytes of HTTP/2 (RFC 9113 §3.4); no request of HTTP/1.1 begins so.
const HTTP2_PREFACE: [u8; 3] = *b"PRI";
/// Bytes of a body that are read or written at a time, at most.
const BUFFER: usize = 256 * 1024;
/// How long to wait for more of a connection's first bytes.
const FIRST_BYTES_POLL: Duration = Duration::from_millis(5);

/// The routing table that was in force until it was replaced.
#[derive(Debug)]
pub struct Replaced(Arc<RoutingTable>);

impl Replaced {
    /// Whether no request uses it or its snapshot any more.
    #[must_use]
    pub fn is_unused(&self) -> bool {
        Arc::strong_count(&self.0) == 1 && Arc::strong_count(&self.0.snapshot) == 1
    }
}

/// The reverse proxy. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub struct Proxy {
    shared: Arc<Shared>,
    roots: TargetRoots,
    own: Arc<OwnListeners>,
}

impl Proxy {
    /// A proxy that routes by `snapshot`, shows `certificates`, and verifies the certificates of targets with `roots`.
    #[must_use]
    pub fn new(
        snapshot: Arc<Snapshot>,
        certificates: Arc<Certificates>,
        roots: TargetRoots,
        limits: Limits,
    ) -> Self {
        certificates.pin(&snapshot);
        let table = RoutingTable::new(snapshot, None, &roots);
        let own = OwnListeners::new(OwnAddresses::of(&table));
        let mut id = [0; 4];
        // A constant would do, too, as long as no other service passes requests on to us.
        let _ = aws_lc_rs::rand::fill(&mut id);
        Self {
            shared: Arc::new(Shared {
                table: ArcSwap::from_pointee(table),
                certificates,
                limits,
                recorder: Recorder::default(),
                site: OnceLock::new(),
                apps: OnceLock::new(),
                restart_tokens: RestartTokens::default(),
                named: NamedPools::new(roots.clone()),
                id: format!("bentlane-{:08x}", u32::from_be_bytes(id)).into(),
                connections: TaskTracker::new(),
                stopping: Stopping::default(),
            }),
            roots,
            own: Arc::new(own),
        }
    }

    /// Routes by `snapshot` from now on, and listens on the addresses that names have for their
    /// own. Requests at work finish as they began, and targets that stay keep their connections. Returns
    /// what was replaced: with many routes, dropping the last reference to it takes a moment.
    pub fn publish(&self, snapshot: Arc<Snapshot>) -> Replaced {
        self.shared.certificates.pin(&snapshot);
        let now = self.shared.table.load();
        let next = RoutingTable::new(snapshot, Some(&now), &self.roots);
        let wanted = OwnAddresses::of(&next);
        drop(now);
        let replaced = self.shared.table.swap(Arc::new(next));
        self.own.want(wanted);
        Replaced(replaced)
    }

    /// Has `site` answer under our own name from now on; the first one stays.
    pub fn serve_site(&self, site: Arc<dyn OwnSite>) {
        // A second one is a mistake of the caller's, and changes nothing.
        let _ = self.shared.site.set(site);
    }

    /// Has `host` run the apps that routes lead to from now on; the first one stays.
    pub fn run_apps_with(&self, host: Arc<dyn AppHost>) {
        // A second one is a mistake of the caller's, and changes nothing.
        let _ = self.shared.apps.set(host);
    }

    /// How long nothing has been asked of an app; `None` while something is.
    #[must_use]
    pub fn idle_for(&self, app: &AppName) -> Option<Duration> {
        let table = self.shared.routing_table();
        match table.apps.get(app) {
            Some(activity) => activity.idle_for(),
            // No route leads to it, so nothing can be asked of it.
            None => Some(Duration::MAX),
        }
    }

    /// The certificates that the listeners show.
    #[must_use]
    pub fn certificates(&self) -> &Certificates {
        &self.shared.certificates
    }

    /// What clients of the route for raw TCP at this place have begun with.
    #[must_use]
    pub fn raw_clients(&self, ip: Ipv4Addr, port: u16) -> RawClients {
        let table = self.shared.routing_table();
        let route = table.raw(ip, port);
        route.map_or_else(RawClients::default, |route| route.heard.clients())
    }

    /// Where the exchanges are that have passed.
    #[must_use]
    pub fn recorder(&self) -> Recorder {
        self.shared.recorder.clone()
    }

    /// Starts to serve on `listeners`. It goes on until the service stops.
    ///
    /// # Errors
    /// When a socket or the TLS engine cannot be set up.
    pub fn start(&self, listeners: Listeners, supervisor: &Supervisor) -> io::Result<Running> {
        let (plain, tls) = (listeners.plain_addresses()?, listeners.tls_addresses()?);
        let shutdown = supervisor.shutdown().clone();
        // Sessions are resumed without a signature (RFC 8446 §2.2), for as long as this process runs.
        let ticketer = Ticketer::new().map_err(io::Error::other)?;
        let tls_config = |protocols: &[&[u8]]| self.tls_config(protocols, Arc::clone(&ticketer));
        let serving = Serving {
            shared: Arc::clone(&self.shared),
            acceptor: TlsAcceptor::from(Arc::new(tls_config(&[b"h2", b"http/1.1", b"http/1.0"])?)),
            raw_acceptor: TlsAcceptor::from(Arc::new(tls_config(&[])?)),
            permits: Permits::new(self.shared.limits.connections),
            workers: Workers::start(supervisor)?,
            https_port: tls.first().map_or(443, SocketAddr::port),
            only_port: None,
            accepting: TaskTracker::new(),
            supervisor: supervisor.clone(),
        };
        for listener in listeners.plain {
            serving.listen_plain(listener, shutdown.clone())?;
        }
        for listener in listeners.tls {
            serving.listen_tls(listener, shutdown.clone())?;
        }
        self.own.serve_with(&serving, &plain, &tls, listeners.own);
        let own = Arc::clone(&self.own);
        supervisor.spawn("listeners of routes", Policy::Restart, move || {
            let (own, shutdown) = (Arc::clone(&own), shutdown.clone());
            async move {
                own.keep(&shutdown).await;
                Ok(())
            }
        });
        let own = Arc::clone(&self.own);
        Ok(Running { serving, own })
    }

    fn tls_config(
        &self,
        protocols: &[&[u8]],
        ticketer: Arc<dyn ProducesTickets>,
    ) -> io::Result<ServerConfig> {
        let mut provider = rustls::crypto::aws_lc_rs::default_provider();
        // Of two that are as safe here the cheaper one first: a shorter key, and a key schedule with
        // SHA-256. Most clients list the longer one first out of habit, so our order is used.
        provider
            .cipher_suites
            .sort_by_key(|suite| suite.suite() != CipherSuite::TLS13_AES_128_GCM_SHA256);
        let mut config = ServerConfig::builder_with_provider(Arc::new(provider))
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_cert_resolver(self.shared.certificates.clone());
        config.alpn_protocols = protocols.iter().map(|name| name.to_vec()).collect();
        config.ignore_client_order = true;
        config.ticketer = ticketer;
        Ok(config)
    }
}

/// A proxy that serves.
#[derive(Debug)]
#[must_use = "without a wait for its end, connections are cut off"]
pub struct Running {
    serving: Serving,
    own: Arc<OwnListeners>,
}

impl Running {
    /// Lets connections finish for as long as [`Limits::drain`] says, or [`Limits::restart`] when the
    /// service starts again at once. To be called once the service stops. Gives the listeners on the
    /// names' own addresses, on which clients wait meanwhile; at a stop they are closed.
    pub async fn drain(self) -> Vec<StdListener> {
        let Self { serving, own } = self;
        let Shared {
            connections,
            stopping,
            limits,
            ..
        } = &*serving.shared;
        let restarts = serving.supervisor.is_restarting();
        stopping.begin(restarts);
        let mut kept = own.close();
        if !restarts {
            kept.clear();
        }
        serving.accepting.close();
        serving.accepting.wait().await;
        connections.close();
        let limit = if restarts {
            limits.restart
        } else {
            limits.drain
        };
        if timeout(limit, connections.wait()).await.is_err() {
            let cut = connections.len();
            debug!(cut, "connections did not finish in time");
        }
        serving.workers.end();
        kept
    }
}

/// What listeners and connections need while the proxy serves.
#[derive(Clone)]
pub(crate) struct Serving {
    shared: Arc<Shared>,
    acceptor: TlsAcceptor,
    /// For raw TCP: whatever protocol the client offers, we know nothing of it.
    raw_acceptor: TlsAcceptor,
    permits: Permits,
    workers: Workers,
    https_port: u16,
    /// The port whose routes alone are served.
    only_port: Option<u16>,
    accepting: TaskTracker,
    pub(crate) supervisor: Supervisor,
}

impl std::fmt::Debug for Serving {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Serving").finish_non_exhaustive()
    }
}

impl Serving {
    /// Accepts plain HTTP until `end`; a TLS hello is understood, too.
    pub(crate) fn listen_plain(
        &self,
        listener: StdListener,
        end: CancellationToken,
    ) -> io::Result<()> {
        self.listen("http", listener, end, Self::serve_plain)
    }

    /// Accepts TLS until `end`; a plain HTTP request is redirected to HTTPS.
    pub(crate) fn listen_tls(
        &self,
        listener: StdListener,
        end: CancellationToken,
    ) -> io::Result<()> {
        self.listen("https", listener, end, Self::serve_tls)
    }

    /// Accepts HTTP for the routes of `port` until `end`: over TLS, and in plaintext where their settings allow it.
    pub(crate) fn listen_port(
        &self,
        listener: StdListener,
        port: u16,
        end: CancellationToken,
    ) -> io::Result<()> {
        let serving = Self {
            only_port: Some(port),
            ..self.clone()
        };
        serving.listen("https", listener, end, Self::serve_plain)
    }

    /// Accepts raw TCP until `end`.
    pub(crate) fn listen_raw(
        &self,
        listener: StdListener,
        end: CancellationToken,
    ) -> io::Result<()> {
        self.listen("tcp", listener, end, Self::serve_raw)
    }

    fn listen<F>(
        &self,
        protocol: &str,
        listener: StdListener,
        end: CancellationToken,
        serve: fn(Self, Accepted) -> F,
    ) -> io::Result<()>
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let listener = TcpListener::from_std(listener)?;
        let at = listener.local_addr()?;
        let serving = self.clone();
        let serve = move |stream, peer: SocketAddr, permit: Permit| {
            if serving.is_stranger(at, peer) {
                return debug!(%peer, %at, "a client that is not on the open network is not served");
            }
            let for_connection = serving.clone();
            let counted = serving.shared.connections.token();
            serving.workers.serve(move |place| async move {
                let refused = permit.refused;
                let held = Held {
                    _permit: permit,
                    _place: place,
                    _counted: counted,
                };
                // From here on the socket belongs to the thread that serves it.
                let stream = match TcpStream::from_std(stream) {
                    Ok(stream) => stream,
                    Err(cause) => return debug!(%peer, %cause, "a connection cannot be served"),
                };
                let accepted = Accepted {
                    stream,
                    peer,
                    at,
                    refused,
                    held,
                };
                serve(for_connection, accepted).await;
            });
        };
        let (permits, until) = (self.permits.clone(), end.clone());
        let accepting = Arc::new((listener, permits, end, serve, self.accepting.token()));
        let name = format!("{protocol} {at}");
        let run = move || {
            let accepting = Arc::clone(&accepting);
            async move {
                let (listener, permits, end, serve, _) = &*accepting;
                accept(listener, permits, end, serve).await;
                Ok(())
            }
        };
        self.supervisor
            .spawn_until(until, name, Policy::Restart, run);
        Ok(())
    }

    /// Whether a client came to this machine's address on an open network of containers, and is none of
    /// them.
    fn is_stranger(&self, at: SocketAddr, peer: SocketAddr) -> bool {
        if at.ip().is_loopback() {
            return false;
        }
        let table = self.shared.routing_table();
        let mut bridges = table.snapshot.bridges().iter();
        let bridge = bridges.find(|bridge| IpAddr::V4(bridge.gateway) == at.ip());
        bridge.is_some_and(|bridge| !bridge.has(peer.ip()))
    }

    async fn serve_plain(self, accepted: Accepted) {
        match self.first_octets(&accepted.stream).await {
            Some([HANDSHAKE, ..]) => Box::pin(self.open_tls(accepted)).await,
            Some(first) => {
                let client = self.client(self.connected(&accepted));
                let Accepted { stream, held, .. } = accepted;
                if first == HTTP2_PREFACE {
                    self.serve_http2(stream, client, held);
                } else {
                    self.serve_http1(stream, client, held);
                }
            }
            None => {}
        }
    }

    async fn serve_tls(self, accepted: Accepted) {
        match self.first_octets(&accepted.stream).await {
            Some([HANDSHAKE, ..]) => Box::pin(self.open_tls(accepted)).await,
            Some(_) => {
                let client = Arc::new(self.client(self.connected(&accepted)));
                let service = service_fn(move |request: Request<Incoming>| {
                    let (parts, _) = request.into_parts();
                    let response = client.send_to_https(&parts);
                    async { Ok::<_, Infallible>(response) }
                });
                let stream = TokioIo::new(accepted.stream);
                let connection = self.http1().serve_connection(stream, service);
                let stop = http1::Connection::graceful_shutdown;
                let activity = Activity::default();
                self.serve(connection, stop, activity, accepted.held);
            }
            None => {}
        }
    }

    /// What a connection begins with, left where it is. `None` when nothing comes.
    async fn first_octets(&self, stream: &TcpStream) -> Option<[u8; 3]> {
        let mut first = [0; 3];
        let look = async {
            loop {
                let length = stream.peek(&mut first).await.ok()?;
                match (length, first) {
                    (0, _) => return None,
                    // A part of a preface may be in the first packet, though no client does so.
                    (1 | 2, [b'P', ..]) => sleep(FIRST_BYTES_POLL).await,
                    _ => return Some(first),
                }
            }
        };
        timeout(self.shared.limits.head, look).await.ok()?
    }

    async fn open_tls(self, accepted: Accepted) {
        let table = self.shared.routing_table();
        if table.snapshot.has_unopened() && self.only_port.is_none() {
            let asked = raw::server_name(&accepted.stream);
            let asked = timeout(self.shared.limits.head, asked).await.ok().flatten();
            let pool = asked.and_then(|name| table.unopened(&name));
            if let Some(pool) = pool.filter(|_| !accepted.refused) {
                return raw::pass_unseen(accepted.stream, &pool, &self.shared.limits).await;
            }
        }
        drop(table);
        let (connected, peer) = (self.connected(&accepted), accepted.peer);
        let Accepted { stream, held, .. } = accepted;
        let accepting = self.acceptor.accept(stream);
        let stream = match timeout(self.shared.limits.head, accepting).await {
            Ok(Ok(stream)) => stream,
            Ok(Err(cause)) => return debug!(%peer, %cause, "a handshake failed"),
            Err(_) => return debug!(%peer, "a handshake took too long"),
        };
        let session = stream.get_ref().1;
        let h2 = session.alpn_protocol() == Some(b"h2");
        let client = self.client(Connected {
            secure: true,
            name: session.server_name().map(Box::from),
            ..connected
        });
        if h2 {
            self.serve_http2(stream, client, held);
        } else {
            self.serve_http1(stream, client, held);
        }
    }

    /// A client of plain HTTP.
    fn connected(&self, accepted: &Accepted) -> Connected {
        Connected {
            peer: accepted.peer,
            // A listener for every address does not say which one it was.
            at: accepted.stream.local_addr().unwrap_or(accepted.at),
            https_port: self.https_port,
            only_port: self.only_port,
            secure: false,
            name: None,
            refused: accepted.refused,
        }
    }

    fn client(&self, connected: Connected) -> Client {
        Client::new(Arc::clone(&self.shared), connected)
    }

    fn serve_http1<S>(&self, stream: S, client: Client, held: Held)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let (stream, seen) = HeadCheck::new(stream);
        let client = client.with_heads_seen(seen);
        let client = Arc::new(client);
        let activity = client.activity.clone();
        let service = service_fn(move |request| {
            let answer = Arc::clone(&client).answer(request);
            async { Ok::<_, Infallible>(answer.await) }
        });
        let connection = self.http1().serve_connection(TokioIo::new(stream), service);
        let stop = http1::UpgradeableConnection::graceful_shutdown;
        self.serve(connection.with_upgrades(), stop, activity, held);
    }

    fn serve_http2<S>(&self, stream: S, client: Client, held: Held)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let client = Arc::new(client);
        let activity = client.activity.clone();
        let service = service_fn(move |request| {
            let answer = Arc::clone(&client).answer(request);
            async { Ok::<_, Infallible>(answer.await) }
        });
        let mut builder = http2::Builder::new(TokioExecutor::new());
        builder
            .timer(TokioTimer::new())
            .max_header_list_size(self.shared.limits.head_octets)
            .initial_stream_window_size(1 << 20)
            .initial_connection_window_size(4 << 20)
            .max_frame_size(64 * 1024)
            .max_concurrent_streams(250)
            // Streams that a client opens and resets without end (CVE-2023-44487) end the connection.
            .max_pending_accept_reset_streams(Some(20))
            .max_local_error_reset_streams(Some(1024))
            .enable_connect_protocol();
        let connection = builder.serve_connection(TokioIo::new(stream), service);
        let stop = http2::Connection::graceful_shutdown;
        let idle = self.shared.limits.idle;
        self.serve(
            UntilIdle::new(connection, stop, activity.clone(), idle),
            UntilIdle::stop,
            activity,
            held,
        );
    }

    fn http1(&self) -> http1::Builder {
        let limits = &self.shared.limits;
        let mut builder = http1::Builder::new();
        builder
            .timer(TokioTimer::new())
            .header_read_timeout(limits.head)
            // A head that does not fit the buffer gets 431 from the engine (RFC 6585 §5); one that does
            // and is too long gets it from us. Bodies come and go the faster the more fits.
            .max_buf_size((limits.head_octets as usize).max(BUFFER));
        builder
    }

    /// Serves `connection` to its end; once the proxy stops, to the end of its request at work. A client
    /// that has just connected may still ask: it would not ask again. In a separate task, so that the
    /// future of the handshake is dropped.
    fn serve<C>(&self, connection: C, stop: fn(Pin<&mut C>), activity: Activity, held: Held)
    where
        C: Future<Output = Result<(), hyper::Error>> + Send + 'static,
    {
        let stopping = self.shared.stopping.clone();
        tokio::spawn(async move {
            let mut connection = pin!(connection);
            let mut told = pin!(stopping.told());
            let (mut asked, mut is_told, mut stopped) = (false, false, false);
            let mut first = FirstRequest::default();
            let outcome = poll_fn(|context| {
                // Polled once, which has this task woken when the time comes, and then again: to ask
                // takes a lock.
                if !stopped && (!asked || stopping.has_begun()) {
                    asked = true;
                    is_told = is_told || told.as_mut().poll(context).is_ready();
                    if is_told && !first.is_awaited(&activity, context) {
                        stopped = true;
                        stop(connection.as_mut());
                    }
                }
                connection.as_mut().poll(context)
            });
            if let Err(cause) = outcome.await {
                debug!(%cause, "a client's connection ended early");
            }
            drop(held);
        });
    }
}

/// What a connection has for as long as it lives: among those that there may be, on its thread, and
/// among those that a stop waits for.
#[derive(Debug)]
pub(crate) struct Held {
    _permit: Permit,
    _place: Place,
    _counted: TaskTrackerToken,
}

/// A connection that was just accepted.
#[derive(Debug)]
pub(crate) struct Accepted {
    stream: TcpStream,
    peer: SocketAddr,
    /// Where it came to.
    at: SocketAddr,
    refused: bool,
    held: Held,
}
