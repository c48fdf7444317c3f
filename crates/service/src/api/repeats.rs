//! Changes that are asked for again, since their outcome was not known: each is made once.

use std::sync::Arc;

use axum::extract::{Request, State};
use axum::http::{HeaderName, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum::{Json, http::HeaderValue};
use bentlane_api_types::{IDEMPOTENCY_HEADER, MadeBefore};

use super::{Api, Problem};

pub(crate) const IDEMPOTENCY_KEY: HeaderName = HeaderName::from_static(IDEMPOTENCY_HEADER);
/// Characters of the longest key.
const LONGEST_KEY: usize = 255;

/// Answers a call that is refused since an earlier one with the same `Idempotency-Key` made the change:
/// the zone exists already, or the route is gone.
pub(crate) async fn answer_repeats(
    State(api): State<Arc<Api>>,
    request: Request,
    next: Next,
) -> Response {
    let key = match request.headers().get(IDEMPOTENCY_KEY).map(readable) {
        Some(None) => {
            let detail =
                format!("an `Idempotency-Key` has 1 to {LONGEST_KEY} visible ASCII characters");
            return Problem::new(StatusCode::BAD_REQUEST, detail).into_response();
        }
        key => key.flatten().filter(|_| !request.method().is_safe()),
    };
    let response = next.run(request).await;
    let Some(key) = key.filter(|_| response.status().is_client_error()) else {
        return response;
    };
    match api
        .storage
        .call(async |store| store.revision_of(&key).await)
        .await
    {
        Ok(Some(made_before)) => Json(MadeBefore { made_before }).into_response(),
        // The refusal stands.
        Ok(None) | Err(_) => response,
    }
}

fn readable(key: &HeaderValue) -> Option<String> {
    let text = key.to_str().ok()?;
    let fits =
        (1..=LONGEST_KEY).contains(&text.len()) && text.bytes().all(|it| it.is_ascii_graphic());
    fits.then(|| text.to_owned())
}
