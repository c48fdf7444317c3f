//! The way of a request: find its route, take a connection to the target, pass both on.

use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bentlane_checks::Finding;
use bentlane_model::{Mapping, Plain, Scheme, without_prefix};
use http::header::{ACCEPT, ALT_SVC, CONNECTION, CONTENT_TYPE, HOST};
use http::uri::Authority;
use http::{HeaderMap, HeaderValue, Method, Request, Response, StatusCode, Uri, Version, request};
use hyper::body::{Body, Incoming};

use crate::body::{Progress, RequestBody, ResponseBody};
use crate::failure::{Failure, Refusal, file_failure, looped, paused};
use crate::files;
use crate::guard::Seen;
use crate::headers::{
    Origin, Survey, append_via, forwarded_prefix, join_cookies, map_request_urls, map_response,
    remove_hop_by_hop,
};
use crate::link::{Patience, Unsent};
use crate::manner::{self, Manner};
use crate::page::{Page, Wanted};
use crate::place::{host_of, name_of, origin_form, path_of};
use crate::plane::{Found, Lead, Plane};
use crate::pool::{Boxed, Lease, Pool};
use crate::record::Note;
use crate::redirect;
use crate::server::{Activity, Shared};
use crate::site::{SocketPair, site_body};
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
    peer: IpAddr,
    /// Whether it comes from this machine, and may read the details of a fault.
    local: bool,
    /// Whether it is one too many, and gets nothing else than that it is.
    refused: bool,
    /// What was seen in heads of HTTP/1.1.
    heads: Option<Seen>,
    /// Our end of the connection and the client's, and the same once our own pages are asked for.
    ends: (SocketAddr, SocketAddr),
    pair: OnceLock<Arc<SocketPair>>,
    /// Whether requests are at work.
    pub(crate) activity: Activity,
}

/// What a client's connection is.
#[derive(Clone, Debug)]
pub(crate) struct Connected {
    pub(crate) peer: SocketAddr,
    /// Where it came to.
    pub(crate) at: SocketAddr,
    pub(crate) https_port: u16,
    pub(crate) secure: bool,
    pub(crate) name: Option<Box<str>>,
    pub(crate) refused: bool,
}

/// A request on its way, worked on in place.
struct Ask {
    survey: Survey,
    parts: request::Parts,
    /// The change of protocol that it asks for.
    upgrade: Option<Upgrade>,
    /// Until somebody reads it.
    body: Option<Incoming>,
    /// The body as it is sent, until it is.
    sending: RequestBody,
}

impl Ask {
    fn new(request: Request<Incoming>) -> Self {
        let (parts, body) = request.into_parts();
        Self {
            survey: Survey::of(&parts.headers),
            upgrade: Upgrade::wanted(&parts, !body.is_end_stream()),
            parts,
            body: Some(body),
            sending: RequestBody::empty(),
        }
    }

    /// The request in the form of the protocol that `lease` speaks (RFC 9112 §3.2, RFC 9113 §8.3.1).
    /// What is left here is of no use until it is put back.
    fn fit(&mut self, lease: &Lease, pool: &Pool, wanted: &Wants<'_>) -> Request<RequestBody> {
        let parts = &mut self.parts;
        let host = wanted.host;
        if lease.is_http2() {
            parts.version = Version::HTTP_2;
            parts.headers.remove(HOST);
            if wanted.trailers {
                let trailers = HeaderValue::from_static("trailers");
                parts.headers.insert(http::header::TE, trailers);
            }
            let tls = pool.destination().to.scheme().is_some_and(Scheme::is_tls);
            let scheme = if tls { "https" } else { "http" };
            let mut uri = std::mem::take(&mut parts.uri).into_parts();
            uri.authority = Authority::try_from(host.as_bytes()).ok();
            if uri.authority.is_some() {
                uri.scheme = scheme.parse().ok();
            }
            parts.uri = Uri::from_parts(uri).unwrap_or_default();
        } else if parts.version == Version::HTTP_2 {
            parts.version = Version::HTTP_11;
            parts.uri = origin_form(std::mem::take(&mut parts.uri));
            parts.headers.insert(HOST, host.clone());
        }
        let (nothing, ()) = Request::new(()).into_parts();
        let body = std::mem::replace(&mut self.sending, RequestBody::empty());
        Request::from_parts(std::mem::replace(parts, nothing), body)
    }

    /// Takes a request back of which nothing was sent, to be sent once more over a new connection.
    ///
    /// # Errors
    /// Why it was not answered, when it was sent, or over a new connection already.
    #[cold]
    fn take_back(&mut self, mut error: Unsent, fresh: bool) -> Result<(), Failure> {
        match error.take_message().filter(|_| !fresh) {
            Some(unsent) => {
                (self.parts, self.sending) = unsent.into_parts();
                Ok(())
            }
            None => Err(Failure::of(error.into_error())),
        }
    }
}

/// What a request needs of the connection that it goes out on.
struct Wants<'a> {
    host: &'a HeaderValue,
    /// Whether the client reads trailers.
    trailers: bool,
    /// Whether the connection is to change its protocol.
    upgrade: bool,
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
            at,
            https_port,
            secure,
            name,
            refused,
        } = connected;
        let ends = (at, peer);
        let peer = peer.ip();
        Self {
            origin: Origin::new(peer, at.port(), secure),
            ends,
            pair: OnceLock::new(),
            activity: Activity::default(),
            shared,
            name,
            https_port,
            secure,
            peer,
            local: peer.to_canonical().is_loopback(),
            refused,
            heads: None,
        }
    }

    /// The same on a connection whose heads are looked at.
    pub(crate) fn with_heads_seen(self, seen: Seen) -> Self {
        Self {
            heads: Some(seen),
            ..self
        }
    }

    /// Answers a request.
    // Everything below works on one `Ask` in place: a request is a few hundred octets, and each
    // future that holds one for itself is moved with it.
    pub(crate) fn answer(
        self: Arc<Self>,
        request: Request<Incoming>,
    ) -> Pin<Box<impl Future<Output = Response<ResponseBody>>>> {
        let ask = Box::new(Ask::new(request));
        // In a box, since the engine keeps room for a request's future as long as a connection of
        // HTTP/1.1, and moves one of HTTP/2 several times on its way into a task.
        Box::pin(async move { self.answer_to(ask).await })
    }

    async fn answer_to(&self, mut ask: Box<Ask>) -> Response<ResponseBody> {
        let (accept, method) = (
            ask.parts.headers.get(ACCEPT).cloned(),
            ask.parts.method.clone(),
        );
        let version = ask.parts.version;
        let plane = self.shared.plane();
        let note = Note::begin(self.peer, self.secure, version, method.clone());
        let mut note = Box::new(note);
        note.skipped = ask.survey.is_check;
        note.busy = Some(self.activity.begin());
        // Asked first and once for each request, so that each is told what is wrong with its own head.
        let objection = self.heads.as_ref().and_then(Seen::objection);
        let mut response = match self
            .try_answer(&mut ask, objection, &plane, &mut note)
            .await
        {
            Ok(response) => response,
            Err(mut page) => {
                if !note.knows_place() {
                    note.asks("", path_of(&ask.parts.uri));
                }
                note.told.finding = page.slug();
                page.hide_details_unless(self.local);
                page.response_for(Wanted::by(accept.as_ref()), &method)
            }
        };
        if let Some(unread) = ask.body.take().filter(|body| !body.is_end_stream()) {
            note.received = Some(Progress::of_unread(unread, self.heads.as_ref()));
        }
        note.answered(response.status(), plane);
        response.body_mut().note(note);
        // What broke the protocol may have left octets behind that nobody can read rightly.
        if response.status() == StatusCode::BAD_REQUEST && version < Version::HTTP_2 {
            let close = HeaderValue::from_static("close");
            response.headers_mut().insert(CONNECTION, close);
        }
        response
    }

    /// Sends a request that came in the clear to where TLS is spoken to the same URL over TLS.
    pub(crate) fn send_to_https(&self, parts: &request::Parts) -> Response<ResponseBody> {
        let plane = self.shared.plane();
        let method = parts.method.clone();
        let mut note = Box::new(Note::begin(self.peer, self.secure, parts.version, method));
        let path = path_of(&parts.uri);
        let mut response = match host_of(parts) {
            Ok(host) => {
                let name = name_of(host.as_bytes());
                note.asks(&name, path);
                let found = plane.find(&name, parts.uri.path());
                note_route(&mut note, found, &parts.headers);
                redirect::to_https(&name, self.https_port, path)
            }
            Err(reason) => {
                note.asks("", path);
                Page::bad_request(reason).response_for(Wanted::Text, &parts.method)
            }
        };
        note.answered(response.status(), plane);
        response.body_mut().note(note);
        response
    }

    async fn try_answer(
        &self,
        ask: &mut Ask,
        objection: Option<&'static str>,
        plane: &Arc<Plane>,
        note: &mut Note,
    ) -> Result<Response<ResponseBody>, Box<Page>> {
        if let Some(reason) = objection {
            return Err(Box::new(Page::bad_request(reason)));
        }
        // The HTTP/1.1 engine takes in what one read brings beyond its limit, so it is counted here.
        if ask.survey.octets > self.shared.limits.head_octets as usize {
            return Err(Box::new(Page::fields_too_large()));
        }
        let host = self.host(&ask.parts)?;
        let name = name_of(host.as_bytes());
        note.asks(&name, path_of(&ask.parts.uri));
        self.check(ask, &name)?;
        let path = ask.parts.uri.path();
        let found = plane.find(&name, path);
        note_route(note, found, &ask.parts.headers);
        if !self.secure
            && let Some(answer) = self.away_from_plain(&ask.parts.uri, &name, found, plane)
        {
            return answer;
        }
        let Some(found) = found else {
            let nearest = plane.snapshot.nearest(&name, 3);
            return Err(Page::route_missing(&name, path, &nearest));
        };
        self.serve(ask, &host, &name, found, plane, note).await
    }

    /// What a request in the clear is answered with where it is not served.
    #[inline(never)]
    fn away_from_plain(
        &self,
        uri: &Uri,
        name: &str,
        found: Option<Found<'_>>,
        plane: &Plane,
    ) -> Option<Result<Response<ResponseBody>, Box<Page>>> {
        let route = found.map(|found| found.routed.route);
        match plane.snapshot.plain_for(name, route) {
            Plain::Serve => None,
            Plain::Redirect => {
                let path = path_of(uri);
                Some(Ok(redirect::to_https(name, self.https_port, path)))
            }
            Plain::Refuse => {
                let address = route.map_or(name.to_owned(), |route| route.address.to_string());
                let url = redirect::location(name, self.https_port, uri.path());
                let finding = Finding::plain_refused(&address, &url);
                let status = StatusCode::FORBIDDEN;
                Some(Err(Page::finding(status, name, &address, None, finding)))
            }
        }
    }

    /// The host that is asked for. A client of HTTP/1.0 may name it in the handshake alone.
    fn host(&self, parts: &request::Parts) -> Result<HeaderValue, Box<Page>> {
        match host_of(parts) {
            Ok(host) => Ok(host),
            Err(reason) => {
                let old = parts.version == Version::HTTP_10 && !parts.headers.contains_key(HOST);
                let name = self.name.as_deref().filter(|_| old);
                let host = name.and_then(|name| HeaderValue::from_str(name).ok());
                host.ok_or_else(|| Box::new(Page::bad_request(reason)))
            }
        }
    }

    /// What can be said against a request before its route is known.
    fn check(&self, ask: &Ask, name: &str) -> Result<(), Box<Page>> {
        if self.refused {
            let limit = self.shared.limits.connections;
            return Err(Page::too_many_connections(name, limit));
        }
        if let Some(own) = &self.name
            && **own != *name
            && !self.shared.certificates.serves(own, name)
        {
            return Err(Box::new(Page::misdirected(own, name)));
        }
        if ask.parts.method == Method::CONNECT && ask.upgrade.is_none() {
            return Err(Box::new(Page::bad_request("CONNECT is not served here")));
        }
        Ok(())
    }

    async fn serve(
        &self,
        ask: &mut Ask,
        host: &HeaderValue,
        name: &str,
        found: Found<'_>,
        plane: &Arc<Plane>,
        note: &mut Note,
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
        let parts = &ask.parts;
        let origin =
            manner.and_then(|manner| manner.allowed_origin(&parts.headers, self.https_port));
        if let Some(origin) = &origin
            && let Some(response) = manner::preflight(&parts.method, &parts.headers, origin)
        {
            return Ok(response);
        }
        let mut response = match lead {
            Lead::Redirect { to, ours } => {
                let port = ours.then_some(self.https_port);
                redirect::elsewhere(&parts.uri, to, manner, port)
            }
            Lead::Site => self.answer_own(ask, name, note).await?,
            Lead::Folder(folder) => {
                let stripped = manner.and_then(|manner| manner.stripped.as_deref());
                let path = without_prefix(parts.uri.path(), stripped.unwrap_or_default());
                let fallback = manner.and_then(|manner| manner.fallback.as_deref());
                let answered = files::answer(folder, fallback, &path, parts).await;
                answered.map_err(|error| file_failure(name, route, parts.uri.path(), &error))?
            }
            Lead::Pool(pool) => {
                let asked = Asked {
                    host,
                    found,
                    pool,
                    plane,
                };
                match self.pass(ask, &asked, note).await {
                    Ok(response) => response,
                    Err(Refusal::Page(page)) => return Err(page),
                    Err(Refusal::Failure(failure)) => {
                        return Err(failure.explain(&self.shared.limits, name, route));
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

    /// Answers with one of our own pages.
    #[inline(never)]
    fn answer_own<'a>(
        &'a self,
        ask: &'a mut Ask,
        name: &'a str,
        note: &'a mut Note,
    ) -> Boxed<'a, Result<Response<ResponseBody>, Box<Page>>> {
        Box::pin(async move {
            let path = path_of(&ask.parts.uri);
            if !self.secure {
                return Ok(redirect::to_https(name, self.https_port, path));
            }
            let Some(site) = self.shared.site.get() else {
                return Err(Page::route_missing(name, path, &[]));
            };
            remove_hop_by_hop(&mut ask.parts.headers);
            ask.upgrade = None;
            self.make_ready(ask);
            note.received = ask.sending.progress();
            let (nothing, ()) = Request::new(()).into_parts();
            let body = std::mem::replace(&mut ask.sending, RequestBody::empty());
            let parts = std::mem::replace(&mut ask.parts, nothing);
            let request = Request::from_parts(parts, site_body(body));
            let pair = self
                .pair
                .get_or_init(|| Arc::new(SocketPair::new(self.ends.0, self.ends.1)));
            let answer = site.answer(request, Arc::clone(pair)).await;
            let (mut parts, body) = answer.into_parts();
            remove_hop_by_hop(&mut parts.headers);
            parts.version = Version::default();
            Ok(Response::from_parts(parts, ResponseBody::site(body)))
        })
    }

    async fn pass(
        &self,
        ask: &mut Ask,
        asked: &Asked<'_>,
        note: &mut Note,
    ) -> Result<Response<ResponseBody>, Refusal> {
        let client_side = ask
            .upgrade
            .is_some()
            .then(|| ask.parts.extensions.remove())
            .flatten();
        let manner = asked.found.manner;
        let own_host = manner.and_then(|manner| manner.host.as_ref());
        let host = own_host.unwrap_or(asked.host);
        let trailers = self.address_to_target(ask, asked, host)?;
        let wanted = Wants {
            host,
            trailers,
            upgrade: ask.upgrade.is_some(),
        };
        self.make_ready(ask);
        note.received = ask.sending.progress();
        let sent = self.exchange(ask, asked.pool, &wanted, note);
        let (mut response, mut lease) = sent.await?;
        if ask.upgrade.is_some() {
            lease.use_once();
        }
        // As with requests, the engine takes in what one read brings beyond its limit.
        let survey = Survey::of(response.headers());
        let octets = survey.octets;
        if octets > self.shared.limits.response_head_octets {
            return Err(Failure::Oversized(octets).into());
        }
        let status = response.status();
        if let (Some(client_side), Some(upgrade)) = (client_side, &ask.upgrade) {
            let changes = status == StatusCode::SWITCHING_PROTOCOLS;
            if changes && upgrade.is_agreed(response.headers()) {
                if let Some(heads) = &self.heads {
                    heads.is_raw_now();
                }
                note.answered(upgrade.status(), Arc::clone(asked.plane));
                let note = note.hand_over();
                return Ok(upgrade::join(response, lease, client_side, upgrade, note));
            }
            if changes || (status.is_success() && upgrade.is_by_success()) {
                return Err(Failure::NoUpgrade(status).into());
            }
        }
        if survey.places {
            // The target's own address is taken out of what the client reads.
            self.with_mapping(asked, |mapping| {
                map_response(response.headers_mut(), mapping);
            });
        }
        if manner.is_some_and(|manner| manner.tells_timing) {
            tell_timing(note, response.headers_mut());
        }
        Ok(self.passed_on(response, lease, survey))
    }

    /// Gives the request the body that it is sent with.
    fn make_ready(&self, ask: &mut Ask) {
        let body = ask.body.take();
        if let Some(upgrade) = &ask.upgrade {
            upgrade.ask(&mut ask.parts);
        } else if let Some(body) = body {
            let limits = &self.shared.limits;
            let heads = self.heads.clone();
            ask.sending = RequestBody::new(body, limits.request_idle, limits.total, heads);
        }
    }

    /// Turns the client's request into the one that the target gets. Gives whether the client reads
    /// trailers.
    fn address_to_target(
        &self,
        ask: &mut Ask,
        asked: &Asked<'_>,
        host: &HeaderValue,
    ) -> Result<bool, Box<Page>> {
        let Found { routed, manner, .. } = asked.found;
        let Ask { survey, parts, .. } = ask;
        let headers = &mut parts.headers;
        let id = &*self.shared.id;
        let trailers = survey.hop_by_hop && remove_hop_by_hop(headers);
        if parts.version == Version::HTTP_2 {
            join_cookies(headers);
        }
        let trusts = manner.is_some_and(|manner| manner.trusts_forwarded);
        self.origin
            .announce(
                headers,
                asked.host,
                id,
                asked.plane,
                routed,
                trusts,
                *survey,
            )
            .map_err(|circle| looped(routed.route, &circle))?;
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
        if let Some(prefix) = &manner.stripped
            && let Ok(uri) = without_prefix(path_of(&parts.uri), prefix).parse()
        {
            parts.uri = uri;
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
        ask: &mut Ask,
        pool: &Arc<Pool>,
        wanted: &Wants<'_>,
        note: &mut Note,
    ) -> Result<(Response<Incoming>, Lease), Failure> {
        let limits = &self.shared.limits;
        // An upgrade needs HTTP/1.1, which a connection over TLS need not have agreed on.
        let scheme = pool.destination().to.scheme();
        let mut fresh = wanted.upgrade && scheme == Some(Scheme::Https);
        loop {
            let idle = if fresh { None } else { pool.take_idle().await };
            fresh = idle.is_none();
            let mut lease = match idle {
                Some(lease) => lease,
                None => {
                    note.connecting = Some(Instant::now());
                    let octets = limits.response_head_octets;
                    let connecting = pool.connect(limits.connect, wanted.upgrade, octets);
                    let lease = connecting.await.map_err(Failure::Connect)?;
                    note.connected = Some(Instant::now());
                    lease
                }
            };
            let since = note.connected.unwrap_or_else(Instant::now);
            note.asked = Some(since);
            let patience = Patience {
                since,
                limit: limits.first_byte,
                progress: ask.sending.progress(),
            };
            match lease.send(ask.fit(&lease, pool, wanted), patience).await {
                None => return Err(Failure::Late),
                Some(Ok(response)) => return Ok((response, lease)),
                Some(Err(error)) => {
                    if let Err(failure) = ask.take_back(error, fresh) {
                        return Err(failure.or_tls(pool, fresh).await);
                    }
                }
            }
        }
    }

    fn passed_on(
        &self,
        response: Response<Incoming>,
        lease: Lease,
        survey: Survey,
    ) -> Response<ResponseBody> {
        let (mut parts, incoming) = response.into_parts();
        if survey.hop_by_hop {
            remove_hop_by_hop(&mut parts.headers);
        }
        if survey.alternative {
            // It names a port of the app's, or another machine, under the route's name (RFC 7838 §2.1).
            parts.headers.remove(ALT_SVC);
        }
        append_via(&mut parts.headers);
        parts.version = Version::default();
        let idle = self.shared.limits.response_idle;
        // What has a length is no stream without end.
        let ends = incoming.size_hint().exact().is_some() || !is_stream(&parts.headers);
        let limit = ends.then_some((idle, self.shared.limits.total));
        Response::from_parts(parts, ResponseBody::passing(incoming, lease, limit))
    }
}

/// Notes which route answers, and who asks where that is logged. Our own pages are no news.
fn note_route(note: &mut Note, found: Option<Found<'_>>, headers: &HeaderMap) {
    let Some(found) = found else {
        return;
    };
    note.position = found.routed.position;
    note.skipped |= found.routed.position.is_none();
    if found.manner.is_some_and(|manner| manner.logs) {
        note.visited_by(headers);
    }
}

/// Says in `Server-Timing` (W3C Server Timing §3) how long connecting and waiting took.
#[cold]
fn tell_timing(note: &Note, headers: &mut HeaderMap) {
    let millis = |duration: Duration| duration.as_secs_f64() * 1000.0;
    let mut value = match note.connecting.zip(note.connected) {
        Some((begun, there)) => format!("connect;dur={:.1}, ", millis(there - begun)),
        None => String::new(),
    };
    let asked = note.asked.unwrap_or(note.start);
    value.push_str(&format!("app;dur={:.1}", millis(asked.elapsed())));
    if let Ok(value) = HeaderValue::try_from(value) {
        headers.append("server-timing", value);
    }
}

/// Whether a response may be silent for as long as it likes: event streams, and streams of gRPC.
fn is_stream(headers: &HeaderMap) -> bool {
    headers.get(CONTENT_TYPE).is_some_and(|media| {
        let media = media.as_bytes();
        media.starts_with(b"text/event-stream") || media.starts_with(b"application/grpc")
    })
}
