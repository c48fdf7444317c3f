use std::io::ErrorKind;
use std::net::SocketAddr;
use std::time::Duration;

use bentlane_checks::{Answer, AppStatus, Attempt, Connect, Refusal};
use bentlane_model::{AppPlace, ContainerPlace, Replica, Target};
use tokio::net::{TcpStream, lookup_host};
use tokio::task::JoinSet;
use tokio::time::timeout;

/// Connects to every address of `target` at once, and closes the connections.
pub(crate) async fn connect(
    target: &Target,
    place: Option<ContainerPlace>,
    app: Option<(AppPlace, AppStatus)>,
    limit: Duration,
) -> Connect {
    if target.scheme().is_none() {
        return Connect::NotNeeded;
    }
    let addresses = match target.addresses() {
        Ok(addresses) => match (place, app) {
            (None, None) => addresses,
            (Some(ContainerPlace::At(addresses)), _) => addresses,
            (Some(ContainerPlace::Replicas(replicas)), _) => {
                replicas.into_iter().flat_map(|it| it.at).collect()
            }
            (Some(place), _) => return Connect::Container(place),
            (None, Some((AppPlace::At(addresses), _))) => addresses,
            (None, Some((AppPlace::NotReady, status))) => return Connect::App(Box::new(status)),
        },
        Err((host, port)) => match timeout(limit, lookup_host((host, port))).await {
            Ok(Ok(found)) => found.collect(),
            Ok(Err(error)) => {
                return Connect::UnknownHost {
                    reason: error.to_string(),
                };
            }
            Err(_) => {
                return Connect::UnknownHost {
                    reason: "the look-up takes too long".into(),
                };
            }
        },
    };
    let mut tries: JoinSet<_> = addresses
        .iter()
        .map(|address| attempt(*address, limit))
        .collect();
    let mut failed = Vec::new();
    while let Some(outcome) = tries.join_next().await {
        match outcome {
            Ok(Ok(open)) => return Connect::Open(open),
            Ok(Err(attempt)) => failed.push(attempt),
            // Only a panic in `attempt` or an abort ends it otherwise, and it does neither.
            Err(_) => {}
        }
    }
    failed.sort_by_key(|attempt| attempt.address);
    let elsewhere = match target.other_family() {
        Some(address) => attempt(address, limit).await.ok(),
        None => None,
    };
    Connect::Closed {
        attempts: failed,
        elsewhere,
    }
}

/// The replicas that accept no connection.
pub(crate) async fn replicas_down(
    replicas: &[Replica],
    limit: Duration,
) -> Vec<(String, Vec<Attempt>)> {
    let one = |replica: &Replica| {
        let Replica { name, at } = replica.clone();
        async move {
            let mut failed = Vec::new();
            for address in at {
                match attempt(address, limit).await {
                    Ok(_) => return None,
                    Err(attempt) => failed.push(attempt),
                }
            }
            Some((name, failed))
        }
    };
    let mut all: JoinSet<_> = replicas.iter().map(one).collect();
    let mut down = Vec::new();
    while let Some(tried) = all.join_next().await {
        // As above, none ends otherwise.
        down.extend(tried.ok().flatten());
    }
    down.sort_by(|(a, _), (b, _)| a.cmp(b));
    down
}

/// Whether our listener for raw TCP accepts.
pub(crate) async fn accepts(listener: SocketAddr, limit: Duration) -> Answer {
    match attempt(listener, limit).await {
        Ok(_) => Answer::Accepted,
        Err(attempt) => Answer::Failed(format!("our listener does not accept: {attempt}")),
    }
}

pub(crate) async fn attempt(address: SocketAddr, limit: Duration) -> Result<SocketAddr, Attempt> {
    let refusal = match timeout(limit, TcpStream::connect(address)).await {
        Ok(Ok(_)) => return Ok(address),
        Ok(Err(error)) if error.kind() == ErrorKind::ConnectionRefused => Refusal::Refused,
        Ok(Err(error)) => Refusal::Other(error.to_string()),
        Err(_) => Refusal::Silent,
    };
    Err(Attempt { address, refusal })
}
