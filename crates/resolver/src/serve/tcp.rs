use std::io;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Weak};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{Instant, sleep, timeout};
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
        let mut open = Vec::new();
        loop {
            match listener.accept().await {
                Ok((stream, peer)) => {
                    if permits.available_permits() == 0 {
                        close_longest_idle(&mut open);
                    }
                    let Ok(permit) = Arc::clone(&permits).acquire_owned().await else {
                        return;
                    };
                    let view = view.clone();
                    let activity = Arc::new(Activity::new(shutdown.child_token()));
                    open.push(Arc::downgrade(&activity));
                    tasks.spawn(async move {
                        tokio::select! {
                            () = activity.close.cancelled() => {}
                            outcome = converse(stream, peer, &view, &activity) => {
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

/// What a connection does.
#[derive(Debug)]
struct Activity {
    start: Instant,
    /// Milliseconds from the start to when it became idle; [`BUSY`] while a query is answered.
    idle_since: AtomicU64,
    close: CancellationToken,
}

const BUSY: u64 = u64::MAX;

impl Activity {
    fn new(close: CancellationToken) -> Self {
        Self {
            start: Instant::now(),
            idle_since: AtomicU64::new(0),
            close,
        }
    }

    fn set_idle(&self) {
        let millis = self.start.elapsed().as_millis();
        let millis = u64::try_from(millis).unwrap_or(BUSY - 1);
        self.idle_since.store(millis, Ordering::Relaxed);
    }

    fn set_busy(&self) {
        self.idle_since.store(BUSY, Ordering::Relaxed);
    }

    /// How long it has been idle; `None` while it is not.
    fn idle(&self) -> Option<Duration> {
        let since = self.idle_since.load(Ordering::Relaxed);
        let since = (since != BUSY).then(|| Duration::from_millis(since))?;
        Some(self.start.elapsed().saturating_sub(since))
    }
}

/// Makes room for another client: the connection that has been idle for the longest time is closed
/// (RFC 7766 §6.2.3 lets a server do so).
fn close_longest_idle(open: &mut Vec<Weak<Activity>>) {
    open.retain(|it| it.strong_count() > 0);
    let idle = open.iter().filter_map(|it| {
        let activity = it.upgrade().filter(|it| !it.close.is_cancelled())?;
        Some((activity.idle()?, activity))
    });
    if let Some((_, longest)) = idle.max_by_key(|(idle, _)| *idle) {
        longest.close.cancel();
    }
}

/// Answers queries in turn, each behind its length in two octets (RFC 1035 §4.2.2), until the
/// client closes, idles, or sends what deserves silence.
async fn converse(
    mut stream: TcpStream,
    client: SocketAddr,
    view: &AnswerSource,
    activity: &Activity,
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
        activity.set_busy();
        view.ask(&query, client, &mut answer).await;
        if answer.is_empty() {
            return Ok(());
        }
        let length = u16::try_from(answer.len()).map_err(io::Error::other)?;
        // One write, so that length and message leave in one segment (RFC 7766 §8).
        let framed = [&length.to_be_bytes()[..], &answer].concat();
        activity.set_idle();
        timeout(IDLE, stream.write_all(&framed)).await??;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_connection_that_is_idle_longest_is_closed() {
        let all: Vec<Arc<Activity>> = (0..4)
            .map(|_| Arc::new(Activity::new(CancellationToken::new())))
            .collect();
        let mut open: Vec<Weak<Activity>> = all.iter().map(Arc::downgrade).collect();
        open.push(Weak::new());
        all[0].set_busy();
        for number in [2, 1, 3] {
            sleep(Duration::from_millis(5)).await;
            all[number].set_idle();
        }
        let mut closed = Vec::new();
        for _ in 0..4 {
            close_longest_idle(&mut open);
            closed.push(all.iter().filter(|it| it.close.is_cancelled()).count());
        }
        assert!(all[1..].iter().all(|it| it.close.is_cancelled()));
        assert_eq!(closed, [1, 2, 3, 3], "one that is busy is not closed");
        assert_eq!(open.len(), 4);
    }
}
