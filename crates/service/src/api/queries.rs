use bentlane_api_types::{Queries, UpstreamView, Upstreams};
use std::net::SocketAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use bentlane_resolver::{Forwarder, UpstreamHealth};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::{Problem, Query, run_blocking};
use super::records::find_zone;

/// Questions that are shown when nothing else is said.
const USUALLY: usize = 100;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ListQueries {
    /// How many to list at most, of the last thousand.
    #[serde(default = "usually")]
    limit: usize,
    /// Only names in this zone.
    #[serde(default)]
    zone: Option<String>,
}

fn usually() -> usize {
    USUALLY
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_queries))
        .routes(routes!(list_upstreams))
}

/// List the upstream resolvers, and how each has answered.
#[utoipa::path(get, path = "/upstreams", responses((status = 200, body = Upstreams)))]
async fn list_upstreams(State(api): State<Arc<Api>>) -> Json<Upstreams> {
    let forwarder = api.resolver.forwarder.as_ref();
    let known = forwarder.map_or_else(Vec::new, Forwarder::health);
    let view = |(address, health): (SocketAddr, UpstreamHealth)| UpstreamView {
        address,
        answered: health.answered,
        failed: health.failed,
        error: health.error,
        took_us: health
            .took
            .map(|took| u64::try_from(took.as_micros()).unwrap_or(u64::MAX)),
    };
    Json(Upstreams {
        upstreams: known.into_iter().map(view).collect(),
    })
}

/// List what the resolver was asked lately, and what most often.
#[utoipa::path(
    get, path = "/queries", params(ListQueries),
    responses((status = 200, body = Queries), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn list_queries(
    State(api): State<Arc<Api>>,
    Query(ListQueries { limit, zone }): Query<ListQueries>,
) -> Result<Json<Queries>, Problem> {
    let zone = zone.map(|name| find_zone(&api, &name)).transpose()?;
    let reading = run_blocking("the query log cannot be read", move || {
        let snapshot = api.snapshot();
        let wanted = |name: &str| match &zone {
            None => true,
            Some(zone) => snapshot
                .zone_of(name)
                .is_some_and(|found| found.name == zone.name),
        };
        api.queries.read(limit, wanted)
    });
    reading.await.map(Json)
}
