//! What listens on this machine.

use std::net::IpAddr;

use bentlane_checks::Holder;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A TCP port on which something listens, on a loopback or wildcard address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PortView {
    /// The port.
    pub port: u16,
    /// The addresses on which it listens; `0.0.0.0` and `::` are all of their family.
    #[schema(value_type = Vec<String>)]
    pub addresses: Vec<IpAddr>,
    /// The name of the user whose process it is, or the number of one without a name.
    pub user: String,
    /// The process; absent when it is another user's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub process: Option<Holder>,
    /// Its protocol; absent for processes of other users, which are not asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocol: Option<PortProtocol>,
    /// The title of the first page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The container to which it is passed on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub container: Option<String>,
    /// The app that has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub app: Option<String>,
    /// The addresses of the routes that lead to it.
    pub routes: Vec<String>,
    /// Whether it is a port of the service itself.
    pub own: bool,
}

/// The protocol of a port.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PortProtocol {
    /// HTTP.
    Http,
    /// TLS.
    Tls,
    /// Something else.
    Other,
}

impl PortProtocol {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Http => "http",
            Self::Tls => "tls",
            Self::Other => "other",
        }
    }
}

/// What listens on this machine, in the order of the ports.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Ports {
    /// The ports.
    pub ports: Vec<PortView>,
}
