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
use tracing::error;

use crate::state::State;

/// Questions that are kept: the last of them.
const KEPT: usize = 1000;
/// Names that are counted each by itself; the rest are counted together.
const COUNTED: usize = 10_000;
/// How long what is asked gathers before it is taken over: the first question at once, while its
/// process still waits for the answer, and those that follow together.
const PAUSE: Duration = Duration::from_millis(100);
/// Clients whose process is looked up at a time; of more the rest stays unknown.
const LOOKED_UP: usize = 32;
/// How long it is remembered who has a port, or that nobody can be told: not for long, since ports
/// pass from one process to the next.
const REMEMBERED: Duration = Duration::from_secs(2);

/// What the resolver was asked, for people to read.
#[derive(Debug, Default)]
pub(crate) struct QueryBook {
    log: Log,
    pages: Mutex<Pages>,
    processes: Mutex<Processes>,
}

/// Who has which port, as seen lately.
#[derive(Debug, Default)]
struct Processes {
    known: HashMap<SocketAddr, (Instant, Option<Holder>)>,
}

/// What is counted together: name, type, outcome.
type Counted = (String, String, QueryOutcome);

/// How often, and how often by whom.
#[derive(Debug, Default)]
struct Tally {
    count: u64,
    processes: BTreeMap<String, u64>,
}

#[derive(Debug, Default)]
struct Pages {
    last: VecDeque<QueryView>,
    counts: HashMap<Counted, Tally>,
    total: u64,
    uncounted: u64,
}

/// Takes over what was asked, until the service stops.
pub(crate) async fn keep(state: Arc<State>) {
    let shutdown = &state.shutdown;
    loop {
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = state.queries.log.news() => {}
        }
        let book = Arc::clone(&state.queries);
        if let Err(cause) = spawn_blocking(move || book.take_over()).await {
            return error!(%cause, "the query log was not taken over");
        }
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = sleep(PAUSE) => {}
        }
    }
}

impl QueryBook {
    /// Where the resolver notes what it is asked.
    pub(crate) fn log(&self) -> Log {
        self.log.clone()
    }

    fn take_over(&self) {
        // Read before the lock is taken, so that nobody waits for long.
        let questions: Vec<Question> = self.log.take().collect();
        let mut processes = self
            .processes
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        processes.look_up(&questions);
        let views = questions
            .iter()
            .map(|question| view(question, processes.of(question.client)));
        let views: Vec<QueryView> = views.collect();
        drop(processes);
        let mut pages = self.pages();
        for view in views {
            pages.total += 1;
            let key = (view.name.clone(), view.kind.clone(), view.outcome);
            if pages.counts.len() < COUNTED || pages.counts.contains_key(&key) {
                let tally = pages.counts.entry(key).or_default();
                tally.count += 1;
                if let Some(process) = &view.process {
                    *tally.processes.entry(process.clone()).or_default() += 1;
                }
            } else {
                pages.uncounted += 1;
            }
            if pages.last.len() == KEPT {
                pages.last.pop_front();
            }
            pages.last.push_back(view);
        }
    }

    /// The last `most` questions and the `most` frequent ones, of names that `wanted` takes.
    pub(crate) fn read(&self, most: usize, wanted: impl Fn(&str) -> bool) -> Queries {
        self.take_over();
        let pages = self.pages();
        let last = pages.last.iter().rev().filter(|view| wanted(&view.name));
        let counts = pages.counts.iter().filter(|((name, ..), _)| wanted(name));
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
            total: pages.total,
            left_out: self.log.left_out() + pages.uncounted,
        }
    }

    fn pages(&self) -> MutexGuard<'_, Pages> {
        self.pages.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Processes {
    /// Finds the processes of those who asked. A client without a port has none that is known.
    fn look_up(&mut self, questions: &[Question]) {
        let now = Instant::now();
        let fresh = |since: &Instant| now.duration_since(*since) < REMEMBERED;
        self.known.retain(|_, (since, _)| fresh(since));
        let clients = questions.iter().map(|question| question.client);
        let unknown = clients.filter(|client| {
            client.port() != 0 && client.ip().is_loopback() && !self.known.contains_key(client)
        });
        let unknown: HashSet<SocketAddr> = unknown.take(LOOKED_UP).collect();
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
        code: (outcome != QueryOutcome::Forwarded).then(|| code_in_words(question.code)),
    }
}

/// A response code as people write it (RFC 1035 §4.1.1).
fn code_in_words(code: u8) -> String {
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
    fn codes_have_words() {
        let words: Vec<String> = (0..7).map(code_in_words).collect();
        assert_eq!(
            words,
            [
                "NOERROR", "FORMERR", "SERVFAIL", "NXDOMAIN", "NOTIMP", "REFUSED", "6"
            ]
        );
    }
}
