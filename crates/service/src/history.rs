use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bentlane_model::chain;
use bentlane_store::{Kept, StoreError};
use time::OffsetDateTime;
use tokio::sync::{Mutex, mpsc};
use tokio::time::{Instant, sleep, sleep_until};
use tracing::{info, warn};

use crate::state::State;

/// Verdicts that wait for the database at most.
const WAITING: usize = 4096;
/// How long they gather before they are written.
const GATHER: Duration = Duration::from_secs(1);
/// How often old ones are forgotten.
const FORGET: Duration = Duration::from_secs(3600);

/// What checks came to, on its way into the database. Nobody waits for that.
#[derive(Debug)]
pub(crate) struct History {
    sink: Sink,
    receiver: Mutex<mpsc::Receiver<Kept>>,
    /// For how long verdicts are kept.
    keep: Duration,
}

impl History {
    pub(crate) fn new(keep: Duration) -> Self {
        let (sender, receiver) = mpsc::channel(WAITING);
        Self {
            sink: Sink {
                sender,
                dropped: Arc::default(),
            },
            receiver: Mutex::new(receiver),
            keep,
        }
    }

    /// Where verdicts go in.
    pub(crate) fn sink(&self) -> Sink {
        self.sink.clone()
    }
}

/// Where verdicts go in. One that does not fit, since the database is away, is counted.
#[derive(Clone, Debug)]
pub(crate) struct Sink {
    sender: mpsc::Sender<Kept>,
    dropped: Arc<AtomicU64>,
}

impl Sink {
    pub(crate) fn keep(&self, kept: Kept) {
        if self.sender.try_send(kept).is_err() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// Writes verdicts in batches and forgets old ones, until the service stops. While the database is
/// away they wait.
pub(crate) async fn keep(state: Arc<State>) {
    let mut receiver = state.history.receiver.lock().await;
    let mut forget_at = Instant::now();
    let mut batch: Vec<Kept> = Vec::new();
    loop {
        let goes_on = tokio::select! {
            () = state.shutdown.cancelled() => false,
            kept = receiver.recv(), if batch.is_empty() => {
                batch.extend(kept);
                state.pause(GATHER).await
            }
            () = sleep(GATHER), if !batch.is_empty() => true,
            () = sleep_until(forget_at) => true,
        };
        while batch.len() < WAITING
            && let Ok(kept) = receiver.try_recv()
        {
            batch.push(kept);
        }
        if let Ok(store) = state.store() {
            match store.keep_verdicts(&batch).await {
                Ok(()) => batch.clear(),
                // The connection itself says that it is away; what waits is written later.
                Err(StoreError::Unreachable(_)) if goes_on => {}
                Err(cause) => {
                    let lost = batch.len();
                    warn!(cause = chain(&cause), lost, "verdicts are not kept");
                    batch.clear();
                }
            }
            if Instant::now() >= forget_at {
                forget_at = Instant::now() + FORGET;
                let since = OffsetDateTime::now_utc() - state.history.keep;
                match store.forget_verdicts(since).await {
                    Ok(0) | Err(StoreError::Unreachable(_)) => {}
                    Ok(gone) => info!(gone, "forgot verdicts that are old"),
                    Err(cause) => warn!(cause = chain(&cause), "old verdicts are not forgotten"),
                }
            }
        } else {
            forget_at = forget_at.max(Instant::now() + GATHER);
        }
        let dropped = state.history.sink.dropped.swap(0, Ordering::Relaxed);
        if dropped > 0 {
            warn!(dropped, "verdicts were not kept: the database is away");
        }
        if !goes_on {
            return;
        }
    }
}
