use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use bentlane_api_types::{PortProtocol, PortView, Ports, RouteMatch};
use bentlane_checks::{AppStatus, Holder};
use bentlane_model::{
    App, AppName, AppPlace, ByName, ContainerPlace, ContainerSeen, Route, Snapshot, Target,
};
use bentlane_probe::{PortSeen, Spoken, spoken as spoken_at};
use time::OffsetDateTime;
use tokio::task::JoinSet;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use crate::checker::route_url;
use crate::users::name_of;

/// A port that has not answered by then has another protocol.
const PATIENCE: Duration = Duration::from_secs(1);

/// A port of one process.
type Place = (u16, u32, Option<OffsetDateTime>);

/// What is spoken on ports, asked once for each process that has one.
#[derive(Debug, Default)]
pub(crate) struct PortProtocols(Mutex<HashMap<Place, Spoken>>);

impl PortProtocols {
    fn known(&self) -> HashMap<Place, Spoken> {
        self.0
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    fn keep(&self, known: HashMap<Place, Spoken>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = known;
    }
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new().routes(routes!(list_ports))
}

fn place(seen: &PortSeen) -> Option<Place> {
    let Holder { pid, started, .. } = seen.holder.as_ref()?;
    Some((seen.port, *pid, *started))
}

/// List what listens on this machine.
#[utoipa::path(get, path = "/ports", responses((status = 200, body = Ports)))]
async fn list_ports(State(api): State<Arc<Api>>) -> Json<Ports> {
    let ports = ports(&api).await.into_iter();
    Json(Ports {
        ports: ports.map(|(_, port)| port).collect(),
    })
}

/// What listens on this machine, each with the id of its user.
async fn ports(api: &Arc<Api>) -> Vec<(u32, PortView)> {
    let seen = api.checks.checker.ports().await;
    let spoken = spoken(api, &seen).await;
    let snapshot = api.snapshot();
    let ports = seen.into_iter().map(|seen| {
        let spoken = place(&seen).and_then(|place| spoken.get(&place));
        let (protocol, title) = match spoken {
            None => (None, None),
            Some(Spoken::Http(title)) => (Some(PortProtocol::Http), title.clone()),
            Some(Spoken::Tls) => (Some(PortProtocol::Tls), None),
            Some(Spoken::Other) => (Some(PortProtocol::Other), None),
        };
        let uid = seen.uid;
        let view = PortView {
            own: is_own(&seen),
            container: container_with(&snapshot, seen.port)
                .filter(|container| container.running)
                .map(|container| container.name.clone()),
            app: app_with(api, &seen),
            routes: routes_to(&snapshot, &seen),
            user: name_of(seen.uid).unwrap_or_else(|| seen.uid.to_string()),
            port: seen.port,
            addresses: seen.addresses,
            process: seen.holder,
            protocol,
            title,
        };
        (uid, view)
    });
    ports.collect()
}

/// The names below a route that takes its target from the name, and where each leads now. Those
/// that another route serves are left out.
pub(super) async fn matches(api: &Arc<Api>, route: &Route) -> Vec<RouteMatch> {
    let Target::ByName(by) = route.server() else {
        return Vec::new();
    };
    let snapshot = api.snapshot();
    let labels: Vec<String> = match by {
        ByName::Port => {
            let range = route.settings.ports;
            let own = rustix::process::geteuid().as_raw();
            let is_led_to = |(uid, port): &(u32, PortView)| {
                port.protocol == Some(PortProtocol::Http)
                    && *uid == own
                    && !port.own
                    && range.is_none_or(|range| range.contains(port.port))
            };
            let ports = ports(api).await.into_iter().filter(is_led_to);
            ports.map(|(_, port)| port.port.to_string()).collect()
        }
        ByName::App => {
            let apps = snapshot.configuration().apps.iter();
            apps.map(|app| app.name.to_string()).collect()
        }
        ByName::Container => snapshot.container_names(),
    };
    let base = route.address.pattern.base();
    let https = api.info.listening.https_port();
    let found = labels.iter().filter_map(|label| {
        let name = base.prepend(label).ok()?;
        let to = by.target(name.as_str(), base)?;
        let routed = snapshot.route_for(name.as_str(), route.address.prefix.as_str())?;
        (routed.route.address == route.address).then(|| RouteMatch {
            url: route_url(route, name.as_str(), https),
            name: name.to_string(),
            to: to.to_string(),
        })
    });
    found.collect()
}

/// Who has a port that something is to use, in sentences.
#[derive(Debug, Default)]
pub(super) struct PortNotes {
    /// Whose it is: apps, or the program that listens there.
    pub(super) owners: Vec<String>,
    /// Where that program runs.
    pub(super) folder: Option<PathBuf>,
    /// Which routes lead to it.
    shared: Option<String>,
}

impl PortNotes {
    /// Who has `port`, other than the app `asking`.
    pub(super) async fn of(api: &Api, port: u16, asking: Option<&AppName>) -> Self {
        Self::among(api, &api.checks.checker.ports().await, port, asking)
    }

    /// The same among those that were seen to listen.
    pub(super) fn among(api: &Api, seen: &[PortSeen], port: u16, asking: Option<&AppName>) -> Self {
        let snapshot = api.snapshot();
        let apps = snapshot.configuration().apps.iter();
        let is_its = |app: &&App| {
            Some(&app.name) != asking && app.ports().iter().any(|(_, own)| own.get() == port)
        };
        let words = |app: &App| {
            format!(
                "port {port} is that of the app {0}: app:{0} leads to it",
                app.name
            )
        };
        let mut notes = Self {
            owners: apps.filter(is_its).map(words).collect(),
            ..Self::default()
        };
        let container = container_with(&snapshot, port).map(|it| &it.name);
        let Some(seen) = seen.iter().find(|seen| seen.port == port) else {
            notes.owners.extend(container.map(|name| {
                format!("port {port} will belong to the container {name} when it is started")
            }));
            return notes;
        };
        let has_it = |app: &AppName| app_with(api, seen).as_deref() == Some(app.as_str());
        let has_asking = asking.is_some_and(has_it);
        if notes.owners.is_empty() && !has_asking {
            let holder = match (container, &seen.holder) {
                (Some(container), _) => format!("the container {container}"),
                (None, Some(_)) if is_own(seen) => "Bent Lane itself".to_owned(),
                (None, Some(holder)) => {
                    notes.folder = holder.folder.as_ref().map(PathBuf::from);
                    holder.to_string()
                }
                (None, None) => {
                    let user = name_of(seen.uid).unwrap_or_else(|| seen.uid.to_string());
                    format!("a program of {user}")
                }
            };
            notes
                .owners
                .push(format!("port {port} belongs to {holder}"));
        }
        let routes = routes_to(&snapshot, seen).join(", ");
        if !routes.is_empty() {
            notes.shared = Some(format!("{routes} leads to port {port}, too"));
        }
        notes
    }

    /// All of them.
    pub(super) fn all(self) -> Vec<String> {
        self.owners.into_iter().chain(self.shared).collect()
    }
}

/// The container to which a port of this machine is passed on, or will be once it runs.
fn container_with(snapshot: &Snapshot, port: u16) -> Option<&ContainerSeen> {
    let all = snapshot.containers().seen.iter();
    let has_it = |seen: &&ContainerSeen| seen.host_ports.contains(&port);
    all.filter(has_it).max_by_key(|seen| seen.running)
}

/// The app that listens there.
fn app_with(api: &Api, seen: &PortSeen) -> Option<String> {
    let has_it = |status: &AppStatus| status.listens.iter().any(|at| seen.accepts_at(*at));
    let status = api.apps.statuses().into_iter().find(has_it)?;
    Some(status.name.to_string())
}

fn is_own(seen: &PortSeen) -> bool {
    let holder = seen.holder.as_ref();
    holder.is_some_and(|holder| holder.pid == std::process::id())
}

/// Whether it is a port of this service, or of another one of this program: what listens there is no
/// app, and counts who connects.
fn is_bentlane(seen: &PortSeen) -> bool {
    let holder = seen.holder.as_ref();
    is_own(seen) || holder.is_some_and(|holder| holder.command == "bentlane")
}

/// What is spoken on the ports of this user's other processes.
async fn spoken(api: &Arc<Api>, seen: &[PortSeen]) -> HashMap<Place, Spoken> {
    let before = api.port_protocols.known();
    let mut known = HashMap::new();
    let mut asking = JoinSet::new();
    for seen in seen.iter().filter(|seen| !is_bentlane(seen)) {
        let (Some(place), Some(at)) = (place(seen), seen.at()) else {
            continue;
        };
        if let Some(spoken) = before.get(&place) {
            known.insert(place, spoken.clone());
            continue;
        }
        asking.spawn(async move { (place, spoken_at(at, PATIENCE).await) });
    }
    while let Some(asked) = asking.join_next().await {
        known.extend(asked);
    }
    api.port_protocols.keep(known.clone());
    known
}

/// The routes that lead to a port.
fn routes_to(snapshot: &Snapshot, seen: &PortSeen) -> Vec<String> {
    let accepts = |at: &SocketAddr| seen.accepts_at(*at);
    let leads_there = |route: &&Route| match (snapshot.container_of(route), snapshot.app_of(route))
    {
        (Some(ContainerPlace::At(addresses)), _) | (_, Some(AppPlace::At(addresses))) => {
            addresses.iter().any(accepts)
        }
        (Some(ContainerPlace::Replicas(replicas)), _) => {
            replicas.iter().flat_map(|it| &it.at).any(accepts)
        }
        (Some(_), _) | (_, Some(AppPlace::NotReady)) => false,
        (None, None) => {
            let addresses = route.server().addresses();
            addresses.is_ok_and(|all| all.iter().any(accepts))
        }
    };
    let routes = snapshot.configuration().routes.iter();
    routes
        .filter(leads_there)
        .map(|route| route.address.to_string())
        .collect()
}
