use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use bentlane_api_types::Attention;
use bentlane_model::{Pattern, Snapshot, chain};
use bentlane_store::DataDir;
use bentlane_system::{Facts, System, SystemError, WANTED_FILE, Wanted};
use tokio::task::spawn_blocking;
use tokio_util::sync::CancellationToken;
use tracing::{info, warn};

use crate::listening::Listening;
use crate::ticker::Ticker;

/// How often the system's files are checked.
const CHECK_EVERY: Duration = Duration::from_secs(5);
/// The checks after which the helper of the unit should have repaired them.
const PATIENCE: usize = 2;

/// Writes down what the system's files should contain for our names, and checks whether what is
/// attached is up to date. It changes none of them: the unit's helper does, or the user with the
/// command that is shown.
#[derive(Debug)]
pub(crate) struct SystemFiles {
    data_dir: DataDir,
    listening: Arc<Listening>,
    snapshot: Arc<ArcSwap<Snapshot>>,
    attention: ArcSwap<Vec<Attention>>,
}

impl SystemFiles {
    pub(crate) fn new(
        data_dir: &DataDir,
        listening: Arc<Listening>,
        snapshot: Arc<ArcSwap<Snapshot>>,
    ) -> Self {
        Self {
            data_dir: data_dir.clone(),
            listening,
            snapshot,
            attention: ArcSwap::default(),
        }
    }

    /// What the user has to do, since the service cannot.
    pub(crate) fn attention(&self) -> Vec<Attention> {
        self.attention.load().to_vec()
    }

    /// Checks again and again, until the service stops.
    pub(crate) async fn run(self: Arc<Self>, shutdown: CancellationToken) {
        let mut ticker = Ticker::new(CHECK_EVERY, &shutdown);
        let (mut waited, mut written) = (0, None);
        while ticker.next().await {
            let this = Arc::clone(&self);
            let checking = spawn_blocking(move || (this.write_wanted(written), this.check()));
            let (revision, checked) = match checking.await {
                Ok(both) => both,
                Err(cause) => return warn!(%cause, "the system's files are no longer checked"),
            };
            written = revision;
            let attention = checked.unwrap_or_else(|cause| {
                vec![Attention {
                    text: format!(
                        "cannot check what is attached to the system: {}",
                        chain(&cause)
                    ),
                    command: Some("bentlane system show".to_owned()),
                }]
            });
            waited = if attention.is_empty() { 0 } else { waited + 1 };
            if attention.is_empty() || waited > PATIENCE {
                self.report(attention);
            }
        }
    }

    /// Shows it in `status`, and logs what is new.
    fn report(&self, attention: Vec<Attention>) {
        let before = self.attention.load();
        for new in attention.iter().filter(|it| !before.contains(it)) {
            warn!(command = new.command, "{}", new.text);
        }
        if attention.is_empty() && !before.is_empty() {
            info!("what is attached to the system is up to date again");
        }
        if **before != attention {
            self.attention.store(Arc::new(attention));
        }
    }

    /// Writes what the system's files should contain, unless it was written for the revision that is in
    /// force. Returns the revision for which the file is up to date.
    fn write_wanted(&self, written: Option<u64>) -> Option<u64> {
        let revision = self.snapshot.load().configuration().revision;
        if written == Some(revision) && self.data_dir.written_at(WANTED_FILE).is_some() {
            return written;
        }
        let Facts {
            dns, zones, names, ..
        } = self.facts();
        let text = serde_json::to_string(&Wanted { dns, zones, names }).ok()?;
        if matches!(self.data_dir.read(WANTED_FILE), Ok(Some(kept)) if kept == text) {
            return Some(revision);
        }
        match self.data_dir.write(WANTED_FILE, text.as_bytes()) {
            Ok(()) => Some(revision),
            // That the disk is full or read-only is said once.
            Err(cause) if cause.is_unwritable() => None,
            Err(cause) => {
                warn!(
                    cause = chain(&cause),
                    "cannot write what the system's files should contain"
                );
                None
            }
        }
    }

    /// What is attached to the system and out of date.
    fn check(&self) -> Result<Vec<Attention>, SystemError> {
        let system = System::default();
        let Some(approved) = system.approved()? else {
            return Ok(Vec::new());
        };
        if approved.data_dir != self.data_dir.root() {
            return Ok(Vec::new());
        }
        let facts = self.facts();
        let (limited, _) = facts.limited_to(&approved.zones);
        let mut attention = Vec::new();
        for part in system.out_of_date(&limited)? {
            let path = system.path(part);
            attention.push(Attention {
                text: format!("{} is not as it should be for our names", path.display()),
                command: Some("sudo bentlane system repair".to_owned()),
            });
        }
        let attached = !approved.zones.is_empty();
        let zones = facts.zones.iter();
        let new = zones.filter(|zone| attached && !limited.zones.contains(zone));
        attention.extend(new.map(|zone| Attention {
            text: format!("names in {zone} are not looked up here: the zone is not approved yet"),
            command: Some("sudo bentlane system attach".to_owned()),
        }));
        Ok(attention)
    }

    fn facts(&self) -> Facts {
        let snapshot = self.snapshot.load();
        let configuration = snapshot.configuration();
        let listening = self.listening.https_ips();
        let exact = |pattern: &Pattern| match pattern {
            Pattern::Exact(name) => {
                let addresses = snapshot.addresses_of(name.as_str(), &listening);
                Some((name.clone(), addresses))
            }
            Pattern::Wildcard(_) => None,
        };
        let (zones, routes) = (configuration.zones.iter(), configuration.routes.iter());
        Facts {
            // The unit keeps the program that it was attached with.
            program: PathBuf::new(),
            owner: self.data_dir.root().to_owned(),
            dns: self.listening.dns.clone(),
            zones: zones.map(|zone| zone.name.clone()).collect(),
            names: routes
                .filter_map(|route| exact(&route.address.pattern))
                .collect(),
        }
    }
}
