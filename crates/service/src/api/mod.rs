//! The API under `/api/v1`: what the command line, programs and the console use.
//!
//! The command line and programs call over a Unix socket in the data folder; a browser calls from
//! the console's own pages once it signed in.
//!
//! Each file holds one noun: its types, its handlers, and their place in the router. The OpenAPI
//! document is made from the same router, so that it cannot name a route that is not there.

#![allow(
    unused_qualifications,
    reason = "the macro that describes operations qualifies types"
)]

mod apps;
pub(crate) mod authority;
mod backup;
mod based_on;
mod certificates;
mod checks;
mod containers;
mod doh;
mod events;
mod guard;
mod journal;
mod machine;
mod names;
pub(crate) mod ports;
mod problem;
mod projects;
mod queries;
mod records;
mod repeats;
mod routes;
pub(crate) mod serve;
mod session;
mod status;
mod traffic;
mod zones;

use std::sync::Arc;

use axum::http::{StatusCode, Uri};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router, middleware};
use bentlane_api_types::Capacity;
use bentlane_apps::AppRunner;
use bentlane_containers::Engines;
use bentlane_model::Snapshot;
use bentlane_resolver::AnswerSource;
use bentlane_store::DataDir;
use bentlane_supervisor::Supervisor;
use time::OffsetDateTime;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;

pub(crate) use guard::uid_of;
pub(crate) use problem::Problem;

use crate::background_checks::Checks;
use crate::bridges::Bridges;
use crate::configuration::ActiveConfiguration;
use crate::console;
use crate::events::Events;
use crate::exports::Exports;
use crate::listening::Listening;
use crate::pki::Pki;
use crate::query_log::QueryLog;
use crate::relaunch::Relaunch;
use crate::sign_in::SignIn;
use crate::storage::Storage;
use crate::system_files::SystemFiles;
use crate::traffic::TrafficLog;

/// What calls of the API can use.
#[derive(Debug)]
pub(crate) struct Api {
    pub(crate) configuration: Arc<ActiveConfiguration>,
    pub(crate) storage: Arc<Storage>,
    pub(crate) pki: Arc<Pki>,
    pub(crate) exports: Arc<Exports>,
    pub(crate) engines: Engines,
    pub(crate) bridges: Arc<Bridges>,
    pub(crate) apps: AppRunner,
    pub(crate) checks: Arc<Checks>,
    pub(crate) traffic: Arc<TrafficLog>,
    pub(crate) queries: Arc<QueryLog>,
    /// What answers DNS questions.
    pub(crate) resolver: AnswerSource,
    pub(crate) system_files: Arc<SystemFiles>,
    pub(crate) events: Events,
    pub(crate) sign_in: SignIn,
    pub(crate) port_protocols: ports::PortProtocols,
    pub(crate) info: ServiceInfo,
}

/// What stays the same while the service runs.
#[derive(Debug)]
pub(crate) struct ServiceInfo {
    pub(crate) data_dir: DataDir,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) listening: Arc<Listening>,
    pub(crate) capacity: Capacity,
    pub(crate) relaunch: Relaunch,
    pub(crate) supervisor: Supervisor,
}

impl Api {
    /// What is in force.
    fn snapshot(&self) -> Arc<Snapshot> {
        self.configuration.snapshot()
    }
}

#[derive(OpenApi)]
#[openapi(info(
    title = "Bent Lane",
    description = "Names with HTTPS for what runs on this machine, proved hop by hop. Call it over \
                   the Unix socket `api.sock` in the data folder, as the folder's owner or root: \
                   `curl --unix-socket ~/.local/share/bentlane/api.sock http://localhost/api/v1/status`. \
                   A change with an `Idempotency-Key` is made once, however often the call is repeated \
                   within a day.",
    license(name = "MIT")
))]
struct Document;

/// The document, and the router that it describes.
fn described() -> (Router<Arc<Api>>, utoipa::openapi::OpenApi) {
    OpenApiRouter::with_openapi(Document::openapi())
        .nest("/api/v1", all())
        .split_for_parts()
}

fn all() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .merge(status::router())
        .merge(zones::router())
        .merge(queries::router())
        .merge(names::router())
        .merge(records::router())
        .merge(routes::router())
        .merge(apps::router())
        .merge(containers::router())
        .merge(projects::router())
        .merge(checks::router())
        .merge(machine::router())
        .merge(ports::router())
        .merge(traffic::router())
        .merge(authority::router())
        .merge(certificates::router())
        .merge(journal::router())
        .merge(backup::router())
        .merge(session::router())
        .merge(events::router())
}

/// The variable with which tests ask for what only they need.
const TEST_HOOKS: &str = "BENTLANE_TEST_HOOKS";

/// The API with its description, for callers that may use it.
fn router(api: &Arc<Api>) -> Router<Arc<Api>> {
    let (operations, document) = described();
    let document = Arc::new(document);
    let serve_document = move || {
        let document = Arc::clone(&document);
        async move { Json((*document).clone()) }
    };
    let repeats = middleware::from_fn_with_state(Arc::clone(api), repeats::answer_repeats);
    let signed_in = middleware::from_fn_with_state(Arc::clone(api), guard::require_sign_in);
    operations
        .route("/api/v1/openapi.json", get(serve_document))
        .route("/api/{*path}", axum::routing::any(no_such_path))
        .layer(repeats)
        .layer(signed_in)
}

/// What the Unix socket serves: the API alone.
pub(crate) fn socket_router(api: Arc<Api>) -> Router {
    let mut router = router(&api);
    if std::env::var_os(TEST_HOOKS).is_some_and(|set| set == "1") {
        router = router.route("/api/v1/test/tasks/{name}/kill", post(status::kill_task));
    }
    router.fallback(no_such_path).with_state(api)
}

/// What browsers are served: the console with its way in, and the API behind that.
pub(crate) fn console_router(api: Arc<Api>) -> Router {
    let own_origin = middleware::from_fn_with_state(Arc::clone(&api), guard::require_own_origin);
    router(&api)
        .merge(session::entrance())
        .merge(doh::router())
        .fallback(console::serve)
        .layer(own_origin)
        .layer(middleware::from_fn(guard::harden))
        .with_state(api)
}

async fn no_such_path(uri: Uri) -> Response {
    Problem::new(
        StatusCode::NOT_FOUND,
        format!("the API has no path {}", uri.path()),
    )
    .into_response()
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn every_operation_is_described() {
        let (_, document) = described();
        let json = serde_json::to_value(&document).unwrap();
        assert_eq!(json["openapi"], "3.1.0");
        let mut ids = BTreeSet::new();
        for (path, item) in json["paths"].as_object().unwrap() {
            assert!(path.starts_with("/api/v1/"), "{path}");
            for (method, operation) in item.as_object().unwrap() {
                let id = operation["operationId"].as_str().unwrap().to_owned();
                assert!(ids.insert(id), "{method} {path} has a unique id");
                let summary = operation["summary"].as_str().unwrap_or_default();
                assert!(!summary.is_empty(), "{method} {path} says what it does");
            }
        }
        assert!(ids.len() > 10, "{ids:?}");
    }

    /// `BENTLANE_WRITE=1 cargo test -p bentlane-service document` writes the file; then
    /// `npm run types` in `console` makes its types.
    #[test]
    fn the_openapi_document_in_the_docs_is_up_to_date() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
        let document = described().1.to_pretty_json().unwrap() + "\n";
        if std::env::var_os("BENTLANE_WRITE").is_some() {
            std::fs::write(path, &document).unwrap();
        }
        let there = std::fs::read_to_string(path).unwrap_or_default();
        assert!(there == document, "docs/openapi.json is out of date");
    }
}
