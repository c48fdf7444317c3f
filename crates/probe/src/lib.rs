//! The observers behind a check: look up, connect, shake hands, ask.
//!
//! [`Prober::observe`] walks the way of one route as a client would and reports what it saw;
//! `bentlane_checks::diagnose` says what it means. [`port_holder`] tells which process has a
//! port. Nothing here changes anything: requests are GET (and OPTIONS for a preflight), marked as
//! ours, and carry no cookie; they go to our own listeners and to the routes' own targets, nowhere
//! else.

mod client;
mod connect;
mod files;
mod from_here;
mod handshake;
mod holder;
mod lookup;
mod observe;
mod ports;
mod target;
mod visit;

pub use files::{branch_in, gateways, written_since};
pub use from_here::look_from_here;
pub use holder::{
    listeners, other_on_443, peer_uid, port_holder, port_owner, runs, socket_holders, unit_of,
};
pub use lookup::resolve;
pub use observe::{ProbeLimits, Prober};
pub use ports::{PortSeen, Spoken, ports, reachable, spoken};
