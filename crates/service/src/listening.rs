use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use bentlane_dns::Settings;
use rand::Rng;
use rand::distr::Uniform;

/// The name of our own pages behind the TLS listener, and of DNS over HTTPS. It is this machine's
/// everywhere (RFC 6761 §6.3).
pub(crate) const OWN_NAME: &str = "bentlane.localhost";

/// The addresses of every listener, as bound.
#[derive(Clone, Debug)]
pub(crate) struct Listening {
    pub(crate) dns: Vec<SocketAddr>,
    pub(crate) http: Vec<SocketAddr>,
    pub(crate) https: Vec<SocketAddr>,
    pub(crate) console: Vec<SocketAddr>,
    /// The label of the console's name below `localhost`. It is random and changes with each start, so
    /// that a browser holds nothing for it from another program that had the port before.
    pub(crate) label: String,
}

impl Listening {
    /// The port in URLs of routes.
    pub(crate) fn https_port(&self) -> u16 {
        self.https.first().map_or(443, SocketAddr::port)
    }

    /// The host of the console on its own listener.
    pub(crate) fn console_host(&self) -> String {
        let port = self.console.first().map_or(0, SocketAddr::port);
        format!("{}.localhost:{port}", self.label)
    }

    /// The origin of our own pages behind the proxy's TLS.
    pub(crate) fn site_origin(&self) -> String {
        match self.https_port() {
            443 => format!("https://{OWN_NAME}"),
            port => format!("https://{OWN_NAME}:{port}"),
        }
    }

    /// The addresses that names resolve to.
    pub(crate) fn https_ips(&self) -> Vec<IpAddr> {
        self.https.iter().map(SocketAddr::ip).collect()
    }

    /// How the resolver answers: with the addresses on which HTTPS listens.
    pub(crate) fn dns_settings(&self) -> Settings {
        let ips = || self.https.iter().map(SocketAddr::ip);
        let ipv4 = |ip| match ip {
            IpAddr::V4(ip) => Some::<Ipv4Addr>(ip),
            IpAddr::V6(_) => None,
        };
        let ipv6 = |ip| match ip {
            IpAddr::V4(_) => None,
            IpAddr::V6(ip) => Some::<Ipv6Addr>(ip),
        };
        Settings {
            ipv4: ips().find_map(ipv4),
            ipv6: ips().find_map(ipv6),
            https_port: self.https_port(),
            cookie_secret: rand::random(),
            ..Settings::default()
        }
    }
}

/// A label that cannot be guessed: 100 bits in lower-case letters and digits.
pub(crate) fn random_label() -> String {
    const ALPHABET: &[u8; 32] = b"abcdefghijklmnopqrstuvwxyz234567";
    let letters = rand::rng().sample_iter(Uniform::new(0, ALPHABET.len()).expect("32 is over 0"));
    letters
        .take(20)
        .filter_map(|index| ALPHABET.get(index).copied().map(char::from))
        .collect()
}
