use std::fmt;

use serde::{Deserialize, Serialize};

/// One step of the way from a name to the right answer.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Hop {
    /// The name resolves to where we listen.
    Resolve,
    /// Our certificate is trusted.
    Handshake,
    /// A route exists, and its target accepts a connection.
    Connect,
    /// A request gets its answer.
    Answer,
    /// The answer is the right app's.
    Expect,
}

impl Hop {
    /// All hops, in the order of a request.
    pub const ALL: [Self; 5] = [
        Self::Resolve,
        Self::Handshake,
        Self::Connect,
        Self::Answer,
        Self::Expect,
    ];

    /// The hop's name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Resolve => "resolve",
            Self::Handshake => "handshake",
            Self::Connect => "connect",
            Self::Answer => "answer",
            Self::Expect => "expect",
        }
    }
}

impl fmt::Display for Hop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// How severe a finding is.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// It works, and could be better.
    #[serde(alias = "advice")]
    Hint,
    /// It works for now, or for some.
    #[serde(alias = "risk")]
    Warning,
    /// It does not work.
    #[serde(alias = "broken")]
    Error,
}
