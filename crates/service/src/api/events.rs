use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State as Shared;
use axum::http::StatusCode;
use axum::response::Sse;
use axum::response::sse::{Event as SseEvent, KeepAlive};
use futures_util::{Stream, StreamExt};
use serde_json::json;
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::wrappers::errors::BroadcastStreamRecvError;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Problem;
use crate::events::Event;
use crate::state::State;

/// How often a silent stream says that it is alive.
const ALIVE: Duration = Duration::from_secs(15);

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new().routes(routes!(follow_events))
}

/// Follow what happens, as server-sent events.
///
/// `configuration` tells a new revision, `verdict` what a check came to, `lagged` that events were
/// missed and everything is best read again.
#[utoipa::path(
    get, path = "/events",
    responses((status = 200, content_type = "text/event-stream"), (status = 429, body = Problem)),
)]
async fn follow_events(
    Shared(state): Shared<Arc<State>>,
) -> Result<Sse<impl Stream<Item = Result<SseEvent, Infallible>>>, Problem> {
    let Some(place) = state.events.take_place() else {
        let detail = "too many listeners follow events already: close a few";
        return Err(Problem::new(StatusCode::TOO_MANY_REQUESTS, detail));
    };
    state.board.looked();
    let end = state.shutdown.clone();
    let stream = BroadcastStream::new(state.events.listen())
        .filter_map(move |event| {
            // Kept for as long as the stream is.
            let _place = &place;
            let event = write(event).map(Ok);
            async move { event }
        })
        .take_until(async move { end.cancelled().await });
    Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(ALIVE)))
}

fn write(event: Result<Event, BroadcastStreamRecvError>) -> Option<SseEvent> {
    let (name, data) = match event {
        Ok(Event::Configuration { revision }) => ("configuration", json!({ "revision": revision })),
        Ok(Event::Verdict(verdict)) => ("verdict", json!(verdict)),
        Err(BroadcastStreamRecvError::Lagged(missed)) => ("lagged", json!({ "missed": missed })),
    };
    SseEvent::default().event(name).json_data(data).ok()
}
