//! Projects and their files.

use std::path::PathBuf;

use bentlane_model::Held;
use bentlane_project::Requires;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A project's file to load.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ProjectLoad {
    /// The file: its whole path.
    #[schema(value_type = String)]
    pub file: PathBuf,
    /// Its content.
    pub text: String,
    /// The zone below which its names are moved, for a further working copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Whether it takes what other projects have, or a person made.
    #[serde(default)]
    pub take_over: bool,
    /// The revision of the plan that was agreed to: with another one in force, nothing is loaded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub based_on: Option<u64>,
}

/// What loading a file changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProjectPlan {
    /// The file.
    #[schema(value_type = String)]
    pub file: PathBuf,
    /// The revision that it is made for.
    pub revision: u64,
    /// What is new, changed or gone.
    pub changes: Vec<PlannedChange>,
    /// How many of its routes, apps and records stay as they are.
    pub same: usize,
    /// What it takes from others.
    pub held: Vec<Held>,
    /// Commands that are new or changed: loading the file lets them be run.
    pub commands: Vec<PlannedCommand>,
    /// What it names beyond its folder and this machine.
    pub beyond: Vec<String>,
    /// What is worth knowing beforehand, such as who has a port.
    pub notes: Vec<String>,
    /// What it needs of the machine.
    pub requires: Requires,
}

/// A zone, route, app or record that loading a file changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlannedChange {
    /// What happens to it.
    pub change: PlannedAction,
    /// `zone`, `route`, `app` or `record`.
    pub kind: String,
    /// Its name or address.
    pub name: String,
    /// What it was, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// What it becomes, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
}

/// What happens to something when a file is loaded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum PlannedAction {
    /// It is added.
    New,
    /// It becomes otherwise.
    Changed,
    /// It goes.
    Gone,
}

/// A command that loading a file lets be run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PlannedCommand {
    /// The app.
    pub app: String,
    /// The command that it had.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The command.
    pub command: String,
    /// Its folder.
    pub folder: String,
}

/// A project that was loaded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProjectView {
    /// Its file.
    #[schema(value_type = String)]
    pub file: PathBuf,
    /// The zone below which its names were moved.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The addresses of its routes.
    pub routes: Vec<String>,
    /// Its apps.
    pub apps: Vec<String>,
    /// Why its file cannot be read; absent when it can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// Whether its file has another content than when it was loaded.
    pub is_changed: bool,
}

/// The projects that were loaded, by file.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Projects {
    /// The projects.
    pub projects: Vec<ProjectView>,
}

/// A project file as it would be written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProjectText {
    /// Its content.
    pub text: String,
}

/// What to write into a project file.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ProjectExport {
    /// The file, which may not be there yet: its whole path.
    #[schema(value_type = String)]
    pub file: PathBuf,
    /// Its present content, whose comments stay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}
