use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use axum::extract::{DefaultBodyLimit, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{
    PlannedAction, PlannedChange, PlannedCommand, ProjectExport, ProjectLoad, ProjectPlan,
    ProjectText, ProjectView, Projects,
};
use bentlane_apps::is_taken_by_git;
use bentlane_ca::CertificatePart;
use bentlane_model::{
    Address, App, Change, Changed, Configuration, LoadedProject, Name, ProjectInput, Route, Target,
};
use bentlane_project::{LONGEST_FILE, Move, ProjectFile, Written, read, schema, write};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::{Caller, Trusted};
use super::ports::PortNotes;
use super::problem::{Body, Problem, Query, run_blocking, whole_path};
use crate::exports::Export;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct LoadProject {
    /// Only say what loading it would change.
    #[serde(default)]
    dry_run: bool,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ProjectAt {
    /// The file: its whole path.
    #[param(value_type = String)]
    file: PathBuf,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    let loading = OpenApiRouter::new()
        .routes(routes!(list_projects, load_project, unload_project))
        .routes(routes!(export_project))
        .layer(DefaultBodyLimit::max(LONGEST_FILE * 2));
    OpenApiRouter::new()
        .merge(loading)
        .routes(routes!(show_project_schema))
}

fn view(project: &LoadedProject) -> ProjectView {
    let read = std::fs::read_to_string(&project.file);
    ProjectView {
        file: project.file.clone(),
        zone: project.moved_to.as_ref().map(ToString::to_string),
        routes: project.routes.iter().map(ToString::to_string).collect(),
        apps: project.apps.iter().map(ToString::to_string).collect(),
        is_changed: read.as_ref().is_ok_and(|text| *text != project.text),
        fault: read.err().map(|error| error.to_string()),
    }
}

/// List the projects that were loaded.
#[utoipa::path(get, path = "/projects", responses((status = 200, body = Projects)))]
async fn list_projects(State(api): State<Arc<Api>>) -> Result<Json<Projects>, Problem> {
    let snapshot = api.snapshot();
    let work = move || snapshot.stored().projects.iter().map(view).collect();
    let projects = run_blocking("the files of projects were not read", work).await?;
    Ok(Json(Projects { projects }))
}

/// The text of a project file as a JSON Schema (2020-12).
#[utoipa::path(get, path = "/project.schema.json", responses((status = 200, body = Value)))]
async fn show_project_schema() -> Json<Value> {
    Json(schema())
}

/// What a request to load a file asks for.
fn asked(load: &ProjectLoad) -> Result<(ProjectFile, ProjectInput), Problem> {
    whole_path("file", &load.file)?;
    let file = read(&load.text).map_err(|faults| {
        let each = faults
            .iter()
            .map(|fault| format!("{}: {fault}", load.file.display()));
        let detail = each.collect::<Vec<_>>().join("\n");
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail)
    })?;
    let moved = match &load.zone {
        None => None,
        Some(zone) => {
            let to: Name = zone.parse().map_err(|e| Problem::value("zone", e))?;
            let from = file.zone.clone().ok_or_else(|| {
                Problem::value("zone", "the file says no `zone` whose names could be moved")
            })?;
            Some(Move { from, to }).filter(|it| it.from != it.to)
        }
    };
    let mut input = file.input(&load.file, &load.text, moved.as_ref());
    input.take_over = load.take_over;
    Ok((file, input))
}

/// Load a project's file, and replace what came from it before: all of it, or nothing.
#[utoipa::path(
    post, path = "/projects", params(LoadProject), request_body = ProjectLoad,
    responses(
        (status = 200, body = ProjectPlan),
        (status = 403, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem),
    ),
)]
async fn load_project(
    // It says which commands are run.
    _: Trusted,
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Query(LoadProject { dry_run }): Query<LoadProject>,
    Body(load): Body<ProjectLoad>,
) -> Result<Json<ProjectPlan>, Problem> {
    let (file, input) = asked(&load)?;
    check_folders(&file, &load.file)?;
    let plan = plan(&api, &file, &input).await?;
    if dry_run {
        return Ok(Json(plan));
    }
    let before = api.snapshot();
    api.configuration
        .change(
            &by,
            Change::LoadProject(Box::new(input.clone())),
            load.based_on,
        )
        .await?;
    keep_certificates(&api, &file, &input, before.stored()).await?;
    api.apps.want(&api.snapshot().configuration().apps);
    Ok(Json(plan))
}

/// Take out all that came from a project's file.
#[utoipa::path(
    delete, path = "/projects", params(ProjectAt),
    responses((status = 204), (status = 400, body = Problem), (status = 403, body = Problem), (status = 404, body = Problem)),
)]
async fn unload_project(
    _: Trusted,
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Query(ProjectAt { file }): Query<ProjectAt>,
) -> Result<StatusCode, Problem> {
    let before = api.snapshot();
    api.configuration
        .change(&by, Change::UnloadProject(file.clone()), None)
        .await?;
    if let Some(project) = before.stored().project(&file) {
        for folder in &project.certs {
            api.exports.remove(folder)?;
        }
    }
    api.apps.want(&api.snapshot().configuration().apps);
    Ok(StatusCode::NO_CONTENT)
}

/// The folders of apps and certificates of a file. Certificates have keys, which no repository is to
/// get.
fn check_folders(file: &ProjectFile, path: &Path) -> Result<(), Problem> {
    let input = file.input(path, "", None);
    for (name, settings) in &input.apps {
        if !settings.folder.is_dir() {
            let reason = format!(
                "there is no folder {} for the app `{name}`",
                settings.folder.display()
            );
            return Err(Problem::value("folder", reason));
        }
    }
    for folder in &input.certs {
        if is_taken_by_git(folder) {
            let reason = format!(
                "{} is in a git repository that does not ignore it, and keys would be written there: \
                 add it to .gitignore, or name another folder",
                folder.display()
            );
            return Err(Problem::value("certs", reason));
        }
    }
    Ok(())
}

async fn keep_certificates(
    api: &Arc<Api>,
    file: &ProjectFile,
    input: &ProjectInput,
    before: &Configuration,
) -> Result<(), Problem> {
    let former = before
        .project(&input.file)
        .map(|it| it.certs.clone())
        .unwrap_or_default();
    for folder in former.iter().filter(|it| !input.certs.contains(it)) {
        api.exports.remove(folder)?;
    }
    for (cert, folder) in file.certs.iter().zip(&input.certs) {
        let export = Export {
            names: cert.names.clone(),
            parts: CertificatePart::usual(),
            then: None,
            into: None,
            of_label: false,
            trouble: None,
        };
        let (exports, folder) = (Arc::clone(&api.exports), folder.clone());
        let work = move || {
            let is_kept = |known: Option<&Export>| known.is_some_and(|it| it.names == export.names);
            if is_kept(exports.all().get(&folder)) {
                return Ok(());
            }
            if let Err(cause) = std::fs::create_dir_all(&folder) {
                return Err(Problem::value(
                    "certs",
                    format!("{}: {cause}", folder.display()),
                ));
            }
            exports.add(&folder, export).map_err(Problem::from)
        };
        run_blocking("the certificates were not written", work).await??;
    }
    Ok(())
}

/// What loading a file changes.
async fn plan(api: &Api, file: &ProjectFile, input: &ProjectInput) -> Result<ProjectPlan, Problem> {
    let snapshot = api.snapshot();
    let before = snapshot.stored();
    let held = before.held_by_others(input);
    let mut forced = input.clone();
    forced.take_over = true;
    let after = before.after(&Change::LoadProject(Box::new(forced)))?;
    let difference = before.difference(&after);
    let mut changes = Vec::new();
    for zone in &difference.zones {
        let name = zone
            .either()
            .map(|it| it.name.to_string())
            .unwrap_or_default();
        match (zone.before, zone.after) {
            (Some(before), Some(after)) => {
                let new = after
                    .records
                    .iter()
                    .filter(|it| !before.records.contains(it));
                changes
                    .extend(new.map(|it| record_change(PlannedAction::New, &it.owner, &it.data)));
                let gone = before
                    .records
                    .iter()
                    .filter(|it| !after.records.contains(it));
                changes
                    .extend(gone.map(|it| record_change(PlannedAction::Gone, &it.owner, &it.data)));
            }
            (before, _) => changes.push(PlannedChange {
                change: match before {
                    None => PlannedAction::New,
                    Some(_) => PlannedAction::Gone,
                },
                kind: "zone".to_owned(),
                name,
                before: None,
                after: None,
            }),
        }
    }
    changes.extend(difference.apps.iter().filter_map(|app| {
        let name = app.either()?.name.to_string();
        Some(planned("app", name, app, |app| {
            values(&app.settings.command, &app.settings)
        }))
    }));
    changes.extend(difference.routes.iter().filter_map(|route| {
        let name = route.either()?.address.to_string();
        Some(planned("route", name, route, |route| {
            values(&route.to.to_string(), &route.settings)
        }))
    }));
    let touched = changes
        .iter()
        .filter(|it| it.change != PlannedAction::Gone && it.kind != "zone");
    let all = input.routes.len() + input.apps.len() + input.records.len();
    let mut notes = Vec::new();
    let used = input.ports.values().copied();
    let used = used.chain(input.routes.iter().filter_map(|route| match route.to {
        Target::Port(port) => Some(port.get()),
        _ => None,
    }));
    let used = used.chain(
        input
            .apps
            .iter()
            .filter_map(|(_, app)| app.port.map(|port| port.get())),
    );
    let used: BTreeSet<u16> = used.collect();
    if let Some(project) = after.project(&input.file)
        && used.len() <= MOST_PORTS
    {
        let root = input.file.parent().unwrap_or(Path::new("/"));
        let seen = api.checks.checker.ports().await;
        for port in used {
            let owns = |app: &&App| app.settings.port.is_some_and(|own| own.get() == port);
            let mut own = after
                .apps
                .iter()
                .filter(|app| project.apps.contains(&app.name));
            let asking = own.find(owns).map(|app| &app.name);
            let found = PortNotes::among(api, &seen, port, asking);
            // What runs in the project's own folder is no other's.
            if !found.folder.is_some_and(|folder| folder.starts_with(root)) {
                notes.extend(found.owners);
            }
        }
    }
    let commands = difference.apps.iter().filter_map(|changed| {
        let after = changed.after?;
        let former = changed.before.map(|it| it.settings.command.clone());
        (former.as_ref() != Some(&after.settings.command)).then(|| PlannedCommand {
            app: after.name.to_string(),
            before: former,
            command: after.settings.command.clone(),
            folder: after.settings.folder.display().to_string(),
        })
    });
    Ok(ProjectPlan {
        file: input.file.clone(),
        revision: before.revision,
        same: all.saturating_sub(touched.count()),
        commands: commands.collect(),
        changes,
        held,
        beyond: file.beyond(&input.file),
        notes,
        requires: file.requires.clone(),
    })
}

/// Ports about which it is looked who has them.
const MOST_PORTS: usize = 64;

fn record_change(
    change: PlannedAction,
    owner: &bentlane_model::RecordName,
    data: &bentlane_model::RecordData,
) -> PlannedChange {
    PlannedChange {
        change,
        kind: "record".to_owned(),
        name: format!("{owner} {}", data.kind()),
        before: None,
        after: None,
    }
}

fn planned<T>(
    kind: &str,
    name: String,
    changed: &Changed<&T>,
    values: impl Fn(&T) -> BTreeMap<String, String>,
) -> PlannedChange {
    let (before, after) = (changed.before.map(&values), changed.after.map(&values));
    let (before, after) = match (before, after) {
        // Of what stays, only what becomes otherwise is of interest.
        (Some(before), Some(after)) => {
            let differs = |key: &String| before.get(key) != after.get(key);
            let keys: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
            let keys: Vec<&String> = keys.into_iter().filter(|key| differs(key)).collect();
            (
                Some(in_words(&before, &keys)),
                Some(in_words(&after, &keys)),
            )
        }
        (before, after) => {
            let all = |values: BTreeMap<String, String>| {
                let keys: Vec<&String> = values.keys().collect();
                in_words(&values, &keys)
            };
            (before.map(all), after.map(all))
        }
    };
    PlannedChange {
        change: match (changed.before, changed.after) {
            (None, _) => PlannedAction::New,
            (Some(_), Some(_)) => PlannedAction::Changed,
            (Some(_), None) => PlannedAction::Gone,
        },
        kind: kind.to_owned(),
        name,
        before,
        after,
    }
}

/// What something is, under the empty key, and its settings.
fn values(what: &str, settings: &impl Serialize) -> BTreeMap<String, String> {
    fn add(values: &mut BTreeMap<String, String>, key: &str, value: &Value) {
        match value {
            value if is_unset(value) => {}
            Value::Object(group) => {
                for (inner, value) in group {
                    add(values, &format!("{key}.{inner}"), value);
                }
            }
            Value::String(text) => drop(values.insert(key.to_owned(), text.clone())),
            Value::Array(entries) => {
                let texts = entries
                    .iter()
                    .map(|it| it.as_str().map_or_else(|| it.to_string(), str::to_owned));
                values.insert(key.to_owned(), texts.collect::<Vec<_>>().join(", "));
            }
            other => drop(values.insert(key.to_owned(), other.to_string())),
        }
    }
    let mut values = BTreeMap::from([(String::new(), what.to_owned())]);
    let settings = serde_json::to_value(settings).unwrap_or_default();
    for (key, value) in settings.as_object().into_iter().flatten() {
        if key != "command" {
            add(&mut values, key, value);
        }
    }
    values
}

fn in_words(values: &BTreeMap<String, String>, keys: &[&String]) -> String {
    let each = keys
        .iter()
        .map(|key| match (key.as_str(), values.get(*key)) {
            ("", value) => value.cloned().unwrap_or_default(),
            (key, Some(value)) => format!("{key}={value}"),
            (key, None) => format!("no {key}"),
        });
    each.collect::<Vec<_>>().join(" ")
}

fn is_unset(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Array(entries) => entries.is_empty(),
        Value::Object(entries) => entries.is_empty(),
        Value::Bool(_) | Value::Number(_) | Value::String(_) => false,
    }
}

/// Give the text of a project file for what exists: what came from the file, and the apps below its
/// folder with the routes to them.
#[utoipa::path(
    post, path = "/projects/text", request_body = ProjectExport,
    responses((status = 200, body = ProjectText), (status = 422, body = Problem)),
)]
async fn export_project(
    State(api): State<Arc<Api>>,
    Body(export): Body<ProjectExport>,
) -> Result<Json<ProjectText>, Problem> {
    whole_path("file", &export.file)?;
    let folder = export.file.parent().unwrap_or(Path::new("/"));
    let snapshot = api.snapshot();
    let configuration = snapshot.stored();
    let loaded = configuration.project(&export.file);
    let is_elsewhere = |file: &Path| file != export.file;
    let elsewhere = configuration
        .projects
        .iter()
        .filter(|it| is_elsewhere(&it.file));
    let elsewhere: Vec<&LoadedProject> = elsewhere.collect();
    let apps: Vec<&App> = configuration
        .apps
        .iter()
        .filter(|app| {
            let of_other = elsewhere.iter().any(|it| it.apps.contains(&app.name));
            let own = loaded.is_some_and(|it| it.apps.contains(&app.name));
            own || (!of_other && app.settings.folder.starts_with(folder))
        })
        .collect();
    let holders = api.checks.checker.ports().await;
    let runs_here = |port: u16| {
        let mut holders = holders.iter().filter(|seen| seen.port == port);
        holders.any(|seen| {
            let holder = seen.holder.as_ref();
            let at = holder.and_then(|holder| holder.folder.as_deref());
            at.is_some_and(|at| Path::new(at).starts_with(folder))
        })
    };
    let is_its = |route: &&Route| {
        if loaded.is_some_and(|it| it.routes.contains(&route.address)) {
            return true;
        }
        if elsewhere
            .iter()
            .any(|it| it.routes.contains(&route.address))
        {
            return false;
        }
        match &route.to {
            Target::App(target) => apps.iter().any(|app| app.name == target.name),
            Target::Folder(at) => at.path().starts_with(folder),
            Target::Port(port) => runs_here(port.get()),
            _ => false,
        }
    };
    let routes: Vec<&Route> = configuration.routes.iter().filter(is_its).collect();
    let zone = routes.iter().find_map(|route| {
        let base = route.address.pattern.base();
        snapshot
            .zone_of(base.as_str())
            .map(|zone| zone.name.clone())
    });
    let what = Written {
        zone,
        routes: routes
            .into_iter()
            .map(|route| (route.clone(), None))
            .collect(),
        apps: apps
            .into_iter()
            .map(|app| (app.name.to_string(), app.settings.clone(), None))
            .collect(),
    };
    let text = write(export.text.as_deref(), folder, &what);
    let text = text.map_err(|fault| {
        let detail = format!("{}: {fault}", export.file.display());
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail)
    })?;
    Ok(Json(ProjectText { text }))
}

/// The file of the project that a route came from.
pub(super) fn project_of(configuration: &Configuration, address: &Address) -> Option<String> {
    let project = configuration.project_of_route(address)?;
    Some(project.file.display().to_string())
}
