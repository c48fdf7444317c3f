use bentlane_model::{Redirect, without_prefix};
use http::header::LOCATION;
use http::{HeaderValue, Response, StatusCode, Uri};

use crate::response_body::ResponseBody;
use crate::route_rules::RouteRules;

/// Sends a client of the plain port to the same URL over TLS, method and body kept (RFC 9110
/// §15.4.9).
pub(crate) fn to_https(name: &str, https_port: u16, path: &str) -> Response<ResponseBody> {
    sent_to(
        &location(name, https_port, path),
        StatusCode::PERMANENT_REDIRECT,
    )
}

/// Sends a client to the URL that a route redirects to. Unless the route says otherwise, method and
/// body are kept, and for this once, since a browser that remembers it would not ask again when the
/// route is gone (RFC 9110 §15.4.8). `port` is where names of ours are served.
#[inline(never)]
pub(crate) fn elsewhere(
    uri: &Uri,
    to: &Redirect,
    rules: Option<&RouteRules>,
    port: Option<u16>,
) -> Response<ResponseBody> {
    let path = uri.path_and_query().map_or("/", |path| path.as_str());
    let stripped = rules.and_then(|rules| rules.stripped.as_deref());
    let path = without_prefix(path, stripped.unwrap_or_default());
    let keep = rules.and_then(|rules| rules.keep_path);
    let status = rules.and_then(|rules| rules.redirect_status);
    let status = status.unwrap_or(StatusCode::TEMPORARY_REDIRECT);
    sent_to(&to.location(&path, keep, port), status)
}

/// Sends a client to `location`.
pub(crate) fn sent_to(location: &str, status: StatusCode) -> Response<ResponseBody> {
    let mut response = Response::new(ResponseBody::empty());
    match HeaderValue::try_from(location) {
        Ok(location) => {
            *response.status_mut() = status;
            response.headers_mut().insert(LOCATION, location);
        }
        Err(_) => *response.status_mut() = StatusCode::BAD_REQUEST,
    }
    response
}

/// The URL of a name and path behind the TLS listener on `port`.
pub(crate) fn location(name: &str, port: u16, path: &str) -> String {
    let path = if path.starts_with('/') { path } else { "/" };
    let bracketed = if name.contains(':') {
        format!("[{name}]")
    } else {
        name.to_owned()
    };
    match port {
        443 => format!("https://{bracketed}{path}"),
        port => format!("https://{bracketed}:{port}{path}"),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("a.test", 443, "/x?y", "https://a.test/x?y")]
    #[case("a.test", 17443, "/", "https://a.test:17443/")]
    #[case("::1", 17443, "/", "https://[::1]:17443/")]
    #[case("a.test", 443, "*", "https://a.test/")]
    fn the_same_url_over_tls(
        #[case] name: &str,
        #[case] port: u16,
        #[case] path: &str,
        #[case] wanted: &str,
    ) {
        assert_eq!(location(name, port, path), wanted);
    }
}
