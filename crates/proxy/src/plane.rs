use std::sync::Arc;
use std::time::Duration;

use bentlane_core::{Route, Snapshot};

use crate::pool::Pool;

/// How long the proxy waits, and how much it takes.
#[derive(Clone, Debug)]
pub struct Limits {
    /// For a target to accept a connection. Default 5 s.
    pub connect: Duration,
    /// From the end of a request's head to the first octet of its response. Default 120 s, since a
    /// dev server may compile first.
    pub first_byte: Duration,
    /// For a client to send a request's head, or to finish its handshake. Default 30 s.
    pub head: Duration,
    /// Octets of a request's head; a longer one gets 431. Default 64 KiB.
    pub head_octets: u32,
    /// Client connections at a time; more wait in the system's queue. Default 10,000.
    pub connections: usize,
    /// How long connections may finish their work when the proxy stops. Default 5 s.
    pub drain: Duration,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(5),
            first_byte: Duration::from_secs(120),
            head: Duration::from_secs(30),
            head_octets: 64 * 1024,
            connections: 10_000,
            drain: Duration::from_secs(5),
        }
    }
}

/// A snapshot with the pools of its targets: what a request is routed by.
#[derive(Debug)]
pub(crate) struct Plane {
    snapshot: Arc<Snapshot>,
    /// By [`bentlane_core::TargetId`].
    pools: Vec<Arc<Pool>>,
}

impl Plane {
    /// The plane for `snapshot`. Targets that `previous` had keep their pools.
    pub(crate) fn new(snapshot: Arc<Snapshot>, previous: Option<&Self>) -> Self {
        let pools = snapshot
            .targets()
            .iter()
            .map(|target| {
                previous
                    .and_then(|plane| plane.pools.iter().find(|pool| pool.target() == target))
                    .map_or_else(|| Arc::new(Pool::new(target.clone())), Arc::clone)
            })
            .collect();
        Self { snapshot, pools }
    }

    pub(crate) fn route(&self, name: &str, path: &str) -> Option<(&Route, &Arc<Pool>)> {
        let (route, target) = self.snapshot.route_for(name, path)?;
        Some((route, &self.pools[target.index()]))
    }
}
