use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::time::Duration;
use std::{fs, io};

use bentlane_dns::{RebindLevel, RebindProtection};
use bentlane_model::Name;
use serde::Deserialize;

/// Everything that a service is started with.
#[derive(Clone, Debug)]
pub struct Config {
    /// The folder for everything that is kept.
    pub data_dir: PathBuf,
    /// A PostgreSQL database to use; `None` starts a private server in the data folder.
    pub database_url: Option<String>,
    /// Where to listen.
    pub listen: Listen,
    /// Who answers for names outside the zones.
    pub upstreams: Upstreams,
    /// Which addresses these may lead to.
    pub rebinding: RebindProtection,
    /// How routes are checked in the background.
    pub checks: Checks,
    /// How much of the traffic is kept.
    pub traffic: KeepTraffic,
    /// The socket of the container engine; `None` for where it usually is.
    pub engine: Option<PathBuf>,
}

const DAY: Duration = Duration::from_secs(86_400);

/// How routes are checked in the background.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Checks {
    /// After how long a route that was proved is checked again. Default 30 s.
    pub every: Duration,
    /// For how long the results of checks are kept. Default 30 days.
    pub keep: Duration,
}

impl Checks {
    /// From seconds and days.
    #[must_use]
    pub fn new(seconds: Option<u32>, days: Option<u32>) -> Self {
        Self {
            every: Duration::from_secs(seconds.unwrap_or(30).max(1).into()),
            keep: DAY * days.unwrap_or(30),
        }
    }
}

/// How much is kept of what passed the proxy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeepTraffic {
    /// For how long. Default 7 days.
    pub age: Duration,
    /// How many exchanges at most. Default 200,000.
    pub most: u64,
}

impl KeepTraffic {
    /// From days and a count.
    #[must_use]
    pub fn new(days: Option<u32>, most: Option<u64>) -> Self {
        Self {
            age: DAY * days.unwrap_or(7),
            most: most.unwrap_or(200_000),
        }
    }
}

/// Who answers for names outside the zones.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Upstreams {
    /// The name servers that the system uses, or used before it was attached.
    System,
    /// These resolvers; when there are none, such names are refused.
    These(Vec<SocketAddr>),
}

/// One word of that choice: `system`, `none`, or a resolver's address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub enum UpstreamChoice {
    /// See [`Upstreams::System`].
    System,
    /// Nobody.
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
    /// Several words together; without one it is the system's.
    ///
    /// # Errors
    /// When `system` or `none` stands beside others.
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

/// Where each listener listens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// DNS, over UDP and TCP. Default port 53.
    pub dns: Vec<ListenAt>,
    /// plain HTTP, which redirects. Default port 80.
    pub http: Vec<ListenAt>,
    /// HTTPS. Default port 443.
    pub https: Vec<ListenAt>,
    /// The console. Default port 17070.
    pub console: Vec<ListenAt>,
}

/// One place to listen at: a port on both loopback families, or one loopback address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "PortOrText")]
pub enum ListenAt {
    /// 127.0.0.1, and ::1 where the machine has it.
    Port(u16),
    /// This address alone; port 0 finds a free one.
    Address(SocketAddr),
}

/// A setting that cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// A place to listen at does not parse.
    #[error("`{given}` is no place to listen at: give a port from 1 to 65535, or ADDRESS:PORT")]
    ListenAt {
        /// The text.
        given: String,
    },
    /// An upstream resolver does not parse.
    #[error(
        "`{given}` is no upstream resolver: give an address such as 192.0.2.53 or 192.0.2.53:5353, \
         or `system`, or `none`"
    )]
    Upstream {
        /// The text.
        given: String,
    },
    /// Words that exclude others.
    #[error("upstream: `system` and `none` stand alone, without addresses beside them")]
    UpstreamsMixed,
    /// An address beyond loopback.
    #[error("{address} is not a loopback address: Bent Lane listens on this machine alone")]
    NotLoopback {
        /// The address.
        address: IpAddr,
    },
    /// The file is not there or cannot be read.
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

/// `config.toml`: what need not be typed each time. A flag goes before it.
#[derive(Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConfigFile {
    /// See [`Config::data_dir`].
    pub data_dir: Option<PathBuf>,
    /// See [`Config::database_url`].
    pub database_url: Option<String>,
    /// Whether to use ports that every user may bind.
    #[serde(default)]
    pub high_ports: bool,
    /// Who answers for names outside the zones: `system`, `none`, or addresses of resolvers.
    #[serde(default)]
    pub upstream: Vec<UpstreamChoice>,
    /// Which addresses names outside the zones may not lead to: `off`, `loopback` or `private`.
    #[serde(default)]
    pub rebind_protection: RebindLevel,
    /// Names that may lead anywhere, and everything below them.
    #[serde(default)]
    pub rebind_exceptions: Vec<Name>,
    /// Where to listen.
    #[serde(default)]
    pub listen: ListenFile,
    /// How routes are checked in the background.
    #[serde(default)]
    pub checks: ChecksFile,
    /// How much of the traffic is kept.
    #[serde(default)]
    pub traffic: TrafficFile,
    /// See [`Config::engine`].
    pub engine: Option<PathBuf>,
}

/// The table `[checks]`.
#[derive(Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChecksFile {
    /// Seconds after which a route that was proved is checked again.
    pub every_seconds: Option<u32>,
    /// Days for which the results of checks are kept.
    pub keep_days: Option<u32>,
}

/// The table `[traffic]`.
#[derive(Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrafficFile {
    /// Days for which exchanges are kept.
    pub keep_days: Option<u32>,
    /// Exchanges that are kept at most.
    pub limit: Option<u64>,
}

/// The table `[listen]`: a port, `"ADDRESS:PORT"`, or a list of them, for each listener.
#[derive(Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ListenFile {
    /// See [`Listen::dns`].
    pub dns: Option<OneOrMore>,
    /// See [`Listen::http`].
    pub http: Option<OneOrMore>,
    /// See [`Listen::https`].
    pub https: Option<OneOrMore>,
    /// See [`Listen::console`].
    pub console: Option<OneOrMore>,
}

/// A single value or a list.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(untagged)]
pub enum OneOrMore {
    /// One place.
    One(ListenAt),
    /// Several.
    More(Vec<ListenAt>),
}

impl From<OneOrMore> for Vec<ListenAt> {
    fn from(value: OneOrMore) -> Self {
        match value {
            OneOrMore::One(at) => vec![at],
            OneOrMore::More(all) => all,
        }
    }
}

#[derive(Deserialize)]
#[serde(untagged)]
enum PortOrText {
    Port(u16),
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

impl ConfigFile {
    /// Reads `path`; a file that is not there is an empty one unless it is `required`.
    ///
    /// # Errors
    /// When the file cannot be read, or does not parse: the error names the line.
    pub fn read(path: &Path, required: bool) -> Result<Self, ConfigError> {
        let text = match fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound && !required => {
                return Ok(Self::default());
            }
            Err(source) => {
                return Err(ConfigError::Read {
                    path: path.to_owned(),
                    source,
                });
            }
        };
        toml_edit::de::from_str(&text).map_err(|error| {
            let reason = error.to_string().trim_end().to_owned();
            ConfigError::Parse {
                path: path.to_owned(),
                reason,
            }
        })
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
    fn places_to_listen_at(#[case] text: &str, #[case] wanted: ListenAt) {
        assert_eq!(text.parse::<ListenAt>().unwrap(), wanted);
    }

    #[rstest]
    #[case("0", "no place to listen at")]
    #[case("65536", "no place to listen at")]
    #[case("localhost:80", "no place to listen at")]
    #[case("0.0.0.0:443", "not a loopback address")]
    #[case("192.168.1.4:443", "not a loopback address")]
    fn places_that_are_refused(#[case] text: &str, #[case] reason: &str) {
        let error = text.parse::<ListenAt>().unwrap_err().to_string();
        assert!(error.contains(reason), "{error}");
    }

    #[rstest]
    #[case(
        "high_ports = true\n[listen]\ndns = 17053\nhttps = [\"127.0.0.1:17443\", 8443]",
        true
    )]
    #[case("", true)]
    #[case("colour = 1", false)]
    #[case(
        "rebind_protection = \"private\"\nrebind_exceptions = [\"corp.example\"]",
        true
    )]
    #[case("rebind_protection = \"some\"", false)]
    #[case("rebind_exceptions = [\"a..b\"]", false)]
    #[case("[listen]\ndns = 70000", false)]
    #[case("[listen]\ndns = \"0.0.0.0:53\"", false)]
    fn files(#[case] text: &str, #[case] accepted: bool) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.toml");
        fs::write(&path, text).unwrap();
        let outcome = ConfigFile::read(&path, true);
        assert_eq!(outcome.is_ok(), accepted, "{outcome:?}");
        if let Err(error) = outcome {
            assert!(
                error.to_string().contains("line"),
                "the line is named: {error}"
            );
        }
    }

    #[test]
    fn a_missing_file_is_an_error_only_when_it_was_asked_for() {
        let path = Path::new("/nonexistent/config.toml");
        assert_eq!(
            ConfigFile::read(path, false).unwrap(),
            ConfigFile::default()
        );
        assert!(matches!(
            ConfigFile::read(path, true),
            Err(ConfigError::Read { .. })
        ));
    }
}
