use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use bentlane_api_types::{Traffic, TrafficSeries, TrafficSummary};
use bentlane_model::Address;
use bentlane_traffic::{ExchangeFilter, har};
use serde::Deserialize;
use serde_json::Value;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::{Problem, Query};

/// Exchanges that are listed unless another number is asked for, and at most.
const SHOWN: usize = 100;
const MOST_SHOWN: usize = 1_000;
/// Exchanges in an archive at most.
const MOST_ARCHIVED: usize = 10_000;
/// Seconds for which a call waits for exchanges at most.
const LONGEST_WAIT: u64 = 30;
/// Seconds that are summed up unless another number is asked for: a quarter of an hour.
const SUMMED_UP: u64 = 900;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Only of the route with this address.
    #[serde(default)]
    route: Option<String>,
    /// Only with this status: `404`, `5xx`, `400-499`.
    #[serde(default)]
    status: Option<String>,
    /// Only with this method.
    #[serde(default)]
    method: Option<String>,
    /// Only with this text in name and path.
    #[serde(default)]
    text: Option<String>,
    /// Only before the exchange with this number: the page before.
    #[serde(default)]
    before: Option<i64>,
    /// How many at most, 1 to 1000, or to 10,000 for an archive; 100 by default.
    #[serde(default)]
    limit: Option<usize>,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Follow {
    /// Only after the exchange with this number, the first of them first.
    #[serde(default)]
    after: Option<i64>,
    /// With `after`: seconds to wait for an exchange when there is none yet; at most 30.
    #[serde(default)]
    wait: u64,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Since {
    /// How many seconds to sum up, 3600 at most; 900 by default.
    #[serde(default)]
    seconds: Option<u64>,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct SeriesOf {
    /// Only of the route with this address.
    #[serde(default)]
    route: Option<String>,
    /// How many seconds to look back, 3600 at most; 900 by default.
    #[serde(default)]
    seconds: Option<u64>,
    /// Seconds that each point stands for, a multiple of 10; 10 by default.
    #[serde(default)]
    step: Option<u64>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_traffic))
        .routes(routes!(sum_up_traffic))
        .routes(routes!(archive_traffic))
        .routes(routes!(chart_traffic))
}

impl Wanted {
    fn filter(&self) -> Result<ExchangeFilter, Problem> {
        let route = self.route.as_deref().map(|text| {
            let address = text.parse::<Address>();
            address.map_err(|error| Problem::value("route", error))
        });
        let status = self.status.as_deref().map(|text| {
            let range = text.parse();
            range.map_err(|error: bentlane_model::Invalid| Problem::from(vec![error]))
        });
        Ok(ExchangeFilter {
            route: route.transpose()?.map(|address| address.to_string()),
            status: status.transpose()?,
            method: self.method.clone(),
            text: self.text.clone(),
        })
    }
}

/// List what passed the proxy lately, latest last; with `after`, what came since, or follow it.
#[utoipa::path(
    get, path = "/traffic", params(Wanted, Follow),
    responses((status = 200, body = Traffic), (status = 422, body = Problem)),
)]
async fn list_traffic(
    State(api): State<Arc<Api>>,
    Query(wanted): Query<Wanted>,
    Query(Follow { after, wait }): Query<Follow>,
) -> Result<Json<Traffic>, Problem> {
    let filter = wanted.filter()?;
    let limit = wanted.limit.unwrap_or(SHOWN).clamp(1, MOST_SHOWN);
    let Some(after) = after else {
        let latest = api.traffic.latest(&filter, wanted.before, limit);
        return Ok(Json(latest.await?));
    };
    let wait = Duration::from_secs(wait.min(LONGEST_WAIT));
    let shutdown = api.info.supervisor.shutdown();
    let found = api
        .traffic
        .wait_after(&filter, after, limit, wait, shutdown);
    Ok(Json(found.await))
}

/// Sum up what passed the proxy, by route: how many, how often, how many errors, how long.
#[utoipa::path(
    get, path = "/traffic/summary", params(Since),
    responses((status = 200, body = TrafficSummary), (status = 422, body = Problem)),
)]
async fn sum_up_traffic(
    State(api): State<Arc<Api>>,
    Query(Since { seconds }): Query<Since>,
) -> Result<Json<TrafficSummary>, Problem> {
    let period = Duration::from_secs(seconds.unwrap_or(SUMMED_UP).max(1));
    let started_at = api.info.started_at;
    Ok(Json(api.traffic.summary(period, started_at).await))
}

/// Chart what passed the proxy: how many requests, and how long they took, over time.
#[utoipa::path(
    get, path = "/traffic/series", params(SeriesOf),
    responses((status = 200, body = TrafficSeries), (status = 422, body = Problem)),
)]
async fn chart_traffic(
    State(api): State<Arc<Api>>,
    Query(SeriesOf {
        route,
        seconds,
        step,
    }): Query<SeriesOf>,
) -> Result<Json<TrafficSeries>, Problem> {
    let route = route.map(|text| {
        let address = text.parse::<Address>();
        address.map_err(|error| Problem::value("route", error))
    });
    let route = route.transpose()?.map(|address| address.to_string());
    let over = Duration::from_secs(seconds.unwrap_or(SUMMED_UP).max(1));
    let step = Duration::from_secs(step.unwrap_or(1).max(1));
    Ok(Json(api.traffic.series(route.as_deref(), over, step).await))
}

/// What passed the proxy lately as an HTTP Archive (HAR 1.2).
#[utoipa::path(
    get, path = "/traffic/archive", params(Wanted),
    responses((status = 200, body = Object), (status = 422, body = Problem)),
)]
async fn archive_traffic(
    State(api): State<Arc<Api>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Value>, Problem> {
    let filter = wanted.filter()?;
    let limit = wanted.limit.unwrap_or(SHOWN).clamp(1, MOST_ARCHIVED);
    let latest = api.traffic.latest(&filter, wanted.before, limit).await?;
    Ok(Json(har(&latest.exchanges)))
}
