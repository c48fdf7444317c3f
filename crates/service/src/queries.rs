use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_core::dns::question_in_words;
use bentlane_resolver::{Log, Outcome, Question};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::time::interval;
use tokio_util::sync::CancellationToken;
use utoipa::ToSchema;

/// Questions that are kept: the last of them.
const KEPT: usize = 1000;
/// Names that are counted each by itself; the rest are counted together.
const COUNTED: usize = 10_000;
/// How often what was asked is taken over from the resolver.
const TURN: Duration = Duration::from_millis(250);

/// How a question came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum QueryOutcome {
    /// Answered from the zones.
    Ours,
    /// Answered from what an upstream resolver said before.
    Kept,
    /// Asked of an upstream resolver.
    Forwarded,
    /// Not answered.
    Refused,
}

/// A question that the resolver was asked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryView {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The name, in lower case.
    pub name: String,
    /// The type, such as `AAAA`.
    #[serde(rename = "type")]
    pub kind: String,
    /// Who asked.
    pub client: String,
    /// How it came out.
    pub outcome: QueryOutcome,
    /// The response code, such as `NOERROR`; absent while an upstream resolver is asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub code: Option<String>,
}

/// How often something was asked.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QueryCount {
    /// The name.
    pub name: String,
    /// The type.
    #[serde(rename = "type")]
    pub kind: String,
    /// How it came out.
    pub outcome: QueryOutcome,
    /// How often.
    pub count: u64,
}

/// What the resolver was asked lately.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Queries {
    /// The last questions, newest first.
    pub queries: Vec<QueryView>,
    /// What was asked most since the start, most first.
    pub counts: Vec<QueryCount>,
    /// Questions since the start.
    pub total: u64,
    /// Questions that were answered and are not in these lists.
    pub left_out: u64,
}

/// What the resolver was asked, for people to read.
#[derive(Debug, Default)]
pub(crate) struct QueryBook {
    log: Log,
    pages: Mutex<Pages>,
}

#[derive(Debug, Default)]
struct Pages {
    last: VecDeque<QueryView>,
    counts: HashMap<(String, String, QueryOutcome), u64>,
    total: u64,
    uncounted: u64,
}

impl QueryBook {
    /// Where the resolver notes what it is asked.
    pub(crate) fn log(&self) -> Log {
        self.log.clone()
    }

    /// Takes over what was asked, until `shutdown`.
    pub(crate) async fn keep(&self, shutdown: CancellationToken) {
        let mut turns = interval(TURN);
        loop {
            tokio::select! {
                () = shutdown.cancelled() => return,
                _ = turns.tick() => self.take_over(),
            }
        }
    }

    fn take_over(&self) {
        // Read before the lock is taken, so that nobody waits for long.
        let views: Vec<QueryView> = self.log.take().map(|question| view(&question)).collect();
        let mut pages = self.pages();
        for view in views {
            pages.total += 1;
            let key = (view.name.clone(), view.kind.clone(), view.outcome);
            if pages.counts.len() < COUNTED || pages.counts.contains_key(&key) {
                *pages.counts.entry(key).or_default() += 1;
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
            .map(|((name, kind, outcome), count)| QueryCount {
                name: name.clone(),
                kind: kind.clone(),
                outcome: *outcome,
                count: *count,
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

fn view(question: &Question) -> QueryView {
    let (name, kind) = question_in_words(question.octets());
    let outcome = match question.outcome {
        Outcome::Ours => QueryOutcome::Ours,
        Outcome::Kept => QueryOutcome::Kept,
        Outcome::Forwarded => QueryOutcome::Forwarded,
        Outcome::Refused => QueryOutcome::Refused,
    };
    QueryView {
        at: question.at.into(),
        name,
        kind,
        client: question.client.to_string(),
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
