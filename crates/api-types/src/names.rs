//! What the resolver answers, and why.

use std::net::IpAddr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the resolver answers for a name, and what decided that.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NameExplanation {
    /// The name.
    pub name: String,
    /// What decided.
    pub decided_by: DecidedBy,
    /// That in a sentence.
    pub reason: String,
    /// The zone that the name is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The route that serves `https://NAME/`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route: Option<String>,
    /// The records of the zone's file for this name, as such a file has them (RFC 1035 §5.1).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<String>,
    /// The addresses that the resolver gives for it now.
    #[schema(value_type = Vec<String>)]
    pub addresses: Vec<IpAddr>,
    /// The error that it gives in place of addresses, such as `NXDOMAIN`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// What decides how the resolver answers for a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DecidedBy {
    /// A record of the zone.
    Record,
    /// A route with an address of its own.
    Route,
    /// The zone, which gives every name in it the same addresses.
    Zone,
    /// The zone, which answers for no name without a route or record.
    NoSuchName,
    /// An upstream resolver: the name is in no zone.
    Upstream,
    /// Nothing: the name is in no zone, and there is no upstream resolver.
    NotOurs,
}
