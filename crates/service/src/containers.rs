use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use bentlane_containers::Engine;
use bentlane_model::{Containers, Snapshot, Target, chain};
use tracing::{error, warn};

use crate::state::State;

/// How often the engine is asked even though it has told of no change.
const LOOK_AGAIN: Duration = Duration::from_secs(10);
/// How long to wait for an engine that does not answer.
const TRY_AGAIN: Duration = Duration::from_secs(2);

/// Keeps what is known of the containers that routes lead to up to date, until the service stops.
/// An engine is asked only while a route leads to a container.
pub(crate) async fn keep(state: Arc<State>) {
    let mut told = None;
    loop {
        let wanted = names(&state.snapshot.load());
        let mut engine = None;
        if !wanted.is_empty() {
            let uid = rustix::process::geteuid().as_raw();
            let found = async {
                let engine = Engine::find(state.engine.as_deref(), uid)?;
                let containers = engine.containers(&wanted).await?;
                Ok::<_, bentlane_containers::EngineError>((engine, containers))
            };
            let containers = match found.await {
                Ok((found, containers)) => {
                    engine = Some(found);
                    told = None;
                    Containers::Seen(containers)
                }
                Err(error) => {
                    let cause = chain(&error);
                    if told.as_ref() != Some(&cause) {
                        warn!(cause, "routes to containers lead nowhere");
                    }
                    told = Some(cause.clone());
                    Containers::Unknown(cause)
                }
            };
            if let Err(cause) = state.containers_are(containers).await {
                error!(cause = chain(&cause), "routes lead to containers as before");
            }
        }
        let changed = async {
            match &engine {
                Some(engine) => engine.changed(LOOK_AGAIN).await,
                None if wanted.is_empty() => std::future::pending().await,
                None => tokio::time::sleep(TRY_AGAIN).await,
            }
        };
        tokio::select! {
            () = state.shutdown.cancelled() => return,
            () = state.containers_wanted.notified() => {}
            () = changed => {}
        }
    }
}

/// The containers that routes lead to.
fn names(snapshot: &Snapshot) -> BTreeSet<String> {
    let routes = snapshot.configuration().routes.iter();
    routes
        .filter_map(|route| match &route.to {
            Target::Container(container) => Some(container.name.to_string()),
            _ => None,
        })
        .collect()
}
