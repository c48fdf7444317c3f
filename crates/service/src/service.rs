use std::io;
use std::net::SocketAddr;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex as StdMutex};

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_api_types::SOCKET;
use bentlane_ca::{AuthorityError, Owner};
use bentlane_dns::Settings;
use bentlane_model::chain;
use bentlane_probe::{ProbeLimits, Prober, port_holder, port_owner};
use bentlane_proxy::{Certificates, Limits, Listeners, Proxy, TargetRoots};
use bentlane_resolver::{Sockets, View};
use bentlane_store::{ClusterError, DataDir, DataDirError, Lock, StoreError, check_url};
use bentlane_supervisor::{Failure, Policy, Supervisor};
use rand::Rng;
use rand::distr::Uniform;
use time::OffsetDateTime;
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::{Mutex, Notify};
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

use crate::api;
use crate::api::serve::{Site, bind_socket, serve_console, serve_socket};
use crate::api::user_in_words;
use crate::attached;
use crate::board::{self, Board, Places};
use crate::capacity::make_room;
use crate::config::{Config, ListenAt, Upstreams};
use crate::containers;
use crate::events::Events;
use crate::exports::{self, Exports};
use crate::history::{self, History};
use crate::imports::{self, Imports};
use crate::inherited::Inherited;
use crate::machine::Watch;
use crate::queries::{self, QueryBook};
use crate::sign_in::SignIn;
use crate::state::{Listening, State, certified, compile, last_known_good};
use crate::traffic::{self, TrafficBook};
use crate::trust::{self, BUNDLE, Trust};
use crate::wiring::Database;

/// Files that earlier versions left in the data folder: a token, where the API listened, and the keys of
/// session tickets.
const FORMER_FILES: [&str; 3] = ["token", "service.json", "keys/tickets.json"];

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
    console: Vec<TcpListener>,
    socket: UnixListener,
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
    /// The given database would not be used safely.
    #[error("the database of --database-url is not used")]
    DatabaseUrl {
        /// Why, and what to write.
        source: StoreError,
    },
    /// The database, at the first start, when there is nothing to go by without it.
    #[error("cannot use the database at {place}")]
    Store {
        /// Where the database is, without its password.
        place: String,
        /// Why.
        source: StoreError,
    },
    /// A part without which nothing is served ended before its time.
    #[error("{task} ended: {reason}; start the service again, and report this if it comes back")]
    Task {
        /// The task's name.
        task: Arc<str>,
        /// Why it ended.
        reason: String,
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
        for former in FORMER_FILES {
            data_dir.remove(former)?;
        }
        if let Some(url) = &config.database_url {
            check_url(url).map_err(|source| ServiceError::DatabaseUrl { source })?;
        }

        let listen = &config.listen;
        let (dns, http, https) = (all(&listen.dns), all(&listen.http), all(&listen.https));
        let resolver = Sockets::bind(&dns, |at| inherited.dns(at))
            .map_err(|e| bind_error("DNS", "--dns", e.address, &e.source))?;
        let proxy = Listeners::plain(&http, |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTP", "--http", e.address, &e.source))?
            .and_tls(&https, |at| inherited.tcp(at))
            .map_err(|e| bind_error("HTTPS", "--https", e.address, &e.source))?;
        let console = bind_console(&all(&listen.console), &mut inherited)?;
        inherited.warn_of_the_rest();
        let socket = bind_socket(&data_dir.path(SOCKET))
            .map_err(io_error("listen on the API's socket in the data folder"))?;
        let address = io_error("learn where the listeners listen");
        let listening = (|| {
            Ok(Listening {
                dns: resolver.addresses()?,
                http: proxy.plain_addresses()?,
                https: proxy.tls_addresses()?,
                console: console
                    .iter()
                    .map(TcpListener::local_addr)
                    .collect::<Result<_, _>>()?,
                label: random_label(),
            })
        })()
        .map_err(address)?;

        let (limits, capacity) = make_room(Limits::default());
        let issuer = authority.issuer(certified(&configuration.zones))?;
        let snapshot = Arc::new(compile(configuration, Arc::default()));
        let certificates = Arc::new(Certificates::new(issuer));
        let engine = Proxy::new(
            Arc::clone(&snapshot),
            Arc::clone(&certificates),
            TargetRoots::new(data_dir.path(BUNDLE)),
            limits,
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
            sign_in: SignIn::default(),
            resolver: View::new(
                current,
                dns_settings(&listening),
                config.upstreams.forwarder(&listening.dns, config.rebinding),
                queries.log(),
            ),
            queries,
            listening,
            capacity,
            attention: ArcSwap::default(),
            started_at: OffsetDateTime::now_utc(),
            supervisor: Supervisor::new(shutdown.clone()),
            shutdown,
            database_place: ArcSwap::default(),
            database_reachable: AtomicBool::new(false),
            store: ArcSwapOption::empty(),
            reloading: Mutex::new(()),
            replaced: StdMutex::default(),
        });
        let site = Site::new(api::console_router(Arc::clone(&state)));
        state.proxy.serve_site(Arc::new(site));
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
        Ok(Self {
            state,
            database,
            asked: first_start,
            upstreams: config.upstreams,
            resolver,
            proxy,
            console,
            socket,
            _lock: lock,
        })
    }

    /// Serves until the token given to [`Service::start`] is cancelled, then lets work finish for a
    /// few seconds and stops the private database server. Calls `ready` once names are answered and
    /// requests pass.
    ///
    /// # Errors
    /// When a part cannot start, or one that everything depends on ended before its time. What goes
    /// wrong while stopping is logged.
    pub async fn run(self, ready: impl FnOnce()) -> Result<(), ServiceError> {
        let Self {
            state,
            mut database,
            asked,
            upstreams,
            resolver,
            proxy,
            console,
            socket,
            _lock,
        } = self;
        let supervisor = state.supervisor.clone();
        let shutdown = supervisor.shutdown().clone();
        let stop_on_failure = shutdown.clone().drop_guard();
        resolver
            .serve(&state.resolver, &supervisor)
            .map_err(io_error("start the resolver"))?;
        let proxy = state
            .proxy
            .start(proxy, &supervisor)
            .map_err(io_error("start the proxy"))?;
        ready();
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
        let database = Arc::new(Mutex::new(database));
        start_tasks(&state, &database, upstreams);
        serve_calls(socket, console, &state);
        info!(
            https = ?state.listening.https,
            dns = ?state.listening.dns,
            console = ?state.listening.console,
            "serving"
        );
        shutdown.cancelled().await;
        stop_on_failure.disarm();
        // Each of these ends within its own limit.
        proxy.drain().await;
        state.traffic.finish();
        supervisor.join().await;
        // A change that is still made is made to its end.
        drop(state.reloading.lock().await);
        state.store.store(None);
        database.lock().await.stop().await;
        info!("stopped");
        match supervisor.failure() {
            None => Ok(()),
            Some(Failure { task, reason }) => Err(ServiceError::Task { task, reason }),
        }
    }
}

/// Starts what goes on beside the listeners.
fn start_tasks(state: &Arc<State>, database: &Arc<Mutex<Database>>, upstreams: Upstreams) {
    start(state, "checks", board::keep_checking);
    start(state, "containers", containers::keep);
    start(state, "check results", history::keep);
    start(state, "system files", attached::keep);
    start(state, "certificates", trust::keep);
    start(state, "imported certificates", imports::keep);
    start(state, "exported certificates", exports::keep);
    start(state, "query log", queries::keep);
    traffic::start(state);
    let database = Arc::clone(database);
    start(state, "database", move |state| {
        let database = Arc::clone(&database);
        async move { database.lock().await.keep(&state).await }
    });
    start(state, "upstream resolvers", move |state| {
        upstreams.clone().follow(state)
    });
}

/// Starts a task that ends when the service stops.
fn start<W, F>(state: &Arc<State>, name: &str, mut work: W)
where
    W: FnMut(Arc<State>) -> F + Send + 'static,
    F: Future<Output = ()> + Send + 'static,
{
    let (supervisor, state) = (state.supervisor.clone(), Arc::clone(state));
    supervisor.spawn(name, Policy::Restart, move || {
        let working = work(Arc::clone(&state));
        async {
            working.await;
            Ok(())
        }
    });
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

fn bind_console(
    addresses: &[SocketAddr],
    inherited: &mut Inherited,
) -> Result<Vec<TcpListener>, ServiceError> {
    let bind = |address: &SocketAddr| {
        let listener = inherited.tcp(*address);
        let listener = listener.map_or_else(|| std::net::TcpListener::bind(address), Ok)?;
        listener.set_nonblocking(true)?;
        TcpListener::from_std(listener)
    };
    let mut bind = bind;
    let mut listeners = Vec::with_capacity(addresses.len());
    for address in addresses {
        let listener = bind(address)
            .map_err(|source| bind_error("the console", "--console", *address, &source))?;
        listeners.push(listener);
    }
    Ok(listeners)
}

/// Why an address cannot be bound, with who has it and what to do.
#[must_use]
pub fn bind_error(
    purpose: &'static str,
    flag: &str,
    address: SocketAddr,
    source: &io::Error,
) -> ServiceError {
    let (reason, advice) = match source.kind() {
        io::ErrorKind::AddrInUse => {
            let advice = format!(
                "stop it, or choose another port with {flag} PORT (--high-ports chooses four that \
                 are mostly free)"
            );
            (format!("{} has the port", holder_in_words(address)), advice)
        }
        // Who may not bind a low port is told so first, even where somebody has the port.
        io::ErrorKind::PermissionDenied if port_owner(address).is_some() => (
            format!("{} has the port", holder_in_words(address)),
            format!("start with --high-ports, or choose another port with {flag} PORT"),
        ),
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

/// Who has an address: the process, or only its user where that is another one's.
fn holder_in_words(address: SocketAddr) -> String {
    let own = rustix::process::geteuid().as_raw();
    let owner = port_owner(address);
    let user = owner.map(|uid| user_in_words(Some(uid)));
    match (port_holder(address), user) {
        (Some(holder), Some(user)) if owner != Some(own) => format!("{holder}, of {user},"),
        (Some(holder), _) => holder.to_string(),
        (None, Some(user)) => format!("a process of {user}"),
        (None, None) => "another program".to_owned(),
    }
}

/// Where the authority is made.
pub(crate) fn owner() -> Owner {
    Owner { host: host_name() }
}

/// A label that nobody can guess: 100 bits in lower-case letters and digits.
fn random_label() -> String {
    const ALPHABET: &[u8; 32] = b"abcdefghijklmnopqrstuvwxyz234567";
    let letters = rand::rng().sample_iter(Uniform::new(0, ALPHABET.len()).expect("32 is over 0"));
    letters
        .take(20)
        .filter_map(|index| ALPHABET.get(index).copied().map(char::from))
        .collect()
}

fn host_name() -> String {
    rustix::system::uname()
        .nodename()
        .to_string_lossy()
        .into_owned()
}

/// Serves the API on its socket and the console on its listeners, until the service stops.
fn serve_calls(socket: UnixListener, console: Vec<TcpListener>, state: &Arc<State>) {
    let socket = Arc::new(socket);
    start(state, "api", move |state| {
        let (path, shutdown) = (state.data_dir.path(SOCKET), state.shutdown.clone());
        serve_socket(
            Arc::clone(&socket),
            path,
            api::socket_router(state),
            shutdown,
        )
    });
    for (listener, at) in console.into_iter().zip(state.listening.console.clone()) {
        let listener = Arc::new(listener);
        start(state, &format!("console {at}"), move |state| {
            let shutdown = state.shutdown.clone();
            serve_console(
                Arc::clone(&listener),
                at,
                api::console_router(state),
                shutdown,
            )
        });
    }
}
