use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tracing::{debug, warn};

use super::AnswerSource;

/// Connections at a time; more wait in the system's queue.
const CONNECTIONS: usize = 256;
/// How long a connection may be idle (RFC 7766 §6.2.3 asks for a few seconds at least).
const IDLE: Duration = Duration::from_secs(10);
/// How long accepting pauses when the system has no descriptor left.
const EXHAUSTED_PAUSE: Duration = Duration::from_millis(200);

pub(crate) async fn serve(
    listener: Arc<TcpListener>,
    view: AnswerSource,
    shutdown: CancellationToken,
) {
    let permits = Arc::new(Semaphore::new(CONNECTIONS));
    let tasks = TaskTracker::new();
    let accepting = async {
        loop {
            let Ok(permit) = Arc::clone(&permits).acquire_owned().await else {
                return;
            };
            match listener.accept().await {
                Ok((stream, peer)) => {
                    let (view, shutdown) = (view.clone(), shutdown.clone());
                    tasks.spawn(async move {
                        tokio::select! {
                            () = shutdown.cancelled() => {}
                            outcome = converse(stream, peer, &view) => {
                                if let Err(cause) = outcome {
                                    debug!(%peer, %cause, "a DNS connection ended early");
                                }
                            }
                        }
                        drop(permit);
                    });
                }
                Err(error) if is_peer_error(&error) => {}
                Err(cause) => {
                    warn!(%cause, "cannot accept DNS connections for now");
                    sleep(EXHAUSTED_PAUSE).await;
                }
            }
        }
    };
    tokio::select! {
        () = shutdown.cancelled() => {}
        () = accepting => {}
    }
    tasks.close();
    tasks.wait().await;
}

fn is_peer_error(error: &io::Error) -> bool {
    matches!(
        error.kind(),
        io::ErrorKind::ConnectionRefused
            | io::ErrorKind::ConnectionAborted
            | io::ErrorKind::ConnectionReset
    )
}

/// Answers queries in turn, each behind its length in two octets (RFC 1035 §4.2.2), until the
/// client closes, idles, or sends what deserves silence.
async fn converse(
    mut stream: TcpStream,
    client: SocketAddr,
    view: &AnswerSource,
) -> io::Result<()> {
    let (mut query, mut answer) = (Vec::new(), Vec::new());
    loop {
        let length = match timeout(IDLE, stream.read_u16()).await {
            Ok(Ok(length)) => usize::from(length),
            Ok(Err(error)) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(()),
            Ok(Err(error)) => return Err(error),
            Err(_) => return Ok(()),
        };
        query.resize(length, 0);
        timeout(IDLE, stream.read_exact(&mut query)).await??;
        view.ask(&query, client, &mut answer).await;
        if answer.is_empty() {
            return Ok(());
        }
        let length = u16::try_from(answer.len()).map_err(io::Error::other)?;
        // One write, so that length and message leave in one segment (RFC 7766 §8).
        let framed = [&length.to_be_bytes()[..], &answer].concat();
        timeout(IDLE, stream.write_all(&framed)).await??;
    }
}
