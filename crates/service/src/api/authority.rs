use std::sync::Arc;

use axum::Json;
use axum::extract::State as Shared;
use bentlane_core::authority::Summary;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::state::State;

/// The local certificate authority.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthorityView {
    /// Subject, fingerprint and validity of the root.
    #[serde(flatten)]
    pub summary: Summary,
    /// The names for which certificates are issued, and everything below them.
    pub covers: Vec<String>,
    /// The root certificate: what a trust store takes.
    pub certificate_pem: String,
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new().routes(routes!(show_authority))
}

/// Show the root certificate. Its key stays where it is.
#[utoipa::path(get, path = "/authority", responses((status = 200, body = AuthorityView)))]
async fn show_authority(Shared(state): Shared<Arc<State>>) -> Json<AuthorityView> {
    let snapshot = state.snapshot.load();
    let zones = snapshot
        .configuration()
        .zones
        .iter()
        .map(|zone| zone.name.to_string());
    Json(AuthorityView {
        summary: state.authority.summary().clone(),
        covers: zones.chain(["localhost".to_owned()]).collect(),
        certificate_pem: state.authority.certificate_pem().to_owned(),
    })
}
