//! The way of a request: find its route, take a connection to the target, pass both on.

use std::borrow::Cow;
use std::net::SocketAddr;
use std::sync::Arc;

use bentlane_core::check::Finding;
use bentlane_core::{Route, chain};
use http::header::{ACCEPT, CONNECTION, HOST, UPGRADE};
use http::uri::PathAndQuery;
use http::{HeaderValue, Method, Request, Response, StatusCode, Uri, Version, request};
use hyper::body::{Body, Incoming};
use tokio::time::timeout;

use crate::body::ResponseBody;
use crate::headers::{
    Origin, append_via, fields_octets, join_cookies, remove_hop_by_hop, upgrade_wanted,
};
use crate::page::{Page, Wanted};
use crate::plane::Lead;
use crate::pool::{ConnectError, Lease, Pool};
use crate::redirect;
use crate::server::Shared;
use crate::upgrade;

/// One TLS connection of a client; serves its requests.
#[derive(Debug)]
pub(crate) struct Client {
    shared: Arc<Shared>,
    origin: Origin,
    /// The port of our TLS listeners.
    port: u16,
}

/// Why a request was not passed on.
enum Failure {
    /// No connection to the target.
    Connect(ConnectError),
    /// The target did not answer in time.
    Late,
    /// The exchange broke off.
    Exchange(hyper::Error),
}

impl Client {
    pub(crate) fn new(shared: Arc<Shared>, peer: SocketAddr, port: u16) -> Self {
        Self {
            shared,
            origin: Origin::new(peer.ip(), port),
            port,
        }
    }

    pub(crate) async fn answer(&self, request: Request<Incoming>) -> Response<ResponseBody> {
        // The HTTP/1.1 engine takes in what one read brings beyond its limit, so it is counted here.
        if fields_octets(request.headers()) > self.shared.limits.head_octets as usize {
            return Page::fields_too_large().response();
        }
        let host = match host_of(&request) {
            Ok(host) => host,
            Err(reason) => return Page::bad_request(reason).response(),
        };
        if request.method() == Method::CONNECT {
            return Page::bad_request("CONNECT is not served here").response();
        }
        let name = name_of(host.as_bytes());
        let plane = self.shared.plane();
        let path = request.uri().path();
        let (route, pool) = match plane.route(&name, path) {
            Some((route, Lead::Pool(pool))) => (route, pool),
            Some((_, Lead::Redirect { to, ours })) => {
                let port = ours.then_some(self.port);
                return redirect::elsewhere(request.uri(), to, port);
            }
            None => {
                let wanted = Wanted::by(request.headers().get(ACCEPT));
                return Page::route_missing(&name, path).response_for(wanted, request.method());
            }
        };
        let (accept, method) = (
            request.headers().get(ACCEPT).cloned(),
            request.method().clone(),
        );
        match self.pass(request, &host, pool).await {
            Ok(response) => response,
            Err(failure) => self
                .explain(failure, &name, route)
                .response_for(Wanted::by(accept.as_ref()), &method),
        }
    }

    async fn pass(
        &self,
        request: Request<Incoming>,
        host: &HeaderValue,
        pool: &Arc<Pool>,
    ) -> Result<Response<ResponseBody>, Failure> {
        let (mut parts, body) = request.into_parts();
        let upgrade = (parts.version == Version::HTTP_11)
            .then(|| upgrade_wanted(&parts.headers))
            .flatten();
        let client_side = upgrade
            .is_some()
            .then(|| parts.extensions.remove())
            .flatten();
        self.address_to_target(&mut parts, host, upgrade.as_ref());

        let request = Request::from_parts(parts, body);
        let (response, lease) = self.exchange(request, pool).await?;
        if response.status() == StatusCode::SWITCHING_PROTOCOLS
            && let Some(client_side) = client_side
        {
            return Ok(upgrade::join(response, client_side));
        }
        Ok(from_target(response, lease))
    }

    /// Turns the client's request into the one that the target gets.
    fn address_to_target(
        &self,
        parts: &mut request::Parts,
        host: &HeaderValue,
        upgrade: Option<&HeaderValue>,
    ) {
        let headers = &mut parts.headers;
        remove_hop_by_hop(headers);
        if parts.version == Version::HTTP_2 {
            join_cookies(headers);
        }
        self.origin.announce(headers, host);
        headers.insert(HOST, host.clone());
        if let Some(protocol) = upgrade {
            headers.insert(UPGRADE, protocol.clone());
            headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        }
        parts.version = Version::HTTP_11;
        parts.uri = origin_form(std::mem::take(&mut parts.uri));
    }

    /// Sends over an idle connection, or over a new one when there is none or it turns out to be
    /// closed before any octet of the request was sent.
    async fn exchange(
        &self,
        mut request: Request<Incoming>,
        pool: &Arc<Pool>,
    ) -> Result<(Response<Incoming>, Lease), Failure> {
        let limits = &self.shared.limits;
        while let Some(mut lease) = pool.take_idle().await {
            match timeout(limits.first_byte, lease.sender.try_send_request(request)).await {
                Err(_) => return Err(Failure::Late),
                Ok(Ok(response)) => return Ok((response, lease)),
                Ok(Err(mut error)) => match error.take_message() {
                    Some(unsent) => request = unsent,
                    None => return Err(Failure::Exchange(error.into_error())),
                },
            }
        }
        let mut lease = pool
            .connect(limits.connect)
            .await
            .map_err(Failure::Connect)?;
        match timeout(limits.first_byte, lease.sender.send_request(request)).await {
            Err(_) => Err(Failure::Late),
            Ok(Ok(response)) => Ok((response, lease)),
            Ok(Err(error)) => Err(Failure::Exchange(error)),
        }
    }

    fn explain(&self, failure: Failure, name: &str, route: &Route) -> Page {
        let (address, target) = (route.address.to_string(), &route.to);
        let (status, finding) = match failure {
            Failure::Connect(ConnectError::Closed(attempts)) => (
                StatusCode::BAD_GATEWAY,
                Finding::target_closed(&address, target, &attempts),
            ),
            Failure::Connect(ConnectError::UnknownHost(reason)) => (
                StatusCode::BAD_GATEWAY,
                Finding::target_unknown(&address, target, &reason),
            ),
            Failure::Late => {
                let limit = format!("{} s", self.shared.limits.first_byte.as_secs());
                (
                    StatusCode::GATEWAY_TIMEOUT,
                    Finding::answer_late(target, &limit),
                )
            }
            Failure::Exchange(error) if error.is_parse() => (
                StatusCode::BAD_GATEWAY,
                Finding::answer_malformed(target, &chain(&error)),
            ),
            Failure::Exchange(error) => (
                StatusCode::BAD_GATEWAY,
                Finding::answer_missing(target, &chain(&error)),
            ),
        };
        Page::finding(status, name, &address, Some(target), finding)
    }
}

fn from_target(response: Response<Incoming>, lease: Lease) -> Response<ResponseBody> {
    let (mut parts, incoming) = response.into_parts();
    remove_hop_by_hop(&mut parts.headers);
    append_via(&mut parts.headers);
    parts.version = Version::default();
    Response::from_parts(parts, ResponseBody::passing(incoming, lease))
}

/// The host that the request is for: `:authority`, or the one Host field (RFC 9112 §3.2).
pub(crate) fn host_of<B: Body>(request: &Request<B>) -> Result<HeaderValue, &'static str> {
    if let Some(authority) = request.uri().authority() {
        return HeaderValue::from_str(authority.as_str()).map_err(|_| "the host is not readable");
    }
    let mut fields = request.headers().get_all(HOST).iter();
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

/// Path and query alone, as a server that is no proxy expects them (RFC 9112 §3.2.1).
fn origin_form(uri: Uri) -> Uri {
    if uri.authority().is_none() && uri.scheme().is_none() {
        return uri;
    }
    let path = uri.into_parts().path_and_query;
    Uri::from(path.unwrap_or_else(|| PathAndQuery::from_static("/")))
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use http_body_util::Empty;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("booking.moor.test", "booking.moor.test")]
    #[case("Booking.Moor.TEST:7443", "booking.moor.test")]
    #[case("booking.moor.test.:443", "booking.moor.test")]
    #[case("[::1]:7443", "::1")]
    #[case("", "")]
    fn the_name_of_a_host(#[case] host: &str, #[case] name: &str) {
        assert_eq!(name_of(host.as_bytes()), name);
    }

    #[rstest]
    #[case("/a?b", &["a.test"], Ok("a.test"))]
    #[case("https://b.test:7443/a?b", &["a.test"], Ok("b.test:7443"))]
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
        let host = host_of(&request.body(Empty::<Bytes>::new()).unwrap());
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
