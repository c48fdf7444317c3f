use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bentlane_api_types::{
    BrokenRoute, DatabaseStatus, Listeners, Restarting, RunsAs, SOCKET, Status, TaskStateView,
    TaskView,
};
use bentlane_checks::Verdict;
use bentlane_supervisor::{TaskReport, TaskState};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::containers::engine_view;
use super::{Api, Problem};
use crate::disk;
use crate::listening::Listening;

fn task_view(task: TaskReport) -> TaskView {
    TaskView {
        name: task.name.to_string(),
        state: match task.state {
            TaskState::Running => TaskStateView::Running,
            TaskState::Restarting => TaskStateView::Restarting,
            TaskState::Failed => TaskStateView::Failed,
        },
        restarts: task.restarts,
        error: task.error,
    }
}

fn runs_as() -> RunsAs {
    let uid = nix::unistd::geteuid();
    let user = nix::unistd::User::from_uid(uid).ok().flatten();
    RunsAs {
        uid: uid.as_raw(),
        user: user.map(|user| user.name),
    }
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(show_status))
        .routes(routes!(restart))
}

/// Show what runs, where it listens and what is wrong.
#[utoipa::path(get, path = "/status", responses((status = 200, body = Status)))]
async fn show_status(State(api): State<Arc<Api>>) -> Json<Status> {
    api.checks.checker.results_read();
    let snapshot = api.snapshot();
    let configuration = snapshot.configuration();
    let verdicts: Vec<_> = configuration
        .routes
        .iter()
        .filter_map(|route| api.checks.checker.verdict(&route.address.to_string()))
        .collect();
    let count = |which: fn(&Verdict) -> bool| verdicts.iter().filter(|it| which(it)).count();
    let broken = verdicts
        .iter()
        .filter(|verdict| !verdict.passed)
        .map(|verdict| BrokenRoute {
            address: verdict.address.clone(),
            summary: verdict
                .findings
                .first()
                .map(|f| f.summary.clone())
                .unwrap_or_default(),
        });
    let listening = Listening::clone(&api.info.listening);
    Json(Status {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        pid: std::process::id(),
        started_at: api.info.started_at,
        data_dir: api.info.data_dir.root().display().to_string(),
        listeners: Listeners {
            dns: listening.dns,
            http: listening.http,
            https: listening.https,
            console: listening.console,
            socket: api.info.data_dir.path(SOCKET).display().to_string(),
        },
        runs_as: runs_as(),
        capacity: api.info.capacity.clone(),
        upstreams: api
            .resolver
            .forwarder
            .as_ref()
            .map(|forwarder| forwarder.upstreams().to_vec()),
        database: DatabaseStatus {
            place: api.storage.place(),
            reachable: api.storage.fault().is_none(),
            error: api.storage.fault(),
        },
        engines: api.engines.status().into_iter().map(engine_view).collect(),
        revision: configuration.revision,
        zones: configuration.zones.len(),
        routes: configuration.routes.len(),
        passing: count(|verdict| verdict.passed && !verdict.is_starting() && !verdict.is_stopped()),
        stopped: count(Verdict::is_stopped),
        starting: count(Verdict::is_starting),
        broken: broken.collect(),
        attention: disk::attention(&api.info.data_dir)
            .into_iter()
            .chain(api.system_files.attention())
            .collect(),
        tasks: api
            .info
            .supervisor
            .tasks()
            .into_iter()
            .map(task_view)
            .collect(),
    })
}

/// Start the service again in place.
///
/// It keeps its process, its listeners and its database server. Requests at work have 2 s to finish,
/// and new ones wait. It has started once the status has another `started_at`.
#[utoipa::path(post, path = "/restart", responses(
    (status = 200, body = Restarting),
    (status = 409, body = Problem, description = "the program or its settings file would not start"),
))]
async fn restart(State(api): State<Arc<Api>>) -> Result<Json<Restarting>, Problem> {
    let info = &api.info;
    if let Err(reason) = info.relaunch.check().await {
        let detail = format!("the service would not start again, and goes on: {reason}");
        return Err(Problem::new(StatusCode::CONFLICT, detail));
    }
    info.supervisor.restart();
    Ok(Json(Restarting {
        pid: std::process::id(),
        started_at: info.started_at,
    }))
}

/// Ends a task as if it had failed. Only a service that was started with `BENTLANE_TEST_HOOKS=1` has
/// this, on the Unix socket: tests see by it what follows.
pub(crate) async fn kill_task(State(api): State<Arc<Api>>, Path(name): Path<String>) -> StatusCode {
    match api.info.supervisor.kill(&name) {
        true => StatusCode::NO_CONTENT,
        false => StatusCode::NOT_FOUND,
    }
}
