use std::ffi::OsStr;
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::num::NonZeroU16;
use std::path::{Component, Path, PathBuf};
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use url::Url;

use crate::app::AppTarget;
use crate::by_name::ByName;
use crate::container::ContainerTarget;
use crate::invalid::Invalid;
use crate::name::{Name, NameError};

/// Where a route leads, written as one string: `4310`, `https://127.0.0.1:8443`,
/// `folder:/home/rowan/docs` or `redirect:https://www.moor.test`.
///
/// ```
/// use bentlane_model::Target;
///
/// assert_eq!("4310".parse::<Target>().unwrap().to_string(), "4310");
/// assert_eq!("h2c://127.0.0.1:50051/".parse::<Target>().unwrap().to_string(), "h2c://127.0.0.1:50051");
/// assert!("70000".parse::<Target>().is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Target {
    /// A port of this machine's loopback: whichever of 127.0.0.1 and ::1 listens.
    Port(NonZeroU16),
    /// A server somewhere.
    Server {
        /// Its protocol.
        scheme: Scheme,
        /// Its host.
        host: Host,
        /// Its port, the scheme's own when the URL names none.
        port: NonZeroU16,
    },
    /// A container, whose address its engine reports.
    Container(ContainerTarget),
    /// An app that the service runs.
    App(AppTarget),
    /// What the name says that is asked for.
    ByName(ByName),
    /// Files below a folder of this machine, which we answer with ourselves.
    Folder(Folder),
    /// Nothing that we connect to: clients are sent to another URL.
    Redirect(Redirect),
}

/// The protocol of a target.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Scheme {
    /// Written `HOST:PORT`: HTTP/1.1 without TLS, or whatever a route for raw TCP carries.
    Bare,
    /// HTTP/1.1 without TLS.
    Http,
    /// HTTP/2 or HTTP/1.1 over TLS, as the server chooses.
    Https,
    /// HTTP/2 without TLS, by prior knowledge (RFC 9113 §3.3), as gRPC servers use it.
    H2c,
}

/// A folder, by its whole path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Folder(PathBuf);

impl Folder {
    /// Its path, which starts at the root.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }
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

/// Whether a file needs an interpreter, by its extension, so that its source is not what a client wants.
#[must_use]
pub fn is_source(file: &Path) -> bool {
    const EXTENSIONS: [&str; 10] = [
        "asp", "aspx", "cgi", "erb", "jsp", "php", "phtml", "pl", "py", "rb",
    ];
    let extension = file.extension().and_then(OsStr::to_str);
    extension.is_some_and(|own| {
        EXTENSIONS
            .iter()
            .any(|known| known.eq_ignore_ascii_case(own))
    })
}

impl Target {
    /// Whatever listens at an address.
    #[must_use]
    pub fn at(address: SocketAddr) -> Self {
        Self::Server {
            scheme: Scheme::Bare,
            host: Host::Ip(address.ip()),
            // No listener has the port 0.
            port: NonZeroU16::new(address.port()).unwrap_or(NonZeroU16::MIN),
        }
    }

    /// The addresses to try in turn, or the host name and port that have to be looked up first. A
    /// redirect has none; those of a container come from its engine, and those of an app from what
    /// runs it.
    ///
    /// # Errors
    /// The host's name and port, when the target names no address.
    pub fn addresses(&self) -> Result<Vec<SocketAddr>, (&str, u16)> {
        match self {
            Self::Port(port) => Ok(vec![
                SocketAddr::from((Ipv4Addr::LOCALHOST, port.get())),
                SocketAddr::from((Ipv6Addr::LOCALHOST, port.get())),
            ]),
            Self::Server {
                host: Host::Ip(ip),
                port,
                ..
            } => Ok(vec![(*ip, port.get()).into()]),
            Self::Server {
                host: Host::Name(name),
                port,
                ..
            } => Err((name.as_str(), port.get())),
            Self::Container(_)
            | Self::App(_)
            | Self::ByName(_)
            | Self::Folder(_)
            | Self::Redirect(_) => Ok(Vec::new()),
        }
    }

    /// The same port on the other family of loopback, when the target names one alone.
    #[must_use]
    pub fn other_family(&self) -> Option<SocketAddr> {
        let Self::Server {
            host: Host::Ip(ip),
            port,
            ..
        } = self
        else {
            return None;
        };
        let other = match ip {
            IpAddr::V4(ip) if *ip == Ipv4Addr::LOCALHOST => IpAddr::V6(Ipv6Addr::LOCALHOST),
            IpAddr::V6(ip) if *ip == Ipv6Addr::LOCALHOST => IpAddr::V4(Ipv4Addr::LOCALHOST),
            _ => return None,
        };
        Some((other, port.get()).into())
    }

    /// The protocol of the server there; `None` when there is none to connect to.
    #[must_use]
    pub fn scheme(&self) -> Option<Scheme> {
        match self {
            Self::Port(_) | Self::Container(_) | Self::App(_) => Some(Scheme::Bare),
            Self::Server { scheme, .. } => Some(*scheme),
            Self::ByName(_) | Self::Folder(_) | Self::Redirect(_) => None,
        }
    }

    /// Whether bytes can be passed on unchanged, so that a route for raw TCP may have this target.
    #[must_use]
    pub fn is_bare(&self) -> bool {
        self.scheme() == Some(Scheme::Bare)
    }

    /// Host and port as a request to the server itself names them: `localhost:4310` for a bare
    /// port. `None` when there is no server.
    #[must_use]
    pub fn authority(&self) -> Option<String> {
        match self {
            Self::Port(port) => Some(format!("localhost:{port}")),
            Self::Server { scheme, host, port } if port.get() == scheme.usual_port() => {
                Some(host.to_string())
            }
            Self::Server { host, port, .. } => Some(format!("{host}:{port}")),
            Self::Container(ContainerTarget { port, .. }) => Some(match port {
                Some(port) => format!("localhost:{port}"),
                None => "localhost".to_owned(),
            }),
            Self::App(_) => Some("localhost".to_owned()),
            Self::ByName(_) => None,
            Self::Folder(_) | Self::Redirect(_) => None,
        }
    }

    /// The name that the server there is asked for over TLS, and its certificate verified with: the
    /// `chosen` one, or its host.
    #[must_use]
    pub fn server_name(&self, chosen: Option<&Name>) -> String {
        match (chosen, self) {
            (Some(name), _) => name.to_string(),
            (None, Self::Server { host, .. }) => match host {
                Host::Ip(ip) => ip.to_string(),
                Host::Name(name) => name.to_string(),
            },
            (None, _) => "localhost".to_owned(),
        }
    }

    /// What listens there, in words: `port 4310 of this machine`.
    #[must_use]
    pub fn describe(&self) -> String {
        match self {
            Self::Port(port) => format!("port {port} of this machine"),
            Self::Server { host, port, .. } => format!("{host}:{port}"),
            Self::Container(ContainerTarget { name, port: None }) => {
                format!("the container {name}")
            }
            Self::Container(ContainerTarget {
                name,
                port: Some(port),
            }) => format!("port {port} of the container {name}"),
            Self::App(AppTarget { name, port: None }) => format!("the app {name}"),
            Self::App(AppTarget {
                name,
                port: Some(port),
            }) => format!("the port {port} of the app {name}"),
            Self::ByName(by) => by.describe().to_owned(),
            Self::Folder(Folder(path)) => format!("the folder {}", path.display()),
            Self::Redirect(Redirect(url)) => format!("a redirect to {url}"),
        }
    }
}

impl Scheme {
    /// The text before `://`; empty for a bare `HOST:PORT`.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Bare => "",
            Self::Http => "http",
            Self::Https => "https",
            Self::H2c => "h2c",
        }
    }

    /// Whether the server is asked over TLS.
    #[must_use]
    pub fn is_tls(self) -> bool {
        self == Self::Https
    }

    fn of(text: &str) -> Option<Self> {
        let all = [Self::Http, Self::Https, Self::H2c];
        all.into_iter().find(|scheme| scheme.as_str() == text)
    }

    fn usual_port(self) -> u16 {
        if self.is_tls() { 443 } else { 80 }
    }
}

impl Redirect {
    /// The name that clients are sent to; `None` for an address.
    #[must_use]
    pub fn name(&self) -> Option<Name> {
        self.0.domain()?.parse().ok()
    }

    /// The URL for a request of `path_and_query`. Unless `keep` says otherwise, they are kept when
    /// the target has no path and no query; a kept path is appended to the target's. `port` is used
    /// for an HTTPS target without a port.
    #[must_use]
    pub fn location(&self, path_and_query: &str, keep: Option<bool>, port: Option<u16>) -> String {
        let Self(url) = self;
        let mut url = url.clone();
        let bare = url.path() == "/" && url.query().is_none();
        if keep.unwrap_or(bare) {
            let (path, query) = match path_and_query.split_once('?') {
                Some((path, query)) => (path, Some(query)),
                None => (path_and_query, None),
            };
            let joined = format!("{}{path}", url.path().trim_end_matches('/'));
            url.set_path(&joined);
            url.set_query(query.or(url.query().map(str::to_owned).as_deref()));
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
            Self::Server { scheme, host, port } => match scheme {
                Scheme::Bare => write!(f, "{host}:{port}"),
                scheme => write!(f, "{}://{host}:{port}", scheme.as_str()),
            },
            Self::Container(container) => container.fmt(f),
            Self::App(app) => app.fmt(f),
            Self::ByName(by) => f.write_str(by.as_str()),
            Self::Folder(Folder(path)) => write!(f, "folder:{}", path.display()),
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
        if let Some(container) = text.strip_prefix("container:") {
            let container = container.parse();
            return container
                .map(Self::Container)
                .map_err(TargetError::Container);
        }
        if let Some(by) = ByName::ALL.into_iter().find(|by| by.as_str() == text) {
            return Ok(Self::ByName(by));
        }
        if let Some(app) = text.strip_prefix("app:") {
            return app
                .parse()
                .map(Self::App)
                .map_err(|error: Invalid| TargetError::App(error.reason));
        }
        if let Some(path) = text.strip_prefix("folder:") {
            return folder(path).map(Self::Folder);
        }
        let (scheme, authority) = match text.split_once("://") {
            Some((word, rest)) => {
                let scheme = Scheme::of(word).ok_or_else(|| TargetError::Scheme {
                    scheme: word.to_owned(),
                })?;
                (scheme, rest.strip_suffix('/').unwrap_or(rest))
            }
            None if text.contains(':') => (Scheme::Bare, text),
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
        let (host, port) = authority_parts(authority, scheme)?;
        Ok(Self::Server { scheme, host, port })
    }
}

/// A folder by its whole path, without `.` and `..`, so that one folder is written in one way.
fn folder(text: &str) -> Result<Folder, TargetError> {
    let path = Path::new(text);
    let plain = |part| matches!(part, Component::RootDir | Component::Normal(_));
    if !path.is_absolute() || !path.components().all(plain) {
        return Err(TargetError::Folder {
            given: text.to_owned(),
        });
    }
    Ok(Folder(path.components().collect()))
}

fn authority_parts(authority: &str, scheme: Scheme) -> Result<(Host, NonZeroU16), TargetError> {
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
        None if rest.is_empty() => {
            NonZeroU16::new(scheme.usual_port()).expect("no scheme has the port 0")
        }
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
    #[error(
        "a target is needed: a port such as `4310`, `https://HOST:PORT`, `app:NAME`, `container:NAME`, `folder:PATH` or `redirect:URL`"
    )]
    Empty,
    /// A number that is no port, or no number where a port belongs.
    #[error("`{given}` is no port: ports go from 1 to 65535")]
    Port {
        /// What stood there.
        given: String,
    },
    /// A kind of target that this version does not lead to.
    #[error(
        "targets of the kind `{scheme}://` are not supported: there are `http://`, `https://` and `h2c://`"
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
    /// No name of a container.
    #[error("{0}: write `container:NAME` or `container:NAME:PORT`")]
    Container(String),
    /// No name of an app.
    #[error("{0}: write `app:NAME` or `app:NAME:PORT`")]
    App(String),
    /// No whole path of a folder.
    #[error("`{given}` is no whole path of a folder: it starts with `/` and has no `..`")]
    Folder {
        /// What stood after `folder:`.
        given: String,
    },
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
        "`{given}` is no target: give a port such as `4310`, `https://HOST:PORT`, `app:NAME`, `folder:PATH` or `redirect:URL`"
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
    #[case("127.0.0.1:4310", "127.0.0.1:4310")]
    #[case("https://127.0.0.1", "https://127.0.0.1:443")]
    #[case("h2c://[::1]:50051/", "h2c://[::1]:50051")]
    #[case("folder:/home/rowan//docs/", "folder:/home/rowan/docs")]
    #[case("http://[::1]:4310", "http://[::1]:4310")]
    #[case("http://Box.internal", "http://box.internal:80")]
    #[case("redirect:https://WWW.moor.test/", "redirect:https://www.moor.test")]
    #[case(
        "redirect:http://moor.test:17080/a?b",
        "redirect:http://moor.test:17080/a?b"
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
    #[case("folder:docs", TargetError::Folder { given: "docs".into() })]
    #[case("folder:/docs/../..", TargetError::Folder { given: "/docs/../..".into() })]
    fn refusals(#[case] given: &str, #[case] wanted: TargetError) {
        assert_eq!(given.parse::<Target>().unwrap_err(), wanted, "{given}");
    }

    #[rstest]
    #[case("www.moor.test", "relative URL without a base")]
    #[case("ftp://moor.test", "has to start with")]
    #[case("https://", "empty host")]
    #[case("https://rowan@moor.test", "user name")]
    #[case("https://moor.test/#top", "fragment")]
    fn invalid_redirect_urls(#[case] url: &str, #[case] reason: &str) {
        let refused = format!("redirect:{url}").parse::<Target>().unwrap_err();
        assert!(refused.to_string().contains(reason), "{refused}");
    }

    #[rstest]
    #[case(
        "https://www.moor.test",
        "/a?b=1",
        None,
        None,
        "https://www.moor.test/a?b=1"
    )]
    #[case(
        "https://www.moor.test",
        "/",
        None,
        Some(17443),
        "https://www.moor.test:17443/"
    )]
    #[case(
        "https://www.moor.test:8443",
        "/a",
        None,
        Some(17443),
        "https://www.moor.test:8443/a"
    )]
    #[case(
        "http://www.moor.test",
        "/a",
        None,
        Some(17443),
        "http://www.moor.test/a"
    )]
    #[case(
        "https://www.moor.test/new?x",
        "/a?b=1",
        None,
        None,
        "https://www.moor.test/new?x"
    )]
    #[case(
        "https://www.moor.test/new?x",
        "/a?b=1",
        Some(true),
        None,
        "https://www.moor.test/new/a?b=1"
    )]
    #[case(
        "https://www.moor.test/new?x",
        "/a",
        Some(true),
        None,
        "https://www.moor.test/new/a?x"
    )]
    #[case(
        "https://www.moor.test",
        "/a?b=1",
        Some(false),
        None,
        "https://www.moor.test/"
    )]
    fn locations(
        #[case] url: &str,
        #[case] asked: &str,
        #[case] keep: Option<bool>,
        #[case] port: Option<u16>,
        #[case] wanted: &str,
    ) {
        let Ok(Target::Redirect(redirect)) = format!("redirect:{url}").parse() else {
            panic!("{url}");
        };
        assert_eq!(redirect.location(asked, keep, port), wanted);
    }

    #[rstest]
    #[case("4310", Some("localhost:4310"))]
    #[case("127.0.0.1:4310", Some("127.0.0.1:4310"))]
    #[case("https://vm.moor.test", Some("vm.moor.test"))]
    #[case("http://[::1]:443", Some("[::1]:443"))]
    #[case("folder:/docs", None)]
    fn server_names_of_targets(#[case] target: &str, #[case] wanted: Option<&str>) {
        let target: Target = target.parse().unwrap();
        assert_eq!(target.authority().as_deref(), wanted);
    }
}
