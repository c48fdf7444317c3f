use bentlane_api_types::{
    LinkAnswer, LinkNews, LinkState, SessionView, Sessions, SignInLink, SignInRequest, SignedOut,
};
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::extract::{Path, Request, State};
use axum::http::StatusCode;
use axum::http::header::USER_AGENT;
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use axum::{Extension, Json, Router};
use serde::{Deserialize, Serialize};
use tokio::time::timeout;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::{Caller, Connection};
use super::problem::{Body, Problem};
use crate::sign_in::{CODE_LIFE, CodeState, Exchange, SESSION_LIFE};
use crate::users::user_name;

/// How long a call waits for news of a link.
const NEWS: Duration = Duration::from_secs(20);
/// Characters of a browser's own description that are kept.
const LONGEST_BROWSER: usize = 200;

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(make_sign_in_link))
        .routes(routes!(follow_link))
        .routes(routes!(answer_link))
        .routes(routes!(list_sessions, end_sessions))
        .routes(routes!(end_session))
}

/// What a page calls before it is signed in.
pub(crate) fn entrance() -> Router<Arc<Api>> {
    Router::new().route("/sign-in", post(sign_in))
}

/// Make a link that signs one browser in to the console, once.
#[utoipa::path(
    post, path = "/sign-in-links", request_body = SignInRequest,
    responses((status = 201, body = SignInLink), (status = 403, body = Problem)),
)]
async fn make_sign_in_link(
    State(api): State<Arc<Api>>,
    Extension(caller): Extension<Caller>,
    Body(request): Body<SignInRequest>,
) -> Result<(StatusCode, Json<SignInLink>), Problem> {
    // A session that could make links would never have to end.
    let Some(uid) = caller.uid.filter(|_| caller.session.is_none()) else {
        let detail = "links to sign in are made by `bentlane console`";
        return Err(Problem::new(StatusCode::FORBIDDEN, detail));
    };
    let (id, code) = api.sign_in.make_code(uid, request.asks, Instant::now());
    let origin = match request.trusted {
        true => api.info.listening.site_origin(),
        false => format!("http://{}", api.info.listening.console_host()),
    };
    let link = SignInLink {
        id,
        url: format!("{origin}/#code={code}"),
        expires_in_s: CODE_LIFE.as_secs(),
    };
    Ok((StatusCode::CREATED, Json(link)))
}

/// Wait for news of a link, for 20 seconds at most.
#[utoipa::path(get, path = "/sign-in-links/{id}", responses((status = 200, body = LinkNews)))]
async fn follow_link(State(api): State<Arc<Api>>, Path(id): Path<u64>) -> Json<LinkNews> {
    let Some(mut news) = api.sign_in.watch(id) else {
        return Json(LinkNews {
            state: LinkState::Over,
            user: None,
        });
    };
    let waited = timeout(NEWS, news.wait_for(|state| *state != CodeState::Open)).await;
    let now = match waited {
        Ok(Ok(state)) => *state,
        // Nothing new, or the code made room for others.
        Ok(Err(_)) | Err(_) => CodeState::Open,
    };
    let (state, user) = match now {
        CodeState::Open => (LinkState::Open, None),
        CodeState::Asked(uid) => (LinkState::Asked, Some(user_name(uid))),
        CodeState::Answered(..) => (LinkState::Answered, None),
        CodeState::Used => (LinkState::Used, None),
    };
    Json(LinkNews { state, user })
}

/// Let the browser of another user in, or not.
#[utoipa::path(
    post, path = "/sign-in-links/{id}/answer", request_body = LinkAnswer,
    responses((status = 204), (status = 403, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)),
)]
async fn answer_link(
    State(api): State<Arc<Api>>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<u64>,
    Body(LinkAnswer { agreed }): Body<LinkAnswer>,
) -> Result<StatusCode, Problem> {
    if caller.session.is_some() {
        let detail = "whether a browser is let in is answered where `bentlane console` runs";
        return Err(Problem::new(StatusCode::FORBIDDEN, detail));
    }
    if api.sign_in.answer(id, agreed) {
        return Ok(StatusCode::NO_CONTENT);
    }
    let detail = "no browser waits for an answer: the link was used, or is too old";
    Err(Problem::new(StatusCode::CONFLICT, detail))
}

/// List the browsers that are signed in.
#[utoipa::path(get, path = "/sessions", responses((status = 200, body = Sessions)))]
async fn list_sessions(
    State(api): State<Arc<Api>>,
    Extension(caller): Extension<Caller>,
) -> Json<Sessions> {
    let sessions = api.sign_in.sessions(Instant::now()).into_iter();
    let view = |session: crate::sign_in::Session| SessionView {
        id: session.id,
        user: user_name(session.uid),
        browser: session.browser,
        since: session.since,
        used: session.used,
        own: caller.session == Some(session.id),
    };
    Json(Sessions {
        sessions: sessions.map(view).collect(),
    })
}

/// Sign every browser out.
#[utoipa::path(delete, path = "/sessions", responses((status = 200, body = SignedOut)))]
async fn end_sessions(State(api): State<Arc<Api>>) -> Json<SignedOut> {
    Json(SignedOut {
        sessions: api.sign_in.end(None),
    })
}

/// Sign a browser out.
#[utoipa::path(
    delete, path = "/sessions/{id}",
    responses((status = 204), (status = 404, body = Problem)),
)]
async fn end_session(
    State(api): State<Arc<Api>>,
    Path(id): Path<u64>,
) -> Result<StatusCode, Problem> {
    match api.sign_in.end(Some(id)) {
        0 => Err(Problem::new(
            StatusCode::NOT_FOUND,
            format!("no browser is signed in under the number {id}"),
        )),
        _ => Ok(StatusCode::NO_CONTENT),
    }
}

#[derive(Debug, Deserialize)]
struct CodeGiven {
    code: String,
}

#[derive(Debug, Serialize)]
struct SessionGiven {
    session: String,
    expires_in_s: u64,
}

/// Turns a link's code into a session. For the browser of another user this waits until the terminal
/// has been answered.
async fn sign_in(State(api): State<Arc<Api>>, request: Request) -> Result<Response, Problem> {
    let connection = request.extensions().get::<Connection>().cloned();
    let browser = request.headers().get(USER_AGENT);
    let browser: String = browser
        .and_then(|value| value.to_str().ok())
        .unwrap_or("a program that does not say what it is")
        .chars()
        .take(LONGEST_BROWSER)
        .collect();
    let body = axum::body::to_bytes(request.into_body(), 1024).await;
    let body =
        body.map_err(|_| Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "no code is so long"))?;
    let CodeGiven { code } = serde_json::from_slice(&body)
        .map_err(|error| Problem::new(StatusCode::BAD_REQUEST, error.to_string()))?;
    let uid = connection.as_ref().and_then(Connection::uid);
    let exchange = || api.sign_in.exchange(&code, uid, &browser, Instant::now());
    let outcome = match exchange() {
        Exchange::Asking(mut news) => {
            let answered = |state: &CodeState| matches!(state, CodeState::Answered(..));
            // The code is too old then, and says so.
            let _ = timeout(CODE_LIFE, news.wait_for(answered)).await;
            exchange()
        }
        outcome => outcome,
    };
    match outcome {
        Exchange::Session(session) => {
            let given = SessionGiven {
                session,
                expires_in_s: SESSION_LIFE.as_secs(),
            };
            Ok((StatusCode::CREATED, Json(given)).into_response())
        }
        Exchange::Foreign { asked_by } => {
            let detail = format!(
                "this link was made by {}, and this browser runs as {}: run `bentlane console` in \
                 a terminal, which then asks whether to let it in",
                user_name(Some(asked_by)),
                user_name(uid),
            );
            Err(Problem::new(StatusCode::FORBIDDEN, detail))
        }
        Exchange::Gone | Exchange::Asking(_) => {
            let detail = "this link was used already, or is too old: run `bentlane console` again";
            Err(Problem::new(StatusCode::GONE, detail))
        }
    }
}
