//! Projects: what came from which file, and what loading a file again changes.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::address::Address;
use crate::app::{App, AppName, AppSettings};
use crate::change::Rejection;
use crate::configuration::{Configuration, OWN_ADDRESS, check_records};
use crate::invalid::Invalid;
use crate::name::Name;
use crate::record::Record;
use crate::route::Route;
use crate::route_index::RouteIndex;
use crate::settings::RouteSettings;
use crate::target::Target;
use crate::zone::Zone;

/// A project whose file was loaded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoadedProject {
    /// The file.
    pub file: PathBuf,
    /// The zone below which its names were moved, for a further working copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moved_to: Option<Name>,
    /// The file's content when it was loaded.
    pub text: String,
    /// The zones that came with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub zones: Vec<Name>,
    /// Its routes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub routes: Vec<Address>,
    /// Its apps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub apps: Vec<AppName>,
    /// Its records.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<Record>,
    /// The ports of this machine that its own programs use, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub ports: BTreeMap<String, u16>,
    /// The folders in which it has certificates kept.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub certs: Vec<PathBuf>,
}

/// A route of a project's file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProjectRoute {
    /// Its address.
    pub address: Address,
    /// Where it leads.
    pub to: Target,
    /// Its settings, as a merge patch to the defaults.
    pub settings: Map<String, Value>,
}

/// What a project's file asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProjectInput {
    /// The file.
    pub file: PathBuf,
    /// The zone below which its names were moved.
    pub moved_to: Option<Name>,
    /// The file's content.
    pub text: String,
    /// Its zone, which is added where no zone covers it.
    pub zone: Option<Name>,
    /// Its routes.
    pub routes: Vec<ProjectRoute>,
    /// Its apps, each with all its settings.
    pub apps: Vec<(AppName, AppSettings)>,
    /// Its records.
    pub records: Vec<Record>,
    /// The ports that its own programs use.
    pub ports: BTreeMap<String, u16>,
    /// The folders in which it wants certificates kept.
    pub certs: Vec<PathBuf>,
    /// Whether it takes what others have.
    pub take_over: bool,
}

/// Something that a project asks for and another one, or a person, has.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Held {
    /// What it is, such as "route `a.moor.test`".
    pub what: String,
    /// The file of the project that has it; absent when a person made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub file: Option<PathBuf>,
}

impl Configuration {
    /// The project that was loaded from this file.
    #[must_use]
    pub fn project(&self, file: &Path) -> Option<&LoadedProject> {
        self.projects.iter().find(|project| project.file == file)
    }

    /// The project that the route with this address came from.
    #[must_use]
    pub fn project_of_route(&self, address: &Address) -> Option<&LoadedProject> {
        let mut projects = self.projects.iter();
        projects.find(|project| project.routes.contains(address))
    }

    /// What `input` asks for that others have, and that is there otherwise than it asks for.
    #[must_use]
    pub fn held_by_others(&self, input: &ProjectInput) -> Vec<Held> {
        let mut routes: HashMap<&Address, &LoadedProject> = HashMap::new();
        let mut apps: HashMap<&AppName, &LoadedProject> = HashMap::new();
        for project in &self.projects {
            routes.extend(project.routes.iter().map(|address| (address, project)));
            apps.extend(project.apps.iter().map(|name| (name, project)));
        }
        let known: HashMap<&Address, &Route> = self
            .routes
            .iter()
            .map(|route| (&route.address, route))
            .collect();
        let mut held = Vec::new();
        for wanted in &input.routes {
            let Some(known) = known.get(&wanted.address) else {
                continue;
            };
            let of = routes.get(&wanted.address);
            let is_same = || {
                known.to == wanted.to
                    && self
                        .settings_of(wanted)
                        .is_ok_and(|settings| settings == known.settings)
            };
            match of {
                Some(project) if project.file == input.file => {}
                None if is_same() => {}
                of => held.push(Held {
                    what: format!("route `{}`", wanted.address),
                    file: of.map(|project| project.file.clone()),
                }),
            }
        }
        for (name, settings) in &input.apps {
            let Some(known) = self.app(name) else {
                continue;
            };
            match apps.get(name) {
                Some(project) if project.file == input.file => {}
                None if known.settings == *settings => {}
                of => held.push(Held {
                    what: format!("app `{name}`"),
                    file: of.map(|project| project.file.clone()),
                }),
            }
        }
        for (name, port) in &input.ports {
            let others = self.projects.iter().filter(|it| it.file != input.file);
            let mut others = others.filter(|it| it.ports.values().any(|own| own == port));
            if let Some(project) = others.next() {
                held.push(Held {
                    what: format!("port {port} (`{name}`)"),
                    file: Some(project.file.clone()),
                });
            }
        }
        held
    }

    fn settings_of(&self, wanted: &ProjectRoute) -> Result<RouteSettings, Rejection> {
        let mut settings = wanted.settings.clone();
        if wanted.address.port.is_some() {
            settings
                .entry("address")
                .or_insert_with(|| OWN_ADDRESS.into());
        }
        self.settings_after(&wanted.address, &RouteSettings::default(), &settings)
    }

    /// Loads a project, and replaces what came from its file before.
    pub(crate) fn load(&mut self, input: &ProjectInput) -> Result<(), Rejection> {
        let held = self.held_by_others(input);
        if !held.is_empty() && !input.take_over {
            return Err(Rejection::Held {
                file: input.file.clone(),
                held,
            });
        }
        let before = self.project(&input.file).cloned();
        let mut project = LoadedProject {
            file: input.file.clone(),
            moved_to: input.moved_to.clone(),
            text: input.text.clone(),
            zones: before
                .as_ref()
                .map(|it| it.zones.clone())
                .unwrap_or_default(),
            routes: input.routes.iter().map(|it| it.address.clone()).collect(),
            apps: input.apps.iter().map(|(name, _)| name.clone()).collect(),
            records: input.records.clone(),
            ports: input.ports.clone(),
            certs: input.certs.clone(),
        };
        let (routes, apps): (HashSet<&Address>, HashSet<&AppName>) = (
            project.routes.iter().collect(),
            project.apps.iter().collect(),
        );
        for other in &mut self.projects {
            other.routes.retain(|address| !routes.contains(address));
            other.apps.retain(|name| !apps.contains(name));
        }
        if let Some(zone) = &input.zone
            && !self.zones.iter().any(|known| zone.is_within(&known.name))
        {
            self.zones.push(Zone::new(zone.clone()));
            project.zones.push(zone.clone());
        }
        if let Some(before) = &before {
            self.remove_what_is_gone(before, &project);
        }
        for (name, settings) in &input.apps {
            let mut app = App::new(name.clone());
            if let Some(known) = self.app(name) {
                app.assigned.clone_from(&known.assigned);
            }
            app.settings = settings.clone();
            self.apps.retain(|known| known.name != *name);
            let app = self.with_ports(app)?;
            self.check_new_app(&app)?;
            self.apps.push(app);
        }
        let mut new = Vec::with_capacity(input.routes.len());
        for wanted in &input.routes {
            let route = Route {
                address: wanted.address.clone(),
                to: wanted.to.clone(),
                settings: self.settings_of(wanted)?,
            };
            if route.address.port.is_some() {
                // The next name has to find its loopback address taken.
                self.routes.retain(|known| known.address != route.address);
                self.routes.push(route.clone());
            }
            new.push(route);
        }
        let wanted: HashSet<&Address> = new.iter().map(|route| &route.address).collect();
        self.routes.retain(|route| !wanted.contains(&route.address));
        RouteIndex::of(self).add_all(&new)?;
        self.routes.extend(new);
        for record in &input.records {
            let covers = |zone: &&mut Zone| record.owner.is_within(&zone.name);
            let zones = self.zones.iter_mut().filter(covers);
            let Some(zone) = zones.max_by_key(|zone| zone.name.as_str().len()) else {
                let reason = format!("`{}` is in no zone", record.owner);
                return Err(Rejection::Invalid(Invalid::new("records", reason)));
            };
            if !zone.records.contains(record) {
                zone.records.push(record.clone());
                zone.records.sort();
            }
            check_records(zone)?;
        }
        self.projects.retain(|known| known.file != input.file);
        self.projects.push(project);
        Ok(())
    }

    /// Removes all that came from a file.
    pub(crate) fn unload(&mut self, file: &Path) -> Result<(), Rejection> {
        let Some(before) = self.project(file).cloned() else {
            return Err(Rejection::Missing {
                what: format!("project that was loaded from {}", file.display()),
                list: "project list",
            });
        };
        let nothing = LoadedProject {
            zones: Vec::new(),
            routes: Vec::new(),
            apps: Vec::new(),
            records: Vec::new(),
            ..before.clone()
        };
        self.remove_what_is_gone(&before, &nothing);
        for zone in &before.zones {
            // It stays while other routes are in it.
            if self.check_gone_zone(zone, false).is_ok() {
                self.zones.retain(|known| known.name != *zone);
            }
        }
        self.projects.retain(|known| known.file != file);
        Ok(())
    }

    fn remove_what_is_gone(&mut self, before: &LoadedProject, after: &LoadedProject) {
        let stays: HashSet<&Address> = after.routes.iter().collect();
        let goes = before
            .routes
            .iter()
            .filter(|address| !stays.contains(address));
        let gone: HashSet<&Address> = goes.collect();
        self.routes.retain(|route| !gone.contains(&route.address));
        let gone = |name: &AppName| before.apps.contains(name) && !after.apps.contains(name);
        let apps: Vec<AppName> = self.apps.iter().map(|it| it.name.clone()).collect();
        for name in apps.into_iter().filter(|name| gone(name)) {
            // A person's routes may lead to it, which lead nowhere without it.
            let own: HashSet<Address> = self
                .routes_to_app(&name)
                .map(|it| it.address.clone())
                .collect();
            self.routes.retain(|route| !own.contains(&route.address));
            self.apps.retain(|app| app.name != name);
        }
        for record in before
            .records
            .iter()
            .filter(|it| !after.records.contains(it))
        {
            for zone in &mut self.zones {
                zone.records.retain(|known| known != record);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::change::Change;

    fn input(file: &str, routes: &[(&str, &str)], apps: &[(&str, &str)]) -> ProjectInput {
        let routes = routes.iter().map(|(address, to)| ProjectRoute {
            address: address.parse().unwrap(),
            to: to.parse().unwrap(),
            settings: Map::new(),
        });
        let apps = apps.iter().map(|(name, command)| {
            let patch = json!({ "command": command, "folder": "/srv" });
            let settings = AppSettings::default().merged(patch.as_object().unwrap());
            (name.parse().unwrap(), settings.unwrap())
        });
        ProjectInput {
            file: file.into(),
            moved_to: None,
            text: String::new(),
            zone: Some("moor.test".parse().unwrap()),
            routes: routes.collect(),
            apps: apps.collect(),
            records: Vec::new(),
            ports: BTreeMap::new(),
            certs: Vec::new(),
            take_over: false,
        }
    }

    fn load(before: &Configuration, input: ProjectInput) -> Result<Configuration, Rejection> {
        before.after(&Change::LoadProject(Box::new(input)))
    }

    fn routes(configuration: &Configuration) -> Vec<String> {
        let routes = configuration.routes.iter();
        routes
            .map(|it| format!("{} {}", it.address, it.to))
            .collect()
    }

    #[test]
    fn loading_again_changes_what_the_file_changed_and_unloading_takes_all_out() {
        let empty = Configuration::default();
        let first = input(
            "/huts/bentlane.toml",
            &[
                ("a.moor.test", "4310"),
                ("b.moor.test", "app:huts"),
                ("db.moor.test:5432", "5432"),
            ],
            &[("huts", "run")],
        );
        let loaded = load(&empty, first.clone()).unwrap();
        assert_eq!(
            routes(&loaded),
            [
                "a.moor.test 4310",
                "b.moor.test app:huts",
                "db.moor.test:5432 5432"
            ]
        );
        assert_eq!(loaded.zones.len(), 1);
        let again = load(&loaded, first).unwrap();
        assert!(loaded.difference(&again).is_empty(), "nothing has changed");
        let port = loaded.apps[0].ports()[0].1;

        let second = input(
            "/huts/bentlane.toml",
            &[("b.moor.test", "app:huts")],
            &[("huts", "go")],
        );
        let changed = load(&again, second).unwrap();
        assert_eq!(routes(&changed), ["b.moor.test app:huts"]);
        assert_eq!(changed.apps[0].ports()[0].1, port, "its port stays");
        let gone = changed
            .after(&Change::UnloadProject("/huts/bentlane.toml".into()))
            .unwrap();
        assert!(gone.routes.is_empty() && gone.apps.is_empty() && gone.zones.is_empty());
    }

    #[test]
    fn a_name_that_another_has_is_taken_over_on_purpose_alone() {
        let one = load(
            &Configuration::default(),
            input("/one.toml", &[("a.moor.test", "1")], &[]),
        );
        let one = one.unwrap();
        let two = input("/two.toml", &[("a.moor.test", "2")], &[]);
        let refused = load(&one, two.clone()).unwrap_err().to_string();
        for part in ["/one.toml", "/two.toml", "`a.moor.test`", "--take-over"] {
            assert!(refused.contains(part), "{refused}");
        }
        let taken = load(
            &one,
            ProjectInput {
                take_over: true,
                ..two
            },
        )
        .unwrap();
        assert_eq!(routes(&taken), ["a.moor.test 2"]);
        assert!(
            taken
                .project(Path::new("/one.toml"))
                .unwrap()
                .routes
                .is_empty()
        );
        let undone = taken
            .after(&Change::UnloadProject("/one.toml".into()))
            .unwrap();
        assert_eq!(
            routes(&undone),
            ["a.moor.test 2"],
            "it is the other one's now"
        );
    }

    #[test]
    fn what_a_person_made_is_adopted_when_it_is_the_same() {
        let zone = Change::AddZone("moor.test".parse().unwrap());
        let own = Change::AddRoute(Box::new(Route::new(
            "a.moor.test".parse().unwrap(),
            "1".parse().unwrap(),
        )));
        let own = Configuration::default()
            .after(&zone)
            .unwrap()
            .after(&own)
            .unwrap();
        assert!(load(&own, input("/one.toml", &[("a.moor.test", "2")], &[])).is_err());
        let adopted = load(&own, input("/one.toml", &[("a.moor.test", "1")], &[])).unwrap();
        assert!(adopted.projects[0].zones.is_empty(), "the zone was there");
    }
}
