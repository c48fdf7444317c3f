//! Bytes that pass as they are: raw TCP, and TLS that the target opens itself.

use std::io::Cursor;
use std::sync::Arc;
use std::time::Duration;

use rustls::server::Acceptor;
use tokio::io::{AsyncRead, AsyncWrite, copy_bidirectional_with_sizes};
use tokio::net::TcpStream;
use tokio::time::sleep;
use tracing::debug;

use crate::heard::Listening;
use crate::pool::Pool;
use crate::routing_table::{Limits, Raw};

/// Bytes on their way in each direction.
const BUFFER: usize = 64 * 1024;
/// The longest hello that is looked at for its server name: as much as one record holds.
const LONGEST_HELLO: usize = 16 * 1024 + 5;
/// How long to wait for more of a hello.
const LOOK_AGAIN: Duration = Duration::from_millis(5);

/// Copies all bytes both ways until both sides have closed; when one side closes, that is passed on
/// as such.
pub(crate) async fn pass<S>(client: S, route: &Raw, limits: &Limits)
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    let client = Listening::new(client, Arc::clone(&route.heard));
    pass_unseen(client, &route.pool, limits).await;
}

/// The same without a look at what passes.
pub(crate) async fn pass_unseen<S>(mut client: S, pool: &Pool, limits: &Limits)
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    let mut target = match pool.open(limits.connect).await {
        Ok(target) => target,
        Err(cause) => {
            return debug!(?cause, target = %pool.destination().to, "no connection to a target");
        }
    };
    let passed = copy_bidirectional_with_sizes(&mut client, &mut target, BUFFER, BUFFER);
    if let Err(cause) = passed.await {
        debug!(%cause, "a connection that passes bytes ended early");
    }
}

/// The server name in a TLS hello, which is left where it is; `None` when there is none, or no hello.
pub(crate) async fn server_name(stream: &TcpStream) -> Option<String> {
    let mut hello = vec![0; LONGEST_HELLO];
    let mut seen = 0;
    loop {
        let length = stream.peek(&mut hello).await.ok()?;
        if length > seen {
            seen = length;
            let mut acceptor = Acceptor::default();
            let mut octets = Cursor::new(hello.get(..length)?);
            acceptor.read_tls(&mut octets).ok()?;
            match acceptor.accept() {
                Ok(None) => {}
                Ok(Some(accepted)) => {
                    return accepted.client_hello().server_name().map(str::to_owned);
                }
                Err(_) => return None,
            }
        }
        if length == hello.len() || length == 0 {
            return None;
        }
        sleep(LOOK_AGAIN).await;
    }
}
