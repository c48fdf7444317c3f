use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use bentlane_model::ZoneSettings;

/// What every name of a zone resolves to, and what the resolver offers besides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Settings {
    /// The A record's address; `None` answers A with no data.
    pub ipv4: Option<Ipv4Addr>,
    /// The AAAA record's address; `None` answers AAAA with no data.
    pub ipv6: Option<Ipv6Addr>,
    /// Seconds that a resolver may keep an answer, also a negative one.
    pub ttl: u32,
    /// The port on which names of a zone are served over HTTPS.
    pub https_port: u16,
    /// What only we know, for the cookies that we hand out (RFC 7873 §6).
    pub cookie_secret: u64,
    /// This machine's address for clients whose loopback is another one, such as containers.
    pub bridge: Option<Ipv4Addr>,
    /// Whether names outside the zones are looked up elsewhere: what RA says (RFC 1035 §4.1.1).
    pub recursion: bool,
}

impl Settings {
    /// The same as a zone has them.
    pub(super) fn of(&self, zone: &ZoneSettings) -> Self {
        let mut settings = Self {
            ttl: zone.ttl,
            ..*self
        };
        if zone.ipv4.is_some() || zone.ipv6.is_some() {
            (settings.ipv4, settings.ipv6) = (zone.ipv4, zone.ipv6);
        }
        settings.across_the_bridge()
    }

    /// The same for clients behind a bridge whose gateway is `gateway`.
    #[must_use]
    pub fn behind(self, gateway: Ipv4Addr) -> Self {
        Self {
            bridge: Some(gateway),
            ..self
        }
        .across_the_bridge()
    }

    /// A loopback address would be the client itself, so this machine's other address replaces it.
    fn across_the_bridge(mut self) -> Self {
        if let Some(gateway) = self.bridge {
            let is_loopback = self.ipv4.is_some_and(|ip| ip.is_loopback())
                || self.ipv6.is_some_and(|ip| ip.is_loopback());
            if is_loopback {
                (self.ipv4, self.ipv6) = (Some(gateway), None);
            }
        }
        self
    }

    /// The same with names that resolve to `address`, if there is one.
    pub(super) fn at(mut self, address: Option<IpAddr>) -> Self {
        if let Some(address) = address {
            (self.ipv4, self.ipv6) = match address {
                IpAddr::V4(ip) => (Some(ip), None),
                IpAddr::V6(ip) => (None, Some(ip)),
            };
        }
        self.across_the_bridge()
    }
}

impl Default for Settings {
    /// Both loopback addresses, for 10 seconds, HTTPS on its usual port, and nothing besides.
    fn default() -> Self {
        Self {
            bridge: None,
            ipv4: Some(Ipv4Addr::LOCALHOST),
            ipv6: Some(Ipv6Addr::LOCALHOST),
            ttl: 10,
            https_port: 443,
            cookie_secret: 0,
            recursion: false,
        }
    }
}
