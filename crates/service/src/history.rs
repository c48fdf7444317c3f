use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bentlane_model::chain;
use bentlane_store::{Kept, StoreError};
use time::OffsetDateTime;
use tokio::sync::{Mutex, mpsc};
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::storage::Storage;

/// The most results that wait for the database.
const MOST_WAITING: usize = 4096;
/// The time between two writes.
const WRITE_EVERY: Duration = Duration::from_secs(1);
/// How often old results are deleted.
const DELETE_EVERY: Duration = Duration::from_secs(3600);

/// Writes the results of checks to the database, for which nobody waits.
#[derive(Debug)]
pub(crate) struct History {
    sender: HistorySender,
    receiver: Mutex<mpsc::Receiver<Kept>>,
    storage: Arc<Storage>,
    keep: Duration,
}

impl History {
    /// Results are deleted after the time `keep`.
    pub(crate) fn new(storage: Arc<Storage>, keep: Duration) -> Self {
        let (sender, receiver) = mpsc::channel(MOST_WAITING);
        Self {
            sender: HistorySender {
                sender,
                dropped: Arc::default(),
            },
            receiver: Mutex::new(receiver),
            storage,
            keep,
        }
    }

    pub(crate) fn sender(&self) -> HistorySender {
        self.sender.clone()
    }

    /// Writes results in batches and deletes old ones, until the service stops. While the database is
    /// away they wait.
    pub(crate) async fn run(&self, shutdown: CancellationToken) {
        let mut receiver = self.receiver.lock().await;
        let mut delete_at = Instant::now();
        let mut batch: Vec<Kept> = Vec::new();
        loop {
            let goes_on = tokio::select! {
                () = shutdown.cancelled() => false,
                kept = receiver.recv(), if batch.is_empty() => {
                    batch.extend(kept);
                    shutdown.run_until_cancelled(sleep(WRITE_EVERY)).await.is_some()
                }
                () = sleep(WRITE_EVERY), if !batch.is_empty() => true,
                () = sleep_until(delete_at) => true,
            };
            while batch.len() < MOST_WAITING
                && let Ok(kept) = receiver.try_recv()
            {
                batch.push(kept);
            }
            self.write(&mut batch, goes_on, &mut delete_at).await;
            let dropped = self.sender.dropped.swap(0, Ordering::Relaxed);
            if dropped > 0 {
                warn!(
                    dropped,
                    "results of checks were dropped: the database is away"
                );
            }
            if !goes_on {
                return;
            }
        }
    }

    async fn write(&self, batch: &mut Vec<Kept>, goes_on: bool, delete_at: &mut Instant) {
        let Ok(store) = self.storage.store() else {
            *delete_at = (*delete_at).max(Instant::now() + WRITE_EVERY);
            return;
        };
        match store.keep_verdicts(batch).await {
            Ok(()) => batch.clear(),
            // The connection itself reports that it is away; what waits is written later.
            Err(StoreError::Unreachable(_)) if goes_on => {}
            Err(cause) => {
                let lost = batch.len();
                warn!(
                    cause = chain(&cause),
                    lost, "cannot write the results of checks"
                );
                batch.clear();
            }
        }
        if Instant::now() >= *delete_at {
            *delete_at = Instant::now() + DELETE_EVERY;
            let before = OffsetDateTime::now_utc() - self.keep;
            match store.forget_verdicts(before).await {
                Ok(0) | Err(StoreError::Unreachable(_)) => {}
                Ok(deleted) => info!(deleted, "deleted old results of checks"),
                Err(cause) => {
                    warn!(cause = chain(&cause), "cannot delete old results of checks");
                }
            }
        }
    }
}

/// Hands over results to be written. Those that do not fit, since the database is away, are counted.
#[derive(Clone, Debug)]
pub(crate) struct HistorySender {
    sender: mpsc::Sender<Kept>,
    dropped: Arc<AtomicU64>,
}

impl HistorySender {
    pub(crate) fn send(&self, kept: Kept) {
        if self.sender.try_send(kept).is_err() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }
}
