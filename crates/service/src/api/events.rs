use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Sse;
use axum::response::sse::{Event as SseEvent, KeepAlive};
use futures_util::{Stream, StreamExt};
use serde_json::json;
use tokio_stream::wrappers::BroadcastStream;
use tokio_stream::wrappers::errors::BroadcastStreamRecvError;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::Problem;
use crate::events::Event;

/// How often a silent stream says that it is alive.
const ALIVE: Duration = Duration::from_secs(15);

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new().routes(routes!(follow_events))
}

/// Follow what happens, as server-sent events.
///
/// `configuration` reports a new revision, `verdict` the result of a check, `app` how an app is,
/// `lagged` that events were
/// missed and everything is best read again.
#[utoipa::path(
    get, path = "/events",
    responses((status = 200, content_type = "text/event-stream"), (status = 429, body = Problem)),
)]
async fn follow_events(
    State(api): State<Arc<Api>>,
) -> Result<Sse<impl Stream<Item = Result<SseEvent, Infallible>>>, Problem> {
    let Some(permit) = api.events.permit() else {
        let detail = "too many listeners follow events already: close a few";
        return Err(Problem::new(StatusCode::TOO_MANY_REQUESTS, detail));
    };
    api.checks.checker.results_read();
    let end = api.info.supervisor.shutdown().clone();
    let stream = BroadcastStream::new(api.events.subscribe())
        .filter_map(move |event| {
            // Kept for as long as the stream is.
            let _permit = &permit;
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
        Ok(Event::App(status)) => ("app", json!(status)),
        Err(BroadcastStreamRecvError::Lagged(missed)) => ("lagged", json!({ "missed": missed })),
    };
    SseEvent::default().event(name).json_data(data).ok()
}
