use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::num::NonZeroU16;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use bentlane_core::check::{Facts, Verdict, diagnose};
use bentlane_core::{Address, Route, Snapshot, is_own};
use bentlane_probe::{ProbeLimits, Prober};
use bentlane_proxy::Certificates;
use futures_util::{StreamExt, stream};
use rustls::pki_types::CertificateDer;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio::time::{MissedTickBehavior, interval};
use tokio_util::sync::CancellationToken;

use crate::events::{Event, Events};

/// Routes checked at a time.
const AT_ONCE: usize = 64;
/// How often the background looks which routes are due, so that a lane turns solid soon after its
/// server has started.
const TURN: Duration = Duration::from_secs(2);
/// After how long a route that was proved is due again. One that is broken is always due.
const PROVED_FOR: Duration = Duration::from_secs(30);
/// Routes checked again in one turn, longest unseen first: with many routes a round takes longer,
/// and the checks go on costing next to nothing.
const AGAIN_IN_A_TURN: usize = 16;
/// Routes without a verdict that are checked in one turn: many at once are proved in the background
/// by and by.
const NEW_IN_A_TURN: usize = 64;

/// Checks routes, and remembers what each check came to.
#[derive(Debug)]
pub(crate) struct Board {
    snapshot: Arc<ArcSwap<Snapshot>>,
    prober: ArcSwap<Prober>,
    certificates: Arc<Certificates>,
    resolver: SocketAddr,
    listener: SocketAddr,
    listening_on: Vec<IpAddr>,
    verdicts: Mutex<HashMap<String, Checked>>,
    events: Events,
    changed: Notify,
}

/// A verdict, and the route as it was then.
#[derive(Debug)]
struct Checked {
    route: Route,
    verdict: Verdict,
}

/// Whether a check was asked for, or made in the background.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Occasion {
    /// Somebody waits for it: every outcome is told.
    Asked,
    /// Only what changed is told.
    Background,
}

impl Board {
    pub(crate) fn new(
        snapshot: Arc<ArcSwap<Snapshot>>,
        prober: Prober,
        certificates: Arc<Certificates>,
        resolver: SocketAddr,
        https: &[SocketAddr],
        events: Events,
    ) -> Self {
        let unbound = SocketAddr::from(([127, 0, 0, 1], 443));
        Self {
            snapshot,
            prober: ArcSwap::from_pointee(prober),
            certificates,
            resolver,
            listener: https.first().copied().unwrap_or(unbound),
            listening_on: https.iter().map(SocketAddr::ip).collect(),
            verdicts: Mutex::default(),
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

    /// Forgets what is no longer true of the configuration, and has what is new checked soon.
    pub(crate) fn configuration_changed(&self) {
        let snapshot = self.snapshot.load();
        let routes = snapshot.configuration().routes.iter();
        let routes: HashMap<String, &Route> = routes
            .map(|route| (route.address.to_string(), route))
            .collect();
        self.verdicts()
            .retain(|address, checked| routes.get(address) == Some(&&checked.route));
        self.changed.notify_one();
    }

    /// Checks `routes`, many at a time; verdicts come in the order of the routes.
    pub(crate) async fn check(&self, routes: Vec<Route>, occasion: Occasion) -> Vec<Verdict> {
        stream::iter(routes)
            .map(|route| self.check_one(route, occasion))
            .buffered(AT_ONCE)
            .filter_map(|verdict| async move { verdict })
            .collect()
            .await
    }

    async fn check_one(&self, route: Route, occasion: Occasion) -> Option<Verdict> {
        let facts = self.facts(&route)?;
        let prober = self.prober.load_full();
        let seen = prober.observe(&facts).await;
        let verdict = diagnose(&facts, &seen, OffsetDateTime::now_utc());
        self.note(&route, &verdict, occasion);
        Some(verdict)
    }

    /// `None` for a wildcard whose every name belongs to another route.
    fn facts(&self, route: &Route) -> Option<Facts> {
        let snapshot = self.snapshot.load();
        let name = snapshot.sample_name(route)?;
        let listening_on = snapshot.addresses_of(name.as_str(), &self.listening_on);
        let own = listening_on.first().filter(|ip| is_own(**ip));
        let port = route
            .address
            .port
            .map_or(self.listener.port(), NonZeroU16::get);
        let listener = own.map_or(self.listener, |ip| (*ip, port).into());
        let url = route_url(&route.address, name.as_str(), self.listener.port());
        Some(Facts {
            address: route.address.clone(),
            certified: self.certificates.shown(name.as_str()).is_some(),
            name,
            url,
            target: route.to.clone(),
            paused: route.settings.paused,
            resolver: self.resolver,
            listener,
            listening_on,
        })
    }

    fn note(&self, route: &Route, verdict: &Verdict, occasion: Occasion) {
        // A route that was changed meanwhile is not what was checked.
        let snapshot = self.snapshot.load();
        if snapshot.configuration().route(&route.address) != Some(route) {
            return;
        }
        let checked = Checked {
            route: route.clone(),
            verdict: verdict.clone(),
        };
        let previous = self.verdicts().insert(verdict.address.clone(), checked);
        let same = previous.is_some_and(|previous| previous.verdict.agrees_with(verdict));
        if occasion == Occasion::Asked || !same {
            self.events.tell(Event::Verdict(Box::new(verdict.clone())));
        }
    }

    /// Checks in the background until `shutdown`: routes that are new or changed at once, broken
    /// ones every 2 s, all others every 30 s, or longer with more than a few hundred of them.
    pub(crate) async fn keep_checking(&self, shutdown: CancellationToken) {
        let mut turns = interval(TURN);
        turns.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                () = shutdown.cancelled() => return,
                () = self.changed.notified() => {}
                _ = turns.tick() => {}
            }
            tokio::select! {
                () = shutdown.cancelled() => return,
                _ = self.check(self.due(), Occasion::Background) => {}
            }
        }
    }

    /// The routes to check in this turn.
    fn due(&self) -> Vec<Route> {
        let snapshot = self.snapshot.load();
        let proved_since = OffsetDateTime::now_utc() - PROVED_FOR;
        let verdicts = self.verdicts();
        let (mut new, mut again) = (Vec::new(), Vec::new());
        for route in &snapshot.configuration().routes {
            match verdicts.get(&route.address.to_string()) {
                None => new.push(route.clone()),
                Some(Checked { verdict, .. }) => {
                    if !verdict.passed || verdict.checked_at <= proved_since {
                        again.push((verdict.checked_at, route));
                    }
                }
            }
        }
        new.truncate(NEW_IN_A_TURN);
        again.sort_by_key(|(checked_at, _)| *checked_at);
        let again = again.into_iter().take(AGAIN_IN_A_TURN);
        new.extend(again.map(|(_, route)| route.clone()));
        new
    }

    fn verdicts(&self) -> MutexGuard<'_, HashMap<String, Checked>> {
        self.verdicts.lock().unwrap_or_else(PoisonError::into_inner)
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
