//! The way of a request: find its route, take a connection to the target, pass both on.

mod app;
mod by_name;
mod folder;
mod plain_http;

use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Arc, OnceLock};
use std::time::Instant;

use bentlane_model::{Mapping, Scheme, without_prefix};
use http::header::{ACCEPT, ALT_SVC, CONNECTION, CONTENT_LENGTH, CONTENT_TYPE, HOST};
use http::{HeaderMap, HeaderValue, Method, Request, Response, StatusCode, Version, request};
use hyper::body::{Body, Incoming};

use self::app::Awaited;
pub(crate) use self::by_name::NamedPools;
use self::folder::Answered;
use crate::activity::Activity;
use crate::error_page::{ErrorPage, PageFormat};
use crate::failure::{Failure, Refusal, looped, paused};
use crate::head_check::HeadFindings;
use crate::headers::{
    HeadFlags, Origin, append_via, forwarded_prefix, join_cookies, map_request_urls, map_response,
    remove_hop_by_hop,
};
use crate::outgoing::{ConnectionNeeds, OutgoingRequest};
use crate::pool::{Boxed, Lease, Pool};
use crate::record::ExchangeBuilder;
use crate::redirect;
use crate::replicas::Replicas;
use crate::request_body::{Progress, RequestBody};
use crate::response_body::ResponseBody;
use crate::route_rules::{self, RouteRules};
use crate::routing_table::{Backend, Found, RoutingTable};
use crate::shared::Shared;
use crate::site::{SocketPair, site_body};
use crate::target_connection::ResponseDeadline;
use crate::upgrade::{self};
use crate::uri::{host_of, name_of, origin_form, path_of};

/// One connection of a client; serves its requests.
#[derive(Debug)]
pub(crate) struct Client {
    shared: Arc<Shared>,
    origin: Origin,
    /// The server name of the handshake.
    name: Option<Box<str>>,
    /// The port of our TLS listeners.
    https_port: u16,
    /// The port that it came to.
    port: u16,
    /// The same when the routes of that port alone are served.
    only_port: Option<u16>,
    /// Whether it came over TLS.
    secure: bool,
    peer: IpAddr,
    /// Whether it comes from this machine, and may read the details of a fault.
    local: bool,
    /// Whether it is one too many, and gets nothing else than that it is.
    refused: bool,
    /// What was found in HTTP/1.1 headers.
    heads: Option<HeadFindings>,
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
    pub(crate) only_port: Option<u16>,
    pub(crate) secure: bool,
    pub(crate) name: Option<Box<str>>,
    pub(crate) refused: bool,
}

/// What is known of a request beside its own parts.
struct RequestContext<'a> {
    host: &'a HeaderValue,
    found: Found<'a>,
    pool: &'a Arc<Pool>,
    table: &'a Arc<RoutingTable>,
}

impl Client {
    pub(crate) fn new(shared: Arc<Shared>, connected: Connected) -> Self {
        let Connected {
            peer,
            at,
            https_port,
            only_port,
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
            port: at.port(),
            only_port,
            secure,
            peer,
            local: peer.to_canonical().is_loopback(),
            refused,
            heads: None,
        }
    }

    /// The same on a connection whose heads are looked at.
    pub(crate) fn with_heads_seen(self, seen: HeadFindings) -> Self {
        Self {
            heads: Some(seen),
            ..self
        }
    }

    /// Answers a request.
    // Everything below works on one `OutgoingRequest` in place: a request is a few hundred bytes, and each
    // future that holds one for itself is moved with it.
    pub(crate) fn answer(
        self: Arc<Self>,
        request: Request<Incoming>,
    ) -> Pin<Box<impl Future<Output = Response<ResponseBody>>>> {
        let ask = Box::new(OutgoingRequest::new(request));
        // In a box, since the engine keeps room for a request's future as long as a connection of
        // HTTP/1.1, and moves one of HTTP/2 several times on its way into a task.
        Box::pin(async move { self.answer_to(ask).await })
    }

    fn begin_exchange(&self, version: Version, method: Method) -> Box<ExchangeBuilder> {
        let mut exchange = ExchangeBuilder::begin(self.peer, self.secure, version, method);
        exchange.recorder = Some(self.shared.recorder.clone());
        Box::new(exchange)
    }

    async fn answer_to(&self, mut ask: Box<OutgoingRequest>) -> Response<ResponseBody> {
        let (accept, method) = (
            ask.parts.headers.get(ACCEPT).cloned(),
            ask.parts.method.clone(),
        );
        let version = ask.parts.version;
        let table = self.shared.routing_table();
        let mut exchange = self.begin_exchange(version, method.clone());
        exchange.skipped = ask.flags.is_check;
        exchange.busy = Some(self.activity.begin());
        // Once for each request and before anything else, so that each gets the finding of its head.
        let objection = self.heads.as_ref().and_then(HeadFindings::objection);
        let mut response = match self
            .try_answer(&mut ask, objection, &table, &mut exchange)
            .await
        {
            Ok(response) => response,
            Err(mut page) => {
                if !exchange.knows_place() {
                    exchange.asks("", path_of(&ask.parts.uri));
                }
                exchange.details.finding = page.slug();
                if let Some(site) = self.shared.site.get() {
                    page.add_since(|address| site.since(address));
                }
                page.hide_details_unless(self.local);
                page.response_for(PageFormat::by(accept.as_ref()), &method)
            }
        };
        if let Some(unread) = ask.body.take().filter(|body| !body.is_end_stream()) {
            exchange.received = Some(Progress::of_unread(unread, self.heads.as_ref()));
        }
        exchange.answered(response.status(), Arc::clone(&table.snapshot));
        response.body_mut().record_to(exchange);
        // After a protocol violation, the bytes that follow cannot be parsed reliably.
        if response.status() == StatusCode::BAD_REQUEST && version < Version::HTTP_2 {
            let close = HeaderValue::from_static("close");
            response.headers_mut().insert(CONNECTION, close);
        }
        response
    }

    async fn try_answer(
        &self,
        ask: &mut OutgoingRequest,
        objection: Option<&'static str>,
        table: &Arc<RoutingTable>,
        exchange: &mut ExchangeBuilder,
    ) -> Result<Response<ResponseBody>, Box<ErrorPage>> {
        if let Some(reason) = objection {
            return Err(Box::new(ErrorPage::bad_request(reason)));
        }
        // The HTTP/1.1 engine takes in what one read brings beyond its limit, so it is counted here.
        if ask.flags.octets > self.shared.limits.head_octets as usize {
            return Err(Box::new(ErrorPage::fields_too_large()));
        }
        let host = self.host(&ask.parts)?;
        let name = name_of(host.as_bytes());
        exchange.asks(&name, path_of(&ask.parts.uri));
        self.check(ask, &name)?;
        let path = ask.parts.uri.path();
        let found = self.find(table, &name, path);
        if let Some(found) = found {
            exchange.set_route(found.routed.position, found.logs(), &ask.parts.headers);
        }
        if !self.secure
            && let Some(answer) = self.answer_to_plain_http(&ask.parts.uri, &name, found, table)
        {
            return answer;
        }
        let Some(found) = found else {
            let nearest = table.snapshot.nearest(&name, 3);
            return Err(ErrorPage::route_missing(&name, path, &nearest));
        };
        self.serve(ask, &host, &name, found, table, exchange).await
    }

    /// The route of the port that the connection came to, or else one of those of every listener.
    fn find<'a>(&self, table: &'a RoutingTable, name: &str, path: &str) -> Option<Found<'a>> {
        match table.find_on_port(name, self.port, path) {
            None if self.only_port.is_none() => table.find(name, path),
            found => found,
        }
    }

    /// The host that is asked for. A client of HTTP/1.0 may name it in the handshake alone.
    fn host(&self, parts: &request::Parts) -> Result<HeaderValue, Box<ErrorPage>> {
        match host_of(parts) {
            Ok(host) => Ok(host),
            Err(reason) => {
                let old = parts.version == Version::HTTP_10 && !parts.headers.contains_key(HOST);
                let name = self.name.as_deref().filter(|_| old);
                let host = name.and_then(|name| HeaderValue::from_str(name).ok());
                host.ok_or_else(|| Box::new(ErrorPage::bad_request(reason)))
            }
        }
    }

    /// What can be said against a request before its route is known.
    fn check(&self, ask: &OutgoingRequest, name: &str) -> Result<(), Box<ErrorPage>> {
        if self.refused {
            let limit = self.shared.limits.connections;
            return Err(ErrorPage::too_many_connections(name, limit));
        }
        if let Some(own) = &self.name
            && **own != *name
            && !self.shared.certificates.serves(own, name)
        {
            return Err(Box::new(ErrorPage::misdirected(own, name)));
        }
        if ask.parts.method == Method::CONNECT && ask.upgrade.is_none() {
            return Err(Box::new(ErrorPage::bad_request(
                "CONNECT is not served here",
            )));
        }
        Ok(())
    }

    async fn serve(
        &self,
        ask: &mut OutgoingRequest,
        host: &HeaderValue,
        name: &str,
        found: Found<'_>,
        table: &Arc<RoutingTable>,
        exchange: &mut ExchangeBuilder,
    ) -> Result<Response<ResponseBody>, Box<ErrorPage>> {
        let Found {
            routed,
            backend,
            rules,
        } = found;
        let route = routed.route;
        if rules.is_some_and(|rules| rules.paused) {
            return Err(paused(name, route));
        }
        let parts = &ask.parts;
        let origin = rules.and_then(|rules| rules.allowed_origin(&parts.headers, self.https_port));
        if let Some(origin) = &origin
            && let Some(response) = route_rules::preflight(&parts.method, &parts.headers, origin)
        {
            return Ok(response);
        }
        let named;
        let answered = match backend {
            Backend::Redirect { to, ours } => {
                let port = ours.then_some(self.https_port);
                Answered::Here(Box::new(redirect::elsewhere(&parts.uri, to, rules, port)))
            }
            // Our own pages are for this machine alone.
            Backend::Site if !self.local => {
                return Err(ErrorPage::route_missing(name, parts.uri.path(), &[]));
            }
            Backend::Site => Answered::Here(Box::new(self.answer_own(ask, name, exchange).await?)),
            Backend::Folder(folder) => self.answer_with_file(ask, name, folder, found).await?,
            Backend::Pool(pool) => Answered::By(pool),
            Backend::ByName(by) => {
                named = self.by_name(name, *by, found, table).await?;
                Answered::By(&named)
            }
        };
        let mut response = match answered {
            Answered::Here(response) => *response,
            Answered::By(pool) => {
                let ready;
                let pool = match pool.awaited_app() {
                    None if pool.waits_for_container(route.settings.start) => {
                        ready = self.when_container_is_ready(ask, name, found, pool).await?;
                        &ready
                    }
                    None => pool,
                    Some(app) => match self.when_ready(ask, name, found, app).await? {
                        Awaited::Ready(pool) => {
                            ready = pool;
                            &ready
                        }
                        Awaited::Here(response) => return Ok(*response),
                    },
                };
                if !ask.flags.is_check {
                    exchange.app_busy = pool.in_use();
                }
                let asked = RequestContext {
                    host,
                    found,
                    pool,
                    table,
                };
                match self.pass(ask, &asked, exchange).await {
                    Ok(response) => response,
                    Err(Refusal::ErrorPage(page)) => return Err(page),
                    Err(Refusal::Failure(failure)) => {
                        return Err(failure.explain(&self.shared.limits, name, route));
                    }
                }
            }
        };
        if let Some(rules) = rules {
            if let Some(origin) = origin {
                route_rules::share(response.headers_mut(), origin);
            }
            rules.edit_response(response.headers_mut());
        }
        Ok(response)
    }

    /// Answers with one of our own pages.
    #[inline(never)]
    fn answer_own<'a>(
        &'a self,
        ask: &'a mut OutgoingRequest,
        name: &'a str,
        exchange: &'a mut ExchangeBuilder,
    ) -> Boxed<'a, Result<Response<ResponseBody>, Box<ErrorPage>>> {
        Box::pin(async move {
            let path = path_of(&ask.parts.uri);
            if !self.secure {
                return Ok(redirect::to_https(name, self.https_port, path));
            }
            let Some(site) = self.shared.site.get() else {
                return Err(ErrorPage::route_missing(name, path, &[]));
            };
            remove_hop_by_hop(&mut ask.parts.headers);
            ask.upgrade = None;
            self.make_ready(ask);
            exchange.received = ask.sending.progress();
            let (nothing, ()) = Request::new(()).into_parts();
            let body = std::mem::replace(&mut ask.sending, RequestBody::empty());
            let parts = std::mem::replace(&mut ask.parts, nothing);
            let request = Request::from_parts(parts, site_body(body));
            let answer = site.answer(request, Arc::clone(self.pair())).await;
            let (mut parts, body) = answer.into_parts();
            remove_hop_by_hop(&mut parts.headers);
            parts.version = Version::default();
            Ok(Response::from_parts(parts, ResponseBody::site(body)))
        })
    }

    /// Our end of the connection and the client's.
    fn pair(&self) -> &Arc<SocketPair> {
        self.pair
            .get_or_init(|| Arc::new(SocketPair::new(self.ends.0, self.ends.1)))
    }

    async fn pass(
        &self,
        ask: &mut OutgoingRequest,
        asked: &RequestContext<'_>,
        exchange: &mut ExchangeBuilder,
    ) -> Result<Response<ResponseBody>, Refusal> {
        let client_side = ask
            .upgrade
            .is_some()
            .then(|| ask.parts.extensions.remove())
            .flatten();
        let rules = asked.found.rules;
        let own_host = rules.and_then(|rules| rules.host.as_ref());
        let host = own_host.unwrap_or(asked.host);
        let trailers = self.address_to_target(ask, asked, host)?;
        let wanted = ConnectionNeeds {
            host,
            trailers,
            upgrade: ask.upgrade.is_some(),
            first_byte: rules.and_then(|rules| rules.first_byte),
        };
        self.make_ready(ask);
        exchange.received = ask.sending.progress();
        let sent = self.exchange(ask, asked.pool, &wanted, exchange);
        let (mut response, mut lease) = sent.await?;
        if ask.upgrade.is_some() {
            lease.use_once();
        }
        // As with requests, the engine takes in what one read brings beyond its limit.
        let flags = HeadFlags::of(response.headers());
        let octets = flags.octets;
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
                let snapshot = Arc::clone(&asked.table.snapshot);
                exchange.answered(upgrade.status(), snapshot);
                let exchange = exchange.hand_over();
                let joined = upgrade::Joined {
                    lease,
                    client_side,
                    exchange,
                    stopping: self.shared.stopping.clone(),
                    _counted: upgrade
                        .is_web_socket()
                        .then(|| self.shared.connections.token()),
                };
                return Ok(joined.pass(response, upgrade));
            }
            if changes || (status.is_success() && upgrade.is_by_success()) {
                return Err(Failure::NoUpgrade(status).into());
            }
        }
        if flags.places {
            // The target's own address is taken out of what the client reads.
            self.with_mapping(asked, |mapping| {
                map_response(response.headers_mut(), mapping);
            });
        }
        if rules.is_some_and(|rules| rules.tells_timing) {
            exchange.add_server_timing(response.headers_mut());
        }
        Ok(self.passed_on(response, lease, flags))
    }

    /// Gives the request the body that it is sent with.
    fn make_ready(&self, ask: &mut OutgoingRequest) {
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
        ask: &mut OutgoingRequest,
        asked: &RequestContext<'_>,
        host: &HeaderValue,
    ) -> Result<bool, Box<ErrorPage>> {
        let Found { routed, rules, .. } = asked.found;
        let OutgoingRequest { flags, parts, .. } = ask;
        let headers = &mut parts.headers;
        let id = &*self.shared.id;
        let trailers = flags.hop_by_hop && remove_hop_by_hop(headers);
        if parts.version == Version::HTTP_2 {
            join_cookies(headers);
        }
        let trusts = rules.is_some_and(|rules| rules.trusts_forwarded);
        self.origin
            .announce(headers, asked.host, id, asked.table, routed, trusts, *flags)
            .map_err(|circle| looped(routed.route, &circle))?;
        headers.insert(HOST, host.clone());
        parts.version = Version::HTTP_11;
        parts.uri = origin_form(std::mem::take(&mut parts.uri));
        if let Some(rules) = rules {
            self.address_in_its_manner(parts, asked, rules);
        }
        Ok(trailers)
    }

    /// What a route's settings change of a request.
    fn address_in_its_manner(
        &self,
        parts: &mut request::Parts,
        asked: &RequestContext<'_>,
        rules: &RouteRules,
    ) {
        if let Some(prefix) = &rules.stripped
            && let Ok(uri) = without_prefix(path_of(&parts.uri), prefix).parse()
        {
            parts.uri = uri;
        }
        if let Some(prefix) = &rules.prefix {
            forwarded_prefix(&mut parts.headers, prefix);
        }
        if rules.host.is_some() {
            self.with_mapping(asked, |mapping| {
                map_request_urls(&mut parts.headers, mapping);
            });
        }
        rules.edit_request(&mut parts.headers);
    }

    fn with_mapping(&self, asked: &RequestContext<'_>, work: impl FnOnce(&Mapping<'_>)) {
        let target = asked.pool.destination().to.authority();
        let (Some(target), Ok(host)) = (target, asked.host.to_str()) else {
            return;
        };
        let rules = asked.found.rules;
        work(&Mapping {
            scheme: if self.secure { "https" } else { "http" },
            host,
            target: &target,
            stripped: rules.and_then(|rules| rules.stripped.as_deref()),
        });
    }

    /// Sends over an idle connection, or over a new one when there is none or it turns out to be
    /// closed before any byte of the request was sent.
    async fn exchange(
        &self,
        ask: &mut OutgoingRequest,
        pool: &Arc<Pool>,
        wanted: &ConnectionNeeds<'_>,
        exchange: &mut ExchangeBuilder,
    ) -> Result<(Response<Incoming>, Lease), Failure> {
        let limits = &self.shared.limits;
        // An upgrade needs HTTP/1.1, which a connection over TLS need not have agreed on.
        let scheme = pool.destination().to.scheme();
        let mut fresh = wanted.upgrade && scheme == Some(Scheme::Https);
        let (whole, set) = (pool, pool.replicas());
        let mut choice = set.and_then(Replicas::choose);
        loop {
            let pool = choice.as_ref().map_or(whole, |choice| &choice.pool);
            let idle = if fresh { None } else { pool.take_idle().await };
            fresh = idle.is_none();
            let mut lease = match idle {
                Some(lease) => lease,
                None => {
                    exchange.connecting = Some(Instant::now());
                    let octets = limits.response_head_octets;
                    let connecting = pool.connect(limits.connect, wanted.upgrade, octets);
                    let lease = match connecting.await {
                        Ok(lease) => lease,
                        Err(error) => {
                            let failed = set.zip(choice.as_ref());
                            choice = failed.and_then(|(set, failed)| set.instead_of(failed));
                            if choice.is_none() {
                                return Err(Failure::Connect(error));
                            }
                            fresh = wanted.upgrade && scheme == Some(Scheme::Https);
                            continue;
                        }
                    };
                    exchange.connected = Some(Instant::now());
                    lease
                }
            };
            let since = exchange.connected.unwrap_or_else(Instant::now);
            exchange.asked = Some(since);
            let deadline = ResponseDeadline {
                since,
                limit: wanted.first_byte.unwrap_or(limits.first_byte),
                progress: ask.sending.progress(),
            };
            match lease.send(ask.fit(&lease, pool, wanted), deadline).await {
                None => return Err(Failure::Late),
                Some(Ok(response)) => {
                    if let Some(choice) = choice {
                        exchange.app_busy = Some(choice.busy);
                    }
                    return Ok((response, lease));
                }
                Some(Err(error)) => {
                    if let Err(failure) = ask.recover_unsent(error, fresh) {
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
        flags: HeadFlags,
    ) -> Response<ResponseBody> {
        let (mut parts, incoming) = response.into_parts();
        if flags.hop_by_hop {
            remove_hop_by_hop(&mut parts.headers);
        }
        if flags.alternative {
            // It names a port of the app's, or another machine, under the route's name (RFC 7838 §2.1).
            parts.headers.remove(ALT_SVC);
        }
        if matches!(
            parts.status,
            StatusCode::NO_CONTENT | StatusCode::NOT_MODIFIED
        ) {
            // There is no content, and clients end a connection of HTTP/2 whose field says otherwise (RFC 9110
            // §8.6, RFC 9113 §8.1.1).
            parts.headers.remove(CONTENT_LENGTH);
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

/// Whether a response may be silent for as long as it likes: event streams, and streams of gRPC.
fn is_stream(headers: &HeaderMap) -> bool {
    headers.get(CONTENT_TYPE).is_some_and(|media| {
        let media = media.as_bytes();
        media.starts_with(b"text/event-stream") || media.starts_with(b"application/grpc")
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Some("text/event-stream"), true)]
    #[case(Some("text/event-stream; charset=utf-8"), true)]
    #[case(Some("application/grpc+proto"), true)]
    #[case(Some("text/html"), false)]
    #[case(None, false)]
    fn streams_are_recognised(#[case] media: Option<&'static str>, #[case] stream: bool) {
        let mut headers = HeaderMap::new();
        if let Some(media) = media {
            headers.insert(CONTENT_TYPE, HeaderValue::from_static(media));
        }
        assert_eq!(is_stream(&headers), stream);
    }
}
