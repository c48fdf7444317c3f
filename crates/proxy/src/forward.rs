//! The way of a request: find its route, take a connection to the target, pass both on.

use std::borrow::Cow;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bentlane_core::check::Finding;
use bentlane_core::{Mapping, Plain, Route, Scheme, chain, without_prefix};
use http::header::{ACCEPT, CONNECTION, CONTENT_LENGTH, CONTENT_TYPE, HOST, TRANSFER_ENCODING};
use http::uri::{Authority, PathAndQuery};
use http::{HeaderMap, HeaderValue, Method, Request, Response, StatusCode, Uri, Version, request};
use hyper::body::{Body, Incoming};
use tokio::time::timeout;

use crate::body::{RequestBody, ResponseBody, Stalled};
use crate::files::{self, FileError};
use crate::headers::{
    Origin, append_via, circle, fields_octets, forwarded_prefix, join_cookies, map_request_urls,
    map_response, remove_hop_by_hop, wants_trailers,
};
use crate::manner::{self, Manner};
use crate::page::{Page, Wanted};
use crate::plane::{Found, Lead, Plane};
use crate::pool::{ConnectError, Lease, Pool};
use crate::redirect;
use crate::server::Shared;
use crate::upgrade::{self, Upgrade};

/// One connection of a client; serves its requests.
#[derive(Debug)]
pub(crate) struct Client {
    shared: Arc<Shared>,
    origin: Origin,
    /// The server name of the handshake.
    name: Option<Box<str>>,
    /// The port of our TLS listeners.
    https_port: u16,
    /// Whether it came over TLS.
    secure: bool,
    /// Whether it comes from this machine, and may read the details of a fault.
    local: bool,
    /// Whether it is one too many, and gets nothing else than that it is.
    refused: bool,
}

/// What a client's connection is.
#[derive(Clone, Debug)]
pub(crate) struct Connected {
    pub(crate) peer: IpAddr,
    /// The port that it came to.
    pub(crate) port: u16,
    pub(crate) https_port: u16,
    pub(crate) secure: bool,
    pub(crate) name: Option<Box<str>>,
    pub(crate) refused: bool,
}

/// Why a request was not passed on.
enum Failure {
    /// No connection to the target.
    Connect(ConnectError),
    /// The target did not answer in time.
    Late,
    /// The client did not send the body in time.
    Stalled,
    /// The exchange broke off.
    Exchange(hyper::Error),
    /// The target speaks TLS, and was asked in the clear.
    SpeaksTls,
    /// The fields of the response take so many octets.
    Oversized(usize),
}

/// When an exchange reached which point.
struct Timing {
    start: Instant,
    connected: Option<Instant>,
}

/// What is known of a request beside its own parts.
struct Asked<'a> {
    host: &'a HeaderValue,
    found: Found<'a>,
    pool: &'a Arc<Pool>,
    plane: &'a Arc<Plane>,
}

impl Client {
    pub(crate) fn new(shared: Arc<Shared>, connected: Connected) -> Self {
        let Connected {
            peer,
            port,
            https_port,
            secure,
            name,
            refused,
        } = connected;
        Self {
            origin: Origin::new(peer, port, secure),
            shared,
            name,
            https_port,
            secure,
            local: peer.to_canonical().is_loopback(),
            refused,
        }
    }

    pub(crate) async fn answer(&self, request: Request<Incoming>) -> Response<ResponseBody> {
        let version = request.version();
        let (accept, method) = (
            request.headers().get(ACCEPT).cloned(),
            request.method().clone(),
        );
        let mut response = match self.try_answer(request).await {
            Ok(response) => return response,
            Err(mut page) => {
                page.hide_details_unless(self.local);
                page.response_for(Wanted::by(accept.as_ref()), &method)
            }
        };
        // What broke the protocol may have left octets behind that nobody can read rightly.
        if response.status() == StatusCode::BAD_REQUEST && version < Version::HTTP_2 {
            let close = HeaderValue::from_static("close");
            response.headers_mut().insert(CONNECTION, close);
        }
        response
    }

    async fn try_answer(
        &self,
        request: Request<Incoming>,
    ) -> Result<Response<ResponseBody>, Box<Page>> {
        // The HTTP/1.1 engine takes in what one read brings beyond its limit, so it is counted here.
        if fields_octets(request.headers()) > self.shared.limits.head_octets as usize {
            return Err(Box::new(Page::fields_too_large()));
        }
        let host = self.host(&request)?;
        let name = name_of(host.as_bytes());
        let upgrade = self.check(&request, &name)?;
        let plane = self.shared.plane();
        let path = request.uri().path();
        let found = plane.find(&name, path);
        if !self.secure {
            let plain = plane
                .snapshot
                .plain_for(&name, found.map(|found| found.routed.route));
            match plain {
                Plain::Serve => {}
                Plain::Redirect => return redirect::to_https(&request, self.https_port),
                Plain::Refuse => {
                    let address = found.map_or(name.to_string(), |found| {
                        found.routed.route.address.to_string()
                    });
                    let url = redirect::location(&name, self.https_port, path);
                    let finding = Finding::plain_refused(&address, &url);
                    let status = StatusCode::FORBIDDEN;
                    return Err(Page::finding(status, &name, &address, None, finding));
                }
            }
        }
        let Some(found) = found else {
            let nearest = plane.snapshot.nearest(&name, 3);
            return Err(Page::route_missing(&name, path, &nearest));
        };
        self.serve(request, &host, &name, found, &plane, upgrade)
            .await
    }

    /// The host that is asked for. A client of HTTP/1.0 may name it in the handshake alone.
    fn host(&self, request: &Request<Incoming>) -> Result<HeaderValue, Box<Page>> {
        match host_of(request) {
            Ok(host) => Ok(host),
            Err(reason) => {
                let old =
                    request.version() == Version::HTTP_10 && !request.headers().contains_key(HOST);
                let name = self.name.as_deref().filter(|_| old);
                let host = name.and_then(|name| HeaderValue::from_str(name).ok());
                host.ok_or_else(|| Box::new(Page::bad_request(reason)))
            }
        }
    }

    /// What can be said against a request before its route is known; gives the protocol that it
    /// wants to change to.
    fn check(&self, request: &Request<Incoming>, name: &str) -> Result<Option<Upgrade>, Box<Page>> {
        if self.refused {
            let limit = self.shared.limits.connections;
            return Err(Page::too_many_connections(name, limit));
        }
        let headers = request.headers();
        // Two servers could read such a message in two ways (RFC 9112 §6.1).
        if headers.contains_key(TRANSFER_ENCODING) && headers.contains_key(CONTENT_LENGTH) {
            return Err(Box::new(Page::bad_request(
                "there are both Content-Length and Transfer-Encoding",
            )));
        }
        if let Some(own) = &self.name
            && **own != *name
            && !self.shared.certificates.serves(own, name)
        {
            return Err(Box::new(Page::misdirected(own, name)));
        }
        let upgrade = Upgrade::wanted(request);
        if request.method() == Method::CONNECT && upgrade.is_none() {
            return Err(Box::new(Page::bad_request("CONNECT is not served here")));
        }
        Ok(upgrade)
    }

    async fn serve(
        &self,
        request: Request<Incoming>,
        host: &HeaderValue,
        name: &str,
        found: Found<'_>,
        plane: &Arc<Plane>,
        upgrade: Option<Upgrade>,
    ) -> Result<Response<ResponseBody>, Box<Page>> {
        let Found {
            routed,
            lead,
            manner,
        } = found;
        let route = routed.route;
        if manner.is_some_and(|manner| manner.paused) {
            return Err(paused(name, route));
        }
        let origin =
            manner.and_then(|manner| manner.allowed_origin(request.headers(), self.https_port));
        if let Some(origin) = &origin
            && let Some(response) = manner::preflight(request.method(), request.headers(), origin)
        {
            return Ok(response);
        }
        let mut response = match lead {
            Lead::Redirect { to, ours } => {
                let port = ours.then_some(self.https_port);
                redirect::elsewhere(request.uri(), to, manner, port)
            }
            Lead::Folder(folder) => {
                let (uri, headers) = (request.uri(), request.headers());
                let stripped = manner.and_then(|manner| manner.stripped.as_deref());
                let path = without_prefix(uri.path(), stripped.unwrap_or_default());
                let fallback = manner.and_then(|manner| manner.fallback.as_deref());
                files::answer(folder, fallback, &path, request.method(), uri, headers)
                    .await
                    .map_err(|error| file_failure(name, route, uri.path(), &error))?
            }
            Lead::Pool(pool) => {
                let asked = Asked {
                    host,
                    found,
                    pool,
                    plane,
                };
                match self.pass(request, &asked, upgrade).await {
                    Ok(response) => response,
                    Err(Refusal::Page(page)) => return Err(page),
                    Err(Refusal::Failure(failure)) => {
                        return Err(self.explain(failure, name, route));
                    }
                }
            }
        };
        if let Some(manner) = manner {
            if let Some(origin) = origin {
                manner::share(response.headers_mut(), origin);
            }
            manner.edit_response(response.headers_mut());
        }
        Ok(response)
    }

    async fn pass(
        &self,
        request: Request<Incoming>,
        asked: &Asked<'_>,
        upgrade: Option<Upgrade>,
    ) -> Result<Response<ResponseBody>, Refusal> {
        let timing = Timing {
            start: Instant::now(),
            connected: None,
        };
        let (mut parts, body) = request.into_parts();
        let client_side = upgrade
            .is_some()
            .then(|| parts.extensions.remove())
            .flatten();
        let manner = asked.found.manner;
        let own_host = manner.and_then(|manner| manner.host.as_ref());
        let host = own_host.unwrap_or(asked.host);
        let trailers = self.address_to_target(&mut parts, asked, host)?;
        let body = match &upgrade {
            Some(upgrade) => {
                upgrade.ask(&mut parts);
                RequestBody::empty()
            }
            None => RequestBody::new(body, self.shared.limits.request_idle),
        };
        let request = Request::from_parts(parts, body);
        let sent = self.exchange(
            request,
            asked.pool,
            host,
            trailers,
            upgrade.is_some(),
            timing,
        );
        let (mut response, lease, timing) = sent.await?;
        // As with requests, the engine takes in what one read brings beyond its limit.
        let octets = fields_octets(response.headers());
        if octets > self.shared.limits.response_head_octets {
            return Err(Failure::Oversized(octets).into());
        }
        if response.status() == StatusCode::SWITCHING_PROTOCOLS
            && let (Some(client_side), Some(upgrade)) = (client_side, &upgrade)
        {
            return Ok(upgrade::join(response, client_side, upgrade));
        }
        self.address_to_client(response.headers_mut(), asked);
        let tells_timing = manner.is_some_and(|manner| manner.tells_timing);
        if tells_timing {
            timing.tell(response.headers_mut());
        }
        Ok(self.passed_on(response, lease))
    }

    /// Turns the client's request into the one that the target gets. Gives whether the client reads
    /// trailers.
    fn address_to_target(
        &self,
        parts: &mut request::Parts,
        asked: &Asked<'_>,
        host: &HeaderValue,
    ) -> Result<bool, Box<Page>> {
        let Found { routed, manner, .. } = asked.found;
        let headers = &mut parts.headers;
        let id = &*self.shared.id;
        if let Some(circle) = circle(headers, id, routed.route) {
            return Err(looped(routed.route, &circle));
        }
        let trailers = wants_trailers(headers);
        remove_hop_by_hop(headers);
        if parts.version == Version::HTTP_2 {
            join_cookies(headers);
        }
        let trusts = manner.is_some_and(|manner| manner.trusts_forwarded);
        self.origin
            .announce(headers, asked.host, id, asked.plane, routed, trusts);
        headers.insert(HOST, host.clone());
        parts.version = Version::HTTP_11;
        parts.uri = origin_form(std::mem::take(&mut parts.uri));
        if let Some(manner) = manner {
            self.address_in_its_manner(parts, asked, manner);
        }
        Ok(trailers)
    }

    /// What a route's settings change of a request.
    fn address_in_its_manner(
        &self,
        parts: &mut request::Parts,
        asked: &Asked<'_>,
        manner: &Manner,
    ) {
        if let Some(prefix) = &manner.stripped {
            let whole = parts.uri.path_and_query().map_or("/", |path| path.as_str());
            if let Ok(uri) = without_prefix(whole, prefix).parse() {
                parts.uri = uri;
            }
        }
        if let Some(prefix) = &manner.prefix {
            forwarded_prefix(&mut parts.headers, prefix);
        }
        if manner.host.is_some() {
            self.with_mapping(asked, |mapping| {
                map_request_urls(&mut parts.headers, mapping);
            });
        }
        manner.edit_request(&mut parts.headers);
    }

    /// Takes the target's own address out of what the client reads.
    fn address_to_client(&self, headers: &mut HeaderMap, asked: &Asked<'_>) {
        if headers.contains_key(http::header::LOCATION)
            || headers.contains_key(http::header::SET_COOKIE)
        {
            self.with_mapping(asked, |mapping| map_response(headers, mapping));
        }
    }

    fn with_mapping(&self, asked: &Asked<'_>, work: impl FnOnce(&Mapping<'_>)) {
        let target = asked.pool.destination().to.authority();
        let (Some(target), Ok(host)) = (target, asked.host.to_str()) else {
            return;
        };
        let manner = asked.found.manner;
        work(&Mapping {
            scheme: if self.secure { "https" } else { "http" },
            host,
            target: &target,
            stripped: manner.and_then(|manner| manner.stripped.as_deref()),
        });
    }

    /// Sends over an idle connection, or over a new one when there is none or it turns out to be
    /// closed before any octet of the request was sent.
    async fn exchange(
        &self,
        mut request: Request<RequestBody>,
        pool: &Arc<Pool>,
        host: &HeaderValue,
        trailers: bool,
        upgrade: bool,
        mut timing: Timing,
    ) -> Result<(Response<Incoming>, Lease, Timing), Failure> {
        let limits = &self.shared.limits;
        // An upgrade needs HTTP/1.1, which a connection over TLS need not have agreed on.
        let own_connection = upgrade && pool.destination().to.scheme() == Some(Scheme::Https);
        while !own_connection && let Some(mut lease) = pool.take_idle().await {
            fit(&mut request, &lease, pool, host, trailers);
            match timeout(limits.first_byte, lease.send(request)).await {
                Err(_) => return Err(Failure::Late),
                Ok(Ok(response)) => return Ok((response, lease, timing)),
                Ok(Err(mut error)) => match error.take_message() {
                    Some(unsent) => request = unsent,
                    None => return Err(Failure::of(error.into_error())),
                },
            }
        }
        let mut lease = pool
            .connect(limits.connect, upgrade, limits.response_head_octets)
            .await
            .map_err(Failure::Connect)?;
        timing.connected = Some(Instant::now());
        fit(&mut request, &lease, pool, host, trailers);
        match timeout(limits.first_byte, lease.send(request)).await {
            Err(_) => Err(Failure::Late),
            Ok(Ok(response)) => Ok((response, lease, timing)),
            Ok(Err(error)) => {
                let failure = Failure::of(error.into_error());
                if matches!(&failure, Failure::Exchange(error) if !error.is_parse_too_large())
                    && pool.speaks_tls().await
                {
                    return Err(Failure::SpeaksTls);
                }
                Err(failure)
            }
        }
    }

    fn explain(&self, failure: Failure, name: &str, route: &Route) -> Box<Page> {
        let (address, target) = (route.address.to_string(), &route.to);
        let bad = StatusCode::BAD_GATEWAY;
        let (status, finding) = match failure {
            Failure::Connect(error) => (bad, connect_finding(&address, route, error)),
            Failure::Late => {
                let limit = format!("{} s", self.shared.limits.first_byte.as_secs());
                let finding = Finding::answer_late(target, &limit);
                (StatusCode::GATEWAY_TIMEOUT, finding)
            }
            Failure::Stalled => {
                let limit = self.shared.limits.request_idle;
                return Box::new(Page::request_stalled(limit));
            }
            Failure::SpeaksTls => (bad, Finding::target_speaks_tls(&address, target)),
            Failure::Oversized(octets) => {
                let limit = self.shared.limits.response_head_octets;
                let reason = format!("{octets} octets, and {limit} are taken");
                (bad, Finding::answer_oversized(target, &reason))
            }
            Failure::Exchange(error) if error.is_parse_too_large() => {
                (bad, Finding::answer_oversized(target, &chain(&error)))
            }
            Failure::Exchange(error) if error.is_parse() => {
                (bad, Finding::answer_malformed(target, &chain(&error)))
            }
            Failure::Exchange(error) => (bad, Finding::answer_missing(target, &chain(&error))),
        };
        Page::finding(status, name, &address, Some(target), finding)
    }

    fn passed_on(&self, response: Response<Incoming>, lease: Lease) -> Response<ResponseBody> {
        let (mut parts, incoming) = response.into_parts();
        remove_hop_by_hop(&mut parts.headers);
        append_via(&mut parts.headers);
        parts.version = Version::default();
        let idle = self.shared.limits.response_idle;
        let limit = (!is_stream(&parts.headers)).then_some(idle);
        Response::from_parts(parts, ResponseBody::passing(incoming, lease, limit))
    }
}

/// Why a request has no response of the target's.
enum Refusal {
    Page(Box<Page>),
    Failure(Failure),
}

impl From<Box<Page>> for Refusal {
    fn from(page: Box<Page>) -> Self {
        Self::Page(page)
    }
}

impl From<Failure> for Refusal {
    fn from(failure: Failure) -> Self {
        Self::Failure(failure)
    }
}

impl Failure {
    fn of(error: hyper::Error) -> Self {
        let mut cause: Option<&dyn std::error::Error> = Some(&error);
        while let Some(some) = cause {
            if some.is::<Stalled>() {
                return Self::Stalled;
            }
            cause = some.source();
        }
        Self::Exchange(error)
    }
}

impl Timing {
    /// Says in `Server-Timing` (W3C Server Timing §3) how long connecting and waiting took.
    fn tell(&self, headers: &mut HeaderMap) {
        let millis = |duration: Duration| duration.as_secs_f64() * 1000.0;
        let since = self.connected.unwrap_or(self.start);
        let mut value = match self.connected {
            Some(at) => format!("connect;dur={:.1}, ", millis(at - self.start)),
            None => String::new(),
        };
        value.push_str(&format!("app;dur={:.1}", millis(since.elapsed())));
        if let Ok(value) = HeaderValue::try_from(value) {
            headers.append("server-timing", value);
        }
    }
}

fn connect_finding(address: &str, route: &Route, error: ConnectError) -> Finding {
    let target = &route.to;
    match error {
        ConnectError::Closed {
            attempts,
            elsewhere: Some(elsewhere),
        } => Finding::target_other_family(address, target, &attempts, elsewhere),
        ConnectError::Closed { attempts, .. } => Finding::target_closed(address, target, &attempts),
        ConnectError::UnknownHost(reason) => Finding::target_unknown(address, target, &reason),
        ConnectError::Untrusted(reason) => Finding::target_untrusted(address, target, &reason),
        ConnectError::SpeaksPlain => Finding::target_speaks_plain(address, target),
        ConnectError::Tls(reason) => Finding::target_tls_failed(target, &reason),
        ConnectError::Broken(reason) => Finding::answer_missing(target, &reason),
    }
}

fn paused(name: &str, route: &Route) -> Box<Page> {
    let address = route.address.to_string();
    let finding = Finding::route_paused(&address, route.settings.note.as_deref());
    let status = StatusCode::SERVICE_UNAVAILABLE;
    Page::finding(status, name, &address, Some(&route.to), finding)
}

fn looped(route: &Route, circle: &[String]) -> Box<Page> {
    let address = route.address.to_string();
    let finding = Finding::route_loop(&address, circle);
    let status = StatusCode::LOOP_DETECTED;
    Page::finding(status, &address, &address, Some(&route.to), finding)
}

fn file_failure(name: &str, route: &Route, path: &str, error: &FileError) -> Box<Page> {
    let (address, target) = (route.address.to_string(), &route.to);
    let (status, finding) = match error {
        FileError::Missing => (
            StatusCode::NOT_FOUND,
            Finding::file_missing(&address, target, path, None),
        ),
        FileError::Outside => {
            let reason = "the path leads out of the folder, where nothing is served from";
            let finding = Finding::file_missing(&address, target, path, Some(reason));
            (StatusCode::NOT_FOUND, finding)
        }
        FileError::Unreadable(cause) => (
            StatusCode::BAD_GATEWAY,
            Finding::folder_unreadable(&address, target, &cause.to_string()),
        ),
    };
    Page::finding(status, name, &address, Some(target), finding)
}

/// Whether a response may be silent for as long as it likes: event streams, and streams of gRPC.
fn is_stream(headers: &HeaderMap) -> bool {
    headers.get(CONTENT_TYPE).is_some_and(|media| {
        let media = media.as_bytes();
        media.starts_with(b"text/event-stream") || media.starts_with(b"application/grpc")
    })
}

/// Puts a request into the form of the protocol that `lease` speaks (RFC 9112 §3.2, RFC 9113 §8.3.1).
fn fit(
    request: &mut Request<RequestBody>,
    lease: &Lease,
    pool: &Pool,
    host: &HeaderValue,
    trailers: bool,
) {
    if !lease.is_http2() {
        if *request.version_mut() == Version::HTTP_2 {
            *request.version_mut() = Version::HTTP_11;
            *request.uri_mut() = origin_form(std::mem::take(request.uri_mut()));
            request.headers_mut().insert(HOST, host.clone());
        }
        return;
    }
    *request.version_mut() = Version::HTTP_2;
    request.headers_mut().remove(HOST);
    if trailers {
        let trailers = HeaderValue::from_static("trailers");
        request.headers_mut().insert(http::header::TE, trailers);
    }
    let tls = pool.destination().to.scheme().is_some_and(Scheme::is_tls);
    let scheme = if tls { "https" } else { "http" };
    let mut parts = std::mem::take(request.uri_mut()).into_parts();
    parts.authority = Authority::try_from(host.as_bytes()).ok();
    if parts.authority.is_some() {
        parts.scheme = scheme.parse().ok();
    }
    *request.uri_mut() = Uri::from_parts(parts).unwrap_or_default();
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
