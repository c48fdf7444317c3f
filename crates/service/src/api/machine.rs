use std::sync::Arc;

use axum::Json;
use axum::extract::State as Shared;
use axum::http::StatusCode;
use bentlane_checks::{MachineVerdict, ToReach};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::problem::Problem;
use crate::machine::{reached, to_reach};
use crate::state::State;

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
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
async fn show_machine(Shared(state): Shared<Arc<State>>) -> Result<Json<MachineVerdict>, Problem> {
    let verdict = reached(&state).await;
    verdict.map(Json).ok_or_else(|| {
        let code = StatusCode::INTERNAL_SERVER_ERROR;
        Problem::new(
            code,
            "the machine cannot be looked at: see the service's log",
        )
    })
}

/// List the names that a client looks up to see whether its machine reaches what routes serve.
#[utoipa::path(get, path = "/machine/names", responses((status = 200, body = ToReach)))]
async fn list_names_to_reach(Shared(state): Shared<Arc<State>>) -> Json<ToReach> {
    Json(to_reach(&state))
}
