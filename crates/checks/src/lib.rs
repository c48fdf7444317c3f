//! Checks: what was observed on the way from a name to its answer, and what it means.
//!
//! [`diagnose`] is pure: [`Facts`] (the way it should go) and [`Observations`] (the way it went) go
//! in, a [`Verdict`] comes out, so that every broken set-up is a row of a table test.

mod acceptance;
mod advice;
mod app;
mod attempt;
mod cookie;
mod diagnose;
mod finding;
mod fix;
mod folder_findings;
mod from_container;
mod guide;
mod hop;
mod hosts;
mod judge;
mod kind;
mod machine;
mod observation;
mod page;
mod reach;
mod since;
mod trace;
mod trial;
mod verdict;

pub use acceptance::{Acceptance, Accepted, acceptance};
pub use advice::{Advice, AdviceKind, advice_for_route, advice_for_zone};
pub use app::{AppProblem, AppState, AppStatus, ChangedFile};
pub use attempt::{Attempt, Refusal};
pub use diagnose::diagnose;
pub use finding::Finding;
pub use fix::{Action, Fix, Part, shell};
pub use from_container::{FromContainer, diagnose_from};
pub use guide::guide;
pub use hop::{Hop, Severity};
pub use hosts::{Hosts, HostsEntry};
pub use kind::{CHECK_AGENT, FINDING_HEADER, FindingKind};
pub use machine::{
    BrowserDns, ForcedHost, ForcedHttps, Holder, LookupResult, Machine, NameserverResult,
    StoreSeen, StoreTrust, WrittenFile,
};
pub use observation::{
    Answer, CertificateFault, Connect, Direct, End, EventsSeen, Facts, Handshake, Observations,
    PairFacts, PreflightSeen, RawClients, Resolve, SystemLookup, TargetLeaf, Timed, UpgradeSeen,
    Visit,
};
pub use page::{Markup, Page};
pub use reach::{
    ClientSeen, ClientTrustSeen, ItemState, Lookups, MachineItem, MachinePart, MachineSeen,
    MachineVerdict, NameFound, NameToReach, PROBE_LABEL, Standing, ToReach, ZoneNames,
    judge_machine,
};
pub use since::{Change, Conditions, Present, Proof, Since};
pub use trace::{Step, Trace, TraceSeen, trace};
pub use trial::{FORWARDING, Trial, Trials};
pub use verdict::{HopReport, HopState, Verdict, lane};
