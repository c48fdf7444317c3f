//! The DNS listeners: UDP and TCP sockets in front of [`bentlane_dns::answer`].
//!
//! The resolver runs on threads of its own, so that answers do not wait behind the proxy's work. It
//! reads the current [`Snapshot`](bentlane_model::Snapshot) and nothing else: no lock, no database.
//! Start from [`Sockets::bind`].

mod forwarder;
mod log;
mod serve;
mod sockets;
mod tcp;
mod udp;

pub use forwarder::Forwarder;
pub use log::{Log, Question};
pub use serve::{Handle, View};
pub use sockets::{BindError, Sockets};
