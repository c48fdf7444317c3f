//! Looking at this machine as its programs do.

use std::net::{IpAddr, ToSocketAddrs};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use bentlane_checks::{
    Action, ClientSeen, ClientTrustSeen, Fix, Lookups, MachineSeen, NameFound, NameToReach, Part,
    ToReach,
};

use crate::plan::System;
use crate::stores::StoreKind;
use crate::trust::{ClientTrust, OwnRoot, TrustState};

/// For how long a lookup may take: browsers have given up by then, or their users have.
const PATIENCE: Duration = Duration::from_secs(4);

impl System {
    /// What this machine does with our names: its own lookups, and what `clients` says of the programs
    /// of a user. That is asked while the lookups are under way; they take some seconds where nothing
    /// answers.
    #[must_use]
    pub fn look(
        &self,
        to_reach: &ToReach,
        ours: &OwnRoot,
        clients: impl FnOnce() -> Vec<ClientTrust>,
    ) -> MachineSeen {
        let resolved = self
            .resolv_conf()
            .is_ok_and(|conf| conf.leads_to_resolved());
        let on_port_53 = to_reach.dns.iter().any(|at| at.port() == 53);
        let looking: Vec<_> = to_reach
            .zones
            .iter()
            .map(|zone| {
                let names = zone.names.iter().cloned();
                (
                    zone.zone.clone(),
                    names.map(begin_lookup).collect::<Vec<_>>(),
                )
            })
            .collect();
        let clients = clients();
        let zones = looking.into_iter();
        let zones =
            zones.map(|(zone, names)| (zone, names.into_iter().map(Looking::end).collect()));
        MachineSeen {
            zones: zones.collect(),
            clients: clients.into_iter().map(|it| seen(it, ours)).collect(),
            https: to_reach.https.clone(),
            lookups: if on_port_53 || resolved {
                Lookups::Resolver
            } else {
                Lookups::HostsAlone
            },
            port_443: None,
        }
    }
}

/// A lookup under way.
struct Looking {
    name: NameToReach,
    answer: mpsc::Receiver<Result<Vec<IpAddr>, String>>,
}

/// Asks the system for a name. A thread that waits for a dead name server is left behind.
fn begin_lookup(name: NameToReach) -> Looking {
    let (tell, answer) = mpsc::channel();
    let asked = name.name.to_string();
    thread::spawn(move || {
        let found = (asked.as_str(), 443).to_socket_addrs();
        let found = found.map(|all| all.map(|at| at.ip()).collect::<Vec<_>>());
        // The receiver is gone when it took too long.
        let _ = tell.send(found.map_err(|error| in_short(&error.to_string())));
    });
    Looking { name, answer }
}

impl Looking {
    fn end(self) -> NameFound {
        let found = self.answer.recv_timeout(PATIENCE);
        let found = found.unwrap_or_else(|_| Err("no answer".to_owned()));
        let found = found.map(|mut all| {
            all.sort_unstable();
            all.dedup();
            all
        });
        NameFound {
            name: self.name,
            found,
        }
    }
}

/// What the system says comes last, behind what was tried.
fn in_short(error: &str) -> String {
    error.rsplit(": ").next().unwrap_or_default().to_lowercase()
}

fn seen(client: ClientTrust, ours: &OwnRoot) -> ClientSeen {
    let place = client.store.display();
    let by = match (client.kind, client.untested) {
        (StoreKind::Policy, _) => format!("policy {place}"),
        (StoreKind::Browser, false) => format!("database {place}"),
        (StoreKind::Browser, true) => format!("database {place}, not tried by us"),
        (StoreKind::System | StoreKind::Java, _) => place.to_string(),
    };
    let fix = match &client.state {
        _ if !ours.is_ours() => {
            Fix::text("the root was not made by Bent Lane: its maker knows how it is trusted")
        }
        _ if !ours.is_constrained() => Fix::action(
            "the root can vouch for any name, so it is not put into trust stores; make one that \
             vouches for your zones alone, then attach",
            Action::RotateAuthority,
        ),
        TrustState::Unknown { .. } if client.kind == StoreKind::Browser => Fix::command(
            "install the tool that works on the database",
            "sudo apt install libnss3-tools",
        ),
        _ => Fix::attach("add the root to the trust stores", Part::Trust),
    };
    ClientSeen {
        client: match client.version {
            Some(version) => format!("{} {version}", client.client),
            None => client.client,
        },
        trust: match client.state {
            TrustState::Trusted => ClientTrustSeen::Trusted,
            TrustState::Former => ClientTrustSeen::Former,
            TrustState::NotTrusted { .. } => ClientTrustSeen::Refused,
            TrustState::Unknown { reason } => ClientTrustSeen::Unknown(reason),
        },
        by,
        reach: client.reach,
        fix,
    }
}
