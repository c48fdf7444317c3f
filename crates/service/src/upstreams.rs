use std::net::SocketAddr;
use std::time::Duration;

use bentlane_dns::RebindProtection;
use bentlane_model::chain;
use bentlane_resolver::Forwarder;
use bentlane_system::System;
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::config::Upstreams;
use crate::ticker::Ticker;

/// How often the system's configuration is read: another network brings other name servers.
const READ_EVERY: Duration = Duration::from_secs(5);

impl Upstreams {
    /// A forwarder to them; our own addresses, `ours`, are never upstream.
    pub(crate) fn forwarder(
        &self,
        ours: &[SocketAddr],
        rebinding: RebindProtection,
    ) -> Option<Forwarder> {
        match self {
            Self::System => Some(Forwarder::new(of_the_system(ours), rebinding)),
            Self::These(none) if none.is_empty() => None,
            Self::These(these) => Some(Forwarder::new(these.clone(), rebinding)),
        }
    }

    /// Keeps the forwarder up to date with the system's configuration, until the service stops.
    pub(crate) async fn follow(
        self,
        forwarder: Option<Forwarder>,
        ours: Vec<SocketAddr>,
        shutdown: CancellationToken,
    ) {
        let (Self::System, Some(forwarder)) = (self, forwarder) else {
            return shutdown.cancelled().await;
        };
        let mut ticker = Ticker::new(READ_EVERY, &shutdown);
        let mut known = forwarder.upstreams();
        info!(upstream = ?known, "forwarding names outside the zones");
        while ticker.next().await {
            // A small file of the system, so that reading it blocks for a moment only.
            forwarder.replace_upstreams(of_the_system(&ours));
            let now = forwarder.upstreams();
            if now != known {
                info!(upstream = ?now, "forwarding names outside the zones to other servers from now on");
                known = now;
            }
        }
    }
}

fn of_the_system(ours: &[SocketAddr]) -> Vec<SocketAddr> {
    match System::default().resolv_conf_before_us() {
        Ok(conf) => conf.upstreams(ours),
        Err(error) => {
            warn!(
                cause = chain(&error),
                "cannot read the system's name servers"
            );
            Vec::new()
        }
    }
}
