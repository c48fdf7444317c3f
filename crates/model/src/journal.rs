//! What the journal keeps of each change.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;

/// One change, of the configuration or of this machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct JournalEntry {
    /// The revision that the change made.
    pub revision: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who: the user, and the command or the console.
    pub who: String,
    /// `add`, `edit` or `remove`; `attach` or `detach` for this machine.
    pub action: String,
    /// `zone`, `route`, `routes`, `app` or `machine`.
    pub kind: String,
    /// The name of the zone or app, the route's address, or the files of the machine.
    pub subject: String,
    /// The value before.
    pub before: Option<Value>,
    /// The value after.
    pub after: Option<Value>,
    /// The revision that the change undid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<u64>,
}

/// Whether this machine was attached or detached.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MachineAction {
    /// It was attached.
    Attach,
    /// It was detached.
    Detach,
}

/// What `system attach` or `detach` changed on this machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineChange {
    /// Which of both.
    pub action: MachineAction,
    /// The files and trust stores that it changed.
    #[schema(value_type = Vec<String>)]
    pub paths: Vec<PathBuf>,
    /// The home folders whose browsers were meant.
    #[schema(value_type = Vec<String>)]
    pub homes: Vec<PathBuf>,
}

impl MachineChange {
    /// The kind of such changes in the journal.
    pub const KIND: &str = "machine";
}
