use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bentlane_api_types::{
    ContainerList, ContainerRoute, ContainerView, EngineView, NetworkView, Networks,
};
use bentlane_checks::{Finding, shell};
use bentlane_containers::{EngineError, EngineState, EngineStatus, NetworkSeen};
use bentlane_model::{
    ContainerPlace, ContainerSeen, ContainerTarget, Health, Name, Route, Snapshot, Target, chain,
    free_name, label_from,
};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::Trusted;
use super::problem::Problem;
use crate::bridges::bridge_of;
use crate::checker::route_url;

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_containers))
        .routes(routes!(show_container))
        .routes(routes!(start_container))
        .routes(routes!(stop_container))
        .routes(routes!(list_networks))
        .routes(routes!(open_network, close_network))
}

impl From<EngineError> for Problem {
    fn from(error: EngineError) -> Self {
        let code = match &error {
            EngineError::NoContainer(_) => StatusCode::NOT_FOUND,
            EngineError::NoSocket(_) | EngineError::Archive(_) | EngineError::Api { .. } => {
                StatusCode::BAD_GATEWAY
            }
        };
        Self::new(code, chain(&error))
    }
}

pub(super) fn engine_view(status: EngineStatus) -> EngineView {
    EngineView {
        socket: status.socket.display().to_string(),
        fault: match status.state {
            EngineState::Answers => None,
            EngineState::Absent => Some("there is no socket".to_owned()),
            EngineState::Silent(reason) => Some(reason),
        },
        containers: status.containers,
    }
}

/// The routes that lead to each container, perhaps among others, by its id.
fn routes_by_container(snapshot: &Snapshot) -> HashMap<&str, Vec<&Route>> {
    let containers = snapshot.containers();
    let mut routes: HashMap<&str, Vec<&Route>> = HashMap::new();
    let mut publishing: HashMap<SocketAddr, &str> = HashMap::new();
    for seen in &containers.seen {
        publishing.extend(seen.published.iter().map(|(_, at)| (*at, seen.id.as_str())));
    }
    for route in &snapshot.configuration().routes {
        let ids: BTreeSet<&str> = match route.server() {
            Target::Container(target) => {
                let named = containers.named(target).into_iter();
                named.map(|seen| seen.id.as_str()).collect()
            }
            // Or by the port that it publishes.
            target => {
                let addresses = target.addresses().unwrap_or_default().into_iter();
                addresses
                    .filter_map(|at| publishing.get(&at).copied())
                    .collect()
            }
        };
        for id in ids {
            routes.entry(id).or_default().push(route);
        }
    }
    routes
}

fn view(
    api: &Api,
    snapshot: &Snapshot,
    seen: &ContainerSeen,
    routes: &HashMap<&str, Vec<&Route>>,
) -> ContainerView {
    let https = api.info.listening.https_port();
    let routes = routes.get(seen.id.as_str()).into_iter().flatten();
    let routes: Vec<ContainerRoute> = routes
        .map(|route| {
            let sample = snapshot.sample_name(route);
            let base = route.address.pattern.base();
            ContainerRoute {
                address: route.address.to_string(),
                url: route_url(route, sample.as_ref().unwrap_or(base).as_str(), https),
                of_label: snapshot.label_of(&route.address).is_some(),
            }
        })
        .collect();
    let own = ContainerTarget {
        name: seen.name.as_str().into(),
        port: None,
    };
    let place = snapshot.containers().place(&own);
    let at = match &place {
        ContainerPlace::At(at) => at.clone(),
        _ => Vec::new(),
    };
    let problems = snapshot.labels().problems.iter();
    let problems = problems.filter(|problem| problem.container == seen.name);
    let mut findings: Vec<Finding> = problems.map(Finding::label).collect();
    if seen.running && seen.health == Some(Health::Unhealthy) {
        findings.push(Finding::container_unhealthy(&seen.name));
    }
    let route_command = match routes.is_empty() && seen.running {
        true => route_command(snapshot, seen, &place),
        false => None,
    };
    ContainerView {
        at,
        routes,
        route_command,
        findings,
        seen: seen.clone(),
    }
}

/// The command that gives a container a route: `SERVICE.ZONE`, in the zone that has the name of its
/// project, or else in the first one; with a number where that is taken.
fn route_command(
    snapshot: &Snapshot,
    seen: &ContainerSeen,
    place: &ContainerPlace,
) -> Option<String> {
    let configuration = snapshot.configuration();
    let zones = || configuration.zones.iter().map(|zone| &zone.name);
    let project = seen.project.as_deref().unwrap_or_default();
    let of_project = |zone: &&Name| zone.as_str().split('.').next() == Some(project);
    let zone = zones().find(of_project).or_else(|| zones().next())?;
    let label = label_from(seen.service.as_ref().unwrap_or(&seen.name));
    let taken = |name: &str| {
        let address = name.parse();
        address.is_ok_and(|address| configuration.route(&address).is_some())
    };
    let address = free_name(&label, zone.as_str(), taken);
    let port = match place {
        ContainerPlace::At(_) => String::new(),
        _ => ":PORT".to_owned(),
    };
    let target = format!("container:{}{port}", seen.route_name());
    Some(shell(&["bentlane", "route", "add", &address, &target]))
}

fn find(snapshot: &Snapshot, name: &str) -> Result<ContainerSeen, Problem> {
    let found = snapshot.containers().seen.iter();
    let mut found = found.filter(|seen| seen.name == name || seen.id == name);
    let found = found.next().cloned();
    found.ok_or_else(|| EngineError::NoContainer(name.to_owned()).into())
}

/// List the containers of all engines.
#[utoipa::path(get, path = "/containers", responses((status = 200, body = ContainerList)))]
async fn list_containers(State(api): State<Arc<Api>>) -> Json<ContainerList> {
    let snapshot = api.snapshot();
    let routes = routes_by_container(&snapshot);
    let seen = snapshot.containers().seen.iter();
    Json(ContainerList {
        containers: seen
            .map(|seen| view(&api, &snapshot, seen, &routes))
            .collect(),
        engines: api.engines.status().into_iter().map(engine_view).collect(),
    })
}

/// Show one container.
#[utoipa::path(
    get, path = "/containers/{name}", params(("name" = String, Path)),
    responses((status = 200, body = ContainerView), (status = 404, body = Problem)),
)]
async fn show_container(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<ContainerView>, Problem> {
    let snapshot = api.snapshot();
    let seen = find(&snapshot, &name)?;
    Ok(Json(view(
        &api,
        &snapshot,
        &seen,
        &routes_by_container(&snapshot),
    )))
}

/// Start a container, unless it runs.
#[utoipa::path(
    post, path = "/containers/{name}/start", params(("name" = String, Path)),
    responses((status = 200, body = ContainerView), (status = 404, body = Problem), (status = 502, body = Problem)),
)]
async fn start_container(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<ContainerView>, Problem> {
    let (engine, seen) = api.engines.find(&name).await?;
    engine.start(&seen.name).await?;
    after(&api, &engine, &seen.name).await
}

/// Stop a container, which has ten seconds to end.
#[utoipa::path(
    post, path = "/containers/{name}/stop", params(("name" = String, Path)),
    responses((status = 200, body = ContainerView), (status = 404, body = Problem), (status = 502, body = Problem)),
)]
async fn stop_container(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<ContainerView>, Problem> {
    let (engine, seen) = api.engines.find(&name).await?;
    engine.stop(&seen.name).await?;
    after(&api, &engine, &seen.name).await
}

/// The container as it is now, which the snapshot may not have yet.
async fn after(
    api: &Api,
    engine: &bentlane_containers::Engine,
    name: &str,
) -> Result<Json<ContainerView>, Problem> {
    let seen = engine.container(name).await?;
    let seen = seen.ok_or_else(|| EngineError::NoContainer(name.to_owned()))?;
    let snapshot = api.snapshot();
    Ok(Json(view(
        api,
        &snapshot,
        &seen,
        &routes_by_container(&snapshot),
    )))
}

fn network_view(api: &Api, network: NetworkSeen) -> NetworkView {
    let refusal = match (network.driver.as_str(), bridge_of(&network)) {
        ("bridge", Some(_)) => None,
        ("bridge", None) => Some(
            "this machine has no address on it, as with an engine without root: its containers reach this \
             machine by no address of theirs"
                .to_owned(),
        ),
        (other, _) => Some(format!("it is no bridge, but made by `{other}`")),
    };
    NetworkView {
        is_open: api.bridges.is_open(&network.name),
        fault: api.bridges.fault(&network.name),
        name: network.name,
        engine: network.engine,
        driver: network.driver,
        gateway: network.gateway,
        subnet: network.subnet,
        refusal,
    }
}

/// List the networks of containers.
#[utoipa::path(get, path = "/networks", responses((status = 200, body = Networks)))]
async fn list_networks(State(api): State<Arc<Api>>) -> Json<Networks> {
    let networks = api.engines.networks().await.into_iter();
    Json(Networks {
        networks: networks
            .map(|network| network_view(&api, network))
            .collect(),
    })
}

/// Let the containers on a bridge network ask the resolver and use the proxy.
#[utoipa::path(
    post, path = "/networks/{name}/open", params(("name" = String, Path)),
    responses(
        (status = 200, body = NetworkView), (status = 403, body = Problem), (status = 404, body = Problem),
        (status = 409, body = Problem),
    ),
)]
async fn open_network(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<NetworkView>, Problem> {
    let network = find_network(&api, &name).await?;
    if let Some(refusal) = network.refusal {
        let detail = format!("the network {name} cannot be opened: {refusal}");
        return Err(Problem::new(StatusCode::CONFLICT, detail));
    }
    api.bridges.set(&name, true)?;
    find_network(&api, &name).await.map(Json)
}

/// No longer let them.
#[utoipa::path(
    delete, path = "/networks/{name}/open", params(("name" = String, Path)),
    responses((status = 204), (status = 403, body = Problem), (status = 404, body = Problem)),
)]
async fn close_network(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    match api.bridges.set(&name, false)? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(Problem::new(
            StatusCode::NOT_FOUND,
            format!("the network {name} is not open: see `bentlane container list --networks`"),
        )),
    }
}

async fn find_network(api: &Api, name: &str) -> Result<NetworkView, Problem> {
    let mut networks = api.engines.networks().await.into_iter();
    let found = networks.find(|network| network.name == name);
    let found = found.ok_or_else(|| {
        let detail =
            format!("there is no network {name}: see `bentlane container list --networks`");
        Problem::new(StatusCode::NOT_FOUND, detail)
    })?;
    Ok(network_view(api, found))
}
