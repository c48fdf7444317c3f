use std::collections::HashSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::{IpAddr, Ipv4Addr};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};

use crate::address::{Address, Pattern};
use crate::app::App;
use crate::change::{AppEdit, Change, Rejection, RouteEdit, ZoneChange};
use crate::difference::{Difference, different};
use crate::invalid::Invalid;
use crate::name::{Name, suffixes};
use crate::project::LoadedProject;
use crate::record::{Record, RecordData, RecordName};
use crate::route::Route;
use crate::route_index::{FIRST_OWN_ADDRESS, OWN_ADDRESSES, RouteIndex};
use crate::settings::RouteSettings;
use crate::zone::{LONGEST_ZONE_TTL, Zone};

/// What the user wrote down: every zone, route and app, as of one revision.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Configuration {
    /// Counts the changes; a later configuration has a higher one.
    pub revision: u64,
    /// The zones, by name.
    pub zones: Vec<Zone>,
    /// The routes, by address.
    pub routes: Vec<Route>,
    /// The apps, by name.
    #[serde(default)]
    pub apps: Vec<App>,
    /// The projects that were loaded, by file.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub projects: Vec<LoadedProject>,
}

/// The address that stands for a free loopback address.
pub const OWN_ADDRESS: &str = "own";

impl Configuration {
    /// The settings of a route at `address` after a merge patch.
    ///
    /// # Errors
    /// What is wrong with the patch, or that no loopback address is left for `own`.
    pub fn settings_after(
        &self,
        address: &Address,
        settings: &RouteSettings,
        patch: &Map<String, Value>,
    ) -> Result<RouteSettings, Rejection> {
        let mut patch = patch.clone();
        if let Some(choice) = patch.get_mut("address")
            && choice == OWN_ADDRESS
        {
            let own = self.own_address(&address.pattern).ok_or_else(|| {
                let reason = "every loopback address that a name can have is taken";
                Rejection::Taken(Invalid::new("address", reason))
            })?;
            *choice = Value::String(own.to_string());
        }
        settings.merged(&patch).map_err(Rejection::Several)
    }

    /// The route as `edit` makes it.
    ///
    /// # Errors
    /// When there is none, or what is wrong with the patch.
    pub fn route_after(&self, edit: &RouteEdit) -> Result<Route, Rejection> {
        let address = &edit.address;
        let route = self.route(address);
        let route = route.ok_or_else(|| Rejection::missing_route(address))?;
        Ok(Route {
            address: address.clone(),
            to: edit.to.clone().unwrap_or_else(|| route.to.clone()),
            settings: self.settings_after(address, &route.settings, &edit.settings)?,
        })
    }

    /// The app as `edit` makes it, with a port for each name.
    ///
    /// # Errors
    /// When there is none, or what is wrong with the patch.
    pub fn app_after(&self, edit: &AppEdit) -> Result<App, Rejection> {
        let AppEdit { name, settings } = edit;
        let app = self.app(name);
        let app = app.ok_or_else(|| Rejection::missing_app(name))?;
        let settings = app.settings.merged(settings).map_err(Rejection::Several)?;
        let app = App {
            settings,
            ..app.clone()
        };
        self.with_ports(app)
    }

    /// The zone with exactly this name.
    #[must_use]
    pub fn zone(&self, name: &Name) -> Option<&Zone> {
        self.zones.iter().find(|zone| zone.name == *name)
    }

    /// The route with exactly this address.
    #[must_use]
    pub fn route(&self, address: &Address) -> Option<&Route> {
        self.routes.iter().find(|route| route.address == *address)
    }

    /// The configuration that `change` makes of this one, under the next revision. Zones, routes and
    /// apps are in the order of their names, octet by octet, as they are when they are read where they are stored.
    ///
    /// # Errors
    /// The first rule that the change breaks.
    pub fn after(&self, change: &Change) -> Result<Self, Rejection> {
        // These check as they go.
        let checks_itself = matches!(
            change,
            Change::Undo(_) | Change::LoadProject(_) | Change::UnloadProject(_)
        );
        if !checks_itself {
            self.check(change)?;
        }
        let mut next = self.clone();
        next.revision += 1;
        let Self {
            zones,
            routes,
            apps,
            ..
        } = &mut next;
        match change {
            Change::AddZone(name) => zones.push(Zone::new(name.clone())),
            Change::RemoveZone { name, with_routes } => {
                if *with_routes {
                    let gone = self.routes_only_in(name).into_iter();
                    let gone: HashSet<&Address> = gone.map(|route| &route.address).collect();
                    routes.retain(|route| !gone.contains(&route.address));
                }
                zones.retain(|zone| zone.name != *name);
            }
            Change::EditZone(change) => {
                let edited = self.zone_after(change)?;
                zones.retain(|zone| zone.name != edited.name);
                zones.push(edited);
            }
            Change::AddRoute(route) => routes.push(Route::clone(route)),
            Change::AddRoutes(added) => routes.extend_from_slice(added),
            Change::EditRoute(edit) => {
                let edited = self.route_after(edit)?;
                if let Some(place) = routes.iter_mut().find(|it| it.address == edit.address) {
                    *place = edited;
                }
            }
            Change::RemoveRoute(address) => routes.retain(|route| route.address != *address),
            Change::AddApp { app, routes: added } => {
                apps.push(self.with_ports(App::clone(app))?);
                routes.extend_from_slice(added);
            }
            Change::EditApp(edit) => {
                let edited = self.app_after(edit)?;
                if let Some(place) = apps.iter_mut().find(|it| it.name == edit.name) {
                    *place = edited;
                }
            }
            Change::RemoveApp { name, .. } => {
                let gone: HashSet<&Address> =
                    self.routes_to_app(name).map(|it| &it.address).collect();
                routes.retain(|route| !gone.contains(&route.address));
                apps.retain(|app| app.name != *name);
            }
            Change::LoadProject(input) => next.load(input)?,
            Change::UnloadProject(file) => next.unload(file)?,
            Change::Undo(undo) => undo.revert(&mut next)?,
        }
        let Self {
            zones,
            routes,
            apps,
            projects,
            ..
        } = &mut next;
        projects.sort_by(|a, b| a.file.cmp(&b.file));
        zones.sort_by(|a, b| a.name.cmp(&b.name));
        routes.sort_by(|a, b| a.address.cmp(&b.address));
        apps.sort_by(|a, b| a.name.cmp(&b.name));
        Ok(next)
    }

    /// What is different in `after`: each zone, route and app that is new, gone or otherwise.
    #[must_use]
    pub fn difference<'a>(&'a self, after: &'a Self) -> Difference<'a> {
        Difference {
            zones: different(&self.zones, &after.zones, |zone| &zone.name),
            routes: different(&self.routes, &after.routes, |route| &route.address),
            apps: different(&self.apps, &after.apps, |app| &app.name),
            projects: different(&self.projects, &after.projects, |project| &project.file),
        }
    }

    /// Whether `change` may be made.
    ///
    /// # Errors
    /// The first rule that it breaks.
    pub fn check(&self, change: &Change) -> Result<(), Rejection> {
        match change {
            Change::AddZone(zone) => self.check_new_zone(zone),
            Change::RemoveZone { name, with_routes } => self.check_gone_zone(name, *with_routes),
            Change::EditZone(change) => self.zone_after(change).map(drop),
            Change::AddRoute(route) => RouteIndex::of(self).add(route),
            Change::AddRoutes(routes) => RouteIndex::of(self).add_all(routes),
            Change::EditRoute(edit) => {
                let route = self.route_after(edit)?;
                let others = self.routes.iter();
                let others = others.filter(|other| other.address != route.address);
                RouteIndex::new(&self.zones, &self.apps, others).add(&route)
            }
            Change::AddApp { app, routes } => {
                let app = self.with_ports(App::clone(app))?;
                self.check_new_app(&app)?;
                let mut apps = self.apps.clone();
                apps.push(app);
                RouteIndex::new(&self.zones, &apps, &self.routes).add_all(routes)
            }
            Change::EditApp(edit) => {
                let app = self.app_after(edit)?;
                self.check_app(&app)?;
                // A port of its own may have gone, to which a route leads.
                let apps = [app];
                let index = RouteIndex::new(&self.zones, &apps, []);
                let mut routes = self.routes_to_app(&edit.name);
                let check = |route| index.check_app(route).map_err(Rejection::Invalid);
                routes.try_for_each(check)
            }
            Change::RemoveApp { name, with_routes } => self.check_gone_app(name, *with_routes),
            Change::RemoveRoute(address) => self
                .route(address)
                .map(drop)
                .ok_or_else(|| Rejection::missing_route(address)),
            Change::LoadProject(input) => self.clone().load(input),
            Change::UnloadProject(file) => self.clone().unload(file),
            Change::Undo(undo) => undo.revert(&mut self.clone()),
        }
    }

    /// Whether every rule holds for all zones, routes and apps, as when each had been added.
    ///
    /// # Errors
    /// The first rule that is broken.
    pub fn check_all(&self) -> Result<(), Rejection> {
        let values = |settings: Value| match settings {
            Value::Object(values) => values,
            _ => Map::new(),
        };
        let mut whole = Self::default();
        for zone in &self.zones {
            whole.check_new_zone(&zone.name)?;
            whole.zones.push(Zone::new(zone.name.clone()));
            let settings = values(json!(zone.settings));
            let name = zone.name.clone();
            whole.check(&Change::EditZone(ZoneChange::Settings { name, settings }))?;
            check_records(zone)?;
        }
        for route in &self.routes {
            let settings = values(json!(route.settings));
            let checked = RouteSettings::default().merged(&settings);
            checked.map_err(Rejection::Several)?;
        }
        for app in &self.apps {
            whole.check_new_app(app)?;
            whole.apps.push(app.clone());
        }
        RouteIndex::new(&self.zones, &self.apps, []).add_all(&self.routes)
    }

    /// The zone as `change` makes it.
    ///
    /// # Errors
    /// The first rule that the change breaks.
    pub fn zone_after(&self, change: &ZoneChange) -> Result<Zone, Rejection> {
        let named = |name: &Name| self.zone(name).cloned().ok_or_else(|| missing_zone(name));
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
            ZoneChange::Settings { name, settings } => {
                let zone = named(name)?;
                let settings = zone.settings.merged(settings).map_err(Rejection::Several)?;
                if settings.ttl > LONGEST_ZONE_TTL {
                    let reason = format!("{} s is more than a day", settings.ttl);
                    return Err(Rejection::Invalid(Invalid::new("ttl", reason)));
                }
                Ok(Zone { settings, ..zone })
            }
            ZoneChange::AddRecord(record) => {
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
            ZoneChange::RemoveRecords { owner, kind } => {
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
            ZoneChange::ReplaceRecords { name, records } => {
                let mut zone = named(name)?;
                zone.records.clone_from(records);
                zone.records.sort();
                zone.records.dedup();
                check_records(&zone)?;
                Ok(zone)
            }
        }
    }

    /// The loopback address that `pattern` has for its own, or the one that it would get: one that
    /// no other name has, and the same each time as long as it is free. `None` when all are taken.
    fn own_address(&self, pattern: &Pattern) -> Option<IpAddr> {
        let index = RouteIndex::of(self);
        if let Some(address) = index.addresses.get(pattern) {
            return Some(*address);
        }
        let mut hasher = DefaultHasher::new();
        pattern.hash(&mut hasher);
        let start = u32::try_from(hasher.finish() % u64::from(OWN_ADDRESSES)).ok()?;
        let candidates = (start..OWN_ADDRESSES).chain(0..start);
        let candidates = candidates.map(|offset| Ipv4Addr::from(FIRST_OWN_ADDRESS + offset));
        let candidates = candidates.filter(|ip| !matches!(ip.octets()[3], 0 | 255));
        let mut candidates = candidates.map(IpAddr::V4);
        candidates.find(|ip| !index.owners.contains_key(ip))
    }

    fn check_new_zone(&self, zone: &Name) -> Result<(), Rejection> {
        if self.zone(zone).is_some() {
            let reason = format!("the zone `{zone}` is there already");
            return Err(Rejection::Taken(Invalid::new("name", reason)));
        }
        Ok(())
    }

    pub(crate) fn check_gone_zone(&self, zone: &Name, with_routes: bool) -> Result<(), Rejection> {
        if self.zone(zone).is_none() {
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

    /// The routes that would be left without a zone if `zone` went.
    #[must_use]
    pub fn routes_only_in(&self, zone: &Name) -> Vec<&Route> {
        let others = self.zones.iter().map(|other| other.name.as_str());
        let others: HashSet<&str> = others.filter(|other| *other != zone.as_str()).collect();
        self.routes
            .iter()
            .filter(|route| {
                let base = route.address.pattern.base();
                base.is_within(zone) && !suffixes(base.as_str()).any(|at| others.contains(at))
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
pub(crate) fn check_records(zone: &Zone) -> Result<(), Rejection> {
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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::change::RouteDraft;
    use crate::presentation::words;
    use crate::route_index::is_own;

    fn highmoor() -> Configuration {
        let zone = |name: &str| Zone::new(name.parse().unwrap());
        let route =
            |address: &str, to: &str| Route::new(address.parse().unwrap(), to.parse().unwrap());
        Configuration {
            revision: 1,
            zones: vec![zone("moor.test"), zone("deep.moor.test"), zone("fell.test")],
            routes: vec![
                route("booking.moor.test", "4310"),
                route("a.deep.moor.test", "4311"),
                route("fell.test", "4312"),
                Route {
                    settings: RouteSettings {
                        address: Some([127, 0, 0, 5].into()),
                        ..RouteSettings::default()
                    },
                    ..route("store.moor.test", "4313")
                },
                Route {
                    settings: RouteSettings {
                        redirect_status: Some(308),
                        keep_path: Some(false),
                        ..RouteSettings::default()
                    },
                    ..route("old.fell.test", "redirect:https://fell.test")
                },
            ],
            ..Configuration::default()
        }
    }

    #[rstest]
    #[case(Change::AddZone("a.test".parse().unwrap()), "+a.test")]
    #[case(
        remove_zone("fell.test", true),
        "-fell.test -fell.test to 4312 -old.fell.test to redirect:https://fell.test"
    )]
    #[case(remove_zone("deep.moor.test", false), "-deep.moor.test")]
    #[case(record("x.fell A 127.0.0.1"), "+fell.test with 1 -fell.test")]
    #[case(
        Change::AddRoutes(["b.moor.test:5432", "b.moor.test", "*.moor.test"].map(route_to_1).into()),
        "+*.moor.test to 1 +b.moor.test to 1 +b.moor.test:5432 to 1"
    )]
    #[case(
        edit("fell.test", Some("1"), r#"{}"#),
        "+fell.test to 1 -fell.test to 4312"
    )]
    #[case(Change::RemoveRoute("fell.test".parse().unwrap()), "-fell.test to 4312")]
    fn what_a_change_makes_of_it(#[case] change: Change, #[case] wanted: &str) {
        let lines = |it: &Configuration| -> Vec<String> {
            let zones = it.zones.iter().map(|zone| match zone.records.len() {
                0 => zone.name.to_string(),
                records => format!("{} with {records}", zone.name),
            });
            let routes = it.routes.iter();
            let routes = routes.map(|route| format!("{} to {}", route.address, route.to));
            zones.chain(routes).collect()
        };
        let (before, after) = (highmoor(), highmoor().after(&change).unwrap());
        let only_in = |one: &Configuration, other: &Configuration, sign: &str| -> Vec<String> {
            let other = lines(other);
            let only = lines(one).into_iter().filter(|it| !other.contains(it));
            only.map(|it| format!("{sign}{it}")).collect()
        };
        let found = [only_in(&after, &before, "+"), only_in(&before, &after, "-")].concat();
        assert_eq!(found.join(" "), wanted);
        assert!(after.zones.is_sorted_by_key(|zone| zone.name.to_string()));
        assert!(
            after
                .routes
                .is_sorted_by_key(|route| route.address.to_string())
        );
        assert_eq!(after.revision, 2);
    }

    /// The route at `address`, with another target.
    fn route_to_1(address: &str) -> Route {
        let mut route = Route::new(address.parse().unwrap(), "1".parse().unwrap());
        let raw = route.address.port.is_some();
        route.settings.address = raw.then_some([127, 0, 0, 6].into());
        route
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

    /// A record of `OWNER TYPE DATA`, with names relative to `origin`.
    fn record_below(origin: &str, line: &str) -> Record {
        let origin = origin.parse().unwrap();
        let words = words(line).unwrap();
        let [owner, kind, data @ ..] = words.as_slice() else {
            panic!("`{line}` is no record");
        };
        Record {
            owner: RecordName::relative(owner.as_str().unwrap(), &origin).unwrap(),
            ttl: None,
            data: RecordData::parse(kind.as_str().unwrap(), data, &origin).unwrap(),
        }
    }

    fn record(line: &str) -> Change {
        Change::EditZone(ZoneChange::AddRecord(record_below("test", line)))
    }

    fn remove_records(owner: &str, kind: &str) -> Change {
        Change::EditZone(ZoneChange::RemoveRecords {
            owner: owner.parse().unwrap(),
            kind: Some(kind.into()),
        })
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
    #[case(remove_records("mail.fell.test", "A"), None)]
    #[case(
        remove_records("mail.fell.test", "MX"),
        Some("there is no MX record of `mail.fell.test`")
    )]
    #[case(
        Change::EditZone(ZoneChange::Settings {
            name: "fell.test".parse().unwrap(),
            settings: patch(r#"{"ttl":86401}"#),
        }),
        Some("ttl: 86401 s is more than a day")
    )]
    fn records_stand_side_by_side(#[case] change: Change, #[case] refusal: Option<&str>) {
        let mut configuration = highmoor();
        let zone = &mut configuration.zones[2];
        zone.records = ["mail A 127.0.0.1", "alias CNAME mail"]
            .map(|line| record_below(zone.name.as_str(), line))
            .to_vec();
        match (configuration.check(&change), refusal) {
            (Ok(()), None) => {}
            (Err(error), Some(part)) => assert!(error.to_string().contains(part), "{error}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }

    fn patch(json: &str) -> Map<String, Value> {
        serde_json::from_str(json).unwrap()
    }

    fn edit(address: &str, to: Option<&str>, settings: &str) -> Change {
        Change::EditRoute(RouteEdit {
            address: address.parse().unwrap(),
            to: to.map(|to| to.parse().unwrap()),
            settings: patch(settings),
        })
    }

    fn new_route(address: &str) -> Route {
        Route::new(address.parse().unwrap(), "1".parse().unwrap())
    }

    fn add_route(address: &str) -> Change {
        Change::AddRoute(Box::new(new_route(address)))
    }

    fn add_route_at(address: &str, ip: &str) -> Change {
        let mut route = new_route(address);
        route.settings.address = Some(ip.parse().unwrap());
        Change::AddRoute(Box::new(route))
    }

    fn add_route_with(address: &str, to: &str, settings: &str) -> Change {
        Change::AddRoute(Box::new(Route {
            settings: serde_json::from_str(settings).unwrap(),
            ..Route::new(address.parse().unwrap(), to.parse().unwrap())
        }))
    }

    #[rstest]
    #[case("new.moor.test:5432", "54021", r#"{"address":"127.64.0.9"}"#, None)]
    #[case(
        "new.moor.test:5432",
        "54021",
        "{}",
        Some("address: a route with a port")
    )]
    #[case(
        "new.moor.test:5432",
        "54021",
        r#"{"address":"192.0.2.1"}"#,
        Some("address: a route")
    )]
    #[case(
        "new.moor.test:5432",
        "http://a:1",
        r#"{"address":"127.64.0.9"}"#,
        Some("to: bytes of")
    )]
    #[case(
        "new.moor.test:8443/api",
        "http://a:1",
        r#"{"address":"127.64.0.9","protocol":"http"}"#,
        None
    )]
    #[case(
        "new.moor.test:8443/api",
        "4310",
        r#"{"address":"127.64.0.9"}"#,
        Some("has no path prefix")
    )]
    #[case("new.moor.test", "1", r#"{"protocol":"tcp"}"#, Some("needs a port"))]
    #[case(
        "new.moor.test:8443",
        "1",
        r#"{"address":"127.64.0.9","protocol":"http","tls":"passthrough"}"#,
        Some("is raw TCP")
    )]
    #[case(
        "new.moor.test:5432",
        "1",
        r#"{"address":"127.64.0.9","listen":false}"#,
        None
    )]
    #[case("new.moor.test", "1", r#"{"listen":false}"#, Some("can be left to"))]
    #[case("new.moor.test", "8443", r#"{"tls":"passthrough"}"#, None)]
    #[case(
        "new.moor.test/a",
        "8443",
        r#"{"tls":"passthrough"}"#,
        Some("tls: TLS passes")
    )]
    #[case(
        "new.moor.test",
        "folder:/a",
        r#"{"tls":"passthrough"}"#,
        Some("tls: TLS passes")
    )]
    #[case("new.moor.test/a", "1", r#"{"subdomains":true}"#, None)]
    #[case(
        "*.new.moor.test",
        "1",
        r#"{"subdomains":true}"#,
        Some("only a route for one name")
    )]
    #[case("new.moor.test/a", "1", r#"{"strip_prefix":true}"#, None)]
    #[case(
        "new.moor.test",
        "1",
        r#"{"strip_prefix":true}"#,
        Some("no path prefix to strip")
    )]
    #[case("new.moor.test", "https://a:1", r#"{"target_tls":"none"}"#, None)]
    #[case(
        "new.moor.test",
        "http://a:1",
        r#"{"target_tls":"none"}"#,
        Some("not asked over TLS")
    )]
    #[case(
        "new.moor.test",
        "1",
        r#"{"target_name":"a.test"}"#,
        Some("not asked over TLS")
    )]
    #[case("new.moor.test", "folder:/a", r#"{"fallback":"index.html"}"#, None)]
    #[case("new.moor.test", "folder:/a", r#"{"else":"4310"}"#, None)]
    #[case("new.moor.test", "1", r#"{"else":"4310"}"#, Some("is no folder"))]
    #[case(
        "new.moor.test",
        "folder:/a",
        r#"{"else":"folder:/b"}"#,
        Some("is no app")
    )]
    #[case(
        "new.moor.test",
        "folder:/a",
        r#"{"else":"4310","fallback":"index.html"}"#,
        Some("not both")
    )]
    #[case(
        "new.moor.test",
        "folder:/a",
        r#"{"else":"https://a:1","target_tls":"none"}"#,
        None
    )]
    #[case(
        "new.moor.test",
        "1",
        r#"{"fallback":"index.html"}"#,
        Some("is no folder")
    )]
    #[case(
        "new.moor.test",
        "redirect:https://a.test",
        r#"{"redirect_status":308}"#,
        None
    )]
    #[case(
        "new.moor.test",
        "redirect:https://a.test",
        r#"{"redirect_status":303}"#,
        Some("303 is none")
    )]
    #[case("new.moor.test", "1", r#"{"keep_path":true}"#, Some("is no redirect"))]
    #[case(
        "new.moor.test",
        "1",
        r#"{"allow_origins":["https://*.moor.test"]}"#,
        None
    )]
    #[case(
        "new.moor.test",
        "1",
        r#"{"allow_origins":["https://a.example"]}"#,
        None
    )]
    #[case(
        "new.moor.test",
        "1",
        r#"{"allow_origins":["https://*.example"]}"#,
        Some("outside the zones")
    )]
    fn settings_go_with_address_and_target(
        #[case] address: &str,
        #[case] to: &str,
        #[case] settings: &str,
        #[case] refusal: Option<&str>,
    ) {
        let outcome = highmoor().check(&add_route_with(address, to, settings));
        match (outcome, refusal) {
            (Ok(()), None) => {}
            (Err(error), Some(part)) => assert!(error.to_string().contains(part), "{error}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }

    fn add_routes(addresses: &[&str]) -> Change {
        Change::AddRoutes(addresses.iter().map(|at| new_route(at)).collect())
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
    #[case(add_routes(&["new.moor.test", "*.moor.test"]), None)]
    #[case(add_routes(&["new.moor.test", "new.moor.test"]), Some("is there already"))]
    #[case(add_routes(&["new.moor.test", "x.other.test"]), Some("is in no zone"))]
    #[case(edit("booking.moor.test", Some("1"), "{}"), None)]
    #[case(edit("new.moor.test", Some("1"), "{}"), Some("no route"))]
    #[case(edit("fell.test", None, r#"{"note":"hut","address":"own"}"#), None)]
    #[case(
        edit("fell.test", None, r#"{"colour":1}"#),
        Some("there is no setting `colour`")
    )]
    #[case(
        edit("fell.test", None, r#"{"note":1,"paused":"x"}"#),
        Some("; paused: ")
    )]
    #[case(
        edit("old.fell.test", Some("1"), "{}"),
        Some("`--unset redirect_status --unset keep_path` unsets it")
    )]
    #[case(
        edit(
            "old.fell.test",
            Some("1"),
            r#"{"redirect_status":null,"keep_path":null}"#
        ),
        None
    )]
    #[case(add_route_at("new.moor.test", "127.0.0.7"), None)]
    #[case(add_route_at("new.moor.test", "192.0.2.7"), None)]
    #[case(add_route_at("store.moor.test/api", "127.0.0.5"), None)]
    #[case(
        add_route_at("store.moor.test/api", "127.0.0.6"),
        Some("gives it the address 127.0.0.5")
    )]
    #[case(
        add_route_at("new.moor.test", "127.0.0.5"),
        Some("127.0.0.5 is the own address of `store.moor.test`")
    )]
    #[case(
        add_route_at("new.moor.test", "0.0.0.0"),
        Some("no address that a client")
    )]
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

    #[test]
    fn own_addresses_are_unused_and_stable() {
        let mut configuration = highmoor();
        let mut seen = HashSet::new();
        for number in 0..500 {
            let mut route = new_route(&format!("x{number}.moor.test"));
            let ip = configuration.own_address(&route.address.pattern).unwrap();
            assert!(is_own(ip) && seen.insert(ip), "{ip}");
            route.settings.address = Some(ip);
            configuration
                .check(&Change::AddRoute(Box::new(route.clone())))
                .unwrap();
            configuration.routes.push(route);
        }
        let kept = configuration.own_address(&"store.moor.test".parse().unwrap());
        assert_eq!(kept, Some([127, 0, 0, 5].into()));
    }

    #[rstest]
    #[case("moor.test", &["booking.moor.test", "store.moor.test"])]
    #[case("deep.moor.test", &[])]
    #[case("fell.test", &["fell.test", "old.fell.test"])]
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
