use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use bentlane_api_types::{PortProtocol, PortView, Ports};
use clap::Args;
use serde_json::json;
use tokio::time::sleep;

use super::super::running::plain;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, table};

/// How often what listens is looked at.
const EVERY: Duration = Duration::from_secs(1);

/// `bentlane port list`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane port list
  bentlane port list --follow                               and what opens and closes
  bentlane port list --format json | jq '.ports[] | select(.protocol == \"http\").port'")]
pub(crate) struct List {
    /// Go on, with a line for each port that opens or closes, until interrupted
    #[arg(long)]
    follow: bool,
}

impl List {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let mut seen: Ports = client.get("/ports").await?;
        if !self.follow || !output.is_json() {
            output.data(&seen, |ports| {
                let heading = [
                    "PORT", "AT", "PROTOCOL", "PROCESS", "USER", "FOLDER", "ROUTES",
                ];
                table(heading, ports.ports.iter().map(row).collect())
            })?;
        }
        if !self.follow {
            return Ok(Answer::Yes);
        }
        loop {
            sleep(EVERY).await;
            let now: Ports = client.get("/ports").await?;
            for (change, port) in changes(&seen, &now) {
                output.line(&match output.is_json() {
                    true => json!({ "change": change.as_str(), "port": port }).to_string(),
                    false => told(change, port),
                })?;
            }
            seen = now;
        }
    }
}

/// What happened to a port.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Change {
    Opened,
    Closed,
}

impl Change {
    fn as_str(self) -> &'static str {
        match self {
            Self::Opened => "opened",
            Self::Closed => "closed",
        }
    }
}

fn told(change: Change, port: &PortView) -> String {
    let [number, at, protocol, process, _, folder, routes] = row(port);
    let parts = [
        change.as_str(),
        &number,
        &at,
        &protocol,
        &process,
        &folder,
        &routes,
    ];
    let parts = parts.into_iter().filter(|part| !part.is_empty());
    parts.collect::<Vec<_>>().join("  ")
}

/// The ports that opened or closed, by process.
fn changes<'a>(before: &'a Ports, now: &'a Ports) -> Vec<(Change, &'a PortView)> {
    fn by_process(ports: &Ports) -> HashMap<(u16, Option<u32>), &PortView> {
        let key = |port: &PortView| (port.port, port.process.as_ref().map(|it| it.pid));
        ports.ports.iter().map(|port| (key(port), port)).collect()
    }
    let (old, new) = (by_process(before), by_process(now));
    let gone = old.iter().filter(|(key, _)| !new.contains_key(key));
    let come = new.iter().filter(|(key, _)| !old.contains_key(key));
    let gone = gone.map(|(_, port)| (Change::Closed, *port));
    let come = come.map(|(_, port)| (Change::Opened, *port));
    let mut all: Vec<_> = gone.chain(come).collect();
    all.sort_by_key(|(_, port)| port.port);
    all
}

fn row(port: &PortView) -> [String; 7] {
    let protocol = port.protocol.map(PortProtocol::as_str).unwrap_or_default();
    let protocol = match &port.title {
        Some(title) => format!("{protocol} \"{title}\""),
        None => protocol.to_owned(),
    };
    let process = match (&port.container, &port.process) {
        (Some(container), _) => format!("container {}", plain(container)),
        (None, Some(process)) => format!("{} ({})", plain(&process.command), process.pid),
        (None, None) => String::new(),
    };
    let folder = port.process.as_ref().and_then(|it| it.folder.as_deref());
    let routes = match port.own {
        true => "Bent Lane".to_owned(),
        false => {
            let app = port.app.as_ref().map(|app| format!("app {app}"));
            let all = app.into_iter().chain(port.routes.clone());
            all.collect::<Vec<_>>().join(", ")
        }
    };
    [
        port.port.to_string(),
        at(&port.addresses),
        protocol,
        process,
        port.user.clone(),
        folder.map(plain).unwrap_or_default(),
        routes,
    ]
}

/// The addresses, in short: `all` is every address of this machine.
fn at(addresses: &[IpAddr]) -> String {
    let of = |ip: &IpAddr| match ip {
        ip if ip.is_unspecified() && ip.is_ipv4() => "all IPv4".to_owned(),
        ip if ip.is_unspecified() => "all".to_owned(),
        ip => ip.to_string(),
    };
    match addresses {
        [first, .., last] if addresses.len() > 3 => format!("{first} … {last}"),
        all => all.iter().map(of).collect::<Vec<_>>().join(", "),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn port(number: u16, user: &str) -> PortView {
        PortView {
            port: number,
            addresses: vec![IpAddr::from([127, 0, 0, 1])],
            user: user.to_owned(),
            process: None,
            protocol: None,
            title: None,
            container: None,
            app: None,
            routes: Vec::new(),
            own: false,
        }
    }

    #[test]
    fn what_opened_and_closed_is_told_in_the_order_of_ports() {
        let ports = |numbers: &[u16]| Ports {
            ports: numbers
                .iter()
                .map(|number| port(*number, "rowan"))
                .collect(),
        };
        let (before, now) = (ports(&[80, 4310, 4311]), ports(&[80, 4309, 4311, 4312]));
        let told = changes(&before, &now);
        let told: Vec<_> = told
            .iter()
            .map(|(change, port)| (*change, port.port))
            .collect();
        let wanted = [
            (Change::Opened, 4309),
            (Change::Closed, 4310),
            (Change::Opened, 4312),
        ];
        assert_eq!(told, wanted);
    }

    #[test]
    fn addresses_are_short() {
        let ips = |texts: &[&str]| {
            texts
                .iter()
                .map(|it| it.parse().unwrap())
                .collect::<Vec<_>>()
        };
        assert_eq!(at(&ips(&["127.0.0.1", "::1"])), "127.0.0.1, ::1");
        assert_eq!(at(&ips(&["0.0.0.0"])), "all IPv4");
        assert_eq!(
            at(&ips(&["127.0.0.1", "127.0.0.2", "127.0.0.3", "127.0.0.4"])),
            "127.0.0.1 … 127.0.0.4"
        );
    }
}
