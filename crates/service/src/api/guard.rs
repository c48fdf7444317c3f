//! Who may call: requests addressed to this machine by name, from our own pages, by somebody who
//! signed in.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use axum::extract::{Request, State as Shared};
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN, WWW_AUTHENTICATE};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use super::Problem;
use crate::state::{OWN_NAME, State};

/// The cookie of a browser that signed in.
pub(crate) const COOKIE_NAME: &str = "bentlane_session";

/// Who called, for the journal.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Caller(pub(crate) &'static str);

/// Refuses requests whose `Host` is not ours, as after DNS rebinding, or whose `Origin` is another
/// site's.
pub(crate) async fn require_host(
    Shared(state): Shared<Arc<State>>,
    request: Request,
    next: Next,
) -> Response {
    let headers = request.headers();
    let ours = |host: &str| is_ours(host, &state.listening.api);
    // The same pages through our own proxy.
    let https_port = state.listening.https_port();
    let ours_by_name = |origin: &str| is_own_name(origin, https_port);
    // A port that is forwarded to ours has another number.
    let named_us = |host: &str| is_named(host.split(':').next().unwrap_or_default());
    if !text(headers, &HOST).is_some_and(|host| ours(host) || named_us(host)) {
        let detail = "the Host field names another server than this one";
        return Problem::new(StatusCode::MISDIRECTED_REQUEST, detail).into_response();
    }
    if let Some(origin) = text(headers, &ORIGIN)
        && !origin.strip_prefix("http://").is_some_and(ours)
        && !origin.strip_prefix("https://").is_some_and(ours_by_name)
    {
        let detail = format!("pages of {origin} may not call this service");
        return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
    }
    next.run(request).await
}

/// Refuses callers that neither hold the token nor signed in.
pub(crate) async fn require_sign_in(
    Shared(state): Shared<Arc<State>>,
    mut request: Request,
    next: Next,
) -> Response {
    let headers = request.headers();
    let bearer = text(headers, &AUTHORIZATION).and_then(|value| value.strip_prefix("Bearer "));
    let caller = if bearer.is_some_and(|token| state.sign_in.is_token(token)) {
        Caller("command line")
    } else if session_of(headers).is_some_and(|s| state.sign_in.is_session(s, Instant::now())) {
        // A browser names the origin of every request that changes something.
        if !is_safe(request.method()) && !headers.contains_key(ORIGIN) {
            let detail = "a browser's request that changes something names its Origin";
            return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
        }
        Caller("console")
    } else {
        let detail = "not signed in: run `bentlane console`, or send the token of the data folder";
        let mut response = Problem::new(StatusCode::UNAUTHORIZED, detail).into_response();
        response
            .headers_mut()
            .insert(WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        return response;
    };
    request.extensions_mut().insert(caller);
    next.run(request).await
}

fn is_safe(method: &Method) -> bool {
    method.is_safe()
}

fn text<'a>(headers: &'a HeaderMap, name: &axum::http::HeaderName) -> Option<&'a str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}

fn session_of(headers: &HeaderMap) -> Option<&str> {
    headers
        .get_all(COOKIE)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(';'))
        .find_map(|pair| pair.trim().strip_prefix(COOKIE_NAME)?.strip_prefix('='))
}

/// Whether `host` is `localhost`, 127.0.0.1 or ::1 with a port on which the API listens, or an
/// address on which it does.
fn is_ours(host: &str, listening: &[SocketAddr]) -> bool {
    if let Ok(address) = host.parse::<SocketAddr>() {
        return listening.contains(&address);
    }
    let (name, port) = host.split_once(':').unwrap_or((host, "80"));
    name.eq_ignore_ascii_case("localhost")
        && port
            .parse()
            .is_ok_and(|port: u16| listening.iter().any(|at| at.port() == port))
}

/// Whether `host` is the name of our own pages, with the port on which HTTPS listens.
fn is_own_name(host: &str, https_port: u16) -> bool {
    let (name, port) = host.split_once(':').unwrap_or((host, "443"));
    is_named(name) && port.parse() == Ok(https_port)
}

fn is_named(name: &str) -> bool {
    name.eq_ignore_ascii_case(OWN_NAME)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("bentlane.localhost", 443, true)]
    #[case("bentlane.localhost:443", 443, true)]
    #[case("BENTLANE.localhost:7443", 7443, true)]
    #[case("bentlane.localhost", 7443, false)]
    #[case("bentlane.localhost:7070", 7443, false)]
    #[case("bentlane.localhost.evil.example", 443, false)]
    fn our_own_name(#[case] host: &str, #[case] port: u16, #[case] ours: bool) {
        assert_eq!(is_own_name(host, port), ours);
    }

    #[rstest]
    #[case("127.0.0.1:7070", true)]
    #[case("[::1]:7070", true)]
    #[case("localhost:7070", true)]
    #[case("LOCALHOST:7070", true)]
    #[case("localhost", false)]
    #[case("localhost:80", false)]
    #[case("127.0.0.2:7070", false)]
    #[case("evil.example:7070", false)]
    #[case("localhost.evil.example:7070", false)]
    #[case("", false)]
    fn hosts_that_are_ours(#[case] host: &str, #[case] ours: bool) {
        let listening = ["127.0.0.1:7070", "[::1]:7070"].map(|at| at.parse().unwrap());
        assert_eq!(is_ours(host, &listening), ours);
    }

    #[rstest]
    #[case("bentlane_session=abc", Some("abc"))]
    #[case("a=b; bentlane_session=abc; c=d", Some("abc"))]
    #[case("bentlane_session_other=abc", None)]
    #[case("x_bentlane_session=abc", None)]
    fn the_session_cookie_is_found(#[case] cookie: &'static str, #[case] wanted: Option<&str>) {
        let headers = HeaderMap::from_iter([(COOKIE, HeaderValue::from_static(cookie))]);
        assert_eq!(session_of(&headers), wanted);
    }
}
