//! The state of the service.

use std::net::SocketAddr;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::containers::EngineView;

/// A service that is about to start again.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Restarting {
    /// Its process, which stays the same.
    pub pid: u32,
    /// When it was started before.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
}

/// What runs, where it listens, what is wrong.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The service's version.
    pub version: String,
    /// Its process.
    pub pid: u32,
    /// When it started.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// Its data folder.
    pub data_dir: String,
    /// As whom it runs.
    pub runs_as: RunsAs,
    /// Where it listens.
    pub listeners: Listeners,
    /// How many connections there may be.
    pub capacity: Capacity,
    /// The upstream resolvers for names outside the zones; `null` if there is none.
    #[schema(value_type = Option<Vec<String>>)]
    pub upstreams: Option<Vec<SocketAddr>>,
    /// The database.
    pub database: DatabaseStatus,
    /// The container engines.
    #[serde(default)]
    pub engines: Vec<EngineView>,
    /// The revision of the configuration in force.
    pub revision: u64,
    /// How many zones there are.
    pub zones: usize,
    /// How many routes there are.
    pub routes: usize,
    /// How many routes passed their last check.
    pub passing: usize,
    /// How many routes have an app that had not answered yet at their last check.
    #[serde(default)]
    pub starting: usize,
    /// Routes to apps that are stopped until they are visited.
    pub stopped: usize,
    /// The addresses of routes that did not pass their last check, with the reason.
    pub broken: Vec<BrokenRoute>,
    /// What the user has to do, since the service cannot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub attention: Vec<Attention>,
    /// The tasks that run for as long as the service does.
    pub tasks: Vec<TaskView>,
}

/// A task that runs for as long as the service does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TaskView {
    /// Its name, such as `checks`; a listener's has its address.
    pub name: String,
    /// Whether it runs.
    pub state: TaskStateView,
    /// How often it ended before its time and was started again.
    pub restarts: u32,
    /// Why it ended the last time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// Whether a task runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TaskStateView {
    /// It runs.
    Running,
    /// It ended before its time, and is about to be started again.
    Restarting,
    /// It ended before its time, and the service stops.
    Failed,
}

/// What the user has to do, since the service cannot.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Attention {
    /// What is wrong.
    pub text: String,
    /// The command that fixes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub command: Option<String>,
}

/// A route that did not pass its last check.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BrokenRoute {
    /// Its address.
    pub address: String,
    /// The first finding, in a sentence.
    pub summary: String,
}

/// Where each listener listens.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Listeners {
    /// DNS, UDP and TCP.
    #[schema(value_type = Vec<String>)]
    pub dns: Vec<SocketAddr>,
    /// plain HTTP.
    #[schema(value_type = Vec<String>)]
    pub http: Vec<SocketAddr>,
    /// HTTPS.
    #[schema(value_type = Vec<String>)]
    pub https: Vec<SocketAddr>,
    /// The console.
    #[schema(value_type = Vec<String>)]
    pub console: Vec<SocketAddr>,
    /// The Unix socket of the API.
    pub socket: String,
}

/// As whom the service runs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunsAs {
    /// The user's number.
    pub uid: u32,
    /// The user's name, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
}

/// How many connections there may be, and what that is derived from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Capacity {
    /// Clients' connections to the proxy at a time.
    pub connections: usize,
    /// Files and sockets that the process may have open (RLIMIT_NOFILE).
    pub descriptors: u64,
    /// How many that would have to be for every connection that the proxy is made for; absent when
    /// there are enough.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wanted: Option<u64>,
}

/// Whose database it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DatabaseKind {
    /// A private server in the data folder.
    Private,
    /// One that was given by URL.
    Given,
}

/// The database.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DatabaseStatus {
    /// Where it is.
    pub place: String,
    /// Whether it answers. Routes work without it; changes do not.
    pub reachable: bool,
    /// Why it does not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}
