use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bentlane_api_types::{Queries, QueryCount, QueryView};
use bentlane_dns::{QueryOutcome, question_in_words};
use bentlane_probe::socket_holders;
use bentlane_resolver::{Log, Question};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use tracing::error;

/// How many of the last questions are kept.
const KEPT: usize = 1000;
/// The most names that are counted by themselves; the rest are counted together.
const MOST_COUNTED: usize = 10_000;
/// The time between two rounds of reading. The first question is read at once, while its process still
/// waits for the answer.
const READ_EVERY: Duration = Duration::from_millis(100);
/// The most clients whose process is looked up at a time; the others stay unknown.
const MOST_LOOKUPS: usize = 64;
/// The time between two lookups of processes, each of which reads every open file of the machine.
const LOOK_UP_EVERY: Duration = Duration::from_secs(1);
/// How long after a question its client is looked up: ports pass from one process to another.
const LOOK_UP_WITHIN: time::Duration = time::Duration::seconds(2);
/// How long processes are looked up after the log was read.
const READING: Duration = Duration::from_secs(10);

/// The questions that the resolver was asked.
#[derive(Debug, Default)]
pub(crate) struct QueryLog {
    log: Log,
    entries: Mutex<Entries>,
    lookups: Mutex<Lookups>,
}

/// When processes were, and are to be, looked up.
#[derive(Debug, Default)]
struct Lookups {
    last: Option<Instant>,
    log_read: Option<Instant>,
}

/// Questions that are counted together: name, type, outcome.
type Counted = (String, String, QueryOutcome);

/// How often a question was asked, and how often by each process.
#[derive(Debug, Default)]
struct Tally {
    count: u64,
    processes: BTreeMap<String, u64>,
}

#[derive(Debug, Default)]
struct Entries {
    last: VecDeque<Entry>,
    counts: HashMap<Counted, Tally>,
    total: u64,
    uncounted: u64,
}

#[derive(Debug)]
struct Entry {
    client: SocketAddr,
    view: QueryView,
}

/// Reads what the resolver was asked, until the service stops.
pub(crate) async fn run(log: Arc<QueryLog>, shutdown: CancellationToken) {
    loop {
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = log.log.ready() => {}
        }
        let reading = Arc::clone(&log);
        if let Err(cause) = spawn_blocking(move || reading.take_new(false)).await {
            return error!(%cause, "queries are no longer logged");
        }
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = sleep(READ_EVERY) => {}
        }
    }
}

impl QueryLog {
    /// Where the resolver records what it is asked.
    pub(crate) fn log(&self) -> Log {
        self.log.clone()
    }

    /// Reads what the resolver was asked, and, while the log is being read, looks up which processes
    /// asked. One call at a time, so that a call returns when everything that was asked before it is in
    /// the log.
    fn take_new(&self, is_read: bool) {
        let now = Instant::now();
        let mut lookups = self.lookups.lock().unwrap_or_else(PoisonError::into_inner);
        if is_read {
            lookups.log_read = Some(now);
        }
        let questions: Vec<Question> = self.log.take().collect();
        let mut entries = self.entries();
        questions.iter().for_each(|question| entries.add(question));
        drop(entries);
        if lookups.is_due(now) {
            lookups.last = Some(now);
            self.look_up_processes();
        }
    }

    /// Looks up the processes of recent questions whose process is unknown.
    fn look_up_processes(&self) {
        let since = OffsetDateTime::now_utc() - LOOK_UP_WITHIN;
        let is_unknown = |entry: &&mut Entry| {
            entry.view.pid.is_none() && entry.view.at > since && entry.has_port()
        };
        let unknown: HashSet<SocketAddr> = {
            let mut entries = self.entries();
            let recent = entries.last.iter_mut().rev().filter(is_unknown);
            recent
                .map(|entry| entry.client)
                .take(MOST_LOOKUPS)
                .collect()
        };
        let found = socket_holders(&unknown);
        let mut entries = self.entries();
        let Entries { last, counts, .. } = &mut *entries;
        for entry in last.iter_mut().rev().filter(is_unknown) {
            let Some(holder) = found.get(&entry.client) else {
                continue;
            };
            entry.view.pid = Some(holder.pid);
            entry.view.process = Some(holder.command.clone());
            if let Some(tally) = counts.get_mut(&entry.counted()) {
                *tally.processes.entry(holder.command.clone()).or_default() += 1;
            }
        }
    }

    /// The last `most` questions and the `most` frequent ones, of names for which `wanted` is true.
    pub(crate) fn read(&self, most: usize, wanted: impl Fn(&str) -> bool) -> Queries {
        self.take_new(true);
        let entries = self.entries();
        let last = entries.last.iter().rev().map(|entry| &entry.view);
        let last = last.filter(|view| wanted(&view.name));
        let counts = entries.counts.iter().filter(|((name, ..), _)| wanted(name));
        let mut counts: Vec<QueryCount> = counts
            .map(|((name, kind, outcome), tally)| QueryCount {
                name: name.clone(),
                kind: kind.clone(),
                outcome: *outcome,
                count: tally.count,
                processes: tally.processes.clone(),
            })
            .collect();
        counts.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.name.cmp(&b.name)));
        counts.truncate(most);
        Queries {
            queries: last.take(most).cloned().collect(),
            counts,
            total: entries.total,
            left_out: self.log.left_out() + entries.uncounted,
        }
    }

    fn entries(&self) -> MutexGuard<'_, Entries> {
        self.entries.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Lookups {
    /// Whether the log is being read, and the last lookup is some time ago.
    fn is_due(&self, now: Instant) -> bool {
        let within = |at: Option<Instant>, limit| {
            at.is_some_and(|at| now.saturating_duration_since(at) < limit)
        };
        within(self.log_read, READING) && !within(self.last, LOOK_UP_EVERY)
    }
}

impl Entries {
    fn add(&mut self, question: &Question) {
        let entry = Entry {
            client: question.client,
            view: view(question),
        };
        self.total += 1;
        let counted = entry.counted();
        if self.counts.len() < MOST_COUNTED || self.counts.contains_key(&counted) {
            self.counts.entry(counted).or_default().count += 1;
        } else {
            self.uncounted += 1;
        }
        if self.last.len() == KEPT {
            self.last.pop_front();
        }
        self.last.push_back(entry);
    }
}

impl Entry {
    fn counted(&self) -> Counted {
        let QueryView {
            name,
            kind,
            outcome,
            ..
        } = &self.view;
        (name.clone(), kind.clone(), *outcome)
    }

    /// Whether its process can be looked up: those of DNS over HTTPS have no port, and those of other
    /// machines no process here.
    fn has_port(&self) -> bool {
        self.client.port() != 0 && self.client.ip().is_loopback()
    }
}

fn view(question: &Question) -> QueryView {
    let (name, kind) = question_in_words(question.octets());
    let outcome = question.outcome;
    QueryView {
        at: question.at.into(),
        name,
        kind,
        client: question.client.ip().to_string(),
        process: None,
        pid: None,
        outcome,
        code: (outcome != QueryOutcome::Forwarded).then(|| rcode_name(question.code)),
    }
}

/// The mnemonic of a response code (RFC 1035 §4.1.1).
fn rcode_name(code: u8) -> String {
    match code {
        0 => "NOERROR",
        1 => "FORMERR",
        2 => "SERVFAIL",
        3 => "NXDOMAIN",
        4 => "NOTIMP",
        5 => "REFUSED",
        code => return code.to_string(),
    }
    .to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn processes_are_looked_up_once_a_second_while_the_log_is_read() {
        let start = Instant::now();
        let mut lookups = Lookups::default();
        assert!(!lookups.is_due(start), "nobody reads the log");
        lookups.log_read = Some(start);
        assert!(lookups.is_due(start));
        lookups.last = Some(start);
        assert!(!lookups.is_due(start + LOOK_UP_EVERY / 2));
        assert!(lookups.is_due(start + LOOK_UP_EVERY));
        assert!(!lookups.is_due(start + READING), "nobody reads it any more");
    }

    #[test]
    fn response_codes_have_their_mnemonics() {
        let names: Vec<String> = (0..7).map(rcode_name).collect();
        assert_eq!(
            names,
            [
                "NOERROR", "FORMERR", "SERVFAIL", "NXDOMAIN", "NOTIMP", "REFUSED", "6"
            ]
        );
    }
}
