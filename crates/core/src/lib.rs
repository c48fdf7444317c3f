//! Names, zones, routes, DNS answers, certificates and verdicts: everything Bent Lane decides.
//!
//! This crate is sans-I/O: bytes and facts go in, decisions come out. It opens no socket, reads no
//! file and asks no clock; `now` is an argument. What observes and what acts lives in the crates
//! that depend on this one.
//!
//! Start from [`Configuration`], what the user wrote down, and [`Snapshot`], the compiled picture
//! of it that the data plane reads. [`dns::answer`] turns a query into its answer,
//! [`authority::Authority`] issues certificates, and [`check::diagnose`] turns observations into a
//! verdict.

pub mod authority;
pub mod check;
pub mod dns;
pub mod exchange;
pub mod zone_file;

mod acceptance;
mod address;
mod advice;
mod configuration;
mod container;
mod error;
mod expectation;
mod hosts;
mod mapping;
mod name;
mod record;
mod resolv_conf;
mod settings;
mod snapshot;
mod target;
mod unit;

pub use acceptance::{Acceptance, Accepted, acceptance};
pub use address::{Address, AddressError, PathPrefix, Pattern};
pub use advice::{Advice, AdviceKind, advice_for_route, advice_for_zone};
pub use configuration::{
    AddressChoice, Answers, Change, Configuration, Invalid, Rejection, Route, RouteDraft, Zone,
    ZoneChange, ZoneSettings, is_own, suggested_zone,
};
pub use container::{ContainerPlace, ContainerSeen, ContainerTarget, Containers};
pub use error::chain;
pub use expectation::{Expectation, ExpectedField, ExpectedValue};
pub use hosts::{Hosts, HostsEntry};
pub use mapping::{Mapping, without_prefix};
pub use name::{Name, NameError};
pub use record::{Record, RecordData, RecordError, RecordName};
pub use resolv_conf::{ResolvConf, resolved_drop_in};
pub use settings::{
    AllowedOrigin, FieldToRemove, FieldToSet, HostField, Message, PinnedCert, Plain, RouteSettings,
    TargetTls, TlsEnd,
};
pub use snapshot::{Destination, DestinationId, RawRoute, Resolution, Routed, Snapshot};
pub use target::{Folder, Host, Redirect, Scheme, Target, TargetError};
pub use unit::{Unit, repair_unit, socket_unit, watch_unit};
