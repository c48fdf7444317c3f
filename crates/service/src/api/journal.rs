use std::sync::Arc;

use axum::extract::State as Shared;
use axum::{Extension, Json};
use bentlane_model::Change;
use bentlane_store::JournalEntry;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::guard::Caller;
use super::problem::{Body, Problem, Query};
use crate::state::State;

/// One change of the configuration.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JournalLine {
    /// The revision that the change made.
    pub revision: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who: the command line or the console.
    pub who: String,
    /// `add`, `edit` or `remove`.
    pub action: String,
    /// `zone` or `route`.
    pub kind: String,
    /// The zone's name or the route's address.
    pub subject: String,
    /// What was there before.
    pub before: Option<Value>,
    /// What is there since.
    pub after: Option<Value>,
    /// The revision that the change took back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<u64>,
}

/// A change to take back.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UndoInput {
    /// The revision that it made; the latest that is in force when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<u64>,
}

/// A change that was taken back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The revision that taking it back made.
    pub revision: u64,
    /// What the change had done.
    pub entries: Vec<JournalLine>,
}

/// The latest changes, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Journal {
    /// The changes.
    pub entries: Vec<JournalLine>,
}

#[derive(Debug, Deserialize, IntoParams)]
pub(crate) struct ListJournal {
    /// How many entries at most, up to 1,000; 50 when it is left out.
    #[serde(default = "fifty")]
    limit: u64,
}

fn fifty() -> u64 {
    50
}

pub(crate) fn router() -> OpenApiRouter<Arc<State>> {
    OpenApiRouter::new()
        .routes(routes!(list_journal))
        .routes(routes!(undo))
}

/// List the latest changes.
#[utoipa::path(
    get, path = "/journal", params(ListJournal),
    responses((status = 200, body = Journal), (status = 503, body = Problem)),
)]
async fn list_journal(
    Shared(state): Shared<Arc<State>>,
    Query(ListJournal { limit }): Query<ListJournal>,
) -> Result<Json<Journal>, Problem> {
    let entries = state.store()?.journal(limit.min(1000)).await?;
    Ok(Json(Journal {
        entries: entries.into_iter().map(line).collect(),
    }))
}

/// Take back a change, unless what it touched has changed since. That is a change, too.
#[utoipa::path(
    post, path = "/undo", request_body = UndoInput,
    responses(
        (status = 200, body = Undone), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 503, body = Problem),
    ),
)]
async fn undo(
    Shared(state): Shared<Arc<State>>,
    Extension(Caller { who, .. }): Extension<Caller>,
    Body(UndoInput { revision }): Body<UndoInput>,
) -> Result<Json<Undone>, Problem> {
    let entries = state.store()?.change(revision).await?;
    let change = Change::Undo(JournalEntry::undo(&entries)?);
    let revision = state.change(&who, change, None).await?;
    Ok(Json(Undone {
        revision,
        entries: entries.into_iter().map(line).collect(),
    }))
}

fn line(entry: JournalEntry) -> JournalLine {
    let JournalEntry {
        revision,
        at,
        who,
        action,
        kind,
        subject,
        before,
        after,
        undoes,
    } = entry;
    JournalLine {
        revision,
        at,
        who,
        action,
        kind,
        subject,
        before,
        after,
        undoes,
    }
}
