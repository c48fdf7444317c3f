//! Apps: commands that the service runs.

use std::collections::BTreeMap;

use bentlane_checks::{AppStatus, Finding};
use bentlane_model::AppSettings;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::routes::RouteInput;

/// An app to add.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AppInput {
    /// Its name: lower-case letters, digits and hyphens.
    pub name: String,
    /// Its settings, as a merge patch to the defaults.
    #[schema(value_type = AppSettings)]
    pub settings: Map<String, Value>,
    /// Routes to add with it; where one has no target, it leads to the app.
    #[serde(default)]
    pub routes: Vec<RouteInput>,
}

/// An app, and how it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppView {
    /// Its name.
    pub name: String,
    /// What it runs, and when.
    pub settings: AppSettings,
    /// Its ports, by name; that of its only port is empty.
    pub ports: BTreeMap<String, u16>,
    /// The routes that lead to it.
    pub routes: Vec<AppRoute>,
    /// How it is.
    pub status: AppStatus,
    /// What is wrong with it.
    pub findings: Vec<Finding>,
    /// Who has the port that was chosen for it, when it is added.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub port_notes: Vec<String>,
}

/// A route that leads to an app.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppRoute {
    /// Its address.
    pub address: String,
    /// The URL to visit.
    pub url: String,
}

/// The apps, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AppList {
    /// The apps.
    pub apps: Vec<AppView>,
}

/// A line of an app's output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OutputLineView {
    /// Its number: each line has a higher one.
    pub number: u64,
    /// When it was printed.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Where: `terminal`, `stdout`, `stderr`, the name of a log file, or `bentlane` for what the service
    /// says.
    pub stream: String,
    /// Its text, with colours (ECMA-48 SGR) and without other control functions.
    pub text: String,
}

/// Some of an app's output.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppOutput {
    /// The lines, the oldest first.
    pub lines: Vec<OutputLineView>,
    /// The number of the last line.
    pub last: u64,
}

/// A variable of an app's environment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct VariableView {
    /// Its name.
    pub name: String,
    /// Its value; absent when it is a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
}

/// The environment of an app, without its ports.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppEnvironment {
    /// Its variables, by name.
    pub variables: Vec<VariableView>,
}

/// What to run an app with in a terminal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AppByHand {
    /// The command.
    pub command: String,
    /// The folder.
    pub folder: String,
    /// The whole environment, with the ports; names and values that are no text are left out.
    pub environment: BTreeMap<String, String>,
    /// What the process has to be reported with.
    pub mark: String,
}

/// A process that somebody started in a terminal, to take the place of an app.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ByHandInput {
    /// The number of its process.
    pub pid: i32,
    /// The mark that its environment was given with.
    pub mark: String,
}
