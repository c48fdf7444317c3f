use std::sync::Arc;

use axum::Json;
use axum::extract::State as Shared;
use bentlane_store::JournalEntry;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::problem::{Problem, Query};
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
    OpenApiRouter::new().routes(routes!(list_journal))
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
    }
}
