use std::path::PathBuf;

use serde::{Deserialize, Serialize};

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
