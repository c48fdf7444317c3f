//! Questions that the resolver was asked.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use bentlane_dns::QueryOutcome;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A question that the resolver was asked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryView {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The name, in lower case.
    pub name: String,
    /// The type, such as `AAAA`.
    #[serde(rename = "type")]
    pub kind: String,
    /// The address that it came from.
    pub client: String,
    /// The process that asked, where the system reveals it: it has to be running still, and visible to
    /// the service's user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub process: Option<String>,
    /// Its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// How it came out.
    pub outcome: QueryOutcome,
    /// The response code, such as `NOERROR`; absent while an upstream resolver is asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// How often something was asked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryCount {
    /// The name.
    pub name: String,
    /// The type.
    #[serde(rename = "type")]
    pub kind: String,
    /// How it came out.
    pub outcome: QueryOutcome,
    /// How often.
    pub count: u64,
    /// How often by each process, where the system reveals it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub processes: BTreeMap<String, u64>,
}

/// What the resolver was asked lately.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Queries {
    /// The last questions, newest first.
    pub queries: Vec<QueryView>,
    /// The most frequent queries since the start, most frequent first.
    pub counts: Vec<QueryCount>,
    /// Questions since the start.
    pub total: u64,
    /// Questions that were answered and are not in these lists.
    pub left_out: u64,
}

/// The upstream resolvers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Upstreams {
    /// In the order of preference.
    pub upstreams: Vec<UpstreamView>,
}

/// An upstream resolver, and how it has answered since the start.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UpstreamView {
    /// Where it is asked.
    #[schema(value_type = String)]
    pub address: SocketAddr,
    /// Questions that it answered.
    pub answered: u64,
    /// Questions that it did not answer, or not with anything usable.
    pub failed: u64,
    /// What was wrong with its last answer; absent while it answers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// How long its last answer took, in microseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub took_us: Option<u64>,
}
