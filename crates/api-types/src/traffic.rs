//! Requests that passed the proxy.

use bentlane_traffic::{Exchange, RouteTraffic, TrafficPoint};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What passed the proxy lately.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Traffic {
    /// Exchanges, latest last.
    pub exchanges: Vec<Exchange>,
    /// The number of the last request that was considered; ask for what comes `after` it.
    pub last: i64,
    /// Exchanges after the given number that are no longer at hand: more came than were read.
    #[serde(default)]
    pub missed: u64,
    /// Requests since the start that were not recorded, since the queue was full.
    pub left_out: u64,
    /// Exchanges since the start that did not get into the database, and are known here alone.
    pub not_kept: u64,
}

/// What the exchanges of a time come to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrafficSummary {
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// By route, the busiest first.
    pub routes: Vec<RouteTraffic>,
    /// See [`Traffic::left_out`].
    pub left_out: u64,
    /// See [`Traffic::not_kept`].
    pub not_kept: u64,
}

/// How many requests there were, and how long they took, over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrafficSeries {
    /// Seconds that each point stands for.
    pub seconds: u32,
    /// A point for each time span, oldest first, those without a request included.
    pub points: Vec<TrafficPoint>,
}
