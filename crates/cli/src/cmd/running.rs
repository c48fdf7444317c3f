//! The dev servers that run on this machine.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bentlane_api_types::Status;
use bentlane_checks::Holder;
use bentlane_probe::{Spoken, listeners, reachable, spoken};
use tokio::task::JoinSet;

use crate::client::Client;
use crate::error::CliError;

/// A dev server that has not answered by then is left out.
const PATIENCE: Duration = Duration::from_secs(2);
/// Characters of a description that are shown.
const LONGEST: usize = 100;
/// Ports below this are the system's.
const FIRST_PORT: u16 = 1024;
/// Programs that serve others than browsers, and our own.
const NOT_APPS: [&str; 6] = [
    "postgres", "bentlane", "chromium", "chrome", "firefox", "sshd",
];

/// What answers HTTP on a port of this machine.
#[derive(Clone, Debug)]
pub(super) struct App {
    pub(super) port: u16,
    /// The title of its first page.
    pub(super) title: Option<String>,
    /// What it is, in words.
    pub(super) seen: String,
    pub(super) holder: Holder,
}

/// The dev servers that run, by their ports, but for those `taken`.
pub(super) async fn apps(
    client: Option<&Client>,
    taken: &BTreeSet<u16>,
) -> Result<Vec<App>, CliError> {
    let own = match client {
        Some(client) => Some(client.get::<Status>("/status").await?.pid),
        None => None,
    };
    let mut looking = JoinSet::new();
    for (port, (at, holder)) in candidates(listeners(), taken, own) {
        looking.spawn(async move { (port, spoken(at, PATIENCE).await, holder) });
    }
    let mut found = Vec::new();
    while let Some(looked) = looking.join_next().await {
        if let Ok((port, Spoken::Http(title), holder)) = looked {
            found.push(App {
                port,
                title,
                seen: plain(&holder.to_string()),
                holder,
            });
        }
    }
    found.sort_by_key(|app| app.port);
    Ok(found)
}

/// An untrusted text for a terminal: without control characters, and not too long.
pub(super) fn plain(text: &str) -> String {
    let shown = text.chars().filter(|c| !c.is_control());
    shown.take(LONGEST).collect::<String>().trim().to_owned()
}

/// The ports of loopback behind which an app can be, each with an address and its process.
fn candidates(
    listeners: impl IntoIterator<Item = (SocketAddr, Holder)>,
    taken: &BTreeSet<u16>,
    service: Option<u32>,
) -> BTreeMap<u16, (SocketAddr, Holder)> {
    let here = |ip: IpAddr| ip.is_loopback() || ip.is_unspecified();
    let is_app = |holder: &Holder| {
        Some(holder.pid) != service
            && holder.pid != std::process::id()
            && !NOT_APPS.iter().any(|name| holder.command.starts_with(name))
    };
    let all = listeners.into_iter();
    let all = all.filter(|(at, holder)| here(at.ip()) && at.port() >= FIRST_PORT && is_app(holder));
    all.map(|(at, holder)| (at.port(), (reachable(at), holder)))
        .filter(|(port, _)| !taken.contains(port))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn holder(pid: u32, command: &str) -> Holder {
        Holder {
            pid,
            command: command.to_owned(),
            line: String::new(),
            folder: None,
            started: None,
        }
    }

    #[test]
    fn a_description_cannot_move_the_cursor() {
        assert_eq!(plain("\x1b[2JHuts\r\n "), "[2JHuts");
        assert_eq!(plain(&"x".repeat(500)).len(), LONGEST);
    }

    #[test]
    fn only_apps_on_this_machine_are_suggested() {
        let at = |text: &str| text.parse().unwrap();
        let listeners = [
            (at("127.0.0.1:4310"), holder(10, "node")),
            (at("[::]:4311"), holder(11, "python3")),
            (at("192.0.2.1:4312"), holder(12, "node")),
            (at("127.0.0.1:80"), holder(13, "nginx")),
            (at("127.0.0.1:5432"), holder(14, "postgres")),
            (at("127.0.0.1:4313"), holder(15, "node")),
            (at("127.0.0.1:17070"), holder(16, "service")),
        ];
        let found = candidates(listeners, &BTreeSet::from([4313]), Some(16));
        assert_eq!(found.into_keys().collect::<Vec<_>>(), [4310, 4311]);
    }
}
