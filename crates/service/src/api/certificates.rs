use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bentlane_api_types::{
    CertificateView, Certificates, ExportRequest, ExportedView, ImportRequest, ImportedView,
    SignRequest, Signed,
};
use bentlane_ca::{
    CertificateInfo, CertificatePart, OrderError, PairError, PartKind, USUAL_DAYS, chain_pem,
};
use bentlane_model::{Name, chain};
use bentlane_proxy::Shown;
use bentlane_system::read_file;
use serde::Deserialize;
use time::OffsetDateTime;
use tracing::error;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::Trusted;
use super::problem::{Body, Problem, Query, run_blocking, whole_path};
use crate::exports::{Export, ExportError, InContainer};
use crate::listening::OWN_NAME;
use crate::pki::ImportError;

/// Bytes of a file with a certificate.
const LARGEST_FILE: u64 = 1024 * 1024;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExportedAt {
    /// The folder, by its whole path.
    #[param(value_type = String)]
    folder: PathBuf,
    /// The container that it is in.
    #[serde(default)]
    container: Option<String>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_certificates))
        .routes(routes!(sign_request))
        .routes(routes!(import_pair))
        .routes(routes!(remove_pair))
        .routes(routes!(export_pair, stop_export))
        .routes(routes!(show_certificate))
}

fn reason(api: &Api, name: &str, shown: Option<&Shown>) -> String {
    if shown.is_some_and(|shown| shown.renew_at.is_none()) {
        return "imported".to_owned();
    }
    let snapshot = api.snapshot();
    match snapshot.zone_of(name) {
        Some(zone) => format!("issued here for the zone {}", zone.name),
        None if name == OWN_NAME => "issued here for our own pages".to_owned(),
        None => "issued here for this machine".to_owned(),
    }
}

/// List the certificates of the routes' names, and of other names that clients have requested.
#[utoipa::path(get, path = "/certificates", responses((status = 200, body = Certificates)))]
async fn list_certificates(State(api): State<Arc<Api>>) -> Json<Certificates> {
    let snapshot = api.snapshot();
    let routes = snapshot.configuration().routes.iter();
    let names = routes.filter_map(|route| snapshot.sample_name(route));
    let certificates = &api.pki.served;
    let mut all: BTreeMap<String, Option<Shown>> =
        names.map(|name| (name.to_string(), None)).collect();
    for (name, shown) in certificates.made() {
        all.insert(name, Some(shown));
    }
    for (name, shown) in &mut all {
        if let Some(imported) = certificates.imported(name) {
            *shown = Some(imported);
        }
    }
    let now = OffsetDateTime::now_utc();
    let view = |(name, shown): (String, Option<Shown>)| {
        let info = shown
            .as_ref()
            .and_then(|shown| CertificateInfo::read(shown.chain.first()?));
        CertificateView {
            reason: reason(&api, &name, shown.as_ref()),
            name,
            ends_soon: ends_soon(info.as_ref(), shown.as_ref(), now),
            info,
            renewed_from: shown.and_then(|shown| shown.renew_at),
            chain: None,
        }
    };
    Json(Certificates {
        certificates: all.into_iter().map(view).collect(),
        exported: exported(&api),
    })
}

fn exported(api: &Api) -> Vec<ExportedView> {
    let all = api.exports.all().into_iter();
    all.map(|(folder, export)| exported_view(folder, export))
        .collect()
}

fn exported_view(folder: PathBuf, export: Export) -> ExportedView {
    let files = export.files(&folder).unwrap_or_default();
    let info = files.iter().find_map(|(kind, path)| {
        let kinds = [PartKind::Certificate, PartKind::Chain, PartKind::Both];
        let text = kinds
            .contains(kind)
            .then(|| read_file(path, LARGEST_FILE))?;
        CertificateInfo::from_pem(&String::from_utf8(text.ok()?).ok()?)
    });
    ExportedView {
        names: export.names,
        files: files.into_iter().map(|(_, path)| path).collect(),
        folder,
        container: export
            .into
            .map(|into| format!("{}:{}", into.container, into.folder)),
        then: export.then,
        renewed_from: info.as_ref().map(CertificateInfo::renewed_from),
        not_after: info.map(|info| info.not_after),
        trouble: export.trouble,
    }
}

/// Write a key and a certificate to a folder, and keep them fresh there from now on. The key is made
/// by the service and goes to its file alone.
#[utoipa::path(
    post, path = "/certificates/exported", request_body = ExportRequest,
    responses(
        (status = 201, body = ExportedView), (status = 403, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn export_pair(
    State(api): State<Arc<Api>>,
    // It writes a key, and may run a command.
    _: Trusted,
    Body(request): Body<ExportRequest>,
) -> Result<(StatusCode, Json<ExportedView>), Problem> {
    let ExportRequest {
        names,
        folder,
        parts,
        container,
        then,
    } = request;
    whole_path("folder", &folder)?;
    let into = container.map(|container| InContainer {
        folder: folder.display().to_string(),
        container,
        has_them: None,
    });
    let folder = match &into {
        Some(into) => api.exports.folder_for(into)?,
        None => folder,
    };
    if names.is_empty() {
        return Err(Problem::value("names", "a name is wanted"));
    }
    let usual = parts.is_empty().then(CertificatePart::usual);
    let export = Export {
        names,
        parts: usual.unwrap_or(parts),
        then,
        into,
        of_label: false,
        trouble: None,
    };
    let exports = Arc::clone(&api.exports);
    let (at, what) = (folder.clone(), export.clone());
    let work = move || exports.add(&at, what);
    run_blocking("nothing was exported", work).await??;
    let trouble = api.exports.deliver(&folder, &export).await;
    api.exports.set_trouble(&folder, trouble.clone());
    let view = exported_view(folder, Export { trouble, ..export });
    Ok((StatusCode::CREATED, Json(view)))
}

/// No longer keep a folder fresh. Its files stay.
#[utoipa::path(
    delete, path = "/certificates/exported", params(ExportedAt),
    responses((status = 204), (status = 400, body = Problem), (status = 404, body = Problem)),
)]
async fn stop_export(
    State(api): State<Arc<Api>>,
    Query(ExportedAt { folder, container }): Query<ExportedAt>,
) -> Result<StatusCode, Problem> {
    let folder = match container {
        Some(container) => api.exports.folder_for(&InContainer {
            container,
            folder: folder.display().to_string(),
            has_them: None,
        })?,
        None => folder,
    };
    if api.exports.remove(&folder)? {
        return Ok(StatusCode::NO_CONTENT);
    }
    let detail = format!("no certificate is kept fresh in {}", folder.display());
    Err(Problem::new(StatusCode::NOT_FOUND, detail))
}

impl From<ExportError> for Problem {
    fn from(failure: ExportError) -> Self {
        match &failure {
            ExportError::Order(error) => Self::value(field(error), error),
            ExportError::SameFile(_) => Self::value("parts", &failure),
            ExportError::File(_) => Self::value("folder", chain(&failure)),
            ExportError::DataDir(_) => {
                error!(cause = chain(&failure), "an export was not kept");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, chain(&failure))
            }
        }
    }
}

/// Show the certificate of one name; it is made if it does not exist yet.
#[utoipa::path(
    get, path = "/certificates/{name}", params(("name" = String, Path)),
    responses((status = 200, body = CertificateView), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn show_certificate(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<Json<CertificateView>, Problem> {
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    let found = api.pki.served.shown(name.as_str());
    let shown = found.ok_or_else(|| {
        let detail = format!(
            "there is no certificate for {name}: no zone that the authority can vouch for covers \
             it; see `bentlane authority show`"
        );
        Problem::new(StatusCode::NOT_FOUND, detail)
    })?;
    let info = shown.chain.first().and_then(CertificateInfo::read);
    Ok(Json(CertificateView {
        reason: reason(&api, name.as_str(), Some(&shown)),
        name: name.to_string(),
        ends_soon: ends_soon(info.as_ref(), Some(&shown), OffsetDateTime::now_utc()),
        info,
        renewed_from: shown.renew_at,
        chain: Some(chain_pem(&shown.chain)),
    }))
}

/// Sign a request for a certificate, for a server that wants files.
#[utoipa::path(
    post, path = "/certificates", request_body = SignRequest,
    responses((status = 201, body = Signed), (status = 422, body = Problem)),
)]
async fn sign_request(
    State(api): State<Arc<Api>>,
    Body(SignRequest { request, days }): Body<SignRequest>,
) -> Result<(StatusCode, Json<Signed>), Problem> {
    let issuer = &api.pki.served.issuer();
    let now = OffsetDateTime::now_utc();
    let signed = issuer.sign(&request, days.unwrap_or(USUAL_DAYS), now);
    let mut parts = signed.map_err(|error| Problem::value(field(&error), error))?;
    let chain = parts.split_off(1.min(parts.len())).concat();
    let certificate = parts.concat();
    let info = CertificateInfo::from_pem(&certificate).ok_or_else(|| {
        let detail = "what was signed cannot be read";
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, detail)
    })?;
    let signed = Signed {
        certificate,
        chain,
        info,
    };
    Ok((StatusCode::CREATED, Json(signed)))
}

/// Take a certificate and its key from elsewhere, and show it under its names from now on. The files
/// are read by the service, and read again when they change.
#[utoipa::path(
    post, path = "/certificates/imported", request_body = ImportRequest,
    responses((status = 201, body = ImportedView), (status = 422, body = Problem)),
)]
async fn import_pair(
    State(api): State<Arc<Api>>,
    Body(ImportRequest { certificate, key }): Body<ImportRequest>,
) -> Result<(StatusCode, Json<ImportedView>), Problem> {
    whole_path("certificate", &certificate)?;
    whole_path("key", &key)?;
    let _changing = api.pki.lock().await;
    let pki = Arc::clone(&api.pki);
    let work = move || pki.imports.import(&pki, &certificate, &key);
    let imported = run_blocking("nothing was imported", work).await??;
    let snapshot = api.snapshot();
    let routes = snapshot.configuration().routes.iter();
    let covered = routes.filter(|route| {
        let sample = snapshot.sample_name(route);
        sample.is_some_and(|name| imported.pair.covers(&name, false))
    });
    let view = ImportedView {
        routes: covered.map(|route| route.address.to_string()).collect(),
        leads_to: imported.pair.leads_to(),
        ends_soon: imported.pair.ends_soon(OffsetDateTime::now_utc()),
        name: imported.name(),
        info: imported.pair.info,
    };
    Ok((StatusCode::CREATED, Json(view)))
}

/// No longer show an imported certificate.
#[utoipa::path(
    delete, path = "/certificates/imported/{name}", params(("name" = String, Path, description = "the first name in it")),
    responses((status = 204), (status = 404, body = Problem)),
)]
async fn remove_pair(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    let _changing = api.pki.lock().await;
    if api.pki.imports.remove(&api.pki, &name)? {
        return Ok(StatusCode::NO_CONTENT);
    }
    let all = api.pki.imports.all();
    let known: Vec<&str> = all.keys().map(String::as_str).collect();
    let detail = format!(
        "no imported certificate has {name} as its first name; there are: {}",
        if known.is_empty() {
            "none".to_owned()
        } else {
            known.join(", ")
        }
    );
    Err(Problem::new(StatusCode::NOT_FOUND, detail))
}

/// Whether a person should see to it: what is made here is renewed by itself.
fn ends_soon(info: Option<&CertificateInfo>, shown: Option<&Shown>, now: OffsetDateTime) -> bool {
    let imported = shown.is_some_and(|shown| shown.renew_at.is_none());
    imported && info.is_some_and(|info| info.ends_soon(now))
}

impl From<ImportError> for Problem {
    fn from(failure: ImportError) -> Self {
        let field = match &failure {
            ImportError::File(_) => "files",
            ImportError::Pair(PairError::NoKey | PairError::KeyMismatch)
            | ImportError::Engine(_) => "key",
            ImportError::Pair(_) => "certificate",
            ImportError::DataDir(_) => {
                error!(cause = chain(&failure), "a certificate was not kept");
                return Self::new(StatusCode::INTERNAL_SERVER_ERROR, chain(&failure));
            }
        };
        Self::value(field, chain(&failure))
    }
}

fn field(error: &OrderError) -> &'static str {
    match error {
        OrderError::Days { .. } => "days",
        OrderError::NoName { .. } => "names",
        _ => "request",
    }
}
