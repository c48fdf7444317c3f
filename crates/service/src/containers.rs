//! Containers and the routes that lead to them: those that a person added, and those of labels.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bentlane_ca::CertificatePart;
use bentlane_containers::Engines;
use bentlane_model::{ContainerPlace, ContainerTarget, Containers, Snapshot, chain};
use tokio::net::TcpStream;
use tokio::task::spawn_blocking;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;
use tracing::{error, warn};

use crate::configuration::ActiveConfiguration;
use crate::exports::{Export, Exports, InContainer};

/// How long a request waits for a container: to be started, and for its health check to pass.
const LONGEST_START: Duration = Duration::from_secs(120);
/// How often it is tried whether one that was started accepts connections.
const TRY_EVERY: Duration = Duration::from_millis(50);

/// Keeps routes pointed at the present containers until the service stops.
pub(crate) async fn follow(
    engines: Engines,
    configuration: Arc<ActiveConfiguration>,
    exports: Arc<Exports>,
    shutdown: CancellationToken,
) {
    let mut containers = engines.containers();
    let mut reported = BTreeSet::new();
    let publishing = async {
        loop {
            let now = containers.borrow_and_update().clone();
            report(&mut reported, &now);
            publish(&configuration, now).await;
            let (exports, snapshot) = (Arc::clone(&exports), configuration.snapshot());
            let exporting = spawn_blocking(move || export(&exports, &snapshot));
            if let Err(cause) = exporting.await {
                error!(%cause, "cannot export the certificates that labels ask for");
            }
            // The sender lives as long as the engines.
            if containers.changed().await.is_err() {
                return;
            }
        }
    };
    tokio::select! {
        () = shutdown.cancelled() => {}
        () = engines.follow() => {}
        () = publishing => {}
    }
}

/// Logs, once, each engine that does not answer although there are containers of it.
fn report(reported: &mut BTreeSet<String>, now: &Containers) {
    reported.retain(|socket| now.silent.iter().any(|it| it.socket == *socket));
    for silent in &now.silent {
        let has_containers = now.seen.iter().any(|seen| seen.engine == silent.socket);
        if has_containers && reported.insert(silent.socket.clone()) {
            warn!(
                engine = silent.socket,
                cause = silent.reason,
                "a container engine does not answer; routes lead to where its containers were"
            );
        }
    }
}

async fn publish(configuration: &Arc<ActiveConfiguration>, containers: Arc<Containers>) {
    if let Err(cause) = configuration.set_containers(containers).await {
        error!(
            cause = chain(&cause),
            "cannot have routes lead to the containers that run now"
        );
    }
}

/// Keeps the certificates in containers that their labels ask for: of the names that their labels
/// have, in the folder that these say.
fn export(exports: &Exports, snapshot: &Snapshot) {
    let labels = snapshot.labels();
    let mut wanted: Vec<(PathBuf, Export)> = Vec::new();
    for (container, folder) in &labels.certificates {
        let seen = snapshot.containers().seen.iter();
        let Some(seen) = seen.into_iter().find(|seen| seen.name == *container) else {
            continue;
        };
        let own = labels
            .routes
            .iter()
            .filter(|(_, owner)| *owner == seen.route_name());
        let mut names: Vec<String> = own
            .map(|(route, _)| route.address.pattern.to_string())
            .collect();
        names.dedup();
        if names.is_empty() {
            continue;
        }
        let into = InContainer {
            container: container.clone(),
            folder: folder.clone(),
            has_them: None,
        };
        match exports.folder_for(&into) {
            Ok(at) => wanted.push((
                at,
                Export {
                    names,
                    parts: CertificatePart::usual(),
                    then: None,
                    into: Some(into),
                    of_label: true,
                    trouble: None,
                },
            )),
            Err(cause) => error!(
                cause = chain(&cause),
                "cannot keep certificates for a container"
            ),
        }
    }
    if let Err(cause) = exports.set_of_labels(wanted) {
        error!(
            cause = chain(&cause),
            "cannot keep certificates for containers"
        );
    }
}

/// Waits until the containers that `target` names can be connected to; where `start` says so, the
/// first of them is started before. Gives why that could not be done.
pub(crate) async fn ready(
    engines: &Engines,
    configuration: &Arc<ActiveConfiguration>,
    target: &ContainerTarget,
    start: bool,
) -> Option<String> {
    let mut containers = engines.containers();
    if start {
        let known = containers.borrow().clone();
        let named: Vec<String> = known
            .named(target)
            .iter()
            .map(|it| it.name.clone())
            .collect();
        let Some(name) = named.into_iter().next() else {
            return Some(format!("there is no container {}", target.name));
        };
        let started = async {
            let (engine, _) = engines.find(&name).await?;
            engine.start(&name).await
        };
        if let Err(error) = started.await {
            return Some(chain(&error));
        }
    }
    let waiting = async {
        loop {
            let now = containers.borrow_and_update().clone();
            match now.place(target) {
                ContainerPlace::Stopped if start => {}
                ContainerPlace::Starting => {}
                ContainerPlace::At(addresses) => {
                    publish(configuration, now).await;
                    // One that was just started listens a moment later.
                    while start && !accepts(&addresses).await {
                        sleep(TRY_EVERY).await;
                    }
                    return None;
                }
                _ => {
                    publish(configuration, now).await;
                    return None;
                }
            }
            if containers.changed().await.is_err() {
                return Some("the service stops".to_owned());
            }
        }
    };
    match timeout(LONGEST_START, waiting).await {
        Ok(outcome) => outcome,
        Err(_) => Some(format!(
            "it was not ready within {} s",
            LONGEST_START.as_secs()
        )),
    }
}

async fn accepts(addresses: &[std::net::SocketAddr]) -> bool {
    for address in addresses {
        if TcpStream::connect(address).await.is_ok() {
            return true;
        }
    }
    false
}
