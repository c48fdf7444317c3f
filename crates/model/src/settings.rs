//! How a route leads to its target: every key with the rule for its value.

use std::fmt;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::address::Pattern;
use crate::by_name::PortRange;
use crate::by_text::serde_by_text;
use crate::expectation::Expectation;
use crate::invalid::Invalid;
use crate::mapping::host_and_port;
use crate::name::Name;
use crate::setting::{SettingKind, SettingType, is_default, merged, settings};
use crate::target::Target;

settings! {
    /// How a route leads to its target.
    pub struct RouteSettings {
        /// The address that the name resolves to; `own` picks a free loopback address for this name
        /// alone. All routes of a name share it
        address: Option<IpAddr> as String, "ADDRESS", "the zone's";
        /// Listen on the name's own address; off leaves that to the program that listens there, and checks
        /// prove that one
        listen: Option<bool> as bool, "BOOL", "on", rare;
        /// Remove the route's prefix from the path; `X-Forwarded-Prefix` has it
        strip_prefix: bool as bool, "BOOL", "off";
        /// The ports that names may lead to, such as `3000-9999`, for a route with `port-from-name`
        ports: Option<PortRange> as String, "FIRST-LAST", "every port", rare;
        /// Which Host header the app gets: `keep` (the client's) or `target` (the app's own)
        host: HostField as String, "WHICH", "keep";
        /// How to verify the app's certificate: `verify`, `none` (skip verification), or the file of
        /// the one certificate to accept
        target_tls: TargetTls as String, "HOW", "verify";
        /// The name that the app's certificate is for
        target_name: Option<Name> as String, "NAME", "the target's host", rare;
        /// Origins whose pages may read responses, such as `https://*.moor.test`
        allow_origins: Vec<AllowedOrigin> as Vec<String>, "ORIGIN", "none", rare;
        /// Headers to set: `request NAME: VALUE` or `response NAME: VALUE`
        set_headers: Vec<FieldToSet> as Vec<String>, "HEADER", "none", rare;
        /// Headers to remove: `request NAME` or `response NAME`
        remove_headers: Vec<FieldToRemove> as Vec<String>, "HEADER", "none", rare;
        /// How to handle plain HTTP: `redirect`, `serve` or `refuse`
        plain: Option<Plain> as String, "HOW", "the zone's", rare;
        /// The certificate to show: the first name of an imported one, or `issued` for one made here
        cert: Option<PinnedCert> as String, "NAME", "the best that covers the name", rare;
        /// The protocol on the port of the address: `tcp` passes bytes on unchanged, `http` is HTTP over TLS
        /// with everything that HTTP routes have
        protocol: Option<Protocol> as String, "PROTOCOL", "tcp where the address has a port", rare;
        /// Where TLS ends: `here`, at the target (`passthrough`), or here for clients of PostgreSQL, which ask
        /// for it first (`postgres`)
        tls: Option<TlsEnd> as String, "WHERE", "here; at the target for raw TCP", rare;
        /// The file of the folder to send for a path that has none, for single-page apps
        fallback: Option<String> as String, "FILE", "none", rare;
        /// The app behind a folder, for what the folder has no file for: a target such as `4310`
        r#else: Option<Target> as String, "TARGET", "none", rare;
        /// Serve the source of files that need an interpreter, such as `.php`, `.py` and `.rb`
        serve_sources: bool as bool, "BOOL", "off", rare;
        /// The status of a redirect: 301, 302, 307 or 308
        redirect_status: Option<u16> as u32, "STATUS", "307", rare;
        /// Keep path and query in a redirect
        keep_path: Option<bool> as bool, "BOOL", "on where the URL has no path", rare;
        /// Trust the forwarding headers that clients send (`Forwarded`, `X-Forwarded-For`), and add to
        /// them
        trust_forwarded: bool as bool, "BOOL", "off", rare;
        /// Cover every name below the route's own, too
        subdomains: bool as bool, "BOOL", "off";
        /// Add a `Server-Timing` header with the times to connect and to the first byte
        server_timing: bool as bool, "BOOL", "off", rare;
        /// Remove `Strict-Transport-Security` from responses, which browsers remember for longer than
        /// the route may last
        drop_hsts: bool as bool, "BOOL", "off", rare;
        /// How long to wait for the first byte of a response, such as `30s` or `5m`; `none` waits as long
        /// as the client does
        first_byte_timeout: Option<WaitLimit> as String, "TIME", "2m", rare;
        /// Whether a request starts the container that the route leads to while it is stopped: `visit` or
        /// `manual`
        start: StartContainer as String, "WHEN", "manual", rare;
        /// Pause the route: answer with a page that says so
        paused: bool as bool, "BOOL", "off";
        /// The file to which a line is added for each request, in the combined log format
        access_log: Option<PathBuf> as String, "FILE", "none", rare;
        /// A note about the route
        note: Option<String> as String, "TEXT", "none", rare;
        /// What a response has to be like, for checks
        expect: Expectation as Expectation, "EXPECT", "nothing";
    }
}

impl SettingType for Expectation {
    const KIND: SettingKind = SettingKind::Group(Self::SETTINGS);
}

impl RouteSettings {
    /// Whether nothing was chosen.
    #[must_use]
    pub fn is_default(&self) -> bool {
        is_default(self)
    }

    /// The settings after a JSON merge patch (RFC 7396): `null` unsets, what is left out stays, and
    /// lists are replaced.
    ///
    /// # Errors
    /// Each unknown key, and each value that its setting does not accept.
    pub fn merged(&self, patch: &Map<String, Value>) -> Result<Self, Vec<Invalid>> {
        let mut merged: Self = merged(self, patch, Self::SETTINGS)?;
        // A path below the folder, however it was written.
        if let Some(file) = &mut merged.fallback {
            file.drain(..file.len() - file.trim_start_matches('/').len());
        }
        Ok(merged)
    }
}

/// A choice between words, each its own spelling everywhere.
macro_rules! words {
    ($(#[$outer:meta])* $kind:ident, $field:literal { $($(#[$about:meta])* $variant:ident = $word:literal),* $(,)? }) => {
        $(#[$outer])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, utoipa::ToSchema)]
        pub enum $kind { $($(#[$about])* #[serde(rename = $word)] $variant),* }

        impl $kind {
            /// The word.
            #[must_use]
            pub fn as_str(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }
        }

        impl std::fmt::Display for $kind {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(self.as_str())
            }
        }

        impl std::str::FromStr for $kind {
            type Err = $crate::invalid::Invalid;

            fn from_str(text: &str) -> Result<Self, $crate::invalid::Invalid> {
                match text {
                    $($word => Ok(Self::$variant),)*
                    _ => Err($crate::settings::none_of($field, text, &[$($word),*])),
                }
            }
        }
    };
}

pub(crate) use words;

pub(crate) fn none_of(field: &'static str, text: &str, words: &[&str]) -> Invalid {
    let words: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
    let reason = format!("`{text}` is none of {}", words.join(", "));
    Invalid::new(field, reason)
}

words! {
    /// Which Host a target gets.
    #[derive(Default)]
    HostField, "host" {
        /// The one that the client asked for.
        #[default]
        Keep = "keep",
        /// The target's own, for apps that accept no other.
        Target = "target",
    }
}

words! {
    /// How to handle plain HTTP.
    #[derive(Default)]
    Plain, "plain" {
        /// Clients are sent to the same URL over TLS.
        #[default]
        Redirect = "redirect",
        /// It is passed on as it is.
        Serve = "serve",
        /// It is refused, with a page that says why.
        Refuse = "refuse",
    }
}

words! {
    /// When a container that is stopped is started.
    #[derive(Default)]
    StartContainer, "start" {
        /// By hand alone.
        #[default]
        Manual = "manual",
        /// When it is asked for something.
        Visit = "visit",
    }
}

words! {
    /// The protocol on the port of an address.
    Protocol, "protocol" {
        /// Bytes that are passed on unchanged.
        Tcp = "tcp",
        /// HTTP over TLS.
        Http = "http",
    }
}

words! {
    /// Who opens TLS.
    TlsEnd, "tls" {
        /// We do; the target gets what is inside.
        Here = "here",
        /// The target does; bytes pass unopened, by the server name in the hello.
        Passthrough = "passthrough",
        /// We do, once a PostgreSQL client has asked for it.
        Postgres = "postgres",
    }
}

serde_by_text!(
    TargetTls,
    AllowedOrigin,
    FieldToSet,
    FieldToRemove,
    PinnedCert,
    WaitLimit
);

/// How long to wait.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WaitLimit {
    /// For this time.
    For(Duration),
    /// Without a limit.
    Unlimited,
}

impl WaitLimit {
    /// How long the first byte of a response is waited for by default: 120 s, since a dev server may
    /// compile first.
    pub const FIRST_BYTE: Self = Self::For(Duration::from_secs(120));

    /// The time; a century where there is no limit.
    #[must_use]
    pub fn duration(self) -> Duration {
        const CENTURY: Duration = Duration::from_secs(100 * 365 * 86_400);
        match self {
            Self::For(time) => time,
            Self::Unlimited => CENTURY,
        }
    }
}

impl fmt::Display for WaitLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::For(time) => humantime::format_duration(*time).fmt(f),
            Self::Unlimited => f.write_str("none"),
        }
    }
}

impl FromStr for WaitLimit {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        const DAY: Duration = Duration::from_secs(86_400);
        let refuse = |reason: String| Invalid::new("first_byte_timeout", reason);
        if text == "none" {
            return Ok(Self::Unlimited);
        }
        match humantime::parse_duration(text) {
            Ok(time) if time.is_zero() || time > DAY => Err(refuse(format!(
                "`{text}` is not between 1ms and 1 day; `none` sets no limit"
            ))),
            Ok(time) => Ok(Self::For(time)),
            Err(_) => Err(refuse(format!(
                "`{text}` is no time such as `30s` or `5m`, and not `none`"
            ))),
        }
    }
}

/// How a target's certificate is verified.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum TargetTls {
    /// Against the system's roots and our own.
    #[default]
    Verify,
    /// Not at all.
    Unverified,
    /// It has to be the one in this file, PEM; neither its name nor its validity matters then.
    Pinned(PathBuf),
}

impl fmt::Display for TargetTls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Verify => f.write_str("verify"),
            Self::Unverified => f.write_str("none"),
            Self::Pinned(path) => path.display().fmt(f),
        }
    }
}

impl FromStr for TargetTls {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "verify" => Ok(Self::Verify),
            "none" => Ok(Self::Unverified),
            path if Path::new(path).is_absolute() => Ok(Self::Pinned(path.into())),
            other => {
                let reason = format!(
                    "`{other}` is none of `verify`, `none` and the whole path of a certificate to \
                     accept"
                );
                Err(Invalid::new("target_tls", reason))
            }
        }
    }
}

/// An origin, or a pattern of origins, whose pages may read what a route answers.
///
/// Without a port it stands for the scheme's own port and for the one that our listener has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AllowedOrigin {
    scheme: Box<str>,
    /// The names, or another host as it is written.
    host: OriginHost,
    port: Option<u16>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum OriginHost {
    Names(Pattern),
    Ip(Box<str>),
}

impl AllowedOrigin {
    /// The names that it stands for, when it stands for many.
    #[must_use]
    pub fn wildcard(&self) -> Option<&Name> {
        match &self.host {
            OriginHost::Names(Pattern::Wildcard(base)) => Some(base),
            OriginHost::Names(Pattern::Exact(_)) | OriginHost::Ip(_) => None,
        }
    }

    /// Whether `origin`, as browsers write it (RFC 6454 §6.2), is one of these; `https_port` is where
    /// our listener is.
    #[must_use]
    pub fn allows(&self, origin: &str, https_port: u16) -> bool {
        let Some((scheme, rest)) = origin.split_once("://") else {
            return false;
        };
        let (host, port) = host_and_port(rest);
        let port = port.map_or_else(|| Some(usual_port(scheme)), |port| port.parse().ok());
        let right_port = match (self.port, port) {
            (_, None) => false,
            (Some(own), Some(port)) => own == port,
            (None, Some(port)) => {
                port == usual_port(scheme) || (scheme == "https" && port == https_port)
            }
        };
        let right_host = match &self.host {
            OriginHost::Ip(ip) => **ip == *host,
            OriginHost::Names(Pattern::Exact(name)) => name.as_str() == host,
            OriginHost::Names(Pattern::Wildcard(base)) => host
                .strip_suffix(base.as_str())
                .is_some_and(|front| front.len() > 1 && front.ends_with('.')),
        };
        *self.scheme == *scheme && right_port && right_host
    }
}

fn usual_port(scheme: &str) -> u16 {
    if scheme == "https" { 443 } else { 80 }
}

impl fmt::Display for AllowedOrigin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}://", self.scheme)?;
        match &self.host {
            OriginHost::Names(pattern) => pattern.fmt(f)?,
            OriginHost::Ip(ip) => f.write_str(ip)?,
        }
        self.port.map_or(Ok(()), |port| write!(f, ":{port}"))
    }
}

impl FromStr for AllowedOrigin {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let refuse = |reason: &str| {
            let reason = format!(
                "`{text}` is no origin such as `https://a.moor.test` or `https://*.moor.test`: \
                 {reason}"
            );
            Invalid::new("allow_origins", reason)
        };
        let (scheme, rest) = text
            .split_once("://")
            .filter(|(scheme, _)| matches!(*scheme, "http" | "https"))
            .ok_or_else(|| refuse("it starts with `https://` or `http://`"))?;
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        if rest.contains(['/', '?', '#', '@']) {
            return Err(refuse("it has a host and a port alone"));
        }
        let (host, port) = host_and_port(rest);
        let port = port.map(str::parse).transpose();
        let port = port.map_err(|_| refuse("ports go from 1 to 65535"))?;
        let bare = host.trim_start_matches('[').trim_end_matches(']');
        let host = if bare.parse::<IpAddr>().is_ok() {
            OriginHost::Ip(host.into())
        } else {
            let pattern = host.parse::<Pattern>();
            OriginHost::Names(pattern.map_err(|error| refuse(&error.to_string()))?)
        };
        Ok(Self {
            scheme: scheme.into(),
            host,
            port,
        })
    }
}

/// Which message a field belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Message {
    /// What the target gets.
    Request,
    /// What the client gets.
    Response,
}

impl Message {
    fn as_str(self) -> &'static str {
        match self {
            Self::Request => "request",
            Self::Response => "response",
        }
    }

    /// Returns the first word, and the rest.
    fn before<'a>(field: &'static str, text: &'a str) -> Result<(Self, &'a str), Invalid> {
        let found = [Self::Request, Self::Response].into_iter().find_map(|it| {
            let rest = text.strip_prefix(it.as_str())?;
            rest.starts_with(' ').then(|| (it, rest.trim_start()))
        });
        found.ok_or_else(|| {
            let reason = format!(
                "`{text}` does not say of which message: write `request {text}` for what the app \
                 gets, or `response {text}` for what the browser gets"
            );
            Invalid::new(field, reason)
        })
    }
}

/// A field to set, written `request NAME: VALUE` or `response NAME: VALUE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldToSet {
    /// In which message.
    pub message: Message,
    /// The field's name, in lower case.
    pub name: Box<str>,
    /// Its value.
    pub value: Box<str>,
}

/// A field to remove, written `request NAME` or `response NAME`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldToRemove {
    /// From which message.
    pub message: Message,
    /// The field's name, in lower case.
    pub name: Box<str>,
}

/// Fields that belong to a connection or give the length of a message. Changing one breaks the
/// message.
const NOT_TO_TOUCH: [&str; 7] = [
    "connection",
    "content-length",
    "transfer-encoding",
    "upgrade",
    "te",
    "trailer",
    "host",
];

/// A field's name (RFC 9110 §5.1), in lower case.
fn field_name(field: &'static str, text: &str) -> Result<Box<str>, Invalid> {
    let token = |octet: u8| octet.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&octet);
    if text.is_empty() || !text.bytes().all(token) {
        let reason = format!("`{text}` is no name of a field");
        return Err(Invalid::new(field, reason));
    }
    let name = text.to_ascii_lowercase();
    if NOT_TO_TOUCH.contains(&&*name) {
        let advice = if name == "host" {
            ": `host = \"target\"` chooses the Host that the app gets"
        } else {
            ", and changing it would break the message"
        };
        let reason = format!("`{name}` belongs to the connection{advice}");
        return Err(Invalid::new(field, reason));
    }
    Ok(name.into())
}

impl fmt::Display for FieldToSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}: {}", self.message.as_str(), self.name, self.value)
    }
}

impl FromStr for FieldToSet {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        const FIELD: &str = "set_headers";
        let (message, rest) = Message::before(FIELD, text.trim())?;
        let (name, value) = rest.split_once(':').ok_or_else(|| {
            let reason = format!("`{rest}` has no value: write `NAME: VALUE`");
            Invalid::new(FIELD, reason)
        })?;
        let value = value.trim();
        if !value
            .bytes()
            .all(|octet| matches!(octet, b' '..=b'~' | b'\t'))
        {
            let reason = format!("the value of `{name}` has characters that no field can hold");
            return Err(Invalid::new(FIELD, reason));
        }
        Ok(Self {
            message,
            name: field_name(FIELD, name.trim())?,
            value: value.into(),
        })
    }
}

impl fmt::Display for FieldToRemove {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.message.as_str(), self.name)
    }
}

impl FromStr for FieldToRemove {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        const FIELD: &str = "remove_headers";
        let (message, name) = Message::before(FIELD, text.trim())?;
        let name = field_name(FIELD, name)?;
        Ok(Self { message, name })
    }
}

/// The certificate that a route chose to show.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PinnedCert {
    /// One made here, even where an imported one covers the name.
    Issued,
    /// The imported one with this first name.
    Imported(Box<str>),
}

impl fmt::Display for PinnedCert {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Issued => "issued",
            Self::Imported(name) => name,
        })
    }
}

impl FromStr for PinnedCert {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "issued" => Ok(Self::Issued),
            name if name.contains('.') && !name.contains(char::is_whitespace) => {
                Ok(Self::Imported(name.to_ascii_lowercase().into()))
            }
            other => {
                let reason = format!(
                    "`{other}` is neither `issued` nor the first name of an imported certificate: \
                     see `bentlane cert list`"
                );
                Err(Invalid::new("cert", reason))
            }
        }
    }
}

/// The status codes of a redirect that a route can have (RFC 9110 §15.4).
pub(crate) const REDIRECT_STATUSES: [u16; 4] = [301, 302, 307, 308];

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://a.moor.test", "https://a.moor.test", true)]
    #[case("https://a.moor.test", "https://a.moor.test:17443", true)]
    #[case("https://a.moor.test", "https://a.moor.test:7444", false)]
    #[case("https://a.moor.test", "http://a.moor.test", false)]
    #[case("https://a.moor.test:3000", "https://a.moor.test:3000", true)]
    #[case("https://a.moor.test:3000", "https://a.moor.test", false)]
    #[case("https://*.moor.test", "https://a.moor.test", true)]
    #[case("https://*.moor.test", "https://a.b.moor.test", true)]
    #[case("https://*.moor.test", "https://moor.test", false)]
    #[case("https://*.moor.test", "https://.moor.test", false)]
    #[case("https://*.moor.test", "https://blackmoor.test", false)]
    #[case("http://localhost:3000", "http://localhost:3000", true)]
    #[case("http://127.0.0.1:3000", "http://127.0.0.1:3000", true)]
    #[case("http://[::1]:3000", "http://[::1]:3000", true)]
    #[case("https://a.moor.test", "null", false)]
    fn origins(#[case] rule: &str, #[case] origin: &str, #[case] allowed: bool) {
        let rule: AllowedOrigin = rule.parse().unwrap();
        assert_eq!(rule.allows(origin, 17443), allowed);
    }

    #[rstest]
    #[case("a.moor.test", "starts with `https://`")]
    #[case("https://a.moor.test/x", "a host and a port alone")]
    #[case("https://a.moor.test:0x1", "ports go from 1")]
    #[case("https://*", "`*` stands only")]
    fn no_origins(#[case] text: &str, #[case] reason: &str) {
        let refused = text.parse::<AllowedOrigin>().unwrap_err();
        assert!(refused.reason.contains(reason), "{refused}");
    }

    #[rstest]
    #[case("request X-Env:  dev ", Ok("request x-env: dev"))]
    #[case(
        "response cache-control: no-store",
        Ok("response cache-control: no-store")
    )]
    #[case("x-env: dev", Err("request x-env: dev"))]
    #[case("request x-env", Err("has no value"))]
    #[case("request x env: 1", Err("no name of a field"))]
    #[case("request host: a", Err("`host = \"target\"`"))]
    #[case("response content-length: 1", Err("break the message"))]
    #[case("response x: a\u{7}b", Err("no field can hold"))]
    fn fields_to_set(#[case] text: &str, #[case] wanted: Result<&str, &str>) {
        match (text.parse::<FieldToSet>(), wanted) {
            (Ok(field), Ok(wanted)) => assert_eq!(field.to_string(), wanted),
            (Err(refused), Err(part)) => assert!(refused.reason.contains(part), "{refused}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }

    #[test]
    fn settings_round_trip() {
        let json = serde_json::json!({
            "address": "127.64.0.5", "strip_prefix": true, "host": "target",
            "target_tls": "/etc/vm.pem", "target_name": "vm.moor.test",
            "allow_origins": ["https://*.moor.test"],
            "set_headers": ["request x-env: dev"], "remove_headers": ["response server"],
            "plain": "serve", "cert": "*.moor.test", "protocol": "http", "tls": "passthrough",
            "fallback": "index.html", "else": "4310", "redirect_status": 308, "keep_path": false,
            "trust_forwarded": true, "subdomains": true, "server_timing": true, "drop_hsts": true,
            "paused": true, "note": "the shop",
        });
        let settings: RouteSettings = serde_json::from_value(json.clone()).unwrap();
        assert_eq!(serde_json::to_value(&settings).unwrap(), json);
        let none: RouteSettings = serde_json::from_str("{}").unwrap();
        assert!(none.is_default() && !settings.is_default());
        assert_eq!(serde_json::to_string(&none).unwrap(), "{}");
    }
}
