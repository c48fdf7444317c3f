use std::collections::HashMap;
use std::net::Ipv4Addr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_model::{
    AppName, ByName, Destination, Folder, Redirect, Routed, Snapshot, Target, TlsEnd,
};

use crate::activity::Activity;
use crate::heard::Heard;
use crate::pool::Pool;
use crate::replicas::Replicas;
use crate::route_rules::RouteRules;
use crate::target_tls::TargetRoots;

/// How long the proxy waits, and how much it takes.
#[derive(Clone, Debug)]
pub struct Limits {
    /// For a target to accept a connection. Default 5 s.
    pub connect: Duration,
    /// From the end of a request's head to the first byte of its response. Default 120 s, since a
    /// dev server may compile first.
    pub first_byte: Duration,
    /// For a client to send a request's head, or to finish its handshake. Default 30 s.
    pub head: Duration,
    /// Bytes of a request's head; a longer one gets 431. Default 64 KiB.
    pub head_octets: u32,
    /// For a client to send more of a request's body. Default 60 s.
    pub request_idle: Duration,
    /// For a target to send more of a response's body; event streams have no limit.
    /// Default 10 min.
    pub response_idle: Duration,
    /// For a client's connection of HTTP/2 without a request at work; then it is ended. Default 5 min.
    pub idle: Duration,
    /// For a body as a whole, either way; event streams and upgrades have no limit. Default 6 h.
    pub total: Duration,
    /// Bytes of a response's head; a longer one gets 502. Default 256 KiB.
    pub response_head_octets: usize,
    /// The most client connections; a few more get a 503, and others wait in the system's queue.
    /// Default 10,000.
    pub connections: usize,
    /// How long connections may finish their work when the proxy stops. Default 5 s.
    pub drain: Duration,
    /// The same when the service starts again at once, since new clients wait for that long. Default 2 s.
    pub restart: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(5),
            first_byte: Duration::from_secs(120),
            head: Duration::from_secs(30),
            head_octets: 64 * 1024,
            request_idle: Duration::from_secs(60),
            response_idle: Duration::from_secs(600),
            idle: Duration::from_secs(300),
            total: Duration::from_secs(6 * 3600),
            response_head_octets: 256 * 1024,
            connections: 10_000,
            drain: Duration::from_secs(5),
            restart: Duration::from_secs(2),
        }
    }
}

/// A snapshot with the means to answer for its destinations: what a request is routed by.
#[derive(Debug)]
pub(crate) struct RoutingTable {
    pub(crate) snapshot: Arc<Snapshot>,
    /// By [`bentlane_model::DestinationId`].
    backends: Vec<Backend>,
    /// By the route's index in the configuration; empty when no route has settings.
    rules: Vec<Option<Box<RouteRules>>>,
    /// Where it is noted what came of requests.
    raw: HashMap<(Ipv4Addr, u16), Raw>,
    /// Whether something is asked of each app at the moment.
    pub(crate) apps: HashMap<AppName, Activity>,
}

/// How requests for one destination are answered.
#[derive(Clone, Debug)]
pub(crate) enum Backend {
    /// They are passed on over these connections.
    Pool(Arc<Pool>),
    /// They are passed on to where the name says.
    ByName(ByName),
    /// With the files of a folder.
    Folder(Folder),
    /// Clients are sent elsewhere.
    Redirect {
        to: Redirect,
        /// Whether that is a name in one of the zones, which is served on our port.
        ours: bool,
    },
    /// By the service itself.
    Site,
}

impl Backend {
    fn pool(&self) -> Option<&Arc<Pool>> {
        match self {
            Self::Pool(pool) => Some(pool),
            Self::ByName(_) | Self::Folder(_) | Self::Redirect { .. } | Self::Site => None,
        }
    }
}

fn activity_of(apps: &HashMap<AppName, Activity>, target: &Target) -> Option<Activity> {
    match target {
        Target::App(app) => apps.get(&app.name).cloned(),
        _ => None,
    }
}

/// How requests for our own pages are answered.
static SITE: Backend = Backend::Site;

/// A route for raw TCP, ready to pass bytes on.
#[derive(Clone, Debug)]
pub(crate) struct Raw {
    pub(crate) pool: Arc<Pool>,
    /// How TLS begins, when we open it.
    pub(crate) tls: Option<TlsBeginning>,
    /// What its clients began with, for as long as it stays as it is.
    pub(crate) heard: Arc<Heard>,
}

/// How a client begins TLS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TlsBeginning {
    /// With its first byte.
    AtOnce,
    /// When it has asked for it as PostgreSQL clients do.
    AsAsked,
}

/// What a request is answered by.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Found<'a> {
    pub(crate) routed: Routed<'a>,
    pub(crate) backend: &'a Backend,
    pub(crate) rules: Option<&'a RouteRules>,
}

impl Found<'_> {
    /// Whether the route has an access log.
    pub(crate) fn logs(&self) -> bool {
        self.rules.is_some_and(|rules| rules.logs)
    }
}

impl RoutingTable {
    /// The routing table for `snapshot`. Destinations that `previous` had keep their connections.
    pub(crate) fn new(
        snapshot: Arc<Snapshot>,
        previous: Option<&Self>,
        roots: &TargetRoots,
    ) -> Self {
        let mut apps = HashMap::new();
        for app in &snapshot.configuration().apps {
            let before = previous.and_then(|table| table.apps.get(&app.name));
            apps.insert(app.name.clone(), before.cloned().unwrap_or_default());
        }
        let known = previous.iter().flat_map(|table| table.pools());
        let known: HashMap<&Destination, &Arc<Pool>> =
            known.map(|pool| (pool.destination(), pool)).collect();
        let pool = |destination: &Destination| {
            known.get(destination).map_or_else(
                || {
                    let pool = Pool::new(destination.clone(), roots.clone());
                    let pool = pool.with_replicas(|one| known.get(one).map(|it| Arc::clone(it)));
                    Arc::new(pool.counted_by(activity_of(&apps, &destination.to)))
                },
                |pool| Arc::clone(pool),
            )
        };
        let backend = |destination: &Destination| match &destination.to {
            Target::Redirect(to) => {
                let name = to.name();
                let zone = name.and_then(|name| snapshot.zone_of(name.as_str()));
                Backend::Redirect {
                    to: to.clone(),
                    ours: zone.is_some(),
                }
            }
            Target::Folder(folder) => Backend::Folder(folder.clone()),
            Target::ByName(by) => Backend::ByName(*by),
            Target::Port(_) | Target::Container(_) | Target::App(_) | Target::Server { .. } => {
                Backend::Pool(pool(destination))
            }
        };
        let backends: Vec<Backend> = snapshot.destinations().iter().map(backend).collect();
        let routes = &snapshot.configuration().routes;
        let told = routes.iter().any(|route| !route.settings.is_default());
        let rules = if told {
            let behind = |route| Some(pool(&snapshot.behind_folder(route)?));
            let rules = |route| RouteRules::of(route, behind(route));
            routes.iter().map(rules).collect()
        } else {
            Vec::new()
        };
        let raw = snapshot.raw_routes().filter_map(|raw| {
            let Backend::Pool(pool) = &backends[raw.destination.index()] else {
                return None;
            };
            let tls = match raw.route.settings.tls {
                None | Some(TlsEnd::Passthrough) => None,
                Some(TlsEnd::Here) => Some(TlsBeginning::AtOnce),
                Some(TlsEnd::Postgres) => Some(TlsBeginning::AsAsked),
            };
            let at = (raw.ip, raw.port.get());
            let before = previous.and_then(|table| table.raw.get(&at));
            let same = before.filter(|it| Arc::ptr_eq(&it.pool, pool) && it.tls == tls);
            let passes = Raw {
                pool: Arc::clone(pool),
                tls,
                heard: same.map(|it| Arc::clone(&it.heard)).unwrap_or_default(),
            };
            Some((at, passes))
        });
        let raw = raw.collect();
        Self {
            snapshot,
            backends,
            rules,
            raw,
            apps,
        }
    }

    fn pools(&self) -> impl Iterator<Item = &Arc<Pool>> {
        let backends = self.backends.iter().filter_map(Backend::pool);
        let rules = self.rules.iter().flatten();
        let own = backends.chain(rules.filter_map(|rules| rules.behind_folder.as_ref()));
        own.flat_map(|pool| {
            let replicas = pool.replicas().into_iter().flat_map(Replicas::pools);
            std::iter::once(pool).chain(replicas)
        })
    }

    pub(crate) fn find(&self, name: &str, path: &str) -> Option<Found<'_>> {
        self.snapshot
            .route_for(name, path)
            .map(|routed| self.of(routed))
    }

    pub(crate) fn find_on_port(&self, name: &str, port: u16, path: &str) -> Option<Found<'_>> {
        self.snapshot
            .route_on_port(name, port, path)
            .map(|routed| self.of(routed))
    }

    /// Where TLS for `name` passes to unopened.
    pub(crate) fn unopened(&self, name: &str) -> Option<Arc<Pool>> {
        let routed = self.snapshot.unopened(name)?;
        self.backends[routed.destination.index()].pool().cloned()
    }

    /// Whether something is asked of the app that `target` names.
    pub(crate) fn activity_of(&self, target: &Target) -> Option<Activity> {
        activity_of(&self.apps, target)
    }

    /// What passes bytes on that come in at this address.
    pub(crate) fn raw(&self, ip: Ipv4Addr, port: u16) -> Option<&Raw> {
        self.raw.get(&(ip, port))
    }

    /// Where bytes are listened for.
    pub(crate) fn raw_places(&self) -> impl Iterator<Item = (Ipv4Addr, u16)> {
        self.raw.keys().copied()
    }

    fn of<'a>(&'a self, routed: Routed<'a>) -> Found<'a> {
        let rules = routed.position.and_then(|at| self.rules.get(at));
        let backend = match routed.position {
            Some(_) => &self.backends[routed.destination.index()],
            // Only our own pages are no route of the configuration.
            None => &SITE,
        };
        Found {
            routed,
            backend,
            rules: rules.and_then(Option::as_deref),
        }
    }
}
