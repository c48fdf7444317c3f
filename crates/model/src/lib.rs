//! Names, zones, routes, apps, settings and targets, and the snapshot that the data plane reads.
//!
//! No I/O, no clock, no async: values go in, decisions come out. Start from [`Configuration`], what
//! the user wrote down, and [`Snapshot`], the compiled form of it.
//!
//! Left to others: DNS messages (`bentlane_dns`), certificates (`bentlane_ca`), what a check found
//! (`bentlane_checks`), and whatever opens a socket or a file.

mod address;
mod app;
mod bridge;
mod by_name;
mod by_text;
mod change;
mod configuration;
mod container;
mod destination;
mod difference;
mod error;
mod expectation;
mod guide;
mod invalid;
mod journal;
mod label;
mod mapping;
mod name;
mod port;
mod presentation;
mod project;
mod proposal;
mod record;
mod route;
mod route_index;
mod route_line;
mod setting;
mod settings;
mod snapshot;
mod target;
mod undo;
mod zone;

pub use address::{Address, AddressError, PathPrefix, Pattern};
pub use app::{
    App, AppName, AppPlace, AppSettings, AppTarget, Apps, IdleLimit, PortName, Ready, RunningPort,
    StartWhen, Variable,
};
pub use bridge::Bridge;
pub use by_name::{ByName, PortRange};
pub use change::{AppEdit, Change, Conflict, Rejection, RouteDraft, RouteEdit, Undo, ZoneChange};
pub use configuration::{Configuration, OWN_ADDRESS};
pub use container::{
    ContainerPlace, ContainerSeen, ContainerTarget, Containers, Health, Replica, SilentEngine,
};
pub use destination::{Destination, DestinationId};
pub use difference::{Changed, Difference};
pub use error::chain;
pub use expectation::{Expectation, ExpectedField, ExpectedValue};
pub use guide::settings_guide;
pub use invalid::Invalid;
pub use journal::{JournalEntry, MachineAction, MachineChange};
pub use label::{LabelFault, LabelProblem, LabelRoutes, ROUTES_LABEL};
pub use mapping::{Mapping, host_and_port, without_prefix};
pub use name::{Name, NameError, is_at_or_below, suffixes};
pub use port::{SUGGESTED_PORTS, suggested_ports};
pub use presentation::{Entry, Word, ZoneFileError, entries, words};
pub use project::{Held, LoadedProject, ProjectInput, ProjectRoute};
pub use proposal::{free_name, label_from};
pub use record::{Record, RecordData, RecordError, RecordName};
pub use route::Route;
pub use route_index::is_own;
pub use route_line::RouteLine;
pub use setting::{Leaf, Setting, SettingKind, add_to_lists, leaves, settings_of};
pub use settings::{
    AllowedOrigin, FieldToRemove, FieldToSet, HostField, Message, PinnedCert, Plain, Protocol,
    RouteSettings, StartContainer, TargetTls, TlsEnd, WaitLimit,
};
pub use snapshot::{Observed, RawRoute, Resolution, Routed, Snapshot};
pub use target::{Folder, Host, Redirect, Scheme, Target, TargetError, is_source};
pub use zone::{Answers, Zone, ZoneSettings, suggested_zone};
