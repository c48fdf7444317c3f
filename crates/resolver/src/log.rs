use std::net::SocketAddr;
use std::sync::Arc;
use std::time::SystemTime;

use bentlane_dns::{CHECK_MARK, QueryOutcome};
use bentlane_queue::BoundedQueue;

/// The most questions that wait to be taken; of more, the newest are dropped and counted.
const WAITING: usize = 4096;
/// The most bytes of a question that is kept: name, type and class. Longer ones are only counted.
const LONGEST: usize = 112;

/// A question that was asked.
#[derive(Clone, Debug)]
pub struct Question {
    /// When.
    pub at: SystemTime,
    /// Who asked.
    pub client: SocketAddr,
    /// How it came out.
    pub outcome: QueryOutcome,
    /// The answer's response code (RFC 1035 §4.1.1); 0 while it is still to be asked for.
    pub code: u8,
    octets: [u8; LONGEST],
    length: usize,
}

impl Question {
    /// The question as it stood in the query: name, type and class.
    #[must_use]
    pub fn octets(&self) -> &[u8] {
        self.octets.get(..self.length).unwrap_or_default()
    }
}

/// The questions that were asked lately. Adding one takes no lock, allocates nothing and never waits.
/// Cloning gives another handle to the same log.
#[derive(Clone, Debug)]
pub struct Log {
    queue: Arc<BoundedQueue<Question>>,
}

impl Default for Log {
    fn default() -> Self {
        Self {
            queue: Arc::new(BoundedQueue::new(WAITING)),
        }
    }
}

impl Log {
    /// Takes the questions that were asked since the last call, oldest first.
    pub fn take(&self) -> impl Iterator<Item = Question> {
        std::iter::from_fn(|| self.queue.pop())
    }

    /// Waits until there is a question to take.
    pub async fn ready(&self) {
        self.queue.ready().await;
    }

    /// How many questions were dropped since the start because the queue was full.
    #[must_use]
    pub fn left_out(&self) -> u64 {
        self.queue.dropped()
    }

    /// Adds the question of `query`, a message whose header was read, unless it is one of our own checks.
    pub(crate) fn add(&self, query: &[u8], client: SocketAddr, outcome: QueryOutcome, code: u8) {
        const HEADER: usize = 12;
        if query.ends_with(CHECK_MARK.1) {
            return;
        }
        let question = query.get(HEADER..).unwrap_or_default();
        let question = question
            .get(..question_length(question))
            .unwrap_or_default();
        let mut octets = [0; LONGEST];
        let fits = octets.get_mut(..question.len()).is_some_and(|room| {
            room.copy_from_slice(question);
            !question.is_empty()
        });
        let question = Question {
            at: SystemTime::now(),
            client,
            outcome,
            code,
            octets,
            length: question.len(),
        };
        match fits {
            true => self.queue.push(question),
            false => self.queue.count_dropped(),
        }
    }
}

/// Length in bytes of the first question in `octets`: its labels, the root, type and class. None when it is
/// cut short.
fn question_length(octets: &[u8]) -> usize {
    let mut place = 0_usize;
    loop {
        match octets.get(place) {
            Some(0) => return place.saturating_add(5),
            Some(length) if *length < 64 => {
                place = place.saturating_add(1).saturating_add(usize::from(*length));
            }
            _ => return 0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const QUERY: &[u8] = b"\x12\x34\x01\0\0\x01\0\0\0\0\0\x01\x04MOOR\x04test\0\0\x01\0\x01extra";
    const CLIENT: SocketAddr =
        SocketAddr::new(std::net::IpAddr::V4(std::net::Ipv4Addr::LOCALHOST), 4053);

    #[test]
    fn queries_keep_their_order() {
        let log = Log::default();
        log.add(QUERY, CLIENT, QueryOutcome::Ours, 0);
        log.add(QUERY, CLIENT, QueryOutcome::Refused, 5);
        log.add(
            &[QUERY, CHECK_MARK.1].concat(),
            CLIENT,
            QueryOutcome::Ours,
            0,
        );
        let taken: Vec<Question> = log.take().collect();
        assert_eq!(taken[0].octets(), b"\x04MOOR\x04test\0\0\x01\0\x01");
        assert_eq!(
            (taken[1].outcome, taken[1].code),
            (QueryOutcome::Refused, 5)
        );
        assert_eq!(log.take().count(), 0);
        assert_eq!(log.left_out(), 0);
    }

    #[test]
    fn lost_entries_are_counted() {
        let log = Log::default();
        for _ in 0..WAITING + 3 {
            log.add(QUERY, CLIENT, QueryOutcome::Ours, 0);
        }
        for odd in [
            &QUERY[..12],
            &QUERY[..20],
            &b"\0\0\0\0\0\0\0\0\0\0\0\0\xc0\x0c"[..],
        ] {
            log.add(odd, CLIENT, QueryOutcome::Refused, 1);
        }
        let long = [
            &QUERY[..12],
            &[60; 1][..],
            &[b'a'; 60],
            &[60],
            &[b'a'; 60],
            &[0; 5],
        ]
        .concat();
        log.add(&long, CLIENT, QueryOutcome::Ours, 0);
        assert_eq!(log.take().count(), WAITING);
        assert_eq!(log.left_out(), 7);
    }
}
