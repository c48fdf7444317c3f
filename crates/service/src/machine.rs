use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use arc_swap::ArcSwap;
use bentlane_checks::{
    Hosts, Machine, MachineVerdict, NameToReach, PROBE_LABEL, StoreSeen, StoreTrust, ToReach,
    ZoneNames, judge_machine,
};
use bentlane_model::{Answers, Name, Pattern, Snapshot, Zone, chain};
use bentlane_probe::{other_on_443, port_holder};
use bentlane_store::DataDir;
use bentlane_system::{
    ClientTrust, OwnRoot, Part, StoreKind, System, SystemError, TrustState, browsers_forcing_https,
    browsers_with_own_dns, installed_browsers, trust_stores,
};
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tracing::{error, warn};

use crate::last_known_good;
use crate::listening::Listening;
use crate::pki::Pki;

/// How long an observation is used again by checks in the background.
const VALID_FOR: Duration = Duration::from_secs(5);
/// How long what trust stores contain is used again while their files do not change: reading them is
/// expensive.
const STORES_VALID_FOR: Duration = Duration::from_secs(600);
/// How long after its start the service reads them for checks in the background.
const STORES_FROM: Duration = Duration::from_secs(60);
/// How far in the future a recorded time may be before the clock counts as wrong.
const CLOCK_TOLERANCE: Duration = Duration::from_secs(300);

/// The most names of a zone that are looked up.
const MOST_NAMES: usize = 16;

/// Observes how this machine looks up names and what its trust stores contain.
#[derive(Debug)]
pub(crate) struct MachineObserver {
    data_dir: DataDir,
    listening: Arc<Listening>,
    snapshot: Arc<ArcSwap<Snapshot>>,
    pki: Arc<Pki>,
    started_at: OffsetDateTime,
    observed: Mutex<Option<(Instant, Arc<Machine>)>>,
    stores: Mutex<Option<StoreContents>>,
    verdict: Mutex<Option<(Instant, MachineVerdict)>>,
    /// One judgement at a time. It has its own lock, since names without an answer take seconds, and
    /// checks do not wait for that.
    judging: tokio::sync::Mutex<()>,
    /// One observation at a time.
    observing: tokio::sync::Mutex<()>,
}

#[derive(Clone, Debug)]
struct StoreContents {
    at: Instant,
    stamps: Vec<(PathBuf, Option<SystemTime>)>,
    root: String,
    clients: Vec<ClientTrust>,
    attached: bool,
}

impl MachineObserver {
    pub(crate) fn new(
        data_dir: &DataDir,
        listening: Arc<Listening>,
        snapshot: Arc<ArcSwap<Snapshot>>,
        pki: Arc<Pki>,
        started_at: OffsetDateTime,
    ) -> Self {
        Self {
            data_dir: data_dir.clone(),
            listening,
            snapshot,
            pki,
            started_at,
            observed: Mutex::default(),
            stores: Mutex::default(),
            verdict: Mutex::default(),
            judging: tokio::sync::Mutex::default(),
            observing: tokio::sync::Mutex::default(),
        }
    }

    /// The machine as it was seconds ago, or, when `fresh`, as it is now. A `deep` observation reads the
    /// trust stores; another repeats what they contained before, if that is known.
    pub(crate) async fn observe(self: &Arc<Self>, fresh: bool, deep: bool) -> Arc<Machine> {
        let asked = Instant::now();
        let kept = |holds: &dyn Fn(&Instant) -> bool| {
            let seen = self.observed.lock().unwrap_or_else(PoisonError::into_inner);
            let (at, machine) = seen.as_ref()?;
            holds(at).then(|| Arc::clone(machine))
        };
        if let Some(machine) = kept(&|at| !fresh && at.elapsed() < VALID_FOR) {
            return machine;
        }
        let _one = self.observing.lock().await;
        // Another caller has observed it meanwhile.
        if let Some(machine) = kept(&|at| *at > asked && !deep) {
            return machine;
        }
        let this = Arc::clone(self);
        let machine = spawn_blocking(move || this.observe_now(deep)).await;
        let machine = machine.inspect_err(|cause| error!(%cause, "cannot observe the machine"));
        let machine = Arc::new(machine.unwrap_or_default());
        let mut seen = self.observed.lock().unwrap_or_else(PoisonError::into_inner);
        *seen = Some((Instant::now(), Arc::clone(&machine)));
        machine
    }

    fn observe_now(&self, deep: bool) -> Machine {
        let home = PathBuf::from(std::env::var_os("HOME").unwrap_or_default());
        let snapshot = self.snapshot.load_full();
        let mut machine = Machine {
            ours: self.listening.dns.clone(),
            browsers: browsers_with_own_dns(&home),
            forced_https: browsers_forcing_https(&home),
            clock_off: self.clock_off(),
            clock_set: self.pki.clock.was_set(),
            ..Machine::default()
        };
        if let Err(cause) = observe_names(&mut machine, self.data_dir.root(), &snapshot) {
            warn!(
                cause = chain(&cause),
                "cannot read how this machine looks up names"
            );
        }
        let settled = OffsetDateTime::now_utc() > self.started_at + STORES_FROM;
        let known = self.kept_stores().is_some();
        if let Some(ours) = self.pki.ours().filter(|_| deep || settled || known) {
            let seen = self.stores(&ours, &home);
            machine.stores = seen.clients.iter().map(store_seen).collect();
            machine.trust_attached = seen.attached;
        }
        machine
    }

    fn kept_stores(&self) -> MutexGuard<'_, Option<StoreContents>> {
        self.stores.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What trust stores contain, read again when one of them has changed.
    fn stores(&self, ours: &OwnRoot, home: &Path) -> StoreContents {
        let root = self.pki.authority.root().certificate_pem().to_owned();
        let homes = [home.to_owned()];
        let stores = trust_stores(&homes, &installed_browsers());
        let paths = stores.into_iter().map(|store| store.path);
        let stamp = |path: &Path| {
            // The time of a database's folder does not change with it.
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
            kept.stamps == stamps && kept.root == root && kept.at.elapsed() < STORES_VALID_FOR
        }) {
            return kept.clone();
        }
        let clients = ours.clients(home);
        let attached = clients.iter().any(|client| {
            let holds = matches!(client.state, TrustState::Trusted | TrustState::Former);
            holds && ours.is_ours()
        });
        let seen = StoreContents {
            at: Instant::now(),
            stamps,
            root,
            clients,
            attached,
        };
        *kept = Some(seen.clone());
        seen
    }

    /// The names that show a client whether its machine resolves those of each zone.
    pub(crate) fn names_to_reach(&self) -> ToReach {
        let snapshot = self.snapshot.load();
        let in_hosts = System::default().is_attached(Part::Hosts, self.data_dir.root());
        let in_hosts = in_hosts.unwrap_or(false);
        let listening = self.listening.https_ips();
        let of_zone = |zone: &Zone| ZoneNames {
            zone: zone.name.clone(),
            names: names_of(&snapshot, zone, in_hosts, &listening),
        };
        ToReach {
            zones: snapshot.configuration().zones.iter().map(of_zone).collect(),
            https: self.listening.https.clone(),
            dns: self.listening.dns.clone(),
        }
    }

    /// Whether programs on this machine reach our names, as it was seconds ago. `None` when that
    /// cannot be observed.
    pub(crate) async fn verdict(self: &Arc<Self>) -> Option<MachineVerdict> {
        let kept = || {
            let kept = self.verdict.lock();
            let kept = kept.unwrap_or_else(PoisonError::into_inner);
            let (at, verdict) = kept.as_ref()?;
            (at.elapsed() < VALID_FOR).then(|| verdict.clone())
        };
        if let Some(verdict) = kept() {
            return Some(verdict);
        }
        let _one = self.judging.lock().await;
        if let Some(verdict) = kept() {
            return Some(verdict);
        }
        let this = Arc::clone(self);
        let judged = spawn_blocking(move || this.judge());
        let judged = judged.await;
        let judged = judged.inspect_err(|cause| error!(%cause, "cannot observe the machine"));
        let verdict = judged.ok().flatten()?;
        let kept = self.verdict.lock();
        *kept.unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), verdict.clone()));
        Some(verdict)
    }

    fn judge(&self) -> Option<MachineVerdict> {
        let home = PathBuf::from(std::env::var_os("HOME").unwrap_or_default());
        let ours = self.pki.ours()?;
        let clients = || self.stores(&ours, &home).clients;
        let mut seen = System::default().look(&self.names_to_reach(), &ours, clients);
        seen.port_443 = other_on_443(&seen.https).map(|holder| holder.to_string());
        Some(judge_machine(&seen, OffsetDateTime::now_utc()))
    }

    /// Why the clock must be wrong: something recorded lies in the future.
    fn clock_off(&self) -> Option<String> {
        let now = OffsetDateTime::now_utc();
        let made = self.pki.authority.root().summary().not_before;
        if now < made {
            return Some(format!(
                "it says {now}, and our own root was made at {made}"
            ));
        }
        let last = last_known_good::written_at(&self.data_dir)?;
        (now + CLOCK_TOLERANCE < last)
            .then(|| format!("it says {now}, and the configuration was last written at {last}"))
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
            TrustState::Trusted => StoreTrust::Trusted,
            TrustState::Former => StoreTrust::Older,
            TrustState::NotTrusted { .. } => StoreTrust::Distrusted,
            TrustState::Unknown { .. } => StoreTrust::Unknown,
        },
        reach: client.reach.clone(),
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

/// Observes which name servers the system asks, and what its hosts file contains.
fn observe_names(
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
