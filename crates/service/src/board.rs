use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use bentlane_core::check::{Facts, Verdict, diagnose};
use bentlane_core::{Address, Route, Snapshot};
use bentlane_probe::Prober;
use futures_util::{StreamExt, stream};
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio::time::{MissedTickBehavior, interval};
use tokio_util::sync::CancellationToken;

use crate::events::{Event, Events};

/// Routes checked at a time.
const AT_ONCE: usize = 64;
/// How often routes that are broken are looked at, so that a lane turns solid soon after its server
/// has started.
const LOOK_AT_BROKEN: Duration = Duration::from_secs(2);
/// Broken routes looked at in one go; with more of them, the longest unseen come first.
const BROKEN_AT_ONCE: usize = 32;
/// Every how many of those turns all routes are checked: every 30 s.
const TURNS_TO_ALL: u32 = 15;

/// Checks routes, and remembers what each check came to.
#[derive(Debug)]
pub(crate) struct Board {
    snapshot: Arc<ArcSwap<Snapshot>>,
    prober: Prober,
    resolver: SocketAddr,
    listener: SocketAddr,
    listening_on: Vec<IpAddr>,
    verdicts: Mutex<HashMap<String, Verdict>>,
    events: Events,
    changed: Notify,
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
        resolver: SocketAddr,
        https: &[SocketAddr],
        events: Events,
    ) -> Self {
        let unbound = SocketAddr::from(([127, 0, 0, 1], 443));
        Self {
            snapshot,
            prober,
            resolver,
            listener: https.first().copied().unwrap_or(unbound),
            listening_on: https.iter().map(SocketAddr::ip).collect(),
            verdicts: Mutex::default(),
            events,
            changed: Notify::new(),
        }
    }

    /// What the last check of this route came to.
    pub(crate) fn verdict(&self, address: &str) -> Option<Verdict> {
        self.verdicts().get(address).cloned()
    }

    /// Has all routes checked soon, since the configuration is another.
    pub(crate) fn configuration_changed(&self) {
        let snapshot = self.snapshot.load();
        let known = |address: &str| {
            address
                .parse::<Address>()
                .is_ok_and(|a| snapshot.configuration().route(&a).is_some())
        };
        self.verdicts().retain(|address, _| known(address));
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
        let seen = self.prober.observe(&facts).await;
        let verdict = diagnose(&facts, &seen, OffsetDateTime::now_utc());
        self.note(&route, &verdict, occasion);
        Some(verdict)
    }

    /// `None` for a wildcard whose every name belongs to another route.
    fn facts(&self, route: &Route) -> Option<Facts> {
        let name = self.snapshot.load().sample_name(route)?;
        let url = url(
            name.as_str(),
            self.listener.port(),
            route.address.prefix.as_str(),
        );
        Some(Facts {
            address: route.address.clone(),
            name,
            url,
            target: route.to.clone(),
            resolver: self.resolver,
            listener: self.listener,
            listening_on: self.listening_on.clone(),
        })
    }

    fn note(&self, route: &Route, verdict: &Verdict, occasion: Occasion) {
        // A route that was changed meanwhile is not what was checked.
        let snapshot = self.snapshot.load();
        if snapshot.configuration().route(&route.address) != Some(route) {
            return;
        }
        let previous = self
            .verdicts()
            .insert(verdict.address.clone(), verdict.clone());
        let same = previous.is_some_and(|previous| previous.agrees_with(verdict));
        if occasion == Occasion::Asked || !same {
            self.events.tell(Event::Verdict(Box::new(verdict.clone())));
        }
    }

    /// Checks in the background until `shutdown`: all routes after a change and every 30 s, broken
    /// ones every 2 s.
    pub(crate) async fn keep_checking(&self, shutdown: CancellationToken) {
        let mut turns = interval(LOOK_AT_BROKEN);
        turns.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut turn: u32 = 0;
        loop {
            let all = tokio::select! {
                () = shutdown.cancelled() => return,
                () = self.changed.notified() => true,
                _ = turns.tick() => {
                    turn = turn.wrapping_add(1);
                    turn.is_multiple_of(TURNS_TO_ALL)
                }
            };
            let routes = if all {
                self.all_routes()
            } else {
                self.unproved_routes()
            };
            tokio::select! {
                () = shutdown.cancelled() => return,
                _ = self.check(routes, Occasion::Background) => {}
            }
        }
    }

    fn all_routes(&self) -> Vec<Route> {
        self.snapshot.load().configuration().routes.clone()
    }

    fn unproved_routes(&self) -> Vec<Route> {
        let snapshot = self.snapshot.load();
        let verdicts = self.verdicts();
        let mut unproved: Vec<_> = snapshot
            .configuration()
            .routes
            .iter()
            .map(|route| (verdicts.get(&route.address.to_string()), route))
            .filter(|(verdict, _)| verdict.is_none_or(|verdict| !verdict.passed))
            .collect();
        unproved.sort_by_key(|(verdict, _)| verdict.map(|verdict| verdict.checked_at));
        unproved
            .into_iter()
            .take(BROKEN_AT_ONCE)
            .map(|(_, route)| route.clone())
            .collect()
    }

    fn verdicts(&self) -> MutexGuard<'_, HashMap<String, Verdict>> {
        self.verdicts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The URL of a name and path behind the TLS listener on `port`.
pub(crate) fn url(name: &str, port: u16, path: &str) -> String {
    match port {
        443 => format!("https://{name}{path}"),
        port => format!("https://{name}:{port}{path}"),
    }
}
