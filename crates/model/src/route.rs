use serde::{Deserialize, Serialize};

use crate::address::Address;
use crate::settings::RouteSettings;
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

    /// The target with a server, if any has one: the app behind the route's folder, or where the route
    /// leads.
    #[must_use]
    pub fn server(&self) -> &Target {
        self.settings.r#else.as_ref().unwrap_or(&self.to)
    }
}
