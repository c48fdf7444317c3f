use std::sync::Arc;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{ZoneInput, ZoneView, Zones};
use bentlane_checks::advice_for_zone;
use bentlane_model::{Change, Name, Route, Snapshot, Zone, ZoneChange, ZoneSettings};
use serde::Deserialize;
use serde_json::{Map, Value};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::based_on::{BasedOn, RevisionTag};
use super::guard::Caller;
use super::problem::{Body, Problem, Query};
use super::records::find_zone;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AddZone {
    /// Only say whether the zone could be added, and what is questionable about it.
    #[serde(default)]
    dry_run: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct RemoveZone {
    /// Whether the zone's routes go with it. Without this a zone that has routes stays.
    #[serde(default)]
    with_routes: bool,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_zones, add_zone))
        .routes(routes!(show_zone, edit_zone, remove_zone))
}

fn view(api: &Api, snapshot: &Snapshot, zone: &Zone) -> ZoneView {
    let routes = snapshot.configuration().routes.iter();
    let lies_in_it = |route: &&Route| {
        let name = route.address.pattern.base().as_str();
        snapshot
            .zone_of(name)
            .is_some_and(|found| found.name == zone.name)
    };
    ZoneView {
        name: zone.name.to_string(),
        routes: routes.filter(lies_in_it).count(),
        records: zone.records.len(),
        settings: zone.settings.clone(),
        certified: api.pki.authority.root().covers(&zone.name),
        new_root: false,
        advice: advice_for_zone(&zone.name),
    }
}

/// List the zones.
#[utoipa::path(get, path = "/zones", responses((status = 200, body = Zones)))]
async fn list_zones(State(api): State<Arc<Api>>) -> Json<Zones> {
    let snapshot = api.snapshot();
    let zones = snapshot.configuration().zones.iter();
    let zones = zones.map(|zone| view(&api, &snapshot, zone)).collect();
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
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
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
    let zone = Zone::new(name.clone());
    let change = Change::AddZone(name);
    if dry_run {
        api.snapshot().configuration().check(&change)?;
        let view = view(&api, &api.snapshot(), &zone);
        return Ok((StatusCode::OK, Json(view)));
    }
    let former = api.pki.authority.root();
    api.configuration.change(&by, change, None).await?;
    let root = api.pki.authority.root();
    let view = ZoneView {
        // A root that was made again was not trusted before, either.
        new_root: root.key_sha256() != former.key_sha256() && root.cross().is_some(),
        ..view(&api, &api.snapshot(), &zone)
    };
    Ok((StatusCode::CREATED, Json(view)))
}

/// Show one zone.
#[utoipa::path(
    get, path = "/zones/{name}", params(("name" = String, Path)),
    responses((status = 200, body = ZoneView), (status = 404, body = Problem)),
)]
async fn show_zone(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<(RevisionTag, Json<ZoneView>), Problem> {
    let (tag, zone) = (api.revision_tag(), find_zone(&api, &name)?);
    Ok((tag, Json(view(&api, &api.snapshot(), &zone))))
}

/// Change a zone's settings by a JSON merge patch (RFC 7396): `null` unsets.
#[utoipa::path(
    patch, path = "/zones/{name}",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header)), request_body = ZoneSettings,
    responses(
        (status = 200, body = ZoneView), (status = 404, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn edit_zone(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(name): Path<String>,
    based_on: BasedOn,
    Body(settings): Body<Map<String, Value>>,
) -> Result<(RevisionTag, Json<ZoneView>), Problem> {
    let parsed = name.parse().map_err(|e| Problem::value("name", e))?;
    let change = ZoneChange::Settings {
        name: parsed,
        settings,
    };
    api.configuration
        .change(&by, Change::EditZone(change), based_on.revision())
        .await?;
    let zone = find_zone(&api, &name)?;
    let view = view(&api, &api.snapshot(), &zone);
    Ok((api.revision_tag(), Json(view)))
}

/// Remove a zone.
#[utoipa::path(
    delete, path = "/zones/{name}", params(("name" = String, Path), RemoveZone),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)),
)]
async fn remove_zone(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(name): Path<String>,
    Query(RemoveZone { with_routes }): Query<RemoveZone>,
) -> Result<StatusCode, Problem> {
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    api.configuration
        .change(&by, Change::RemoveZone { name, with_routes }, None)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
