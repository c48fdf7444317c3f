use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bentlane_core::Target;
use bentlane_core::check::{Attempt, Refusal};
use crossbeam_queue::ArrayQueue;
use hyper::body::Incoming;
use hyper::client::conn::http1::{self, SendRequest};
use hyper_util::rt::TokioIo;
use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;
use tracing::debug;

/// Idle connections kept for one target.
const KEPT: usize = 64;
/// How long an idle connection is used again: less than the 5 s after which the most common dev
/// servers close theirs, so that a request hardly ever meets a closing connection.
const FRESH: Duration = Duration::from_secs(4);
/// How long to wait for a connection whose last response was just read to be ready for the next
/// request: its task has seen the end too and only needs a turn.
const SETTLING: Duration = Duration::from_millis(5);

/// The connections to one target.
///
/// Idle ones wait in a queue without a lock; a request takes one out and its response's body puts
/// it back when the last octet has been read.
#[derive(Debug)]
pub(crate) struct Pool {
    target: Target,
    /// Made when the first connection comes back: most targets are asked seldom.
    idle: OnceLock<ArrayQueue<Idle>>,
    /// Which family of loopback answered last, to be tried first.
    prefers_ipv6: AtomicBool,
}

#[derive(Debug)]
struct Idle {
    sender: SendRequest<Incoming>,
    since: Instant,
}

/// A connection in use. Giving it back makes it idle; dropping it closes it.
#[derive(Debug)]
pub(crate) struct Lease {
    pub(crate) sender: SendRequest<Incoming>,
    pool: Arc<Pool>,
}

impl Lease {
    /// Puts the connection back. It may still be reading: taking it out again waits for that.
    pub(crate) fn give_back(self) {
        if !self.sender.is_closed() {
            // A full queue hands the connection back, and dropping it closes it.
            let idle = self.pool.idle.get_or_init(|| ArrayQueue::new(KEPT));
            let _ = idle.push(Idle {
                sender: self.sender,
                since: Instant::now(),
            });
        }
    }
}

/// Why no connection could be made.
#[derive(Debug)]
pub(crate) enum ConnectError {
    /// No address accepted.
    Closed(Vec<Attempt>),
    /// The host has no address.
    UnknownHost(String),
}

impl Pool {
    pub(crate) fn new(target: Target) -> Self {
        Self {
            target,
            idle: OnceLock::new(),
            prefers_ipv6: AtomicBool::new(false),
        }
    }

    pub(crate) fn target(&self) -> &Target {
        &self.target
    }

    /// An idle connection that can take a request now.
    pub(crate) async fn take_idle(self: &Arc<Self>) -> Option<Lease> {
        let idle = self.idle.get()?;
        while let Some(Idle { mut sender, since }) = idle.pop() {
            if sender.is_closed() || since.elapsed() > FRESH {
                continue;
            }
            if sender.is_ready() || matches!(timeout(SETTLING, sender.ready()).await, Ok(Ok(()))) {
                return Some(Lease {
                    sender,
                    pool: Arc::clone(self),
                });
            }
        }
        None
    }

    /// A new connection.
    pub(crate) async fn connect(self: &Arc<Self>, limit: Duration) -> Result<Lease, ConnectError> {
        let stream = self.open(limit).await?;
        let address = stream.peer_addr().ok();
        let _ = stream.set_nodelay(true); // a refusal costs only latency
        let (sender, connection) =
            http1::handshake(TokioIo::new(stream))
                .await
                .map_err(|error| {
                    ConnectError::Closed(address.map(|at| other(at, &error)).into_iter().collect())
                })?;
        tokio::spawn(async move {
            if let Err(cause) = connection.with_upgrades().await {
                debug!(%cause, "a connection to a target ended early");
            }
        });
        Ok(Lease {
            sender,
            pool: Arc::clone(self),
        })
    }

    async fn open(&self, limit: Duration) -> Result<TcpStream, ConnectError> {
        let mut attempts = Vec::new();
        for address in self.candidates().await? {
            let refusal = match timeout(limit, TcpStream::connect(address)).await {
                Ok(Ok(stream)) => {
                    self.prefers_ipv6
                        .store(address.is_ipv6(), Ordering::Relaxed);
                    return Ok(stream);
                }
                Ok(Err(error)) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
                    Refusal::Refused
                }
                Ok(Err(error)) => Refusal::Other(error.to_string()),
                Err(_) => Refusal::Silent,
            };
            attempts.push(Attempt { address, refusal });
        }
        Err(ConnectError::Closed(attempts))
    }

    async fn candidates(&self) -> Result<Vec<SocketAddr>, ConnectError> {
        match self.target.addresses() {
            Ok(mut addresses) => {
                if self.prefers_ipv6.load(Ordering::Relaxed) {
                    addresses.reverse();
                }
                Ok(addresses)
            }
            Err((host, port)) => lookup_host((host, port))
                .await
                .map(Iterator::collect)
                .map_err(|error| ConnectError::UnknownHost(error.to_string())),
        }
    }
}

fn other(address: SocketAddr, error: &hyper::Error) -> Attempt {
    Attempt {
        address,
        refusal: Refusal::Other(error.to_string()),
    }
}
