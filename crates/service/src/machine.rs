use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use bentlane_checks::{
    Hosts, Machine, MachineVerdict, NameToReach, PROBE_LABEL, StoreSeen, StoreTrust, ToReach,
    ZoneNames, judge_machine,
};
use bentlane_model::{Answers, Name, Pattern, Snapshot, Zone, chain};
use bentlane_probe::{other_on_443, port_holder};
use bentlane_system::{
    ClientTrust, Ours, Part, StoreKind, System, SystemError, Trusts, browsers_with_own_dns,
    installed_browsers, trust_stores,
};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tracing::{error, warn};

use crate::api::authority::ours;
use crate::state::{LAST_GOOD, State};

/// For how long what was seen of the machine holds for checks in the background.
const HOLDS: Duration = Duration::from_secs(5);
/// For how long what trust stores say holds, as long as their files stay as they are: to ask them
/// costs much.
const STORES_HOLD: Duration = Duration::from_secs(600);
/// How long after its start the service asks them by itself.
const STORES_FROM: Duration = Duration::from_secs(60);
/// How much later than now something may have happened before the clock is off.
const TOLERATED: Duration = Duration::from_secs(300);

/// Names of a zone that are looked up at most.
const MOST_NAMES: usize = 16;

/// What was last seen of the machine.
#[derive(Debug, Default)]
pub(crate) struct Watch {
    seen: Mutex<Option<(Instant, Arc<Machine>)>>,
    stores: Mutex<Option<StoresSeen>>,
    reached: Mutex<Option<(Instant, MachineVerdict)>>,
    /// One look of this kind at a time: names that nobody answers take seconds, and checks do not
    /// wait for that.
    reaching: tokio::sync::Mutex<()>,
    /// One look at a time.
    looking: tokio::sync::Mutex<()>,
}

#[derive(Clone, Debug)]
struct StoresSeen {
    at: Instant,
    stamps: Vec<(PathBuf, Option<SystemTime>)>,
    root: String,
    clients: Vec<ClientTrust>,
    attached: bool,
}

impl Watch {
    /// What holds for the machine: as it was seen seconds ago, or `fresh`. A `deep` look asks the
    /// trust stores; another tells what they said before, if anything.
    pub(crate) async fn look(&self, state: &Arc<State>, fresh: bool, deep: bool) -> Arc<Machine> {
        let asked = Instant::now();
        let kept = |holds: &dyn Fn(&Instant) -> bool| {
            let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
            let (at, machine) = seen.as_ref()?;
            holds(at).then(|| Arc::clone(machine))
        };
        if let Some(machine) = kept(&|at| !fresh && at.elapsed() < HOLDS) {
            return machine;
        }
        let _one = self.looking.lock().await;
        // Somebody else has looked meanwhile.
        if let Some(machine) = kept(&|at| *at > asked && !deep) {
            return machine;
        }
        let doing = Arc::clone(state);
        let machine = spawn_blocking(move || doing.watch.see(&doing, deep)).await;
        let machine = machine.inspect_err(|cause| error!(%cause, "the machine was not looked at"));
        let machine = Arc::new(machine.unwrap_or_default());
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        *seen = Some((Instant::now(), Arc::clone(&machine)));
        machine
    }

    fn see(&self, state: &State, deep: bool) -> Machine {
        let home = PathBuf::from(std::env::var_os("HOME").unwrap_or_default());
        let snapshot = state.snapshot.load_full();
        let mut machine = Machine {
            ours: state.listening.dns.clone(),
            browsers: browsers_with_own_dns(&home),
            clock_off: clock_off(state),
            ..Machine::default()
        };
        if let Err(cause) = see_names(&mut machine, state.data_dir.root(), &snapshot) {
            warn!(
                cause = chain(&cause),
                "a check cannot see how the system is set up"
            );
        }
        let settled = OffsetDateTime::now_utc() > state.started_at + STORES_FROM;
        let known = self.kept_stores().is_some();
        if let Some(ours) = ours(state).filter(|_| deep || settled || known) {
            let root = state.trust.root().certificate_pem().to_owned();
            let seen = self.stores(&ours, root, &home);
            machine.stores = seen.clients.iter().map(store_seen).collect();
            machine.trust_attached = seen.attached;
        }
        machine
    }

    fn kept_stores(&self) -> MutexGuard<'_, Option<StoresSeen>> {
        self.stores.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What trust stores say, asked anew when one of them has changed.
    fn stores(&self, ours: &Ours, root: String, home: &Path) -> StoresSeen {
        let homes = [home.to_owned()];
        let stores = trust_stores(&homes, &installed_browsers());
        let paths = stores.into_iter().map(|store| store.path);
        let stamp = |path: &Path| {
            // A database's own file tells, not its folder.
            let file = path.join("cert9.db");
            let file = if file.is_file() {
                file
            } else {
                path.to_owned()
            };
            std::fs::metadata(file).and_then(|it| it.modified()).ok()
        };
        let stamps: Vec<_> = paths.map(|path| (path.clone(), stamp(&path))).collect();
        let mut kept = self.kept_stores();
        if let Some(kept) = kept.as_ref().filter(|kept| {
            kept.stamps == stamps && kept.root == root && kept.at.elapsed() < STORES_HOLD
        }) {
            return kept.clone();
        }
        let clients = ours.clients(home);
        let attached = clients.iter().any(|client| {
            let holds = matches!(client.state, Trusts::Trusted | Trusts::Former);
            holds && ours.is_ours()
        });
        let seen = StoresSeen {
            at: Instant::now(),
            stamps,
            root,
            clients,
            attached,
        };
        *kept = Some(seen.clone());
        seen
    }
}

fn store_seen(client: &ClientTrust) -> StoreSeen {
    let whose = match client.kind {
        StoreKind::System => "the system's store".to_owned(),
        StoreKind::Browser if client.browser.is_none() => "a browser's database".to_owned(),
        StoreKind::Browser | StoreKind::Policy => format!("{}'s store", client.client),
        StoreKind::Java => "Java's store".to_owned(),
    };
    StoreSeen {
        store: format!("{whose} {}", client.store.display()),
        trust: match client.state {
            Trusts::Trusted => StoreTrust::Trusted,
            Trusts::Former => StoreTrust::Older,
            Trusts::NotTrusted { .. } => StoreTrust::Distrusted,
            Trusts::Unknown { .. } => StoreTrust::Unknown,
        },
        reach: client.reach.clone(),
    }
}

/// What this machine has to reach: names that tell whether those of each zone are found.
pub(crate) fn to_reach(state: &State) -> ToReach {
    let snapshot = state.snapshot.load();
    let system = System::default();
    let in_hosts = system.is_attached(Part::Hosts, state.data_dir.root());
    let in_hosts = in_hosts.unwrap_or(false);
    let listening = state.listening.https_ips();
    let of_zone = |zone: &Zone| ZoneNames {
        zone: zone.name.clone(),
        names: names_of(&snapshot, zone, in_hosts, &listening),
    };
    ToReach {
        zones: snapshot.configuration().zones.iter().map(of_zone).collect(),
        https: state.listening.https.clone(),
        dns: state.listening.dns.clone(),
    }
}

/// Where the hosts file has the exact names, each counts; else one name stands for the zone.
fn names_of(
    snapshot: &Snapshot,
    zone: &Zone,
    in_hosts: bool,
    listening: &[std::net::IpAddr],
) -> Vec<NameToReach> {
    let to_reach = |name: Name, stands_for: Name| NameToReach {
        addresses: snapshot.addresses_of(name.as_str(), listening),
        name,
        stands_for,
    };
    let probe = || {
        let probe = format!("{PROBE_LABEL}.{}", zone.name).parse().ok();
        let probe = probe.filter(|_| zone.settings.answers == Answers::EveryName);
        probe.map(|probe| to_reach(probe, zone.name.clone()))
    };
    // With many routes it costs to go through them.
    if !in_hosts && let Some(probe) = probe() {
        return vec![probe];
    }
    let is_here = |name: &Name| {
        snapshot
            .zone_of(name.as_str())
            .is_some_and(|it| it.name == zone.name)
    };
    let routes = snapshot.configuration().routes.iter();
    let routed = routes.filter_map(|route| {
        let name = snapshot.sample_name(route)?;
        let stands_for = match &route.address.pattern {
            Pattern::Exact(name) => name.clone(),
            Pattern::Wildcard(parent) => parent.clone(),
        };
        is_here(&name).then_some((name, stands_for))
    });
    let mut routed: Vec<(Name, Name)> = routed.collect();
    routed.sort();
    routed.dedup_by(|one, other| one.1 == other.1);
    if in_hosts && !routed.is_empty() {
        routed.truncate(MOST_NAMES);
        return routed
            .into_iter()
            .map(|(name, it)| to_reach(name, it))
            .collect();
    }
    let first = || {
        let (name, _) = routed.into_iter().next()?;
        Some(to_reach(name, zone.name.clone()))
    };
    probe().or_else(first).into_iter().collect()
}

/// What this machine does with our names, as it was seen seconds ago.
pub(crate) async fn reached(state: &Arc<State>) -> Option<MachineVerdict> {
    let kept = || {
        let kept = state.watch.reached.lock();
        let kept = kept.unwrap_or_else(PoisonError::into_inner);
        let (at, verdict) = kept.as_ref()?;
        (at.elapsed() < HOLDS).then(|| verdict.clone())
    };
    if let Some(verdict) = kept() {
        return Some(verdict);
    }
    let _one = state.watch.reaching.lock().await;
    if let Some(verdict) = kept() {
        return Some(verdict);
    }
    let doing = Arc::clone(state);
    let looked = spawn_blocking(move || {
        let home = PathBuf::from(std::env::var_os("HOME").unwrap_or_default());
        let ours = ours(&doing)?;
        let root = doing.trust.root().certificate_pem().to_owned();
        let clients = || doing.watch.stores(&ours, root, &home).clients;
        let mut seen = System::default().look(&to_reach(&doing), &ours, clients);
        seen.port_443 = other_on_443(&seen.https).map(|holder| holder.to_string());
        Some(judge_machine(&seen, OffsetDateTime::now_utc()))
    });
    let looked = looked.await;
    let looked = looked.inspect_err(|cause| error!(%cause, "the machine was not looked at"));
    let verdict = looked.ok().flatten()?;
    let kept = state.watch.reached.lock();
    *kept.unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), verdict.clone()));
    Some(verdict)
}

/// Whom the system asks for names, and what its hosts file says.
fn see_names(
    machine: &mut Machine,
    data_dir: &Path,
    snapshot: &Snapshot,
) -> Result<(), SystemError> {
    let system = System::default();
    let conf = system.resolv_conf()?;
    let at = |ip: &std::net::IpAddr| SocketAddr::new(*ip, 53);
    machine.nameservers = conf.nameservers.iter().map(at).collect();
    machine.names_attached = system.is_attached(Part::Resolver, data_dir)?;
    machine.in_hosts = system.is_attached(Part::Hosts, data_dir)?;
    let ours = |server: &SocketAddr| machine.ours.contains(server);
    let by_resolved = machine.names_attached && conf.leads_to_resolved();
    machine.hosts = Hosts(&system.text(&system.path(Part::Hosts))?).shadowing(snapshot);
    let mut held = machine.nameservers.iter().filter(|server| {
        machine.names_attached && server.ip().is_loopback() && !ours(server) && !by_resolved
    });
    machine.dns_holder = held.find_map(|server| {
        let holder = port_holder(*server)?;
        (holder.pid != std::process::id()).then_some((*server, holder))
    });
    machine.asks_us =
        by_resolved || machine.nameservers.iter().any(ours) || machine.dns_holder.is_some();
    Ok(())
}

/// Whether something that has happened lies in the future.
fn clock_off(state: &State) -> Option<String> {
    let now = OffsetDateTime::now_utc();
    let root = state.trust.root();
    let made = root.summary().not_before;
    if now < made {
        return Some(format!(
            "it says {now}, and our own root was made at {made}"
        ));
    }
    let last = state.data_dir.written_at(LAST_GOOD)?;
    (now + TOLERATED < last)
        .then(|| format!("it says {now}, and the configuration was last written at {last}"))
}
