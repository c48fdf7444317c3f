//! DNS over HTTPS (RFC 8484), for browsers that keep their lookups to themselves.

use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, RawQuery, State};
use axum::http::header::{CACHE_CONTROL, CONTENT_TYPE};
use axum::http::{HeaderMap, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Extension, Router};
use bentlane_dns::least_ttl;
use data_encoding::BASE64URL_NOPAD;

use super::Api;
use super::Problem;
use super::guard::Connection;

/// The media type of a DNS message (RFC 8484 §6).
const MESSAGE: &str = "application/dns-message";
/// Bytes of the longest question that is taken.
const LONGEST: usize = 4096;

pub(crate) fn router() -> Router<Arc<Api>> {
    let limit = DefaultBodyLimit::max(LONGEST);
    Router::new().route("/dns-query", get(from_query).post(from_body).layer(limit))
}

/// `GET /dns-query?dns=…`, the question in base64url without padding (RFC 8484 §4.1).
async fn from_query(
    State(api): State<Arc<Api>>,
    Extension(connection): Extension<Connection>,
    RawQuery(query): RawQuery,
) -> Response {
    let query = query.unwrap_or_default();
    let given = query.split('&').find_map(|pair| pair.strip_prefix("dns="));
    let Some(given) = given.filter(|given| given.len() <= LONGEST * 4 / 3) else {
        return refuse("the question comes as `?dns=…`");
    };
    match BASE64URL_NOPAD.decode(given.as_bytes()) {
        Ok(question) => answer(&api, &connection, &question).await,
        Err(_) => refuse("`dns` is not base64url without padding (RFC 4648 section 5)"),
    }
}

/// `POST /dns-query` with the question as its body.
async fn from_body(
    State(api): State<Arc<Api>>,
    Extension(connection): Extension<Connection>,
    headers: HeaderMap,
    question: Bytes,
) -> Response {
    if headers.get(CONTENT_TYPE).map(HeaderValue::as_bytes) != Some(MESSAGE.as_bytes()) {
        let detail = format!("the body's type is not {MESSAGE}");
        return Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, detail).into_response();
    }
    answer(&api, &connection, &question).await
}

/// Answers those of this machine alone; pages of other origins were refused before.
async fn answer(api: &Api, connection: &Connection, question: &[u8]) -> Response {
    let client = match connection {
        Connection::Site(pair) if pair.theirs.ip().to_canonical().is_loopback() => pair.theirs,
        _ => {
            let detail = "DNS over HTTPS is served to this machine alone, under the console's name";
            return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
        }
    };
    let mut answer = Vec::new();
    api.resolver.ask(question, client, &mut answer).await;
    if answer.is_empty() {
        return refuse("this is no DNS question");
    }
    // An answer may be kept as long as its shortest record (RFC 8484 §5.1).
    let age = format!("max-age={}", least_ttl(&answer).unwrap_or(0));
    let headers = [(CONTENT_TYPE, MESSAGE.to_owned()), (CACHE_CONTROL, age)];
    (headers, answer).into_response()
}

fn refuse(detail: &str) -> Response {
    Problem::new(StatusCode::BAD_REQUEST, detail).into_response()
}
