use std::sync::Arc;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{RecordInput, RecordView, Records, ZoneFile};
use bentlane_dns::zone_file;
use bentlane_model::{Change, Invalid, Name, Record, RecordName, Rejection, Zone, ZoneChange};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::Caller;
use super::problem::{Body, Problem, Query};

/// Which records go.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct RemoveRecords {
    /// Of which type; every type when it is left out.
    #[serde(default, rename = "type")]
    kind: Option<String>,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ReplaceRecords {
    /// Only say whether the file could be taken.
    #[serde(default)]
    dry_run: bool,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_records, add_record))
        .routes(routes!(remove_records))
        .routes(routes!(export_zone, import_zone))
}

fn view(zone: &Zone, record: &Record) -> RecordView {
    RecordView {
        zone: zone.name.to_string(),
        owner: record.owner.to_string(),
        kind: record.data.kind().to_owned(),
        data: record.data.to_string(),
        ttl: record.ttl.unwrap_or(zone.settings.ttl),
    }
}

fn views(zone: &Zone) -> Vec<RecordView> {
    zone.records
        .iter()
        .map(|record| view(zone, record))
        .collect()
}

/// The zone of this name, as the data plane has it.
pub(super) fn find_zone(api: &Api, name: &str) -> Result<Zone, Problem> {
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    let snapshot = api.snapshot();
    let zones = &snapshot.configuration().zones;
    let found = zones.iter().find(|zone| zone.name == name).cloned();
    found.ok_or_else(|| {
        Problem::from(Rejection::Missing {
            what: format!("zone `{name}`"),
            list: "zone list",
        })
    })
}

/// List the records of one's own.
#[utoipa::path(get, path = "/records", responses((status = 200, body = Records)))]
async fn list_records(State(api): State<Arc<Api>>) -> Json<Records> {
    let snapshot = api.snapshot();
    let zones = snapshot.configuration().zones.iter();
    Json(Records {
        records: zones.flat_map(views).collect(),
    })
}

/// Add a record. It is answered when this returns.
#[utoipa::path(
    post, path = "/records", request_body = RecordInput,
    responses((status = 201, body = RecordView), (status = 409, body = Problem), (status = 422, body = Problem)),
)]
async fn add_record(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Body(input): Body<RecordInput>,
) -> Result<(StatusCode, Json<RecordView>), Problem> {
    let mut errors = Vec::new();
    let owner = input.owner.trim().parse::<RecordName>();
    let owner = owner
        .map_err(|e| errors.push(Invalid::new("owner", e)))
        .ok();
    let data = zone_file::read_data(input.kind.trim(), &input.data);
    let data = data.map_err(|e| errors.push(Invalid::new("data", e))).ok();
    let (Some(owner), Some(data)) = (owner, data) else {
        return Err(errors.into());
    };
    let record = Record {
        owner,
        ttl: input.ttl,
        data,
    };
    let change = ZoneChange::AddRecord(record.clone());
    let zone = api.snapshot().configuration().zone_after(&change)?;
    api.configuration
        .change(&by, Change::EditZone(change), None)
        .await?;
    Ok((StatusCode::CREATED, Json(view(&zone, &record))))
}

/// Remove the records of a name, of one type or of all.
#[utoipa::path(
    delete, path = "/records/{owner}", params(("owner" = String, Path), RemoveRecords),
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn remove_records(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(owner): Path<String>,
    Query(RemoveRecords { kind }): Query<RemoveRecords>,
) -> Result<StatusCode, Problem> {
    let owner = owner.parse().map_err(|e| Problem::value("owner", e))?;
    let kind = kind.map(|kind| kind.to_ascii_uppercase());
    let change = ZoneChange::RemoveRecords { owner, kind };
    api.configuration
        .change(&by, Change::EditZone(change), None)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Show a zone's records as a master file (RFC 1035 §5).
#[utoipa::path(
    get, path = "/zones/{name}/file", params(("name" = String, Path)),
    responses((status = 200, body = ZoneFile), (status = 404, body = Problem)),
)]
async fn export_zone(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<ZoneFile>, Problem> {
    let zone = find_zone(&api, &name)?;
    let serial = api.snapshot().configuration().revision;
    let text = zone_file::write(&zone.name, serial, zone.settings.ttl, &zone.records);
    Ok(Json(ZoneFile { text }))
}

/// Have a zone's own records be those of a master file, all or none.
#[utoipa::path(
    put, path = "/zones/{name}/file", params(("name" = String, Path), ReplaceRecords), request_body = ZoneFile,
    responses((status = 200, body = Records), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)),
)]
async fn import_zone(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(name): Path<String>,
    Query(ReplaceRecords { dry_run }): Query<ReplaceRecords>,
    Body(file): Body<ZoneFile>,
) -> Result<Json<Records>, Problem> {
    let zone = find_zone(&api, &name)?;
    let records = zone_file::read(&file.text, &zone.name).map_err(|errors| {
        let invalid = errors.into_iter().map(|error| Invalid::new("text", error));
        Problem::from(invalid.collect::<Vec<_>>())
    })?;
    let name = zone.name;
    let change = ZoneChange::ReplaceRecords { name, records };
    let after = api.snapshot().configuration().zone_after(&change)?;
    if !dry_run {
        api.configuration
            .change(&by, Change::EditZone(change), None)
            .await?;
    }
    Ok(Json(Records {
        records: views(&after),
    }))
}
