//! Connections that change their protocol: WebSocket, over HTTP/1.1 (RFC 6455) and over HTTP/2
//! (RFC 8441), and whatever else a client and a target agree on.

use std::future::poll_fn;
use std::io;
use std::pin::pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::Poll;
use std::time::Duration;

use aws_lc_rs::digest::{SHA1_FOR_LEGACY_USE_ONLY, digest};
use bentlane_traffic::Ending;
use data_encoding::BASE64;
use http::header::{
    CONNECTION, CONTENT_LENGTH, EXPECT, SEC_WEBSOCKET_ACCEPT, SEC_WEBSOCKET_KEY, UPGRADE,
};
use http::{HeaderMap, HeaderValue, Method, Response, StatusCode, Version, request};
use hyper::body::Incoming;
use hyper::ext::Protocol;
use hyper::upgrade::OnUpgrade;
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt, copy, copy_bidirectional, sink};
use tokio::time::timeout;
use tokio_util::io::{InspectReader, InspectWriter};
use tokio_util::task::task_tracker::TaskTrackerToken;
use tracing::debug;

use crate::frames::{FrameBoundary, close_frame};
use crate::headers::{append_via, remove_hop_by_hop, upgrade_wanted};
use crate::pool::Lease;
use crate::record::ExchangeBuilder;
use crate::response_body::ResponseBody;
use crate::stopping::Stopping;

/// What RFC 6455 §1.3 has appended to a key.
const KEY_SUFFIX: &[u8] = b"258EAFA5-E914-47DA-95CA-C5AB0DC85B11";

/// The change that a client wants.
#[derive(Clone, Debug)]
pub(crate) enum Upgrade {
    /// By an `Upgrade` field of HTTP/1.1.
    Field(HeaderValue),
    /// WebSocket by an extended CONNECT of HTTP/2, with the key that the target gets.
    Connect { key: HeaderValue },
}

impl Upgrade {
    /// What a request asks for. One with a body is a plain request, since the body would have to
    /// come before the change (RFC 9110 §7.8), and a target that does not read it would take it for
    /// the next request.
    pub(crate) fn wanted(parts: &request::Parts, has_body: bool) -> Option<Self> {
        if parts.version == Version::HTTP_11 {
            let wanted = upgrade_wanted(&parts.headers).map(Self::Field);
            return wanted.filter(|_| !has_body);
        }
        if parts.method != Method::CONNECT {
            return None;
        }
        let protocol = parts.extensions.get::<Protocol>()?;
        (protocol.as_str() == "websocket").then(|| Self::Connect { key: key() })
    }

    /// Asks the target for it, over HTTP/1.1.
    #[inline(never)]
    pub(crate) fn ask(&self, parts: &mut request::Parts) {
        let headers = &mut parts.headers;
        headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
        // It goes out without a body, whatever an extended CONNECT says of its stream.
        for name in [CONTENT_LENGTH, EXPECT] {
            headers.remove(name);
        }
        match self {
            Self::Field(protocol) => {
                headers.insert(UPGRADE, protocol.clone());
            }
            Self::Connect { key } => {
                headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
                headers.insert(SEC_WEBSOCKET_KEY, key.clone());
                parts.method = Method::GET;
            }
        }
    }

    pub(crate) fn is_web_socket(&self) -> bool {
        match self {
            Self::Field(protocol) => protocol.as_bytes().eq_ignore_ascii_case(b"websocket"),
            Self::Connect { .. } => true,
        }
    }

    /// The status of success for the client.
    pub(crate) fn status(&self) -> StatusCode {
        match self {
            Self::Field(_) => StatusCode::SWITCHING_PROTOCOLS,
            Self::Connect { .. } => StatusCode::OK,
        }
    }

    /// Whether a success without a change would be taken for one (RFC 8441 §5).
    pub(crate) fn is_by_success(&self) -> bool {
        matches!(self, Self::Connect { .. })
    }

    /// Whether the target has understood what it agrees to (RFC 6455 §4.1).
    pub(crate) fn is_agreed(&self, headers: &HeaderMap) -> bool {
        match self {
            Self::Field(_) => true,
            Self::Connect { key } => {
                let accept = headers.get(SEC_WEBSOCKET_ACCEPT);
                accept.is_some_and(|value| value.as_bytes() == accept_of(key).as_bytes())
            }
        }
    }
}

fn key() -> HeaderValue {
    let mut octets = [0; 16];
    // Without randomness a constant would do: the key guards against caches that do not know better.
    let _ = aws_lc_rs::rand::fill(&mut octets);
    HeaderValue::try_from(BASE64.encode(&octets))
        .unwrap_or_else(|_| HeaderValue::from_static("AAAAAAAAAAAAAAAAAAAAAA=="))
}

fn accept_of(key: &HeaderValue) -> String {
    let whole = [key.as_bytes(), KEY_SUFFIX].concat();
    BASE64.encode(digest(&SHA1_FOR_LEGACY_USE_ONLY, &whole).as_ref())
}

/// How long a client may take to close a WebSocket after it was told to.
const CLOSING: Duration = Duration::from_secs(1);

/// A client and a target that have agreed on another protocol.
pub(crate) struct Joined {
    pub(crate) lease: Lease,
    pub(crate) client_side: OnUpgrade,
    pub(crate) exchange: Box<ExchangeBuilder>,
    pub(crate) stopping: Stopping,
    /// A stop waits for a WebSocket, which it can close.
    pub(crate) _counted: Option<TaskTrackerToken>,
}

impl Joined {
    /// Gives the target's consent, and then passes every byte both ways, in a separate task, until both
    /// sides have closed.
    #[inline(never)]
    pub(crate) fn pass(
        self,
        response: Response<Incoming>,
        upgrade: &Upgrade,
    ) -> Response<ResponseBody> {
        tokio::spawn(self.run(upgrade.is_web_socket()));
        consent(response, upgrade)
    }

    async fn run(self, web_socket: bool) {
        let Some((mut target, read)) = self.lease.change().await else {
            return;
        };
        let client = match self.client_side.await {
            Ok(client) => TokioIo::new(client),
            Err(cause) => {
                self.exchange.end(Ending::ClientLeft);
                return debug!(%cause, "an upgrade failed");
            }
        };
        let (mut to_target, mut to_client) = (0, 0);
        let mut frames = FrameBoundary::default();
        // Whether the client has been sent complete frames, which is always so before the first.
        let between = AtomicBool::new(true);
        let sent = |octets: &[u8]| {
            to_client += octets.len() as u64;
            if web_socket {
                frames.pass(octets);
                between.store(frames.is_between(), Ordering::Relaxed);
            }
        };
        let received = |octets: &[u8]| to_target += octets.len() as u64;
        let mut client = InspectReader::new(InspectWriter::new(client, sent), received);
        let stops = {
            let mut told = pin!(self.stopping.told());
            let mut passing = pin!(async {
                client.write_all(&read).await?;
                copy_bidirectional(&mut client, &mut target).await
            });
            let (mut asked, mut stops) = (false, false);
            poll_fn(|context| {
                // Polled once, which has this task woken when the time comes.
                if !asked || self.stopping.has_begun() {
                    asked = true;
                    stops = stops || told.as_mut().poll(context).is_ready();
                }
                let is_over = || web_socket && between.load(Ordering::Relaxed);
                if stops && is_over() {
                    return Poll::Ready(true);
                }
                if let Poll::Ready(outcome) = passing.as_mut().poll(context) {
                    if let Err(cause) = outcome {
                        debug!(%cause, "an upgraded connection ended early");
                    }
                    return Poll::Ready(false);
                }
                match stops && is_over() {
                    true => Poll::Ready(true),
                    false => Poll::Pending,
                }
            })
            .await
        };
        if stops && let Err(cause) = close(&mut client, self.stopping.close_code()).await {
            debug!(%cause, "a WebSocket could not be closed");
        }
        drop((client, target));
        self.exchange.end_upgraded(to_target, to_client);
    }
}

/// Closes a WebSocket between two frames, and gives the client time to close its end.
async fn close<S>(client: &mut S, code: u16) -> io::Result<()>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    client.write_all(&close_frame(code)).await?;
    client.shutdown().await?;
    let mut rest = sink();
    let closed = timeout(CLOSING, copy(client, &mut rest));
    closed.await.map_or(Ok(()), |copied| copied.map(drop))
}

/// The target's consent, as the client gets it.
fn consent(response: Response<Incoming>, upgrade: &Upgrade) -> Response<ResponseBody> {
    let (mut parts, _) = response.into_parts();
    let protocol = parts.headers.get(UPGRADE).cloned();
    remove_hop_by_hop(&mut parts.headers);
    append_via(&mut parts.headers);
    match upgrade {
        Upgrade::Field(_) => {
            if let Some(protocol) = protocol {
                parts.headers.insert(UPGRADE, protocol);
                let upgrade = HeaderValue::from_static("upgrade");
                parts.headers.insert(CONNECTION, upgrade);
            }
        }
        Upgrade::Connect { .. } => {
            // The stream is open with a success, and the key was between us and the target.
            parts.headers.remove(SEC_WEBSOCKET_ACCEPT);
            parts.status = upgrade.status();
            parts.version = Version::HTTP_2;
        }
    }
    Response::from_parts(parts, ResponseBody::empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_accepted_as_the_rfc_shows() {
        // The example of RFC 6455 §1.3.
        let key = HeaderValue::from_static("dGhlIHNhbXBsZSBub25jZQ==");
        assert_eq!(accept_of(&key), "s3pPLMBiTxaQ9kYGzzhZRbK+xOo=");
        assert_ne!(super::key(), super::key());
    }
}
