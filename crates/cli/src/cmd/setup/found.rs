//! What runs on this machine already, and the names that it could have.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::path::Path;

use bentlane_api_types::Routes;
use bentlane_checks::{Holder, Hosts};
use bentlane_containers::Engine;
use bentlane_model::{Name, free_name, label_from, suggested_zone};
use bentlane_probe::port_holder;
use bentlane_system::{System as Machine, read_file};
use serde::Serialize;

use super::super::running;
use crate::account::Account;
use crate::client::Client;
use crate::error::CliError;

/// Bytes of a package file.
const LARGEST: u64 = 256 * 1024;

/// A route for something that runs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub(super) struct Proposal {
    pub(super) address: String,
    pub(super) target: String,
    /// The title of its first page.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(super) title: Option<String>,
    /// What it is.
    pub(super) seen: String,
}

/// Routes for the dev servers and containers that run and have none.
pub(super) async fn proposals(
    client: Option<&Client>,
    zone: &Name,
) -> Result<Vec<Proposal>, CliError> {
    let mut taken = BTreeSet::new();
    let mut targets = BTreeSet::new();
    if let Some(client) = client {
        let Routes { routes, .. } = client.get("/routes").await?;
        targets.extend(routes.iter().map(|route| route.to.clone()));
        taken.extend(routes.into_iter().map(|route| route.name));
    }
    let port = |to: &String| to.rsplit(':').next()?.parse::<u16>().ok();
    let ports: BTreeSet<u16> = targets.iter().filter_map(port).collect();
    let mut address = |label: &str| {
        let name = free_name(label, zone.as_str(), |name| taken.contains(name));
        taken.insert(name.clone());
        name
    };
    let mut proposals = Vec::new();
    for app in running::apps(client, &ports).await? {
        proposals.push(Proposal {
            address: address(&label_of(&app.holder)),
            target: app.port.to_string(),
            title: app.title,
            seen: app.seen,
        });
    }
    for container in containers().await {
        let target = format!("container:{container}");
        let known = |it: &String| *it == target || it.starts_with(&format!("{target}:"));
        if targets.iter().any(known) {
            continue;
        }
        proposals.push(Proposal {
            address: address(&label_from(&container)),
            seen: "a container that runs and publishes a port".to_owned(),
            title: None,
            target,
        });
    }
    Ok(proposals)
}

/// The containers of the user's engine that run and publish one port; none where no engine answers.
async fn containers() -> Vec<String> {
    let uid = Account::behind_sudo().map_or_else(nix::unistd::getuid, |account| account.uid);
    let Ok(engine) = Engine::find(None, uid.as_raw()) else {
        return Vec::new();
    };
    let all = engine.containers().await.unwrap_or_default().into_iter();
    let publishing = all.filter(|container| container.running && container.published.len() == 1);
    publishing.map(|container| container.name).collect()
}

/// A label for what a process is: the name in its package file, or of its folder.
fn label_of(holder: &Holder) -> String {
    let folder = holder.folder.as_deref().map(Path::new);
    let package = folder.and_then(|folder| {
        let bytes = read_file(&folder.join("package.json"), LARGEST).ok()?;
        let package: serde_json::Value = serde_json::from_slice(&bytes).ok()?;
        Some(package.get("name")?.as_str()?.to_owned())
    });
    let of_folder = || Some(folder?.file_name()?.to_str()?.to_owned());
    let text = package
        .or_else(of_folder)
        .unwrap_or_else(|| holder.command.clone());
    // The part behind the owner of a package.
    label_from(text.rsplit('/').next().unwrap_or_default())
}

/// The suffix that names in the hosts file use already, or one of the user's own under `.test`.
pub(super) fn usual_zone() -> Name {
    let machine = Machine::default();
    let hosts = machine
        .text(&machine.path(bentlane_system::Part::Hosts))
        .unwrap_or_default();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for entry in Hosts(&hosts).entries() {
        let name = entry.name.as_str();
        let is_app =
            entry.address.is_loopback() && name.contains('.') && !name.contains("localhost");
        if is_app && is_private(name) {
            *counts
                .entry(suggested_zone(&entry.name).to_owned())
                .or_default() += 1;
        }
    }
    let most = counts.into_iter().max_by_key(|(_, count)| *count);
    let most = most.and_then(|(zone, _)| zone.parse().ok());
    let user = Account::behind_sudo().map(|account| account.name);
    let user = user
        .or_else(|| std::env::var("USER").ok())
        .unwrap_or_default();
    let of_user = || format!("{}.test", user.to_lowercase()).parse().ok();
    most.or_else(of_user)
        .filter(|zone: &Name| zone.as_str() != "root.test")
        .unwrap_or_else(here)
}

fn is_private(name: &str) -> bool {
    [".test", ".internal", ".home.arpa"]
        .iter()
        .any(|suffix| name.ends_with(suffix))
}

#[allow(clippy::expect_used, reason = "a constant")]
fn here() -> Name {
    "here.test".parse().expect("a name")
}

/// Who has the ports that the service wants, where that is another program.
pub(super) fn holders_of_standard_ports() -> Vec<String> {
    let holder = |port: u16| {
        let holder = port_holder(SocketAddr::from(([127, 0, 0, 1], port)))?;
        (holder.command != "bentlane").then(|| format!("port {port} is held by {holder}"))
    };
    [53, 80, 443].into_iter().filter_map(holder).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn holder(pid: u32, command: &str, folder: Option<&str>) -> Holder {
        Holder {
            pid,
            command: command.to_owned(),
            line: String::new(),
            folder: folder.map(str::to_owned),
            started: None,
        }
    }

    #[rstest]
    #[case("node", Some("/home/rowan/Booking App"), "booking-app")]
    #[case("node", Some("/"), "node")]
    #[case("---", None, "app")]
    fn apps_are_named_by_their_folders(
        #[case] command: &str,
        #[case] folder: Option<&str>,
        #[case] label: &str,
    ) {
        assert_eq!(label_of(&holder(1, command, folder)), label);
    }

    #[test]
    fn a_package_names_its_app() {
        let folder = tempfile::tempdir().unwrap();
        let text = r#"{"name": "@highmoor/huts"}"#;
        std::fs::write(folder.path().join("package.json"), text).unwrap();
        let path = folder.path().to_str();
        assert_eq!(label_of(&holder(1, "node", path)), "huts");
    }
}
