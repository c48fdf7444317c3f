//! Asking upstream resolvers for names that are not ours.

use std::collections::HashMap;
use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwap;
use bentlane_dns::{
    Cache, ForwardedQuestion, Key, Reason, RebindProtection, Reply, Stored, Transport,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::sync::{Semaphore, watch};
use tokio::time::timeout;
use tracing::debug;

/// Answers kept.
const KEPT: usize = 8192;
/// The most questions that wait for upstream resolvers; more fail at once.
const AT_ONCE: usize = 1024;
/// The most clients that wait for the answer to a question that another client asked before; more
/// fail at once.
const WAITING: usize = 4096;
/// How long one upstream resolver may take over UDP before the next is asked.
const UDP_LIMIT: Duration = Duration::from_millis(1500);
/// How long one may take over TCP, from connecting to the last byte.
const TCP_LIMIT: Duration = Duration::from_secs(3);
/// How long all of them together may take: less than the 5 s that clients wait.
const WHOLE_LIMIT: Duration = Duration::from_millis(4500);
/// The longest datagram that is read: we ask for no more.
const LONGEST_DATAGRAM: usize = 4096;

/// The way to upstream resolvers: what was learnt is kept, and identical questions on their way are
/// asked once. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub struct Forwarder {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    upstreams: ArcSwap<Vec<SocketAddr>>,
    state: Mutex<State>,
    permits: Semaphore,
    waiting: Semaphore,
    /// Which addresses upstream resolvers may lead to.
    rebinding: RebindProtection,
    started: Instant,
}

#[derive(Debug)]
struct State {
    cache: Cache,
    /// Who waits for what; the sender belongs to the one who asks.
    on_their_way: HashMap<Key, watch::Receiver<Option<Outcome>>>,
    /// Which upstream resolver answered last: it is asked first.
    preferred: usize,
    /// How each has answered since the start.
    health: HashMap<SocketAddr, UpstreamHealth>,
}

/// How an upstream resolver has answered since the start.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UpstreamHealth {
    /// Questions that it answered.
    pub answered: u64,
    /// Questions that it did not answer, or not with anything usable.
    pub failed: u64,
    /// What was wrong with its last answer; `None` while it answers.
    pub error: Option<String>,
    /// How long its last answer took.
    pub took: Option<Duration>,
}

type Outcome = Result<Stored, Reason>;

impl Forwarder {
    /// Forwards to `upstreams`, in this order of preference, and blocks answers that `rebinding`
    /// does not allow.
    #[must_use]
    pub fn new(upstreams: Vec<SocketAddr>, rebinding: RebindProtection) -> Self {
        Self {
            inner: Arc::new(Inner {
                upstreams: ArcSwap::from_pointee(upstreams),
                state: Mutex::new(State {
                    cache: Cache::new(KEPT),
                    on_their_way: HashMap::new(),
                    preferred: 0,
                    health: HashMap::new(),
                }),
                permits: Semaphore::new(AT_ONCE),
                waiting: Semaphore::new(WAITING),
                rebinding,
                started: Instant::now(),
            }),
        }
    }

    /// The upstream resolvers of the moment.
    #[must_use]
    pub fn upstreams(&self) -> Arc<Vec<SocketAddr>> {
        self.inner.upstreams.load_full()
    }

    /// The same, each with how it has answered.
    #[must_use]
    pub fn health(&self) -> Vec<(SocketAddr, UpstreamHealth)> {
        let upstreams = self.upstreams();
        let state = self.state();
        let known = |at: &SocketAddr| state.health.get(at).cloned().unwrap_or_default();
        upstreams.iter().map(|at| (*at, known(at))).collect()
    }

    /// Forwards to others from now on, and forgets what the former said.
    pub fn replace_upstreams(&self, upstreams: Vec<SocketAddr>) {
        if **self.inner.upstreams.load() != upstreams {
            let mut state = self.state();
            state.health.retain(|at, _| upstreams.contains(at));
            state.cache.clear();
            self.inner.upstreams.store(Arc::new(upstreams));
        }
    }

    /// Answers from what is known already; gives `false`, and leaves `out` alone, when that is not
    /// enough.
    pub(crate) fn answer_known(
        &self,
        asked: &ForwardedQuestion,
        transport: Transport,
        out: &mut Vec<u8>,
    ) -> bool {
        let state = self.state();
        let Some((stored, age)) = state.cache.get(asked.key(), self.now()) else {
            return false;
        };
        stored.write(asked, age, transport, out);
        true
    }

    /// Asks upstream and writes the answer, or why there is none.
    pub(crate) async fn answer(
        &self,
        asked: &ForwardedQuestion,
        transport: Transport,
        out: &mut Vec<u8>,
    ) -> Result<(), Reason> {
        match self.look_up(asked).await {
            Ok(stored) => {
                stored.write(asked, 0, transport, out);
                Ok(())
            }
            Err(reason) => {
                asked.write_failure(reason, out);
                Err(reason)
            }
        }
    }

    async fn look_up(&self, asked: &ForwardedQuestion) -> Outcome {
        let joined = self.state().on_their_way.get(asked.key()).cloned();
        if let Some(mut other) = joined {
            let Ok(_permit) = self.inner.waiting.try_acquire() else {
                return Err(Reason::Busy);
            };
            if let Ok(outcome) = other.wait_for(Option::is_some).await
                && let Some(outcome) = &*outcome
            {
                return outcome.clone();
            }
        }
        let Ok(_permit) = self.inner.permits.try_acquire() else {
            return Err(Reason::Busy);
        };
        let (sender, receiver) = watch::channel(None);
        self.state()
            .on_their_way
            .insert(asked.key().clone(), receiver);
        // Gone from the list also when this future is dropped.
        let _gone = PendingGuard {
            forwarder: self,
            key: asked.key(),
        };
        let outcome = timeout(WHOLE_LIMIT, self.ask_all(asked))
            .await
            .unwrap_or(Err(Reason::NoReply));
        if let Ok(stored) = &outcome {
            let now = self.now();
            self.state()
                .cache
                .put(asked.key().clone(), stored.clone(), now);
        }
        // It fails when no other client waits, which is no error.
        let _ = sender.send(Some(outcome.clone()));
        outcome
    }

    /// Asks one upstream resolver after the other until one says something.
    async fn ask_all(&self, asked: &ForwardedQuestion) -> Outcome {
        let upstreams = self.upstreams();
        let preferred = self.state().preferred;
        let mut worst = Reason::NoReply;
        let rebinding = &self.inner.rebinding;
        for turn in 0..upstreams.len() {
            let index = (preferred + turn) % upstreams.len();
            let Some(upstream) = upstreams.get(index) else {
                continue;
            };
            let begun = Instant::now();
            let reply = ask(asked, rebinding, *upstream).await;
            self.note(*upstream, &reply, begun.elapsed());
            match reply {
                Ok(Reply::Usable(stored)) => {
                    self.state().preferred = index;
                    return Ok(stored);
                }
                Ok(Reply::Rebinding) => return Err(Reason::Rebinding),
                Ok(_) => worst = Reason::BadReply,
                Err(cause) => debug!(%upstream, %cause, "an upstream resolver does not answer"),
            }
        }
        Err(worst)
    }

    fn note(&self, upstream: SocketAddr, reply: &io::Result<Reply>, took: Duration) {
        let mut state = self.state();
        let health = state.health.entry(upstream).or_default();
        health.error = match reply {
            Ok(Reply::Usable(_) | Reply::Rebinding) => None,
            Ok(_) => Some("its answer is not usable".to_owned()),
            Err(cause) if cause.kind() == io::ErrorKind::TimedOut => {
                Some("it does not answer".to_owned())
            }
            Err(cause) => Some(cause.to_string()),
        };
        match health.error {
            None => {
                health.answered += 1;
                health.took = Some(took);
            }
            Some(_) => health.failed += 1,
        }
    }

    fn now(&self) -> Duration {
        self.inner.started.elapsed()
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.inner
            .state
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
    }
}

/// Takes a question off the list of those on their way.
struct PendingGuard<'a> {
    forwarder: &'a Forwarder,
    key: &'a Key,
}

impl Drop for PendingGuard<'_> {
    fn drop(&mut self) {
        self.forwarder.state().on_their_way.remove(self.key);
    }
}

/// Asks one upstream resolver over UDP, and over TCP when its answer was cut.
async fn ask(
    asked: &ForwardedQuestion,
    rebinding: &RebindProtection,
    upstream: SocketAddr,
) -> io::Result<Reply> {
    let query = asked.upstream_query(rand::random());
    let judge = |reply: &[u8]| asked.judge(&query, reply, rebinding);
    match timeout(UDP_LIMIT, ask_udp(&judge, &query, upstream)).await?? {
        Reply::Truncated => timeout(TCP_LIMIT, ask_tcp(&judge, &query, upstream)).await?,
        reply => Ok(reply),
    }
}

async fn ask_udp(
    judge: &impl Fn(&[u8]) -> Reply,
    query: &[u8],
    upstream: SocketAddr,
) -> io::Result<Reply> {
    let any = match upstream {
        SocketAddr::V4(_) => SocketAddr::from((Ipv4Addr::UNSPECIFIED, 0)),
        SocketAddr::V6(_) => SocketAddr::from((Ipv6Addr::UNSPECIFIED, 0)),
    };
    // Each query has its own socket: the system chooses a random port (RFC 5452 §9.2).
    let socket = UdpSocket::bind(any).await?;
    socket.connect(upstream).await?;
    socket.send(query).await?;
    let mut buffer = vec![0; LONGEST_DATAGRAM];
    loop {
        let length = socket.recv(&mut buffer).await?;
        match judge(buffer.get(..length).unwrap_or_default()) {
            Reply::Unrelated => {}
            reply => return Ok(reply),
        }
    }
}

async fn ask_tcp(
    judge: &impl Fn(&[u8]) -> Reply,
    query: &[u8],
    upstream: SocketAddr,
) -> io::Result<Reply> {
    let mut stream = TcpStream::connect(upstream).await?;
    let length = u16::try_from(query.len()).map_err(io::Error::other)?;
    stream
        .write_all(&[&length.to_be_bytes()[..], query].concat())
        .await?;
    let length = stream.read_u16().await?;
    let mut reply = vec![0; usize::from(length)];
    stream.read_exact(&mut reply).await?;
    Ok(judge(&reply))
}

#[cfg(test)]
mod tests {
    use std::str::FromStr;

    use bentlane_dns as dns;
    use bentlane_dns::{Outcome as Answered, Settings};
    use bentlane_model::{Configuration, Snapshot};
    use hickory_proto::op::{Message, Query};
    use hickory_proto::rr::{Name, RecordType};

    use super::*;

    fn asked(name: &str) -> ForwardedQuestion {
        let mut message = Message::query();
        message.add_query(Query::query(Name::from_str(name).unwrap(), RecordType::A));
        let snapshot = Snapshot::compile(Configuration::default());
        let (octets, mut out) = (message.to_vec().unwrap(), Vec::new());
        let settings = Settings::default();
        match dns::answer(&octets, &snapshot, &settings, Transport::Udp, &mut out) {
            Answered::Elsewhere(asked) => asked,
            other => panic!("{other:?}"),
        }
    }

    #[tokio::test]
    async fn the_number_of_waiting_clients_is_limited() {
        let silent = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let upstream = silent.local_addr().unwrap();
        let forwarder = Forwarder::new(vec![upstream], RebindProtection::default());
        let (first, again) = (asked("www.example.org."), asked("www.example.org."));
        let looking = tokio::spawn({
            let forwarder = forwarder.clone();
            async move { forwarder.look_up(&first).await }
        });
        silent.recv(&mut [0; 512]).await.unwrap();
        let room = u32::try_from(WAITING).unwrap();
        let all = forwarder.inner.waiting.acquire_many(room).await.unwrap();
        let refused = forwarder.look_up(&again).await;
        assert!(matches!(refused, Err(Reason::Busy)), "{refused:?}");
        drop(all);
        let waiting = forwarder.look_up(&again);
        let patience = Duration::from_millis(50);
        assert!(timeout(patience, waiting).await.is_err());
        looking.abort();
    }
}
