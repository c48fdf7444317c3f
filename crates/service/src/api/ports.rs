use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use bentlane_api_types::{PortProtocol, PortView, Ports};
use bentlane_checks::Holder;
use bentlane_model::{ContainerPlace, Route, Snapshot};
use bentlane_probe::{PortSeen, Spoken, spoken as spoken_at};
use time::OffsetDateTime;
use tokio::task::JoinSet;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
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
    let seen = api.checks.checker.ports().await;
    let spoken = spoken(&api, &seen).await;
    let snapshot = api.snapshot();
    let ports = seen.into_iter().map(|seen| {
        let spoken = place(&seen).and_then(|place| spoken.get(&place));
        let (protocol, title) = match spoken {
            None => (None, None),
            Some(Spoken::Http(title)) => (Some(PortProtocol::Http), title.clone()),
            Some(Spoken::Tls) => (Some(PortProtocol::Tls), None),
            Some(Spoken::Other) => (Some(PortProtocol::Other), None),
        };
        PortView {
            own: is_own(&seen),
            routes: routes_to(&snapshot, &seen),
            user: name_of(seen.uid).unwrap_or_else(|| seen.uid.to_string()),
            port: seen.port,
            addresses: seen.addresses,
            process: seen.holder,
            protocol,
            title,
        }
    });
    Json(Ports {
        ports: ports.collect(),
    })
}

fn is_own(seen: &PortSeen) -> bool {
    let holder = seen.holder.as_ref();
    holder.is_some_and(|holder| holder.pid == std::process::id())
}

/// What is spoken on the ports of this user's other processes.
async fn spoken(api: &Arc<Api>, seen: &[PortSeen]) -> HashMap<Place, Spoken> {
    let before = api.port_protocols.known();
    let mut known = HashMap::new();
    let mut asking = JoinSet::new();
    for seen in seen.iter().filter(|seen| !is_own(seen)) {
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
    let leads_there = |route: &&Route| match snapshot.container_of(route) {
        Some(ContainerPlace::At(addresses)) => addresses.iter().any(accepts),
        Some(_) => false,
        None => {
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
