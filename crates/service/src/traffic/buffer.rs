use std::collections::{BTreeMap, HashMap, VecDeque};
use std::path::PathBuf;
use std::sync::Arc;

use bentlane_proxy::RecordedExchange;
use bentlane_traffic::{Exchange, Tally};
use time::OffsetDateTime;

/// How many of the last exchanges are kept in memory, besides those that wait for the database.
const KEPT: usize = 2_000;
/// The most exchanges that wait for the database. Of more, the oldest are dropped, and counted.
const MOST_WAITING: usize = 20_000;

/// The latest exchanges in memory, numbered in the order in which they ended.
#[derive(Debug, Default)]
pub(super) struct Buffer {
    pub(super) next: i64,
    /// The last ones, and before these those that wait for the database.
    pub(super) exchanges: VecDeque<Numbered>,
    /// None up to this number waits for the database.
    stored: i64,
    /// Whether it is known which exchanges are in the database: not at first, nor after it went away while
    /// some were written.
    pub(super) knows_stored: bool,
    pub(super) tally: Tally,
    /// Routes that had requests, and whether the last of each failed.
    requested: HashMap<Arc<str>, bool>,
    /// Lines for access logs, by file.
    lines: BTreeMap<PathBuf, String>,
    /// Exchanges that are not in the database.
    pub(super) not_kept: u64,
}

/// An exchange with its number.
#[derive(Debug)]
pub(super) struct Numbered {
    pub(super) id: i64,
    recorded: RecordedExchange,
}

impl Numbered {
    pub(super) fn exchange(&self) -> Exchange {
        self.recorded.exchange(self.id)
    }
}

impl Buffer {
    /// An empty buffer, whose first exchange will have the number `next`.
    pub(super) fn starting_at(next: i64) -> Self {
        Self {
            next,
            stored: next - 1,
            ..Self::default()
        }
    }

    /// Takes the lines for access logs, and the routes that had requests, since the last call.
    pub(super) fn take_pending(&mut self) -> (BTreeMap<PathBuf, String>, HashMap<Arc<str>, bool>) {
        (
            std::mem::take(&mut self.lines),
            std::mem::take(&mut self.requested),
        )
    }

    /// The oldest `most` of those that wait for the database.
    pub(super) fn waiting(&self, most: usize) -> Vec<Exchange> {
        let waiting = self.exchanges.range(self.index_after(self.stored)..);
        waiting.take(most).map(Numbered::exchange).collect()
    }

    pub(super) fn add(
        &mut self,
        recorded: RecordedExchange,
        log: Option<(PathBuf, String)>,
        now: OffsetDateTime,
    ) {
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
        self.exchanges.push_back(Numbered { id, recorded });
        self.drop_oldest();
    }

    /// The latest exchange in the database has the number `id`.
    pub(super) fn continue_after(&mut self, id: i64) {
        self.knows_stored = true;
        self.set_stored(id);
        // Only a clock that was set back gives a lower number.
        self.next = self.next.max(id + 1);
    }

    /// None up to the number `id` waits for the database.
    pub(super) fn set_stored(&mut self, id: i64) {
        self.stored = self.stored.max(id);
        self.drop_oldest();
    }

    /// Drops the oldest: those that are in the database, and those that are too many.
    fn drop_oldest(&mut self) {
        while self.exchanges.len() > KEPT {
            let waits = self.first() > self.stored;
            if waits && self.exchanges.len() <= MOST_WAITING {
                return;
            }
            if waits {
                self.not_kept += 1;
                self.stored = self.first();
            }
            self.exchanges.pop_front();
        }
        if self.exchanges.capacity() > MOST_WAITING && self.exchanges.len() <= KEPT {
            self.exchanges.shrink_to(KEPT);
        }
    }

    /// The index of the first exchange after the one with the number `id`.
    pub(super) fn index_after(&self, id: i64) -> usize {
        self.exchanges.partition_point(|exchange| exchange.id <= id)
    }

    /// How many wait for the database.
    pub(super) fn waiting_count(&self) -> u64 {
        (self.next - 1 - self.stored).max(0).unsigned_abs()
    }

    /// The number of the oldest exchange in memory.
    pub(super) fn first(&self) -> i64 {
        self.exchanges
            .front()
            .map_or(self.next, |exchange| exchange.id)
    }
}
