//! The journal, and undo.

use bentlane_model::{JournalEntry, MachineChange};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A change to undo.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UndoInput {
    /// The revision that it made; the latest that is in force when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<u64>,
    /// In place of the revision: the `Idempotency-Key` with which the change was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
}

/// What was changed on this machine, for the journal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachineNote {
    /// What was changed.
    pub change: MachineChange,
    /// The revision that the change undid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<u64>,
}

/// A change that was undone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The revision of the undo.
    pub revision: u64,
    /// What the change had done.
    pub entries: Vec<JournalEntry>,
}

/// The latest changes, newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Journal {
    /// The changes.
    pub entries: Vec<JournalEntry>,
}
