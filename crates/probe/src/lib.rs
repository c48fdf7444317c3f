//! The observers behind a check: look up, connect, shake hands, ask.
//!
//! [`Prober::observe`] walks the way of one route as a client would and reports what it saw;
//! `bentlane_core::check::diagnose` says what it means. [`port_holder`] tells which process has a
//! port. Nothing here changes anything: requests are GET, marked as ours, and carry no cookie.

mod ask;
mod connect;
mod holder;
mod lookup;
mod observe;
mod shake;

pub use holder::{Holder, port_holder, socket_holders};
pub use observe::{ProbeLimits, Prober};
