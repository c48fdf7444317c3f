use std::sync::Arc;
use std::{io, thread};

use arc_swap::ArcSwap;
use bentlane_core::Snapshot;
use bentlane_core::dns::{self, Asked, Outcome, Reason, Settings, Transport};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::forwarder::Forwarder;
use crate::sockets::Sockets;
use crate::{tcp, udp};

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
    pub(crate) fn answer(&self, query: &[u8], transport: Transport, out: &mut Vec<u8>) -> Next {
        let settings = Settings {
            recursion: self.forwarder.is_some(),
            ..self.settings
        };
        let outcome = dns::answer(query, &self.snapshot.load(), &settings, transport, out);
        if let Outcome::Elsewhere(asked) = outcome {
            let Some(forwarder) = &self.forwarder else {
                asked.write_failure(Reason::NotOurs, out);
                return Next::Send;
            };
            if !forwarder.answer_known(&asked, transport, out) {
                return Next::Ask(asked, forwarder.clone());
            }
        }
        Next::Send
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
