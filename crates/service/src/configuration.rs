use std::io;
use std::sync::{Arc, Mutex as StdMutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use bentlane_model::{
    AppName, Apps, Bridge, Change, Configuration, Containers, Name, Observed, Snapshot, Zone,
};
use bentlane_probe::PortSeen;
use bentlane_proxy::{Proxy, Replaced};
use bentlane_store::{Attempt, Contents, DataDir};
use tokio::sync::{Mutex, Notify};
use tracing::{error, info};

use crate::checker::RouteChecker;
use crate::events::{Event, Events};
use crate::last_known_good;
use crate::listening::OWN_NAME;
use crate::low_priority;
use crate::pki::{AuthorityStoreError, Pki};
use crate::storage::{CallError, Storage};

/// How long a backup may take to be stored.
const RESTORE_LIMIT: Duration = Duration::from_secs(60);
/// How often it is checked whether a replaced snapshot is still in use, and for how long at most.
const POLL_USE: Duration = Duration::from_millis(10);
const LONGEST_USE: Duration = Duration::from_secs(2);

/// Compiles `configuration`, with our own pages under their own name.
pub(crate) fn compile(configuration: Configuration, observed: Observed) -> Snapshot {
    let snapshot = Snapshot::compile_with(configuration, observed);
    match OWN_NAME.parse() {
        Ok(name) => snapshot.with_own_pages(name),
        Err(_) => snapshot,
    }
}

/// The configuration in force, and the only way to change it.
///
/// A change is stored first, then compiled into a [`Snapshot`] and swapped in; `change` returns when
/// the data plane uses it.
#[derive(Debug)]
pub(crate) struct ActiveConfiguration {
    snapshot: Arc<ArcSwap<Snapshot>>,
    data_dir: DataDir,
    storage: Arc<Storage>,
    pki: Arc<Pki>,
    proxy: Proxy,
    checker: Arc<RouteChecker>,
    events: Events,
    /// The containers that the engine reported last.
    containers: ArcSwap<Containers>,
    /// The apps that can be connected to.
    apps: ArcSwap<Apps>,
    /// The networks of containers that are open.
    bridges: ArcSwap<Vec<Bridge>>,
    /// Notified when there may be other apps than before.
    apps_changed: Notify,
    /// One change at a time, so that revisions are put in force in their order. Taken before the lock
    /// of [`Pki`].
    changing: Mutex<()>,
    /// Snapshots that are no longer in force and may still be in use.
    replaced: StdMutex<Vec<Replaced>>,
}

/// What the configuration is made of and shown to.
pub(crate) struct Parts {
    pub(crate) snapshot: Arc<ArcSwap<Snapshot>>,
    pub(crate) data_dir: DataDir,
    pub(crate) storage: Arc<Storage>,
    pub(crate) pki: Arc<Pki>,
    pub(crate) proxy: Proxy,
    pub(crate) checker: Arc<RouteChecker>,
    pub(crate) events: Events,
}

impl ActiveConfiguration {
    pub(crate) fn new(parts: Parts) -> Self {
        Self {
            snapshot: parts.snapshot,
            data_dir: parts.data_dir,
            storage: parts.storage,
            pki: parts.pki,
            proxy: parts.proxy,
            checker: parts.checker,
            events: parts.events,
            containers: ArcSwap::default(),
            apps: ArcSwap::default(),
            bridges: ArcSwap::default(),
            apps_changed: Notify::new(),
            changing: Mutex::new(()),
            replaced: StdMutex::default(),
        }
    }

    /// What is in force.
    pub(crate) fn snapshot(&self) -> Arc<Snapshot> {
        self.snapshot.load_full()
    }

    /// The proxy, which serves what is in force.
    pub(crate) fn proxy(&self) -> &Proxy {
        &self.proxy
    }

    /// Waits until the change that is being made, if any, is in force.
    pub(crate) async fn finish_change(&self) {
        drop(self.changing.lock().await);
    }

    /// Makes a change and returns its revision when the data plane uses it. With `based_on`, the change
    /// is made to that revision or not at all. A caller that goes away does not stop it.
    pub(crate) async fn change(
        self: &Arc<Self>,
        by: &ChangedBy,
        change: Change,
        based_on: Option<u64>,
    ) -> Result<u64, ChangeError> {
        let (this, attempt) = (Arc::clone(self), by.attempt());
        let work = async move {
            // From here on, so that the database's notification of this change waits until it is in force.
            let _one = this.changing.lock().await;
            let known = this.snapshot();
            let touched = change.most_routes(known.stored());
            let applied = this.storage.call_for(touched, async |store| {
                let known = known.stored();
                store.apply(&attempt, &change, based_on, known).await
            });
            let next = applied
                .await
                .map_err(|cause| failed_attempt(&attempt, cause))?;
            drop(known);
            let revision = next.revision;
            this.publish(next).await?;
            Ok(revision)
        };
        self.at_low_priority(work).await?
    }

    /// Replaces the configuration by a backup's; gives whether the journal became its, too.
    pub(crate) async fn restore(
        self: &Arc<Self>,
        by: &ChangedBy,
        contents: Arc<Contents>,
    ) -> Result<bool, ChangeError> {
        let (this, attempt) = (Arc::clone(self), by.attempt());
        let work = async move {
            let _one = this.changing.lock().await;
            let restoring = this.storage.call_within(RESTORE_LIMIT, async |store| {
                let with_journal = store.restore(&attempt, &contents).await?;
                Ok((store.configuration().await?, with_journal))
            });
            let (next, with_journal) = restoring
                .await
                .map_err(|cause| failed_attempt(&attempt, cause))?;
            this.publish(next).await?;
            Ok(with_journal)
        };
        self.at_low_priority(work).await?
    }

    /// Reads the stored configuration and, when it differs, puts it in force.
    pub(crate) async fn reload(self: &Arc<Self>) -> Result<(), ChangeError> {
        let this = Arc::clone(self);
        let work = async move {
            let _one = this.changing.lock().await;
            let read = this.storage.call(async |store| store.configuration().await);
            let configuration = read.await?;
            if configuration != *this.snapshot().stored() {
                this.publish(configuration).await?;
            }
            Ok(())
        };
        self.at_low_priority(work).await?
    }

    /// The same, when the stored revision is another than that in force.
    pub(crate) async fn reload_if_newer(self: &Arc<Self>) -> Result<(), ChangeError> {
        // A change of our own that is being made is waited for.
        let changing = self.changing.lock().await;
        let latest = self
            .storage
            .call(async |store| store.revision().await)
            .await?;
        let in_force = self.snapshot().stored().revision;
        drop(changing);
        if latest == in_force {
            return Ok(());
        }
        self.reload().await
    }

    /// Has routes lead to these containers; when this returns, they do.
    pub(crate) async fn set_containers(
        self: &Arc<Self>,
        containers: Arc<Containers>,
    ) -> Result<(), ChangeError> {
        if *self.snapshot().containers() == *containers {
            return Ok(());
        }
        let observed = move |this: &Self| this.containers.store(containers);
        self.observe(observed, |this, before| {
            this.checker.containers_changed();
            if before.labels().routes != this.snapshot().labels().routes {
                let revision = before.stored().revision;
                this.events.send(Event::Configuration { revision });
                this.checker.configuration_changed();
            }
        })
        .await
    }

    /// Puts in force what was observed of containers, apps and networks, and then does `after` with the
    /// snapshot of before.
    async fn observe(
        self: &Arc<Self>,
        observed: impl FnOnce(&Self) + Send + 'static,
        after: impl FnOnce(&Self, &Snapshot) + Send + 'static,
    ) -> Result<(), ChangeError> {
        let this = Arc::clone(self);
        let work = async move {
            let _one = this.changing.lock().await;
            observed(&this);
            let before = this.snapshot();
            this.swap(this.compile(before.stored().clone()));
            after(&this, &before);
        };
        self.at_low_priority(work).await
    }

    /// Has these networks of containers served.
    pub(crate) async fn set_bridges(
        self: &Arc<Self>,
        bridges: Vec<Bridge>,
    ) -> Result<(), ChangeError> {
        if self.snapshot().bridges() == bridges {
            return Ok(());
        }
        let observed = move |this: &Self| this.bridges.store(Arc::new(bridges));
        self.observe(observed, |_, _| {}).await
    }

    /// Waits until there may be other apps than before.
    pub(crate) async fn apps_changed(&self) {
        self.apps_changed.notified().await;
    }

    /// What listens on this machine.
    pub(crate) async fn listeners(&self) -> Vec<PortSeen> {
        self.checker.ports().await
    }

    /// An app is otherwise than it was.
    pub(crate) fn app_changed(&self, name: &AppName) {
        self.checker.app_changed(name);
    }

    /// Has routes lead to these apps; when this returns, they do.
    pub(crate) async fn set_apps(self: &Arc<Self>, apps: Arc<Apps>) -> Result<(), ChangeError> {
        if *self.snapshot().apps() == *apps {
            return Ok(());
        }
        let observed = move |this: &Self| this.apps.store(apps);
        self.observe(observed, |_, _| {}).await
    }

    /// Runs `work` at low priority, since it takes a core for a moment with many routes. The snapshot
    /// that it replaces is dropped on the same thread, once no request uses it.
    async fn at_low_priority<T: Send + 'static>(
        self: &Arc<Self>,
        work: impl Future<Output = T> + Send + 'static,
    ) -> Result<T, ChangeError> {
        let this = Arc::clone(self);
        let outcome = low_priority::run(work, move || this.drop_replaced());
        outcome.await.map_err(ChangeError::Thread)
    }

    /// Drops the snapshots that were replaced, when they are no longer in use or after a while.
    #[allow(
        clippy::disallowed_methods,
        reason = "this thread has nothing else to do, and outlives the runtime for a moment at a stop"
    )]
    fn drop_replaced(&self) {
        let replaced = std::mem::take(&mut *self.replaced());
        for old in replaced {
            let limit = Instant::now() + LONGEST_USE;
            while !old.is_unused() && Instant::now() < limit {
                thread::sleep(POLL_USE);
            }
        }
    }

    fn replaced(&self) -> MutexGuard<'_, Vec<Replaced>> {
        self.replaced.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Puts `configuration` in force and keeps it as the last known good one.
    async fn publish(&self, configuration: Configuration) -> Result<(), AuthorityStoreError> {
        let json = serde_json::to_string(&configuration);
        let snapshot = self.compile(configuration);
        let revision = snapshot.configuration().revision;
        let zones = zone_names(&snapshot);
        {
            let changing = self.pki.lock().await;
            if zones != zone_names(&self.snapshot()) {
                self.pki.certify(&changing, &zones)?;
            }
            self.swap(snapshot);
        }
        match json {
            Ok(json) => last_known_good::write(&self.data_dir, &json),
            Err(cause) => error!(%cause, "cannot write the last known good configuration"),
        }
        info!(revision, "the configuration is in force");
        self.events.send(Event::Configuration { revision });
        self.checker.configuration_changed();
        self.apps_changed.notify_one();
        Ok(())
    }

    fn compile(&self, configuration: Configuration) -> Arc<Snapshot> {
        let observed = Observed {
            containers: self.containers.load_full(),
            apps: self.apps.load_full(),
            bridges: self.bridges.load_full(),
        };
        Arc::new(compile(configuration, observed))
    }

    fn swap(&self, snapshot: Arc<Snapshot>) {
        let replaced = self.proxy.publish(Arc::clone(&snapshot));
        self.snapshot.store(snapshot);
        self.replaced().push(replaced);
    }
}

fn zone_names(snapshot: &Snapshot) -> Vec<Name> {
    let zones: &[Zone] = &snapshot.configuration().zones;
    zones.iter().map(|zone| zone.name.clone()).collect()
}

/// Who makes a change, and the key that identifies it when it is requested again.
#[derive(Clone, Debug)]
pub(crate) struct ChangedBy {
    who: Arc<str>,
    key: Arc<str>,
}

impl ChangedBy {
    /// With the caller's key, or a random one.
    pub(crate) fn new(who: impl Into<Arc<str>>, key: Option<&str>) -> Self {
        let random = || format!("{:032x}", rand::random::<u128>()).into();
        Self {
            who: who.into(),
            key: key.map_or_else(random, Into::into),
        }
    }

    pub(crate) fn attempt(&self) -> Attempt {
        Attempt::new(Arc::clone(&self.who), Arc::clone(&self.key))
    }
}

/// The error for an attempt that failed.
pub(crate) fn failed_attempt(attempt: &Attempt, cause: CallError) -> ChangeError {
    match attempt.is_outcome_unknown() {
        true => ChangeError::Unknown {
            key: attempt.key().to_owned(),
            cause,
        },
        false => ChangeError::Database(cause),
    }
}

/// Why a change was not made, or not put in force.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ChangeError {
    #[error(transparent)]
    Database(#[from] CallError),
    /// It may have been made.
    #[error("the connection to the database was lost while the change was saved")]
    Unknown {
        key: String,
        #[source]
        cause: CallError,
    },
    #[error(transparent)]
    Authority(#[from] AuthorityStoreError),
    #[error("the thread that makes changes failed")]
    Thread(#[source] io::Error),
}

#[cfg(test)]
mod tests {
    use bentlane_model::Route;

    use super::*;

    #[test]
    fn our_own_pages_have_their_name_in_every_snapshot() {
        let zone = Zone::new("moor.test".parse().unwrap());
        let route = Route::new("a.moor.test".parse().unwrap(), "4310".parse().unwrap());
        let configuration = Configuration {
            revision: 1,
            zones: vec![zone],
            routes: vec![route],
            ..Configuration::default()
        };
        let snapshot = compile(configuration, Observed::default());
        assert!(snapshot.route_for(OWN_NAME, "/").is_some());
        assert!(snapshot.route_for("a.moor.test", "/").is_some());
        assert_eq!(zone_names(&snapshot).len(), 1, "it is in no zone");
    }
}
