use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use std::{fs, io};

use bentlane_core::ResolvConf;
use bentlane_resolver::Forwarder;
use tokio::time::interval;
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::config::Upstreams;

/// The file in which the system's lookups find their name servers.
const SYSTEM: &str = "/etc/resolv.conf";
/// Where the file from before is kept while the system is attached.
const BEFORE: &str = "/var/lib/bentlane/system/resolv.conf";
/// How often the file is looked at: another network brings other name servers.
const TURN: Duration = Duration::from_secs(5);

impl Upstreams {
    /// What forwards to them. We ourselves listen at `ours`, which is never upstream.
    pub(crate) fn forwarder(&self, ours: &[SocketAddr]) -> Option<Forwarder> {
        match self {
            Self::System => Some(Forwarder::new(of_the_system(ours))),
            Self::These(none) if none.is_empty() => None,
            Self::These(these) => Some(Forwarder::new(these.clone())),
        }
    }

    /// Keeps `forwarder` up to date until `shutdown`.
    pub(crate) async fn follow(
        self,
        forwarder: Option<Forwarder>,
        ours: Vec<SocketAddr>,
        shutdown: CancellationToken,
    ) {
        let (Self::System, Some(forwarder)) = (self, forwarder) else {
            return shutdown.cancelled().await;
        };
        let mut turns = interval(TURN);
        let mut known = forwarder.upstreams();
        info!(upstream = ?known, "names outside the zones are looked up there");
        loop {
            tokio::select! {
                () = shutdown.cancelled() => return,
                _ = turns.tick() => {}
            }
            // A small file of the system's own, so that reading it here keeps nobody waiting.
            forwarder.replace_upstreams(of_the_system(&ours));
            let now = forwarder.upstreams();
            if now != known {
                info!(upstream = ?now, "names outside the zones are looked up there from now on");
                known = now;
            }
        }
    }
}

fn of_the_system(ours: &[SocketAddr]) -> Vec<SocketAddr> {
    let Some(conf) = read(Path::new(SYSTEM)) else {
        return Vec::new();
    };
    if conf.ours {
        let before = read(Path::new(BEFORE)).unwrap_or_default();
        return before.upstreams(ours);
    }
    conf.upstreams(ours)
}

fn read(path: &Path) -> Option<ResolvConf> {
    match fs::read_to_string(path) {
        Ok(text) => Some(ResolvConf::parse(&text)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(cause) => {
            warn!(path = %path.display(), %cause, "cannot learn the system's name servers");
            None
        }
    }
}
