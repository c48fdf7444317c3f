use serde::{Deserialize, Serialize};

/// How a question to the resolver came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum QueryOutcome {
    /// Answered from the zones.
    Ours,
    /// Answered from what an upstream resolver said before.
    Kept,
    /// Asked of an upstream resolver.
    Forwarded,
    /// An upstream resolver led to an address that the rebinding protection blocks.
    Blocked,
    /// Not answered: refused, malformed, or without an upstream resolver.
    Refused,
}
