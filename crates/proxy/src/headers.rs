//! What a request and its response may carry across, and what is added.

use std::net::IpAddr;

use bytes::{BufMut, BytesMut};
use http::header::{
    CONNECTION, COOKIE, FORWARDED, HOST, TE, TRAILER, TRANSFER_ENCODING, UPGRADE, VIA,
};
use http::{HeaderMap, HeaderName, HeaderValue};

/// Fields that concern one connection alone (RFC 9110 §7.6.1).
static HOP_BY_HOP: [HeaderName; 7] = [
    CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    TE,
    TRANSFER_ENCODING,
    UPGRADE,
    TRAILER,
];

static X_FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
static X_FORWARDED_HOST: HeaderName = HeaderName::from_static("x-forwarded-host");
static X_FORWARDED_PROTO: HeaderName = HeaderName::from_static("x-forwarded-proto");
static X_FORWARDED_PORT: HeaderName = HeaderName::from_static("x-forwarded-port");

/// What the target is told of the client's connection, made once for each connection.
#[derive(Clone, Debug)]
pub(crate) struct Origin {
    peer: HeaderValue,
    forwarded_for: Box<str>,
    port: HeaderValue,
}

impl Origin {
    pub(crate) fn new(peer: IpAddr, port: u16) -> Self {
        let forwarded_for = match peer {
            IpAddr::V4(ip) => format!("for={ip};host=\""),
            // An IPv6 address is bracketed and quoted (RFC 7239 §6).
            IpAddr::V6(ip) => format!("for=\"[{ip}]\";host=\""),
        };
        Self {
            peer: text_value(&peer.to_string()),
            forwarded_for: forwarded_for.into(),
            port: HeaderValue::from(port),
        }
    }

    /// Tells the target where the request came from. What the client claims of this is replaced.
    pub(crate) fn announce(&self, headers: &mut HeaderMap, host: &HeaderValue) {
        headers.insert(FORWARDED, self.forwarded(host));
        headers.insert(X_FORWARDED_FOR.clone(), self.peer.clone());
        headers.insert(X_FORWARDED_HOST.clone(), host.clone());
        headers.insert(X_FORWARDED_PROTO.clone(), HeaderValue::from_static("https"));
        headers.insert(X_FORWARDED_PORT.clone(), self.port.clone());
        append_via(headers);
    }

    /// `for=…;host="…";proto=https` (RFC 7239 §4). The host is quoted since it may hold a colon;
    /// it was parsed as an authority before, so it holds no quote itself.
    fn forwarded(&self, host: &HeaderValue) -> HeaderValue {
        let tail = b"\";proto=https";
        let room = self.forwarded_for.len() + host.len() + tail.len();
        let mut value = BytesMut::with_capacity(room);
        value.put(self.forwarded_for.as_bytes());
        value.put(host.as_bytes());
        value.put(&tail[..]);
        HeaderValue::from_maybe_shared(value.freeze())
            .unwrap_or_else(|_| HeaderValue::from_static("proto=https"))
    }
}

fn text_value(text: &str) -> HeaderValue {
    HeaderValue::from_str(text).unwrap_or_else(|_| HeaderValue::from_static("unknown"))
}

/// Octets of the fields as HTTP/1.1 writes them: `name: value` and the end of the line.
pub(crate) fn fields_octets(headers: &HeaderMap) -> usize {
    let field = |(name, value): (&HeaderName, &HeaderValue)| name.as_str().len() + value.len() + 4;
    headers.iter().map(field).sum()
}

/// Says that the message passed through us (RFC 9110 §7.6.3).
pub(crate) fn append_via(headers: &mut HeaderMap) {
    headers.append(VIA, HeaderValue::from_static("1.1 bentlane"));
}

/// Takes out what concerns one connection alone, fields named by `Connection` included.
pub(crate) fn remove_hop_by_hop(headers: &mut HeaderMap) {
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
    use rstest::rstest;

    use super::*;

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
    fn hop_by_hop_fields_stay_behind(#[case] given: &[(&str, &str)], #[case] left: &[&str]) {
        let mut headers = headers(given);
        remove_hop_by_hop(&mut headers);
        assert_eq!(names(&headers), left);
    }

    #[rstest]
    #[case(
        "127.0.0.1",
        "for=127.0.0.1;host=\"a.moor.test:7443\";proto=https",
        "127.0.0.1"
    )]
    #[case("::1", "for=\"[::1]\";host=\"a.moor.test:7443\";proto=https", "::1")]
    fn the_client_is_announced(
        #[case] peer: &str,
        #[case] forwarded: &str,
        #[case] forwarded_for: &str,
    ) {
        let mut headers = headers(&[
            ("x-forwarded-for", "6.6.6.6"),
            ("forwarded", "for=6.6.6.6"),
            ("x-forwarded-proto", "http"),
            ("via", "1.1 elsewhere"),
        ]);
        let host = HeaderValue::from_static("a.moor.test:7443");
        Origin::new(peer.parse().unwrap(), 7443).announce(&mut headers, &host);
        assert_eq!(headers["forwarded"], forwarded);
        assert_eq!(headers["x-forwarded-for"], forwarded_for);
        assert_eq!(headers["x-forwarded-host"], "a.moor.test:7443");
        assert_eq!(headers["x-forwarded-proto"], "https");
        assert_eq!(headers["x-forwarded-port"], "7443");
        let via: Vec<_> = headers.get_all("via").iter().collect();
        assert_eq!(via, ["1.1 elsewhere", "1.1 bentlane"]);
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
