use std::sync::Arc;

use axum::extract::{Path, State as Shared};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_core::{Advice, Change, Name, advice_for_zone};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::guard::Caller;
use super::problem::{Body, Problem, Query};
use crate::state::State;

/// A zone to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ZoneInput {
    /// The suffix, such as `moor.test`.
    pub name: String,
    /// Whether to take it even if it can be a real domain.
    #[serde(default)]
    pub anyway: bool,
}

/// A zone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ZoneView {
    /// The suffix.
    pub name: String,
    /// How many routes lie in it.
    pub routes: usize,
    /// What is questionable about its name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub advice: Vec<Advice>,
}

#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct AddZone {
    /// Only say whether the zone could be added, and what is questionable about it.
    #[serde(default)]
    dry_run: bool,
}

/// All zones, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Zones {
    /// The zones.
    pub zones: Vec<ZoneView>,
}

#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct RemoveZone {
    /// Whether the zone's routes go with it. Without this a zone that has routes stays.
    #[serde(default)]
    with_routes: bool,
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new()
        .routes(routes!(list_zones, add_zone))
        .routes(routes!(remove_zone))
}

/// List the zones.
#[utoipa::path(get, path = "/zones", responses((status = 200, body = Zones)))]
async fn list_zones(Shared(state): Shared<Arc<State>>) -> Json<Zones> {
    let snapshot = state.snapshot.load();
    let configuration = snapshot.configuration();
    let zones = configuration
        .zones
        .iter()
        .map(|zone| ZoneView {
            name: zone.name.to_string(),
            advice: advice_for_zone(&zone.name),
            routes: configuration
                .routes
                .iter()
                .filter(|route| {
                    let name = route.address.pattern.base().as_str();
                    snapshot.zone_of(name) == Some(&zone.name)
                })
                .count(),
        })
        .collect();
    Json(Zones { zones })
}

/// Add a zone: every name at and below it resolves to this machine.
#[utoipa::path(
    post, path = "/zones", params(AddZone), request_body = ZoneInput,
    responses(
        (status = 200, body = ZoneView, description = "with `dry_run`: it could be added"),
        (status = 201, body = ZoneView),
        (status = 409, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn add_zone(
    Shared(state): Shared<Arc<State>>,
    Extension(Caller(who)): Extension<Caller>,
    Query(AddZone { dry_run }): Query<AddZone>,
    Body(input): Body<ZoneInput>,
) -> Result<(StatusCode, Json<ZoneView>), Problem> {
    let name: Name = input
        .name
        .trim()
        .parse()
        .map_err(|e| Problem::value("name", e))?;
    let advice = advice_for_zone(&name);
    if let Some(grave) = advice
        .iter()
        .find(|advice| advice.needs_consent && !input.anyway)
    {
        let reason = format!(
            "{}, or `bentlane zone add {name} --anyway` takes it all the same",
            grave.in_words()
        );
        return Err(Problem::value("name", reason));
    }
    let view = ZoneView {
        name: name.to_string(),
        routes: 0,
        advice,
    };
    let change = Change::AddZone(name);
    if dry_run {
        state.snapshot.load().configuration().check(&change)?;
        return Ok((StatusCode::OK, Json(view)));
    }
    state.change(who, &change).await?;
    Ok((StatusCode::CREATED, Json(view)))
}

/// Remove a zone.
#[utoipa::path(
    delete, path = "/zones/{name}", params(("name" = String, Path), RemoveZone),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)),
)]
async fn remove_zone(
    Shared(state): Shared<Arc<State>>,
    Extension(Caller(who)): Extension<Caller>,
    Path(name): Path<String>,
    Query(RemoveZone { with_routes }): Query<RemoveZone>,
) -> Result<StatusCode, Problem> {
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    state
        .change(who, &Change::RemoveZone { name, with_routes })
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
