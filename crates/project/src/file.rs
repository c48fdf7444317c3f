use std::collections::BTreeMap;
use std::path::{Component, Path, PathBuf};

use bentlane_model::{
    Address, AppName, AppSettings, Name, Pattern, ProjectInput, ProjectRoute, Record, RecordName,
    Target,
};
use serde_json::{Map, Value, json};

use crate::requires::Requires;

/// What a project file says, checked value by value. Paths are as they are written.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ProjectFile {
    /// The zone of its names.
    pub zone: Option<Name>,
    /// Its routes.
    pub routes: Vec<FileRoute>,
    /// Its apps, each with what it sets.
    pub apps: Vec<(AppName, Map<String, Value>)>,
    /// Its records.
    pub records: Vec<Record>,
    /// The ports that its own programs use, by name.
    pub ports: BTreeMap<String, u16>,
    /// The certificates that it wants kept in files.
    pub certs: Vec<CertFiles>,
    /// What it needs of the machine.
    pub requires: Requires,
}

/// A route as a file has it.
#[derive(Clone, Debug, PartialEq)]
pub struct FileRoute {
    /// Its address.
    pub address: Address,
    /// Where it leads, as it is written.
    pub to: String,
    /// What it sets.
    pub settings: Map<String, Value>,
}

/// Certificates that a server wants in files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertFiles {
    /// The names that it is for.
    pub names: Vec<String>,
    /// The folder for the files.
    pub folder: PathBuf,
}

/// The names of a further working copy: those of a zone are moved below another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Move {
    /// The zone in the file.
    pub from: Name,
    /// The zone below which its names are.
    pub to: Name,
}

impl Move {
    fn name(&self, name: &Name) -> Name {
        let below = name.as_str().strip_suffix(self.from.as_str());
        match below.and_then(|below| format!("{below}{}", self.to).parse().ok()) {
            Some(moved) if name.is_within(&self.from) => moved,
            _ => name.clone(),
        }
    }

    fn address(&self, address: &Address) -> Address {
        let pattern = match &address.pattern {
            Pattern::Exact(name) => Pattern::Exact(self.name(name)),
            Pattern::Wildcard(name) => Pattern::Wildcard(self.name(name)),
        };
        Address {
            pattern,
            ..address.clone()
        }
    }

    /// The name of an app of this working copy: apps of all projects have names of their own.
    fn app(&self, name: &AppName) -> AppName {
        let first = self.to.as_str().split('.').next().unwrap_or_default();
        format!("{name}-{first}")
            .parse()
            .unwrap_or_else(|_| name.clone())
    }
}

impl ProjectFile {
    /// What the file at `file` comes to, with paths below its folder. With `moved`, its names are below
    /// another zone, and its apps have other names and ports.
    #[must_use]
    pub fn input(&self, file: &Path, text: &str, moved: Option<&Move>) -> ProjectInput {
        let folder = file.parent().unwrap_or(Path::new("/"));
        let address = |address: &Address| match moved {
            Some(moved) => moved.address(address),
            None => address.clone(),
        };
        let routes = self.routes.iter().filter_map(|route| {
            let mut settings = route.settings.clone();
            whole_paths(folder, &mut settings, &["access_log"]);
            if let Some(Value::String(how)) = settings.get_mut("target_tls")
                && !matches!(how.as_str(), "verify" | "none")
            {
                *how = whole(folder, how);
            }
            Some(ProjectRoute {
                address: address(&route.address),
                to: self.target(folder, &route.to, moved)?,
                settings,
            })
        });
        let apps = self.apps.iter().map(|(name, settings)| {
            let mut settings = settings.clone();
            settings.entry("folder").or_insert_with(|| json!("."));
            whole_paths(folder, &mut settings, &["folder", "env_file"]);
            if moved.is_some() {
                settings.remove("port");
            }
            let name = match moved {
                Some(moved) => moved.app(name),
                None => name.clone(),
            };
            // Each value was accepted when the file was read.
            let settings = AppSettings::default().merged(&settings).unwrap_or_default();
            (name, settings)
        });
        let records = self.records.iter().map(|record| {
            let owner = record.owner.to_string();
            let name = owner.parse::<Name>().ok();
            let moved = moved.zip(name).map(|(moved, name)| moved.name(&name));
            let owner = moved.and_then(|it| it.as_str().parse::<RecordName>().ok());
            Record {
                owner: owner.unwrap_or_else(|| record.owner.clone()),
                ..record.clone()
            }
        });
        ProjectInput {
            file: file.to_owned(),
            moved_to: moved.map(|moved| moved.to.clone()),
            text: text.to_owned(),
            zone: match moved {
                Some(moved) => Some(moved.to.clone()),
                None => self.zone.clone(),
            },
            routes: routes.collect(),
            apps: apps.collect(),
            records: records.collect(),
            ports: match moved {
                Some(_) => BTreeMap::new(),
                None => self.ports.clone(),
            },
            certs: self
                .certs
                .iter()
                .map(|it| absolute(folder, &it.folder))
                .collect(),
            take_over: false,
        }
    }

    /// The target that `text` says, which was accepted when the file was read.
    fn target(&self, folder: &Path, text: &str, moved: Option<&Move>) -> Option<Target> {
        let text = match text.strip_prefix("folder:") {
            Some(path) => format!("folder:{}", whole(folder, path)),
            None => text.to_owned(),
        };
        let to: Target = text.parse().ok()?;
        let Target::App(mut app) = to else {
            return Some(to);
        };
        if let Some(moved) = moved
            && self.apps.iter().any(|(name, _)| *name == app.name)
        {
            app.name = moved.app(&app.name);
        }
        Some(Target::App(app))
    }

    /// What the file at `file` names beyond its own folder and this machine's loopback, which needs the user's
    /// consent as commands do.
    #[must_use]
    pub fn beyond(&self, file: &Path) -> Vec<String> {
        let root = file.parent().unwrap_or(Path::new("/"));
        let input = self.input(file, "", None);
        let outside = |path: &Path| !path.starts_with(root);
        let mut beyond = Vec::new();
        for (name, settings) in &input.apps {
            let paths = std::iter::once(&settings.folder).chain(&settings.env_file);
            let paths = paths.filter(|path| outside(path));
            beyond.extend(paths.map(|path| format!("app `{name}` uses {}", path.display())));
        }
        for route in &input.routes {
            let address = &route.address;
            match &route.to {
                Target::Folder(to) if outside(to.path()) => {
                    beyond.push(format!("route `{address}` serves {}", to.path().display()));
                }
                Target::Server { host, .. } if !is_this_machine(&host.to_string()) => {
                    beyond.push(format!("route `{address}` leads to {}", route.to));
                }
                _ => {}
            }
            for key in ["access_log", "target_tls"] {
                let path = route
                    .settings
                    .get(key)
                    .and_then(Value::as_str)
                    .map(Path::new);
                if let Some(path) = path.filter(|path| path.is_absolute() && outside(path)) {
                    beyond.push(format!("route `{address}` uses {}", path.display()));
                }
            }
        }
        let certs = input.certs.iter().filter(|path| outside(path));
        beyond.extend(certs.map(|path| format!("certificates are kept in {}", path.display())));
        beyond
    }
}

fn is_this_machine(host: &str) -> bool {
    let host = host.trim_matches(['[', ']']);
    host == "localhost"
        || host
            .parse::<std::net::IpAddr>()
            .is_ok_and(|ip| ip.is_loopback())
}

fn whole_paths(folder: &Path, settings: &mut Map<String, Value>, keys: &[&str]) {
    for key in keys {
        match settings.get_mut(*key) {
            Some(Value::String(path)) => *path = whole(folder, path),
            Some(Value::Array(paths)) => {
                for path in paths {
                    if let Value::String(path) = path {
                        *path = whole(folder, path);
                    }
                }
            }
            _ => {}
        }
    }
}

fn whole(folder: &Path, path: &str) -> String {
    absolute(folder, Path::new(path)).display().to_string()
}

/// A path below `folder`, without `.` and `..` in it.
fn absolute(folder: &Path, path: &Path) -> PathBuf {
    let mut whole = PathBuf::new();
    for part in folder.join(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                whole.pop();
            }
            part => whole.push(part),
        }
    }
    whole
}
