use std::net::IpAddr;
use std::sync::Arc;
use std::{io, thread};

use arc_swap::ArcSwap;
use bentlane_core::Snapshot;
use bentlane_core::dns::{self, Asked, Outcome, Reason, Settings, Transport};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::forwarder::Forwarder;
use crate::log::{self, Log};
use crate::sockets::Sockets;
use crate::{tcp, udp};

/// Response codes of an answer, positive or negative (RFC 1035 §4.1.1).
const NO_ERROR: u8 = 0;
const NX_DOMAIN: u8 = 3;

/// What the listeners answer from.
#[derive(Clone, Debug)]
pub struct View {
    /// The current snapshot; whoever owns it swaps in the next.
    pub snapshot: Arc<ArcSwap<Snapshot>>,
    /// What the names of every zone resolve to. Whether recursion is offered is told by
    /// `forwarder`, whatever this says.
    pub settings: Settings,
    /// Where names outside the zones are looked up; `None` refuses them.
    pub forwarder: Option<Forwarder>,
    /// Where every question is noted.
    pub log: Log,
}

/// What is left to do for a query.
pub(crate) enum Next {
    /// The answer is in the buffer, or there is none when that is empty.
    Send,
    /// It has to be asked for.
    Ask(Asked, Forwarder),
}

impl View {
    /// Writes the answer to `query` into `out`, when it is known here.
    pub(crate) fn answer(
        &self,
        query: &[u8],
        client: IpAddr,
        transport: Transport,
        out: &mut Vec<u8>,
    ) -> Next {
        let (next, outcome) = self.decide(query, transport, out);
        let code = out.get(3).map_or(0, |flags| flags & 0xf);
        match outcome {
            log::Outcome::Ours if out.is_empty() => {} // silence
            log::Outcome::Ours if !matches!(code, NO_ERROR | NX_DOMAIN) => {
                self.log.note(query, client, log::Outcome::Refused, code);
            }
            outcome => self.log.note(query, client, outcome, code),
        }
        next
    }

    /// Writes the answer to `query`, which came over a stream, into `out`, and asks upstream where
    /// that is needed. Empty is silence.
    pub async fn ask(&self, query: &[u8], client: IpAddr, out: &mut Vec<u8>) {
        if let Next::Ask(asked, forwarder) = self.answer(query, client, Transport::Tcp, out) {
            forwarder.answer(&asked, Transport::Tcp, out).await;
        }
    }

    fn decide(
        &self,
        query: &[u8],
        transport: Transport,
        out: &mut Vec<u8>,
    ) -> (Next, log::Outcome) {
        let settings = Settings {
            recursion: self.forwarder.is_some(),
            ..self.settings
        };
        let outcome = dns::answer(query, &self.snapshot.load(), &settings, transport, out);
        if let Outcome::Elsewhere(asked) = outcome {
            let Some(forwarder) = &self.forwarder else {
                asked.write_failure(Reason::NotOurs, out);
                return (Next::Send, log::Outcome::Refused);
            };
            if forwarder.answer_known(&asked, transport, out) {
                return (Next::Send, log::Outcome::Kept);
            }
            return (Next::Ask(asked, forwarder.clone()), log::Outcome::Forwarded);
        }
        (Next::Send, log::Outcome::Ours)
    }
}

/// A resolver at work. It goes on until the token given to [`Sockets::serve`] is cancelled.
#[derive(Debug)]
#[must_use = "wait for the resolver to end, or a failure of its thread stays unseen"]
pub struct Handle {
    thread: thread::JoinHandle<()>,
}

impl Handle {
    /// Whether the resolver's thread has ended.
    #[must_use]
    pub fn is_finished(&self) -> bool {
        self.thread.is_finished()
    }

    /// Waits until the resolver has ended.
    ///
    /// # Errors
    /// When its thread panicked.
    pub fn join(self) -> io::Result<()> {
        self.thread
            .join()
            .map_err(|_| io::Error::other("the resolver's thread panicked"))
    }
}

impl Sockets {
    /// Serves on a thread of its own until `shutdown` is cancelled.
    ///
    /// # Errors
    /// When the thread or its runtime cannot be made.
    pub fn serve(self, view: View, shutdown: CancellationToken) -> io::Result<Handle> {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()?;
        let (udp, tcp): (Vec<_>, Vec<_>) = self.pairs.into_iter().unzip();
        let guard = runtime.enter();
        let udp: Vec<_> = udp
            .into_iter()
            .map(tokio::net::UdpSocket::from_std)
            .collect::<Result<_, _>>()?;
        let tcp: Vec<_> = tcp
            .into_iter()
            .map(tokio::net::TcpListener::from_std)
            .collect::<Result<_, _>>()?;
        drop(guard);
        let thread = thread::Builder::new()
            .name("resolver".to_owned())
            .spawn(move || {
                runtime.block_on(async {
                    let tasks = TaskTracker::new();
                    for socket in udp {
                        tasks.spawn(udp::serve(socket, view.clone(), shutdown.clone()));
                    }
                    for listener in tcp {
                        tasks.spawn(tcp::serve(listener, view.clone(), shutdown.clone()));
                    }
                    tasks.close();
                    tasks.wait().await;
                });
            })?;
        Ok(Handle { thread })
    }
}
