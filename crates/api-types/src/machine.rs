//! Changes of this machine that are planned, and guides for other systems.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What `system attach` would change on this machine.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct MachinePlan {
    /// The changes; none when all of it is attached.
    pub steps: Vec<PlannedStep>,
    /// What cannot be done, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    /// The command that carries it out.
    pub command: String,
}

/// A change of this machine.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlannedStep {
    /// The file or trust store.
    pub path: String,
    /// What is done to it, in words.
    pub what: String,
    /// The lines that it loses and gains, each with `-` or `+` before it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<String>,
}

/// How another system finds the names and trusts the root.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Guide {
    /// The steps, in words.
    pub text: String,
    /// A script that does it, and undoes it with `undo`.
    pub script: String,
    /// What to call the script's file.
    pub file_name: String,
}
