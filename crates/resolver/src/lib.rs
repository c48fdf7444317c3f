//! The DNS listeners: UDP and TCP sockets in front of [`bentlane_dns::answer`].
//!
//! Each UDP socket is served by its own thread, so that answers do not wait behind other work. It
//! reads the current [`Snapshot`](bentlane_model::Snapshot) and nothing else: no lock, no database.
//! Start from [`Sockets::bind`].

mod filter;
mod forwarder;
mod log;
mod serve;
mod sockets;

pub use forwarder::{Forwarder, UpstreamHealth};
pub use log::{Log, Question};
pub use serve::{AnswerSource, Asking};
pub use sockets::{BindError, Sockets};
