//! Networks of containers that were opened: their containers may ask our resolver and use our proxy.

use std::net::{IpAddr, Ipv4Addr};

/// A bridge network of a container engine, whose gateway is this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bridge {
    /// What its engine calls it.
    pub network: String,
    /// This machine's address on it.
    pub gateway: Ipv4Addr,
    /// How many bits of the addresses on it are the same.
    pub prefix: u8,
}

impl Bridge {
    /// The bridge with this gateway and subnet, as engines write them: `10.88.0.1` and `10.88.0.0/16`.
    /// `None` for what is no private subnet around the gateway.
    #[must_use]
    pub fn new(network: &str, gateway: &str, subnet: &str) -> Option<Self> {
        let gateway: Ipv4Addr = gateway.parse().ok()?;
        let (first, prefix) = subnet.split_once('/')?;
        let (first, prefix): (Ipv4Addr, u8) = (first.parse().ok()?, prefix.parse().ok()?);
        let bridge = Self {
            network: network.to_owned(),
            gateway,
            prefix,
        };
        // One that is wider would be no network of containers, but the world.
        let is_sane = (8..=30).contains(&prefix) && gateway.is_private();
        (is_sane && bridge.has(first.into())).then_some(bridge)
    }

    /// Whether an address is on it.
    #[must_use]
    pub fn has(&self, ip: IpAddr) -> bool {
        let IpAddr::V4(ip) = ip.to_canonical() else {
            return false;
        };
        let mask = u32::MAX
            .checked_shl(32 - u32::from(self.prefix.min(32)))
            .unwrap_or(0);
        ip.to_bits() & mask == self.gateway.to_bits() & mask
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("10.88.0.1", "10.88.0.0/16", "10.88.7.3", Some(true))]
    #[case("10.88.0.1", "10.88.0.0/16", "10.89.0.2", Some(false))]
    #[case("10.88.0.1", "10.88.0.0/16", "127.0.0.1", Some(false))]
    #[case("10.88.0.1", "10.88.0.0/16", "::ffff:10.88.0.2", Some(true))]
    #[case("172.17.0.1", "172.17.0.0/24", "172.17.1.1", Some(false))]
    #[case("10.88.0.1", "0.0.0.0/0", "10.88.0.2", None)]
    #[case("192.0.2.1", "192.0.2.0/24", "192.0.2.2", None)]
    #[case("10.88.0.1", "10.99.0.0/16", "10.88.0.2", None)]
    #[case("fd00::1", "fd00::/64", "10.88.0.2", None)]
    fn a_bridge_has_the_addresses_of_its_subnet(
        #[case] gateway: &str,
        #[case] subnet: &str,
        #[case] ip: &str,
        #[case] has: Option<bool>,
    ) {
        let bridge = Bridge::new("net", gateway, subnet);
        assert_eq!(bridge.map(|it| it.has(ip.parse().unwrap())), has);
    }
}
