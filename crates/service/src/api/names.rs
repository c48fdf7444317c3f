use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use bentlane_api_types::{DecidedBy, NameExplanation};
use bentlane_checks::Resolve;
use bentlane_model::{Answers, Name, Snapshot};
use bentlane_probe::resolve;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::{Problem, Query};

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
struct Explain {
    /// The name, such as `booking.moor.test`.
    #[serde(default)]
    name: String,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new().routes(routes!(explain_name))
}

/// Explain what the resolver answers for a name. It is asked as a program of this machine would.
#[utoipa::path(
    get, path = "/names/explanation", params(Explain),
    responses((status = 200, body = NameExplanation), (status = 422, body = Problem)),
)]
async fn explain_name(
    State(api): State<Arc<Api>>,
    Query(Explain { name }): Query<Explain>,
) -> Result<Json<NameExplanation>, Problem> {
    let name = name.trim().trim_end_matches('.').to_ascii_lowercase();
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    let snapshot = api.snapshot();
    let forwarder = api.resolver.forwarder.as_ref();
    let upstreams = forwarder.map_or_else(Vec::new, |it| it.upstreams().to_vec());
    let mut explained = decide(&snapshot, &name, &upstreams);
    let Some(resolver) = api.info.listening.dns.first() else {
        return Ok(Json(explained));
    };
    match resolve(*resolver, &name).await {
        Resolve::Addresses(addresses) => explained.addresses = addresses,
        Resolve::Code(code) => explained.error = Some(code),
        Resolve::Silent => explained.error = Some("no answer".to_owned()),
        Resolve::Failed(reason) => explained.error = Some(reason),
    }
    Ok(Json(explained))
}

fn decide(snapshot: &Snapshot, name: &Name, upstreams: &[SocketAddr]) -> NameExplanation {
    let mut explained = NameExplanation {
        name: name.to_string(),
        decided_by: DecidedBy::NotOurs,
        reason: String::new(),
        zone: None,
        route: None,
        records: Vec::new(),
        addresses: Vec::new(),
        error: None,
    };
    let Some(zone) = snapshot.zone_of(name.as_str()) else {
        (explained.decided_by, explained.reason) = match upstreams.first() {
            None => (
                DecidedBy::NotOurs,
                "no zone has this name, and there is no upstream resolver to ask".to_owned(),
            ),
            Some(first) => (
                DecidedBy::Upstream,
                format!("no zone has this name, so an upstream resolver is asked, {first} first"),
            ),
        };
        return explained;
    };
    explained.zone = Some(zone.name.to_string());
    let routed = snapshot.route_for(name.as_str(), "/");
    explained.route = routed.map(|it| it.route.address.to_string());
    let records = snapshot.records_for(name.as_str(), zone);
    explained.records = records
        .iter()
        .map(|record| {
            let ttl = record.ttl.unwrap_or(zone.settings.ttl);
            let (owner, kind) = (&record.owner, record.data.kind());
            format!("{owner}. {ttl} IN {kind} {}", record.data)
        })
        .collect();
    let zone_name = &zone.name;
    let of_route = snapshot.resolution(name.as_str());
    (explained.decided_by, explained.reason) = if !records.is_empty() {
        (
            DecidedBy::Record,
            format!("the zone {zone_name} has a record for it"),
        )
    } else if of_route.is_some_and(|it| it.address.is_some()) {
        (
            DecidedBy::Route,
            "its route sets another address".to_owned(),
        )
    } else if zone.settings.answers == Answers::EveryName || snapshot.has_node(name.as_str()) {
        (
            DecidedBy::Zone,
            format!("the zone {zone_name} gives every name the address of the proxy"),
        )
    } else {
        (
            DecidedBy::NoSuchName,
            format!("the zone {zone_name} answers for names with a route or a record alone"),
        )
    };
    explained
}
