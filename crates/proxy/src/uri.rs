//! What a request is for: its host, its name and its path.

use std::borrow::Cow;

use http::header::HOST;
use http::uri::PathAndQuery;
use http::{HeaderValue, Uri, request};

/// The host that the request is for: `:authority`, or the one Host field (RFC 9112 §3.2).
pub(crate) fn host_of(parts: &request::Parts) -> Result<HeaderValue, &'static str> {
    if let Some(authority) = parts.uri.authority() {
        return HeaderValue::from_str(authority.as_str()).map_err(|_| "the host is not readable");
    }
    let mut fields = parts.headers.get_all(HOST).iter();
    let host = fields.next().ok_or("the Host field is missing")?;
    if fields.next().is_some() {
        return Err("there are several Host fields");
    }
    let plausible = |octet: &u8| octet.is_ascii_alphanumeric() || b"-._~:[]%".contains(octet);
    if host.is_empty() || !host.as_bytes().iter().all(plausible) {
        return Err("the Host field holds no host");
    }
    Ok(host.clone())
}

/// The name in a host: without port and final dot, in lower case.
pub(crate) fn name_of(host: &[u8]) -> Cow<'_, str> {
    let Ok(host) = std::str::from_utf8(host) else {
        return Cow::Borrowed("");
    };
    let host = host.rsplit_once('@').map_or(host, |(_, host)| host);
    let name = match host.strip_prefix('[') {
        Some(bracketed) => bracketed.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    let name = name.strip_suffix('.').unwrap_or(name);
    if name.bytes().any(|octet| octet.is_ascii_uppercase()) {
        return Cow::Owned(name.to_ascii_lowercase());
    }
    Cow::Borrowed(name)
}

/// Path and query.
pub(crate) fn path_of(uri: &Uri) -> &str {
    uri.path_and_query().map_or("/", PathAndQuery::as_str)
}

/// Path and query alone, as a server that is no proxy expects them (RFC 9112 §3.2.1).
pub(crate) fn origin_form(uri: Uri) -> Uri {
    if uri.authority().is_none() && uri.scheme().is_none() {
        return uri;
    }
    let path = uri.into_parts().path_and_query;
    Uri::from(path.unwrap_or_else(|| PathAndQuery::from_static("/")))
}

#[cfg(test)]
mod tests {
    use http::Request;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("booking.moor.test", "booking.moor.test")]
    #[case("Booking.Moor.TEST:17443", "booking.moor.test")]
    #[case("booking.moor.test.:443", "booking.moor.test")]
    #[case("[::1]:17443", "::1")]
    #[case("", "")]
    fn the_name_of_a_host(#[case] host: &str, #[case] name: &str) {
        assert_eq!(name_of(host.as_bytes()), name);
    }

    #[rstest]
    #[case("/a?b", &["a.test"], Ok("a.test"))]
    #[case("https://b.test:17443/a?b", &["a.test"], Ok("b.test:17443"))]
    #[case("/", &[], Err("the Host field is missing"))]
    #[case("/", &["a.test", "a.test"], Err("there are several Host fields"))]
    #[case("/", &[""], Err("the Host field holds no host"))]
    #[case("/", &["a.test/x"], Err("the Host field holds no host"))]
    #[case("/", &["a.test\" x"], Err("the Host field holds no host"))]
    fn the_host_of_a_request(
        #[case] uri: &str,
        #[case] fields: &[&str],
        #[case] wanted: Result<&str, &str>,
    ) {
        let mut request = Request::builder().uri(uri);
        for field in fields {
            request = request.header(HOST, *field);
        }
        let (parts, ()) = request.body(()).unwrap().into_parts();
        let host = host_of(&parts);
        assert_eq!(
            host.as_ref()
                .map(|host| host.to_str().unwrap())
                .map_err(|e| *e),
            wanted
        );
    }

    #[rstest]
    #[case("https://a.test/x?y=1", "/x?y=1")]
    #[case("https://a.test", "/")]
    #[case("/x?y=1", "/x?y=1")]
    #[case("*", "*")]
    fn targets_get_the_origin_form(#[case] uri: &str, #[case] wanted: &str) {
        assert_eq!(origin_form(uri.parse().unwrap()).to_string(), wanted);
    }
}
