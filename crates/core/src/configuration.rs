use std::collections::HashSet;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use crate::address::{Address, AddressError, PathPrefix, Pattern};
use crate::name::Name;
use crate::record::{Record, RecordData, RecordName};
use crate::target::Target;

/// A DNS suffix that the resolver answers for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Zone {
    /// The suffix.
    pub name: Name,
    /// What its names resolve to.
    #[serde(default)]
    pub settings: ZoneSettings,
    /// The user's own records in it, by owner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<Record>,
}

/// What the names of a zone resolve to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ZoneSettings {
    /// Seconds that an answer may be kept, also a negative one.
    #[serde(default = "default_ttl")]
    pub ttl: u32,
    /// Which names there are.
    #[serde(default)]
    pub answers: Answers,
    /// Another address than this machine's. When only one family is given, the other has none.
    #[schema(value_type = Option<String>)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv4: Option<Ipv4Addr>,
    /// The same for IPv6.
    #[schema(value_type = Option<String>)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ipv6: Option<Ipv6Addr>,
}

/// Which names of a zone there are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Answers {
    /// Every one, so that a name without a route reaches a page that says so.
    #[default]
    EveryName,
    /// Those of routes and records alone.
    RoutedNames,
}

fn default_ttl() -> u32 {
    10
}

/// The longest time for which a zone's answers may be kept: a day. A route that moves should be
/// found.
const LONGEST_ZONE_TTL: u32 = 86_400;

impl Default for ZoneSettings {
    fn default() -> Self {
        Self {
            ttl: default_ttl(),
            answers: Answers::default(),
            ipv4: None,
            ipv6: None,
        }
    }
}

impl Zone {
    /// A zone with the usual settings and no records.
    #[must_use]
    pub fn new(name: Name) -> Self {
        Self {
            name,
            settings: ZoneSettings::default(),
            records: Vec::new(),
        }
    }
}

/// An address and the target it leads to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Route {
    /// What the route answers to; no two routes share it.
    pub address: Address,
    /// Where it leads.
    pub to: Target,
}

/// What the user wrote down: every zone and route, as of one revision.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Configuration {
    /// Counts the changes; a later configuration has a higher one.
    pub revision: u64,
    /// The zones, by name.
    pub zones: Vec<Zone>,
    /// The routes, by address.
    pub routes: Vec<Route>,
}

/// One change of the configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A new zone.
    AddZone(Name),
    /// A zone goes.
    RemoveZone {
        /// Its name.
        name: Name,
        /// Whether the routes that no other zone covers go with it.
        with_routes: bool,
    },
    /// A zone's names resolve otherwise.
    EditZone {
        /// Its name.
        name: Name,
        /// Its settings from now on.
        settings: ZoneSettings,
    },
    /// A new record of the user's own.
    AddRecord(Record),
    /// Records go.
    RemoveRecords {
        /// Whose records.
        owner: RecordName,
        /// Of which type; `None` is every type.
        kind: Option<String>,
    },
    /// A zone's own records are these from now on.
    ReplaceRecords {
        /// Its name.
        name: Name,
        /// All its records.
        records: Vec<Record>,
    },
    /// A new route.
    AddRoute(Route),
    /// A route leads elsewhere.
    EditRoute {
        /// Its address.
        address: Address,
        /// Where it leads from now on.
        to: Target,
    },
    /// A route goes.
    RemoveRoute(Address),
}

/// Why a change is not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Rejection {
    /// A value breaks a rule.
    #[error(transparent)]
    Invalid(Invalid),
    /// What is there already stands against it.
    #[error(transparent)]
    Taken(Invalid),
    /// What should change is not there.
    #[error("there is no {what}: see `bentlane {list}`")]
    Missing {
        /// What was looked for.
        what: String,
        /// The command that lists what there is.
        list: &'static str,
    },
}

impl Rejection {
    /// There is no route with this address.
    #[must_use]
    pub fn missing_route(address: &Address) -> Self {
        Self::Missing {
            what: format!("route `{address}`"),
            list: "route list",
        }
    }
}

/// A route as a person typed it, field by field.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RouteDraft<'a> {
    /// A name or `*.NAME`.
    pub name: &'a str,
    /// A path prefix; `None` and `/` are every path.
    pub prefix: Option<&'a str>,
    /// A target.
    pub to: &'a str,
}

/// A value that breaks a rule: which field, and which rule.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{field}: {reason}")]
pub struct Invalid {
    /// The field's name as the API and the project file spell it.
    pub field: &'static str,
    /// The rule, with the value that breaks it and what would be right.
    pub reason: String,
}

impl Invalid {
    /// A broken rule for `field`.
    pub fn new(field: &'static str, reason: impl ToString) -> Self {
        Self {
            field,
            reason: reason.to_string(),
        }
    }
}

impl RouteDraft<'_> {
    /// Reads every field and says all that is wrong, not just the first.
    ///
    /// # Errors
    /// One [`Invalid`] for each field that breaks its rule.
    pub fn parse(&self) -> Result<Route, Vec<Invalid>> {
        let pattern = self
            .name
            .parse::<Pattern>()
            .map_err(|e| Invalid::new("name", e));
        let prefix = match self.prefix {
            None | Some("") => Ok(PathPrefix::default()),
            Some(text) => text
                .parse()
                .map_err(|e: AddressError| Invalid::new("prefix", e)),
        };
        let to = self
            .to
            .trim()
            .parse::<Target>()
            .map_err(|e| Invalid::new("to", e));
        match (pattern, prefix, to) {
            (Ok(pattern), Ok(prefix), Ok(to)) => Ok(Route {
                address: Address { pattern, prefix },
                to,
            }),
            (pattern, prefix, to) => Err([pattern.err(), prefix.err(), to.err()]
                .into_iter()
                .flatten()
                .collect()),
        }
    }
}

impl Configuration {
    /// The zone that `name` belongs to: the longest that covers it.
    #[must_use]
    pub fn zone_of(&self, name: &Name) -> Option<&Zone> {
        self.zones
            .iter()
            .filter(|zone| name.is_within(&zone.name))
            .max_by_key(|zone| zone.name.as_str().len())
    }

    /// The route with exactly this address.
    #[must_use]
    pub fn route(&self, address: &Address) -> Option<&Route> {
        self.routes.iter().find(|route| route.address == *address)
    }

    /// Whether `change` may be made.
    ///
    /// # Errors
    /// The first rule that it breaks.
    pub fn check(&self, change: &Change) -> Result<(), Rejection> {
        match change {
            Change::AddZone(zone) => self.check_new_zone(zone),
            Change::RemoveZone { name, with_routes } => self.check_gone_zone(name, *with_routes),
            Change::EditZone { .. }
            | Change::AddRecord(_)
            | Change::RemoveRecords { .. }
            | Change::ReplaceRecords { .. } => self.zone_after(change).map(drop),
            Change::AddRoute(route) => self.check_new_route(route),
            Change::EditRoute { address, .. } | Change::RemoveRoute(address) => self
                .route(address)
                .map(drop)
                .ok_or_else(|| Rejection::missing_route(address)),
        }
    }

    /// The zone as `change` makes it, for changes of a zone that stays.
    ///
    /// # Errors
    /// The first rule that the change breaks.
    pub fn zone_after(&self, change: &Change) -> Result<Zone, Rejection> {
        let named = |name: &Name| {
            let zone = self.zones.iter().find(|zone| zone.name == *name);
            zone.cloned().ok_or_else(|| missing_zone(name))
        };
        let owning = |owner: &RecordName| {
            let covers = |zone: &&Zone| owner.is_within(&zone.name);
            let zones = self.zones.iter().filter(covers);
            let zone = zones.max_by_key(|zone| zone.name.as_str().len()).cloned();
            zone.ok_or_else(|| {
                let reason = format!("`{owner}` is in no zone: see `bentlane zone list`");
                Rejection::Invalid(Invalid::new("owner", reason))
            })
        };
        match change {
            Change::EditZone { name, settings } => {
                if settings.ttl > LONGEST_ZONE_TTL {
                    let reason = format!("{} s is more than a day", settings.ttl);
                    return Err(Rejection::Invalid(Invalid::new("ttl", reason)));
                }
                Ok(Zone {
                    settings: *settings,
                    ..named(name)?
                })
            }
            Change::AddRecord(record) => {
                let mut zone = owning(&record.owner)?;
                if zone
                    .records
                    .iter()
                    .any(|known| known.owner == record.owner && known.data == record.data)
                {
                    let (owner, kind) = (&record.owner, record.data.kind());
                    let reason = format!("`{owner}` has this {kind} record already");
                    return Err(Rejection::Taken(Invalid::new("data", reason)));
                }
                zone.records.push(record.clone());
                check_records(&zone)?;
                zone.records.sort();
                Ok(zone)
            }
            Change::RemoveRecords { owner, kind } => {
                let mut zone = owning(owner)?;
                let goes = |record: &Record| {
                    record.owner == *owner
                        && kind
                            .as_deref()
                            .is_none_or(|kind| record.data.kind() == kind)
                };
                if !zone.records.iter().any(goes) {
                    let kind = kind.as_deref().unwrap_or("own");
                    return Err(Rejection::Missing {
                        what: format!("{kind} record of `{owner}`"),
                        list: "record list",
                    });
                }
                zone.records.retain(|record| !goes(record));
                Ok(zone)
            }
            Change::ReplaceRecords { name, records } => {
                let mut zone = named(name)?;
                zone.records.clone_from(records);
                zone.records.sort();
                zone.records.dedup();
                check_records(&zone)?;
                Ok(zone)
            }
            Change::AddZone(name) | Change::RemoveZone { name, .. } => named(name),
            Change::AddRoute(Route { address, .. })
            | Change::EditRoute { address, .. }
            | Change::RemoveRoute(address) => {
                let zone = self.zone_of(address.pattern.base()).cloned();
                zone.ok_or_else(|| Rejection::missing_route(address))
            }
        }
    }

    fn check_new_zone(&self, zone: &Name) -> Result<(), Rejection> {
        if self.zones.iter().any(|known| known.name == *zone) {
            let reason = format!("the zone `{zone}` is there already");
            return Err(Rejection::Taken(Invalid::new("name", reason)));
        }
        Ok(())
    }

    fn check_gone_zone(&self, zone: &Name, with_routes: bool) -> Result<(), Rejection> {
        if !self.zones.iter().any(|known| known.name == *zone) {
            return Err(missing_zone(zone));
        }
        let routes = self.routes_only_in(zone);
        if let (false, [first, rest @ ..]) = (with_routes, routes.as_slice()) {
            let others = if rest.is_empty() {
                String::new()
            } else {
                format!(" and {}", rest.len())
            };
            return Err(Rejection::Taken(Invalid::new(
                "name",
                format!(
                    "the zone `{zone}` has routes (`{}`{others}): remove them first, or all at \
                     once with `bentlane zone remove {zone} --with-routes`",
                    first.address
                ),
            )));
        }
        Ok(())
    }

    fn check_new_route(&self, route: &Route) -> Result<(), Rejection> {
        let address = &route.address;
        let base = address.pattern.base();
        if self.zone_of(base).is_none() {
            let zone = suggested_zone(base);
            return Err(Rejection::Invalid(Invalid::new(
                "name",
                format!("`{base}` is in no zone: add one first with `bentlane zone add {zone}`"),
            )));
        }
        if let Some(known) = self.route(address) {
            return Err(Rejection::Taken(Invalid::new(
                "name",
                format!(
                    "the route `{address}` is there already and leads to {to}: change it with \
                     `bentlane route edit {address} --to {new}`",
                    to = known.to,
                    new = route.to,
                ),
            )));
        }
        Ok(())
    }

    /// The routes that would be left without a zone if `zone` went.
    #[must_use]
    pub fn routes_only_in(&self, zone: &Name) -> Vec<&Route> {
        self.routes
            .iter()
            .filter(|route| {
                self.zone_of(route.address.pattern.base())
                    .is_some_and(|covering| covering.name == *zone)
                    && !self.zones.iter().any(|other| {
                        other.name != *zone && route.address.pattern.base().is_within(&other.name)
                    })
            })
            .collect()
    }
}

fn missing_zone(zone: &Name) -> Rejection {
    Rejection::Missing {
        what: format!("zone `{zone}`"),
        list: "zone list",
    }
}

/// Whether the records of `zone` can stand side by side: a name that is another's alias has nothing
/// else (RFC 1034 §3.6.2), and the zone's own name has its SOA.
fn check_records(zone: &Zone) -> Result<(), Rejection> {
    let mut aliases = HashSet::new();
    for Record { owner, data, .. } in &zone.records {
        if !owner.is_within(&zone.name) {
            let reason = format!("`{owner}` lies outside the zone `{}`", zone.name);
            return Err(Rejection::Invalid(Invalid::new("owner", reason)));
        }
        if matches!(data, RecordData::Cname(_)) {
            if owner.as_str() == zone.name.as_str() {
                let reason = format!("`{owner}` is the zone itself, which cannot be an alias");
                return Err(Rejection::Invalid(Invalid::new("owner", reason)));
            }
            aliases.insert(owner);
        }
    }
    let mut seen = HashSet::new();
    for Record { owner, .. } in &zone.records {
        if aliases.contains(owner) && !seen.insert(owner) {
            let reason = format!(
                "`{owner}` is an alias (CNAME), and beside that it can have no other record"
            );
            return Err(Rejection::Taken(Invalid::new("owner", reason)));
        }
    }
    Ok(())
}

/// The zone one would most likely want for `name`: its last two labels, since cookies are not
/// shared and wildcard certificates are refused right under a single label.
fn suggested_zone(name: &Name) -> &str {
    let text = name.as_str();
    text.rmatch_indices('.')
        .nth(1)
        .map_or(text, |(dot, _)| &text[dot + 1..])
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn highmoor() -> Configuration {
        let zone = |name: &str| Zone::new(name.parse().unwrap());
        let route = |address: &str, to: &str| Route {
            address: address.parse().unwrap(),
            to: to.parse().unwrap(),
        };
        Configuration {
            revision: 1,
            zones: vec![zone("moor.test"), zone("deep.moor.test"), zone("fell.test")],
            routes: vec![
                route("booking.moor.test", "4310"),
                route("a.deep.moor.test", "4311"),
                route("fell.test", "4312"),
            ],
        }
    }

    #[test]
    fn every_wrong_field_is_named() {
        let draft = RouteDraft {
            name: "a_b.test",
            prefix: Some("api"),
            to: "70000",
        };
        let fields: Vec<_> = draft
            .parse()
            .unwrap_err()
            .into_iter()
            .map(|e| e.field)
            .collect();
        assert_eq!(fields, ["name", "prefix", "to"]);
    }

    fn record(line: &str) -> Change {
        let records = crate::zone_file::read(line, &"test".parse().unwrap()).unwrap();
        Change::AddRecord(records.into_iter().next().unwrap())
    }

    #[rstest]
    #[case(record("x.fell A 127.0.0.1"), None)]
    #[case(
        record("x.other A 127.0.0.1"),
        Some("owner: `x.other.test` is in no zone")
    )]
    #[case(record("fell CNAME x"), Some("owner: `fell.test` is the zone itself"))]
    #[case(record("alias.fell TXT two"), Some("it can have no other record"))]
    #[case(record("mail.fell CNAME x"), Some("it can have no other record"))]
    #[case(record("mail.fell A 127.0.0.1"), Some("has this A record already"))]
    #[case(record("mail.fell A 127.0.0.2"), None)]
    #[case(
        Change::RemoveRecords { owner: "mail.fell.test".parse().unwrap(), kind: Some("A".into()) },
        None
    )]
    #[case(
        Change::RemoveRecords { owner: "mail.fell.test".parse().unwrap(), kind: Some("MX".into()) },
        Some("there is no MX record of `mail.fell.test`")
    )]
    #[case(
        Change::EditZone {
            name: "fell.test".parse().unwrap(),
            settings: ZoneSettings { ttl: 86_401, ..ZoneSettings::default() },
        },
        Some("ttl: 86401 s is more than a day")
    )]
    fn records_stand_side_by_side(#[case] change: Change, #[case] refusal: Option<&str>) {
        let mut configuration = highmoor();
        let file = "mail A 127.0.0.1\nalias CNAME mail\n";
        let zone = &mut configuration.zones[2];
        zone.records = crate::zone_file::read(file, &zone.name).unwrap();
        match (configuration.check(&change), refusal) {
            (Ok(()), None) => {}
            (Err(error), Some(part)) => assert!(error.to_string().contains(part), "{error}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }

    fn add_route(address: &str) -> Change {
        let route = Route {
            address: address.parse().unwrap(),
            to: "1".parse().unwrap(),
        };
        Change::AddRoute(route)
    }

    fn remove_route(address: &str) -> Change {
        Change::RemoveRoute(address.parse().unwrap())
    }

    fn add_zone(name: &str) -> Change {
        Change::AddZone(name.parse().unwrap())
    }

    fn remove_zone(name: &str, with_routes: bool) -> Change {
        Change::RemoveZone {
            name: name.parse().unwrap(),
            with_routes,
        }
    }

    #[rstest]
    #[case(add_route("new.moor.test"), None)]
    #[case(add_route("*.moor.test"), None)]
    #[case(add_route("booking.moor.test/api"), None)]
    #[case(
        add_route("booking.moor.test"),
        Some("is there already and leads to 4310")
    )]
    #[case(add_route("a.b.other.test"), Some("bentlane zone add other.test"))]
    #[case(add_route("blackmoor.test"), Some("is in no zone"))]
    #[case(remove_route("booking.moor.test"), None)]
    #[case(
        remove_route("booking.moor.test/api"),
        Some("no route `booking.moor.test/api`")
    )]
    #[case(add_zone("other.test"), None)]
    #[case(add_zone("fell.test"), Some("is there already"))]
    #[case(remove_zone("other.test", false), Some("no zone `other.test`"))]
    #[case(remove_zone("deep.moor.test", false), None)]
    #[case(
        remove_zone("fell.test", false),
        Some("bentlane zone remove fell.test --with-routes")
    )]
    #[case(remove_zone("fell.test", true), None)]
    fn changes_are_checked(#[case] change: Change, #[case] refusal: Option<&str>) {
        match (highmoor().check(&change), refusal) {
            (Ok(()), None) => {}
            (Err(error), Some(part)) => assert!(error.to_string().contains(part), "{error}"),
            (outcome, _) => panic!("{change:?}: {outcome:?}"),
        }
    }

    #[rstest]
    #[case("moor.test", &["booking.moor.test"])]
    #[case("deep.moor.test", &[])]
    #[case("fell.test", &["fell.test"])]
    fn routes_that_go_with_a_zone(#[case] zone: &str, #[case] wanted: &[&str]) {
        let configuration = highmoor();
        let found: Vec<_> = configuration
            .routes_only_in(&zone.parse().unwrap())
            .into_iter()
            .map(|route| route.address.to_string())
            .collect();
        assert_eq!(found, wanted);
    }
}
