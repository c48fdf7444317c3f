use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use bentlane_core::{Redirect, Route, Snapshot, Target};

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

/// A snapshot with the means to answer for its targets: what a request is routed by.
#[derive(Debug)]
pub(crate) struct Plane {
    snapshot: Arc<Snapshot>,
    /// By [`bentlane_core::TargetId`].
    leads: Vec<Lead>,
}

/// How requests for one target are answered.
#[derive(Clone, Debug)]
pub(crate) enum Lead {
    /// They are passed on over these connections.
    Pool(Arc<Pool>),
    /// Clients are sent elsewhere.
    Redirect {
        to: Redirect,
        /// Whether that is a name in one of the zones, which is served on our port.
        ours: bool,
    },
}

impl Plane {
    /// The plane for `snapshot`. Targets that `previous` had keep their connections.
    pub(crate) fn new(snapshot: Arc<Snapshot>, previous: Option<&Self>) -> Self {
        let known = previous.iter().flat_map(|plane| &plane.leads);
        let known: HashMap<&Target, &Arc<Pool>> = known
            .filter_map(|lead| match lead {
                Lead::Pool(pool) => Some((pool.target(), pool)),
                Lead::Redirect { .. } => None,
            })
            .collect();
        let lead = |target: &Target| match target {
            Target::Redirect(to) => {
                let name = to.name();
                let zone = name.and_then(|name| snapshot.zone_of(name.as_str()));
                Lead::Redirect {
                    to: to.clone(),
                    ours: zone.is_some(),
                }
            }
            target => Lead::Pool(match known.get(target) {
                Some(pool) => Arc::clone(pool),
                None => Arc::new(Pool::new(target.clone())),
            }),
        };
        let leads = snapshot.targets().iter().map(lead).collect();
        Self { snapshot, leads }
    }

    pub(crate) fn route(&self, name: &str, path: &str) -> Option<(&Route, &Lead)> {
        let (route, target) = self.snapshot.route_for(name, path)?;
        Some((route, &self.leads[target.index()]))
    }
}
