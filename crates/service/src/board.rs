use std::collections::{HashMap, HashSet, VecDeque};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::num::NonZeroU16;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use bentlane_ca::{CertificateInfo, covers};
use bentlane_checks::{
    Facts, FindingKind, Holder, Hop, Machine, Observations, PairFacts, Trace, Verdict,
    advice_for_route, advice_for_zone, diagnose, trace,
};
use bentlane_model::{Address, Name, PinnedCert, Route, Snapshot, Target, is_own};
use bentlane_probe::{ProbeLimits, Prober};
use bentlane_proxy::Certificates;
use bentlane_store::Kept;
use futures_util::{StreamExt, stream};
use rustls::pki_types::CertificateDer;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio::time::sleep;

use crate::events::{Event, Events};
use crate::history::Sink;
use crate::schedule::{IDLE_TURN, LastCheck, Schedule, TURN};
use crate::state::State;
use crate::traffic::open_log;

/// Routes checked at a time.
const AT_ONCE: usize = 64;
/// How often a route has to change between proved and broken to be flapping, and within how long.
const FLAPS: usize = 4;
const FLAPS_WITHIN: time::Duration = time::Duration::minutes(5);

/// Checks routes, and remembers what each check came to.
#[derive(Debug)]
pub(crate) struct Board {
    snapshot: Arc<ArcSwap<Snapshot>>,
    prober: ArcSwap<Prober>,
    certificates: Arc<Certificates>,
    resolver: SocketAddr,
    listener: SocketAddr,
    http_port: u16,
    listening_on: Vec<IpAddr>,
    schedule: Mutex<Schedule>,
    verdicts: Mutex<HashMap<String, Checked>>,
    /// Which app each route was last proved with.
    proved_with: Mutex<HashMap<String, Holder>>,
    history: Sink,
    events: Events,
    changed: Notify,
}

/// A verdict, the route as it was then, and when it last changed between proved and broken.
#[derive(Debug)]
struct Checked {
    route: Route,
    verdict: Verdict,
    changes: VecDeque<OffsetDateTime>,
}

/// Whether a check was asked for, or made in the background.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Occasion {
    /// Somebody waits for it: every outcome is told.
    Asked,
    /// Only what changed is told.
    Background,
}

/// How to look.
#[derive(Clone, Debug)]
pub(crate) struct Look {
    pub(crate) occasion: Occasion,
    /// The one hop to look at.
    pub(crate) only: Option<Hop>,
    /// Whether to look further than the page itself.
    pub(crate) deep: bool,
    pub(crate) machine: Arc<Machine>,
    /// The imported certificates, and what is wrong with them.
    pub(crate) pairs: Vec<PairFacts>,
}

impl Look {
    /// A look at the whole way, with the machine as it is.
    pub(crate) async fn at(state: &Arc<State>, occasion: Occasion, deep: bool) -> Self {
        let fresh = occasion == Occasion::Asked;
        Self {
            occasion,
            only: None,
            deep,
            machine: state.watch.look(state, fresh, deep).await,
            pairs: state.imports.notes(),
        }
    }

    /// Whether it is like every other, so that what it comes to can stand beside the others'.
    fn is_usual(&self) -> bool {
        self.only.is_none() && !self.deep
    }
}

/// A route to check, and the name to check it by.
#[derive(Clone, Debug)]
pub(crate) struct ToCheck {
    pub(crate) route: Route,
    /// The name and path that were asked for; by itself it is a sample of the route's names.
    pub(crate) by: Option<(Name, String)>,
}

impl From<Route> for ToCheck {
    fn from(route: Route) -> Self {
        Self { route, by: None }
    }
}

/// Where a board finds what it checks with.
#[derive(Debug)]
pub(crate) struct Places<'a> {
    pub(crate) resolver: SocketAddr,
    pub(crate) https: &'a [SocketAddr],
    pub(crate) http: &'a [SocketAddr],
}

impl Board {
    pub(crate) fn new(
        snapshot: Arc<ArcSwap<Snapshot>>,
        prober: Prober,
        certificates: Arc<Certificates>,
        places: &Places<'_>,
        check_every: Duration,
        history: Sink,
        events: Events,
    ) -> Self {
        let unbound = SocketAddr::from(([127, 0, 0, 1], 443));
        Self {
            snapshot,
            prober: ArcSwap::from_pointee(prober),
            certificates,
            resolver: places.resolver,
            listener: places.https.first().copied().unwrap_or(unbound),
            http_port: places.http.first().map_or(80, SocketAddr::port),
            listening_on: places.https.iter().map(SocketAddr::ip).collect(),
            schedule: Mutex::new(Schedule::new(check_every, Instant::now())),
            verdicts: Mutex::default(),
            proved_with: Mutex::default(),
            history,
            events,
            changed: Notify::new(),
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

    /// What the last check of this route came to.
    pub(crate) fn verdict(&self, address: &str) -> Option<Verdict> {
        let verdicts = self.verdicts();
        verdicts.get(address).map(|checked| checked.verdict.clone())
    }

    /// Takes up which app each route was proved with before the service started.
    pub(crate) fn was_proved_with(&self, before: HashMap<String, Holder>) {
        let mut known = lock(&self.proved_with);
        for (address, holder) in before {
            known.entry(address).or_insert(holder);
        }
    }

    /// Forgets what is no longer true of the configuration, and has what is new checked soon.
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
        // A route that leads elsewhere now is another app's.
        lock(&self.proved_with).retain(|address, _| !stale.contains(address));
        let mut schedule = self.schedule();
        schedule.set_routes(routes.into_keys());
        schedule.bring_forward(stale);
        drop(schedule);
        self.changed.notify_one();
    }

    /// Has the routes that lead to containers checked anew soon.
    pub(crate) fn containers_changed(&self) {
        let leads_there = |checked: &Checked| matches!(checked.route.to, Target::Container(_));
        let mut leading = Vec::new();
        self.verdicts().retain(|address, checked| {
            let there = leads_there(checked);
            leading.extend(there.then(|| address.clone()));
            !there
        });
        self.schedule().bring_forward(leading);
        self.changed.notify_one();
    }

    /// Requests passed to these routes, and the proxy could answer with the target's response, or could
    /// not. A route that failed is checked soon, and one that was not checked for long.
    pub(crate) fn requests_passed(&self, routes: impl IntoIterator<Item = (Arc<str>, bool)>) {
        let verdicts = self.verdicts();
        let concerned = routes.into_iter().filter(|(address, failed)| {
            let known = verdicts.get(&**address);
            known.is_none_or(|known| known.verdict.passed == *failed)
        });
        let concerned: Vec<String> = concerned.map(|(address, _)| address.to_string()).collect();
        drop(verdicts);
        if !concerned.is_empty() {
            self.schedule().bring_forward(concerned);
            self.changed.notify_one();
        }
    }

    /// Somebody looks at what checks came to: for a while, routes are checked more often.
    pub(crate) fn looked(&self) {
        if self.schedule().looked(Instant::now()) {
            self.changed.notify_one();
        }
    }

    /// Checks routes, many at a time; what it comes to is in their order, and `None` for a route
    /// that is gone meanwhile.
    pub(crate) async fn check(&self, all: Vec<ToCheck>, look: &Look) -> Vec<Option<Verdict>> {
        if look.occasion == Occasion::Asked {
            self.prober.load().look_anew();
        }
        stream::iter(all)
            .map(|one| self.check_one(one, look))
            .buffered(AT_ONCE)
            .collect()
            .await
    }

    /// Follows one request; `None` when there is no such route any more.
    pub(crate) async fn trace(&self, one: &ToCheck, look: &Look) -> Option<Trace> {
        let facts = self.facts(one, look)?;
        let prober = self.prober.load_full();
        prober.look_anew();
        Some(trace(&facts, &prober.trace(&facts).await))
    }

    async fn check_one(&self, one: ToCheck, look: &Look) -> Option<Verdict> {
        let facts = self.facts(&one, look)?;
        let prober = self.prober.load_full();
        let seen = prober.observe(&facts).await;
        let mut verdict = diagnose(&facts, &seen);
        // A route that was changed meanwhile is not what was checked.
        let now = self.snapshot.load();
        let now = now.route_at(&one.route.address)?;
        if *now == one.route && one.by.is_none() && look.is_usual() {
            self.note(&one.route, &mut verdict, &seen, look.occasion);
        }
        Some(verdict)
    }

    /// What a check of a route goes by. `None` for a wildcard whose every name belongs to another
    /// route.
    pub(crate) fn facts(&self, one: &ToCheck, look: &Look) -> Option<Facts> {
        let snapshot = self.snapshot.load_full();
        let route = &one.route;
        let name = match &one.by {
            Some((name, _)) => name.clone(),
            None => snapshot.sample_name(route)?,
        };
        let listening_on = snapshot.addresses_of(name.as_str(), &self.listening_on);
        let own = listening_on.first().filter(|ip| is_own(**ip));
        let https_port = self.listener.port();
        let port = route.address.port.map_or(https_port, NonZeroU16::get);
        let listener = own.map_or(self.listener, |ip| (*ip, port).into());
        let asked = match &one.by {
            Some((_, path)) if route.address.port.is_none() => url(name.as_str(), https_port, path),
            _ => route_url(&route.address, name.as_str(), https_port),
        };
        let mut advice = snapshot
            .zone_of(name.as_str())
            .map(|zone| advice_for_zone(&zone.name))
            .unwrap_or_default();
        advice.extend(advice_for_route(&route.address.pattern));
        let before = lock(&self.proved_with)
            .get(&route.address.to_string())
            .cloned();
        Some(Facts {
            certified: self.certificates.shown(name.as_str()).is_some(),
            before,
            pair: self.pair(route, &name, look),
            log_fault: log_fault(route),
            route: route.clone(),
            name,
            url: asked,
            only: look.only,
            advice,
            resolver: self.resolver,
            listener,
            https_port,
            http_port: self.http_port,
            deep: look.deep,
            listening_on,
            machine: Arc::clone(&look.machine),
            snapshot,
            now: OffsetDateTime::now_utc(),
        })
    }

    /// The imported certificate that is shown for `name`, or would be if it could be used.
    fn pair(&self, route: &Route, name: &Name, look: &Look) -> Option<PairFacts> {
        let of = |first: &str| look.pairs.iter().find(|pair| pair.name == first);
        let found = match self.certificates.imported(name.as_str()) {
            Some(shown) => {
                let info = CertificateInfo::read(shown.chain.first()?)?;
                of(info.names.first()?)
            }
            None => {
                let mut unused = look.pairs.iter().filter(|pair| !pair.shown);
                unused.find(|pair| covers(&pair.names, name))
            }
        };
        let pinned = matches!(&route.settings.cert, Some(PinnedCert::Imported(_)));
        found.map(|pair| PairFacts {
            pinned,
            ..pair.clone()
        })
    }

    fn note(&self, route: &Route, verdict: &mut Verdict, seen: &Observations, occasion: Occasion) {
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
        let holder = self.note_app(verdict, seen);
        let same = previous.is_some_and(|previous| previous.verdict.agrees_with(verdict));
        if occasion == Occasion::Asked || !same {
            self.events.tell(Event::Verdict(Box::new(verdict.clone())));
        }
        if !same {
            self.history.keep(Kept {
                verdict: verdict.clone(),
                holder,
            });
        }
    }

    /// Remembers which app a route is proved with; gives it.
    fn note_app(&self, verdict: &Verdict, seen: &Observations) -> Option<Holder> {
        let holder = seen.holder.clone().filter(|_| verdict.passed)?;
        let mut findings = verdict.findings.iter();
        if findings.any(|finding| finding.slug == FindingKind::TargetChangedHands) {
            return None;
        }
        lock(&self.proved_with).insert(verdict.address.clone(), holder.clone());
        Some(holder)
    }

    /// The routes to check in this turn.
    fn due(&self) -> Vec<ToCheck> {
        let snapshot = self.snapshot.load();
        let route = |address: &str| snapshot.route_at(&address.parse().ok()?);
        let now = OffsetDateTime::now_utc();
        let verdicts = self.verdicts();
        let last_check = |address: &str| match verdicts.get(address) {
            Some(Checked { verdict, .. }) => LastCheck::Ago {
                // A clock that was set back makes it due.
                ago: (now - verdict.checked_at)
                    .try_into()
                    .unwrap_or(Duration::MAX),
                passed: verdict.passed,
            },
            None if route(address).is_some() => LastCheck::Never,
            None => LastCheck::Gone,
        };
        let watched = self.events.is_followed();
        let due = self.schedule().turn(Instant::now(), watched, last_check);
        let routes = due.iter().filter_map(|address| route(address));
        routes.map(|route| ToCheck::from(route.clone())).collect()
    }

    /// How long to wait for the next turn.
    fn pause(&self) -> Duration {
        match self.events.is_followed() || self.schedule().is_looked_at(Instant::now()) {
            true => TURN,
            false => IDLE_TURN,
        }
    }

    fn schedule(&self) -> MutexGuard<'_, Schedule> {
        lock(&self.schedule)
    }

    fn verdicts(&self) -> MutexGuard<'_, HashMap<String, Checked>> {
        lock(&self.verdicts)
    }
}

fn lock<T>(what: &Mutex<T>) -> MutexGuard<'_, T> {
    what.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Checks in the background until the service stops, as [`Schedule`] has it.
pub(crate) async fn keep_checking(state: Arc<State>) {
    let board = &state.board;
    loop {
        let turn = async {
            let due = board.due();
            if !due.is_empty() {
                let look = Look::at(&state, Occasion::Background, false).await;
                board.check(due, &look).await;
            }
            tokio::select! {
                () = board.changed.notified() => {}
                () = sleep(board.pause()) => {}
            }
        };
        tokio::select! {
            () = state.shutdown.cancelled() => return,
            () = turn => {}
        }
    }
}

/// The URL of a route, with `name` for its names.
pub(crate) fn route_url(address: &Address, name: &str, https_port: u16) -> String {
    match address.port {
        Some(port) => format!("tcp://{name}:{port}"),
        None => url(name, https_port, address.prefix.as_str()),
    }
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
    open_log(file).err().map(|error| error.to_string())
}
