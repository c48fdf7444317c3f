//! Checks routes and remembers the results.

mod proof;
mod scheduler;

use std::collections::{HashMap, HashSet, VecDeque};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use bentlane_apps::AppRunner;
use bentlane_ca::{CertificateInfo, covers};
use bentlane_checks::{
    AppStatus, Conditions, Facts, FindingKind, Hop, HopState, Machine, Observations, PairFacts,
    Proof, RawClients, Since, Trace, Verdict, advice_for_route, advice_for_zone, diagnose, trace,
};
use bentlane_model::{AppName, Name, PinnedCert, Route, Snapshot, Target, WaitLimit, is_own};
use bentlane_probe::{PortSeen, ProbeLimits, Prober};
use bentlane_proxy::Proxy;
use bentlane_queue::BoundedQueue;
use bentlane_store::StoredVerdict;
use futures_util::{StreamExt, stream};
use rustls::pki_types::CertificateDer;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio::time::sleep;

use crate::access_log;
use crate::events::{Event, Events};
use crate::storage::Storage;
use scheduler::{CheckScheduler, IDLE_ROUND, LastCheck, ROUND};

/// Routes that are checked at the same time.
const CONCURRENT_CHECKS: usize = 64;
/// A route flaps that changed this often between proved and broken, within this time.
const FLAPS: usize = 4;
const FLAPS_WITHIN: time::Duration = time::Duration::minutes(5);

/// Checks routes and remembers the results.
#[derive(Debug)]
pub(crate) struct RouteChecker {
    snapshot: Arc<ArcSwap<Snapshot>>,
    prober: ArcSwap<Prober>,
    proxy: Proxy,
    resolver: SocketAddr,
    listener: SocketAddr,
    http_port: u16,
    listening_on: Vec<IpAddr>,
    scheduler: Mutex<CheckScheduler>,
    verdicts: Mutex<HashMap<String, Checked>>,
    /// What each route was last proved with.
    proofs: Mutex<HashMap<String, Proof>>,
    storage: Arc<Storage>,
    history: Arc<BoundedQueue<StoredVerdict>>,
    events: Events,
    changed: Notify,
    /// Who runs apps.
    apps: OnceLock<AppRunner>,
}

/// A result, the route that was checked, and when it last changed between proved and broken.
#[derive(Debug)]
struct Checked {
    route: Route,
    verdict: Verdict,
    changes: VecDeque<OffsetDateTime>,
}

/// What a check was made for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Trigger {
    /// A request waits for the result, which is always sent as an event.
    Request,
    /// A result is sent when it changed.
    Background,
}

/// How to check.
#[derive(Clone, Debug)]
pub(crate) struct CheckOptions {
    pub(crate) trigger: Trigger,
    /// The one hop to check.
    pub(crate) only: Option<Hop>,
    /// Whether to check what the page loads, too.
    pub(crate) deep: bool,
    /// How long to wait for the first byte of a response.
    pub(crate) patience: Duration,
    pub(crate) machine: Arc<Machine>,
    /// The imported certificates, and why one is not usable.
    pub(crate) pairs: Vec<PairFacts>,
}

/// How long a check waits for the first byte of a response, unless it is asked to wait longer.
pub(crate) const PATIENCE: Duration = Duration::from_secs(10);
/// What a check waits longer than the proxy, so that the proxy's own page comes.
const LATER: Duration = Duration::from_secs(1);

impl CheckOptions {
    /// Whether the whole route is checked, so that the result can be kept.
    fn is_complete(&self) -> bool {
        self.only.is_none() && !self.deep
    }
}

/// A route to check, and the name to check it by.
#[derive(Clone, Debug)]
pub(crate) struct CheckTarget {
    pub(crate) route: Route,
    /// The name and path to request; `None` for a sample of the route's names and its prefix.
    pub(crate) at: Option<(Name, String)>,
}

impl From<Route> for CheckTarget {
    fn from(route: Route) -> Self {
        Self { route, at: None }
    }
}

/// The listeners that are checked.
#[derive(Debug)]
pub(crate) struct CheckedListeners<'a> {
    pub(crate) resolver: SocketAddr,
    pub(crate) https: &'a [SocketAddr],
    pub(crate) http: &'a [SocketAddr],
}

impl RouteChecker {
    pub(crate) fn new(
        snapshot: Arc<ArcSwap<Snapshot>>,
        prober: Prober,
        proxy: Proxy,
        listeners: &CheckedListeners<'_>,
        check_every: Duration,
        history: Arc<BoundedQueue<StoredVerdict>>,
        storage: Arc<Storage>,
        events: Events,
    ) -> Self {
        let unbound = SocketAddr::from(([127, 0, 0, 1], 443));
        Self {
            snapshot,
            prober: ArcSwap::from_pointee(prober),
            proxy,
            resolver: listeners.resolver,
            listener: listeners.https.first().copied().unwrap_or(unbound),
            http_port: listeners.http.first().map_or(80, SocketAddr::port),
            listening_on: listeners.https.iter().map(SocketAddr::ip).collect(),
            scheduler: Mutex::new(CheckScheduler::new(check_every, Instant::now())),
            verdicts: Mutex::default(),
            proofs: Mutex::default(),
            storage,
            history,
            events,
            changed: Notify::new(),
            apps: OnceLock::new(),
        }
    }

    /// Trusts these roots alone from now on.
    pub(crate) fn trust(
        &self,
        roots: impl IntoIterator<Item = CertificateDer<'static>>,
    ) -> io::Result<()> {
        let prober = Prober::new(roots, ProbeLimits::default())?;
        self.prober.store(Arc::new(prober));
        Ok(())
    }

    /// The result of the last check of this route.
    pub(crate) fn verdict(&self, address: &str) -> Option<Verdict> {
        let verdicts = self.verdicts();
        verdicts.get(address).map(|checked| checked.verdict.clone())
    }

    /// Sets what each route was proved with before the service started.
    pub(crate) fn set_proofs(&self, before: HashMap<String, Proof>) {
        let mut known = lock(&self.proofs);
        for (address, proof) in before {
            known.entry(address).or_insert(proof);
        }
    }

    /// Drops the results of routes that changed, and brings these and new ones forward.
    pub(crate) fn configuration_changed(&self) {
        let snapshot = self.snapshot.load();
        let routes = snapshot.configuration().routes.iter();
        let routes: HashMap<String, &Route> = routes
            .map(|route| (route.address.to_string(), route))
            .collect();
        let mut stale: HashSet<String> = HashSet::new();
        self.verdicts().retain(|address, checked| {
            let stays = routes.get(address) == Some(&&checked.route);
            if !stays {
                stale.insert(address.clone());
            }
            stays
        });
        lock(&self.proofs).retain(|address, _| routes.contains_key(address));
        let mut scheduler = self.scheduler();
        scheduler.set_routes(routes.into_keys());
        scheduler.bring_forward(stale);
        drop(scheduler);
        self.changed.notify_one();
    }

    /// Brings the routes forward that lead to containers.
    pub(crate) fn containers_changed(&self) {
        let leads_there = |checked: &Checked| matches!(checked.route.to, Target::Container(_));
        let mut leading = Vec::new();
        self.verdicts().retain(|address, checked| {
            let there = leads_there(checked);
            leading.extend(there.then(|| address.clone()));
            !there
        });
        self.scheduler().bring_forward(leading);
        self.changed.notify_one();
    }

    /// Brings the routes forward that lead to an app.
    pub(crate) fn app_changed(&self, name: &AppName) {
        let snapshot = self.snapshot.load_full();
        let routes = snapshot.configuration().routes_to_app(name);
        let leading: Vec<String> = routes.map(|route| route.address.to_string()).collect();
        let mut verdicts = self.verdicts();
        for address in &leading {
            verdicts.remove(address);
        }
        drop(verdicts);
        self.scheduler().bring_forward(leading);
        self.changed.notify_one();
    }

    /// Has the apps of `runner` looked at.
    pub(crate) fn knows_apps_of(&self, runner: AppRunner) {
        // There is one.
        let _ = self.apps.set(runner);
    }

    fn app(&self, route: &Route) -> Option<AppStatus> {
        match route.server() {
            Target::App(app) => self.apps.get()?.status(&app.name),
            _ => None,
        }
    }

    /// Requests were made to these routes, and the last of each failed or not. A route whose result says
    /// otherwise is brought forward.
    pub(crate) fn requests_made(&self, routes: impl IntoIterator<Item = (Arc<str>, bool)>) {
        let verdicts = self.verdicts();
        let concerned = routes.into_iter().filter(|(address, failed)| {
            let known = verdicts.get(&**address);
            known.is_none_or(|known| known.verdict.passed == *failed)
        });
        let concerned: Vec<String> = concerned.map(|(address, _)| address.to_string()).collect();
        drop(verdicts);
        if !concerned.is_empty() {
            self.scheduler().bring_forward(concerned);
            self.changed.notify_one();
        }
    }

    /// The results are being read: for a while, routes are checked more often.
    pub(crate) fn results_read(&self) {
        if self.scheduler().results_read(Instant::now()) {
            self.changed.notify_one();
        }
    }

    /// Checks routes, many at the same time. The results are in their order, with `None` for a route
    /// that was removed meanwhile.
    pub(crate) async fn check(
        &self,
        all: Vec<CheckTarget>,
        options: &CheckOptions,
    ) -> Vec<Option<Verdict>> {
        if options.trigger == Trigger::Request {
            self.prober.load().forget_listeners();
        }
        stream::iter(all)
            .map(|one| self.check_one(one, options))
            .buffered(CONCURRENT_CHECKS)
            .collect()
            .await
    }

    /// Follows one request; `None` when the route was removed.
    pub(crate) async fn trace(&self, one: &CheckTarget, options: &CheckOptions) -> Option<Trace> {
        let facts = self.facts(one, options)?;
        let prober = self.prober.load_full();
        prober.forget_listeners();
        Some(trace(&facts, &prober.trace(&facts).await))
    }

    async fn check_one(&self, one: CheckTarget, options: &CheckOptions) -> Option<Verdict> {
        let facts = self.facts(&one, options)?;
        let prober = self.prober.load_full();
        let seen = prober.observe(&facts).await;
        let mut verdict = diagnose(&facts, &seen);
        if one.at.is_none() && !verdict.passed {
            verdict.since = self
                .since_proved(&facts, &seen, &verdict, options.trigger)
                .await;
        }
        // A route that was changed meanwhile is not what was checked.
        let now = self.snapshot.load();
        let now = now.route_at(&one.route.address)?;
        if *now == one.route && one.at.is_none() && options.is_complete() {
            let proof = self.proof(&facts, &seen, &verdict).await;
            self.record(&one.route, &mut verdict, proof, options.trigger);
        }
        Some(verdict)
    }

    /// What a check of a route needs to know. `None` for a wildcard whose every name belongs to another
    /// route.
    pub(crate) fn facts(&self, one: &CheckTarget, options: &CheckOptions) -> Option<Facts> {
        let snapshot = self.snapshot.load_full();
        let route = &one.route;
        let name = match &one.at {
            Some((name, _)) => name.clone(),
            None => snapshot.sample_name(route)?,
        };
        let listening_on = snapshot.addresses_of(name.as_str(), &self.listening_on);
        let own = listening_on.first().filter(|ip| is_own(**ip));
        let usual_port = self.listener.port();
        let https_port = route.https_port(usual_port);
        let listener = own.map_or(self.listener, |ip| (*ip, https_port).into());
        let asked = match &one.at {
            Some((_, path)) if !route.is_raw() => url(name.as_str(), https_port, path),
            _ => route_url(route, name.as_str(), usual_port),
        };
        let mut advice = snapshot
            .zone_of(name.as_str())
            .map(|zone| advice_for_zone(&zone.name))
            .unwrap_or_default();
        advice.extend(advice_for_route(&route.address.pattern));
        let first_byte = route.settings.first_byte_timeout;
        let first_byte = first_byte.unwrap_or(WaitLimit::FIRST_BYTE).duration();
        // A route with another target is another app's.
        let proofs = lock(&self.proofs);
        let proof = proofs.get(&route.address.to_string());
        let proof = proof.filter(|proof| proof.to == route.to.to_string());
        let before = proof.and_then(|proof| proof.conditions.holder.clone());
        let before_title = proof.and_then(|proof| proof.conditions.title.clone());
        drop(proofs);
        Some(Facts {
            certified: self.proxy.certificates().shown(name.as_str()).is_some(),
            before,
            before_title,
            pair: self.pair(route, &name, options),
            clients: self.raw_clients(route),
            log_fault: log_fault(route),
            project_missing: project_missing(&snapshot, route),
            app: self.app(route),
            route: route.clone(),
            name,
            url: asked,
            only: options.only,
            advice,
            resolver: self.resolver,
            left_to: (!route.listens()).then(|| Target::at(listener)),
            listener,
            usual_port,
            http_port: self.http_port,
            deep: options.deep,
            patience: options.patience.min(first_byte.saturating_add(LATER)),
            first_byte,
            listening_on,
            machine: Arc::clone(&options.machine),
            snapshot,
            now: OffsetDateTime::now_utc(),
        })
    }

    /// What listens on this machine.
    pub(crate) async fn ports(&self) -> Vec<PortSeen> {
        self.prober.load_full().ports().await
    }

    /// What clients of the route have begun with, if it is one for raw TCP.
    fn raw_clients(&self, route: &Route) -> RawClients {
        match (route.settings.address, route.address.port) {
            (Some(IpAddr::V4(ip)), Some(port)) => self.proxy.raw_clients(ip, port.get()),
            _ => RawClients::default(),
        }
    }

    /// The imported certificate that is shown for `name`, or would be if it could be used.
    fn pair(&self, route: &Route, name: &Name, options: &CheckOptions) -> Option<PairFacts> {
        let of = |first: &str| options.pairs.iter().find(|pair| pair.name == first);
        let found = match self.proxy.certificates().imported(name.as_str()) {
            Some(shown) => {
                let info = CertificateInfo::read(shown.chain.first()?)?;
                of(info.names.first()?)
            }
            None => {
                let mut unused = options.pairs.iter().filter(|pair| !pair.shown);
                unused.find(|pair| covers(&pair.names, name))
            }
        };
        let pinned = matches!(&route.settings.cert, Some(PinnedCert::Imported(_)));
        found.map(|pair| PairFacts {
            pinned,
            ..pair.clone()
        })
    }

    fn record(&self, route: &Route, verdict: &mut Verdict, proof: Option<Proof>, trigger: Trigger) {
        let mut verdicts = self.verdicts();
        let previous = verdicts.remove(&verdict.address);
        let mut changes = previous.as_ref().map_or_else(VecDeque::new, |previous| {
            let mut changes = previous.changes.clone();
            if previous.verdict.passed != verdict.passed {
                changes.push_back(verdict.checked_at);
            }
            changes
        });
        changes.retain(|at| *at > verdict.checked_at - FLAPS_WITHIN);
        verdict.flapping = changes.len() >= FLAPS;
        let checked = Checked {
            route: route.clone(),
            verdict: verdict.clone(),
            changes,
        };
        verdicts.insert(verdict.address.clone(), checked);
        drop(verdicts);
        if let Some(proof) = &proof {
            lock(&self.proofs).insert(verdict.address.clone(), proof.clone());
        }
        let same = previous.is_some_and(|previous| previous.verdict.agrees_with(verdict));
        if trigger == Trigger::Request || !same {
            self.events.send(Event::Verdict(Box::new(verdict.clone())));
        }
        if !same {
            self.history.push(StoredVerdict {
                verdict: verdict.clone(),
                // When a route begins to fail, the last time that it was proved.
                proof: proof.or_else(|| lock(&self.proofs).get(&verdict.address).cloned()),
            });
        }
    }

    /// What a route is proved with, when it is.
    async fn proof(&self, facts: &Facts, seen: &Observations, verdict: &Verdict) -> Option<Proof> {
        let mut findings = verdict.findings.iter();
        let doubtful = findings.any(|finding| finding.slug == FindingKind::TargetChangedHands);
        let unknown = verdict.is_starting() || verdict.is_stopped();
        if !verdict.passed || unknown || doubtful {
            return None;
        }
        let holder = seen.holder.as_ref();
        let folder = proof::app_folder(&facts.route.to, holder);
        Some(Proof {
            at: verdict.checked_at,
            to: verdict.to.clone(),
            conditions: Conditions {
                title: verdict.title.clone(),
                ..proof::conditions(self, facts, holder, folder).await
            },
        })
    }

    /// Until when a failing route was proved. In the background, that is looked at when it begins to fail.
    async fn since_proved(
        &self,
        facts: &Facts,
        seen: &Observations,
        verdict: &Verdict,
        trigger: Trigger,
    ) -> Option<Since> {
        if trigger == Trigger::Background
            && let Some(before) = self
                .verdict(&verdict.address)
                .filter(|before| !before.passed)
        {
            return before.since;
        }
        let proof = lock(&self.proofs).get(&verdict.address).cloned()?;
        let broken = verdict
            .hops
            .iter()
            .find(|report| report.state == HopState::Broken);
        Some(
            self.since(facts, seen, broken.map(|report| report.hop), proof)
                .await,
        )
    }

    /// The routes to check in this round.
    pub(crate) fn due(&self) -> Vec<CheckTarget> {
        let snapshot = self.snapshot.load();
        let route = |address: &str| snapshot.route_at(&address.parse().ok()?);
        let now = OffsetDateTime::now_utc();
        let verdicts = self.verdicts();
        let last_check = |address: &str| match verdicts.get(address) {
            Some(Checked { verdict, .. }) => LastCheck::Ago {
                // When the clock was set back, it is due.
                ago: (now - verdict.checked_at)
                    .try_into()
                    .unwrap_or(Duration::MAX),
                passed: verdict.passed,
            },
            None if route(address).is_some() => LastCheck::Never,
            None => LastCheck::Gone,
        };
        let watched = self.events.is_followed();
        let due = self
            .scheduler()
            .next_round(Instant::now(), watched, last_check);
        let routes = due.iter().filter_map(|address| route(address));
        routes
            .map(|route| CheckTarget::from(route.clone()))
            .collect()
    }

    /// Waits for the next round of background checks: a while, or until something is brought forward.
    pub(crate) async fn next_round(&self) {
        tokio::select! {
            () = self.changed.notified() => {}
            () = sleep(self.round()) => {}
        }
    }

    fn round(&self) -> Duration {
        match self.events.is_followed() || self.scheduler().is_read(Instant::now()) {
            true => ROUND,
            false => IDLE_ROUND,
        }
    }

    fn scheduler(&self) -> MutexGuard<'_, CheckScheduler> {
        lock(&self.scheduler)
    }

    fn verdicts(&self) -> MutexGuard<'_, HashMap<String, Checked>> {
        lock(&self.verdicts)
    }
}

fn lock<T>(what: &Mutex<T>) -> MutexGuard<'_, T> {
    what.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The URL of a route, with `name` for its names.
pub(crate) fn route_url(route: &Route, name: &str, usual_port: u16) -> String {
    let port = route.https_port(usual_port);
    match route.is_raw() {
        true => format!("tcp://{name}:{port}"),
        false => url(name, port, route.address.prefix.as_str()),
    }
}

/// The file of the project that a route came from, when it is not there any more.
fn project_missing(snapshot: &Snapshot, route: &Route) -> Option<PathBuf> {
    let project = snapshot.stored().project_of_route(&route.address)?;
    (!project.file.exists()).then(|| project.file.clone())
}

/// The URL of a name and path behind the TLS listener on `port`.
pub(crate) fn url(name: &str, port: u16, path: &str) -> String {
    match port {
        443 => format!("https://{name}{path}"),
        port => format!("https://{name}:{port}{path}"),
    }
}
/// Why the access log of a route cannot be written.
fn log_fault(route: &Route) -> Option<String> {
    let file = route.settings.access_log.as_ref()?;
    access_log::open(file).err().map(|error| error.to_string())
}
