//! Checks: what was observed on the way from a name to its answer, and what it means.
//!
//! [`diagnose`] is pure: [`Facts`] (the way it should go) and [`Observations`] (the way it went) go
//! in, a [`Verdict`] comes out, so that every broken set-up is a row of a table test.

mod diagnose;
mod finding;
mod observation;
mod verdict;

pub use diagnose::diagnose;
pub use finding::{FINDING_HEADER, Finding, FindingKind, Remedy, Severity};
pub use observation::{
    Answer, Attempt, Connect, Facts, Handshake, Observations, Refusal, Resolve, Timed,
};
pub use verdict::{Hop, HopReport, HopState, Verdict, lane};
