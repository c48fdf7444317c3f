use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use bentlane_api_types::{Status, Zones};
use bentlane_checks::{Hosts, HostsEntry, MachineVerdict};
use bentlane_model::{Name, Snapshot};
use bentlane_probe::port_holder;
use bentlane_system::{Part, PartState, StoreReport, System as Machine};
use serde::Serialize;

use super::super::{machine, trust};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// Addresses at which a resolver of this machine would stand in our way, or before us.
const PORT_53: [&str; 4] = ["127.0.0.1:53", "[::1]:53", "127.0.0.53:53", "0.0.0.0:53"];

/// What `show` shows.
#[derive(Debug, Serialize)]
struct Report {
    /// What programs do with our names.
    machine: MachineVerdict,
    /// What is attached.
    parts: Vec<PartReport>,
    /// Entries of the hosts file for names in our zones.
    shadowing: Vec<ShadowedName>,
    others_on_port_53: Vec<Other>,
    /// Each store by itself.
    stores: Vec<StoreReport>,
    /// Browsers that have run since before a store came to trust our root.
    to_restart: Vec<String>,
}

#[derive(Debug, Serialize)]
struct PartReport {
    part: Part,
    path: PathBuf,
    #[serde(flatten)]
    state: PartState,
}

#[derive(Debug, Serialize)]
struct ShadowedName {
    path: PathBuf,
    line: usize,
    address: IpAddr,
    name: String,
}

#[derive(Debug, Serialize)]
struct Other {
    address: SocketAddr,
    process: String,
}

pub(super) async fn show(
    client: &Client,
    machine: &Machine,
    output: &Output,
) -> Result<Answer, CliError> {
    let report = report(client, machine).await?;
    output.data(&report, |report| describe(output, report))?;
    Ok(if report.machine.passed {
        Answer::Yes
    } else {
        Answer::No
    })
}

async fn report(client: &Client, machine: &Machine) -> Result<Report, CliError> {
    let status: Status = client.get("/status").await?;
    let zones: Zones = client.get("/zones").await?;
    let (verdict, stores) = machine::look_at_stores(client).await?;
    let parts = Part::ALL.map(|part| {
        Ok::<_, CliError>(PartReport {
            part,
            path: machine.path(part),
            state: machine.state(part)?,
        })
    });
    let path = machine.path(Part::Hosts);
    let text = machine.text(&path)?;
    let names: Vec<Name> = zones
        .zones
        .iter()
        .filter_map(|z| z.name.parse().ok())
        .collect();
    let shadow = |entry: HostsEntry| ShadowedName {
        path: path.clone(),
        line: entry.line,
        address: entry.address,
        name: entry.name.to_string(),
    };
    let others = PORT_53.iter().filter_map(|at| {
        let address: SocketAddr = at.parse().ok()?;
        let holder = port_holder(address)?;
        (holder.pid != status.pid).then(|| Other {
            address,
            process: holder.to_string(),
        })
    });
    Ok(Report {
        machine: verdict,
        parts: parts.into_iter().collect::<Result<_, _>>()?,
        shadowing: Hosts(&text)
            .shadowing(&Snapshot::of_zones(names))
            .into_iter()
            .map(shadow)
            .collect(),
        others_on_port_53: others.collect(),
        to_restart: trust::unaware(&stores),
        stores,
    })
}

fn describe(output: &Output, report: &Report) -> String {
    let broken = output.paint(Style::Broken, "✕");
    let arrow = output.paint(Style::Fix, "→");
    let mut lines = vec![machine::describe(output, &report.machine)];
    if !report.to_restart.is_empty() {
        let names = report.to_restart.join(" and ");
        lines.push(format!(
            "{arrow} start {names} again: it was started before it could trust the root"
        ));
    }
    lines.push(String::new());
    lines.push(output.paint(Style::Strong, "Attached parts"));
    for part in &report.parts {
        let state = match part.state {
            PartState::Detached => {
                let unit = Part::UNITS.contains(&part.part);
                let words = if unit {
                    "not installed"
                } else {
                    "not attached"
                };
                output.paint(Style::Muted, words)
            }
            PartState::Attached => "attached".to_owned(),
            PartState::Changed => output.paint(Style::Broken, "changed by another program since"),
            PartState::CutShort => output.paint(Style::Broken, "attaching was cut short"),
        };
        let label = format!("{:<9}", part.part.as_str());
        let label = output.paint(Style::Muted, &label);
        lines.push(format!("  {label} {}  {state}", part.path.display()));
    }
    let changed =
        |part: &PartReport| matches!(part.state, PartState::Changed | PartState::CutShort);
    if report.parts.iter().any(changed) {
        lines.push(format!("{arrow} sudo bentlane system attach"));
    }
    for shadow in &report.shadowing {
        let ShadowedName {
            path,
            line,
            address,
            name,
        } = shadow;
        let path = path.display();
        lines.push(format!(
            "{broken} {path}:{line} gives {name} the address {address}, before us"
        ));
        lines.push(format!(
            "  {arrow} remove {name} from line {line} of {path}"
        ));
    }
    for other in &report.others_on_port_53 {
        let Other { address, process } = other;
        lines.push(format!("  {address} is held by {process}"));
    }
    lines.join("\n")
}
