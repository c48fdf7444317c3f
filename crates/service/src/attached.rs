use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bentlane_core::{Pattern, chain};
use bentlane_system::{Facts, Part, PartState, System, SystemError};
use tokio::task::spawn_blocking;
use tracing::{info, warn};

use crate::state::State;
use crate::turns::Turns;

/// How often the system's files are looked at.
const TURN: Duration = Duration::from_secs(5);

/// Keeps what is attached attached, until the service stops: when a network manager has rewritten
/// the name servers they are made ours again, with its file as the one to put back, and the block
/// in the hosts file follows the routes. What is not attached, or to another service, is left alone.
pub(crate) async fn keep(state: Arc<State>) {
    let mut turns = Turns::new(TURN, &state.shutdown);
    let mut told = None;
    while turns.next().await {
        let facts = facts(&state);
        let mended = match spawn_blocking(move || mend(&System::default(), &facts)).await {
            Ok(mended) => mended,
            Err(cause) => return warn!(%cause, "no longer looking after the system's files"),
        };
        match mended {
            Ok(parts) => {
                told = None;
                for part in parts {
                    info!(part = part.as_str(), "brought the system's file up to date");
                }
            }
            Err(error) => {
                let cause = chain(&error);
                // Said once, not every few seconds.
                if told.as_ref() != Some(&cause) {
                    warn!(cause, "what is attached to the system is out of date");
                }
                told = Some(cause);
            }
        }
    }
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

/// Brings up to date what is attached and is not; gives which parts that were.
fn mend(system: &System, facts: &Facts) -> Result<Vec<Part>, SystemError> {
    let mut mended = Vec::new();
    if system.owner()?.as_ref() != Some(&facts.owner) {
        return Ok(mended);
    }
    for part in [Part::Resolver, Part::Hosts] {
        // The block follows the routes, and settings for systemd's resolver the zones.
        let attached = system.state(part)?;
        if matches!(attached, PartState::Attached | PartState::Changed) {
            let plan = system.plan_attach(&[part], facts)?;
            if !plan.steps.is_empty() {
                system.carry_out(&plan)?;
                mended.push(part);
            }
        }
    }
    Ok(mended)
}
