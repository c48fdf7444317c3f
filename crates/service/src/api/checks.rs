use std::sync::Arc;

use axum::Json;
use axum::extract::State as Shared;
use bentlane_core::Address;
use bentlane_core::check::Verdict;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::problem::{Body, Problem};
use super::routes::find;
use crate::board::Occasion;
use crate::state::State;

/// Which routes to check.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckRequest {
    /// The routes' addresses; all routes when it is empty.
    #[serde(default)]
    pub addresses: Vec<String>,
}

/// What checks came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Verdicts {
    /// A verdict for each route, in the order asked for.
    pub verdicts: Vec<Verdict>,
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new().routes(routes!(check_routes))
}

/// Check routes now, hop by hop. Returns when all are checked: at most some 14 s for each 64 routes.
#[utoipa::path(
    post, path = "/checks", request_body = CheckRequest,
    responses((status = 200, body = Verdicts), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn check_routes(
    Shared(state): Shared<Arc<State>>,
    Body(request): Body<CheckRequest>,
) -> Result<Json<Verdicts>, Problem> {
    let routes = if request.addresses.is_empty() {
        state.snapshot.load().configuration().routes.clone()
    } else {
        let find = |text: &String| {
            let address: Address = text.parse().map_err(|e| Problem::value("addresses", e))?;
            find(&state, &address)
        };
        request
            .addresses
            .iter()
            .map(find)
            .collect::<Result<_, _>>()?
    };
    Ok(Json(Verdicts {
        verdicts: state.board.check(routes, Occasion::Asked).await,
    }))
}
