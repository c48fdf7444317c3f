use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use bentlane_api_types::{Journal, MachineChange, MachineNote, UndoInput, Undone};
use bentlane_model::Change;
use bentlane_store::undo_of;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::Api;
use super::guard::Caller;
use super::problem::{Body, Problem, Query};
use crate::configuration::failed_attempt;

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ListJournal {
    /// How many entries at most, up to 1,000; 50 when it is left out.
    #[serde(default = "fifty")]
    limit: u64,
}

fn fifty() -> u64 {
    50
}

pub(crate) fn router() -> OpenApiRouter<Arc<Api>> {
    OpenApiRouter::new()
        .routes(routes!(list_journal))
        .routes(routes!(show_undo, undo))
        .routes(routes!(add_machine_change))
}

/// List the latest changes.
#[utoipa::path(
    get, path = "/journal", params(ListJournal),
    responses((status = 200, body = Journal), (status = 503, body = Problem)),
)]
async fn list_journal(
    State(api): State<Arc<Api>>,
    Query(ListJournal { limit }): Query<ListJournal>,
) -> Result<Json<Journal>, Problem> {
    let entries = api
        .storage
        .call(async |store| store.journal(limit.min(1000)).await);
    let entries = entries.await?;
    Ok(Json(Journal { entries }))
}

#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ShowUndo {
    /// The revision that the change made; the latest that is in force when it is left out.
    #[serde(default)]
    revision: Option<u64>,
}

/// Show what undoing a change would undo.
#[utoipa::path(
    get, path = "/undo", params(ShowUndo),
    responses((status = 200, body = Journal), (status = 404, body = Problem), (status = 503, body = Problem)),
)]
async fn show_undo(
    State(api): State<Arc<Api>>,
    Query(ShowUndo { revision }): Query<ShowUndo>,
) -> Result<Json<Journal>, Problem> {
    let entries = api
        .storage
        .call(async |store| store.change(revision).await)
        .await?;
    Ok(Json(Journal { entries }))
}

/// Note in the journal what `system attach` or `detach` has changed on this machine.
#[utoipa::path(
    post, path = "/machine/changes", request_body = MachineNote,
    responses(
        (status = 204), (status = 403, body = Problem), (status = 422, body = Problem),
        (status = 503, body = Problem),
    ),
)]
async fn add_machine_change(
    State(api): State<Arc<Api>>,
    Extension(caller): Extension<Caller>,
    Body(MachineNote { change, undoes }): Body<MachineNote>,
) -> Result<StatusCode, Problem> {
    if caller.session.is_some() {
        let detail = "only the command line changes this machine";
        return Err(Problem::new(StatusCode::FORBIDDEN, detail));
    }
    let attempt = caller.by.attempt();
    let noted = api
        .storage
        .call(async |store| store.note(&attempt, &change, undoes).await);
    noted
        .await
        .map_err(|cause| failed_attempt(&attempt, cause))?;
    api.configuration.reload().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Undo a change, unless what it touched has changed since. That is a change, too.
#[utoipa::path(
    post, path = "/undo", request_body = UndoInput,
    responses(
        (status = 200, body = Undone), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 503, body = Problem),
    ),
)]
async fn undo(
    State(api): State<Arc<Api>>,
    Extension(Caller { by, .. }): Extension<Caller>,
    Body(UndoInput { revision, key }): Body<UndoInput>,
) -> Result<Json<Undone>, Problem> {
    let revision = match key {
        None => revision,
        Some(_) if revision.is_some() => {
            return Err(Problem::value("key", "takes the place of `revision`"));
        }
        Some(key) => {
            let made = api
                .storage
                .call(async |store| store.revision_of(&key).await);
            let made = made.await?.ok_or_else(|| {
                let detail = "no change of the last day was made with this key";
                Problem::new(StatusCode::NOT_FOUND, detail)
            })?;
            Some(made)
        }
    };
    let entries = api
        .storage
        .call(async |store| store.change(revision).await)
        .await?;
    if let Some(entry) = entries.iter().find(|it| it.kind == MachineChange::KIND) {
        let detail = format!(
            "that was a change of this machine, which takes root to undo: `sudo bentlane undo {}`",
            entry.revision
        );
        return Err(Problem::new(StatusCode::CONFLICT, detail));
    }
    let change = Change::Undo(undo_of(&entries)?);
    let revision = api.configuration.change(&by, change, None).await?;
    Ok(Json(Undone { revision, entries }))
}
