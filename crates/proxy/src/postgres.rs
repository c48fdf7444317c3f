//! TLS as PostgreSQL clients begin it: behind a request in the clear, to which one byte answers
//! ("Protocol Flow", §55.2.10 and §55.2.11 of the PostgreSQL 17 documentation).

use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::sleep;

/// What a client asks first is as long as this: its length and a code.
const LENGTH: usize = 8;
/// `SSLRequest`.
const TLS: u32 = 80_877_103;
/// `GSSENCRequest`.
const GSS: u32 = 80_877_104;
/// `CancelRequest`, which is followed by a process and its secret.
const CANCEL: u32 = 80_877_102;
/// The first byte of a TLS record with a handshake (RFC 8446 §5.1): TLS from the start.
const HANDSHAKE: u8 = 22;
/// How long to wait for more of a request.
const LOOK_AGAIN: Duration = Duration::from_millis(5);

/// How a connection goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Opening {
    /// With a TLS handshake.
    Handshake,
    /// In the clear: a request to cancel a query, which clients send so.
    Clear,
    /// Not at all: it asks for no TLS, or said more than its request before the handshake, which somebody
    /// between may have put there.
    Refused(&'static str),
}

/// Whether a client begins with a plaintext request for TLS, which is left unread. This waits as long
/// as the client sends nothing.
pub(crate) async fn asks_for_tls(stream: &TcpStream) -> bool {
    let mut asked = [0; LENGTH];
    loop {
        match stream.peek(&mut asked).await {
            Ok(LENGTH) => return [TLS, GSS].contains(&number(&asked, 4)),
            // No handshake begins so.
            Ok(1..) if asked[0] == 0 => sleep(LOOK_AGAIN).await,
            _ => return false,
        }
    }
}

/// The number in network byte order at this place.
fn number(octets: &[u8], at: usize) -> u32 {
    let part = octets.get(at..at + 4).and_then(|part| part.try_into().ok());
    u32::from_be_bytes(part.unwrap_or_default())
}

/// Answers what a client asks before TLS, until that begins. What follows is left unread.
pub(crate) async fn open(stream: &mut TcpStream) -> std::io::Result<Opening> {
    // A client asks for GSSAPI once, and for TLS once.
    for _ in 0..3 {
        let mut asked = [0; LENGTH + 1];
        let seen = loop {
            let seen = stream.peek(&mut asked).await?;
            match asked.first() {
                _ if seen == 0 => return Ok(Opening::Refused("it says nothing")),
                Some(&HANDSHAKE) => return Ok(Opening::Handshake),
                _ if seen >= LENGTH => break seen,
                _ => sleep(LOOK_AGAIN).await,
            }
        };
        let (length, code) = (number(&asked, 0), number(&asked, 4));
        match code {
            CANCEL => return Ok(Opening::Clear),
            TLS | GSS if length != 8 => return Ok(Opening::Refused("its request is malformed")),
            TLS | GSS if seen > LENGTH => {
                return Ok(Opening::Refused(
                    "more than its request came before the answer",
                ));
            }
            TLS | GSS => {
                stream
                    .read_exact(asked.get_mut(..LENGTH).unwrap_or_default())
                    .await?;
                let answer = if code == TLS { b'S' } else { b'N' };
                stream.write_u8(answer).await?;
                if code == TLS {
                    return Ok(Opening::Handshake);
                }
            }
            _ => return Ok(Opening::Refused("it asks for no TLS")),
        }
    }
    Ok(Opening::Refused("it asks again and again"))
}
