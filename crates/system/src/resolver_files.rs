//! The files that make the system ask us for our names.

use bentlane_dns::{ResolvConf, resolved_drop_in};

use std::net::{IpAddr, SocketAddr};

use crate::error::SystemError;
use crate::facts::Facts;

/// The settings for systemd's resolver, which finds us on any port.
pub(crate) fn drop_in(facts: &Facts) -> Result<String, SystemError> {
    match (facts.dns.first(), facts.zones.as_slice()) {
        (_, []) => Err(SystemError::NoZone),
        (None, _) => Err(SystemError::NotOnPort53 {
            listening: "no place".to_owned(),
        }),
        (Some(dns), zones) => Ok(resolved_drop_in(*dns, zones)),
    }
}

pub(crate) fn pointing_at_us(text: &str, facts: &Facts) -> Result<String, SystemError> {
    let ours = facts.dns.iter().filter(|at| at.port() == 53);
    let ours: Vec<IpAddr> = ours.map(SocketAddr::ip).collect();
    if ours.is_empty() {
        let listening: Vec<String> = facts.dns.iter().map(ToString::to_string).collect();
        return Err(SystemError::NotOnPort53 {
            listening: listening.join(", "),
        });
    }
    Ok(ResolvConf::parse(text).pointing_at(&ours))
}
