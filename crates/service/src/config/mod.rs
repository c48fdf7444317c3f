mod settings;

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener};
use std::num::NonZeroU32;
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use bentlane_dns::RebindProtection;
use serde::Deserialize;

pub use settings::{OneOrMore, SERVICE_SETTINGS, ServiceSetting, ServiceSettings, settings_page};

/// How a service is started.
#[derive(Clone, Debug)]
pub struct Config {
    /// The data folder.
    pub data_dir: PathBuf,
    /// A PostgreSQL database to use; `None` starts a private server in the data folder.
    pub database_url: Option<String>,
    /// Where to listen.
    pub listen: Listen,
    /// Where names outside the zones are looked up.
    pub upstreams: Upstreams,
    /// Which addresses their answers may have.
    pub rebinding: RebindProtection,
    /// How routes are checked in the background.
    pub checks: Checks,
    /// How much recorded traffic is kept.
    pub traffic: KeepTraffic,
    /// The sockets of container engines; none for the usual ones.
    pub engines: Vec<PathBuf>,
}

const DAY: Duration = Duration::from_secs(86_400);

/// How routes are checked in the background.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Checks {
    /// The time after which a route that was proved is checked again. Default 30 s.
    pub every: Duration,
    /// How long the results of checks are kept. Default 30 days.
    pub keep: Duration,
}

/// How much recorded traffic is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeepTraffic {
    /// How long. Default 7 days.
    pub age: Duration,
    /// The most exchanges. Default 200,000.
    pub most: u64,
}

impl Config {
    /// The configuration for these settings, with the defaults for what is not set.
    ///
    /// # Errors
    /// When settings exclude each other.
    pub fn new(data_dir: PathBuf, settings: ServiceSettings) -> Result<Self, ConfigError> {
        let ServiceSettings {
            data_dir: _,
            database_url,
            high_ports,
            upstream,
            rebind_protection,
            rebind_exceptions,
            engine,
            listen,
            checks,
            traffic,
        } = settings;
        let usual = match high_ports.unwrap_or_default() {
            true => Listen::high(),
            false => Listen::standard(),
        };
        let days = |days: Option<u32>, default| DAY * days.unwrap_or(default);
        let seconds = checks.every_seconds.map_or(30, NonZeroU32::get);
        Ok(Self {
            data_dir,
            database_url,
            listen: Listen {
                dns: listen.dns.map_or(usual.dns, Vec::from),
                http: listen.http.map_or(usual.http, Vec::from),
                https: listen.https.map_or(usual.https, Vec::from),
                console: listen.console.map_or(usual.console, Vec::from),
            },
            upstreams: Upstreams::choose(&upstream.map_or_else(Vec::new, Vec::from))?,
            rebinding: RebindProtection {
                level: rebind_protection.unwrap_or_default(),
                exceptions: rebind_exceptions.map_or_else(Vec::new, Vec::from),
            },
            checks: Checks {
                every: Duration::from_secs(seconds.into()),
                keep: days(checks.keep_days, 30),
            },
            traffic: KeepTraffic {
                age: days(traffic.keep_days, 7),
                most: traffic.limit.unwrap_or(200_000),
            },
            engines: engine.map_or_else(Vec::new, Vec::from),
        })
    }
}

/// Where names outside the zones are looked up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Upstreams {
    /// The name servers that the system uses, or used before it was attached.
    System,
    /// These resolvers; when there are none, such names are refused.
    These(Vec<SocketAddr>),
}

/// One entry of that setting: `system`, `none`, or a resolver's address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub enum UpstreamChoice {
    /// See [`Upstreams::System`].
    System,
    /// Nowhere.
    None,
    /// The resolver there.
    At(SocketAddr),
}

impl FromStr for UpstreamChoice {
    type Err = ConfigError;

    fn from_str(text: &str) -> Result<Self, ConfigError> {
        match text {
            "system" => return Ok(Self::System),
            "none" => return Ok(Self::None),
            _ => {}
        }
        let address = text.parse().ok();
        let address = address.or_else(|| Some(SocketAddr::new(text.parse().ok()?, 53)));
        address.map(Self::At).ok_or_else(|| ConfigError::Upstream {
            given: text.to_owned(),
        })
    }
}

impl TryFrom<String> for UpstreamChoice {
    type Error = ConfigError;

    fn try_from(text: String) -> Result<Self, ConfigError> {
        text.parse()
    }
}

impl Upstreams {
    /// Combines entries; none is the same as `system`.
    ///
    /// # Errors
    /// When `system` or `none` is not the only entry.
    pub fn choose(choices: &[UpstreamChoice]) -> Result<Self, ConfigError> {
        match choices {
            [] | [UpstreamChoice::System] => return Ok(Self::System),
            [UpstreamChoice::None] => return Ok(Self::These(Vec::new())),
            _ => {}
        }
        let address = |choice: &UpstreamChoice| match choice {
            UpstreamChoice::At(address) => Ok(*address),
            UpstreamChoice::System | UpstreamChoice::None => Err(ConfigError::UpstreamsMixed),
        };
        choices
            .iter()
            .map(address)
            .collect::<Result<_, _>>()
            .map(Self::These)
    }
}

/// The addresses of each listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// DNS, over UDP and TCP. Default port 53.
    pub dns: Vec<ListenAt>,
    /// Plain HTTP, which redirects. Default port 80.
    pub http: Vec<ListenAt>,
    /// HTTPS. Default port 443.
    pub https: Vec<ListenAt>,
    /// The console. Default port 17070.
    pub console: Vec<ListenAt>,
}

impl Listen {
    /// Each listener: what it is for, its flag, and its addresses.
    #[must_use]
    pub fn each(&self) -> [(&'static str, &'static str, Vec<SocketAddr>); 4] {
        [
            ("DNS", "--dns", &self.dns),
            ("HTTP", "--http", &self.http),
            ("HTTPS", "--https", &self.https),
            ("the console", "--console", &self.console),
        ]
        .map(|(purpose, flag, places)| {
            let addresses = places.iter().flat_map(|place| place.addresses());
            (purpose, flag, addresses.collect())
        })
    }
}

/// A port on both loopback families, or one loopback address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "PortOrText")]
pub enum ListenAt {
    /// 127.0.0.1, and ::1 where the machine has it.
    Port(u16),
    /// This address alone; port 0 finds a free one.
    Address(SocketAddr),
}

/// Why a setting cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// An address to listen on does not parse.
    #[error(
        "`{given}` is not an address to listen on: give a port from 1 to 65535, or ADDRESS:PORT"
    )]
    ListenAt {
        /// The text.
        given: String,
    },
    /// An upstream resolver does not parse.
    #[error(
        "`{given}` is not an upstream resolver: give an address such as 192.0.2.53 or 192.0.2.53:5353, \
         or `system`, or `none`"
    )]
    Upstream {
        /// The text.
        given: String,
    },
    /// Entries that exclude others.
    #[error("upstream: `system` and `none` cannot be combined with other entries")]
    UpstreamsMixed,
    /// An address beyond loopback.
    #[error("{address} is not a loopback address: Bent Lane listens on this machine alone")]
    NotLoopback {
        /// The address.
        address: IpAddr,
    },
    /// The file does not exist or cannot be read.
    #[error("cannot read {path}")]
    Read {
        /// The file.
        path: PathBuf,
        /// The system's reason.
        source: io::Error,
    },
    /// The file's content does not parse.
    #[error("{path}: {reason}")]
    Parse {
        /// The file.
        path: PathBuf,
        /// What is wrong, and on which line.
        reason: String,
    },
}

impl Listen {
    /// The standard ports, which need root or the right to bind ports below 1024.
    #[must_use]
    pub fn standard() -> Self {
        Self::ports(53, 80, 443)
    }

    /// Ports that every user may bind.
    #[must_use]
    pub fn high() -> Self {
        Self::ports(17053, 17080, 17443)
    }

    fn ports(dns: u16, http: u16, https: u16) -> Self {
        let at = |port| vec![ListenAt::Port(port)];
        Self {
            dns: at(dns),
            http: at(http),
            https: at(https),
            console: at(17070),
        }
    }
}

impl ListenAt {
    /// The socket addresses to bind.
    #[must_use]
    pub fn addresses(self) -> Vec<SocketAddr> {
        match self {
            Self::Address(address) => vec![address],
            Self::Port(port) => {
                let mut addresses = vec![SocketAddr::from((Ipv4Addr::LOCALHOST, port))];
                if TcpListener::bind((Ipv6Addr::LOCALHOST, 0)).is_ok() {
                    addresses.push(SocketAddr::from((Ipv6Addr::LOCALHOST, port)));
                }
                addresses
            }
        }
    }
}

impl FromStr for ListenAt {
    type Err = ConfigError;

    fn from_str(text: &str) -> Result<Self, ConfigError> {
        if let Ok(address) = text.parse::<SocketAddr>() {
            if !address.ip().is_loopback() {
                return Err(ConfigError::NotLoopback {
                    address: address.ip(),
                });
            }
            return Ok(Self::Address(address));
        }
        match text.parse() {
            Ok(port) if port != 0 => Ok(Self::Port(port)),
            _ => Err(ConfigError::ListenAt {
                given: text.to_owned(),
            }),
        }
    }
}

#[derive(Deserialize)]
#[serde(untagged)]
enum PortOrText {
    Port(i64),
    Text(String),
}

impl TryFrom<PortOrText> for ListenAt {
    type Error = ConfigError;

    fn try_from(value: PortOrText) -> Result<Self, ConfigError> {
        match value {
            PortOrText::Port(port) => port.to_string().parse(),
            PortOrText::Text(text) => text.parse(),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("17053", ListenAt::Port(17053))]
    #[case("127.0.0.1:0", ListenAt::Address(SocketAddr::from(([127, 0, 0, 1], 0))))]
    #[case("127.3.4.5:53", ListenAt::Address(SocketAddr::from(([127, 3, 4, 5], 53))))]
    fn addresses_to_listen_on(#[case] text: &str, #[case] wanted: ListenAt) {
        assert_eq!(text.parse::<ListenAt>().unwrap(), wanted);
    }

    #[rstest]
    #[case("0", "not an address to listen on")]
    #[case("65536", "not an address to listen on")]
    #[case("localhost:80", "not an address to listen on")]
    #[case("0.0.0.0:443", "not a loopback address")]
    #[case("192.168.1.4:443", "not a loopback address")]
    fn addresses_that_are_refused(#[case] text: &str, #[case] reason: &str) {
        let error = text.parse::<ListenAt>().unwrap_err().to_string();
        assert!(error.contains(reason), "{error}");
    }
}
