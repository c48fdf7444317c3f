mod tcp;
mod udp;

use std::io;
use std::net::{SocketAddr, UdpSocket};
use std::sync::Arc;

use arc_swap::ArcSwap;
use bentlane_dns as dns;
use bentlane_dns::{ForwardedQuestion, Outcome, QueryOutcome, Reason, Settings, Transport};
use bentlane_model::Snapshot;
use bentlane_supervisor::{Policy, Stop, Supervisor};
use rustix::process::setpriority_process;
use tokio::net::TcpListener;
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use tracing::debug;

use crate::forwarder::Forwarder;
use crate::log::Log;
use crate::sockets::Sockets;

/// The nice value of the resolver's threads, as far as it is allowed (setpriority(2), RLIMIT_NICE).
const PRIORITY: i32 = -10;
/// Response codes of an answer, positive or negative (RFC 1035 §4.1.1).
const NO_ERROR: u8 = 0;
const NX_DOMAIN: u8 = 3;

/// What the listeners answer from.
#[derive(Clone, Debug)]
pub struct AnswerSource {
    /// The current snapshot, which its owner replaces.
    pub snapshot: Arc<ArcSwap<Snapshot>>,
    settings: Settings,
    /// Where names outside the zones are looked up; `None` refuses them.
    pub forwarder: Option<Forwarder>,
    log: Log,
}

/// What is left to do for a query.
pub(crate) enum NextStep {
    /// The answer is in the buffer, or there is none when that is empty.
    Send,
    /// It has to be asked for.
    Ask(UpstreamQuery),
}

/// A question to ask upstream.
pub(crate) struct UpstreamQuery {
    asked: ForwardedQuestion,
    forwarder: Forwarder,
    /// What we know of the answer, when the question is what an alias of ours leads to.
    ours: Option<Vec<u8>>,
    /// Where it is noted when the answer is blocked: the log, the question and who asked.
    log: Log,
    query: Box<[u8]>,
    client: SocketAddr,
}

impl UpstreamQuery {
    /// Writes the answer into `out`, or why there is none.
    pub(crate) async fn run(self, transport: Transport, out: &mut Vec<u8>) {
        let Self {
            asked, forwarder, ..
        } = &self;
        let outcome = match &self.ours {
            None => forwarder.answer(asked, transport, out).await,
            Some(ours) => {
                let outcome = forwarder.answer(asked, Transport::Tcp, out).await;
                join(asked, ours, transport, out);
                outcome
            }
        };
        if outcome == Err(Reason::Rebinding) {
            self.log
                .add(&self.query, self.client, QueryOutcome::Blocked, NO_ERROR);
        }
    }
}

/// Puts what we know of an answer before what others say, which is in `out`.
fn join(asked: &ForwardedQuestion, ours: &[u8], transport: Transport, out: &mut Vec<u8>) {
    // What they say was read before, so it can be joined; if not, what we know is still true.
    *out = asked
        .join(ours, out, transport)
        .unwrap_or_else(|| ours.to_vec());
}

impl AnswerSource {
    /// A view of `snapshot`, whose names resolve as `settings` say. `forwarder` looks other names
    /// up, and `log` notes every question.
    #[must_use]
    pub fn new(
        snapshot: Arc<ArcSwap<Snapshot>>,
        settings: Settings,
        forwarder: Option<Forwarder>,
        log: Log,
    ) -> Self {
        let settings = Settings {
            recursion: forwarder.is_some(),
            ..settings
        };
        Self {
            snapshot,
            settings,
            forwarder,
            log,
        }
    }

    /// Writes the answer to `query` into `out`, when it is known here.
    pub(crate) fn answer(
        &self,
        query: &[u8],
        client: SocketAddr,
        transport: Transport,
        out: &mut Vec<u8>,
    ) -> NextStep {
        let ip = client.ip().to_canonical();
        let snapshot = self.snapshot.load();
        let (next, outcome) = if ip.is_loopback() {
            self.decide(query, client, transport, &self.settings, &snapshot, out)
        } else if let Some(bridge) = snapshot.bridges().iter().find(|bridge| bridge.has(ip)) {
            let settings = self.settings.behind(bridge.gateway);
            self.decide(query, client, transport, &settings, &snapshot, out)
        } else {
            dns::refuse(query, out);
            (NextStep::Send, QueryOutcome::Ours)
        };
        let code = out.get(3).map_or(0, |flags| flags & 0xf);
        match outcome {
            QueryOutcome::Ours if out.is_empty() => {} // silence
            QueryOutcome::Ours if !matches!(code, NO_ERROR | NX_DOMAIN) => {
                self.log.add(query, client, QueryOutcome::Refused, code);
            }
            outcome => self.log.add(query, client, outcome, code),
        }
        next
    }

    /// Writes the answer to `query`, which came over a stream, into `out`, and asks upstream where
    /// that is needed. Empty is silence.
    pub async fn ask(&self, query: &[u8], client: SocketAddr, out: &mut Vec<u8>) {
        if let NextStep::Ask(errand) = self.answer(query, client, Transport::Tcp, out) {
            errand.run(Transport::Tcp, out).await;
        }
    }

    fn decide(
        &self,
        query: &[u8],
        client: SocketAddr,
        transport: Transport,
        settings: &Settings,
        snapshot: &Snapshot,
        out: &mut Vec<u8>,
    ) -> (NextStep, QueryOutcome) {
        let outcome = dns::answer(query, snapshot, settings, transport, out);
        let (asked, forwarder, ours) = match (outcome, &self.forwarder) {
            (Outcome::Elsewhere(asked), None) => {
                asked.write_failure(Reason::NotOurs, out);
                return (NextStep::Send, QueryOutcome::Refused);
            }
            (Outcome::Elsewhere(asked), Some(forwarder)) => {
                if forwarder.answer_known(&asked, transport, out) {
                    return (NextStep::Send, QueryOutcome::Kept);
                }
                (asked, forwarder, None)
            }
            (Outcome::Alias(asked), Some(forwarder)) => {
                let ours = std::mem::take(out);
                if forwarder.answer_known(&asked, Transport::Tcp, out) {
                    join(&asked, &ours, transport, out);
                    return (NextStep::Send, QueryOutcome::Ours);
                }
                (asked, forwarder, Some(ours))
            }
            _ => return (NextStep::Send, QueryOutcome::Ours),
        };
        let errand = UpstreamQuery {
            asked,
            forwarder: forwarder.clone(),
            ours,
            log: self.log.clone(),
            query: query.into(),
            client,
        };
        (NextStep::Ask(errand), QueryOutcome::Forwarded)
    }
}

impl Sockets {
    /// Serves until the service stops: each UDP socket on its own thread, TCP and queries
    /// upstream on the current runtime.
    ///
    /// # Errors
    /// When the system does not take a socket.
    pub fn serve(self, view: &AnswerSource, supervisor: &Supervisor) -> io::Result<Asking> {
        self.serve_until(view, supervisor, supervisor.shutdown())
    }

    /// The same until `end`.
    ///
    /// # Errors
    /// When the system does not take a socket.
    pub fn serve_until(
        self,
        view: &AnswerSource,
        supervisor: &Supervisor,
        end: &CancellationToken,
    ) -> io::Result<Asking> {
        let asking = TaskTracker::new();
        for (udp, tcp) in self.pairs {
            let at = udp.local_addr()?;
            udp.set_nonblocking(false)?;
            serve_udp(Arc::new(udp), at, view.clone(), supervisor, end, &asking);
            let listener = Arc::new(TcpListener::from_std(tcp)?);
            let (view, until) = (view.clone(), end.clone());
            let work = move || {
                let (listener, view) = (Arc::clone(&listener), view.clone());
                let serving = tcp::serve(listener, view, until.clone());
                async {
                    serving.await;
                    Ok(())
                }
            };
            supervisor.spawn_until(end.clone(), format!("dns tcp {at}"), Policy::Restart, work);
        }
        Ok(Asking(asking))
    }
}

/// Queries over UDP that wait for an answer from upstream.
#[derive(Debug)]
pub struct Asking(TaskTracker);

impl Asking {
    /// Waits until all of them are answered. To be called once the service stops.
    ///
    /// # Cancel safety
    /// Nothing is lost when the future is dropped.
    pub async fn finish(&self) {
        self.0.close();
        self.0.wait().await;
    }
}

/// Starts the thread that serves a UDP socket. It goes before the proxy's where the service may say
/// so: an answer takes a few microseconds of work, and everything else waits for it.
fn serve_udp(
    socket: Arc<UdpSocket>,
    at: SocketAddr,
    view: AnswerSource,
    supervisor: &Supervisor,
    end: &CancellationToken,
    asking: &TaskTracker,
) {
    let (woken, runtime) = (Arc::clone(&socket), Handle::current());
    let asking = asking.clone();
    let work = move |stop: &Stop| {
        // On Linux this is the calling thread alone. Without the right to it, the thread keeps its priority.
        if let Err(cause) = setpriority_process(None, PRIORITY) {
            debug!(%cause, "the resolver has no higher priority");
        }
        let spawn = |query| drop(asking.spawn_on(query, &runtime));
        udp::serve(&socket, &view, &spawn, stop);
        Ok(())
    };
    let (stopping, ended) = (supervisor.clone(), end.clone());
    let wake = move || {
        // A datagram is not delivered while loopback is down. Once it is closed, a socket is of no use to
        // the process that takes it over.
        if ended.is_cancelled() && !stopping.is_restarting() {
            udp::close(&woken);
        } else if let Err(cause) = udp::wake(&woken) {
            debug!(%cause, "a thread of the resolver cannot be woken");
        }
    };
    supervisor.spawn_thread(
        end.clone(),
        format!("dns udp {at}"),
        Policy::Restart,
        work,
        wake,
    );
}
