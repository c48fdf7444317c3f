use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_dns::RebindProtection;
use bentlane_model::chain;
use bentlane_resolver::Forwarder;
use bentlane_system::System;
use tracing::{info, warn};

use crate::config::Upstreams;
use crate::state::State;
use crate::turns::Turns;

/// How often the file is looked at: another network brings other name servers.
const TURN: Duration = Duration::from_secs(5);

impl Upstreams {
    /// What forwards to them. We ourselves listen at `ours`, which is never upstream.
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

    /// Keeps the forwarder up to date until the service stops.
    pub(crate) async fn follow(self, state: Arc<State>) {
        let forwarder = state.resolver.forwarder.clone();
        let (Self::System, Some(forwarder)) = (self, forwarder) else {
            return state.shutdown.cancelled().await;
        };
        let ours = &state.listening.dns;
        let mut turns = Turns::new(TURN, &state.shutdown);
        let mut known = forwarder.upstreams();
        info!(upstream = ?known, "names outside the zones are looked up there");
        while turns.next().await {
            // A small file of the system's own, so that reading it here keeps nobody waiting.
            forwarder.replace_upstreams(of_the_system(ours));
            let now = forwarder.upstreams();
            if now != known {
                info!(upstream = ?now, "names outside the zones are looked up there from now on");
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
                "cannot learn the system's name servers"
            );
            Vec::new()
        }
    }
}
