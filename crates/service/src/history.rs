use std::sync::Arc;
use std::time::Duration;

use bentlane_model::chain;
use bentlane_queue::BoundedQueue;
use bentlane_store::{Store, StoredVerdict};
use time::OffsetDateTime;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::storage::{DELETE_LIMIT, Storage};

/// The most results that wait for the database.
const MOST_WAITING: usize = 4096;
/// The time between two writes.
const WRITE_EVERY: Duration = Duration::from_secs(1);
/// How often old results are deleted.
const DELETE_EVERY: Duration = Duration::from_secs(3600);

/// Writes the results of checks to the database; no check waits for that.
#[derive(Debug)]
pub(crate) struct History {
    queue: Arc<BoundedQueue<StoredVerdict>>,
    storage: Arc<Storage>,
    keep: Duration,
}

impl History {
    /// Results are deleted after the time `keep`.
    pub(crate) fn new(storage: Arc<Storage>, keep: Duration) -> Self {
        Self {
            queue: Arc::new(BoundedQueue::new(MOST_WAITING)),
            storage,
            keep,
        }
    }

    /// Where results are added. Those that do not fit, since the database is away, are dropped.
    pub(crate) fn queue(&self) -> Arc<BoundedQueue<StoredVerdict>> {
        Arc::clone(&self.queue)
    }

    /// Where they are written to.
    pub(crate) fn storage(&self) -> &Arc<Storage> {
        &self.storage
    }

    /// Writes results in batches and deletes old ones, until the service stops. While the database is
    /// away they wait.
    pub(crate) async fn run(&self, shutdown: CancellationToken) {
        let mut delete_at = Instant::now();
        let mut batch: Vec<StoredVerdict> = Vec::new();
        let mut reported = 0;
        loop {
            let goes_on = tokio::select! {
                () = shutdown.cancelled() => false,
                () = self.queue.ready(), if batch.is_empty() => {
                    shutdown.run_until_cancelled(sleep(WRITE_EVERY)).await.is_some()
                }
                () = sleep(WRITE_EVERY), if !batch.is_empty() => true,
                () = sleep_until(delete_at) => true,
            };
            while batch.len() < MOST_WAITING
                && let Some(kept) = self.queue.pop()
            {
                batch.push(kept);
            }
            self.write(&mut batch, goes_on, &mut delete_at).await;
            let dropped = self.queue.dropped();
            if dropped > reported {
                let lost = dropped - reported;
                warn!(lost, "results of checks were dropped: the database is away");
                reported = dropped;
            }
            if !goes_on {
                return;
            }
        }
    }

    async fn write(&self, batch: &mut Vec<StoredVerdict>, goes_on: bool, delete_at: &mut Instant) {
        let written = self
            .storage
            .call(async |store| store.keep_verdicts(batch).await);
        match written.await {
            Ok(()) => batch.clear(),
            // That is reported elsewhere; what waits is written later.
            Err(cause) if cause.is_away() && goes_on => {
                *delete_at = (*delete_at).max(Instant::now() + WRITE_EVERY);
                return;
            }
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
            let deleting = async |store: Arc<Store>| store.forget_verdicts(before).await;
            match self.storage.call_within(DELETE_LIMIT, deleting).await {
                Ok(0) => {}
                Err(cause) if cause.is_away() => {}
                Ok(deleted) => info!(deleted, "deleted old results of checks"),
                Err(cause) => {
                    warn!(cause = chain(&cause), "cannot delete old results of checks");
                }
            }
        }
    }
}
