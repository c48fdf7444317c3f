//! The dev servers that run on this machine.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bentlane_api_types::Status;
use bentlane_checks::{Holder, Page};
use bentlane_probe::listeners;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::timeout;

use crate::client::Client;
use crate::error::CliError;

/// A dev server that has not answered by then is left out.
const PATIENCE: Duration = Duration::from_secs(2);
/// Bytes of a first page.
const LARGEST: u64 = 256 * 1024;
/// Characters of a title, or of a description, that are shown.
const LONGEST_TITLE: usize = 100;
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
    for (port, holder) in candidates(listeners(), taken, own) {
        looking.spawn(async move { (port, title(port).await, holder) });
    }
    let mut found = Vec::new();
    while let Some(looked) = looking.join_next().await {
        if let Ok((port, Some(title), holder)) = looked {
            found.push(App {
                port,
                title: Some(plain(&title)).filter(|title| !title.is_empty()),
                seen: plain(&holder.to_string()),
                holder,
            });
        }
    }
    found.sort_by_key(|app| app.port);
    Ok(found)
}

/// An untrusted text for a terminal: without control characters, and not too long.
fn plain(text: &str) -> String {
    let shown = text.chars().filter(|c| !c.is_control());
    shown
        .take(LONGEST_TITLE)
        .collect::<String>()
        .trim()
        .to_owned()
}

/// The ports of loopback behind which an app can be, each with its process.
fn candidates(
    listeners: impl IntoIterator<Item = (SocketAddr, Holder)>,
    taken: &BTreeSet<u16>,
    service: Option<u32>,
) -> BTreeMap<u16, Holder> {
    let here = |ip: IpAddr| ip.is_loopback() || ip.is_unspecified();
    let is_app = |holder: &Holder| {
        Some(holder.pid) != service
            && holder.pid != std::process::id()
            && !NOT_APPS.iter().any(|name| holder.command.starts_with(name))
    };
    let all = listeners.into_iter();
    let all = all.filter(|(at, holder)| here(at.ip()) && at.port() >= FIRST_PORT && is_app(holder));
    all.map(|(at, holder)| (at.port(), holder))
        .filter(|(port, _)| !taken.contains(port))
        .collect()
}

/// The title of the first page on a port; empty without one, `None` when it does not speak HTTP.
async fn title(port: u16) -> Option<String> {
    let asking = async {
        let mut stream = match TcpStream::connect(("127.0.0.1", port)).await {
            Ok(stream) => stream,
            Err(_) => TcpStream::connect(("::1", port)).await.ok()?,
        };
        let request = format!(
            "GET / HTTP/1.1\r\nHost: localhost:{port}\r\nAccept: text/html\r\nConnection: close\r\n\r\n"
        );
        stream.write_all(request.as_bytes()).await.ok()?;
        let mut answer = Vec::new();
        // What came until the end, or the error, is enough for a title.
        let _ = stream.take(LARGEST).read_to_end(&mut answer).await;
        Some(answer)
    };
    let answer = timeout(PATIENCE, asking).await.ok()??;
    let answer = String::from_utf8_lossy(&answer);
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    if !head.starts_with("HTTP/1.") {
        return None;
    }
    let page = Page {
        fields: vec![("content-type".to_owned(), "text/html".to_owned())],
        body: body.to_owned(),
        ..Page::default()
    };
    Some(page.markup().title.unwrap_or_default())
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
    fn a_title_cannot_move_the_cursor() {
        assert_eq!(plain("\x1b[2JHuts\r\n "), "[2JHuts");
        assert_eq!(plain(&"x".repeat(500)).len(), LONGEST_TITLE);
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
