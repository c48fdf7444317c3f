//! Routes.

use std::net::IpAddr;

use bentlane_checks::{Advice, Verdict};
use bentlane_model::RouteSettings;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// A route to add.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RouteInput {
    /// A name in one of the zones, or `*.NAME` for every name below one; with `:PORT` behind it for
    /// raw TCP.
    pub name: String,
    /// A path prefix, such as `/api`; every path when it is left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prefix: Option<String>,
    /// Where it leads: a port such as `4310`, `https://HOST:PORT`, `folder:PATH`, `redirect:URL`.
    pub to: String,
    /// Its settings.
    #[serde(flatten)]
    #[schema(value_type = RouteSettings)]
    pub settings: Map<String, Value>,
}

/// Many routes to add, all or none.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RouteInputs {
    /// The routes.
    pub routes: Vec<RouteInput>,
}

/// What became of many routes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RoutesAdded {
    /// How many were added.
    pub added: usize,
}

/// What to change of a route, as a JSON merge patch (RFC 7396): what is left out stays, and `null`
/// unsets.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RoutePatch {
    /// Where it leads from now on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Its settings.
    #[serde(flatten)]
    #[schema(value_type = RouteSettings)]
    pub settings: Map<String, Value>,
}

/// What other systems ask for when a route is registered with them, for single sign-on or webhooks.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteValues {
    /// Scheme, host and port, as browsers write an origin (RFC 6454 §6.2).
    pub origin: String,
    /// What callback and redirect URLs begin with.
    pub callback_base: String,
    /// The `Domain` for cookies that all names of the zone share; absent right under a single label,
    /// where browsers share none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cookie_domain: Option<String>,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
}

/// A route.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteView {
    /// Name and path prefix together: what the route is called in commands.
    pub address: String,
    /// The name or `*.NAME`.
    pub name: String,
    /// The path prefix, `/` for every path.
    pub prefix: String,
    /// Where it leads.
    pub to: String,
    /// Where to open it; `*` stands for a label of your choice.
    pub url: String,
    /// What its name resolves to.
    #[schema(value_type = Vec<String>)]
    pub resolves_to: Vec<IpAddr>,
    /// The settings that are set.
    pub settings: RouteSettings,
    /// The container or service whose label asks for it; absent for a route of one's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_container: Option<String>,
    /// The file of the project that it came from; absent for one that a person added.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// What other systems ask for.
    pub values: RouteValues,
    /// What is questionable about its name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub advice: Vec<Advice>,
    /// Who has the port that it leads to, when it is added.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub port_notes: Vec<String>,
    /// Where its names lead now, when it takes the port, the app or the container from the name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub matches: Vec<RouteMatch>,
    /// What the last check came to; absent before the first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub verdict: Option<Verdict>,
}

/// A name below a wildcard, and where it leads.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RouteMatch {
    /// The name.
    pub name: String,
    /// The target that the name says.
    pub to: String,
    /// Where to open it.
    pub url: String,
}

/// Routes, by address.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Routes {
    /// The routes.
    pub routes: Vec<RouteView>,
    /// The address to ask for what comes `after`; none when nothing does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}
