use std::sync::{Arc, OnceLock};

use arc_swap::ArcSwap;
use tokio_util::task::TaskTracker;

use crate::apps::{AppHost, RestartTokens};
use crate::certificates::Certificates;
use crate::forward::NamedPools;
use crate::record::Recorder;
use crate::routing_table::{Limits, RoutingTable};
use crate::site::OwnSite;
use crate::stopping::Stopping;

/// What all connections share.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) table: ArcSwap<RoutingTable>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) limits: Limits,
    pub(crate) recorder: Recorder,
    /// What answers under our own name, once it is there.
    pub(crate) site: OnceLock<Arc<dyn OwnSite>>,
    /// What runs apps, once it is set.
    pub(crate) apps: OnceLock<Arc<dyn AppHost>>,
    pub(crate) restart_tokens: RestartTokens,
    /// The connections to where names lead.
    pub(crate) named: NamedPools,
    /// What we sign messages with in `Via`: another for each service, so that a request that comes
    /// back to us is distinguished from one that passes another machine's service.
    pub(crate) id: Box<str>,
    /// Connections that a stop waits for.
    pub(crate) connections: TaskTracker,
    pub(crate) stopping: Stopping,
}

impl Shared {
    /// The routes of the moment; a request keeps them until it is answered.
    pub(crate) fn routing_table(&self) -> Arc<RoutingTable> {
        self.table.load_full()
    }
}
