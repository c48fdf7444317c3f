mod listening;
mod naming;

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr};
use std::num::NonZeroU16;
use std::sync::Arc;

use foldhash::fast::RandomState;

use crate::address::{Address, PathPrefix, Pattern};
use crate::app::{AppPlace, Apps};
use crate::bridge::Bridge;
use crate::configuration::Configuration;
use crate::container::{ContainerPlace, Containers};
use crate::destination::{Destination, DestinationId, place_of};
use crate::label::LabelRoutes;
use crate::name::{Name, suffixes};
use crate::record::{Record, RecordData};
use crate::route::Route;
use crate::settings::{PinnedCert, Plain, TlsEnd};
use crate::target::Target;
use crate::zone::Zone;

/// What a request is answered by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Routed<'a> {
    /// The route.
    pub route: &'a Route,
    /// Its place in the configuration; `None` for our own pages.
    pub position: Option<usize>,
    /// Where it leads.
    pub destination: DestinationId,
}

/// A route for raw TCP.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RawRoute<'a> {
    /// The route.
    pub route: &'a Route,
    /// The name's own address, where it is listened for.
    pub ip: Ipv4Addr,
    /// The port there.
    pub port: NonZeroU16,
    /// Where it leads.
    pub destination: DestinationId,
}

/// What is known of the moment, beside the configuration: where containers and apps are.
#[derive(Clone, Debug, Default)]
pub struct Observed {
    /// The containers.
    pub containers: Arc<Containers>,
    /// The apps that can be connected to.
    pub apps: Arc<Apps>,
    /// The networks of containers that are open.
    pub bridges: Arc<Vec<Bridge>>,
}

/// By a hash that costs less than one that keeps strangers from choosing keys which collide: these
/// are of the user's own configuration.
type Table<K, V> = HashMap<K, V, RandomState>;

/// The compiled, immutable picture of zones and routes that the data plane reads.
///
/// A look-up costs a hash for each label of the name, whatever the number of routes, and
/// allocates nothing. Names given to look-ups are lower-case A-labels without a final dot.
#[derive(Debug, Default)]
pub struct Snapshot {
    /// With the routes of labels.
    configuration: Configuration,
    /// Without them, where there are some.
    stored: Option<Configuration>,
    labels: LabelRoutes,
    observed: Observed,
    zones: Table<Name, usize>,
    /// The user's own records by owner, with their places in the configuration.
    records: Table<Box<str>, Vec<(usize, usize)>>,
    /// Names that exist because of a record or a route at or below them (RFC 4592 §2.2).
    nodes: HashSet<Box<str>, RandomState>,
    exact: Table<Name, Served>,
    below: Table<Name, Served>,
    /// Whether the names of routes resolve as their zones say, all of them.
    plain: bool,
    destinations: Vec<Destination>,
    /// Places of the routes for raw TCP in the configuration.
    raw: Vec<Entry>,
    /// Where HTTP is listened for on ports of its own.
    http_ports: HashSet<(Ipv4Addr, u16), RandomState>,
    /// Whether TLS passes unopened for some route.
    has_unopened: bool,
    /// Whether a route chose its certificate.
    has_pinned: bool,
    /// What answers to our own name.
    own: Option<(Route, DestinationId)>,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    route: usize,
    destination: DestinationId,
}

/// What there is under one pattern.
#[derive(Debug, Default)]
struct Served {
    /// Its routes on the ports of the listeners, the longest path prefix first.
    entries: Vec<Entry>,
    /// The same on ports of their own.
    on_ports: Vec<Entry>,
    resolution: Resolution,
}

impl Served {
    /// All of its routes.
    fn all(&self) -> impl Iterator<Item = &Entry> {
        self.entries.iter().chain(&self.on_ports)
    }
}

/// How the names of a pattern resolve, where that is not as their zone says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Resolution {
    /// The address that a route chose.
    pub address: Option<IpAddr>,
    /// The name that a redirect goes to, if it does so for every path and we serve that name.
    pub alias: Option<Name>,
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        self.as_str()
    }
}

impl Snapshot {
    /// Compiles `configuration`, where no container and no running app is known. Of two routes with one address the
    /// later stands.
    #[must_use]
    pub fn compile(configuration: Configuration) -> Self {
        Self::compile_with(configuration, Observed::default())
    }

    /// Compiles `configuration` with the containers and apps of the moment, and with the routes that the
    /// labels of containers add.
    #[must_use]
    pub fn compile_with(configuration: Configuration, observed: Observed) -> Self {
        let labels = LabelRoutes::of(&configuration, &observed.containers);
        let mut stored = None;
        let mut configuration = configuration;
        if !labels.is_empty() {
            stored = Some(configuration.clone());
            let added = labels.routes.iter().map(|(route, _)| route.clone());
            configuration.routes.extend(added);
            configuration
                .routes
                .sort_by(|a, b| a.address.cmp(&b.address));
        }
        let mut snapshot = Self {
            plain: true,
            stored,
            labels,
            ..Self::default()
        };
        let mut ids: Table<Destination, DestinationId> = Table::default();
        for (position, zone) in configuration.zones.iter().enumerate() {
            snapshot.zones.insert(zone.name.clone(), position);
            for (place, record) in zone.records.iter().enumerate() {
                let owner = record.owner.as_str();
                snapshot.add_node(owner, &zone.name);
                let entry = snapshot.records.entry(owner.into()).or_default();
                entry.push((position, place));
            }
        }
        for (position, route) in configuration.routes.iter().enumerate() {
            let leads_to = Destination::of(route, &observed);
            let destination = *ids.entry(leads_to).or_insert_with_key(|leads_to| {
                snapshot.destinations.push(leads_to.clone());
                DestinationId(snapshot.destinations.len() - 1)
            });
            let entry = Entry {
                route: position,
                destination,
            };
            let base = route.address.pattern.base().as_str();
            let mut covering = suffixes(base).filter_map(|suffix| snapshot.zones.get(suffix));
            if let Some(zone) = covering.next().and_then(|at| configuration.zones.get(*at)) {
                snapshot.add_node(base, &zone.name);
            }
            let table = match &route.address.pattern {
                Pattern::Exact(_) => &mut snapshot.exact,
                Pattern::Wildcard(_) => &mut snapshot.below,
            };
            let served = table
                .entry(route.address.pattern.base().clone())
                .or_default();
            if route.is_raw() {
                snapshot.raw.push(entry);
            } else if let Some(port) = route.address.port {
                served.on_ports.push(entry);
                if let Some(IpAddr::V4(ip)) = route.settings.address
                    && route.listens()
                {
                    snapshot.http_ports.insert((ip, port.get()));
                }
            } else {
                served
                    .entries
                    .retain(|entry| configuration.routes[entry.route].address != route.address);
                served.entries.push(entry);
                snapshot.has_unopened |= route.settings.tls == Some(TlsEnd::Passthrough);
            }
            snapshot.has_pinned |= route.settings.cert.is_some();
            if let Some(address) = route.settings.address {
                served.resolution.address = Some(address);
                snapshot.plain = false;
            }
        }
        snapshot.add_subdomains(&configuration, &observed, &ids);
        let all = snapshot.exact.values_mut();
        for served in all.chain(snapshot.below.values_mut()) {
            let prefix = |entry: &Entry| &configuration.routes[entry.route].address.prefix;
            let longest_first = |entry: &Entry| Reverse(prefix(entry).specificity());
            served.entries.sort_by_key(longest_first);
            served.on_ports.sort_by_key(longest_first);
        }
        snapshot.configuration = configuration;
        snapshot.observed = observed;
        snapshot.add_aliases();
        snapshot
    }

    /// Applies `subdomains`: such a route also covers the names below its own, except where a wildcard
    /// route does.
    fn add_subdomains(
        &mut self,
        configuration: &Configuration,
        observed: &Observed,
        ids: &Table<Destination, DestinationId>,
    ) {
        let routes = configuration.routes.iter().enumerate();
        let covering = routes.filter(|(_, route)| {
            route.settings.subdomains && matches!(route.address.pattern, Pattern::Exact(_))
        });
        for (position, route) in covering {
            let Some(destination) = ids.get(&Destination::of(route, observed)).copied() else {
                continue;
            };
            let base = route.address.pattern.base().clone();
            let served = self.below.entry(base).or_default();
            let Address { prefix, port, .. } = &route.address;
            let is_taken = |entry: &Entry| {
                let known = &configuration.routes[entry.route].address;
                (&known.prefix, &known.port) == (prefix, port)
            };
            if route.is_raw() || served.all().any(is_taken) {
                continue;
            }
            let entry = Entry {
                route: position,
                destination,
            };
            match port {
                Some(_) => served.on_ports.push(entry),
                None => served.entries.push(entry),
            }
            if let (None, Some(address)) = (served.resolution.address, route.settings.address) {
                served.resolution.address = Some(address);
            }
        }
    }

    /// Notes which names only redirect to another name of ours.
    fn add_aliases(&mut self) {
        let aliases = |table: &Table<Name, Served>| {
            let of = |(base, served): (&Name, &Served)| {
                Some((base.clone(), self.alias_of(base, served)?))
            };
            table.iter().filter_map(of).collect::<Vec<_>>()
        };
        let (exact, below) = (aliases(&self.exact), aliases(&self.below));
        for (table, found) in [(&mut self.exact, exact), (&mut self.below, below)] {
            for (base, alias) in found {
                if let Some(served) = table.get_mut(&base) {
                    served.resolution.alias = Some(alias);
                    self.plain = false;
                }
            }
        }
    }

    fn alias_of(&self, base: &Name, served: &Served) -> Option<Name> {
        let [entry] = served.entries.as_slice() else {
            return None;
        };
        let route = &self.configuration.routes[entry.route];
        let Target::Redirect(redirect) = &route.to else {
            return None;
        };
        // What it redirects to may be below it.
        if route.settings.subdomains {
            return None;
        }
        let prefix = &self.configuration.routes[entry.route].address.prefix;
        let target = redirect.name()?;
        let elsewhere = *base != target && served.resolution.address.is_none();
        (elsewhere && prefix.as_str() == "/" && self.leads_here(&target)).then_some(target)
    }

    /// Whether `name` resolves to where we listen, as far as we decide.
    fn leads_here(&self, name: &Name) -> bool {
        let Some(zone) = self.zone_of(name.as_str()) else {
            return false;
        };
        let by_zone = zone.settings.addresses().is_empty();
        match self.served(name.as_str()) {
            _ if !self.records_for(name.as_str(), zone).is_empty() => false,
            Some(Served { resolution, .. }) => {
                resolution.address.map_or(by_zone, |ip| ip.is_loopback())
            }
            None => by_zone,
        }
    }

    /// The route with this address: one look-up, whatever the number of routes.
    #[must_use]
    pub fn route_at(&self, address: &Address) -> Option<&Route> {
        let table = match &address.pattern {
            Pattern::Exact(_) => &self.exact,
            Pattern::Wildcard(_) => &self.below,
        };
        let served = table.get(address.pattern.base());
        let raw = address.port.map(|_| &self.raw).into_iter().flatten();
        let entries = served.into_iter().flat_map(Served::all);
        entries.chain(raw).find_map(|entry| {
            let route = self.configuration.routes.get(entry.route)?;
            (route.address == *address).then_some(route)
        })
    }

    /// A snapshot of these zones without a route.
    #[must_use]
    pub fn of_zones(names: impl IntoIterator<Item = Name>) -> Self {
        let zones = names.into_iter().map(Zone::new).collect();
        Self::compile(Configuration {
            zones,
            ..Configuration::default()
        })
    }

    /// The same with `name` leading to our own pages, unless a route takes it. Its target is never
    /// connected to: the proxy answers by itself.
    #[must_use]
    pub fn with_own_pages(mut self, name: Name) -> Self {
        let address = Address::http(Pattern::Exact(name), PathPrefix::default());
        let route = Route::new(address, Target::Port(NonZeroU16::MIN));
        let id = DestinationId(self.destinations.len());
        self.destinations
            .push(Destination::of(&route, &self.observed));
        self.own = Some((route, id));
        self
    }

    /// What is in force: what the snapshot was compiled from, with the routes of labels.
    #[must_use]
    pub fn configuration(&self) -> &Configuration {
        &self.configuration
    }

    /// What the snapshot was compiled from, without the routes of labels: what is stored, and what
    /// changes are made to.
    #[must_use]
    pub fn stored(&self) -> &Configuration {
        self.stored.as_ref().unwrap_or(&self.configuration)
    }

    /// The routes of labels.
    #[must_use]
    pub fn labels(&self) -> &LabelRoutes {
        &self.labels
    }

    /// The container or service whose label asks for the route with this address.
    #[must_use]
    pub fn label_of(&self, address: &Address) -> Option<&str> {
        let mut routes = self.labels.routes.iter();
        let found = routes.find(|(route, _)| route.address == *address);
        found.map(|(_, owner)| owner.as_str())
    }

    /// The networks of containers that are open.
    #[must_use]
    pub fn bridges(&self) -> &[Bridge] {
        &self.observed.bridges
    }

    /// The containers.
    #[must_use]
    pub fn containers(&self) -> &Containers {
        &self.observed.containers
    }

    /// Where the container that `route` leads to is, if it leads to one.
    #[must_use]
    pub fn container_of(&self, route: &Route) -> Option<ContainerPlace> {
        place_of(route.server(), &self.observed)
    }

    /// Where the app that `route` leads to is, if it leads to one.
    #[must_use]
    pub fn app_of(&self, route: &Route) -> Option<AppPlace> {
        match route.server() {
            Target::App(app) => Some(AppPlace::of(app, &self.observed.apps)),
            _ => None,
        }
    }

    /// Where a route leads that is none of the configuration's own.
    #[must_use]
    pub fn destination_of(&self, route: &Route) -> Destination {
        Destination::of(route, &self.observed)
    }

    /// The apps that can be connected to.
    #[must_use]
    pub fn apps(&self) -> &Apps {
        &self.observed.apps
    }

    /// The names of the containers that are known.
    #[must_use]
    pub fn container_names(&self) -> Vec<String> {
        let all = self.observed.containers.seen.iter();
        all.map(|seen| seen.name.clone()).collect()
    }

    /// The image of the container that `route` leads to, if it leads to one that is known.
    #[must_use]
    pub fn image_of(&self, route: &Route) -> Option<String> {
        let Target::Container(wanted) = route.server() else {
            return None;
        };
        let named = self.observed.containers.named(wanted);
        named.first().and_then(|seen| seen.image.clone())
    }

    /// The app behind the folder that `route` leads to, if it has one.
    #[must_use]
    pub fn behind_folder(&self, route: &Route) -> Option<Destination> {
        Destination::behind_folder(route, &self.observed)
    }

    /// The distinct destinations of all routes.
    #[must_use]
    pub fn destinations(&self) -> &[Destination] {
        &self.destinations
    }

    /// Whether TLS passes unopened for some name.
    #[must_use]
    pub fn has_unopened(&self) -> bool {
        self.has_unopened
    }

    /// Where TLS for `name` passes to unopened, if it does.
    #[must_use]
    pub fn unopened(&self, name: &str) -> Option<Routed<'_>> {
        if !self.has_unopened {
            return None;
        }
        let routed = self.route_for(name, "/")?;
        (routed.route.settings.tls == Some(TlsEnd::Passthrough)).then_some(routed)
    }

    /// Whether a route chose its certificate.
    #[must_use]
    pub fn has_pinned(&self) -> bool {
        self.has_pinned
    }

    /// The certificate that a route of `name` chose to show.
    #[must_use]
    pub fn pinned_cert(&self, name: &str) -> Option<&PinnedCert> {
        if !self.has_pinned {
            return None;
        }
        let served = self.served(name)?;
        let mut routes = served.all().map(|it| &self.configuration.routes[it.route]);
        routes.find_map(|route| route.settings.cert.as_ref())
    }

    /// How to handle plain HTTP for a route.
    #[must_use]
    pub fn plain_for(&self, name: &str, route: Option<&Route>) -> Plain {
        let chosen = route.and_then(|route| route.settings.plain);
        let by_zone = || self.zone_of(name).map(|zone| zone.settings.plain);
        chosen.or_else(by_zone).unwrap_or_default()
    }

    /// The zone that covers `name`: the longest one.
    #[must_use]
    pub fn zone_of(&self, name: &str) -> Option<&Zone> {
        let position = suffixes(name).find_map(|suffix| self.zones.get(suffix))?;
        self.configuration.zones.get(*position)
    }

    /// The user's own records for `name` in `zone`: those of the name, or of the wildcard that
    /// stands for it when no name comes closer (RFC 4592 §3.3.1).
    #[must_use]
    pub fn records_for(&self, name: &str, zone: &Zone) -> Vec<&Record> {
        if zone.records.is_empty() {
            return Vec::new();
        }
        let at = |owner: &str| {
            let places = self.records.get(owner).into_iter().flatten();
            places.filter_map(|(zone, place)| {
                self.configuration.zones.get(*zone)?.records.get(*place)
            })
        };
        if self.nodes.contains(name) || name == zone.name.as_str() {
            return at(name).collect();
        }
        let encloser = suffixes(name)
            .skip(1)
            .find(|suffix| self.nodes.contains(*suffix) || *suffix == zone.name.as_str());
        let wildcard = encloser.map(|encloser| format!("*.{encloser}"));
        wildcard.iter().flat_map(|owner| at(owner)).collect()
    }

    /// Whether a record or a route makes `name` exist, by itself or by something below it.
    #[must_use]
    pub fn has_node(&self, name: &str) -> bool {
        self.nodes.contains(name)
    }

    /// Whether a route answers to `name`, whatever the path.
    #[must_use]
    pub fn is_routed(&self, name: &str) -> bool {
        self.served(name).is_some()
    }

    /// What there is under the most specific pattern that `name` matches.
    fn served(&self, name: &str) -> Option<&Served> {
        let mut below = suffixes(name).skip(1);
        let below = || below.find_map(|suffix| self.below.get(suffix));
        self.exact.get(name).or_else(below)
    }

    /// How `name` resolves by its routes' choice; `None` when as its zone says.
    #[must_use]
    pub fn resolution(&self, name: &str) -> Option<&Resolution> {
        if self.plain {
            return None;
        }
        let resolution = &self.served(name)?.resolution;
        (*resolution != Resolution::default()).then_some(resolution)
    }

    /// The addresses that `name` resolves to, when names are served at `listening`: its records',
    /// or its route's, or its zone's, or those. Aliases lead to the same as what they stand for.
    #[must_use]
    pub fn addresses_of(&self, name: &str, listening: &[IpAddr]) -> Vec<IpAddr> {
        let zone = self.zone_of(name);
        let records = zone.map_or_else(Vec::new, |zone| self.records_for(name, zone));
        let own = records.iter().filter_map(|record| match record.data {
            RecordData::A(ip) => Some(IpAddr::V4(ip)),
            RecordData::Aaaa(ip) => Some(IpAddr::V6(ip)),
            _ => None,
        });
        let own: Vec<IpAddr> = own.collect();
        if !own.is_empty() {
            return own;
        }
        if let Some(chosen) = self.resolution(name).and_then(|chosen| chosen.address) {
            return vec![chosen];
        }
        let by_zone = zone.map_or_else(Vec::new, |zone| zone.settings.addresses());
        if by_zone.is_empty() {
            listening.to_vec()
        } else {
            by_zone
        }
    }

    /// Notes that `name` exists, and so does every name between it and its zone.
    fn add_node(&mut self, name: &str, zone: &Name) {
        for suffix in suffixes(name) {
            if suffix == zone.as_str() || !self.nodes.insert(suffix.into()) {
                return;
            }
        }
    }

    /// The route for a request, and where it leads.
    ///
    /// The most specific address that matches both wins: an exact name before a wildcard, a longer
    /// wildcard before a shorter, then the longest path prefix.
    #[must_use]
    pub fn route_for(&self, name: &str, path: &str) -> Option<Routed<'_>> {
        self.all_served(name)
            .find_map(|served| self.longest_prefix(served.entries.iter(), path))
            .or_else(|| {
                let (route, destination) = self.own.as_ref()?;
                (route.address.pattern.base().as_str() == name).then_some(Routed {
                    route,
                    position: None,
                    destination: *destination,
                })
            })
    }

    /// The route with `port` in its address for a request that came to this port; found in the same way.
    #[must_use]
    pub fn route_on_port(&self, name: &str, port: u16, path: &str) -> Option<Routed<'_>> {
        if self.http_ports.is_empty() {
            return None;
        }
        let is_of_port = |entry: &&Entry| {
            let own = self.configuration.routes[entry.route].address.port;
            own.is_some_and(|own| own.get() == port)
        };
        let on_port = |served: &'_ Served| {
            self.longest_prefix(served.on_ports.iter().filter(is_of_port), path)
        };
        self.all_served(name).find_map(on_port)
    }

    /// What there is under each pattern that `name` matches, the most specific first.
    fn all_served(&self, name: &str) -> impl Iterator<Item = &Served> {
        let below = suffixes(name).skip(1);
        let below = below.filter_map(|suffix| self.below.get(suffix));
        self.exact.get(name).into_iter().chain(below)
    }

    fn longest_prefix<'a>(
        &self,
        mut entries: impl Iterator<Item = &'a Entry>,
        path: &str,
    ) -> Option<Routed<'_>> {
        entries.find_map(|entry| {
            let route = &self.configuration.routes[entry.route];
            let matches = route.address.prefix.matches(path);
            matches.then_some(Routed {
                route,
                position: Some(entry.route),
                destination: entry.destination,
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn snapshot() -> Snapshot {
        let routes = [
            ("moor.test", "1"),
            ("booking.moor.test", "2"),
            ("booking.moor.test/api", "3"),
            ("booking.moor.test/api/v2", "4"),
            ("*.moor.test", "5"),
            ("*.hut.moor.test", "6"),
            ("only.moor.test/deep", "7"),
            ("any.hut.moor.test", "8"),
        ];
        Snapshot::compile(Configuration {
            revision: 1,
            zones: ["moor.test", "deep.moor.test"]
                .map(|name| Zone::new(name.parse().unwrap()))
                .to_vec(),
            routes: routes
                .map(|(address, to)| Route::new(address.parse().unwrap(), to.parse().unwrap()))
                .to_vec(),
            ..Configuration::default()
        })
    }

    #[rstest]
    #[case("moor.test", "/", Some("1"))]
    #[case("booking.moor.test", "/", Some("2"))]
    #[case("booking.moor.test", "/apiary", Some("2"))]
    #[case("booking.moor.test", "/api", Some("3"))]
    #[case("booking.moor.test", "/api/v2/x", Some("4"))]
    #[case("anything.moor.test", "/", Some("5"))]
    #[case("a.b.moor.test", "/", Some("5"))]
    #[case("hut.moor.test", "/", Some("5"))]
    #[case("x.hut.moor.test", "/", Some("6"))]
    #[case("x.y.hut.moor.test", "/", Some("6"))]
    #[case("only.moor.test", "/deep/er", Some("7"))]
    #[case("only.moor.test", "/", Some("5"))]
    #[case("blackmoor.test", "/", None)]
    #[case("test", "/", None)]
    #[case("", "/", None)]
    fn most_specific_route_wins(#[case] name: &str, #[case] path: &str, #[case] to: Option<&str>) {
        let snapshot = snapshot();
        let found = snapshot.route_for(name, path).map(
            |Routed {
                 route, destination, ..
             }| {
                assert_eq!(snapshot.destinations()[destination.index()].to, route.to);
                route.to.to_string()
            },
        );
        assert_eq!(found.as_deref(), to);
    }

    #[rstest]
    #[case("shop.moor.test", "/", "1")]
    #[case("a.shop.moor.test", "/", "1")]
    #[case("a.b.shop.moor.test", "/", "1")]
    #[case("shop.moor.test", "/api", "2")]
    #[case("a.shop.moor.test", "/api", "3")]
    #[case("own.shop.moor.test", "/", "4")]
    #[case("x.moor.test", "/", "5")]
    fn a_route_covers_names_below_its_own(
        #[case] name: &str,
        #[case] path: &str,
        #[case] to: &str,
    ) {
        let route = |(address, to, subdomains): (&str, &str, bool)| {
            let mut route = Route::new(address.parse().unwrap(), to.parse().unwrap());
            route.settings.subdomains = subdomains;
            route
        };
        let routes = [
            ("shop.moor.test", "1", true),
            ("shop.moor.test/api", "2", true),
            ("*.shop.moor.test/api", "3", false),
            ("own.shop.moor.test", "4", false),
            ("*.moor.test", "5", false),
        ];
        let snapshot = Snapshot::compile(Configuration {
            revision: 1,
            zones: vec![Zone::new("moor.test".parse().unwrap())],
            routes: routes.map(route).to_vec(),
            ..Configuration::default()
        });
        let found = snapshot.route_for(name, path).unwrap();
        assert_eq!(found.route.to.to_string(), to);
        assert_eq!(
            snapshot.destinations()[found.destination.index()].to,
            found.route.to
        );
        assert!(snapshot.is_routed(name));
    }

    #[rstest]
    #[case("moor.test", Some("moor.test"))]
    #[case("x.moor.test", Some("moor.test"))]
    #[case("x.deep.moor.test", Some("deep.moor.test"))]
    #[case("blackmoor.test", None)]
    fn longest_zone_covers(#[case] name: &str, #[case] zone: Option<&str>) {
        let snapshot = snapshot();
        let found = snapshot.zone_of(name).map(|zone| zone.name.as_str());
        assert_eq!(found, zone);
    }

    #[rstest]
    #[case("booking.moor.test/api", Some("booking.moor.test"))]
    #[case("*.moor.test", Some("any.moor.test"))]
    #[case("*.hut.moor.test", Some("some.hut.moor.test"))]
    fn sample_names_reach_their_route(#[case] address: &str, #[case] sample: Option<&str>) {
        let snapshot = snapshot();
        let route = snapshot
            .configuration()
            .route(&address.parse().unwrap())
            .unwrap();
        assert_eq!(
            snapshot.sample_name(route).as_ref().map(Name::as_str),
            sample
        );
    }
}
