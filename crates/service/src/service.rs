use std::net::SocketAddr;
use std::os::fd::OwnedFd;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use bentlane_api_types::{Attention, Capacity, SOCKET};
use bentlane_apps::{AppRunner, Setup, pack};
use bentlane_containers::Engines;
use bentlane_model::{Configuration, Observed, Snapshot, chain};
use bentlane_probe::{ProbeLimits, Prober};
use bentlane_proxy::{Certificates, Limits, Proxy, TargetRoots};
use bentlane_resolver::AnswerSource;
use bentlane_store::{DataDir, DataDirError, Lock, check_url};
use bentlane_supervisor::{Failure, Policy, Supervisor};
use time::OffsetDateTime;
use tokio::net::{TcpListener, UnixListener};
use tokio::sync::Mutex;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use tracing::{error, info, warn};

use crate::api::ports::PortProtocols;
use crate::api::serve::{Site, serve_console, serve_socket};
use crate::api::{self, Api, ServiceInfo};
use crate::apps::{self, Host};
use crate::background_checks::Checks;
use crate::bridges::{self, Bridges};
use crate::capacity::make_room;
use crate::checker::{CheckedListeners, RouteChecker};
use crate::config::{Config, Upstreams};
use crate::configuration::{ActiveConfiguration, Parts, compile};
use crate::containers;
use crate::database::Database;
use crate::disk;
use crate::error::{ServiceError, io_error};
use crate::events::Events;
use crate::exports::{self, Exports};
use crate::history::History;
use crate::inherited::Inherited;
use crate::kept_console::KeptConsole;
use crate::last_known_good;
use crate::listening::{Listening, random_label};
use crate::machine::MachineObserver;
use crate::pki::{self, AuthorityStore, BUNDLE, Imports, Pki};
use crate::query_log::{self, QueryLog};
use crate::relaunch::{Handover, Relaunch};
use crate::sign_in::SignIn;
use crate::sockets::BoundSockets;
use crate::storage::Storage;
use crate::system_files::SystemFiles;
use crate::traffic::{self, TrafficLog};

/// How long work may take to finish at a stop. The proxy's connections have five seconds of it.
const FINISH_LIMIT: Duration = Duration::from_secs(6);
/// The same when the service starts again, and clients wait.
const RESTART_LIMIT: Duration = Duration::from_secs(3);
/// How often a lock that a process had before it started again is tried.
const LOCK_TRIES: u32 = 20;
/// Files that earlier versions left in the data folder: a token, where the API listened, and the keys of
/// session tickets.
const FORMER_FILES: [&str; 3] = ["token", "service.json", "keys/tickets.json"];

/// A service that is ready: every listener is bound, and the configuration is in force.
#[derive(Debug)]
pub struct Service {
    api: Arc<Api>,
    history: Arc<History>,
    database: Database,
    /// Whether the stored configuration is in force.
    is_connected: bool,
    upstreams: Upstreams,
    sockets: BoundSockets,
    /// Further handles to the sockets, for a restart.
    handles: Vec<OwnedFd>,
    // Last, so that the folder is released after everything else.
    _lock: Lock,
}

impl Service {
    /// Prepares everything that names and routes need: the data folder, the authority, the listeners,
    /// and the last known good configuration. Uses what is `inherited` where that is what `config` asks
    /// for, and opens the rest.
    ///
    /// The database is connected to while names are answered and requests pass already, and it may be
    /// unreachable. Only the very first start, which has no last known good configuration, connects here
    /// and fails without it.
    ///
    /// # Errors
    /// See [`ServiceError`]; nothing is left half-made.
    pub async fn start(
        config: Config,
        mut inherited: Inherited,
        relaunch: Relaunch,
        shutdown: CancellationToken,
    ) -> Result<Self, ServiceError> {
        let data_dir = DataDir::open(&config.data_dir)?;
        let lock = lock(&data_dir, inherited.is_restart()).await?;
        let known = last_known_good::read(&data_dir);
        let first_start = known.is_none();
        let configuration = known.unwrap_or_default();
        let authority = AuthorityStore::load(&data_dir, &configuration.zones, &pki::owner())?;
        for former in FORMER_FILES {
            data_dir.remove(former)?;
        }
        if let Some(url) = &config.database_url {
            check_url(url).map_err(|source| ServiceError::DatabaseUrl { source })?;
        }
        let sockets = BoundSockets::bind(&config.listen, &mut inherited, &data_dir)?;
        if let Some(Attention { text, command }) = disk::attention(&data_dir) {
            warn!(command, "{text}");
        }
        let handles = sockets.handles();
        let handles = handles.map_err(io_error("keep another handle to each socket"))?;
        let supervisor = Supervisor::new(shutdown.clone());
        let console = inherited.console();
        let (label, sign_in) = match console {
            Some(kept) => (
                kept.label,
                SignIn::taken_over(kept.sessions, Instant::now()),
            ),
            None => (random_label(), SignIn::default()),
        };
        let listening = sockets
            .listening(label)
            .map_err(io_error("read the listeners' addresses"))?;
        let foundation = Foundation::new(&config, &data_dir, listening, authority, configuration)?;
        let (api, history) = assemble(
            &config, &data_dir, foundation, sign_in, relaunch, supervisor,
        )?;
        let api = Arc::new(api);
        let known = api.configuration.snapshot();
        api.apps
            .take_over(&known.configuration().apps, inherited.apps());
        let host = Host {
            runner: api.apps.clone(),
            configuration: Arc::clone(&api.configuration),
            engines: api.engines.clone(),
            speaking: Arc::default(),
        };
        api.configuration.proxy().run_apps_with(Arc::new(host));
        let site = Site::new(
            api::console_router(Arc::clone(&api)),
            Arc::clone(&api.checks.checker),
        );
        api.configuration.proxy().serve_site(Arc::new(site));
        if let Err(cause) = api.pki.serve_imports(&api.pki.imports.all()) {
            error!(
                cause = chain(&cause),
                "cannot serve the imported certificates"
            );
        }
        let mut database = Database::new(
            config.database_url,
            inherited.guard(),
            data_dir,
            Arc::clone(&api.storage),
            Arc::clone(&api.configuration),
            Arc::clone(&api.checks.checker),
        );
        let mut is_connected = false;
        if first_start {
            match shutdown.run_until_cancelled(database.connect()).await {
                Some(Ok(())) => is_connected = true,
                Some(Err(failure)) => {
                    // A server that we started is of no use to a service that does not start.
                    database.stop().await;
                    return Err(failure);
                }
                // Running the service stops it at once, and the server with it.
                None => {}
            }
        }
        Ok(Self {
            api,
            history: Arc::new(history),
            database,
            is_connected,
            upstreams: config.upstreams,
            sockets,
            handles,
            _lock: lock,
        })
    }

    /// Serves until the token given to [`Service::start`] is cancelled, then lets work finish for a
    /// few seconds, or until `hasten` is cancelled, and stops the private database server. Calls
    /// `ready` once names are answered and requests pass, unless it is cancelled already. When it was
    /// asked to start again, gives what the process has to leave to itself.
    ///
    /// # Errors
    /// When a part cannot start, or one that everything depends on ended. Failures while stopping are
    /// logged.
    pub async fn run(
        self,
        hasten: CancellationToken,
        ready: impl FnOnce(),
    ) -> Result<Option<Handover>, ServiceError> {
        let Self {
            api,
            history,
            mut database,
            is_connected,
            upstreams,
            sockets,
            mut handles,
            _lock,
        } = self;
        let supervisor = api.info.supervisor.clone();
        let shutdown = supervisor.shutdown().clone();
        let stop_on_failure = shutdown.clone().drop_guard();
        let asking = sockets
            .resolver
            .serve(&api.resolver, &supervisor)
            .map_err(io_error("start the resolver"))?;
        let proxy = api.configuration.proxy();
        let proxy = proxy
            .start(sockets.proxy, &supervisor)
            .map_err(io_error("start the proxy"))?;
        if !shutdown.is_cancelled() {
            ready();
        }
        if !is_connected
            && let Some(Err(failure)) = shutdown.run_until_cancelled(database.connect()).await
        {
            warn!(
                cause = chain(&failure),
                "starting without the database, with the last known good configuration"
            );
        }
        let database = Arc::new(Mutex::new(database));
        start_tasks(&api, &history, &database);
        follow_surroundings(&api, upstreams);
        serve_api(&api, sockets.api, sockets.console);
        let listening = &api.info.listening;
        info!(https = ?listening.https, dns = ?listening.dns, console = ?listening.console, "serving");
        shutdown.cancelled().await;
        stop_on_failure.disarm();
        let restarts = supervisor.is_restarting();
        let limit = if restarts {
            RESTART_LIMIT
        } else {
            FINISH_LIMIT
        };
        if !restarts {
            // Nobody is to wait in them for a service that does not come back.
            handles.clear();
        }
        let finishing = async {
            let apps = async {
                if !restarts {
                    api.apps.end().await;
                }
            };
            let (own, (), ()) = tokio::join!(proxy.drain(), asking.finish(), apps);
            handles.extend(own.into_iter().map(OwnedFd::from));
            api.traffic.finish();
            supervisor.join().await;
            api.configuration.finish_change().await;
        };
        tokio::select! {
            () = finishing => {}
            () = hasten.cancelled() => warn!("stopping at once, since a second signal came"),
            () = sleep(limit) => warn!("work that took too long is cut off"),
        }
        if restarts && !hasten.is_cancelled() {
            let apps = api.apps.hand_over().await;
            match pack(&apps) {
                Ok(socket) => handles.extend(socket),
                Err(error) => warn!(%error, "cannot leave the apps that run as they are"),
            }
            let console = KeptConsole {
                label: api.info.listening.label.clone(),
                sessions: api.sign_in.hand_over(Instant::now()),
            };
            match console.pack() {
                Ok(socket) => handles.push(socket),
                Err(error) => warn!(%error, "browsers have to sign in again"),
            }
            let guard = database.lock().await.hand_over();
            info!("starting again");
            return Ok(Some(Handover::new(handles, guard)));
        }
        api.apps.kill();
        database.lock().await.stop().await;
        info!("stopped");
        match supervisor.failure() {
            None => Ok(None),
            Some(Failure { task, reason }) => Err(ServiceError::Task { task, reason }),
        }
    }
}

/// Takes the data folder. A process that starts again has to let go of it for a moment, and another one
/// that is about to fail for want of a port may have it then.
async fn lock(data_dir: &DataDir, is_restart: bool) -> Result<Lock, ServiceError> {
    for _ in 1..LOCK_TRIES {
        match data_dir.lock() {
            Err(DataDirError::Locked { .. }) if is_restart => {
                sleep(Duration::from_millis(50)).await;
            }
            taken => return Ok(taken?),
        }
    }
    Ok(data_dir.lock()?)
}

fn checker(
    config: &Config,
    listening: &Listening,
    snapshot: Arc<ArcSwap<Snapshot>>,
    proxy: Proxy,
    authority: &AuthorityStore,
    history: &History,
    events: &Events,
) -> Result<RouteChecker, ServiceError> {
    let root = authority.root().certificate().clone();
    let resolver = listening.dns.first().copied();
    Ok(RouteChecker::new(
        snapshot,
        Prober::new([root], ProbeLimits::default()).map_err(io_error("set up checks"))?,
        proxy,
        &CheckedListeners {
            resolver: resolver.unwrap_or(SocketAddr::from(([127, 0, 0, 1], 53))),
            https: &listening.https,
            http: &listening.http,
        },
        config.checks.every,
        history.queue(),
        Arc::clone(history.storage()),
        events.clone(),
    ))
}

/// What other parts are made of.
struct Foundation {
    listening: Arc<Listening>,
    capacity: Capacity,
    snapshot: Arc<ArcSwap<Snapshot>>,
    proxy: Proxy,
    storage: Arc<Storage>,
    events: Events,
    history: History,
    checker: Arc<RouteChecker>,
    pki: Arc<Pki>,
}

impl Foundation {
    fn new(
        config: &Config,
        data_dir: &DataDir,
        listening: Listening,
        authority: AuthorityStore,
        configuration: Configuration,
    ) -> Result<Self, ServiceError> {
        let (limits, capacity) = make_room(Limits::default());
        let zones = configuration.zones.iter().map(|zone| zone.name.clone());
        let served = Arc::new(Certificates::new(authority.issuer(pki::certified(zones))?));
        let compiled = Arc::new(compile(configuration, Observed::default()));
        let proxy = Proxy::new(
            Arc::clone(&compiled),
            Arc::clone(&served),
            TargetRoots::new(data_dir.path(BUNDLE)),
            limits,
        );
        let snapshot = Arc::new(ArcSwap::new(compiled));
        let storage = Arc::new(Storage::default());
        let events = Events::new();
        let history = History::new(Arc::clone(&storage), config.checks.keep);
        let checker = Arc::new(checker(
            config,
            &listening,
            Arc::clone(&snapshot),
            proxy.clone(),
            &authority,
            &history,
            &events,
        )?);
        let imports = Imports::load(authority.keys())?;
        let pki = Pki::new(
            data_dir,
            authority,
            imports,
            served,
            Arc::clone(&snapshot),
            Arc::clone(&checker),
        );
        Ok(Self {
            listening: Arc::new(listening),
            capacity,
            snapshot,
            proxy,
            storage,
            events,
            history,
            checker,
            pki: Arc::new(pki),
        })
    }
}

/// Connects the parts with each other. Nothing runs yet.
fn assemble(
    config: &Config,
    data_dir: &DataDir,
    foundation: Foundation,
    sign_in: SignIn,
    relaunch: Relaunch,
    supervisor: Supervisor,
) -> Result<(Api, History), ServiceError> {
    let Foundation {
        listening,
        capacity,
        snapshot,
        proxy,
        storage,
        events,
        history,
        checker,
        pki,
    } = foundation;
    let started_at = OffsetDateTime::now_utc();
    let machine = MachineObserver::new(
        data_dir,
        Arc::clone(&listening),
        Arc::clone(&snapshot),
        Arc::clone(&pki),
        started_at,
    );
    let queries = Arc::new(QueryLog::default());
    let forwarder = config
        .upstreams
        .forwarder(&listening.dns, config.rebinding.clone());
    let dns = listening.dns_settings();
    let system_files = SystemFiles::new(data_dir, Arc::clone(&listening), Arc::clone(&snapshot));
    let traffic = TrafficLog::new(proxy.recorder(), Arc::clone(&storage), config.traffic);
    let engines = Engines::new(&config.engines, rustix::process::geteuid().as_raw());
    let exports = Exports::load(data_dir, Arc::clone(&pki), engines.clone())?;
    let counted = proxy.clone();
    let apps = AppRunner::new(Setup {
        // What runs now, whatever is at its path meanwhile.
        program: "/proc/self/exe".into(),
        folder: data_dir.path("apps"),
        idle_for: Arc::new(move |app| counted.idle_for(app)),
    });
    checker.knows_apps_of(apps.clone());
    let api = Api {
        traffic: Arc::new(traffic),
        resolver: AnswerSource::new(Arc::clone(&snapshot), dns, forwarder, queries.log()),
        queries,
        system_files: Arc::new(system_files),
        exports: Arc::new(exports),
        engines,
        bridges: Arc::new(Bridges::load(data_dir)?),
        apps,
        checks: Arc::new(Checks {
            checker: Arc::clone(&checker),
            machine: Arc::new(machine),
            pki: Arc::clone(&pki),
        }),
        configuration: Arc::new(ActiveConfiguration::new(Parts {
            snapshot,
            data_dir: data_dir.clone(),
            storage: Arc::clone(&storage),
            pki: Arc::clone(&pki),
            proxy,
            checker,
            events: events.clone(),
        })),
        pki,
        storage,
        events,
        sign_in,
        port_protocols: PortProtocols::default(),
        info: ServiceInfo {
            data_dir: data_dir.clone(),
            started_at,
            listening,
            capacity,
            relaunch,
            supervisor,
        },
    };
    Ok((api, history))
}

/// Starts the tasks that keep our own data up to date.
fn start_tasks(api: &Arc<Api>, history: &Arc<History>, database: &Arc<Mutex<Database>>) {
    let supervisor = &api.info.supervisor;
    let checks = Arc::clone(&api.checks);
    start(supervisor, "checks", move |shutdown| {
        let checks = Arc::clone(&checks);
        async move { checks.run(shutdown).await }
    });
    let history = Arc::clone(history);
    start(supervisor, "check results", move |shutdown| {
        let history = Arc::clone(&history);
        async move { history.run(shutdown).await }
    });
    let pki = Arc::clone(&api.pki);
    start(supervisor, "certificates", move |shutdown| {
        pki::renew(Arc::clone(&pki), shutdown)
    });
    let exports = Arc::clone(&api.exports);
    start(supervisor, "exported certificates", move |shutdown| {
        exports::run(Arc::clone(&exports), shutdown)
    });
    let queries = Arc::clone(&api.queries);
    start(supervisor, "query log", move |shutdown| {
        query_log::run(Arc::clone(&queries), shutdown)
    });
    traffic::start(&api.traffic, &api.checks.checker, supervisor);
    let database = Arc::clone(database);
    start(supervisor, "database", move |shutdown| {
        let database = Arc::clone(&database);
        async move { database.lock().await.run(&shutdown).await }
    });
}

/// Starts the tasks that follow what others change: files, containers, name servers.
fn follow_surroundings(api: &Arc<Api>, upstreams: Upstreams) {
    let supervisor = &api.info.supervisor;
    let pki = Arc::clone(&api.pki);
    start(supervisor, "imported certificates", move |shutdown| {
        pki::follow_imports(Arc::clone(&pki), shutdown)
    });
    let system_files = Arc::clone(&api.system_files);
    start(supervisor, "system files", move |shutdown| {
        Arc::clone(&system_files).run(shutdown)
    });
    let (configuration, exports) = (Arc::clone(&api.configuration), Arc::clone(&api.exports));
    let engines = api.engines.clone();
    start(supervisor, "containers", move |shutdown| {
        let (configuration, exports) = (Arc::clone(&configuration), Arc::clone(&exports));
        containers::follow(engines.clone(), configuration, exports, shutdown)
    });
    let (opened, engines) = (Arc::clone(&api.bridges), api.engines.clone());
    let (configuration, resolver) = (Arc::clone(&api.configuration), api.resolver.clone());
    let handle = supervisor.clone();
    start(supervisor, "open networks", move |shutdown| {
        let (opened, configuration) = (Arc::clone(&opened), Arc::clone(&configuration));
        let (resolver, handle) = (resolver.clone(), handle.clone());
        bridges::follow(
            opened,
            engines.clone(),
            configuration,
            resolver,
            handle,
            shutdown,
        )
    });
    let (apps, configuration) = (api.apps.clone(), Arc::clone(&api.configuration));
    let events = api.events.clone();
    start(supervisor, "apps", move |shutdown| {
        let configuration = Arc::clone(&configuration);
        apps::follow(apps.clone(), configuration, events.clone(), shutdown)
    });
    let (forwarder, ours) = (
        api.resolver.forwarder.clone(),
        api.info.listening.dns.clone(),
    );
    start(supervisor, "upstream resolvers", move |shutdown| {
        upstreams
            .clone()
            .follow(forwarder.clone(), ours.clone(), shutdown)
    });
}

/// Serves the API on its socket and the console on its listeners, until the service stops.
fn serve_api(api: &Arc<Api>, socket: Option<UnixListener>, console: Vec<TcpListener>) {
    let supervisor = &api.info.supervisor;
    let path = api.info.data_dir.path(SOCKET);
    if socket.is_none() {
        warn!("commands cannot reach the service: there is no room for its socket");
    }
    let socket = Arc::new(socket.map_or_else(OnceLock::new, OnceLock::from));
    let serving = Arc::clone(api);
    let handle = supervisor.clone();
    start(supervisor, "api", move |_| {
        let router = api::socket_router(Arc::clone(&serving));
        serve_socket(Arc::clone(&socket), path.clone(), router, handle.clone())
    });
    let addresses = api.info.listening.console.clone();
    for (listener, at) in console.into_iter().zip(addresses) {
        let (listener, serving) = (Arc::new(listener), Arc::clone(api));
        start(supervisor, &format!("console {at}"), move |shutdown| {
            let router = api::console_router(Arc::clone(&serving));
            serve_console(Arc::clone(&listener), at, router, shutdown)
        });
    }
}

/// Starts a task that is restarted when it fails, and ends when the service stops.
fn start<W, F>(supervisor: &Supervisor, name: &str, mut work: W)
where
    W: FnMut(CancellationToken) -> F + Send + 'static,
    F: Future<Output = ()> + Send + 'static,
{
    let shutdown = supervisor.shutdown().clone();
    supervisor.spawn(name, Policy::Restart, move || {
        let working = work(shutdown.clone());
        async {
            working.await;
            Ok(())
        }
    });
}
