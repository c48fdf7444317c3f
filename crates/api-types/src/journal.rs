//! The journal, and taking changes back.

use bentlane_model::MachineChange;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::ToSchema;

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
    /// `add`, `edit` or `remove`; `attach` or `detach` for this machine.
    pub action: String,
    /// `zone`, `route`, `routes` or `machine`.
    pub kind: String,
    /// The zone's name, the route's address, or the files of the machine.
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

/// What was changed on this machine, for the journal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MachineNote {
    /// What was changed.
    pub change: MachineChange,
    /// The revision that the change took back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<u64>,
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
