//! Zones.

use bentlane_checks::Advice;
use bentlane_model::ZoneSettings;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A zone to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ZoneInput {
    /// The suffix, such as `moor.test`.
    pub name: String,
    /// Whether to take it even if it can be a real domain.
    #[serde(default)]
    pub anyway: bool,
}

/// A zone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ZoneView {
    /// The suffix.
    pub name: String,
    /// How many routes lie in it.
    pub routes: usize,
    /// How many records of one's own it has.
    pub records: usize,
    /// What its names resolve to.
    pub settings: ZoneSettings,
    /// Whether the root can vouch for its names. Otherwise no client accepts certificates for them
    /// until there is a new root.
    pub certified: bool,
    /// When the zone was just added: whether that took another root, which has to be trusted.
    #[serde(default)]
    pub new_root: bool,
    /// What is questionable about its name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub advice: Vec<Advice>,
}

/// All zones, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Zones {
    /// The zones.
    pub zones: Vec<ZoneView>,
}
