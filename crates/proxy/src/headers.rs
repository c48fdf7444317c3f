//! What a request and its response may carry across, and what is added.

use std::net::IpAddr;
use std::sync::{Arc, Weak};

use arc_swap::ArcSwapOption;
use bentlane_checks::CHECK_AGENT;
use bentlane_model::{Mapping, Route, Routed};
use http::header::Entry;
use http::header::{
    CONNECTION, COOKIE, FORWARDED, HOST, LOCATION, ORIGIN, REFERER, SET_COOKIE, TE, TRAILER,
    TRANSFER_ENCODING, UPGRADE, VIA,
};
use http::{HeaderMap, HeaderName, HeaderValue};

use crate::routing_table::RoutingTable;

/// Fields that concern one connection alone (RFC 9110 §7.6.1), beside `TE`.
static HOP_BY_HOP: [HeaderName; 6] = [
    CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    TRANSFER_ENCODING,
    UPGRADE,
    TRAILER,
];

static X_FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
static X_FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
static X_FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
static X_FORWARDED_PORT: HeaderName = HeaderName::from_static("x-forwarded-port");

static X_FORWARDED_PREFIX: HeaderName = HeaderName::from_static("x-forwarded-prefix");

/// What the target learns of the client's connection, made once for each connection.
#[derive(Debug)]
pub(crate) struct Origin {
    peer: HeaderValue,
    forwarded_for: Box<str>,
    scheme: HeaderValue,
    port: HeaderValue,
    /// The values used last: most connections are used for one host and route.
    values: ArcSwapOption<ForwardingValues>,
}

/// The values for one host and route, ready to be shared.
#[derive(Debug)]
struct ForwardingValues {
    host: HeaderValue,
    /// The routing table, which may be dropped meanwhile, and the index of the route in it.
    table: Weak<RoutingTable>,
    position: Option<usize>,
    forwarded: HeaderValue,
    via: HeaderValue,
}

impl Origin {
    pub(crate) fn new(peer: IpAddr, port: u16, secure: bool) -> Self {
        let peer = peer.to_canonical();
        let forwarded_for = match peer {
            IpAddr::V4(ip) => format!("for={ip};host=\""),
            // An IPv6 address is bracketed and quoted (RFC 7239 §6).
            IpAddr::V6(ip) => format!("for=\"[{ip}]\";host=\""),
        };
        Self {
            peer: text_value(&peer.to_string()),
            forwarded_for: forwarded_for.into(),
            scheme: HeaderValue::from_static(if secure { "https" } else { "http" }),
            port: HeaderValue::from(port),
            values: ArcSwapOption::empty(),
        }
    }

    /// Sets the forwarding headers for the target. The client's values are replaced, or
    /// added to where it is trusted.
    ///
    /// # Errors
    /// The routes that the request has passed, when `routed` is one of them already: it loops back to
    /// itself.
    pub(crate) fn announce(
        &self,
        headers: &mut HeaderMap,
        host: &HeaderValue,
        id: &str,
        table: &Arc<RoutingTable>,
        routed: Routed<'_>,
        trusts: bool,
        flags: HeadFlags,
    ) -> Result<(), Vec<String>> {
        let values = self.values(host, id, table, routed);
        match headers.entry(VIA) {
            Entry::Vacant(place) => {
                place.insert(values.via.clone());
            }
            Entry::Occupied(mut passed) => {
                if let Some(circle) = circle(passed.iter(), id, routed.route) {
                    return Err(circle);
                }
                passed.append(values.via.clone());
            }
        }
        if trusts {
            add(headers, FORWARDED, &values.forwarded);
            add(headers, X_FORWARDED_FOR.clone(), &self.peer);
            for (name, value) in [
                (&X_FORWARDED_HOST, host),
                (&X_FORWARDED_PROTO, &self.scheme),
                (&X_FORWARDED_PORT, &self.port),
            ] {
                if !headers.contains_key(name) {
                    headers.insert(name.clone(), value.clone());
                }
            }
            return Ok(());
        }
        headers.insert(FORWARDED, values.forwarded.clone());
        headers.insert(X_FORWARDED_FOR.clone(), self.peer.clone());
        headers.insert(X_FORWARDED_HOST.clone(), host.clone());
        headers.insert(X_FORWARDED_PROTO.clone(), self.scheme.clone());
        headers.insert(X_FORWARDED_PORT.clone(), self.port.clone());
        if flags.forwarded_prefix {
            headers.remove(&X_FORWARDED_PREFIX);
        }
        Ok(())
    }

    fn values(
        &self,
        host: &HeaderValue,
        id: &str,
        table: &Arc<RoutingTable>,
        routed: Routed<'_>,
    ) -> Arc<ForwardingValues> {
        if let Some(values) = &*self.values.load()
            && values.host == *host
            && values.position == routed.position
            // No other routing table gets the same address while a weak pointer exists.
            && std::ptr::eq(values.table.as_ptr(), Arc::as_ptr(table))
        {
            return Arc::clone(values);
        }
        // A copy: a share of the request's head would keep all of that for as long as the connection.
        let own = HeaderValue::from_bytes(host.as_bytes());
        let values = Arc::new(ForwardingValues {
            host: own.unwrap_or_else(|_| host.clone()),
            table: Arc::downgrade(table),
            position: routed.position,
            forwarded: self.forwarded(host),
            via: text_value(&format!("1.1 {}", mark(id, routed.route))),
        });
        self.values.store(Some(Arc::clone(&values)));
        values
    }

    /// `for=…;host="…";proto=https` (RFC 7239 §4). The host is quoted since it may hold a colon;
    /// it was parsed as an authority before, so it holds no quote itself.
    fn forwarded(&self, host: &HeaderValue) -> HeaderValue {
        let proto = self.scheme.as_bytes();
        let whole = [
            self.forwarded_for.as_bytes(),
            host.as_bytes(),
            b"\";proto=",
            proto,
        ];
        HeaderValue::from_bytes(&whole.concat())
            .unwrap_or_else(|_| HeaderValue::from_static("proto=https"))
    }
}

/// Adds a value to the list that a field holds.
fn add(headers: &mut HeaderMap, name: HeaderName, value: &HeaderValue) {
    let mut whole: Vec<&[u8]> = headers
        .get_all(&name)
        .iter()
        .map(HeaderValue::as_bytes)
        .collect();
    whole.push(value.as_bytes());
    let whole = HeaderValue::from_bytes(&whole.join(&b", "[..]));
    headers.insert(name, whole.unwrap_or_else(|_| value.clone()));
}

/// How we sign in `Via` that a request has passed a route (RFC 9110 §7.6.3): our name, which is
/// another for each service, and the route as a comment.
fn mark(id: &str, route: &Route) -> String {
    let route = route.address.to_string().replace(['(', ')', '\\'], "_");
    format!("{id} ({route})")
}

/// The routes that a request has passed by its `Via`, when `route` is one of them.
fn circle<'a>(
    passed: impl Iterator<Item = &'a HeaderValue>,
    id: &str,
    route: &Route,
) -> Option<Vec<String>> {
    let own = mark(id, route);
    let passed = passed
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(','))
        .filter_map(|hop| hop.trim().split_once(' ').map(|(_, by)| by));
    let passed: Vec<&str> = passed.filter(|by| by.starts_with(id)).collect();
    let first = passed.iter().position(|by| *by == own)?;
    let circle = passed.into_iter().skip(first).chain([&*own]);
    let name = |by: &str| {
        let name = by.split_once('(').map_or(by, |(_, name)| name);
        name.trim_end_matches(')').to_owned()
    };
    Some(circle.map(name).collect())
}

/// Adds a prefix that the target does not see to `X-Forwarded-Prefix`.
pub(crate) fn forwarded_prefix(headers: &mut HeaderMap, prefix: &HeaderValue) {
    headers.insert(X_FORWARDED_PREFIX.clone(), prefix.clone());
}

/// Whether a client that sends this `TE` reads trailers (RFC 9110 §10.1.4), as those of gRPC have to.
fn names_trailers(te: &HeaderValue) -> bool {
    let mut codings = te.as_bytes().split(|octet| *octet == b',');
    codings.any(|it| it.trim_ascii().eq_ignore_ascii_case(b"trailers"))
}

/// Writes the origin of the asking page as the target would of itself, for apps that compare it with
/// the Host they get.
pub(crate) fn map_request_urls(headers: &mut HeaderMap, mapping: &Mapping<'_>) {
    for name in [ORIGIN, REFERER] {
        let value = headers.get(&name).and_then(|value| value.to_str().ok());
        let mapped = value.and_then(|url| mapping.to_target(url));
        if let Some(value) = mapped.and_then(|url| HeaderValue::try_from(url).ok()) {
            headers.insert(name, value);
        }
    }
}

/// Maps the target's URLs in a response to those of the client.
pub(crate) fn map_response(headers: &mut HeaderMap, mapping: &Mapping<'_>) {
    let location = headers.get(LOCATION).and_then(|value| value.to_str().ok());
    if let Some(mapped) = location.and_then(|location| mapping.location(location))
        && let Ok(value) = HeaderValue::try_from(mapped)
    {
        headers.insert(LOCATION, value);
    }
    let map = |cookie: &mut HeaderValue| {
        let mapped = cookie.to_str().ok().and_then(|text| mapping.cookie(text));
        if let Some(value) = mapped.and_then(|text| HeaderValue::try_from(text).ok()) {
            *cookie = value;
        }
    };
    if let Entry::Occupied(mut cookies) = headers.entry(SET_COOKIE) {
        cookies.iter_mut().for_each(map);
    }
}

fn text_value(text: &str) -> HeaderValue {
    HeaderValue::from_str(text).unwrap_or_else(|_| HeaderValue::from_static("unknown"))
}

/// What one pass over the headers of a message finds: it costs less than a lookup of each name, which
/// is usually absent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct HeadFlags {
    /// Bytes of the fields as HTTP/1.1 writes them: `name: value` and the end of the line.
    pub(crate) octets: usize,
    /// Whether some concern one connection alone.
    pub(crate) hop_by_hop: bool,
    /// Whether there is a `Location` or a `Set-Cookie`.
    pub(crate) places: bool,
    /// Whether there is an `Alt-Svc`.
    pub(crate) alternative: bool,
    /// Whether it is one of our own checks.
    pub(crate) is_check: bool,
    /// Whether a client claims a prefix that a proxy before us took away.
    forwarded_prefix: bool,
}

impl HeadFlags {
    pub(crate) fn of(headers: &HeaderMap) -> Self {
        let mut flags = Self::default();
        for (name, value) in headers {
            let name = name.as_str();
            flags.octets += name.len() + value.len() + 4;
            match name {
                "connection" | "keep-alive" | "proxy-connection" | "te" | "transfer-encoding"
                | "upgrade" | "trailer" => flags.hop_by_hop = true,
                "location" | "set-cookie" => flags.places = true,
                "alt-svc" => flags.alternative = true,
                "x-forwarded-prefix" => flags.forwarded_prefix = true,
                "user-agent" => flags.is_check = value.as_bytes().starts_with(CHECK_AGENT),
                _ => {}
            }
        }
        flags
    }
}

/// Says that the message passed through us (RFC 9110 §7.6.3).
pub(crate) fn append_via(headers: &mut HeaderMap) {
    headers.append(VIA, HeaderValue::from_static("1.1 bentlane"));
}

/// Takes out what concerns one connection alone, fields named by `Connection` included. Gives whether
/// the sender reads trailers, which is among that.
pub(crate) fn remove_hop_by_hop(headers: &mut HeaderMap) -> bool {
    let te = headers.remove(TE);
    if headers.contains_key(CONNECTION) {
        let named: Vec<HeaderName> = connection_options(headers)
            .filter_map(|option| option.parse().ok())
            .filter(|name| *name != HOST)
            .collect();
        for name in named {
            headers.remove(name);
        }
    }
    for name in &HOP_BY_HOP {
        headers.remove(name);
    }
    te.is_some_and(|te| names_trailers(&te))
}

/// The protocol that the client wants to change to, if it asks for it properly (RFC 9110 §7.8).
pub(crate) fn upgrade_wanted(headers: &HeaderMap) -> Option<HeaderValue> {
    let upgrade = headers.get(UPGRADE)?;
    connection_options(headers)
        .any(|option| option.eq_ignore_ascii_case("upgrade"))
        .then(|| upgrade.clone())
}

fn connection_options(headers: &HeaderMap) -> impl Iterator<Item = &str> {
    headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(','))
        .map(str::trim)
}

/// Joins the cookies that HTTP/2 lets a client split over several fields (RFC 9113 §8.2.3).
pub(crate) fn join_cookies(headers: &mut HeaderMap) {
    let mut fields = headers.get_all(COOKIE).iter();
    if fields.next().is_none() || fields.next().is_none() {
        return;
    }
    let all: Vec<&[u8]> = headers
        .get_all(COOKIE)
        .iter()
        .map(HeaderValue::as_bytes)
        .collect();
    if let Ok(joined) = HeaderValue::from_bytes(&all.join(&b"; "[..])) {
        headers.insert(COOKIE, joined);
    }
}

#[cfg(test)]
mod tests {
    use bentlane_model::{Configuration, Snapshot};
    use rstest::rstest;

    use super::*;
    use crate::target_tls::TargetRoots;

    fn headers(fields: &[(&str, &str)]) -> HeaderMap {
        fields
            .iter()
            .map(|(name, value)| {
                (
                    name.parse::<HeaderName>().unwrap(),
                    HeaderValue::from_str(value).unwrap(),
                )
            })
            .collect()
    }

    fn names(headers: &HeaderMap) -> Vec<&str> {
        headers.keys().map(HeaderName::as_str).collect()
    }

    #[rstest]
    #[case(&[("accept", "*/*"), ("connection", "close")], &["accept"])]
    #[case(&[("keep-alive", "timeout=5"), ("te", "trailers"), ("upgrade", "h2c")], &[])]
    #[case(&[("connection", "close, X-Private"), ("x-private", "1"), ("x-public", "1")], &["x-public"])]
    #[case(&[("connection", "x-a"), ("connection", "x-b"), ("x-a", "1"), ("x-b", "1")], &[])]
    #[case(&[("connection", "host"), ("host", "moor.test")], &["host"])]
    #[case(&[("connection", "é, ,;"), ("accept", "*/*")], &["accept"])]
    #[case(&[("transfer-encoding", "chunked"), ("trailer", "x"), ("proxy-connection", "x")], &[])]
    fn hop_by_hop_fields_are_removed(#[case] given: &[(&str, &str)], #[case] left: &[&str]) {
        let mut headers = headers(given);
        assert_eq!(
            HeadFlags::of(&headers).hop_by_hop,
            names(&headers).iter().any(|name| !left.contains(name))
        );
        remove_hop_by_hop(&mut headers);
        assert_eq!(names(&headers), left);
    }

    fn routing_table() -> Arc<RoutingTable> {
        let route = Route::new("*.moor.test/a".parse().unwrap(), "4310".parse().unwrap());
        let snapshot = Snapshot::compile(Configuration {
            routes: vec![route],
            ..Configuration::default()
        });
        let roots = TargetRoots::new("/nowhere".into());
        Arc::new(RoutingTable::new(Arc::new(snapshot), None, &roots))
    }

    fn announced(peer: &str, trusts: bool, given: &[(&str, &str)]) -> HeaderMap {
        let (table, mut headers) = (routing_table(), headers(given));
        let host = HeaderValue::from_static("a.moor.test:17443");
        let routed = table.find("a.moor.test", "/a").unwrap().routed;
        let origin = Origin::new(peer.parse().unwrap(), 17443, true);
        // The second time, with the values made the first time.
        let mut first = headers.clone();
        for headers in [&mut first, &mut headers] {
            let flags = HeadFlags::of(headers);
            let values =
                origin.announce(headers, &host, "bentlane-1f", &table, routed, trusts, flags);
            assert_eq!(values, Ok(()));
        }
        assert_eq!(first, headers);
        headers
    }

    #[rstest]
    #[case(
        "127.0.0.1",
        "for=127.0.0.1;host=\"a.moor.test:17443\";proto=https",
        "127.0.0.1"
    )]
    #[case("::1", "for=\"[::1]\";host=\"a.moor.test:17443\";proto=https", "::1")]
    #[case(
        "::ffff:127.0.0.1",
        "for=127.0.0.1;host=\"a.moor.test:17443\";proto=https",
        "127.0.0.1"
    )]
    fn the_client_is_announced(
        #[case] peer: &str,
        #[case] forwarded: &str,
        #[case] forwarded_for: &str,
    ) {
        let claimed = [
            ("x-forwarded-for", "6.6.6.6"),
            ("forwarded", "for=6.6.6.6"),
            ("x-forwarded-proto", "http"),
            ("x-forwarded-prefix", "/x"),
        ];
        let headers = announced(peer, false, &claimed);
        assert_eq!(headers["forwarded"], forwarded);
        assert_eq!(headers["x-forwarded-for"], forwarded_for);
        assert_eq!(headers["x-forwarded-host"], "a.moor.test:17443");
        assert_eq!(headers["x-forwarded-proto"], "https");
        assert_eq!(headers["x-forwarded-port"], "17443");
        assert_eq!(headers["via"], "1.1 bentlane-1f (*.moor.test/a)");
        assert!(!headers.contains_key("x-forwarded-prefix"));
    }

    #[test]
    fn forwarded_fields_of_a_trusted_client_are_extended() {
        let claimed = [
            ("x-forwarded-for", "6.6.6.6"),
            ("forwarded", "for=6.6.6.6"),
            ("x-forwarded-proto", "http"),
            ("x-forwarded-prefix", "/x"),
            ("via", "1.1 elsewhere"),
        ];
        let headers = announced("::1", true, &claimed);
        let own = "for=\"[::1]\";host=\"a.moor.test:17443\";proto=https";
        assert_eq!(headers["forwarded"], format!("for=6.6.6.6, {own}"));
        assert_eq!(headers["x-forwarded-for"], "6.6.6.6, ::1");
        assert_eq!(headers["x-forwarded-proto"], "http");
        assert_eq!(headers["x-forwarded-host"], "a.moor.test:17443");
        assert_eq!(headers["x-forwarded-prefix"], "/x");
        let via: Vec<_> = headers.get_all("via").iter().collect();
        assert_eq!(via, ["1.1 elsewhere", "1.1 bentlane-1f (*.moor.test/a)"]);
    }

    #[rstest]
    #[case(&[], None)]
    #[case(&["1.1 elsewhere, 1.1 bentlane-2e (a.test)"], None)]
    #[case(&["1.1 bentlane-1f (b.test)"], None)]
    #[case(&["1.1 bentlane-1f (a.test)"], Some("a.test a.test"))]
    #[case(
        &["1.1 x, 1.1 bentlane-1f (c.test)", "1.1 bentlane-1f (a.test),1.1 bentlane-1f (b.test/x)"],
        Some("a.test b.test/x a.test")
    )]
    fn circles(#[case] via: &[&str], #[case] wanted: Option<&str>) {
        let via: Vec<_> = via.iter().map(|value| ("via", *value)).collect();
        let route = Route::new("a.test".parse().unwrap(), "1".parse().unwrap());
        let headers = headers(&via);
        let circle = circle(headers.get_all("via").iter(), "bentlane-1f", &route);
        assert_eq!(circle.map(|circle| circle.join(" ")).as_deref(), wanted);
    }

    #[test]
    fn one_pass_finds_every_special_field() {
        let fields = [
            ("accept", "*/*"),
            ("set-cookie", "a=1"),
            ("set-cookie", "b=2"),
        ];
        let wanted = HeadFlags {
            octets: 13 + 17 + 17,
            places: true,
            ..HeadFlags::default()
        };
        assert_eq!(HeadFlags::of(&headers(&fields)), wanted);
        for name in HOP_BY_HOP.iter().chain([&TE]) {
            let one = headers(&[(name.as_str(), "x")]);
            assert!(HeadFlags::of(&one).hop_by_hop, "{name}");
        }
        assert!(HeadFlags::of(&headers(&[("location", "/")])).places);
        assert!(HeadFlags::of(&headers(&[("x-forwarded-prefix", "/a")])).forwarded_prefix);
    }

    #[rstest]
    #[case("trailers", true)]
    #[case("gzip, Trailers", true)]
    #[case("gzip", false)]
    fn clients_that_read_trailers(#[case] te: &str, #[case] wanted: bool) {
        assert_eq!(remove_hop_by_hop(&mut headers(&[("te", te)])), wanted);
    }

    #[rstest]
    #[case(&[("connection", "Upgrade"), ("upgrade", "websocket")], Some("websocket"))]
    #[case(&[("connection", "keep-alive, upgrade"), ("upgrade", "websocket")], Some("websocket"))]
    #[case(&[("upgrade", "websocket")], None)]
    #[case(&[("connection", "upgrade")], None)]
    fn an_upgrade_needs_both_fields(#[case] given: &[(&str, &str)], #[case] wanted: Option<&str>) {
        let found = upgrade_wanted(&headers(given));
        assert_eq!(found.as_ref().map(|value| value.to_str().unwrap()), wanted);
    }

    #[rstest]
    #[case(&[("cookie", "a=1"), ("cookie", "b=2")], &["a=1; b=2"])]
    #[case(&[("cookie", "a=1; b=2")], &["a=1; b=2"])]
    #[case(&[], &[])]
    fn cookies_are_joined(#[case] given: &[(&str, &str)], #[case] wanted: &[&str]) {
        let mut headers = headers(given);
        join_cookies(&mut headers);
        let found: Vec<_> = headers.get_all("cookie").iter().collect();
        assert_eq!(found, wanted);
    }
}
