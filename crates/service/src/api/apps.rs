use std::collections::BTreeMap;
use std::ffi::OsString;
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{
    AppByHand, AppEnvironment, AppInput, AppList, AppOutput, AppRoute, AppView, ByHandInput,
    OutputLineView, RouteInput, VariableView,
};
use bentlane_apps::{AppRunner, Environment, OutputLine, Unknown, is_secret, patterns};
use bentlane_checks::{AppState, AppStatus};
use bentlane_model::{
    App, AppEdit, AppName, AppSettings, Change, Invalid, Rejection, Route, StartWhen,
};
use serde::Deserialize;
use serde_json::{Map, Value};
use time::OffsetDateTime;
use tokio::time::timeout;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::based_on::{BasedOn, RevisionTag};
use super::guard::{Caller, Trusted};
use super::ports::PortNotes;
use super::problem::{Body, Problem, Query};
use super::routes::read as read_route;
use crate::apps::settled;
use crate::checker::route_url;

/// Lines of output in one answer.
const MOST_LINES: usize = 20_000;
/// How long a call waits for more output.
const LONGEST_WAIT: Duration = Duration::from_secs(20);

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AddApp {
    /// Only say whether the app could be added.
    #[serde(default)]
    dry_run: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct RemoveApp {
    /// Whether the routes that lead to it go with it. Without this an app that has routes stays.
    #[serde(default)]
    with_routes: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wait {
    /// Whether to answer only once it is ready or stopped, or cannot become so.
    #[serde(default)]
    wait: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ReadOutput {
    /// Only lines behind the one with this number.
    #[serde(default)]
    after: u64,
    /// How many of the last lines at most; 20,000 by default and at most.
    #[serde(default)]
    limit: Option<usize>,
    /// Whether to wait up to 20 s until there is such a line, or the app is in another state.
    #[serde(default)]
    wait: bool,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_apps, add_app))
        .routes(routes!(show_app, edit_app, remove_app))
        .routes(routes!(start_app))
        .routes(routes!(stop_app))
        .routes(routes!(restart_app))
        .routes(routes!(read_app_output))
        .routes(routes!(show_app_environment))
        .routes(routes!(refresh_app_environment))
        .routes(routes!(prepare_app_by_hand, take_app_by_hand))
}

impl From<Unknown> for Problem {
    fn from(Unknown(name): Unknown) -> Self {
        Rejection::missing_app(&name).into()
    }
}

fn name(text: &str) -> Result<AppName, Problem> {
    text.parse().map_err(|e| Problem::value("name", e))
}

/// The name of an app in a path; what cannot be one is that of no app.
fn named(text: &str) -> Result<AppName, Problem> {
    text.parse().map_err(|_: Invalid| {
        let missing = Rejection::Missing {
            what: format!("app `{text}`"),
            list: "app list",
        };
        missing.into()
    })
}

fn view(api: &Api, app: &App) -> AppView {
    let snapshot = api.snapshot();
    let routes = snapshot.configuration().routes_to_app(&app.name);
    let https = api.info.listening.https_port();
    let routes = routes.map(|route| {
        let sample = snapshot.sample_name(route);
        let base = route.address.pattern.base();
        AppRoute {
            address: route.address.to_string(),
            url: route_url(route, sample.as_ref().unwrap_or(base).as_str(), https),
        }
    });
    let status = api.apps.status(&app.name);
    let status = status.unwrap_or_else(|| unknown(app));
    AppView {
        routes: routes.collect(),
        ports: ports(app),
        port_notes: Vec::new(),
        findings: status.findings(OffsetDateTime::now_utc(), false),
        status,
        settings: app.settings.clone(),
        name: app.name.to_string(),
    }
}

fn ports(app: &App) -> BTreeMap<String, u16> {
    let ports = app.ports();
    let ports = ports
        .iter()
        .map(|(name, port)| ((*name).to_owned(), port.get()));
    ports.collect()
}

/// The status of an app that does not run yet.
fn unknown(app: &App) -> AppStatus {
    AppStatus {
        name: app.name.clone(),
        state: AppState::Stopped,
        since: None,
        starts_on_visit: app.settings.start == StartWhen::Visit,
        problem: None,
        crashes: 0,
        again_at: None,
        command: app.settings.command.clone(),
        folder: app.settings.folder.display().to_string(),
        pid: None,
        port: None,
        listens: Vec::new(),
        by_hand: false,
        output: Vec::new(),
        logs_missing: Vec::new(),
        changed: Vec::new(),
    }
}

fn find(api: &Api, text: &str) -> Result<App, Problem> {
    let name = named(text)?;
    let snapshot = api.snapshot();
    let found = snapshot.configuration().app(&name).cloned();
    found.ok_or_else(|| Rejection::missing_app(&name).into())
}

/// The app with this name, once the runner knows it.
fn runner(api: &Api, text: &str) -> Result<(AppName, AppRunner), Problem> {
    let app = find(api, text)?;
    if api.apps.status(&app.name).is_none() {
        // It was added a moment ago.
        api.apps.want(&api.snapshot().configuration().apps);
    }
    Ok((app.name, api.apps.clone()))
}

/// List the apps.
#[utoipa::path(get, path = "/apps", responses((status = 200, body = AppList)))]
async fn list_apps(State(api): State<Arc<Api>>) -> Json<AppList> {
    let snapshot = api.snapshot();
    let apps = snapshot.configuration().apps.iter();
    let apps = apps.map(|app| view(&api, app)).collect();
    Json(AppList { apps })
}

/// Add an app, with routes that lead to it.
#[utoipa::path(
    post, path = "/apps", params(AddApp), request_body = AppInput,
    responses(
        (status = 200, body = AppView, description = "with `dry_run`: it could be added"),
        (status = 201, body = AppView),
        (status = 409, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn add_app(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Query(AddApp { dry_run }): Query<AddApp>,
    Body(input): Body<AppInput>,
) -> Result<(StatusCode, Json<AppView>), Problem> {
    let mut app = App::new(name(input.name.trim())?);
    let settings = app.settings.merged(&input.settings);
    app.settings = settings.map_err(Rejection::Several)?;
    check_outside(&app.settings)?;
    let routes = input
        .routes
        .iter()
        .map(|route| app_route(&api, &app, route));
    let routes: Vec<Route> = routes.collect::<Result<_, Problem>>()?;
    let added = app.name.clone();
    let change = Change::AddApp {
        app: Box::new(app),
        routes,
    };
    if dry_run {
        let after = api.snapshot().stored().after(&change)?;
        let app = after.app(&added).cloned();
        let app = app.ok_or_else(|| Problem::from(Rejection::missing_app(&added)))?;
        return Ok((StatusCode::OK, Json(view_with_notes(&api, &app).await)));
    }
    api.configuration.change(&by, change, None).await?;
    let app = find(&api, added.as_str())?;
    let view = view_with_notes(&api, &app).await;
    api.apps.want(&api.snapshot().configuration().apps);
    Ok((StatusCode::CREATED, Json(view)))
}

/// An app that is added, with who has the port that was chosen for it.
async fn view_with_notes(api: &Api, app: &App) -> AppView {
    let port_notes = match app.settings.port {
        Some(port) => PortNotes::of(api, port.get(), Some(&app.name)).await.all(),
        None => Vec::new(),
    };
    AppView {
        port_notes,
        ..view(api, app)
    }
}

/// A route that comes with an app: where it names no target, it leads to the app.
fn app_route(api: &Api, app: &App, input: &RouteInput) -> Result<Route, Problem> {
    let mut input = input.clone();
    if input.to.trim().is_empty() {
        input.to = format!("app:{}", app.name);
    }
    read_route(api, &input, api.snapshot().configuration())
}

/// What is to be known of settings beside the configuration: whether the folder is there, and patterns of
/// files are such.
fn check_outside(settings: &AppSettings) -> Result<(), Problem> {
    let folder = &settings.folder;
    if folder.is_absolute() && !folder.is_dir() {
        let reason = format!("there is no folder {}", folder.display());
        return Err(Problem::value("folder", reason));
    }
    if let Some(file) = settings.env_file.iter().find(|file| !file.is_file()) {
        let reason = format!("there is no file {}", file.display());
        return Err(Problem::value("env_file", reason));
    }
    for (field, globs) in [("restart_on", &settings.restart_on), ("log", &settings.log)] {
        patterns(globs).map_err(|reason| Problem::value(field, reason))?;
    }
    Ok(())
}

/// Show one app.
#[utoipa::path(
    get, path = "/apps/{name}", params(("name" = String, Path)),
    responses((status = 200, body = AppView), (status = 404, body = Problem)),
)]
async fn show_app(
    State(api): State<Arc<Api>>,
    Path(name): Path<String>,
) -> Result<(RevisionTag, Json<AppView>), Problem> {
    let (tag, app) = (api.revision_tag(), find(&api, &name)?);
    Ok((tag, Json(view(&api, &app))))
}

/// Change an app's settings by a JSON merge patch (RFC 7396): `null` unsets. One that runs goes on as it was
/// started.
#[utoipa::path(
    patch, path = "/apps/{name}",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header)), request_body = AppSettings,
    responses(
        (status = 200, body = AppView), (status = 404, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn edit_app(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(text): Path<String>,
    based_on: BasedOn,
    Body(settings): Body<Map<String, Value>>,
) -> Result<(RevisionTag, Json<AppView>), Problem> {
    let edit = AppEdit {
        name: named(&text)?,
        settings,
    };
    let after = api.snapshot().stored().app_after(&edit)?;
    check_outside(&after.settings)?;
    api.configuration
        .change(&by, Change::EditApp(edit), based_on.revision())
        .await?;
    let app = find(&api, &text)?;
    api.apps.want(&api.snapshot().configuration().apps);
    Ok((api.revision_tag(), Json(view(&api, &app))))
}

/// Remove an app; if it runs, it is stopped.
#[utoipa::path(
    delete, path = "/apps/{name}", params(("name" = String, Path), RemoveApp),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)),
)]
async fn remove_app(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(text): Path<String>,
    Query(RemoveApp { with_routes }): Query<RemoveApp>,
) -> Result<StatusCode, Problem> {
    let name = named(&text)?;
    api.configuration
        .change(&by, Change::RemoveApp { name, with_routes }, None)
        .await?;
    api.apps.want(&api.snapshot().configuration().apps);
    Ok(StatusCode::NO_CONTENT)
}

/// Start an app, unless it runs.
#[utoipa::path(
    post, path = "/apps/{name}/start", params(("name" = String, Path), Wait),
    responses((status = 200, body = AppView), (status = 404, body = Problem)),
)]
async fn start_app(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Query(Wait { wait }): Query<Wait>,
) -> Result<Json<AppView>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    runner.start(&name)?;
    if wait {
        settled(&runner, &api.configuration, &name).await?;
    }
    Ok(Json(view(&api, &find(&api, &text)?)))
}

/// Stop an app.
#[utoipa::path(
    post, path = "/apps/{name}/stop", params(("name" = String, Path), Wait),
    responses((status = 200, body = AppView), (status = 404, body = Problem)),
)]
async fn stop_app(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Query(Wait { wait }): Query<Wait>,
) -> Result<Json<AppView>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    match wait {
        true => runner.stop_and_wait(&name).await?,
        false => runner.stop(&name)?,
    }
    Ok(Json(view(&api, &find(&api, &text)?)))
}

/// Stop an app if it runs, and start it.
#[utoipa::path(
    post, path = "/apps/{name}/restart", params(("name" = String, Path), Wait),
    responses((status = 200, body = AppView), (status = 404, body = Problem)),
)]
async fn restart_app(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Query(Wait { wait }): Query<Wait>,
) -> Result<Json<AppView>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    let before = runner.status(&name).and_then(|status| status.pid);
    runner.restart(&name)?;
    if wait {
        if before.is_some() {
            // The former run has to be over before the next one can be ready.
            let is_over = |state| state != AppState::Running;
            runner.wait_for(&name, is_over).await?;
        }
        settled(&runner, &api.configuration, &name).await?;
    }
    Ok(Json(view(&api, &find(&api, &text)?)))
}

/// Read what an app printed.
#[utoipa::path(
    get, path = "/apps/{name}/output", params(("name" = String, Path), ReadOutput),
    responses((status = 200, body = AppOutput), (status = 404, body = Problem)),
)]
async fn read_app_output(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Query(ReadOutput { after, limit, wait }): Query<ReadOutput>,
) -> Result<Json<AppOutput>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    if wait {
        let shutdown = api.info.supervisor.shutdown().clone();
        tokio::select! {
            _ = timeout(LONGEST_WAIT, runner.news_beyond(&name, after)) => {}
            () = shutdown.cancelled() => {}
        }
    }
    let limit = limit.unwrap_or(MOST_LINES).min(MOST_LINES);
    let (lines, last) = runner.output(&name, after, limit)?;
    let line = |line: OutputLine| OutputLineView {
        number: line.number,
        at: line.at,
        stream: line.stream.to_string(),
        text: line.text.into(),
    };
    let lines = lines.into_iter().map(line).collect();
    Ok(Json(AppOutput { lines, last }))
}

/// Show the environment that an app gets, without the values of secrets.
#[utoipa::path(
    get, path = "/apps/{name}/environment", params(("name" = String, Path)),
    responses((status = 200, body = AppEnvironment), (status = 404, body = Problem)),
)]
async fn show_app_environment(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
) -> Result<Json<AppEnvironment>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    Ok(Json(shown(runner.environment(&name).await?)))
}

/// Read the environment of an app from the user's login shell again.
#[utoipa::path(
    post, path = "/apps/{name}/environment", params(("name" = String, Path)),
    responses((status = 200, body = AppEnvironment), (status = 404, body = Problem)),
)]
async fn refresh_app_environment(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
) -> Result<Json<AppEnvironment>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    Ok(Json(shown(runner.refresh_environment(&name).await?)))
}

fn shown(environment: Environment) -> AppEnvironment {
    let text = |text: OsString| text.to_string_lossy().into_owned();
    let variables = environment.into_iter().map(|(name, value)| {
        let (name, value) = (text(name), text(value));
        VariableView {
            value: (!is_secret(&name, &value)).then_some(value),
            name,
        }
    });
    AppEnvironment {
        variables: variables.collect(),
    }
}

/// Say what to run an app with in a terminal.
#[utoipa::path(
    get, path = "/apps/{name}/by-hand", params(("name" = String, Path)),
    responses((status = 200, body = AppByHand), (status = 404, body = Problem)),
)]
async fn prepare_app_by_hand(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
) -> Result<Json<AppByHand>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    let prepared = runner.by_hand(&name).await?;
    // It needs the port.
    runner.stop(&name)?;
    runner
        .wait_for(&name, |state| {
            matches!(
                state,
                AppState::Stopped | AppState::Crashed | AppState::CrashLoop
            )
        })
        .await?;
    let app = find(&api, &text)?;
    let variables = prepared.environment.into_iter();
    let variables = variables
        .filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)));
    Ok(Json(AppByHand {
        command: app.settings.command,
        folder: app.settings.folder.display().to_string(),
        environment: variables.collect(),
        mark: prepared.mark,
    }))
}

/// Have a process that somebody started in a terminal take the place of an app until it ends.
#[utoipa::path(
    put, path = "/apps/{name}/by-hand", params(("name" = String, Path)), request_body = ByHandInput,
    responses((status = 200, body = AppView), (status = 404, body = Problem), (status = 422, body = Problem)),
)]
async fn take_app_by_hand(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
    Body(ByHandInput { pid, mark }): Body<ByHandInput>,
) -> Result<Json<AppView>, Problem> {
    let (name, runner) = runner(&api, &text)?;
    if !runner.take_by_hand(&name, pid, mark)? {
        let reason = format!("there is no process {pid} any more");
        return Err(Problem::value("pid", reason));
    }
    Ok(Json(view(&api, &find(&api, &text)?)))
}
