use std::num::NonZeroU16;

use serde::{Deserialize, Serialize};

use crate::address::Address;
use crate::settings::{Protocol, RouteSettings};
use crate::target::Target;

/// An address and the target it leads to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Route {
    /// What the route answers to; no two routes share it.
    pub address: Address,
    /// Where it leads.
    pub to: Target,
    /// How.
    #[serde(default, skip_serializing_if = "RouteSettings::is_default")]
    pub settings: RouteSettings,
}

impl Route {
    /// A route with the usual settings.
    #[must_use]
    pub fn new(address: Address, to: Target) -> Self {
        Self {
            address,
            to,
            settings: RouteSettings::default(),
        }
    }

    /// Whether bytes pass as they are.
    #[must_use]
    pub fn is_raw(&self) -> bool {
        self.address.port.is_some() && self.settings.protocol != Some(Protocol::Http)
    }

    /// Whether we listen on the address of the name's own; another program does otherwise.
    #[must_use]
    pub fn listens(&self) -> bool {
        self.settings.listen != Some(false)
    }

    /// The port for clients of HTTPS; `usual` is that of the listeners for everybody.
    #[must_use]
    pub fn https_port(&self, usual: u16) -> u16 {
        self.address.port.map_or(usual, NonZeroU16::get)
    }

    /// The target with a server, if any has one: the app behind the route's folder, or where the route
    /// leads.
    #[must_use]
    pub fn server(&self) -> &Target {
        self.settings.r#else.as_ref().unwrap_or(&self.to)
    }
}
