//! What passed the proxy: the last of it in memory, and all of it on its way to the database.

mod buffer;

use std::collections::{HashSet, VecDeque};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use bentlane_api_types::{Traffic, TrafficSeries, TrafficSummary};
use bentlane_model::chain;
use bentlane_proxy::Recorder;
use bentlane_store::Store;
use bentlane_supervisor::{Policy, Stop, Supervisor};
use bentlane_traffic::{Exchange, ExchangeFilter, Tally};
use time::OffsetDateTime;
use tokio::runtime;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, sleep_until, timeout_at};
use tokio_util::sync::CancellationToken;
use tracing::warn;

use crate::access_log;
use crate::checker::RouteChecker;
use crate::config::KeepTraffic;
use crate::low_priority::lower_priority;
use crate::storage::{CallError, DELETE_LIMIT, Storage};
use buffer::{Buffer, Numbered};

/// The most exchanges that are written in a second. The others wait, so that a load test does not
/// share the machine with the writing of its records.
const BATCH: usize = 1_000;
/// The time between two reads of the recorder.
const READ_EVERY: Duration = Duration::from_millis(50);
/// The most exchanges that are read before other threads get a turn.
const READ_AT_ONCE: usize = 64;
/// How often exchanges are written.
const WRITE_EVERY: Duration = Duration::from_secs(1);
/// How often old ones are deleted.
const DELETE_EVERY: Duration = Duration::from_secs(60);
/// How long, and how often, to wait until exchanges that just ended are read.
const POLL_READING: (Duration, u32) = (Duration::from_millis(5), 40);

/// The log of exchanges, which reads the proxy's recorder. Nothing waits for it.
#[derive(Debug)]
pub(crate) struct TrafficLog {
    recorder: Recorder,
    buffer: Mutex<Buffer>,
    /// The number of the last exchange.
    last: watch::Sender<i64>,
    storage: Arc<Storage>,
    keep: KeepTraffic,
    /// Cancelled when no request can pass any more, which is later than the service is asked to stop.
    drained: CancellationToken,
}

impl TrafficLog {
    pub(crate) fn new(recorder: Recorder, storage: Arc<Storage>, keep: KeepTraffic) -> Self {
        // Higher than any earlier number, as long as there were fewer than a million exchanges a second.
        let micros = OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000;
        let next = i64::try_from(micros).unwrap_or_default();
        Self {
            recorder,
            buffer: Mutex::new(Buffer::starting_at(next)),
            last: watch::Sender::new(next - 1),
            storage,
            keep,
            drained: CancellationToken::new(),
        }
    }

    /// No request can come any more: the tasks write what is left, and end.
    pub(crate) fn finish(&self) {
        self.drained.cancel();
    }

    /// Reads what ended since the last call: a few at a time, so that threads that wait for this core
    /// get a turn in between.
    fn read(&self) {
        let now = OffsetDateTime::now_utc();
        let last = loop {
            let mut buffer = self.buffer();
            let some = self.recorder.take().take(READ_AT_ONCE);
            let count = some
                .map(|(recorded, log)| buffer.add(recorded, log, now))
                .count();
            let last = buffer.next - 1;
            drop(buffer);
            if count < READ_AT_ONCE {
                break last;
            }
            thread::yield_now();
        };
        self.last.send_if_modified(|before| {
            let changed = *before != last;
            *before = last;
            changed
        });
    }

    /// The latest `most` exchanges in memory that match `filter`, of those before the one with the number
    /// `before`, latest last; and the number of the oldest in memory.
    fn latest_in_memory(
        &self,
        filter: &ExchangeFilter,
        before: i64,
        most: usize,
    ) -> (VecDeque<Exchange>, i64) {
        let buffer = self.buffer();
        let older = buffer.exchanges.iter().rev().filter(|it| it.id < before);
        let matching = older.map(Numbered::exchange);
        let matching = matching.filter(|it| filter.matches(it));
        let mut found = VecDeque::new();
        for exchange in matching.take(most) {
            found.push_front(exchange);
        }
        (found, buffer.first())
    }

    /// The first `most` exchanges after the one with the number `after` that match `filter`.
    fn after(&self, filter: &ExchangeFilter, after: i64, most: usize) -> Traffic {
        let buffer = self.buffer();
        let newer = buffer.exchanges.range(buffer.index_after(after)..);
        let matching = newer.map(Numbered::exchange);
        let matching = matching.filter(|it| filter.matches(it));
        let exchanges: Vec<Exchange> = matching.take(most).collect();
        let last = match exchanges.last() {
            Some(exchange) if exchanges.len() == most => exchange.id,
            _ => buffer.next - 1,
        };
        let missed = (buffer.first() - 1 - after).max(0).unsigned_abs();
        Traffic {
            exchanges,
            last,
            missed,
            left_out: self.recorder.left_out(),
            not_kept: buffer.not_kept,
        }
    }

    /// Waits until exchanges that ended before this call are read.
    async fn finish_reading(&self) {
        let (pause, times) = POLL_READING;
        for _ in 0..times {
            if self.recorder.is_empty() {
                return;
            }
            sleep(pause).await;
        }
    }

    /// Writes a batch of what waits, or `all` of it. What cannot be written now goes on waiting.
    async fn write(&self, all: bool) -> Result<(), CallError> {
        if !self.buffer().knows_stored {
            let last = self.storage.call(async |store| store.last_exchange().await);
            match last.await {
                Ok(last) => self.buffer().continue_after(last.unwrap_or_default()),
                Err(cause) if cause.is_away() => return Ok(()),
                Err(cause) => return Err(cause),
            }
        }
        loop {
            let batch: Vec<Exchange> = self.buffer().waiting(BATCH);
            let Some(last) = batch.last().map(|exchange| exchange.id) else {
                return Ok(());
            };
            let written = self
                .storage
                .call(async |store| store.keep_exchanges(&batch).await);
            let outcome = written.await;
            let lost = match &outcome {
                Ok(()) => 0,
                Err(cause) if cause.is_away() => {
                    self.buffer().knows_stored = false;
                    return Ok(());
                }
                // A second attempt would fail, too.
                Err(_) => batch.len() as u64,
            };
            let mut buffer = self.buffer();
            buffer.not_kept += lost;
            buffer.set_stored(last);
            drop(buffer);
            outcome?;
            if !all {
                return Ok(());
            }
        }
    }

    fn buffer(&self) -> MutexGuard<'_, Buffer> {
        self.buffer.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Reads the recorder and writes access logs, until no request can pass any more.
    async fn keep_reading(&self, checker: &RouteChecker) {
        let mut failed: HashSet<PathBuf> = HashSet::new();
        loop {
            let goes_on = tokio::select! {
                () = self.drained.cancelled() => false,
                () = self.recorder.ready() => true,
            };
            self.read();
            let (lines, requested) = self.buffer().take_pending();
            checker.requests_made(requested);
            access_log::append_all(lines, &mut failed);
            if !goes_on {
                return;
            }
            self.drained.run_until_cancelled(sleep(READ_EVERY)).await;
        }
    }

    /// Writes exchanges to the database and deletes old ones, until no request can pass any more. While
    /// the database is away they wait.
    async fn keep_writing(&self) {
        let mut changes = self.last.subscribe();
        let mut delete_at = Instant::now();
        let mut reported = 0;
        loop {
            let waiting = self.buffer().waiting_count() > 0;
            let until_write = || async {
                let slept = self.drained.run_until_cancelled(sleep(WRITE_EVERY));
                slept.await.is_some()
            };
            let goes_on = tokio::select! {
                () = self.drained.cancelled() => false,
                Ok(()) = changes.changed(), if !waiting => until_write().await,
                goes_on = until_write(), if waiting => goes_on,
                () = sleep_until(delete_at) => true,
            };
            if !goes_on {
                self.read();
            }
            if self.keep.age.is_zero() {
                let mut buffer = self.buffer();
                let last = buffer.next - 1;
                buffer.set_stored(last);
            }
            if self.storage.fault().is_none() {
                // At the end everything is written, however much it is.
                if let Err(cause) = self.write(!goes_on).await {
                    warn!(cause = chain(&cause), "cannot write exchanges");
                }
                if Instant::now() >= delete_at {
                    delete_at = Instant::now() + DELETE_EVERY;
                    self.delete_old().await;
                }
            } else {
                delete_at = delete_at.max(Instant::now() + WRITE_EVERY);
            }
            let mut not_kept = self.buffer().not_kept;
            if !goes_on {
                // What could not be written by now is lost with the service.
                not_kept += self.buffer().waiting_count();
            }
            if not_kept > reported {
                let lost = not_kept - reported;
                warn!(lost, "exchanges were not written to the database");
                reported = not_kept;
            }
            if !goes_on {
                return;
            }
        }
    }

    async fn delete_old(&self) {
        let before = OffsetDateTime::now_utc() - self.keep.age;
        let most = self.keep.most;
        let deleting = async |store: Arc<Store>| store.forget_exchanges(before, most).await;
        match self.storage.call_within(DELETE_LIMIT, deleting).await {
            Ok(()) => {}
            Err(cause) if cause.is_away() => {}
            Err(cause) => warn!(cause = chain(&cause), "cannot delete old exchanges"),
        }
    }
}

/// Starts what reads the recorder, on a thread of low priority, and what writes to the database. Both
/// end once no request can pass any more.
pub(crate) fn start(log: &Arc<TrafficLog>, checker: &Arc<RouteChecker>, supervisor: &Supervisor) {
    let (reading, checker) = (Arc::clone(log), Arc::clone(checker));
    let read = move |stop: &Stop| {
        lower_priority();
        let runtime = runtime::Builder::new_current_thread()
            .enable_time()
            .build()?;
        runtime.block_on(async {
            tokio::select! {
                // First, so that the last exchanges are read.
                biased;
                () = reading.keep_reading(&checker) => {}
                () = stop.wait() => {}
            }
        });
        Ok(())
    };
    let drained = || log.drained.clone();
    supervisor.spawn_thread(drained(), "traffic", Policy::Restart, read, || {});
    let writing = Arc::clone(log);
    let write = move || {
        let writing = Arc::clone(&writing);
        async move {
            writing.keep_writing().await;
            Ok(())
        }
    };
    supervisor.spawn_until(drained(), "traffic records", Policy::Restart, write);
}

impl TrafficLog {
    /// The latest `most` exchanges that match `filter`, before the one with the number `before` if that
    /// is given, from memory and then from the database.
    pub(crate) async fn latest(
        &self,
        filter: &ExchangeFilter,
        before: Option<i64>,
        most: usize,
    ) -> Result<Traffic, CallError> {
        self.finish_reading().await;
        let before = before.unwrap_or(i64::MAX);
        let (mut exchanges, first) = self.latest_in_memory(filter, before, most);
        let missing = most - exchanges.len();
        if missing > 0 {
            let first = first.min(before);
            let older = self
                .storage
                .call(async |store| store.exchanges(filter, first, missing as u64).await);
            match older.await {
                Ok(older) => older
                    .into_iter()
                    .rev()
                    .for_each(|it| exchanges.push_front(it)),
                // Those in memory are known all the same.
                Err(cause) if cause.is_away() => {}
                Err(cause) => return Err(cause),
            }
        }
        let buffer = self.buffer();
        Ok(Traffic {
            exchanges: exchanges.into(),
            last: buffer.next - 1,
            missed: 0,
            left_out: self.recorder.left_out(),
            not_kept: buffer.not_kept,
        })
    }

    /// The first `most` exchanges after the one with the number `after` that match `filter`. When there
    /// is none, waits for one, at most for the time `wait` and until `shutdown`.
    pub(crate) async fn wait_after(
        &self,
        filter: &ExchangeFilter,
        after: i64,
        most: usize,
        wait: Duration,
        shutdown: &CancellationToken,
    ) -> Traffic {
        let end = Instant::now() + wait;
        let mut changes = self.last.subscribe();
        let mut missed = 0;
        let mut from = after;
        loop {
            changes.mark_unchanged();
            let mut found = self.after(filter, from, most);
            missed += found.missed;
            found.missed = missed;
            let done = !found.exchanges.is_empty() || missed > 0;
            if done || Instant::now() >= end || shutdown.is_cancelled() {
                return found;
            }
            from = found.last;
            tokio::select! {
                _ = timeout_at(end, changes.changed()) => {}
                () = shutdown.cancelled() => {}
            }
        }
    }

    /// Counts and times of `route`, or of all routes, in each `step` of the last `period`, which is an hour
    /// at most.
    pub(crate) async fn series(
        &self,
        route: Option<&str>,
        period: Duration,
        step: Duration,
    ) -> TrafficSeries {
        self.finish_reading().await;
        let now = OffsetDateTime::now_utc();
        let (seconds, points) = self.buffer().tally.series(route, period, step, now);
        TrafficSeries { seconds, points }
    }

    /// Counts and times by route, over the last `period`, which is an hour at most.
    pub(crate) async fn summary(
        &self,
        period: Duration,
        started_at: OffsetDateTime,
    ) -> TrafficSummary {
        self.finish_reading().await;
        let now = OffsetDateTime::now_utc();
        let period = period.min(Tally::REACH);
        let buffer = self.buffer();
        TrafficSummary {
            since: (now - period).max(started_at),
            routes: buffer.tally.sum_up(period, now),
            left_out: self.recorder.left_out(),
            not_kept: buffer.not_kept,
        }
    }
}
