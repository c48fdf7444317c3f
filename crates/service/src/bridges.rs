//! Networks of containers that a person has opened: names are answered and requests served there,
//! for the containers on them alone.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, UdpSocket};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bentlane_containers::{Engines, NetworkSeen};
use bentlane_model::{Bridge, chain};
use bentlane_resolver::{AnswerSource, Sockets};
use bentlane_store::{DataDir, DataDirError};
use bentlane_supervisor::Supervisor;
use tokio::sync::Notify;
use tokio::time::sleep;
use tokio_util::sync::{CancellationToken, DropGuard};
use tracing::{error, info};

use crate::configuration::ActiveConfiguration;

/// The list of networks that are open, in the data folder.
const FILE: &str = "open-networks.json";
/// The port of DNS: a container's own settings name no other.
const DNS: u16 = 53;
/// How often it is looked whether the networks are as they were.
const LOOK_AGAIN: Duration = Duration::from_secs(2);

/// The networks that are open.
#[derive(Debug)]
pub(crate) struct Bridges {
    data_dir: DataDir,
    open: Mutex<BTreeSet<String>>,
    /// Why names are not answered on a network.
    faults: Mutex<BTreeMap<String, String>>,
    changed: Notify,
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Bridges {
    /// Those that were open when the service last ran.
    pub(crate) fn load(data_dir: &DataDir) -> Result<Self, DataDirError> {
        let kept = data_dir.read(FILE)?.unwrap_or_default();
        let open = match serde_json::from_str(&kept) {
            Ok(open) => open,
            Err(cause) => {
                if !kept.is_empty() {
                    error!(%cause, file = FILE, "cannot read which networks are open; none is");
                }
                BTreeSet::new()
            }
        };
        Ok(Self {
            data_dir: data_dir.clone(),
            open: Mutex::new(open),
            faults: Mutex::default(),
            changed: Notify::new(),
        })
    }

    /// Opens or closes a network; gives whether that made a difference.
    pub(crate) fn set(&self, network: &str, is_open: bool) -> Result<bool, DataDirError> {
        let mut open = lock(&self.open);
        let mut next = open.clone();
        let differs = match is_open {
            true => next.insert(network.to_owned()),
            false => next.remove(network),
        };
        if differs {
            let text = serde_json::to_string_pretty(&next).expect("names are text");
            self.data_dir.write(FILE, text.as_bytes())?;
            *open = next;
            self.changed.notify_one();
        }
        Ok(differs)
    }

    /// Whether a network is open.
    pub(crate) fn is_open(&self, network: &str) -> bool {
        lock(&self.open).contains(network)
    }

    /// Why names are not answered on a network that is open.
    pub(crate) fn fault(&self, network: &str) -> Option<String> {
        lock(&self.faults).get(network).cloned()
    }
}

/// The bridge that a network is, if this machine is its gateway.
pub(crate) fn bridge_of(network: &NetworkSeen) -> Option<Bridge> {
    let bridge = Bridge::new(
        &network.name,
        network.gateway.as_deref()?,
        network.subnet.as_deref()?,
    )?;
    // Only an address of this machine can be bound.
    UdpSocket::bind((bridge.gateway, 0)).ok()?;
    Some(bridge)
}

/// Serves the networks that are open, as far as they are there, until the service stops.
pub(crate) async fn follow(
    bridges: Arc<Bridges>,
    engines: Engines,
    configuration: Arc<ActiveConfiguration>,
    resolver: AnswerSource,
    supervisor: Supervisor,
    shutdown: CancellationToken,
) {
    let mut answering: BTreeMap<Ipv4Addr, DropGuard> = BTreeMap::new();
    loop {
        let open = lock(&bridges.open).clone();
        let mut found = Vec::new();
        if !open.is_empty() {
            let networks = engines.networks().await.into_iter();
            let networks = networks.filter(|network| open.contains(&network.name));
            found.extend(networks.filter_map(|network| bridge_of(&network)));
        }
        let gateways: BTreeSet<Ipv4Addr> = found.iter().map(|it| it.gateway).collect();
        answering.retain(|gateway, _| gateways.contains(gateway));
        lock(&bridges.faults).retain(|network, _| open.contains(network));
        if let Err(cause) = configuration.set_bridges(found.clone()).await {
            error!(
                cause = chain(&cause),
                "cannot serve the networks that are open"
            );
        }
        for bridge in found {
            if answering.contains_key(&bridge.gateway) {
                continue;
            }
            let end = shutdown.child_token();
            match answer(bridge.gateway, &resolver, &supervisor, &end) {
                Ok(()) => {
                    info!(network = bridge.network, gateway = %bridge.gateway, "the network is open");
                    answering.insert(bridge.gateway, end.drop_guard());
                    lock(&bridges.faults).remove(&bridge.network);
                }
                Err(reason) => drop(lock(&bridges.faults).insert(bridge.network, reason)),
            }
        }
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = bridges.changed.notified() => {}
            () = sleep(LOOK_AGAIN), if !open.is_empty() => {}
        }
    }
}

/// Answers names on the gateway of a bridge until `end`; or says why that cannot be.
fn answer(
    gateway: Ipv4Addr,
    resolver: &AnswerSource,
    supervisor: &Supervisor,
    end: &CancellationToken,
) -> Result<(), String> {
    let at = SocketAddr::new(IpAddr::V4(gateway), DNS);
    let sockets = Sockets::bind(&[at], |_| None).map_err(|error| match error.source.kind() {
        std::io::ErrorKind::AddrInUse => format!(
            "another DNS server has port {DNS} of {gateway}, as a rule that of the engine: containers find \
             names by extra hosts, which `bentlane container show NAME --for-compose` prints"
        ),
        std::io::ErrorKind::PermissionDenied => format!(
            "this service may not bind port {DNS} of {gateway}: start it with `sudo bentlane serve`"
        ),
        _ => chain(&error),
    })?;
    sockets
        .serve_until(resolver, supervisor, end)
        .map(drop)
        .map_err(|error| error.to_string())
}
