//! Containers and their engines.

use std::net::SocketAddr;

use bentlane_checks::Finding;
use bentlane_model::ContainerSeen;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A container, and the routes that lead to it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ContainerView {
    /// What its engine reports of it.
    #[serde(flatten)]
    pub seen: ContainerSeen,
    /// Where it can be connected to, by the port that a route without one means.
    #[schema(value_type = Vec<String>)]
    pub at: Vec<SocketAddr>,
    /// The routes that lead to it.
    pub routes: Vec<ContainerRoute>,
    /// The command that gives it a route, while it has none and could have one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub route_command: Option<String>,
    /// What is wrong with it.
    pub findings: Vec<Finding>,
}

/// A route that leads to a container.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ContainerRoute {
    /// Its address.
    pub address: String,
    /// The URL to visit.
    pub url: String,
    /// Whether the label of a container asks for it.
    pub of_label: bool,
}

/// The containers of all engines, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ContainerList {
    /// The containers.
    pub containers: Vec<ContainerView>,
    /// The engines.
    pub engines: Vec<EngineView>,
}

/// The networks of all engines.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Networks {
    /// The networks.
    pub networks: Vec<NetworkView>,
}

/// A network of containers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NetworkView {
    /// Its name.
    pub name: String,
    /// The socket of its engine.
    pub engine: String,
    /// What makes it, such as `bridge`.
    pub driver: String,
    /// The address of the machine on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gateway: Option<String>,
    /// Its addresses, such as `10.88.0.0/16`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subnet: Option<String>,
    /// Whether its containers may ask our resolver and use our proxy.
    pub is_open: bool,
    /// Why it cannot be opened; absent when it can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusal: Option<String>,
    /// Why names are not answered on it although it is open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

/// A container engine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EngineView {
    /// Its socket.
    pub socket: String,
    /// Why it does not answer; absent while it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// How many containers it has, as far as is known.
    pub containers: usize,
}
