use std::error::Error;
use std::future::Future;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex as StdMutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_api_types::{Attention, Capacity};
use bentlane_ca::{AuthorityError, Issuer};
use bentlane_model::{Change, Configuration, Containers, Name, Snapshot, Zone, chain};
use bentlane_proxy::{Proxy, Replaced};
use bentlane_resolver::View;
use bentlane_store::{DataDir, Store, StoreError};
use bentlane_supervisor::Supervisor;
use bentlane_system::{StoreReport, Trusts};
use time::OffsetDateTime;
use tokio::runtime::Handle;
use tokio::sync::{Mutex, Notify, oneshot};
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use tracing::{error, info};

use crate::api::authority::ours;
use crate::board::Board;
use crate::events::{Event, Events};
use crate::exports::Exports;
use crate::history::History;
use crate::imports::{Imported, Imports};
use crate::machine::Watch;
use crate::priority::give_way;
use crate::queries::QueryBook;
use crate::service::owner;
use crate::sign_in::SignIn;
use crate::traffic::TrafficBook;
use crate::trust::{Fitted, Trust, TrustError};

/// The file with the last known good configuration.
pub(crate) const LAST_GOOD: &str = "last-known-good.json";

/// How often it is looked whether what was replaced is still in use, and for how long.
const LOOK_AGAIN: Duration = Duration::from_millis(10);
const LONGEST_USE: Duration = Duration::from_secs(2);

/// The name of our own pages behind the TLS listener, and of DNS over HTTPS. It is this machine's
/// everywhere (RFC 6761 §6.3).
pub(crate) const OWN_NAME: &str = "bentlane.localhost";

/// Where every listener listens, as bound.
#[derive(Clone, Debug)]
pub(crate) struct Listening {
    pub(crate) dns: Vec<SocketAddr>,
    pub(crate) http: Vec<SocketAddr>,
    pub(crate) https: Vec<SocketAddr>,
    pub(crate) console: Vec<SocketAddr>,
    /// The label of the console's name below `localhost`: another with each start, so that nothing
    /// is left in the browser for it by whoever had its port before.
    pub(crate) label: String,
}

impl Listening {
    /// The port that URLs of routes name.
    pub(crate) fn https_port(&self) -> u16 {
        self.https.first().map_or(443, SocketAddr::port)
    }

    /// The host of the console on its own listener.
    pub(crate) fn console_host(&self) -> String {
        let port = self.console.first().map_or(0, SocketAddr::port);
        format!("{}.localhost:{port}", self.label)
    }

    /// The origin of our own pages behind the proxy's TLS.
    pub(crate) fn site_origin(&self) -> String {
        match self.https_port() {
            443 => format!("https://{OWN_NAME}"),
            port => format!("https://{OWN_NAME}:{port}"),
        }
    }

    /// The addresses on which names are served.
    pub(crate) fn https_ips(&self) -> Vec<IpAddr> {
        self.https.iter().map(SocketAddr::ip).collect()
    }
}

/// Compiles `configuration`, with our own pages under their own name.
pub(crate) fn compile(configuration: Configuration, containers: Arc<Containers>) -> Snapshot {
    let snapshot = Snapshot::compile_with(configuration, containers);
    match OWN_NAME.parse() {
        Ok(name) => snapshot.with_own_pages(name),
        Err(_) => snapshot,
    }
}

/// What certificates are issued for: the zones, and our own name.
pub(crate) fn certified(zones: &[Zone]) -> Vec<Name> {
    let zones = zones.iter().map(|zone| zone.name.clone());
    zones.chain(OWN_NAME.parse()).collect()
}

/// What the parts of the service share.
#[derive(Debug)]
pub(crate) struct State {
    pub(crate) data_dir: DataDir,
    pub(crate) trust: Trust,
    pub(crate) imports: Imports,
    pub(crate) exports: Exports,
    pub(crate) snapshot: Arc<ArcSwap<Snapshot>>,
    pub(crate) proxy: Proxy,
    pub(crate) board: Arc<Board>,
    /// The socket of the container engine; `None` for where it usually is.
    pub(crate) engine: Option<PathBuf>,
    /// What the container engine tells.
    pub(crate) containers: ArcSwap<Containers>,
    /// Told when routes may lead to other containers than before.
    pub(crate) containers_wanted: Notify,
    /// What was last seen of the machine.
    pub(crate) watch: Watch,
    /// What checks came to, kept in the database.
    pub(crate) history: History,
    /// What passed the proxy.
    pub(crate) traffic: TrafficBook,
    pub(crate) events: Events,
    pub(crate) sign_in: SignIn,
    pub(crate) listening: Listening,
    pub(crate) capacity: Capacity,
    /// What the user has to do, since the service cannot.
    pub(crate) attention: ArcSwap<Vec<Attention>>,
    /// What answers DNS questions.
    pub(crate) resolver: View,
    /// What the resolver was asked.
    pub(crate) queries: Arc<QueryBook>,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) shutdown: CancellationToken,
    pub(crate) supervisor: Supervisor,
    /// Where the database is, without its password.
    pub(crate) database_place: ArcSwap<String>,
    pub(crate) database_reachable: AtomicBool,
    pub(crate) store: ArcSwapOption<Store>,
    /// One reload at a time, so that revisions are published in order.
    pub(crate) reloading: Mutex<()>,
    /// What is no longer in force.
    pub(crate) replaced: StdMutex<Vec<Replaced>>,
}

impl State {
    /// The store, when the database has been reached at least once.
    ///
    /// # Errors
    /// [`Unavailable`] before that.
    pub(crate) fn store(&self) -> Result<Arc<Store>, Unavailable> {
        self.store.load_full().ok_or(Unavailable)
    }

    /// Waits for so long; gives whether the service goes on.
    pub(crate) async fn pause(&self, time: Duration) -> bool {
        tokio::select! {
            () = self.shutdown.cancelled() => false,
            () = sleep(time) => true,
        }
    }

    /// Makes a change and returns when the data plane goes by it. With `based_on`, it is made of that
    /// revision or not at all.
    pub(crate) async fn change(
        self: &Arc<Self>,
        who: &str,
        change: Change,
        based_on: Option<u64>,
    ) -> Result<u64, ChangeError> {
        let (state, who) = (Arc::clone(self), who.to_owned());
        let work = async move {
            let store = state.store().map_err(|_| ChangeError::Unavailable)?;
            // From here on, so that whoever is told of the change waits for it in place of reading it.
            let _one = state.reloading.lock().await;
            let known = state.snapshot.load_full();
            let next = store
                .apply(&who, &change, based_on, known.configuration())
                .await?;
            drop(known);
            state.database_reachable.store(true, Ordering::Relaxed);
            let revision = next.revision;
            state.publish(next)?;
            Ok(revision)
        };
        self.aside(work).await?
    }

    /// Reads the configuration and, when it is another, publishes it.
    pub(crate) async fn reload(self: &Arc<Self>) -> Result<(), ChangeError> {
        let state = Arc::clone(self);
        self.aside(async move { state.take_over().await }).await?
    }

    /// The same, unless the revision in force is the latest.
    pub(crate) async fn reload_if_newer(self: &Arc<Self>) -> Result<(), ChangeError> {
        let store = self.store().map_err(|_| ChangeError::Unavailable)?;
        // A change of our own that is being published is waited for.
        let publishing = self.reloading.lock().await;
        let latest = store.revision().await?;
        self.database_reachable.store(true, Ordering::Relaxed);
        let in_force = self.snapshot.load().configuration().revision;
        drop(publishing);
        if latest == in_force {
            return Ok(());
        }
        self.reload().await
    }

    async fn take_over(&self) -> Result<(), ChangeError> {
        let store = self.store().map_err(|_| ChangeError::Unavailable)?;
        let _one = self.reloading.lock().await;
        let configuration = store.configuration().await?;
        self.database_reachable.store(true, Ordering::Relaxed);
        if configuration != *self.snapshot.load().configuration() {
            self.publish(configuration)?;
        }
        Ok(())
    }

    /// Does `work` on a thread of its own that gives way to those which serve requests: with many
    /// routes it takes a core for a moment. What it replaces is let go of there, too, once no request
    /// goes by it any more. The work is done even when nobody waits for it any more.
    async fn aside<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl Future<Output = T> + Send + 'static,
    ) -> Result<T, ChangeError> {
        let (tell, outcome) = oneshot::channel();
        let (state, runtime) = (Arc::clone(self), Handle::current());
        thread::Builder::new()
            .name("aside".to_owned())
            .spawn(move || {
                give_way();
                let _ = tell.send(runtime.block_on(work)); // nobody may wait for it any more
                state.let_go();
            })
            .map_err(ChangeError::Thread)?;
        let ended = |_| ChangeError::Thread(io::Error::other("it ended early"));
        outcome.await.map_err(ended)
    }

    /// Lets go of what has been replaced, when nothing goes by it any more or after a while.
    #[allow(
        clippy::disallowed_methods,
        reason = "this thread has nothing else to do, and outlives the runtime for a moment at a stop"
    )]
    fn let_go(&self) {
        let replaced = std::mem::take(&mut *self.replaced());
        for old in replaced {
            let limit = Instant::now() + LONGEST_USE;
            while !old.is_unused() && Instant::now() < limit {
                thread::sleep(LOOK_AGAIN);
            }
        }
    }

    fn replaced(&self) -> MutexGuard<'_, Vec<Replaced>> {
        self.replaced.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes another issuing certificate for the zones of the moment, and goes by the root of the
    /// moment.
    pub(crate) fn issue_anew(&self, issuer: Issuer) -> Result<(), AuthorityError> {
        self.trust_anew(self.imports.all().values())?;
        self.proxy.certificates().replace_issuer(issuer);
        self.board.configuration_changed();
        Ok(())
    }

    /// Has our own checks go by the root of the moment, and by what these certificates lead to.
    pub(crate) fn trust_anew<'a>(
        &self,
        imported: impl IntoIterator<Item = &'a Imported>,
    ) -> Result<(), AuthorityError> {
        let root = self.trust.root().certificate().clone();
        let imported = imported.into_iter();
        let lasts = imported.filter_map(|imported| imported.pair.chain.last().cloned());
        let roots = std::iter::once(root).chain(lasts);
        self.board
            .trust(roots)
            .map_err(|_| AuthorityError::Certificate)
    }

    /// The names that certificates are issued for now.
    pub(crate) fn certified(&self) -> Vec<Name> {
        certified(&self.snapshot.load().configuration().zones)
    }

    /// Has the data plane go by `configuration` and keeps it as the last known good one.
    fn publish(&self, configuration: Configuration) -> Result<(), TrustError> {
        let kept = serde_json::to_string(&configuration);
        let snapshot = self.compile(configuration);
        let previous = self.snapshot.load_full();
        let (zones, revision) = (
            &snapshot.configuration().zones,
            snapshot.configuration().revision,
        );
        let names = |zones: &[Zone]| {
            zones
                .iter()
                .map(|zone| zone.name.clone())
                .collect::<Vec<_>>()
        };
        if names(zones) != names(&previous.configuration().zones) {
            let fitted = self
                .trust
                .fit(&names(zones), &owner(), || self.is_trusted())?;
            let issuer = self.trust.issuer(certified(zones))?;
            match fitted {
                Fitted::AsBefore => self.proxy.certificates().replace_issuer(issuer),
                Fitted::Remade | Fitted::Succeeded => {
                    self.issue_anew(issuer)?;
                    self.trust.refresh_bundle()?;
                }
            }
        }
        self.put_in_force(snapshot);
        let failed = |cause: &(dyn Error + 'static)| {
            let cause = chain(cause);
            error!(cause, "cannot keep the last known good configuration");
        };
        match kept.map(|kept| self.data_dir.write(LAST_GOOD, kept.as_bytes())) {
            Ok(Ok(())) => {}
            Ok(Err(cause)) => failed(&cause),
            Err(cause) => failed(&cause),
        }
        info!(revision, "the configuration is in force");
        self.events.tell(Event::Configuration { revision });
        self.board.configuration_changed();
        self.containers_wanted.notify_one();
        Ok(())
    }

    /// Has the data plane go by what the container engine tells now.
    pub(crate) async fn containers_are(
        self: &Arc<Self>,
        containers: Containers,
    ) -> Result<(), ChangeError> {
        if **self.containers.load() == containers {
            return Ok(());
        }
        let state = Arc::clone(self);
        let work = async move {
            let _one = state.reloading.lock().await;
            state.containers.store(Arc::new(containers));
            let configuration = state.snapshot.load().configuration().clone();
            state.put_in_force(state.compile(configuration));
            state.board.containers_changed();
        };
        self.aside(work).await
    }

    /// Whether a trust store of this machine holds a root of ours.
    fn is_trusted(&self) -> bool {
        let home = std::env::var_os("HOME").unwrap_or_default();
        let reports = ours(self).map(|ours| ours.reports(&[home.into()]));
        let holds =
            |report: &StoreReport| !report.ours.is_empty() || report.state == Trusts::Trusted;
        reports.is_some_and(|reports| reports.iter().any(holds))
    }

    fn compile(&self, configuration: Configuration) -> Arc<Snapshot> {
        let containers = self.containers.load_full();
        Arc::new(compile(configuration, containers))
    }

    fn put_in_force(&self, snapshot: Arc<Snapshot>) {
        let replaced = self.proxy.publish(Arc::clone(&snapshot));
        self.snapshot.store(snapshot);
        self.replaced().push(replaced);
    }
}

/// The configuration that was in force last, from the data folder; `None` when there is none that
/// can be read.
pub(crate) fn last_known_good(data_dir: &DataDir) -> Option<Configuration> {
    let text = data_dir
        .read(LAST_GOOD)
        .inspect_err(|cause| error!(cause = chain(cause), "the last configuration is lost"))
        .ok()??;
    serde_json::from_str(&text)
        .inspect_err(|cause| error!(%cause, "the last known good configuration is damaged"))
        .ok()
}

/// The database has not been reached yet.
#[derive(Debug)]
pub(crate) struct Unavailable;

/// Why a change was not made, or not published.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ChangeError {
    #[error("the database is not reachable yet")]
    Unavailable,
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Trust(#[from] TrustError),
    #[error("cannot work on it")]
    Thread(#[source] io::Error),
}
