//! The TCP ports of this machine on which something listens, and their protocols.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bentlane_checks::{Holder, Page};
use rustls::ClientConfig;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::handshake::secure;
use crate::holder::{ListenerIndex, ListeningSocket, stands_for};
use crate::observe::takes_any;

/// How long to wait for a server that sends first.
const FIRST_WORD: Duration = Duration::from_millis(150);
/// Bytes of a first page.
const LARGEST: u64 = 256 * 1024;
/// Characters of a title.
const LONGEST_TITLE: usize = 100;
/// A record of TLS that says what is wrong (RFC 8446 §5.1).
const ALERT: u8 = 21;

/// A port on which something listens, reachable from this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PortSeen {
    /// The port.
    pub port: u16,
    /// The loopback and wildcard addresses on which it listens.
    pub addresses: Vec<IpAddr>,
    /// The user whose socket it is.
    pub uid: u32,
    /// The process; `None` when it is another user's.
    pub holder: Option<Holder>,
}

/// What is spoken on a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Spoken {
    /// HTTP, with the title of the first page.
    Http(Option<String>),
    /// TLS.
    Tls,
    /// Something else, or nothing within the limit.
    Other,
}

impl PortSeen {
    /// An address at which a client of this machine reaches it.
    #[must_use]
    pub fn at(&self) -> Option<SocketAddr> {
        let ip = self.addresses.first()?;
        Some(reachable((*ip, self.port).into()))
    }

    /// Whether a connection to this address is accepted there.
    #[must_use]
    pub fn accepts_at(&self, address: SocketAddr) -> bool {
        let mut own = self.addresses.iter();
        own.any(|ip| stands_for((*ip, self.port).into(), address))
    }
}

/// Where a client of this machine reaches what listens at `at`: on loopback, when that is every address.
#[must_use]
pub fn reachable(at: SocketAddr) -> SocketAddr {
    let ip = match at.ip() {
        IpAddr::V4(ip) if ip.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(ip) if ip.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        ip => ip,
    };
    (ip, at.port()).into()
}

/// Every TCP port on which something listens at a loopback or wildcard address, in order. Two processes
/// with one port are two.
#[must_use]
pub fn ports() -> Vec<PortSeen> {
    ports_of(&ListenerIndex::default().sockets(Instant::now()))
}

/// The ports of these sockets.
pub(crate) fn ports_of(sockets: &[ListeningSocket]) -> Vec<PortSeen> {
    let mut seen: BTreeMap<(u16, u32, Option<u32>), PortSeen> = BTreeMap::new();
    let here = |ip: IpAddr| ip.is_loopback() || ip.is_unspecified();
    for ListeningSocket { at, uid, holder } in sockets.iter().filter(|it| here(it.at.ip())) {
        let key = (at.port(), *uid, holder.as_ref().map(|holder| holder.pid));
        let port = seen.entry(key).or_insert_with(|| PortSeen {
            port: at.port(),
            addresses: Vec::new(),
            uid: *uid,
            holder: holder.clone(),
        });
        port.addresses.push(at.ip());
        port.addresses.sort();
        port.addresses.dedup();
    }
    seen.into_values().collect()
}

/// What is spoken at `at`: one connection that listens for a moment and then sends a request for `/`, and
/// one more with a TLS handshake where neither was answered.
pub async fn spoken(at: SocketAddr, limit: Duration) -> Spoken {
    static TLS: OnceLock<Option<Arc<ClientConfig>>> = OnceLock::new();
    if let Ok(Some(spoken)) = timeout(limit, by_request(at)).await {
        return spoken;
    }
    let Some(tls) = TLS.get_or_init(|| Some(Arc::new(takes_any().ok()?))) else {
        return Spoken::Other;
    };
    match secure(tls, at, "localhost", limit).await {
        Ok(_) => Spoken::Tls,
        Err(_) => Spoken::Other,
    }
}

/// `None` when a request for `/` is answered with nothing, as by a server that waits for TLS.
async fn by_request(at: SocketAddr) -> Option<Spoken> {
    let mut stream = TcpStream::connect(at).await.ok()?;
    if let Ok(first) = timeout(FIRST_WORD, stream.peek(&mut [0; 1])).await {
        return Some(match first {
            Ok(1..) => Spoken::Other,
            _ => return None,
        });
    }
    let request = format!(
        "GET / HTTP/1.1\r\nHost: localhost:{}\r\nAccept: text/html\r\nConnection: close\r\n\r\n",
        at.port()
    );
    stream.write_all(request.as_bytes()).await.ok()?;
    let mut answer = Vec::new();
    // What came until the end, or the error, is enough for a title.
    let _ = stream.take(LARGEST).read_to_end(&mut answer).await;
    spoken_in(&answer)
}

/// What an answer to a request of HTTP says.
fn spoken_in(answer: &[u8]) -> Option<Spoken> {
    if matches!(answer.first(), None | Some(&ALERT)) {
        return None;
    }
    let text = String::from_utf8_lossy(answer);
    let (head, body) = text.split_once("\r\n\r\n").unwrap_or((&text, ""));
    if !head.starts_with("HTTP/") {
        return Some(Spoken::Other);
    }
    // A server that wants TLS may say so over plain HTTP.
    if head.get(8..12) == Some(" 400") && body.contains("HTTPS") {
        return None;
    }
    let page = Page {
        fields: vec![("content-type".to_owned(), "text/html".to_owned())],
        body: body.to_owned(),
        ..Page::default()
    };
    let title = page.markup().title.unwrap_or_default();
    let shown: String = title.chars().take(LONGEST_TITLE).collect();
    let shown = shown.trim().to_owned();
    Some(Spoken::Http(Some(shown).filter(|title| !title.is_empty())))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("HTTP/1.0 200 OK\r\n\r\n<title>Huts</title>", Some(Spoken::Http(Some("Huts".into()))))]
    #[case("HTTP/1.1 404 Not Found\r\n\r\n", Some(Spoken::Http(None)))]
    #[case("HTTP/1.1 200 OK\r\n\r\n<title>\x1b[2JHuts\n</title>", Some(Spoken::Http(Some("\u{fffd}[2JHuts".into()))))]
    #[case(
        "HTTP/1.1 400 Bad Request\r\n\r\nplain HTTP was sent to an HTTPS port",
        None
    )]
    #[case("-ERR unknown command\r\n", Some(Spoken::Other))]
    #[case("\x15\x03\x03\0\x02\x02\x0a", None)]
    #[case("", None)]
    fn answers_to_a_request(#[case] answer: &str, #[case] wanted: Option<Spoken>) {
        assert_eq!(spoken_in(answer.as_bytes()), wanted);
    }
}
