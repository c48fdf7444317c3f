use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};

use super::finding::Finding;
use super::fix::Fix;
use super::hop::Hop;
use super::kind::FindingKind;
use super::observation::Facts;
use super::verdict::{HopReport, HopState, Verdict};
use bentlane_model::Name;

/// What was observed of a name from inside a container's network.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FromContainer {
    /// The name.
    pub name: Name,
    /// Its addresses there.
    pub addresses: Vec<IpAddr>,
    /// Whether the container's hosts file has them.
    pub by_hosts: bool,
    /// The name servers of the container.
    pub nameservers: Vec<SocketAddr>,
    /// The addresses that do not accept, and why.
    pub refusals: Vec<String>,
    /// Where a connection was accepted.
    pub open: Option<SocketAddr>,
}

/// What that means for a route: the first two hops, as the container goes them. `shares` says whether
/// the container is on this machine's own network.
#[must_use]
pub fn diagnose_from(
    facts: &Facts,
    container: &str,
    shares: bool,
    seen: &FromContainer,
) -> Verdict {
    let name = &facts.name;
    let how = || {
        Fix::text(format!(
            "use this machine's network for the container (`--network host`), or give it the \
             address of this machine for the name (`--add-host {name}:ADDRESS`) and have the zone \
             answer with an address that is listened at"
        ))
    };
    let loops_back = !shares && seen.addresses.iter().all(IpAddr::is_loopback);
    let found: Vec<String> = seen.addresses.iter().map(ToString::to_string).collect();
    let found = found.join(", ");
    let finding = if seen.addresses.is_empty() {
        let servers = seen.nameservers.iter();
        Some(Finding::of(
            FindingKind::ContainerAsksElsewhere,
            format!("the container {container} does not find {name}"),
            servers.map(|at| format!("it asks {at}")).collect(),
            how(),
        ))
    } else if loops_back {
        Some(Finding::of(
            FindingKind::ContainerLoopback,
            format!("{name} leads to {found}, which is {container} itself inside that container"),
            vec![match seen.by_hosts {
                true => "its hosts file says so".to_owned(),
                false => "its name server says so".to_owned(),
            }],
            how(),
        ))
    } else if seen.open.is_none() {
        Some(Finding::of(
            FindingKind::ContainerCutOff,
            format!("the container {container} finds {name} at {found}, where nothing accepts"),
            seen.refusals.clone(),
            how(),
        ))
    } else {
        None
    };
    let broken = finding.as_ref().map(|finding| finding.hop);
    let report = |hop, detail: String| HopReport {
        hop,
        state: match broken {
            Some(at) if at == hop => HopState::Broken,
            Some(at) if at < hop => HopState::NotReached,
            _ => HopState::Passed,
        },
        detail,
        evidence: Vec::new(),
        micros: None,
    };
    let open = seen.open.map(|at| at.to_string()).unwrap_or_default();
    Verdict {
        address: facts.address(),
        name: name.clone(),
        url: facts.url.clone(),
        to: facts.route.to.to_string(),
        passed: finding.is_none(),
        flapping: false,
        title: None,
        since: None,
        hops: vec![report(Hop::Resolve, found), report(Hop::Handshake, open)],
        findings: finding.into_iter().collect(),
        checked_at: facts.now,
    }
}
