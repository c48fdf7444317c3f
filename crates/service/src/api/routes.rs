use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::{DefaultBodyLimit, Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{
    RouteInput, RouteInputs, RoutePatch, RouteValues, RouteView, Routes, RoutesAdded,
};
use bentlane_checks::advice_for_route;
use bentlane_model::{
    Address, Change, Configuration, LoadedProject, OWN_ADDRESS, PinnedCert, Rejection, Route,
    RouteDraft, RouteEdit, RouteSettings, Snapshot, Target,
};
use bentlane_system::Folder;
use serde::Deserialize;
use serde_json::{Map, Value};
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::based_on::{BasedOn, RevisionTag};
use super::guard::Caller;
use super::ports::{PortNotes, matches};
use super::problem::{Body, Problem, Query};
use super::projects::project_of;
use crate::checker::{route_url, url};

/// Bytes of the longest list of routes to add at once: 100,000 of them fit with room to spare.
const LONGEST_LIST: usize = 64 << 20;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ListRoutes {
    /// Only routes behind the one with this address: the next page.
    #[serde(default)]
    after: Option<String>,
    /// How many at most, 1 or more; all by default.
    #[serde(default)]
    limit: Option<usize>,
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AddRoute {
    /// Only say whether the route could be added.
    #[serde(default)]
    dry_run: bool,
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_routes, add_route))
        .merge(
            OpenApiRouter::new()
                .routes(routes!(add_routes))
                .layer(DefaultBodyLimit::max(LONGEST_LIST)),
        )
        .routes(routes!(show_route, edit_route, remove_route))
}

fn view(api: &Api, route: &Route) -> RouteView {
    let snapshot = api.snapshot();
    let project = project_of(snapshot.stored(), &route.address);
    view_of(api, &snapshot, route, project)
}

fn view_of(api: &Api, snapshot: &Snapshot, route: &Route, project: Option<String>) -> RouteView {
    let base = route.address.pattern.base();
    let sample = snapshot.sample_name(route).unwrap_or_else(|| base.clone());
    let resolves_to = snapshot.addresses_of(sample.as_str(), &api.info.listening.https_ips());
    let address = route.address.to_string();
    let name = route.address.pattern.to_string();
    RouteView {
        verdict: api.checks.checker.verdict(&address),
        advice: advice_for_route(&route.address.pattern),
        port_notes: Vec::new(),
        matches: Vec::new(),
        url: route_url(route, &name, api.info.listening.https_port()),
        values: values(api, snapshot, route),
        resolves_to,
        project,
        of_container: snapshot.label_of(&route.address).map(str::to_owned),
        settings: route.settings.clone(),
        prefix: route.address.prefix.to_string(),
        to: route.to.to_string(),
        address,
        name,
    }
}

fn values(api: &Api, snapshot: &Snapshot, route: &Route) -> RouteValues {
    let host = route.address.pattern.to_string();
    let zone = snapshot.zone_of(route.address.pattern.base().as_str());
    let shared = zone.filter(|zone| zone.name.as_str().contains('.'));
    let https = api.info.listening.https_port();
    let port = route.https_port(https);
    let raw = route.is_raw();
    let origin = match raw {
        true => format!("tcp://{host}:{port}"),
        false => url(&host, port, ""),
    };
    let prefix = route.address.prefix.as_str().trim_end_matches('/');
    RouteValues {
        callback_base: format!("{origin}{prefix}/"),
        cookie_domain: shared.filter(|_| !raw).map(|zone| zone.name.to_string()),
        origin,
        host,
        port,
    }
}

fn address(text: &str) -> Result<Address, Problem> {
    text.parse().map_err(|e| Problem::value("address", e))
}

/// The route with this address, as the data plane has it.
pub(super) fn find(api: &Api, address: &Address) -> Result<Route, Problem> {
    let snapshot = api.snapshot();
    let found = snapshot.configuration().route(address).cloned();
    found.ok_or_else(|| Rejection::missing_route(address).into())
}

/// List the routes with what their last checks came to, all of them or a page at a time.
#[utoipa::path(
    get, path = "/routes", params(ListRoutes),
    responses((status = 200, body = Routes), (status = 422, body = Problem)),
)]
async fn list_routes(
    State(api): State<Arc<Api>>,
    Query(ListRoutes { after, limit }): Query<ListRoutes>,
) -> Result<Json<Routes>, Problem> {
    api.checks.checker.results_read();
    let snapshot = api.snapshot();
    let routes = &snapshot.configuration().routes;
    let from = match after {
        None => 0,
        Some(text) => {
            let after = text.parse().map_err(|e| Problem::value("after", e))?;
            let found = routes.iter().position(|route| route.address == after);
            1 + found.ok_or_else(|| {
                let reason =
                    format!("there is no route `{after}` any more: start again without `after`");
                Problem::value("after", reason)
            })?
        }
    };
    let limit = limit.map_or(usize::MAX, |limit| limit.max(1));
    let until = from.saturating_add(limit).min(routes.len());
    let next = (until < routes.len()).then(|| routes[until - 1].address.to_string());
    let listed = &routes[from..until];
    let projects = snapshot.stored().projects.iter();
    let projects = projects.flat_map(|project| project.routes.iter().map(move |it| (it, project)));
    let projects: HashMap<&Address, &LoadedProject> = projects.collect();
    let mut views = Vec::with_capacity(listed.len());
    for route in listed {
        let project = projects.get(&route.address);
        let project = project.map(|project| project.file.display().to_string());
        let matches = matches(&api, route).await;
        views.push(RouteView {
            matches,
            ..view_of(&api, &snapshot, route, project)
        });
    }
    Ok(Json(Routes {
        routes: views,
        next,
    }))
}

/// Add a route. It is in force when this returns.
#[utoipa::path(
    post, path = "/routes", params(AddRoute), request_body = RouteInput,
    responses(
        (status = 200, body = RouteView, description = "with `dry_run`: it could be added"),
        (status = 201, body = RouteView),
        (status = 409, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn add_route(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Query(AddRoute { dry_run }): Query<AddRoute>,
    Body(input): Body<RouteInput>,
) -> Result<(StatusCode, Json<RouteView>), Problem> {
    let route = read(&api, &input, api.snapshot().configuration())?;
    let change = Change::AddRoute(Box::new(route.clone()));
    if dry_run {
        api.snapshot().stored().check(&change)?;
    }
    // Asked before it is added, so that the route is not among those that the port has.
    let port_notes = match own_port(&route) {
        Some(port) => PortNotes::of(&api, port, None).await.all(),
        None => Vec::new(),
    };
    if !dry_run {
        api.configuration.change(&by, change, None).await?;
    }
    let status = match dry_run {
        true => StatusCode::OK,
        false => StatusCode::CREATED,
    };
    let view = RouteView {
        port_notes,
        ..view(&api, &route)
    };
    Ok((status, Json(view)))
}

/// The port of this machine that a route leads to by its number.
fn own_port(route: &Route) -> Option<u16> {
    match route.server() {
        Target::Port(port) => Some(port.get()),
        Target::Server { .. } => {
            let addresses = route.server().addresses().ok()?;
            let here = addresses.into_iter().find(|at| at.ip().is_loopback());
            here.map(|at| at.port())
        }
        _ => None,
    }
}

/// Add many routes, all or none. They are in force when this returns.
#[utoipa::path(
    post, path = "/routes/many", request_body = RouteInputs,
    responses(
        (status = 201, body = RoutesAdded),
        (status = 409, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn add_routes(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Body(RouteInputs { routes: inputs }): Body<RouteInputs>,
) -> Result<(StatusCode, Json<RoutesAdded>), Problem> {
    let mut routes = Vec::with_capacity(inputs.len());
    let snapshot = api.snapshot();
    for input in &inputs {
        let route = read(&api, input, snapshot.configuration());
        routes.push(route.map_err(|problem| problem.of(&input.name))?);
    }
    let added = routes.len();
    if added > 0 {
        api.configuration
            .change(&by, Change::AddRoutes(routes), None)
            .await?;
    }
    Ok((StatusCode::CREATED, Json(RoutesAdded { added })))
}

pub(super) fn read(
    api: &Api,
    input: &RouteInput,
    configuration: &Configuration,
) -> Result<Route, Problem> {
    let draft = RouteDraft {
        name: input.name.trim(),
        prefix: input.prefix.as_deref().map(str::trim),
        to: &input.to,
    };
    let mut route = draft.parse()?;
    let mut settings = input.settings.clone();
    if route.address.port.is_some() {
        settings
            .entry("address")
            .or_insert_with(|| OWN_ADDRESS.into());
    }
    route.settings = configuration.settings_after(&route.address, &route.settings, &settings)?;
    check_outside(api, &settings, &route.address, &route.settings)?;
    Ok(route)
}

/// Checks what settings in `patch` name outside the configuration: certificates and files.
fn check_outside(
    api: &Api,
    patch: &Map<String, Value>,
    address: &Address,
    settings: &RouteSettings,
) -> Result<(), Problem> {
    if let (true, Some(PinnedCert::Imported(name))) = (patch.contains_key("cert"), &settings.cert) {
        pinnable(api, name, address)?;
    }
    if let (true, Some(file)) = (patch.contains_key("access_log"), &settings.access_log) {
        check_log_file(file)?;
    }
    Ok(())
}

/// Checks that the path is absolute, since the service has another working folder, and usable.
fn check_log_file(path: &std::path::Path) -> Result<(), Problem> {
    let shown = path.display();
    if !path.is_absolute() || path.file_name().is_none() {
        let reason = format!("`{shown}` is not the whole path of a file");
        return Err(Problem::value("access_log", reason));
    }
    // It is opened for each batch later; here it is only checked that it can be.
    match Folder::of(path) {
        Ok(_) => Ok(()),
        Err(error) if error.is_missing() => {
            let folder = path.parent().unwrap_or(path).display();
            let reason = format!("the folder {folder} is not there: make it first");
            Err(Problem::value("access_log", reason))
        }
        Err(error) => Err(Problem::value("access_log", error)),
    }
}

/// Refuses to change a route that the label of a container asks for.
fn refuse_label(api: &Api, address: &Address) -> Result<(), Problem> {
    let snapshot = api.snapshot();
    let Some(owner) = snapshot.label_of(address) else {
        return Ok(());
    };
    let detail = format!(
        "the label of the container {owner} asks for the route `{address}`: change it there, or add a \
         route with that address, which takes precedence"
    );
    Err(Problem::new(StatusCode::CONFLICT, detail))
}

/// Whether the imported certificate of this name can be shown under the names of a route.
fn pinnable(api: &Api, name: &str, address: &Address) -> Result<(), Problem> {
    let pairs = api.pki.imports.all();
    let Some(imported) = pairs.get(name) else {
        let reason = format!(
            "no imported certificate has {name} as its first name: import it first with \
             `bentlane cert import`"
        );
        return Err(Problem::value("cert", reason));
    };
    let base = address.pattern.base();
    let below = base.prepend("any").ok();
    let sample = below.filter(|_| address.pattern.is_wildcard());
    if imported.pair.covers(sample.as_ref().unwrap_or(base), false) {
        return Ok(());
    }
    let names = imported.pair.info.names.join(", ");
    let reason = format!(
        "that certificate is for {names}, and not for {}",
        address.pattern
    );
    Err(Problem::value("cert", reason))
}

/// Show one route.
#[utoipa::path(
    get, path = "/routes/{address}", params(("address" = String, Path, description = "percent-encoded")),
    responses((status = 200, body = RouteView), (status = 404, body = Problem)),
)]
async fn show_route(
    State(api): State<Arc<Api>>,
    Path(text): Path<String>,
) -> Result<(RevisionTag, Json<RouteView>), Problem> {
    api.checks.checker.results_read();
    let tag = api.revision_tag();
    let route = find(&api, &address(&text)?)?;
    let matches = matches(&api, &route).await;
    let view = RouteView {
        matches,
        ..view(&api, &route)
    };
    Ok((tag, Json(view)))
}

/// Change where a route leads, or its settings, by a JSON merge patch: `null` unsets.
///
/// The patch is applied to what is stored at that moment, so that two at once lose nothing. With
/// `If-Match` and the `ETag` of an earlier answer it is only applied to that revision.
#[utoipa::path(
    patch, path = "/routes/{address}",
    params(("address" = String, Path), ("If-Match" = Option<String>, Header)), request_body = RoutePatch,
    responses(
        (status = 200, body = RouteView), (status = 404, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem),
    ),
)]
async fn edit_route(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(text): Path<String>,
    based_on: BasedOn,
    Body(patch): Body<RoutePatch>,
) -> Result<(RevisionTag, Json<RouteView>), Problem> {
    let address = address(&text)?;
    let to = patch.to.as_deref().map(|to| to.trim().parse());
    let edit = RouteEdit {
        address: address.clone(),
        to: to.transpose().map_err(|e| Problem::value("to", e))?,
        settings: patch.settings,
    };
    refuse_label(&api, &address)?;
    let now = api.snapshot().stored().route_after(&edit)?;
    check_outside(&api, &edit.settings, &address, &now.settings)?;
    api.configuration
        .change(&by, Change::EditRoute(edit), based_on.revision())
        .await?;
    let route = find(&api, &address)?;
    Ok((api.revision_tag(), Json(view(&api, &route))))
}

/// Remove a route.
#[utoipa::path(
    delete, path = "/routes/{address}", params(("address" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)),
)]
async fn remove_route(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Path(text): Path<String>,
    based_on: BasedOn,
) -> Result<StatusCode, Problem> {
    let address = address(&text)?;
    refuse_label(&api, &address)?;
    api.configuration
        .change(&by, Change::RemoveRoute(address), based_on.revision())
        .await?;
    Ok(StatusCode::NO_CONTENT)
}
