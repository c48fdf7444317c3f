//! DNS: query bytes in, answer bytes out, for names of ours and for those that others know.

mod answer;
mod cookie;
mod forward;
mod query;
mod quick;
mod realm;

pub use answer::{Outcome, Settings, Transport, answer};
pub use forward::{Asked, Cache, Key, Reason, Reply, Stored};
pub use query::question_in_words;
