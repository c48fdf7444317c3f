use std::sync::Arc;
use std::time::Instant;

use axum::Json;
use axum::extract::State as Shared;
use axum::http::StatusCode;
use axum::http::header::{CACHE_CONTROL, LOCATION, SET_COOKIE};
use axum::response::{Html, IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::guard::COOKIE_NAME;
use super::problem::Query;
use crate::sign_in::LINK_LIFE;
use crate::state::State;

/// A link that signs one browser in, once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// The link.
    pub url: String,
    /// Seconds for which it can be used.
    pub expires_in_s: u64,
}

#[derive(Debug, Deserialize)]
pub(crate) struct SignIn {
    #[serde(default)]
    code: String,
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new().routes(routes!(make_sign_in_link))
}

/// Make a link that signs one browser in to the console, once.
#[utoipa::path(post, path = "/sign-in-links", responses((status = 201, body = SignInLink)))]
async fn make_sign_in_link(Shared(state): Shared<Arc<State>>) -> (StatusCode, Json<SignInLink>) {
    let code = state.sign_in.make_link(Instant::now());
    let place = state
        .listening
        .api
        .first()
        .map(ToString::to_string)
        .unwrap_or_default();
    let url = format!("http://{place}/sign-in?code={code}");
    (
        StatusCode::CREATED,
        Json(SignInLink {
            url,
            expires_in_s: LINK_LIFE.as_secs(),
        }),
    )
}

/// Turns a link's code into a session cookie and goes on to the console.
pub(crate) async fn sign_in(
    Shared(state): Shared<Arc<State>>,
    Query(SignIn { code }): Query<SignIn>,
) -> Response {
    let Some(session) = state.sign_in.use_link(&code, Instant::now()) else {
        let page = Html(include_str!("link_used.html"));
        return (StatusCode::GONE, page).into_response();
    };
    let cookie =
        format!("{COOKIE_NAME}={session}; Path=/; HttpOnly; SameSite=Strict; Max-Age=604800");
    let headers = [
        (SET_COOKIE, cookie),
        (LOCATION, "/".to_owned()),
        (CACHE_CONTROL, "no-store".to_owned()),
    ];
    (StatusCode::SEE_OTHER, headers).into_response()
}
