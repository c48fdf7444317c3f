use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bentlane_api_types::{Queries, QueryCount, QueryView};
use bentlane_checks::Holder;
use bentlane_dns::{QueryOutcome, question_in_words};
use bentlane_probe::socket_holders;
use bentlane_resolver::{Log, Question};
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
/// The most clients whose process is looked up in a round; those of the rest stay unknown.
const MOST_LOOKUPS: usize = 32;
/// How long the process of a port, or that it is unknown, is remembered: ports pass from one process
/// to another.
const REMEMBER_FOR: Duration = Duration::from_secs(2);

/// The questions that the resolver was asked.
#[derive(Debug, Default)]
pub(crate) struct QueryLog {
    log: Log,
    entries: Mutex<Entries>,
    processes: Mutex<Processes>,
}

/// The processes that have ports, as seen lately.
#[derive(Debug, Default)]
struct Processes {
    known: HashMap<SocketAddr, (Instant, Option<Holder>)>,
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
    last: VecDeque<QueryView>,
    counts: HashMap<Counted, Tally>,
    total: u64,
    uncounted: u64,
}

/// Reads what the resolver was asked, until the service stops.
pub(crate) async fn run(log: Arc<QueryLog>, shutdown: CancellationToken) {
    loop {
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = log.log.news() => {}
        }
        let reading = Arc::clone(&log);
        if let Err(cause) = spawn_blocking(move || reading.take_new()).await {
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

    /// Reads what the resolver was asked. One call at a time, so that a call returns when everything that
    /// was asked before it is in the log.
    fn take_new(&self) {
        let mut processes = self
            .processes
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let questions: Vec<Question> = self.log.take().collect();
        processes.look_up(&questions);
        let views = questions
            .iter()
            .map(|question| view(question, processes.of(question.client)));
        let views: Vec<QueryView> = views.collect();
        let mut entries = self.entries();
        for view in views {
            entries.total += 1;
            let key = (view.name.clone(), view.kind.clone(), view.outcome);
            if entries.counts.len() < MOST_COUNTED || entries.counts.contains_key(&key) {
                let tally = entries.counts.entry(key).or_default();
                tally.count += 1;
                if let Some(process) = &view.process {
                    *tally.processes.entry(process.clone()).or_default() += 1;
                }
            } else {
                entries.uncounted += 1;
            }
            if entries.last.len() == KEPT {
                entries.last.pop_front();
            }
            entries.last.push_back(view);
        }
    }

    /// The last `most` questions and the `most` frequent ones, of names for which `wanted` is true.
    pub(crate) fn read(&self, most: usize, wanted: impl Fn(&str) -> bool) -> Queries {
        self.take_new();
        let entries = self.entries();
        let last = entries.last.iter().rev().filter(|view| wanted(&view.name));
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

impl Processes {
    /// Finds the processes of clients. That of a client without a port is unknown.
    fn look_up(&mut self, questions: &[Question]) {
        let now = Instant::now();
        let fresh = |since: &Instant| now.duration_since(*since) < REMEMBER_FOR;
        self.known.retain(|_, (since, _)| fresh(since));
        let clients = questions.iter().map(|question| question.client);
        let unknown = clients.filter(|client| {
            client.port() != 0 && client.ip().is_loopback() && !self.known.contains_key(client)
        });
        let unknown: HashSet<SocketAddr> = unknown.take(MOST_LOOKUPS).collect();
        let mut found = socket_holders(&unknown);
        for client in unknown {
            self.known.insert(client, (now, found.remove(&client)));
        }
    }

    fn of(&self, client: SocketAddr) -> Option<&Holder> {
        let (_, holder) = self.known.get(&client)?;
        holder.as_ref()
    }
}

fn view(question: &Question, holder: Option<&Holder>) -> QueryView {
    let (name, kind) = question_in_words(question.octets());
    let outcome = question.outcome;
    QueryView {
        at: question.at.into(),
        name,
        kind,
        client: question.client.ip().to_string(),
        process: holder.map(|holder| holder.command.clone()),
        pid: holder.map(|holder| holder.pid),
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
