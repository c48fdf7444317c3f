//! The JSON of the API, as the service sends it and its clients read it.
//!
//! The OpenAPI document is made from these types, and the types of the console from that document.

mod apps;
mod authority;
mod backup;
mod certificates;
mod checks;
mod containers;
mod journal;
mod machine;
mod names;
mod ports;
mod problem;
mod projects;
mod queries;
mod records;
mod routes;
mod session;
mod status;
mod traffic;
mod zones;

pub use apps::{
    AppByHand, AppEnvironment, AppInput, AppList, AppOutput, AppRoute, AppView, ByHandInput,
    OutputLineView, VariableView,
};
pub use authority::{AuthorityView, ImportRoot, Protect, StoreView, Stores, Unlock};
pub use backup::{BACKUP_FORM, Backup, BackupInput, RestoreFrom, RestoreInput, Restored};
pub use bentlane_model::{JournalEntry, MachineAction, MachineChange};
pub use certificates::{
    CertificateView, Certificates, ExportRequest, ExportedView, ImportRequest, ImportedView,
    SignRequest, Signed,
};
pub use checks::{
    CheckRequest, FromSeen, NameToLookUp, NamesToLookUp, RouteHistory, RouteStateChange,
    RouteStates, TraceRequest, Verdicts,
};
pub use containers::{
    ContainerList, ContainerRoute, ContainerView, EngineView, NetworkView, Networks,
};
pub use journal::{Journal, MachineNote, UndoInput, Undone};
pub use machine::{Guide, MachinePlan, PlannedStep};
pub use names::{DecidedBy, NameExplanation};
pub use ports::{PortProtocol, PortView, Ports};
pub use problem::{FieldError, Problem};
pub use projects::{
    PlannedAction, PlannedChange, PlannedCommand, ProjectExport, ProjectLoad, ProjectPlan,
    ProjectText, ProjectView, Projects,
};
pub use queries::{Queries, QueryCount, QueryView, UpstreamView, Upstreams};
pub use records::{RecordInput, RecordView, Records, ZoneFile};
pub use routes::{
    RouteInput, RouteInputs, RouteMatch, RoutePatch, RouteValues, RouteView, Routes, RoutesAdded,
};
pub use session::{
    LinkAnswer, LinkNews, LinkState, SessionView, Sessions, SignInLink, SignInRequest, SignedOut,
};
pub use status::{
    Attention, BrokenRoute, Capacity, DatabaseKind, DatabaseStatus, Listeners, Restarting, RunsAs,
    Status, TaskStateView, TaskView,
};
pub use traffic::{Traffic, TrafficSeries, TrafficSummary};
pub use zones::{ZoneInput, ZoneView, Zones};

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The name of the service's socket in the data folder.
pub const SOCKET: &str = "api.sock";
/// The header in which the command line says which command calls, for the journal.
pub const COMMAND_HEADER: &str = "bentlane-command";

/// The header with a key of the caller's choice, up to 255 characters: a change that is asked for again
/// with the same key is made once. Keys are remembered for a day.
pub const IDEMPOTENCY_HEADER: &str = "idempotency-key";

/// What a change that was made already is answered with when it is asked for again.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeBefore {
    /// The revision that it made.
    pub made_before: u64,
}
