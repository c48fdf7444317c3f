//! Changes of the configuration, and why one is refused.

use std::fmt;
use std::path::{Path, PathBuf};

use serde_json::{Map, Value};

use crate::address::{Address, AddressError, PathPrefix, Pattern};
use crate::app::{App, AppName};
use crate::configuration::Configuration;
use crate::difference::Changed;
use crate::invalid::Invalid;
use crate::name::Name;
use crate::project::{Held, LoadedProject, ProjectInput};
use crate::record::{Record, RecordName};
use crate::route::Route;
use crate::target::Target;
use crate::zone::Zone;

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
    /// A zone is otherwise.
    EditZone(ZoneChange),
    /// A new route.
    AddRoute(Box<Route>),
    /// Many new routes, all or none.
    AddRoutes(Vec<Route>),
    /// A route gets another target, or other settings.
    EditRoute(RouteEdit),
    /// A route goes.
    RemoveRoute(Address),
    /// A new app, with the routes that lead to it.
    AddApp {
        /// The app; it gets its ports with the change.
        app: Box<App>,
        /// Its routes.
        routes: Vec<Route>,
    },
    /// An app gets other settings.
    EditApp(AppEdit),
    /// An app goes.
    RemoveApp {
        /// Its name.
        name: AppName,
        /// Whether the routes that lead to it go with it.
        with_routes: bool,
    },
    /// A project's file is loaded, and replaces what came from it before.
    LoadProject(Box<ProjectInput>),
    /// All that came from a project's file goes.
    UnloadProject(PathBuf),
    /// An earlier change is undone.
    Undo(Undo),
}

impl Change {
    /// How many routes it touches at most, when it is made to `known`: what it costs grows with them.
    #[must_use]
    pub fn most_routes(&self, known: &Configuration) -> usize {
        match self {
            Self::AddZone(_)
            | Self::EditZone(_)
            | Self::AddRoute(_)
            | Self::EditRoute(_)
            | Self::RemoveRoute(_)
            | Self::EditApp(_) => 1,
            Self::AddApp { routes, .. } | Self::AddRoutes(routes) => routes.len(),
            Self::LoadProject(input) => known.routes.len() + input.routes.len(),
            Self::RemoveZone { .. }
            | Self::RemoveApp { .. }
            | Self::UnloadProject(_)
            | Self::Undo(_) => known.routes.len(),
        }
    }
}

/// What to change of an app: what is not named stays as it is at the moment of the change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AppEdit {
    /// Which app.
    pub name: AppName,
    /// A merge patch for its settings, see [`AppSettings::merged`](crate::AppSettings::merged).
    pub settings: Map<String, Value>,
}

/// What to change of a route: what is not named stays as it is at the moment of the change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RouteEdit {
    /// Which route.
    pub address: Address,
    /// Where it leads from now on.
    pub to: Option<Target>,
    /// A merge patch for its settings, see [`RouteSettings::merged`](crate::RouteSettings::merged). The address `own` is a free
    /// loopback address.
    pub settings: Map<String, Value>,
}

/// One change of a zone that stays.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ZoneChange {
    /// Its names resolve otherwise.
    Settings {
        /// Its name.
        name: Name,
        /// A merge patch for its settings, see [`ZoneSettings::merged`](crate::ZoneSettings::merged).
        settings: Map<String, Value>,
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
    /// Its own records are these from now on.
    ReplaceRecords {
        /// Its name.
        name: Name,
        /// All its records.
        records: Vec<Record>,
    },
}

fn held_by_others(file: &Path, held: &[Held]) -> String {
    let each = held.iter().map(|it| match &it.file {
        Some(other) => format!("the {} is that of {}", it.what, other.display()),
        None => format!("the {} was made by hand and is different", it.what),
    });
    format!(
        "{} asks for what others have: {}. `bentlane project load --take-over` takes it",
        file.display(),
        each.collect::<Vec<_>>().join("; ")
    )
}

/// Why a change is not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Rejection {
    /// A value breaks a rule.
    #[error(transparent)]
    Invalid(Invalid),
    /// Several values do.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "))]
    Several(Vec<Invalid>),
    /// It conflicts with what exists.
    #[error(transparent)]
    Taken(Invalid),
    /// Later changes prevent an undo.
    #[error(
        "nothing was undone, because of later changes: {}",
        .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
    )]
    Conflicts(Vec<Conflict>),
    /// A project asks for what others have.
    #[error("{}", held_by_others(file, held))]
    Held {
        /// The project's file.
        file: PathBuf,
        /// What it asks for.
        held: Vec<Held>,
    },
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

    /// There is no app with this name.
    #[must_use]
    pub fn missing_app(name: &AppName) -> Self {
        Self::Missing {
            what: format!("app `{name}`"),
            list: "app list",
        }
    }
}

/// A route as a person typed it, field by field.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RouteDraft<'a> {
    /// A name or `*.NAME`, followed by `:PORT` for a route with a port.
    pub name: &'a str,
    /// A path prefix; `None` and `/` are every path.
    pub prefix: Option<&'a str>,
    /// A target.
    pub to: &'a str,
}

impl RouteDraft<'_> {
    /// Reads every field and says all that is wrong, not just the first.
    ///
    /// # Errors
    /// One [`Invalid`] for each field that breaks its rule.
    pub fn parse(&self) -> Result<Route, Vec<Invalid>> {
        let (name, port) = match self.name.split_once(':') {
            // What the whole address has against it is said of the port then.
            Some((name, _)) => (name, self.name.parse::<Address>().map(|it| it.port)),
            None => (self.name, Ok(None)),
        };
        let pattern = name.parse::<Pattern>().map_err(|e| Invalid::new("name", e));
        let port = port.map_err(|e| Invalid::new("name", e));
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
        match (pattern, port, prefix, to) {
            (Ok(pattern), Ok(port), Ok(prefix), Ok(to)) => {
                let address = Address {
                    pattern,
                    prefix,
                    port,
                };
                Ok(Route::new(address, to))
            }
            (pattern, port, prefix, to) => {
                let name = pattern.err().or(port.err());
                Err([name, prefix.err(), to.err()]
                    .into_iter()
                    .flatten()
                    .collect())
            }
        }
    }
}

/// A change to undo: what it did, as the journal has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Undo {
    /// The revision that the change made.
    pub revision: u64,
    /// The zones that it changed.
    pub zones: Vec<Changed<Zone>>,
    /// The routes that it changed.
    pub routes: Vec<Changed<Route>>,
    /// The apps that it changed.
    pub apps: Vec<Changed<App>>,
    /// The projects that it changed.
    pub projects: Vec<Changed<LoadedProject>>,
}

/// What a later change did to the same thing, so that the earlier one cannot be undone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Conflict {
    /// What both changed, such as a route.
    pub what: String,
    /// The setting that both changed; `None` when it is the whole.
    pub key: Option<String>,
    /// What the earlier change left; `None` when that was nothing.
    pub left: Option<Value>,
    /// The present value.
    pub now: Option<Value>,
}

impl fmt::Display for Conflict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self {
            what,
            key,
            left,
            now,
        } = self;
        let Some(key) = key else {
            return match (left, now) {
                (Some(_), Some(_)) => write!(f, "the {what} has changed"),
                (None, Some(_)) => write!(f, "there is a {what} again"),
                (_, None) => write!(f, "there is no {what} any more"),
            };
        };
        let value = |value: &Option<Value>| match value {
            None | Some(Value::Null) => "unset".to_owned(),
            Some(Value::String(text)) => format!("`{text}`"),
            Some(other) => format!("`{other}`"),
        };
        let (left, now) = (value(left), value(now));
        write!(
            f,
            "`{key}` of the {what} was {left} after that change and is {now} now"
        )
    }
}
