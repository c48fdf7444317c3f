//! Paths, locations and cookies on their way between the public name and the target.

use std::borrow::Cow;

/// How the world of a target is mapped to the public one, for one request.
///
/// What a target says of itself (`http://localhost:4310/login`) is no use to a browser that came by
/// another name, and what it says of its paths is none where a prefix was stripped.
#[derive(Clone, Copy, Debug)]
pub struct Mapping<'a> {
    /// What the client asked for: `https`.
    pub scheme: &'a str,
    /// The host that the client asked for, with its port where that is part of it.
    pub host: &'a str,
    /// The target's host and port as it may name itself, without the loopback's other names.
    pub target: &'a str,
    /// The prefix that the target does not see.
    pub stripped: Option<&'a str>,
}

/// `path_and_query` without `prefix`, which it begins with on a segment boundary.
///
/// ```
/// use bentlane_model::without_prefix;
///
/// assert_eq!(without_prefix("/api/v1?x=1", "/api"), "/v1?x=1");
/// assert_eq!(without_prefix("/api?x=1", "/api"), "/?x=1");
/// ```
#[must_use]
pub fn without_prefix<'a>(path_and_query: &'a str, prefix: &str) -> Cow<'a, str> {
    match path_and_query.strip_prefix(prefix) {
        Some(rest) if rest.starts_with('/') => Cow::Borrowed(rest),
        Some("") => Cow::Borrowed("/"),
        Some(query) if query.starts_with('?') => Cow::Owned(format!("/{query}")),
        _ => Cow::Borrowed(path_and_query),
    }
}

/// The host of an authority, and its port when it has one (RFC 3986 §3.2).
pub fn host_and_port(authority: &str) -> (&str, Option<&str>) {
    match authority.rsplit_once(':') {
        Some((host, port)) if !port.ends_with(']') => (host, Some(port)),
        _ => (authority, None),
    }
}

/// The host of an authority: without its port.
fn host_of(authority: &str) -> &str {
    host_and_port(authority).0
}

/// The names that every machine has for itself.
fn is_loopback(host: &str) -> bool {
    let host = host.trim_start_matches('[').trim_end_matches(']');
    host.eq_ignore_ascii_case("localhost")
        || host
            .parse::<std::net::IpAddr>()
            .is_ok_and(|ip| ip.is_loopback() || ip.is_unspecified())
}

impl Mapping<'_> {
    /// Whether `authority` is the target's own; loopback has many names.
    fn is_target(&self, authority: &str) -> bool {
        let (host, port) = host_and_port(authority);
        let (_, own_port) = host_and_port(self.target);
        self.is_targets_host(host) && port == own_port
    }

    fn is_targets_host(&self, host: &str) -> bool {
        let own = host_of(self.target);
        host.eq_ignore_ascii_case(own) || (is_loopback(host) && is_loopback(own))
    }

    fn with_prefix(&self, path: &str) -> String {
        let path = if path.starts_with('/') { path } else { "/" };
        match self.stripped {
            Some(prefix) if !begins_with(path, prefix) => format!("{prefix}{path}"),
            _ => path.to_owned(),
        }
    }

    /// A `Location` (RFC 9110 §10.2.2) as the client should see it; `None` when it is right as it is.
    #[must_use]
    pub fn location(&self, location: &str) -> Option<String> {
        let (scheme, rest) = match location.split_once("//") {
            Some(("http:", rest)) => ("http", rest),
            Some(("https:", rest)) => ("https", rest),
            Some(("", rest)) => ("", rest),
            _ if location.starts_with('/') => {
                let mapped = self.with_prefix(location);
                return (mapped != location).then_some(mapped);
            }
            _ => return None,
        };
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, tail) = rest.split_at(end);
        let tail = if tail.starts_with('/') {
            tail.to_owned()
        } else {
            format!("/{tail}")
        };
        if self.is_target(authority) && !authority.eq_ignore_ascii_case(self.host) {
            let path = self.with_prefix(&tail);
            return Some(format!("{}://{}{path}", self.scheme, self.host));
        }
        if authority.eq_ignore_ascii_case(self.host) && self.stripped.is_some() {
            let path = self.with_prefix(&tail);
            let colon = if scheme.is_empty() { "" } else { ":" };
            let mapped = format!("{scheme}{colon}//{authority}{path}");
            return (mapped != location).then_some(mapped);
        }
        None
    }

    /// A `Set-Cookie` (RFC 6265 §4.1) as the client should see it; `None` when it is right as it is.
    ///
    /// A `Domain` of the target's becomes the public name, and a `Path` gets the stripped prefix;
    /// not that of a cookie called `__Host-…`, which has to be `/`.
    #[must_use]
    pub fn cookie(&self, cookie: &str) -> Option<String> {
        let mut parts = cookie.split(';');
        let pair = parts.next().unwrap_or_default();
        let fixed_path = pair
            .trim_start()
            .get(..7)
            .is_some_and(|start| start.eq_ignore_ascii_case("__Host-"));
        let (mut mapped, mut changed) = (pair.to_owned(), false);
        for attribute in parts {
            let (name, value) = attribute.split_once('=').unwrap_or((attribute, ""));
            let value = value.trim();
            let new = match name.trim().to_ascii_lowercase().as_str() {
                "domain" if self.is_targets_domain(value) => {
                    Some(format!(" Domain={}", host_of(self.host)))
                }
                "path" if !fixed_path && value.starts_with('/') => {
                    let path = self.with_prefix(value);
                    let path = match self.stripped {
                        Some(prefix) if path.strip_prefix(prefix) == Some("/") => prefix.to_owned(),
                        _ => path,
                    };
                    (path != value).then(|| format!(" Path={path}"))
                }
                _ => None,
            };
            changed |= new.is_some();
            mapped.push(';');
            mapped.push_str(new.as_deref().unwrap_or(attribute));
        }
        changed.then_some(mapped)
    }

    fn is_targets_domain(&self, domain: &str) -> bool {
        let domain = domain.strip_prefix('.').unwrap_or(domain);
        let public = host_of(self.host);
        !domain.is_empty() && self.is_targets_host(domain) && !domain.eq_ignore_ascii_case(public)
    }

    /// A public `Origin` or `Referer` as the target knows it, with the scheme of `X-Forwarded-Proto`;
    /// `None` when it is not of this route.
    #[must_use]
    pub fn to_target(&self, url: &str) -> Option<String> {
        let rest = url.strip_prefix(self.scheme)?.strip_prefix("://")?;
        let end = rest.find('/').unwrap_or(rest.len());
        let (authority, tail) = rest.split_at(end);
        if !authority.eq_ignore_ascii_case(self.host) {
            return None;
        }
        let tail = match self.stripped {
            Some(prefix) if !tail.is_empty() => without_prefix(tail, prefix),
            _ => Cow::Borrowed(tail),
        };
        Some(format!("{}://{}{tail}", self.scheme, self.target))
    }
}

fn begins_with(path: &str, prefix: &str) -> bool {
    path.strip_prefix(prefix)
        .is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '?', '#']))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn mapping(stripped: Option<&'static str>) -> Mapping<'static> {
        Mapping {
            scheme: "https",
            host: "booking.moor.test:17443",
            target: "localhost:4310",
            stripped,
        }
    }

    const PUBLIC: &str = "https://booking.moor.test:17443";

    #[rstest]
    #[case("http://localhost:4310/login?x=1", None, Some("/login?x=1"))]
    #[case("http://127.0.0.1:4310", None, Some("/"))]
    #[case("http://[::1]:4310/a", None, Some("/a"))]
    #[case("//LOCALHOST:4310/a", None, Some("/a"))]
    #[case("https://localhost:4310?x", None, Some("/?x"))]
    #[case("http://localhost:4311/a", None, None)]
    #[case("http://localhost/a", None, None)]
    #[case("https://example.com/a", None, None)]
    #[case("/login", None, None)]
    #[case("login", Some("/api"), None)]
    #[case("", Some("/api"), None)]
    #[case("/login?x=1", Some("/api"), Some("=/api/login?x=1"))]
    #[case("/api/login", Some("/api"), None)]
    #[case("/apiary", Some("/api"), Some("=/api/apiary"))]
    #[case("http://localhost:4310/login", Some("/api"), Some("/api/login"))]
    #[case(
        "https://booking.moor.test:17443/login",
        Some("/api"),
        Some("/api/login")
    )]
    #[case("https://booking.moor.test:17443/api/login", Some("/api"), None)]
    #[case("https://booking.moor.test:17443/login", None, None)]
    fn locations(
        #[case] given: &str,
        #[case] stripped: Option<&'static str>,
        #[case] wanted: Option<&str>,
    ) {
        let wanted = wanted.map(|path| match path.strip_prefix('=') {
            Some(path) => path.to_owned(),
            None => format!("{PUBLIC}{path}"),
        });
        assert_eq!(mapping(stripped).location(given), wanted);
    }

    #[rstest]
    #[case("a=1; Path=/; HttpOnly", None, None)]
    #[case(
        "a=1; Domain=localhost; Secure",
        None,
        Some("a=1; Domain=booking.moor.test; Secure")
    )]
    #[case("a=1;domain=.LOCALHOST", None, Some("a=1; Domain=booking.moor.test"))]
    #[case("a=1; Domain=moor.test", None, None)]
    #[case("a=1; Domain=", None, None)]
    #[case("a=1; Path=/", Some("/api"), Some("a=1; Path=/api"))]
    #[case("a=1; Path=/v1", Some("/api"), Some("a=1; Path=/api/v1"))]
    #[case("a=1; Path=/api/v1", Some("/api"), None)]
    #[case("__Host-a=1; Path=/; Secure", Some("/api"), None)]
    #[case("a=b=c; path", Some("/api"), None)]
    fn cookies(
        #[case] given: &str,
        #[case] stripped: Option<&'static str>,
        #[case] wanted: Option<&str>,
    ) {
        assert_eq!(mapping(stripped).cookie(given).as_deref(), wanted);
    }

    #[rstest]
    #[case(
        "https://booking.moor.test:17443",
        None,
        Some("https://localhost:4310")
    )]
    #[case(
        "https://booking.moor.test:17443/api/a",
        Some("/api"),
        Some("https://localhost:4310/a")
    )]
    #[case(
        "https://booking.moor.test:17443/a",
        None,
        Some("https://localhost:4310/a")
    )]
    #[case("https://example.com", None, None)]
    #[case("null", None, None)]
    fn origins_and_referers(
        #[case] given: &str,
        #[case] stripped: Option<&'static str>,
        #[case] wanted: Option<&str>,
    ) {
        assert_eq!(mapping(stripped).to_target(given).as_deref(), wanted);
    }

    proptest! {
        #[test]
        fn any_text_is_mapped_without_harm(text in "\\PC{0,40}", prefix in "(/[a-z%.~]{1,4}){1,3}") {
            let prefix: &'static str = Box::leak(prefix.into_boxed_str());
            let mapping = mapping(Some(prefix));
            for location in [text.clone(), format!("http://localhost:4310/{text}"), format!("/{text}")] {
                if let Some(mapped) = mapping.location(&location) {
                    prop_assert!(mapped.contains(prefix), "{location}: {mapped}");
                    prop_assert_eq!(mapping.location(&mapped), None, "mapped once for all");
                }
            }
            let cookie = format!("a={text}; Path=/{text}; Domain={text}");
            if let Some(mapped) = mapping.cookie(&cookie) {
                prop_assert_eq!(mapped.split(';').count(), cookie.split(';').count());
            }
            let path = format!("{prefix}/{text}");
            let rest = format!("/{text}");
            prop_assert_eq!(without_prefix(&path, prefix), rest);
        }
    }
}
