//! Checks and traces.

use bentlane_checks::{FromContainer, Hop, Verdict};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Which routes to check, and how.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CheckRequest {
    /// The routes' addresses, or names and URLs that lead to them; all routes when it is empty.
    #[serde(default)]
    pub addresses: Vec<String>,
    /// The one hop to look at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only: Option<Hop>,
    /// Whether to look further: at what a page asks and loads, and at the app without us. What that
    /// finds is reported, and not stored.
    #[serde(default)]
    pub deep: bool,
    /// Seconds to wait for the first byte of each response, in place of 10; no longer than the proxy does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<u32>,
    /// Observations from inside a container's network, which alone decide the first two hops.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<FromSeen>,
    /// Whether an address without a route is reported as gone rather than broken.
    #[serde(default)]
    pub known: bool,
}

/// Observations from inside a container's network.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FromSeen {
    /// The container.
    pub container: String,
    /// Whether it is on this machine's own network.
    pub shares_network: bool,
    /// The observations of each name.
    #[schema(value_type = Vec<Object>)]
    pub seen: Vec<FromContainer>,
}

/// A name that a check looks up and connects to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NameToLookUp {
    /// The route's address.
    pub address: String,
    /// The name.
    pub name: String,
    /// The port to connect to.
    pub port: u16,
}

/// The names that a check looks up and connects to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NamesToLookUp {
    /// In the order asked for.
    pub names: Vec<NameToLookUp>,
}

/// What checks came to.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Verdicts {
    /// A verdict for each route, in the order asked for.
    pub verdicts: Vec<Verdict>,
    /// The addresses of routes that were removed meanwhile.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gone: Vec<String>,
}

/// How routes have been over a time.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RouteStates {
    /// The routes of which something is known, by address.
    pub routes: Vec<RouteHistory>,
}

/// How a route has been.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteHistory {
    /// Its address.
    pub address: String,
    /// The changes of its state, oldest first; the first may be from before the time asked for.
    pub changes: Vec<RouteStateChange>,
}

/// The state of a route from a moment on.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteStateChange {
    /// From when.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Whether its check passed.
    pub passed: bool,
    /// Whether it passed and broke in turn, several times within minutes.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub flapping: bool,
}

/// What to follow.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TraceRequest {
    /// A URL, or a name with a path.
    pub url: String,
}
