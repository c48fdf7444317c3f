use std::collections::{HashMap, HashSet};

use crate::address::{Address, PathPrefix, Pattern};
use crate::configuration::{Configuration, Route, Zone};
use crate::name::{Name, suffixes};
use crate::record::Record;
use crate::target::Target;

/// Names a target of one [`Snapshot`]; an index into [`Snapshot::targets`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct TargetId(usize);

impl TargetId {
    /// The position in [`Snapshot::targets`].
    #[must_use]
    pub fn index(self) -> usize {
        self.0
    }
}

/// The compiled, immutable picture of zones and routes that the data plane reads.
///
/// A look-up costs a hash for each label of the name, whatever the number of routes, and
/// allocates nothing. Names given to look-ups are lower-case A-labels without a final dot.
#[derive(Debug, Default)]
pub struct Snapshot {
    configuration: Configuration,
    zones: HashMap<Name, usize>,
    /// The user's own records by owner, with their places in the configuration.
    records: HashMap<Box<str>, Vec<(usize, usize)>>,
    /// Names that exist because of a record or a route at or below them (RFC 4592 §2.2).
    nodes: HashSet<Box<str>>,
    exact: HashMap<Name, Vec<Entry>>,
    below: HashMap<Name, Vec<Entry>>,
    targets: Vec<Target>,
    /// What answers to a name of our own.
    own: Option<(Route, TargetId)>,
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    route: usize,
    target: TargetId,
}

impl std::borrow::Borrow<str> for Name {
    fn borrow(&self) -> &str {
        self.as_str()
    }
}

impl Snapshot {
    /// Compiles `configuration`. Of two routes with one address the later stands.
    #[must_use]
    pub fn compile(configuration: Configuration) -> Self {
        let mut snapshot = Self::default();
        let mut ids: HashMap<Target, TargetId> = HashMap::new();
        for (position, zone) in configuration.zones.iter().enumerate() {
            snapshot.zones.insert(zone.name.clone(), position);
            for (place, record) in zone.records.iter().enumerate() {
                let owner = record.owner.as_str();
                snapshot.note_node(owner, &zone.name);
                let entry = snapshot.records.entry(owner.into()).or_default();
                entry.push((position, place));
            }
        }
        for (position, route) in configuration.routes.iter().enumerate() {
            let target = *ids.entry(route.to.clone()).or_insert_with(|| {
                snapshot.targets.push(route.to.clone());
                TargetId(snapshot.targets.len() - 1)
            });
            let base = route.address.pattern.base().as_str();
            let mut covering = suffixes(base).filter_map(|suffix| snapshot.zones.get(suffix));
            if let Some(zone) = covering.next().and_then(|at| configuration.zones.get(*at)) {
                snapshot.note_node(base, &zone.name);
            }
            let table = match &route.address.pattern {
                Pattern::Exact(_) => &mut snapshot.exact,
                Pattern::Wildcard(_) => &mut snapshot.below,
            };
            let entries = table
                .entry(route.address.pattern.base().clone())
                .or_default();
            entries.retain(|entry| configuration.routes[entry.route].address != route.address);
            entries.push(Entry {
                route: position,
                target,
            });
        }
        for entries in snapshot
            .exact
            .values_mut()
            .chain(snapshot.below.values_mut())
        {
            let prefix = |entry: &Entry| &configuration.routes[entry.route].address.prefix;
            entries.sort_by_key(|entry| std::cmp::Reverse(prefix(entry).specificity()));
        }
        snapshot.configuration = configuration;
        snapshot
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

    /// The same with `name` leading to our own pages at `to`, unless a route takes it.
    #[must_use]
    pub fn with_own_pages(mut self, name: Name, to: Target) -> Self {
        let address = Address {
            pattern: Pattern::Exact(name),
            prefix: PathPrefix::default(),
        };
        let id = TargetId(self.targets.len());
        self.targets.push(to.clone());
        self.own = Some((Route { address, to }, id));
        self
    }

    /// What the snapshot was compiled from.
    #[must_use]
    pub fn configuration(&self) -> &Configuration {
        &self.configuration
    }

    /// The distinct targets of all routes.
    #[must_use]
    pub fn targets(&self) -> &[Target] {
        &self.targets
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
        self.exact.contains_key(name)
            || suffixes(name)
                .skip(1)
                .any(|suffix| self.below.contains_key(suffix))
    }

    /// Notes that `name` exists, and so does every name between it and its zone.
    fn note_node(&mut self, name: &str, zone: &Name) {
        for suffix in suffixes(name) {
            if suffix == zone.as_str() || !self.nodes.insert(suffix.into()) {
                return;
            }
        }
    }

    /// The route for a request, and its target.
    ///
    /// The most specific address that matches both wins: an exact name before a wildcard, a longer
    /// wildcard before a shorter, then the longest path prefix.
    #[must_use]
    pub fn route_for(&self, name: &str, path: &str) -> Option<(&Route, TargetId)> {
        let exact = self.exact.get(name);
        let below = suffixes(name)
            .skip(1)
            .filter_map(|suffix| self.below.get(suffix));
        exact
            .into_iter()
            .chain(below)
            .find_map(|entries| self.longest_prefix(entries, path))
            .or_else(|| {
                let (route, target) = self.own.as_ref()?;
                (route.address.pattern.base().as_str() == name).then_some((route, *target))
            })
    }

    /// A name that `route` answers for when a client asks: the exact name, or one label in front
    /// of a wildcard's base. `None` when more specific routes leave it no such name.
    #[must_use]
    pub fn sample_name(&self, route: &Route) -> Option<Name> {
        let candidates: Vec<Name> = match &route.address.pattern {
            Pattern::Exact(name) => vec![name.clone()],
            Pattern::Wildcard(base) => ["any", "some", "another"]
                .iter()
                .filter_map(|label| base.prepend(label).ok())
                .collect(),
        };
        candidates.into_iter().find(|name| {
            self.route_for(name.as_str(), route.address.prefix.as_str())
                .is_some_and(|(found, _)| found.address == route.address)
        })
    }

    fn longest_prefix(&self, entries: &[Entry], path: &str) -> Option<(&Route, TargetId)> {
        entries.iter().find_map(|entry| {
            let route = &self.configuration.routes[entry.route];
            route
                .address
                .prefix
                .matches(path)
                .then_some((route, entry.target))
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
                .map(|(address, to)| Route {
                    address: address.parse().unwrap(),
                    to: to.parse().unwrap(),
                })
                .to_vec(),
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
        let found = snapshot.route_for(name, path).map(|(route, target)| {
            assert_eq!(snapshot.targets()[target.index()], route.to);
            route.to.to_string()
        });
        assert_eq!(found.as_deref(), to);
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
