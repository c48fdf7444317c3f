//! DNS: query bytes in, answer bytes out, for names of ours and for those that others know.

pub mod zone_file;

mod answer;
mod cookie;
mod fast_path;
mod forward;
mod local_zone;
mod outcome;
mod query;
mod rebind;
mod resolv_conf;
mod settings;
mod wire;

/// An EDNS option for local use (RFC 6891 §9) that marks our own checks, and its content.
/// It comes last in their queries, so that the query log, which is about what others ask, can leave
/// them out at a glance.
pub const CHECK_MARK: (u16, &[u8]) = (65_001, b"bentlane-check");

pub use answer::{Outcome, answer, refuse};
pub use forward::{Cache, ForwardedQuestion, Key, Reason, Reply, Stored, least_ttl};
pub use outcome::QueryOutcome;
pub use query::question_in_words;
pub use rebind::{RebindLevel, RebindProtection};
pub use resolv_conf::{ResolvConf, resolved_drop_in};
pub use settings::Settings;
pub use wire::Transport;
