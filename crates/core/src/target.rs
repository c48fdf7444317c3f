use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::num::NonZeroU16;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use url::Url;

use crate::name::{Name, NameError};

/// Where a route leads, written as one string: `4310`, `http://127.0.0.1:4310` or
/// `redirect:https://www.moor.test`.
///
/// ```
/// use bentlane_core::Target;
///
/// assert_eq!("4310".parse::<Target>().unwrap().to_string(), "4310");
/// assert_eq!("127.0.0.1:4310".parse::<Target>().unwrap().to_string(), "http://127.0.0.1:4310");
/// assert!("70000".parse::<Target>().is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Target {
    /// A port of this machine's loopback: whichever of 127.0.0.1 and ::1 listens.
    Port(NonZeroU16),
    /// A server that speaks HTTP in the clear.
    Http {
        /// Its host.
        host: Host,
        /// Its port, 80 when the URL names none.
        port: NonZeroU16,
    },
    /// Nothing that we connect to: clients are sent to another URL.
    Redirect(Redirect),
}

/// Another URL that clients are sent to.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Redirect(Url);

/// The host of a target's URL.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Host {
    /// An address.
    Ip(IpAddr),
    /// A name, looked up by the system when a connection is made.
    Name(Name),
}

impl Target {
    /// The addresses to try in turn, or the host name and port that have to be looked up first. A
    /// redirect has none.
    ///
    /// # Errors
    /// The host's name and port, when the target names no address.
    pub fn addresses(&self) -> Result<Vec<SocketAddr>, (&str, u16)> {
        match self {
            Self::Port(port) => Ok(vec![
                SocketAddr::from((Ipv4Addr::LOCALHOST, port.get())),
                SocketAddr::from((Ipv6Addr::LOCALHOST, port.get())),
            ]),
            Self::Http {
                host: Host::Ip(ip),
                port,
            } => Ok(vec![(*ip, port.get()).into()]),
            Self::Http {
                host: Host::Name(name),
                port,
            } => Err((name.as_str(), port.get())),
            Self::Redirect(_) => Ok(Vec::new()),
        }
    }

    /// What listens there, in words: `port 4310 of this machine`.
    #[must_use]
    pub fn describe(&self) -> String {
        match self {
            Self::Port(port) => format!("port {port} of this machine"),
            Self::Http { host, port } => format!("{host}:{port}"),
            Self::Redirect(Redirect(url)) => format!("a redirect to {url}"),
        }
    }
}

impl Redirect {
    /// The name that clients are sent to; `None` for an address.
    #[must_use]
    pub fn name(&self) -> Option<Name> {
        self.0.domain()?.parse().ok()
    }

    /// The URL for a request of `path_and_query`, which is kept when the target has no path and
    /// query of its own. `port` stands in where the target is HTTPS and names none.
    #[must_use]
    pub fn location(&self, path_and_query: &str, port: Option<u16>) -> String {
        let Self(url) = self;
        let mut url = url.clone();
        if url.path() == "/" && url.query().is_none() {
            let (path, query) = match path_and_query.split_once('?') {
                Some((path, query)) => (path, Some(query)),
                None => (path_and_query, None),
            };
            url.set_path(path);
            url.set_query(query);
        }
        if url.scheme() == "https" && url.port().is_none() && port.is_some() {
            // It fails for URLs without a host alone, and this has one.
            let _ = url.set_port(port);
        }
        url.into()
    }

    fn parse(text: &str) -> Result<Self, TargetError> {
        let refuse = |reason: String| TargetError::Redirect {
            given: text.to_owned(),
            reason,
        };
        let url = Url::parse(text).map_err(|error| refuse(error.to_string()))?;
        let reason = if !matches!(url.scheme(), "http" | "https") {
            "it has to start with `https://` or `http://`"
        } else if !url.username().is_empty() || url.password().is_some() {
            "it must not hold a user name or password"
        } else if url.fragment().is_some() {
            "it must not hold a fragment (`#`): browsers keep their own"
        } else {
            return Ok(Self(url));
        };
        Err(refuse(reason.to_owned()))
    }
}

impl fmt::Display for Redirect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = self.0.as_str();
        let bare = self.0.path() == "/" && self.0.query().is_none();
        f.write_str(text.strip_suffix('/').filter(|_| bare).unwrap_or(text))
    }
}

impl fmt::Display for Host {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Ip(IpAddr::V4(ip)) => ip.fmt(f),
            Self::Ip(IpAddr::V6(ip)) => write!(f, "[{ip}]"),
            Self::Name(name) => name.fmt(f),
        }
    }
}

impl fmt::Display for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Port(port) => port.fmt(f),
            Self::Http { host, port } => write!(f, "http://{host}:{port}"),
            Self::Redirect(redirect) => write!(f, "redirect:{redirect}"),
        }
    }
}

impl FromStr for Target {
    type Err = TargetError;

    fn from_str(text: &str) -> Result<Self, TargetError> {
        if text.is_empty() {
            return Err(TargetError::Empty);
        }
        if text.bytes().all(|b| b.is_ascii_digit()) {
            return Ok(Self::Port(port(text)?));
        }
        if let Some(url) = text.strip_prefix("redirect:") {
            return Redirect::parse(url).map(Self::Redirect);
        }
        let authority = match text.split_once("://") {
            Some(("http", rest)) => rest.strip_suffix('/').unwrap_or(rest),
            Some((scheme, _)) => {
                return Err(TargetError::Scheme {
                    scheme: scheme.to_owned(),
                });
            }
            None if text.contains(':') => text,
            None => {
                return Err(TargetError::Grammar {
                    given: text.to_owned(),
                });
            }
        };
        if let Some((_, path)) = authority.split_once('/') {
            return Err(TargetError::Path {
                path: format!("/{path}"),
            });
        }
        let (host, port) = authority_parts(authority)?;
        Ok(Self::Http { host, port })
    }
}

fn authority_parts(authority: &str) -> Result<(Host, NonZeroU16), TargetError> {
    let grammar = || TargetError::Grammar {
        given: authority.to_owned(),
    };
    let (host, rest) = if let Some(bracketed) = authority.strip_prefix('[') {
        let (ip, rest) = bracketed.split_once(']').ok_or_else(grammar)?;
        let ip: Ipv6Addr = ip.parse().map_err(|_| grammar())?;
        (Host::Ip(ip.into()), rest)
    } else {
        let end = authority.find(':').unwrap_or(authority.len());
        let (host, rest) = authority.split_at(end);
        let host = match host.parse::<IpAddr>() {
            Ok(ip) => Host::Ip(ip),
            Err(_) => Host::Name(host.parse()?),
        };
        (host, rest)
    };
    let port = match rest.strip_prefix(':') {
        Some(text) => port(text)?,
        None if rest.is_empty() => NonZeroU16::new(80).expect("80 is not zero"),
        None => return Err(grammar()),
    };
    Ok((host, port))
}

fn port(text: &str) -> Result<NonZeroU16, TargetError> {
    text.parse().map_err(|_| TargetError::Port {
        given: text.to_owned(),
    })
}

impl TryFrom<String> for Target {
    type Error = TargetError;

    fn try_from(text: String) -> Result<Self, TargetError> {
        text.parse()
    }
}

impl From<Target> for String {
    fn from(target: Target) -> Self {
        target.to_string()
    }
}

/// Why a text is no target.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TargetError {
    /// Nothing was given.
    #[error("a target is needed: a port such as `4310`, `http://HOST:PORT`, or `redirect:URL`")]
    Empty,
    /// A number that is no port, or no number where a port belongs.
    #[error("`{given}` is no port: ports go from 1 to 65535")]
    Port {
        /// What stood there.
        given: String,
    },
    /// A kind of target that this version does not lead to.
    #[error(
        "targets of the kind `{scheme}://` are not supported: give a port, `http://HOST:PORT` or `redirect:URL`"
    )]
    Scheme {
        /// What stood before `://`.
        scheme: String,
    },
    /// A URL with a path.
    #[error("a target has no path (`{path}`): requests keep the path they come with")]
    Path {
        /// The path.
        path: String,
    },
    /// The host is not a name.
    #[error("the target's host: {0}")]
    Host(#[from] NameError),
    /// What clients should be sent to is no URL.
    #[error("`{given}` is no URL to send clients to: {reason}")]
    Redirect {
        /// What stood after `redirect:`.
        given: String,
        /// What is wrong with it.
        reason: String,
    },
    /// Anything else.
    #[error(
        "`{given}` is no target: give a port such as `4310`, `http://HOST:PORT` or `redirect:URL`"
    )]
    Grammar {
        /// The text.
        given: String,
    },
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("1", "1")]
    #[case("65535", "65535")]
    #[case("http://127.0.0.1:4310", "http://127.0.0.1:4310")]
    #[case("http://127.0.0.1:4310/", "http://127.0.0.1:4310")]
    #[case("127.0.0.1:4310", "http://127.0.0.1:4310")]
    #[case("http://[::1]:4310", "http://[::1]:4310")]
    #[case("http://Box.internal", "http://box.internal:80")]
    #[case("redirect:https://WWW.moor.test/", "redirect:https://www.moor.test")]
    #[case(
        "redirect:http://moor.test:7080/a?b",
        "redirect:http://moor.test:7080/a?b"
    )]
    fn canonical_form(#[case] given: &str, #[case] wanted: &str) {
        assert_eq!(given.parse::<Target>().unwrap().to_string(), wanted);
    }

    #[rstest]
    #[case("", TargetError::Empty)]
    #[case("0", TargetError::Port { given: "0".into() })]
    #[case("65536", TargetError::Port { given: "65536".into() })]
    #[case("99999999999999999999", TargetError::Port { given: "99999999999999999999".into() })]
    #[case("http://a.test:0", TargetError::Port { given: "0".into() })]
    #[case("http://a.test:", TargetError::Port { given: "".into() })]
    #[case("ftp://a.test", TargetError::Scheme { scheme: "ftp".into() })]
    #[case("http://a.test:1/x", TargetError::Path { path: "/x".into() })]
    #[case("http://:80", TargetError::Host(NameError::Empty))]
    #[case("http://[::1", TargetError::Grammar { given: "[::1".into() })]
    #[case("http://[::1]x", TargetError::Grammar { given: "[::1]x".into() })]
    #[case("-1", TargetError::Grammar { given: "-1".into() })]
    #[case("vite", TargetError::Grammar { given: "vite".into() })]
    fn refusals(#[case] given: &str, #[case] wanted: TargetError) {
        assert_eq!(given.parse::<Target>().unwrap_err(), wanted, "{given}");
    }

    #[rstest]
    #[case("www.moor.test", "relative URL without a base")]
    #[case("ftp://moor.test", "has to start with")]
    #[case("https://", "empty host")]
    #[case("https://rowan@moor.test", "user name")]
    #[case("https://moor.test/#top", "fragment")]
    fn no_place_to_send_clients_to(#[case] url: &str, #[case] reason: &str) {
        let refused = format!("redirect:{url}").parse::<Target>().unwrap_err();
        assert!(refused.to_string().contains(reason), "{refused}");
    }

    #[rstest]
    #[case("https://www.moor.test", "/a?b=1", None, "https://www.moor.test/a?b=1")]
    #[case(
        "https://www.moor.test",
        "/",
        Some(7443),
        "https://www.moor.test:7443/"
    )]
    #[case(
        "https://www.moor.test:8443",
        "/a",
        Some(7443),
        "https://www.moor.test:8443/a"
    )]
    #[case("http://www.moor.test", "/a", Some(7443), "http://www.moor.test/a")]
    #[case(
        "https://www.moor.test/new?x",
        "/a?b=1",
        None,
        "https://www.moor.test/new?x"
    )]
    fn locations(
        #[case] url: &str,
        #[case] asked: &str,
        #[case] port: Option<u16>,
        #[case] wanted: &str,
    ) {
        let Ok(Target::Redirect(redirect)) = format!("redirect:{url}").parse() else {
            panic!("{url}");
        };
        assert_eq!(redirect.location(asked, port), wanted);
    }
}
