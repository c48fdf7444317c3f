use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bentlane_containers::Engine;
use bentlane_model::{Containers, Snapshot, Target, chain};
use tokio_util::sync::CancellationToken;
use tracing::{error, warn};

use crate::configuration::ActiveConfiguration;

/// How often the engine is asked although it has reported no change.
const ASK_EVERY: Duration = Duration::from_secs(10);
/// How long to wait before an engine that did not answer is asked again.
const RETRY_AFTER: Duration = Duration::from_secs(2);

/// Follows the containers that routes lead to, until the service stops. The engine, whose socket is
/// `socket` or else where it usually is, is asked only while a route leads to a container.
pub(crate) async fn follow(
    configuration: Arc<ActiveConfiguration>,
    socket: Option<PathBuf>,
    shutdown: CancellationToken,
) {
    let mut reported = None;
    loop {
        let wanted = names(&configuration.snapshot());
        let mut engine = None;
        if !wanted.is_empty() {
            let uid = rustix::process::geteuid().as_raw();
            let found = async {
                let engine = Engine::find(socket.as_deref(), uid)?;
                let containers = engine.containers(&wanted).await?;
                Ok::<_, bentlane_containers::EngineError>((engine, containers))
            };
            let containers = match found.await {
                Ok((found, containers)) => {
                    engine = Some(found);
                    reported = None;
                    Containers::Seen(containers)
                }
                Err(error) => {
                    let cause = chain(&error);
                    if reported.as_ref() != Some(&cause) {
                        warn!(
                            cause,
                            "cannot ask the container engine, so routes to containers lead nowhere"
                        );
                    }
                    reported = Some(cause.clone());
                    Containers::Unknown(cause)
                }
            };
            if let Err(cause) = configuration.set_containers(containers).await {
                error!(
                    cause = chain(&cause),
                    "cannot have routes lead to the containers that run now"
                );
            }
        }
        let changed = async {
            match &engine {
                Some(engine) => engine.changed(ASK_EVERY).await,
                None if wanted.is_empty() => std::future::pending().await,
                None => tokio::time::sleep(RETRY_AFTER).await,
            }
        };
        tokio::select! {
            () = shutdown.cancelled() => return,
            () = configuration.routes_changed() => {}
            () = changed => {}
        }
    }
}

/// The containers that routes lead to.
fn names(snapshot: &Snapshot) -> BTreeSet<String> {
    let routes = snapshot.configuration().routes.iter();
    routes
        .filter_map(|route| match route.server() {
            Target::Container(container) => Some(container.name.to_string()),
            _ => None,
        })
        .collect()
}
