use std::io;
use std::net::SocketAddr;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex as StdMutex};
use std::time::Duration;

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_core::authority::{AuthorityError, Owner};
use bentlane_core::chain;
use bentlane_core::dns::Settings;
use bentlane_probe::{ProbeLimits, Prober, port_holder};
use bentlane_proxy::{Certificates, Limits, Listeners, Proxy, TargetRoots};
use bentlane_resolver::{Sockets, View};
use bentlane_store::{ClusterError, DataDir, DataDirError, Lock, StoreError};
use time::OffsetDateTime;
use tokio::net::TcpListener;
use tokio::sync::{Mutex, Notify};
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

use crate::api;
use crate::attached;
use crate::board::{self, Board, Places};
use crate::config::{Config, ListenAt, Upstreams};
use crate::containers;
use crate::events::Events;
use crate::exports::{self, Exports};
use crate::history::{self, History};
use crate::imports::{self, Imports};
use crate::inherited::Inherited;
use crate::machine::Watch;
use crate::queries::QueryBook;
use crate::run_file::RunFile;
use crate::sign_in::SignIn;
use crate::state::{Listening, State, certified, last_known_good};
use crate::traffic::{self, TrafficBook};
use crate::trust::{self, BUNDLE, Trust};
use crate::wiring::Database;

/// How long API calls may finish when the service stops.
const API_DRAIN: Duration = Duration::from_secs(5);

/// A service that is ready: every listener is bound, and the configuration is in force.
#[derive(Debug)]
pub struct Service {
    state: Arc<State>,
    database: Database,
    /// Whether the database has been asked what is in force.
    asked: bool,
    upstreams: Upstreams,
    resolver: Sockets,
    proxy: Listeners,
    api: Vec<TcpListener>,
    // Last, so that the folder is given up after everything else.
    _lock: Lock,
}

/// Why a service does not start or ends.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The data folder.
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    /// A listener's address cannot be bound.
    #[error("cannot listen for {purpose} on {address}: {reason}; {advice}")]
    Bind {
        /// What the listener is for.
        purpose: &'static str,
        /// The address.
        address: SocketAddr,
        /// Why, and who has the port.
        reason: String,
        /// What to do.
        advice: String,
    },
    /// The authority's files.
    #[error("the authority in the data folder cannot be used")]
    Authority(#[from] AuthorityError),
    /// Only one of the authority's two files is there.
    #[error(
        "{found} is there but {missing} is not: put that back from a copy, or move {found} away for a new authority, which then has to be trusted anew"
    )]
    HalfAnAuthority {
        /// The file that is there.
        found: String,
        /// The file that is not.
        missing: String,
    },
    /// The private database server.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The database, at the first start, when there is nothing to go by without it.
    #[error("cannot use the database at {place}")]
    Store {
        /// Where the database is, without its password.
        place: String,
        /// Why.
        source: StoreError,
    },
    /// Anything else of the system.
    #[error("cannot {verb}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// The system's reason.
        source: io::Error,
    },
}

fn io_error(verb: &'static str) -> impl FnOnce(io::Error) -> ServiceError {
    move |source| ServiceError::Io { verb, source }
}

impl Service {
    /// Gets everything ready that names and routes need: the data folder, the authority, the
    /// listeners, and the last known good configuration.
    ///
    /// Listens on what is `inherited` where that is what `config` asks for, and opens the rest.
    ///
    /// The database is asked while names are answered and requests pass already, and whether it can be
    /// reached or not; at the very first start, when there is no last known good configuration, it is
    /// asked here, and this fails without it.
    ///
    /// # Errors
    /// See [`ServiceError`]; nothing is left half-made.
    pub async fn start(
        config: Config,
        mut inherited: Inherited,
        shutdown: CancellationToken,
    ) -> Result<Self, ServiceError> {
        let data_dir = DataDir::open(&config.data_dir)?;
        let lock = data_dir.lock()?;
        let known = last_known_good(&data_dir);
        let first_start = known.is_none();
        let configuration = known.unwrap_or_default();
        let authority = Trust::take_up(&data_dir, &configuration.zones, &owner())?;
        let token = take_up_token(&data_dir)?;

        let listen = &config.listen;
        let (dns, http, https) = (all(&listen.dns), all(&listen.http), all(&listen.https));
        let resolver = Sockets::bind(&dns, |at| inherited.dns(at))
            .map_err(|e| bind_error("DNS", "--dns", e.address, &e.source))?;
        let proxy = Listeners::plain(&http, |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTP", "--http", e.address, &e.source))?
            .and_tls(&https, |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTPS", "--https", e.address, &e.source))?;
        inherited.warn_of_the_rest();
        let api = bind_api(&all(&listen.api)).await?;
        let address = io_error("learn where the listeners listen");
        let listening = (|| {
            Ok(Listening {
                dns: resolver.addresses()?,
                http: proxy.plain_addresses()?,
                https: proxy.tls_addresses()?,
                api: api
                    .iter()
                    .map(TcpListener::local_addr)
                    .collect::<Result<_, _>>()?,
            })
        })()
        .map_err(address)?;

        let issuer = authority.issuer(certified(&configuration.zones))?;
        let snapshot = Arc::new(listening.compile(configuration, Arc::default()));
        let certificates = Arc::new(Certificates::new(issuer));
        let engine = Proxy::new(
            Arc::clone(&snapshot),
            Arc::clone(&certificates),
            authority.tickets()?,
            TargetRoots::new(data_dir.path(BUNDLE)),
            Limits::default(),
        );
        let snapshot = Arc::new(ArcSwap::new(snapshot));
        let root = authority.root().certificate().clone();
        let prober =
            Prober::new([root], ProbeLimits::default()).map_err(io_error("set up checks"))?;
        let events = Events::new();
        let history = History::new(config.checks.keep);
        let resolver_at = listening.dns.first().copied();
        let board = Board::new(
            Arc::clone(&snapshot),
            prober,
            certificates,
            &Places {
                resolver: resolver_at.unwrap_or(SocketAddr::from(([127, 0, 0, 1], 53))),
                https: &listening.https,
                http: &listening.http,
            },
            config.checks.every,
            history.sink(),
            events.clone(),
        );
        let queries = Arc::new(QueryBook::default());
        let current = Arc::clone(&snapshot);
        let state = Arc::new(State {
            data_dir: data_dir.clone(),
            imports: Imports::take_up(authority.keys())?,
            exports: Exports::take_up(&data_dir)?,
            trust: authority,
            snapshot,
            traffic: TrafficBook::new(engine.recorder(), config.traffic),
            proxy: engine,
            board: Arc::new(board),
            engine: config.engine,
            containers: ArcSwap::default(),
            containers_wanted: Notify::new(),
            watch: Watch::default(),
            history,
            events,
            sign_in: SignIn::new(token),
            resolver: View::new(
                current,
                dns_settings(&listening),
                config.upstreams.forwarder(&listening.dns),
                queries.log(),
            ),
            queries,
            listening,
            started_at: OffsetDateTime::now_utc(),
            shutdown,
            database_place: ArcSwap::default(),
            database_reachable: AtomicBool::new(false),
            store: ArcSwapOption::empty(),
            reloading: Mutex::new(()),
            replaced: StdMutex::default(),
        });
        if let Err(cause) = imports::show(&state, &state.imports.all()) {
            error!(
                cause = chain(&cause),
                "the imported certificates are not shown"
            );
        }
        let mut database = Database::new(config.database_url);
        if first_start && let Err(failure) = database.connect(&state).await {
            // A server that we started is of no use to a service that does not start.
            database.stop().await;
            return Err(failure);
        }
        RunFile {
            pid: std::process::id(),
            api: state.listening.api.clone(),
        }
        .write(&data_dir)?;
        Ok(Self {
            state,
            database,
            asked: first_start,
            upstreams: config.upstreams,
            resolver,
            proxy,
            api,
            _lock: lock,
        })
    }

    /// Where the API and the console listen.
    #[must_use]
    pub fn api_addresses(&self) -> &[SocketAddr] {
        &self.state.listening.api
    }

    /// Serves until the token given to [`Service::start`] is cancelled, then lets work finish for a
    /// few seconds and stops the private database server.
    ///
    /// # Errors
    /// When a listener cannot be set up. What goes wrong while stopping is logged.
    pub async fn run(self) -> Result<(), ServiceError> {
        let Self {
            state,
            mut database,
            asked,
            upstreams,
            resolver,
            proxy,
            api,
            _lock,
        } = self;
        let shutdown = state.shutdown.clone();
        let stop_on_failure = shutdown.clone().drop_guard();
        let resolver = resolver
            .serve(state.resolver.clone(), shutdown.clone())
            .map_err(io_error("start the resolver"))?;
        let serving = tokio::spawn({
            let (engine, shutdown) = (state.proxy.clone(), shutdown.clone());
            async move { engine.serve(proxy, shutdown).await }
        });
        if !asked {
            tokio::select! {
                outcome = database.connect(&state) => if let Err(failure) = outcome {
                    warn!(
                        cause = chain(&failure),
                        "starting without the database, from what was in force last"
                    );
                },
                () = shutdown.cancelled() => {}
            }
        }
        let checking = tokio::spawn({
            let state = Arc::clone(&state);
            async move { board::keep_checking(state).await }
        });
        let finding = tokio::spawn(containers::keep(Arc::clone(&state)));
        let remembering = tokio::spawn(history::keep(Arc::clone(&state)));
        let watching = traffic::keep_aside(Arc::clone(&state))
            .map_err(io_error("start taking over traffic"))?;
        let storing = tokio::spawn(traffic::store(Arc::clone(&state)));
        let following = tokio::spawn({
            let (ours, shutdown) = (state.listening.dns.clone(), shutdown.clone());
            upstreams.follow(state.resolver.forwarder.clone(), ours, shutdown)
        });
        let reading = tokio::spawn(Arc::clone(&state.queries).keep(shutdown.clone()));
        let keeping = tokio::spawn(attached::keep(Arc::clone(&state)));
        let issuing = tokio::spawn(trust::keep(Arc::clone(&state)));
        let importing = tokio::spawn(imports::keep(Arc::clone(&state)));
        let exporting = tokio::spawn(exports::keep(Arc::clone(&state)));
        let answering = tokio::spawn(serve_api(api, Arc::clone(&state)));
        info!(
            https = ?state.listening.https,
            dns = ?state.listening.dns,
            console = ?state.listening.api,
            "serving"
        );
        database.keep(&state).await;

        // The token is cancelled now, so each of these ends within its own limit.
        drop(stop_on_failure);
        for (part, task) in [("proxy", serving), ("API", answering)] {
            match task.await {
                Ok(Ok(())) => {}
                Ok(Err(cause)) => error!(part, %cause, "ended with an error"),
                Err(cause) => error!(part, %cause, "ended abruptly"),
            }
        }
        state.traffic.finish();
        for (part, task) in [
            ("checks", checking),
            ("what checks came to", remembering),
            ("the database's traffic", storing),
            ("containers", finding),
            ("upstream resolvers", following),
            ("system", keeping),
            ("query log", reading),
            ("certificates", issuing),
            ("imported certificates", importing),
            ("exported certificates", exporting),
        ] {
            if let Err(cause) = task.await {
                error!(part, %cause, "ended abruptly");
            }
        }
        if tokio::task::spawn_blocking(|| watching.join())
            .await
            .is_err()
        {
            error!("taking over traffic ended abruptly");
        }
        if let Ok(Err(cause)) = tokio::task::spawn_blocking(|| resolver.join()).await {
            error!(%cause, "the resolver ended abruptly");
        }
        // A change that is still made is made to its end.
        drop(state.reloading.lock().await);
        state.store.store(None);
        database.stop().await;
        RunFile::remove(&state.data_dir)?;
        info!("stopped");
        Ok(())
    }
}

/// What names resolve to: the addresses on which HTTPS listens.
fn dns_settings(listening: &Listening) -> Settings {
    let ips = || listening.https.iter().map(SocketAddr::ip);
    let ipv4 = ips().find_map(|ip| match ip {
        std::net::IpAddr::V4(ip) => Some(ip),
        std::net::IpAddr::V6(_) => None,
    });
    let ipv6 = ips().find_map(|ip| match ip {
        std::net::IpAddr::V4(_) => None,
        std::net::IpAddr::V6(ip) => Some(ip),
    });
    Settings {
        ipv4,
        ipv6,
        https_port: listening.https_port(),
        cookie_secret: rand::random(),
        ..Settings::default()
    }
}

fn all(places: &[ListenAt]) -> Vec<SocketAddr> {
    places.iter().flat_map(|place| place.addresses()).collect()
}

async fn bind_api(addresses: &[SocketAddr]) -> Result<Vec<TcpListener>, ServiceError> {
    let mut listeners = Vec::with_capacity(addresses.len());
    for address in addresses {
        let listener = TcpListener::bind(address)
            .await
            .map_err(|source| bind_error("the API", "--api", *address, &source))?;
        listeners.push(listener);
    }
    Ok(listeners)
}

fn bind_error(
    purpose: &'static str,
    flag: &str,
    address: SocketAddr,
    source: &io::Error,
) -> ServiceError {
    let (reason, advice) = match source.kind() {
        io::ErrorKind::AddrInUse => {
            let holder = port_holder(address)
                .map_or_else(|| "another program".to_owned(), |holder| holder.to_string());
            let advice = format!(
                "stop it, or choose another port with {flag} PORT (--high-ports chooses four that \
                 are mostly free)"
            );
            (format!("{holder} has the port"), advice)
        }
        io::ErrorKind::PermissionDenied => (
            "ports below 1024 need root or the capability CAP_NET_BIND_SERVICE".to_owned(),
            "start with --high-ports to do without".to_owned(),
        ),
        _ => (
            source.to_string(),
            format!("choose another place with {flag} ADDRESS:PORT"),
        ),
    };
    ServiceError::Bind {
        purpose,
        address,
        reason,
        advice,
    }
}

/// Whose authority it is.
pub(crate) fn owner() -> Owner {
    Owner {
        user: user_name(),
        host: host_name(),
    }
}

fn take_up_token(data_dir: &DataDir) -> Result<String, ServiceError> {
    const TOKEN: &str = "token";
    if let Some(token) = data_dir.read_secret(TOKEN)?
        && !token.trim().is_empty()
    {
        return Ok(token.trim().to_owned());
    }
    let token = SignIn::secret();
    data_dir.write_secret(TOKEN, token.as_bytes())?;
    Ok(token)
}

fn user_name() -> String {
    let named = ["USER", "LOGNAME"]
        .iter()
        .find_map(|name| std::env::var(name).ok());
    named.filter(|name| !name.is_empty()).unwrap_or_else(|| {
        let id = rustix::process::geteuid();
        if id.is_root() {
            "root".to_owned()
        } else {
            format!("user {}", id.as_raw())
        }
    })
}

fn host_name() -> String {
    rustix::system::uname()
        .nodename()
        .to_string_lossy()
        .into_owned()
}

async fn serve_api(listeners: Vec<TcpListener>, state: Arc<State>) -> io::Result<()> {
    let shutdown = state.shutdown.clone();
    let router = api::router(state);
    let mut serving: tokio::task::JoinSet<io::Result<()>> = listeners
        .into_iter()
        .map(|listener| {
            let (router, shutdown) = (router.clone(), shutdown.clone());
            async move {
                axum::serve(listener, router)
                    .with_graceful_shutdown(async move { shutdown.cancelled().await })
                    .await
            }
        })
        .collect();
    shutdown.cancelled().await;
    let drained = timeout(API_DRAIN, async {
        while let Some(ended) = serving.join_next().await {
            ended.map_err(io::Error::other)??;
        }
        Ok(())
    });
    drained.await.unwrap_or(Ok(()))
}
