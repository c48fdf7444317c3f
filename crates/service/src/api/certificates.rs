use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State as Shared};
use axum::http::StatusCode;
use bentlane_core::Name;
use bentlane_core::authority::{CertificateInfo, OrderError, USUAL_DAYS, certificate_pem};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::problem::{Body, Problem};
use crate::state::{OWN_NAME, State};

/// A request for a certificate (PKCS#10). Its key stays with who made it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignRequest {
    /// The request, PEM; the names are those of its subjectAltName.
    pub request: String,
    /// How long the certificate is valid, in days; 90 when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub days: Option<u16>,
}

/// A certificate that was signed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Signed {
    /// The certificate, PEM.
    pub certificate: String,
    /// What servers show behind it, PEM: the issuing certificate, and what leads on from it.
    pub chain: String,
    /// What is in it.
    #[serde(flatten)]
    pub info: CertificateInfo,
}

/// What is shown under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CertificateView {
    /// The name that a client asks for.
    pub name: String,
    /// Why this one is shown.
    pub reason: String,
    /// What is in it; absent for a name that nobody has asked for since the start, whose
    /// certificate is made when somebody does.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub info: Option<CertificateInfo>,
    /// When the next one is made, without a connection being dropped.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub renewed_from: Option<OffsetDateTime>,
    /// The certificate and what is shown behind it, PEM; only when one is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chain: Option<String>,
}

/// What is shown under each name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Certificates {
    /// By name.
    pub certificates: Vec<CertificateView>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new()
        .routes(routes!(list_certificates))
        .routes(routes!(sign_request))
        .routes(routes!(show_certificate))
}

fn reason(state: &State, name: &str) -> String {
    let snapshot = state.snapshot.load();
    match snapshot.zone_of(name) {
        Some(zone) => format!("issued here for the zone {}", zone.name),
        None if name == OWN_NAME => "issued here for our own pages".to_owned(),
        None => "issued here for this machine".to_owned(),
    }
}

/// List what is shown under the names of routes, and under others that somebody has asked for.
#[utoipa::path(get, path = "/certificates", responses((status = 200, body = Certificates)))]
async fn list_certificates(Shared(state): Shared<Arc<State>>) -> Json<Certificates> {
    let snapshot = state.snapshot.load();
    let routes = snapshot.configuration().routes.iter();
    let names = routes.filter_map(|route| snapshot.sample_name(route));
    let mut all: BTreeMap<String, _> = names.map(|name| (name.to_string(), None)).collect();
    for (name, leaf, renewed_from) in state.proxy.certificates().made() {
        let info = leaf.first().and_then(CertificateInfo::read);
        all.insert(name, Some((info, renewed_from)));
    }
    let view = |(name, made): (String, Option<(Option<CertificateInfo>, OffsetDateTime)>)| {
        let (info, renewed_from) = made.map_or((None, None), |(info, at)| (info, Some(at)));
        CertificateView {
            reason: reason(&state, &name),
            name,
            info,
            renewed_from,
            chain: None,
        }
    };
    Json(Certificates {
        certificates: all.into_iter().map(view).collect(),
    })
}

/// Show what is shown under one name; it is made if it is not there yet.
#[utoipa::path(
    get, path = "/certificates/{name}", params(("name" = String, Path)),
    responses((status = 200, body = CertificateView), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn show_certificate(
    Shared(state): Shared<Arc<State>>,
    Path(name): Path<String>,
) -> Result<Json<CertificateView>, Problem> {
    let name: Name = name.parse().map_err(|e| Problem::value("name", e))?;
    let found = state.proxy.certificates().shown(name.as_str());
    let (chain, renewed_from) = found.ok_or_else(|| {
        let detail = format!(
            "there is no certificate for {name}: no zone that the authority can vouch for covers \
             it; see `bentlane authority show`"
        );
        Problem::new(StatusCode::NOT_FOUND, detail)
    })?;
    Ok(Json(CertificateView {
        reason: reason(&state, name.as_str()),
        name: name.to_string(),
        info: chain.first().and_then(CertificateInfo::read),
        renewed_from: Some(renewed_from),
        chain: Some(chain.iter().map(|part| certificate_pem(part)).collect()),
    }))
}

/// Sign a request for a certificate, for a server that wants files.
#[utoipa::path(
    post, path = "/certificates", request_body = SignRequest,
    responses((status = 201, body = Signed), (status = 422, body = Problem)),
)]
async fn sign_request(
    Shared(state): Shared<Arc<State>>,
    Body(SignRequest { request, days }): Body<SignRequest>,
) -> Result<(StatusCode, Json<Signed>), Problem> {
    let issuer = state.proxy.certificates().issuer();
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

fn field(error: &OrderError) -> &'static str {
    match error {
        OrderError::Days { .. } => "days",
        _ => "request",
    }
}
