use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::Duration;

use bentlane_api_types::{Traffic, TrafficSummary};
use bentlane_model::chain;
use bentlane_proxy::{Recorded, Recorder};
use bentlane_store::{Store, StoreError};
use bentlane_supervisor::{Policy, Stop};
use bentlane_system::{FileError, Folder};
use bentlane_traffic::{Exchange, ExchangeFilter, Tally};
use time::OffsetDateTime;
use tokio::runtime;
use tokio::sync::watch;
use tokio::time::{Instant, sleep, sleep_until, timeout_at};
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::config::KeepTraffic;
use crate::priority::give_way;
use crate::state::State;

/// Exchanges that are kept in memory: the last of them, and those that wait for the database.
const KEPT: usize = 2_000;
/// Exchanges that wait for the database at most. Of more, the oldest are not kept, and counted.
const WAITING: usize = 20_000;
/// Exchanges written in a second at most. More wait for quieter times: a load test is to have the
/// machine for itself, not share it with what notes it down.
const BATCH: usize = 1_000;
/// How long exchanges gather before they are taken over: the first at once, those that follow
/// together.
const PAUSE: Duration = Duration::from_millis(50);
/// Exchanges that are taken over without a pause.
const AT_ONCE: usize = 64;
/// How often exchanges are written.
const WRITE: Duration = Duration::from_secs(1);
/// How often old ones are forgotten.
const FORGET: Duration = Duration::from_secs(60);
/// How often it is looked whether what just ended was taken over, and how often at most.
const SETTLING: (Duration, u32) = (Duration::from_millis(5), 40);

/// What passed the proxy: the last of it in memory, and all on its way into the database. Nobody
/// waits for that.
#[derive(Debug)]
pub(crate) struct TrafficBook {
    recorder: Recorder,
    pages: Mutex<Pages>,
    /// The number of the last exchange.
    last: watch::Sender<i64>,
    keep: KeepTraffic,
    /// Cancelled when nothing passes any more: later than the service is told to stop.
    over: CancellationToken,
}

#[derive(Debug, Default)]
struct Pages {
    next: i64,
    /// The last of them, and before these what waits for the database.
    last: VecDeque<Page>,
    /// The number up to which none waits for the database any more.
    settled: i64,
    /// Whether it is known which the database has: not at first, and not after it went away while they
    /// were written.
    knows_kept: bool,
    tally: Tally,
    /// Routes that requests came to, and whether the last of them failed.
    requested: HashMap<Arc<str>, bool>,
    /// Lines for access logs, by file.
    lines: BTreeMap<PathBuf, String>,
    not_kept: u64,
}

/// An exchange under its number.
#[derive(Debug)]
struct Page {
    id: i64,
    recorded: Recorded,
}

impl Page {
    fn exchange(&self) -> Exchange {
        self.recorded.exchange(self.id)
    }
}

impl TrafficBook {
    pub(crate) fn new(recorder: Recorder, keep: KeepTraffic) -> Self {
        // Higher than any number that was given before: nobody has a million exchanges a second.
        let micros = OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000;
        let next = i64::try_from(micros).unwrap_or_default();
        Self {
            recorder,
            pages: Mutex::new(Pages {
                next,
                settled: next - 1,
                ..Pages::default()
            }),
            last: watch::Sender::new(next - 1),
            keep,
            over: CancellationToken::new(),
        }
    }

    /// Nothing passes any more: what is still to be taken over and written is so, and that is all.
    pub(crate) fn finish(&self) {
        self.over.cancel();
    }

    /// Takes over what ended since the last time: a few at a time, so that who waits for this core has a
    /// turn between.
    fn take_over(&self) {
        let now = OffsetDateTime::now_utc();
        let last = loop {
            let mut pages = self.pages();
            let some = self.recorder.take().take(AT_ONCE);
            let count = some
                .map(|(recorded, log)| pages.add(recorded, log, now))
                .count();
            let last = pages.next - 1;
            drop(pages);
            if count < AT_ONCE {
                break last;
            }
            thread::yield_now();
        };
        self.last.send_if_modified(|before| {
            let news = *before != last;
            *before = last;
            news
        });
    }

    /// The latest `most` exchanges in memory that `filter` takes, of those before the one numbered
    /// `before`, latest last; and the number of the oldest that is at hand.
    fn latest(
        &self,
        filter: &ExchangeFilter,
        before: i64,
        most: usize,
    ) -> (VecDeque<Exchange>, i64) {
        let pages = self.pages();
        let older = pages.last.iter().rev().filter(|it| it.id < before);
        let wanted = older.map(Page::exchange).filter(|it| filter.takes(it));
        let mut found = VecDeque::new();
        for exchange in wanted.take(most) {
            found.push_front(exchange);
        }
        (found, pages.first())
    }

    /// The first `most` exchanges after the one numbered `after` that `filter` takes.
    fn after(&self, filter: &ExchangeFilter, after: i64, most: usize) -> Traffic {
        let pages = self.pages();
        let newer = pages.last.range(pages.place_after(after)..);
        let wanted = newer.map(Page::exchange).filter(|it| filter.takes(it));
        let exchanges: Vec<Exchange> = wanted.take(most).collect();
        let last = match exchanges.last() {
            Some(exchange) if exchanges.len() == most => exchange.id,
            _ => pages.next - 1,
        };
        let missed = (pages.first() - 1 - after).max(0).unsigned_abs();
        Traffic {
            exchanges,
            last,
            missed,
            left_out: self.recorder.left_out(),
            not_kept: pages.not_kept,
        }
    }

    /// Waits until what ended before this was asked is taken over.
    async fn settle(&self) {
        let (pause, times) = SETTLING;
        for _ in 0..times {
            if self.recorder.is_empty() {
                return;
            }
            sleep(pause).await;
        }
    }

    /// Writes a batch of what waits, or `all` of it. What cannot be written now goes on waiting.
    async fn write(&self, store: &Store, all: bool) -> Result<(), StoreError> {
        if !self.pages().knows_kept {
            match store.last_exchange().await {
                Ok(last) => self.pages().goes_on_after(last.unwrap_or_default()),
                Err(StoreError::Unreachable(_)) => return Ok(()),
                Err(cause) => return Err(cause),
            }
        }
        loop {
            let batch: Vec<Exchange> = {
                let pages = self.pages();
                let waiting = pages.last.range(pages.place_after(pages.settled)..);
                waiting.take(BATCH).map(Page::exchange).collect()
            };
            let Some(last) = batch.last().map(|exchange| exchange.id) else {
                return Ok(());
            };
            let outcome = store.keep_exchanges(&batch).await;
            let lost = match &outcome {
                Ok(()) => 0,
                Err(StoreError::Unreachable(_)) => {
                    self.pages().knows_kept = false;
                    return Ok(());
                }
                // Asked again it would be refused again.
                Err(_) => batch.len() as u64,
            };
            let mut pages = self.pages();
            pages.not_kept += lost;
            pages.settle(last);
            drop(pages);
            outcome?;
            if !all {
                return Ok(());
            }
        }
    }

    fn pages(&self) -> MutexGuard<'_, Pages> {
        self.pages.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Pages {
    fn add(&mut self, recorded: Recorded, log: Option<(PathBuf, String)>, now: OffsetDateTime) {
        let id = self.next;
        self.next += 1;
        if let Some((file, line)) = log {
            let lines = self.lines.entry(file).or_default();
            lines.push_str(&line);
            lines.push('\n');
        }
        self.tally.add(recorded.route(), recorded.outcome(), now);
        if let Some(route) = recorded.label() {
            self.requested
                .insert(Arc::clone(route), recorded.is_failure());
        }
        self.last.push_back(Page { id, recorded });
        self.shed();
    }

    /// The latest that the database has is the one numbered `id`.
    fn goes_on_after(&mut self, id: i64) {
        self.knows_kept = true;
        self.settle(id);
        // Only a clock that was set back gives a lower number.
        self.next = self.next.max(id + 1);
    }

    /// None up to the one numbered `id` waits for the database any more.
    fn settle(&mut self, id: i64) {
        self.settled = self.settled.max(id);
        self.shed();
    }

    /// Lets go of the oldest: of those that the database has, and of those that are too many.
    fn shed(&mut self) {
        while self.last.len() > KEPT {
            let waits = self.first() > self.settled;
            if waits && self.last.len() <= WAITING {
                return;
            }
            if waits {
                self.not_kept += 1;
                self.settled = self.first();
            }
            self.last.pop_front();
        }
        if self.last.capacity() > WAITING && self.last.len() <= KEPT {
            self.last.shrink_to(KEPT);
        }
    }

    /// The place of the first exchange after the one numbered `id`.
    fn place_after(&self, id: i64) -> usize {
        self.last.partition_point(|page| page.id <= id)
    }

    /// How many wait for the database.
    fn waiting(&self) -> u64 {
        (self.next - 1 - self.settled).max(0).unsigned_abs()
    }

    /// The number of the oldest exchange in memory.
    fn first(&self) -> i64 {
        self.last.front().map_or(self.next, |exchange| exchange.id)
    }
}

/// Starts what takes over what passes, on a thread of its own that gives way to those that serve
/// requests, and what writes it into the database. Both end once nothing passes any more.
pub(crate) fn start(state: &Arc<State>) {
    let (supervisor, over) = (&state.supervisor, &state.traffic.over);
    let of_thread = Arc::clone(state);
    let take_over = move |stop: &Stop| {
        give_way();
        let runtime = runtime::Builder::new_current_thread()
            .enable_time()
            .build()?;
        runtime.block_on(async {
            tokio::select! {
                // First, so that the last ones are taken over.
                biased;
                () = keep(Arc::clone(&of_thread)) => {}
                () = stop.wait() => {}
            }
        });
        Ok(())
    };
    supervisor.spawn_thread(over.clone(), "traffic", Policy::Restart, take_over, || {});
    let state = Arc::clone(state);
    supervisor.spawn_until(
        over.clone(),
        "traffic records",
        Policy::Restart,
        move || {
            let storing = store(Arc::clone(&state));
            async {
                storing.await;
                Ok(())
            }
        },
    );
}

/// Takes over what passes, and writes access logs, until nothing passes any more.
async fn keep(state: Arc<State>) {
    let mut failed: HashSet<PathBuf> = HashSet::new();
    loop {
        let goes_on = tokio::select! {
            () = state.traffic.over.cancelled() => false,
            () = state.traffic.recorder.news() => true,
        };
        state.traffic.take_over();
        let (lines, requested) = {
            let mut pages = state.traffic.pages();
            (
                std::mem::take(&mut pages.lines),
                std::mem::take(&mut pages.requested),
            )
        };
        state.board.requests_passed(requested);
        write_logs(lines, &mut failed);
        if !goes_on {
            return;
        }
        tokio::select! {
            () = state.traffic.over.cancelled() => {}
            () = sleep(PAUSE) => {}
        }
    }
}

/// Adds lines to their files, each opened anew, so that they can be moved away at any time. Which
/// cannot be written is told once.
fn write_logs(lines: BTreeMap<PathBuf, String>, failed: &mut HashSet<PathBuf>) {
    for (file, text) in lines {
        match append(&file, &text) {
            Ok(()) => {
                if failed.remove(&file) {
                    info!(file = %file.display(), "the access log is written again");
                }
            }
            Err(cause) => {
                if failed.insert(file.clone()) {
                    warn!(file = %file.display(), %cause, "an access log cannot be written");
                }
            }
        }
    }
}

fn append(file: &Path, text: &str) -> Result<(), FileError> {
    let mut log = open_log(file)?;
    log.write_all(text.as_bytes())
        .map_err(|source| FileError::Io {
            verb: "write to",
            path: file.to_owned(),
            source,
        })
}

/// Opens an access log, which is made if it is not there, for its owner and group to read.
pub(crate) fn open_log(file: &Path) -> Result<File, FileError> {
    let (folder, name) = Folder::of(file)?;
    folder.append(&name, 0o640)
}

/// Waits for so long; gives whether `end` came first.
async fn ends_within(end: &CancellationToken, time: Duration) -> bool {
    tokio::select! {
        () = end.cancelled() => true,
        () = sleep(time) => false,
    }
}

/// Writes exchanges into the database and forgets old ones, until nothing passes any more. While
/// the database is away they wait.
async fn store(state: Arc<State>) {
    let book = &state.traffic;
    let mut news = book.last.subscribe();
    let mut forget_at = Instant::now();
    let mut told = 0;
    loop {
        let waits = book.pages().waiting() > 0;
        let goes_on = tokio::select! {
            () = book.over.cancelled() => false,
            Ok(()) = news.changed(), if !waits => !ends_within(&book.over, WRITE).await,
            over = ends_within(&book.over, WRITE), if waits => !over,
            () = sleep_until(forget_at) => true,
        };
        if !goes_on {
            book.take_over();
        }
        if book.keep.age.is_zero() {
            let mut pages = book.pages();
            let last = pages.next - 1;
            pages.settle(last);
        }
        if let Ok(store) = state.store() {
            // At the end everything is written, however much it is.
            if let Err(cause) = book.write(&store, !goes_on).await {
                warn!(cause = chain(&cause), "exchanges are not kept");
            }
            if Instant::now() >= forget_at {
                forget_at = Instant::now() + FORGET;
                let since = OffsetDateTime::now_utc() - book.keep.age;
                match store.forget_exchanges(since, book.keep.most).await {
                    Ok(()) | Err(StoreError::Unreachable(_)) => {}
                    Err(cause) => warn!(cause = chain(&cause), "old exchanges are not forgotten"),
                }
            }
        } else {
            forget_at = forget_at.max(Instant::now() + WRITE);
        }
        let mut not_kept = book.pages().not_kept;
        if !goes_on {
            // What could not be written by now is lost with the service.
            not_kept += book.pages().waiting();
        }
        if not_kept > told {
            let lost = not_kept - told;
            warn!(lost, "exchanges did not get into the database");
            told = not_kept;
        }
        if !goes_on {
            return;
        }
    }
}

impl State {
    /// The latest `most` exchanges that `filter` takes, before the one numbered `before` when that is
    /// given: first those in memory, then what the database has.
    pub(crate) async fn latest_traffic(
        &self,
        filter: &ExchangeFilter,
        before: Option<i64>,
        most: usize,
    ) -> Result<Traffic, StoreError> {
        let book = &self.traffic;
        book.settle().await;
        let before = before.unwrap_or(i64::MAX);
        let (mut exchanges, first) = book.latest(filter, before, most);
        let missing = most - exchanges.len();
        if missing > 0
            && let Ok(store) = self.store()
        {
            let older = store.exchanges(filter, first.min(before), missing as u64);
            match older.await {
                Ok(older) => older
                    .into_iter()
                    .rev()
                    .for_each(|it| exchanges.push_front(it)),
                // What is in memory is known all the same.
                Err(StoreError::Unreachable(_)) => {}
                Err(cause) => return Err(cause),
            }
        }
        let pages = book.pages();
        Ok(Traffic {
            exchanges: exchanges.into(),
            last: pages.next - 1,
            missed: 0,
            left_out: book.recorder.left_out(),
            not_kept: pages.not_kept,
        })
    }

    /// The first `most` exchanges after the one numbered `after` that `filter` takes. When there is
    /// none, waits for one, for as long as `wait`.
    pub(crate) async fn traffic_after(
        &self,
        filter: &ExchangeFilter,
        after: i64,
        most: usize,
        wait: Duration,
    ) -> Traffic {
        let book = &self.traffic;
        let end = Instant::now() + wait;
        let mut news = book.last.subscribe();
        let mut missed = 0;
        let mut from = after;
        loop {
            news.mark_unchanged();
            let mut found = book.after(filter, from, most);
            missed += found.missed;
            found.missed = missed;
            let over = !found.exchanges.is_empty() || missed > 0;
            if over || Instant::now() >= end || self.shutdown.is_cancelled() {
                return found;
            }
            from = found.last;
            tokio::select! {
                _ = timeout_at(end, news.changed()) => {}
                () = self.shutdown.cancelled() => {}
            }
        }
    }

    /// What the exchanges of the last `over` come to, which is an hour at most.
    pub(crate) async fn traffic_summary(&self, over: Duration) -> TrafficSummary {
        let book = &self.traffic;
        book.settle().await;
        let now = OffsetDateTime::now_utc();
        // Since the start there is nothing to tell of before that.
        let over = over.min(Tally::REACH);
        let pages = book.pages();
        TrafficSummary {
            since: (now - over).max(self.started_at),
            routes: pages.tally.sum_up(over, now),
            left_out: book.recorder.left_out(),
            not_kept: pages.not_kept,
        }
    }
}
