use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bentlane_api_types::{
    CheckRequest, FromSeen, NameToLookUp, NamesToLookUp, RouteHistory, RouteStateChange,
    RouteStates, TraceRequest, Verdicts,
};
use bentlane_checks::{Facts, Finding, Trace, Verdict, diagnose_from};
use bentlane_model::{Address, Name, PathPrefix, Snapshot, host_and_port};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::{Body, Problem, Query};
use super::routes::find;
use crate::checker::{CheckOptions, CheckTarget, PATIENCE, Trigger};

/// Verdicts of a route's history that are listed unless another number is asked for.
const SHOWN: u64 = 100;
const MOST_SHOWN: u64 = 1000;
/// Hours of the states that are listed unless another number is asked for, and at most.
const DAY_HOURS: u32 = 24;
const WEEK_HOURS: u32 = 168;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HowMany {
    /// How many to list at most, 1 to 1000; 100 by default.
    #[serde(default)]
    limit: Option<u64>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(check_routes))
        .routes(routes!(names_to_look_up))
        .routes(routes!(list_verdicts))
        .routes(routes!(list_states))
        .routes(routes!(trace_url))
}

/// What an address stands for.
enum Place {
    Route(Box<CheckTarget>),
    /// No route, and why.
    Nowhere(Verdict),
    Gone(String),
}

/// Check routes now, hop by hop. Returns when all are checked: at most some 30 s for each 64 routes.
#[utoipa::path(
    post, path = "/checks", request_body = CheckRequest,
    responses((status = 200, body = Verdicts), (status = 422, body = Problem)),
)]
async fn check_routes(
    State(api): State<Arc<Api>>,
    Body(request): Body<CheckRequest>,
) -> Result<Json<Verdicts>, Problem> {
    let places = places(&api, &request)?;
    let options = CheckOptions {
        only: request.only,
        patience: request
            .wait_s
            .map_or(PATIENCE, |seconds| Duration::from_secs(seconds.into())),
        ..api.checks.options(Trigger::Request, request.deep).await
    };
    let routes = targets(&places);
    let checked = match &request.from {
        Some(from) => from_container(&api, from, &routes, &options),
        None => api.checks.checker.check(routes, &options).await,
    };
    let mut checked = checked.into_iter();
    let mut verdicts = Verdicts::default();
    for place in places {
        match place {
            Place::Nowhere(verdict) => verdicts.verdicts.push(verdict),
            Place::Gone(address) => verdicts.gone.push(address),
            Place::Route(to) => match checked.next().flatten() {
                Some(verdict) => verdicts.verdicts.push(verdict),
                None => verdicts.gone.push(to.route.address.to_string()),
            },
        }
    }
    Ok(Json(verdicts))
}

/// The routes to check among what was requested.
fn targets(places: &[Place]) -> Vec<CheckTarget> {
    let routes = places.iter().filter_map(|place| match place {
        Place::Route(route) => Some(CheckTarget::clone(route)),
        Place::Nowhere(_) | Place::Gone(_) => None,
    });
    routes.collect()
}

/// What each address that was asked for stands for; every route when none was.
fn places(api: &Api, request: &CheckRequest) -> Result<Vec<Place>, Problem> {
    let snapshot = api.snapshot();
    if request.addresses.is_empty() {
        let routes = snapshot.configuration().routes.iter().cloned();
        return Ok(routes
            .map(|route| Place::Route(Box::new(route.into())))
            .collect());
    }
    let read = |text: &String| place(&snapshot, text, request.known);
    request.addresses.iter().map(read).collect()
}

/// List the names and ports that a check of these routes looks up and connects to, for a client that looks
/// from elsewhere.
#[utoipa::path(
    post, path = "/checks/names", request_body = CheckRequest,
    responses((status = 200, body = NamesToLookUp), (status = 422, body = Problem)),
)]
async fn names_to_look_up(
    State(api): State<Arc<Api>>,
    Body(request): Body<CheckRequest>,
) -> Result<Json<NamesToLookUp>, Problem> {
    let routes = targets(&places(&api, &request)?);
    let options = api.checks.options(Trigger::Request, false).await;
    let facts = routes
        .iter()
        .filter_map(|route| api.checks.checker.facts(route, &options));
    let names = facts.map(|facts| NameToLookUp {
        address: facts.address().to_string(),
        name: facts.name.to_string(),
        port: facts.listener.port(),
    });
    Ok(Json(NamesToLookUp {
        names: names.collect(),
    }))
}

/// The verdicts for these routes on what was observed from a container.
fn from_container(
    api: &Api,
    from: &FromSeen,
    routes: &[CheckTarget],
    options: &CheckOptions,
) -> Vec<Option<Verdict>> {
    let judge = |route: &CheckTarget| {
        let facts: Facts = api.checks.checker.facts(route, options)?;
        let seen = from.seen.iter().find(|seen| seen.name == facts.name)?;
        Some(diagnose_from(
            &facts,
            &from.container,
            from.shares_network,
            seen,
        ))
    };
    routes.iter().map(judge).collect()
}

/// The route that an address, a name or a URL leads to.
fn place(snapshot: &Snapshot, text: &str, known: bool) -> Result<Place, Problem> {
    let text = text.trim();
    if let Ok(address) = text.parse::<Address>() {
        if let Some(route) = snapshot.configuration().route(&address) {
            return Ok(Place::Route(Box::new(route.clone().into())));
        }
        if known {
            return Ok(Place::Gone(text.to_owned()));
        }
    }
    let (name, port, path) = name_and_path(text)?;
    let on_port = port.and_then(|port| snapshot.route_on_port(name.as_str(), port, &path));
    Ok(
        match on_port.or_else(|| snapshot.route_for(name.as_str(), &path)) {
            Some(routed) if routed.position.is_some() => Place::Route(Box::new(CheckTarget {
                route: routed.route.clone(),
                at: Some((name, path)),
            })),
            _ => Place::Nowhere(nowhere(snapshot, text, name, &path)),
        },
    )
}

/// The name, port and path of `https://NAME:PORT/PATH`, or of the same without scheme or port.
fn name_and_path(text: &str) -> Result<(Name, Option<u16>, String), Problem> {
    let rest = text.split_once("://").map_or(text, |(_, rest)| rest);
    let at = rest.find(['/', '?']).unwrap_or(rest.len());
    let (host, path) = rest.split_at(at);
    let (host, port) = host_and_port(host);
    let port = port.and_then(|port| port.parse().ok());
    let name = host.parse().map_err(|e| Problem::value("addresses", e))?;
    let path = match path {
        "" => PathPrefix::default().to_string(),
        query if query.starts_with('?') => format!("/{query}"),
        path => path.to_owned(),
    };
    Ok((name, port, path))
}

/// The verdict on an address to which no route answers.
fn nowhere(snapshot: &Snapshot, text: &str, name: Name, path: &str) -> Verdict {
    let zone = snapshot.zone_of(name.as_str());
    let finding = match zone {
        Some(_) => {
            let nearest = snapshot.nearest(name.as_str(), 3);
            Finding::route_missing(name.as_str(), path, &nearest)
        }
        None => {
            let zones = &snapshot.configuration().zones;
            let zones: Vec<String> = zones.iter().map(|zone| zone.name.to_string()).collect();
            Finding::name_outside_zones(&name, &zones)
        }
    };
    Verdict::nowhere(text, name, finding, OffsetDateTime::now_utc())
}

/// Follow one request (GET) to its answer, with the decision and the time of each step.
#[utoipa::path(
    post, path = "/traces", request_body = TraceRequest,
    responses((status = 200, body = Trace), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn trace_url(
    State(api): State<Arc<Api>>,
    Body(TraceRequest { url }): Body<TraceRequest>,
) -> Result<Json<Trace>, Problem> {
    let snapshot = api.snapshot();
    let options = api.checks.options(Trigger::Request, false).await;
    let nowhere = |summary: String| Problem::new(StatusCode::NOT_FOUND, summary);
    match place(&snapshot, &url, false)? {
        Place::Route(route) => {
            let trace = api.checks.checker.trace(&route, &options).await;
            let gone = || nowhere(format!("there is no route for {url} any more"));
            trace.map(Json).ok_or_else(gone)
        }
        Place::Nowhere(verdict) => {
            let found = verdict.findings.into_iter().next();
            let said = found.map(|it| match it.fix.command {
                Some(command) => format!("{}: {} with `{command}`", it.summary, it.fix.text),
                None => it.summary,
            });
            Err(nowhere(said.unwrap_or_default()))
        }
        Place::Gone(address) => Err(nowhere(format!("{address} is gone"))),
    }
}

/// List what checks of a route came to, newest first: an entry for each time that it changed.
#[utoipa::path(
    get, path = "/routes/{address}/verdicts",
    params(("address" = String, Path, description = "percent-encoded"), HowMany),
    responses((status = 200, body = Verdicts), (status = 404, body = Problem), (status = 503, body = Problem)),
)]
async fn list_verdicts(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Query(HowMany { limit }): Query<HowMany>,
) -> Result<Json<Verdicts>, Problem> {
    let address: Address = text.parse().map_err(|e| Problem::value("address", e))?;
    let route = find(&api, &address)?;
    let limit = limit.unwrap_or(SHOWN).clamp(1, MOST_SHOWN);
    let address = route.address.to_string();
    let verdicts = api
        .storage
        .call(async |store| store.verdicts(&address, limit).await)
        .await?;
    Ok(Json(Verdicts {
        verdicts,
        gone: Vec::new(),
    }))
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct StatesOf {
    /// How many hours to look back, 1 to 168; 24 by default.
    #[serde(default)]
    hours: Option<u32>,
}

/// List how the routes have been lately: each change between passing and broken.
#[utoipa::path(
    get, path = "/states", params(StatesOf),
    responses((status = 200, body = RouteStates), (status = 422, body = Problem), (status = 503, body = Problem)),
)]
async fn list_states(
    State(api): State<Arc<Api>>,
    Query(StatesOf { hours }): Query<StatesOf>,
) -> Result<Json<RouteStates>, Problem> {
    let hours = hours.unwrap_or(DAY_HOURS).clamp(1, WEEK_HOURS);
    let from = OffsetDateTime::now_utc() - time::Duration::hours(i64::from(hours));
    let stored = api
        .storage
        .call(async |store| store.states_since(from).await)
        .await?;
    let snapshot = api.snapshot();
    let known = &snapshot.configuration().routes;
    let known: HashSet<String> = known.iter().map(|it| it.address.to_string()).collect();
    let mut states = RouteStates::default();
    for state in stored.into_iter().filter(|it| known.contains(&it.address)) {
        let change = RouteStateChange {
            at: state.at,
            passed: state.passed,
            flapping: state.flapping,
        };
        match states.routes.last_mut() {
            Some(route) if route.address == state.address => route.changes.push(change),
            _ => states.routes.push(RouteHistory {
                address: state.address,
                changes: vec![change],
            }),
        }
    }
    Ok(Json(states))
}
