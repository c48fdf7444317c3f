use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::invalid::Invalid;
use crate::name::Name;
use crate::record::Record;
use crate::setting::{merged, settings};
use crate::settings::Plain;

/// A DNS suffix that the resolver answers for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Zone {
    /// The suffix.
    pub name: Name,
    /// What its names resolve to.
    #[serde(default)]
    pub settings: ZoneSettings,
    /// The user's own records in it, by owner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<Record>,
}

settings! {
    /// How a zone answers.
    pub struct ZoneSettings with its own default {
        /// Seconds for which an answer may be cached, up to 86400
        ttl: u32 as u32, "SECONDS", "10";
        /// Which names exist: `every-name`, or those of routes and records (`routed-names`)
        answers: Answers as String, "WHICH", "every-name";
        /// The IPv4 address that its names resolve to
        ipv4: Option<Ipv4Addr> as String, "ADDRESS", "this machine's, unless there is an IPv6 one";
        /// The IPv6 address that its names resolve to
        ipv6: Option<Ipv6Addr> as String, "ADDRESS", "this machine's, unless there is an IPv4 one";
        /// How to handle plain HTTP: `redirect`, `serve` or `refuse`
        plain: Plain as String, "HOW", "redirect";
    }
}

/// Which names of a zone there are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Answers {
    /// Every one, so that a name without a route reaches a page that says so.
    #[default]
    EveryName,
    /// Those of routes and records alone.
    RoutedNames,
}

fn default_ttl() -> u32 {
    10
}

/// The longest time for which a zone's answers may be kept: a day. A route that moves should be
/// found.
pub(crate) const LONGEST_ZONE_TTL: u32 = 86_400;

impl Default for ZoneSettings {
    fn default() -> Self {
        Self {
            ttl: default_ttl(),
            answers: Answers::default(),
            ipv4: None,
            ipv6: None,
            plain: Plain::default(),
            unknown: BTreeMap::new(),
        }
    }
}

impl ZoneSettings {
    /// The settings after a JSON merge patch (RFC 7396): `null` unsets, what is left out stays.
    ///
    /// # Errors
    /// Each unknown key, and each value that its setting does not accept.
    pub fn merged(&self, patch: &Map<String, Value>) -> Result<Self, Vec<Invalid>> {
        merged(self, patch, Self::SETTINGS)
    }

    /// The addresses of another place that the zone's names resolve to; none is this machine's.
    #[must_use]
    pub fn addresses(&self) -> Vec<IpAddr> {
        let v4 = self.ipv4.map(IpAddr::V4).into_iter();
        v4.chain(self.ipv6.map(IpAddr::V6)).collect()
    }
}

impl Zone {
    /// A zone with the usual settings and no records.
    #[must_use]
    pub fn new(name: Name) -> Self {
        Self {
            name,
            settings: ZoneSettings::default(),
            records: Vec::new(),
        }
    }
}

/// The zone one would most likely want for `name`: its last two labels, since cookies are not
/// shared and wildcard certificates are refused right under a single label.
#[must_use]
pub fn suggested_zone(name: &Name) -> &str {
    let text = name.as_str();
    text.rmatch_indices('.')
        .nth(1)
        .map_or(text, |(dot, _)| &text[dot + 1..])
}
