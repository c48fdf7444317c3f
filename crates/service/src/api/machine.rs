use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use bentlane_checks::{MachineVerdict, ToReach};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::problem::Problem;

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(show_machine))
        .routes(routes!(list_names_to_reach))
}

/// Show whether programs on this machine reach what routes serve, as the user of the service. What
/// was seen holds for five seconds.
#[utoipa::path(
    get, path = "/machine",
    responses((status = 200, body = MachineVerdict), (status = 500, body = Problem)),
)]
async fn show_machine(State(api): State<Arc<Api>>) -> Result<Json<MachineVerdict>, Problem> {
    let verdict = api.checks.machine.verdict().await;
    verdict.map(Json).ok_or_else(|| {
        let code = StatusCode::INTERNAL_SERVER_ERROR;
        Problem::new(code, "cannot observe the machine: see the service's log")
    })
}

/// List the names that a client looks up to see whether its machine reaches what routes serve.
#[utoipa::path(get, path = "/machine/names", responses((status = 200, body = ToReach)))]
async fn list_names_to_reach(State(api): State<Arc<Api>>) -> Json<ToReach> {
    Json(api.checks.machine.names_to_reach())
}
