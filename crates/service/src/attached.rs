use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bentlane_api_types::Attention;
use bentlane_model::{Pattern, chain};
use bentlane_system::{Facts, System, SystemError, WANTED_FILE, Wanted};
use tokio::task::spawn_blocking;
use tracing::{info, warn};

use crate::state::State;
use crate::turns::Turns;

/// How often the system's files are looked at.
const TURN: Duration = Duration::from_secs(5);
/// In how many turns the unit's helper should have repaired them.
const PATIENCE: usize = 2;

/// Says what the system should know of our names, and looks whether what is attached is up to date,
/// until the service stops. It changes nothing of that itself: the unit's helper does, or whoever
/// runs the command that this names.
pub(crate) async fn keep(state: Arc<State>) {
    let mut turns = Turns::new(TURN, &state.shutdown);
    let (mut waited, mut told) = (0, None);
    while turns.next().await {
        let looking = Arc::clone(&state);
        let looked = spawn_blocking(move || {
            let told = tell_system(&looking, told);
            (told, look(&looking))
        });
        let (now, looked) = match looked.await {
            Ok(both) => both,
            Err(cause) => return warn!(%cause, "no longer looking after the system's files"),
        };
        told = now;
        let attention = looked.unwrap_or_else(|cause| {
            vec![Attention {
                text: format!(
                    "what is attached to the system cannot be looked at: {}",
                    chain(&cause)
                ),
                command: Some("bentlane system show".to_owned()),
            }]
        });
        waited = if attention.is_empty() { 0 } else { waited + 1 };
        if attention.is_empty() || waited > PATIENCE {
            tell(&state, attention);
        }
    }
}

/// Has `status` show it, and says once what is new.
fn tell(state: &State, attention: Vec<Attention>) {
    let before = state.attention.load();
    for new in attention.iter().filter(|it| !before.contains(it)) {
        warn!(command = new.command, "{}", new.text);
    }
    if attention.is_empty() && !before.is_empty() {
        info!("what is attached to the system is up to date again");
    }
    if **before != attention {
        state.attention.store(Arc::new(attention));
    }
}

/// Writes what the system should know of our names, unless the file is that of the revision that it
/// was written for last; gives the revision that it is of now.
fn tell_system(state: &State, told: Option<u64>) -> Option<u64> {
    let revision = state.snapshot.load().configuration().revision;
    if told == Some(revision) && state.data_dir.written_at(WANTED_FILE).is_some() {
        return told;
    }
    let Facts {
        dns, zones, names, ..
    } = facts(state);
    let text = serde_json::to_string(&Wanted { dns, zones, names }).ok()?;
    if matches!(state.data_dir.read(WANTED_FILE), Ok(Some(kept)) if kept == text) {
        return Some(revision);
    }
    match state.data_dir.write(WANTED_FILE, text.as_bytes()) {
        Ok(()) => Some(revision),
        Err(cause) => {
            warn!(
                cause = chain(&cause),
                "what the system should know is not written"
            );
            None
        }
    }
}

/// What of the system does not fit to our names.
fn look(state: &State) -> Result<Vec<Attention>, SystemError> {
    let system = System::default();
    let Some(approved) = system.approved()? else {
        return Ok(Vec::new());
    };
    if approved.data_dir != state.data_dir.root() {
        return Ok(Vec::new());
    }
    let facts = facts(state);
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
    let new = facts
        .zones
        .iter()
        .filter(|zone| !limited.zones.contains(zone));
    for zone in new.filter(|_| attached) {
        attention.push(Attention {
            text: format!("names in {zone} are not looked up here: the zone is not approved yet"),
            command: Some("sudo bentlane system attach".to_owned()),
        });
    }
    Ok(attention)
}

fn facts(state: &State) -> Facts {
    let snapshot = state.snapshot.load();
    let routes = snapshot.configuration().routes.iter();
    let listening = state.listening.https_ips();
    let exact = |pattern: &Pattern| match pattern {
        Pattern::Exact(name) => {
            let addresses = snapshot.addresses_of(name.as_str(), &listening);
            Some((name.clone(), addresses))
        }
        Pattern::Wildcard(_) => None,
    };
    Facts {
        // The unit is left as whoever attached it made it.
        program: PathBuf::new(),
        owner: state.data_dir.root().to_owned(),
        dns: state.listening.dns.clone(),
        zones: snapshot
            .configuration()
            .zones
            .iter()
            .map(|zone| zone.name.clone())
            .collect(),
        names: routes
            .filter_map(|route| exact(&route.address.pattern))
            .collect(),
    }
}
