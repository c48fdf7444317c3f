//! Apps: commands that the service runs, and what is to be known of them.

mod name;
mod settings;
mod target;

use std::collections::BTreeMap;
use std::num::NonZeroU16;

use serde::{Deserialize, Serialize};

use crate::change::Rejection;
use crate::configuration::Configuration;
use crate::invalid::Invalid;
use crate::port::suggested_ports;
use crate::route::Route;
use crate::target::Target;

pub use name::{AppName, PortName};
pub use settings::{AppSettings, IdleLimit, Ready, StartWhen, Variable};
pub use target::{AppPlace, AppTarget, Apps, RunningPort};

/// A process that the service starts, supervises and stops.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct App {
    /// Its name.
    pub name: AppName,
    /// What it runs, and when.
    #[serde(default)]
    pub settings: AppSettings,
    /// The ports that were assigned to it, by their names; that of its only port is empty.
    #[serde(default)]
    pub assigned: BTreeMap<String, NonZeroU16>,
}

impl App {
    /// An app without settings, and without ports until it is added.
    #[must_use]
    pub fn new(name: AppName) -> Self {
        Self {
            name,
            settings: AppSettings::default(),
            assigned: BTreeMap::new(),
        }
    }

    /// The names of its ports; an only port has the empty name.
    pub fn port_names(&self) -> impl Iterator<Item = &str> {
        let named = &self.settings.ports;
        let only = named.is_empty().then_some("");
        only.into_iter().chain(named.iter().map(PortName::as_str))
    }

    /// Its ports with their names: the first one is what `app:NAME` leads to.
    #[must_use]
    pub fn ports(&self) -> Vec<(&str, NonZeroU16)> {
        let chosen = |name: &str| {
            let is_first = self.port_names().next() == Some(name);
            self.settings.port.filter(|_| is_first)
        };
        self.port_names()
            .filter_map(|name| {
                let port = chosen(name).or_else(|| self.assigned.get(name).copied());
                Some((name, port?))
            })
            .collect()
    }

    /// Whether it is complete, and each setting goes with the others.
    pub(crate) fn check(&self) -> Result<(), Rejection> {
        self.settings.check().map_err(Rejection::Invalid)
    }
}

impl Configuration {
    /// The app with this name.
    #[must_use]
    pub fn app(&self, name: &AppName) -> Option<&App> {
        self.apps.iter().find(|app| app.name == *name)
    }

    /// The routes that lead to the app with this name.
    pub fn routes_to_app<'a>(&'a self, name: &'a AppName) -> impl Iterator<Item = &'a Route> {
        self.routes
            .iter()
            .filter(move |route| matches!(route.server(), Target::App(app) if app.name == *name))
    }

    /// `app` with a port for each name: those that it has, or else free ones, the same each time as long
    /// as no other app and no route has them.
    pub(crate) fn with_ports(&self, mut app: App) -> Result<App, Rejection> {
        let wanted: Vec<String> = app.port_names().map(str::to_owned).collect();
        app.assigned.retain(|name, _| wanted.contains(name));
        let missing = wanted.into_iter();
        let missing: Vec<String> = missing
            .filter(|name| !app.assigned.contains_key(name))
            .collect();
        let others = self.apps.iter().filter(|other| other.name != app.name);
        let mut taken: Vec<NonZeroU16> = others
            .flat_map(|other| other.ports().into_iter().map(|(_, port)| port))
            .collect();
        taken.extend(app.assigned.values());
        taken.extend(self.routes.iter().filter_map(|route| match route.server() {
            Target::Port(port) | Target::Server { port, .. } => Some(*port),
            _ => None,
        }));
        let is_taken = |port: u16| taken.iter().any(|known| known.get() == port);
        let project = format!("{}\0{}", app.settings.folder.display(), app.name);
        let ports = suggested_ports(&project, &missing, is_taken).ok_or_else(|| {
            let reason = "every port that apps can have is taken";
            Rejection::Taken(Invalid::new("ports", reason))
        })?;
        let ports = ports.into_iter().filter_map(NonZeroU16::new);
        app.assigned.extend(missing.into_iter().zip(ports));
        Ok(app)
    }

    /// Whether an app may be added under this name, with these ports.
    pub(crate) fn check_new_app(&self, app: &App) -> Result<(), Rejection> {
        if self.app(&app.name).is_some() {
            let name = &app.name;
            let reason = format!(
                "the app `{name}` is there already: see `bentlane app show {name}`, or change it \
                 with `bentlane app edit {name}`"
            );
            return Err(Rejection::Taken(Invalid::new("name", reason)));
        }
        self.check_app(app)
    }

    /// Whether the settings of an app are complete, and nothing else has its ports.
    pub(crate) fn check_app(&self, app: &App) -> Result<(), Rejection> {
        app.check()?;
        let Some(port) = app.settings.port else {
            return Ok(());
        };
        let has_it = |other: &&App| {
            other.name != app.name && other.ports().iter().any(|(_, own)| *own == port)
        };
        match self.apps.iter().find(has_it) {
            Some(other) => {
                let reason = format!(
                    "the app `{}` has the port {port} already: choose another, or leave it out to be \
                     assigned one",
                    other.name
                );
                Err(Rejection::Taken(Invalid::new("port", reason)))
            }
            None => Ok(()),
        }
    }

    /// Whether the app may go.
    pub(crate) fn check_gone_app(
        &self,
        name: &AppName,
        with_routes: bool,
    ) -> Result<(), Rejection> {
        if self.app(name).is_none() {
            return Err(Rejection::missing_app(name));
        }
        match self.routes_to_app(name).next() {
            Some(route) if !with_routes => {
                let reason = format!(
                    "the route `{}` leads to the app `{name}`: remove it first, or both at once with \
                     `bentlane app remove {name} --with-routes`",
                    route.address
                );
                Err(Rejection::Taken(Invalid::new("name", reason)))
            }
            _ => Ok(()),
        }
    }
}
