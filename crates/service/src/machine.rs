use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime};

use bentlane_core::check::{Machine, StoreSeen, StoreTrust};
use bentlane_core::{Hosts, Snapshot, chain};
use bentlane_probe::port_holder;
use bentlane_system::{
    Ours, Part, PartState, StoreKind, StoreReport, System, SystemError, Trusts,
    browsers_with_own_dns, trust_stores,
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

/// What was last seen of the machine.
#[derive(Debug, Default)]
pub(crate) struct Watch {
    seen: Mutex<Option<(Instant, Arc<Machine>)>>,
    stores: Mutex<Option<StoresSeen>>,
    /// One look at a time.
    looking: tokio::sync::Mutex<()>,
}

#[derive(Clone, Debug)]
struct StoresSeen {
    at: Instant,
    stamps: Vec<(PathBuf, Option<SystemTime>)>,
    root: String,
    stores: Vec<StoreSeen>,
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
            (machine.stores, machine.trust_attached) = (seen.stores, seen.attached);
        }
        machine
    }

    fn kept_stores(&self) -> MutexGuard<'_, Option<StoresSeen>> {
        self.stores.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What trust stores say, asked anew when one of them has changed.
    fn stores(&self, ours: &Ours, root: String, home: &Path) -> StoresSeen {
        let paths = trust_stores(home).into_iter().map(|store| store.path);
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
        let reports = ours.reports(home);
        let attached = reports.iter().any(|report| !report.ours.is_empty());
        let seen = StoresSeen {
            at: Instant::now(),
            stamps,
            root,
            stores: reports.iter().map(seen).collect(),
            attached,
        };
        *kept = Some(seen.clone());
        seen
    }
}

fn seen(report: &StoreReport) -> StoreSeen {
    let whose = match report.store.kind {
        StoreKind::System => "the system's store",
        StoreKind::Browser => "a browser's store",
        StoreKind::Java => "Java's store",
    };
    StoreSeen {
        store: format!("{whose} {}", report.store.path.display()),
        trust: match report.state {
            Trusts::Trusted => StoreTrust::Trusted,
            Trusts::Former => StoreTrust::Older,
            Trusts::NotTrusted { .. } => StoreTrust::Distrusted,
            Trusts::Unknown { .. } => StoreTrust::Unknown,
        },
        reach: report.reach.clone(),
    }
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
    let attached_to_us = system.owner()?.as_deref() == Some(data_dir);
    let attached = |part| {
        let state = system.state(part)?;
        Ok::<_, SystemError>(
            attached_to_us && matches!(state, PartState::Attached | PartState::Changed),
        )
    };
    machine.names_attached = attached(Part::Resolver)?;
    machine.in_hosts = attached(Part::Hosts)?;
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
