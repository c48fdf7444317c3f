//! Attaching to the operating system and detaching from it, so that nothing is left behind.
//!
//! [`System::plan_attach`] and [`System::plan_detach`] say what would change; [`System::carry_out`]
//! does it. Before a file is replaced, what was there is kept below `/var/lib/bentlane/system`,
//! together with what we leave in its place, so that a change by somebody else is noticed and never
//! overwritten unasked. Each file is replaced whole or not at all; a crash between two steps leaves
//! a state that [`System::state`] reports and the next plan repairs.

mod approved;
mod browsers;
mod carry_out;
mod content;
mod error;
mod facts;
mod file_error;
mod files;
mod guide;
mod hsts;
mod observe;
mod plan;
mod profiles;
mod program;
mod record;
mod resolver_files;
mod steps;
mod stores;
mod swap;
mod text;
mod trust;
mod unit;

pub use approved::{Approved, WANTED_FILE, Wanted};
pub use browsers::{Browser, Family, browsers_with_own_dns, installed_browsers};
pub use content::Content;
pub use error::SystemError;
pub use facts::Facts;
pub use file_error::FileError;
pub use files::{Folder, read_file, read_in_root};
pub use guide::{Guide, OtherSystem};
pub use hsts::browsers_forcing_https;
pub use plan::System;
pub use record::Part;
pub use steps::{PartState, Plan, ProgramStep, Step, StepKind};
pub use stores::{Root, StoreKind, StoredCertificate, TrustStore, system_bundle, trust_stores};
pub use trust::{ClientTrust, OwnRoot, StoreReport, StoreStep, TrustState};
pub use unit::{Unit, repair_unit, socket_unit, watch_unit};
