mod compose;

use std::collections::BTreeMap;
use std::time::Duration;

use bentlane_api_types::{ContainerList, ContainerView, EngineView, NetworkView, Networks};
use bentlane_model::ContainerSeen;
use clap::{Args, Subcommand};

use super::finding_in_words;
use super::running::plain;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, Style, busy, table};

/// Characters of the column of labels.
const LABEL_WIDTH: usize = 12;
/// How long the service takes to listen on a network that was opened.
const OPENS_WITHIN: Duration = Duration::from_millis(300);

/// `bentlane container`
#[derive(Debug, Subcommand)]
pub(crate) enum Container {
    /// List the containers of all engines, and the routes to them
    List(List),
    /// Show one container: how it is, its ports, its routes
    Show(Show),
    /// Start a container
    Start(Named),
    /// Stop a container
    Stop(Named),
    /// Let the containers on a network find and open the names of routes
    Open(Network),
    /// No longer let them
    Close(Network),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane container list
  bentlane container list --networks         which networks are open
  bentlane container list --format json | jq -r '.containers[] | select(.running) | .name'")]
pub(crate) struct List {
    /// List the networks instead, and which of them are open
    #[arg(long)]
    networks: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane container open                      the engine's default network
  bentlane container open huts_default
  bentlane container close
  bentlane container list --networks")]
pub(crate) struct Network {
    /// The network [default: the engine's own default network, or the one that is open]
    network: Option<String>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane container show tiles
  bentlane container show tiles --for-compose       lines for a compose file")]
pub(crate) struct Show {
    /// The container
    name: String,
    /// Print lines for a compose file instead: its routes as a label, and what it needs to call our names
    #[arg(long)]
    for_compose: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane container start tiles
  bentlane container stop tiles")]
pub(crate) struct Named {
    /// The container
    name: String,
}

impl Container {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::List(List { networks: true }) => {
                let list: Networks = client.get("/networks").await?;
                output.data(&list, |list| networks_in_rows(&list.networks))?;
                Ok(Answer::Yes)
            }
            Self::Open(network) => network.open(client, output).await,
            Self::Close(network) => network.close(client, output).await,
            Self::List(List { networks: false }) => {
                let list: ContainerList = client.get("/containers").await?;
                if list.containers.is_empty() && output.is_table() {
                    output.say(&without_containers(&list.engines));
                    return Ok(Answer::Yes);
                }
                output.data(&list, |list| in_rows(output, list))?;
                Ok(Answer::Yes)
            }
            Self::Show(Show { name, for_compose }) => {
                let path = format!("/containers/{}", segment(&name));
                let container: ContainerView = client.get(&path).await?;
                if for_compose {
                    return compose::print(client, output, &container).await;
                }
                output.data(&container, |container| describe(output, container))?;
                Ok(answer_of(&container))
            }
            Self::Start(Named { name }) => act(client, output, &name, "start").await,
            Self::Stop(Named { name }) => act(client, output, &name, "stop").await,
        }
    }
}

/// What engines call the network that a container is on when nothing else is said.
const DEFAULT_NETWORKS: [&str; 2] = ["bridge", "podman"];

impl Network {
    async fn open(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let list: Networks = client.get("/networks").await?;
        let name = match self.network {
            Some(name) => name,
            None => {
                let mut defaults = DEFAULT_NETWORKS.iter();
                let is_there = |name: &&&str| list.networks.iter().any(|it| it.name == **name);
                let found = defaults.find(is_there).map(|name| (*name).to_owned());
                found.ok_or_else(|| {
                    refused("say which network: see `bentlane container list --networks`")
                })?
            }
        };
        let path = format!("/networks/{}/open", segment(&name));
        let opened: NetworkView = client.post(&path, &()).await?;
        let opened = settled(client, opened).await?;
        output.data(&opened, |network| {
            let gateway = network.gateway.as_deref().unwrap_or_default();
            let mut lines = vec![format!(
                "the network {} is open: its containers reach routes at {gateway}",
                network.name
            )];
            match &network.fault {
                Some(fault) => lines.push(format!("Names are not answered there: {fault}")),
                None => lines.push(format!(
                    "Have them ask {gateway} for names: --dns {gateway}, or `dns: {gateway}` in a compose file"
                )),
            }
            lines.join("\n")
        })?;
        Ok(match opened.fault {
            None => Answer::Yes,
            Some(_) => Answer::No,
        })
    }

    async fn close(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let list: Networks = client.get("/networks").await?;
        let mut open = list.networks.iter().filter(|network| network.is_open);
        let name = match (self.network, open.next()) {
            (Some(name), _) => name,
            (None, Some(network)) => network.name.clone(),
            (None, None) => return Err(refused("no network is open")),
        };
        client
            .delete(&format!("/networks/{}/open", segment(&name)))
            .await?;
        output.say(&format!("the network {name} is closed"));
        Ok(Answer::Yes)
    }
}

fn refused(reason: &str) -> CliError {
    CliError::Value {
        field: "network",
        reason: reason.to_owned(),
    }
}

/// How an opened network is once the service has looked at it.
async fn settled(client: &Client, mut network: NetworkView) -> Result<NetworkView, CliError> {
    tokio::time::sleep(OPENS_WITHIN).await;
    let list: Networks = client.get("/networks").await?;
    if let Some(now) = list.networks.into_iter().find(|it| it.name == network.name) {
        network = now;
    }
    Ok(network)
}

fn networks_in_rows(networks: &[NetworkView]) -> String {
    let rows = networks.iter().map(|network| {
        let state = match (&network.refusal, &network.fault, network.is_open) {
            (Some(refusal), ..) => format!("cannot be opened: {refusal}"),
            (None, Some(fault), true) => format!("open, without names: {fault}"),
            (None, _, true) => "open".to_owned(),
            (None, _, false) => "closed".to_owned(),
        };
        [
            plain(&network.name),
            plain(&network.driver),
            network.gateway.clone().unwrap_or_default(),
            state,
        ]
    });
    table(["NETWORK", "DRIVER", "GATEWAY", "STATE"], rows.collect())
}

async fn act(
    client: &Client,
    output: &Output,
    name: &str,
    verb: &'static str,
) -> Result<Answer, CliError> {
    let waiting = busy(match verb {
        "stop" => "stopping",
        _ => "starting",
    });
    let path = format!("/containers/{}/{verb}", segment(name));
    let container: ContainerView = client.post(&path, &()).await?;
    drop(waiting);
    output.data(&container, |container| {
        let name = output.paint(Style::Strong, &container.seen.name);
        format!("{name} is {}", state_of(&container.seen))
    })?;
    Ok(Answer::Yes)
}

/// Whether nothing is wrong with it.
fn answer_of(container: &ContainerView) -> Answer {
    match container.findings.is_empty() {
        true => Answer::Yes,
        false => Answer::No,
    }
}

/// What to do where there is no container.
fn without_containers(engines: &[EngineView]) -> String {
    let faults = engines.iter().filter_map(|engine| {
        let fault = engine.fault.as_ref()?;
        Some(format!(
            "the engine at {} does not answer: {fault}",
            engine.socket
        ))
    });
    let faults: Vec<String> = faults.collect();
    match (engines, faults.as_slice()) {
        ([], _) => "no container engine was found: start one, or name its socket with \
                    `bentlane serve --engine SOCKET`"
            .to_owned(),
        (_, []) => "there is no container".to_owned(),
        (_, faults) => faults.join("\n"),
    }
}

fn state_of(seen: &ContainerSeen) -> String {
    let state = match (seen.running, seen.state.as_str()) {
        (true, "" | "running") => "running",
        (false, "" | "exited" | "created" | "stopped") => "stopped",
        (_, other) => other,
    };
    match seen.health.filter(|_| seen.running) {
        Some(health) => format!("{state}, {}", health.as_str()),
        None => state.to_owned(),
    }
}

/// The ports: those that are passed in first, each with where, then those that are there inside.
fn ports_of(seen: &ContainerSeen) -> Vec<String> {
    let mut published: BTreeMap<u16, Vec<u16>> = BTreeMap::new();
    for (inside, at) in &seen.published {
        let at = at.port();
        let all = published.entry(*inside).or_default();
        if !all.contains(&at) {
            all.push(at);
        }
    }
    let inside = seen
        .exposed
        .iter()
        .filter(|port| !published.contains_key(port));
    let inside = inside.map(ToString::to_string);
    let passed = published.iter().flat_map(|(inside, at)| {
        let line = move |at: &u16| format!("{at} to {inside}");
        at.iter().map(line)
    });
    passed.chain(inside).collect()
}

fn in_rows(output: &Output, list: &ContainerList) -> String {
    let several = list.engines.len() > 1;
    let rows = list.containers.iter().map(|container| {
        let seen = &container.seen;
        let of = match (&seen.project, &seen.service) {
            (Some(project), Some(service)) => format!("{project}/{service}"),
            (Some(project), None) => project.clone(),
            (None, _) if several => seen.engine.clone(),
            (None, _) => String::new(),
        };
        let routes: Vec<&str> = container.routes.iter().map(|it| &*it.address).collect();
        [
            plain(&seen.name),
            state_of(seen),
            plain(&of),
            plain(seen.image_name.as_deref().unwrap_or_default()),
            ports_of(seen).join(", "),
            plain(&routes.join(", ")),
        ]
    });
    let heading = ["CONTAINER", "STATE", "PROJECT", "IMAGE", "PORTS", "ROUTES"];
    let mut text = table(heading, rows.collect());
    let commands = list
        .containers
        .iter()
        .filter_map(|it| it.route_command.as_deref());
    let commands: Vec<String> = commands
        .map(|command| format!("\n  {}", plain(command)))
        .collect();
    if !commands.is_empty() {
        text.push_str("\n\nTo give a route to those that have none:");
        text.extend(commands);
    }
    let silent = list.engines.iter().filter_map(|engine| {
        let fault = engine.fault.as_ref()?;
        Some(format!(
            "\n\nThe engine at {} does not answer: {fault}",
            engine.socket
        ))
    });
    text.extend(silent);
    let findings = list.containers.iter().flat_map(|it| &it.findings);
    text.extend(findings.map(|finding| format!("\n{}", finding_in_words(output, finding))));
    text
}

fn describe(output: &Output, container: &ContainerView) -> String {
    let seen = &container.seen;
    let name = output.paint(Style::Strong, &plain(&seen.name));
    let mut lines = vec![format!("{name} is {}", state_of(seen))];
    lines.extend(container.routes.iter().map(|route| match route.of_label {
        true => format!("{}  by its label", route.url),
        false => route.url.clone(),
    }));
    lines.push(String::new());
    let of_compose = match (&seen.project, &seen.service) {
        (Some(project), Some(service)) => format!("{service} of {project}"),
        (project, _) => project.clone().unwrap_or_default(),
    };
    let at: Vec<String> = container.at.iter().map(ToString::to_string).collect();
    let label = seen.label.as_deref().unwrap_or_default();
    let label: Vec<&str> = label
        .lines()
        .map(str::trim)
        .filter(|it| !it.is_empty())
        .collect();
    for (key, value) in [
        ("image", seen.image_name.clone().unwrap_or_default()),
        ("service", of_compose),
        ("networks", seen.networks.join(", ")),
        ("ports", ports_of(seen).join(", ")),
        ("at", at.join(", ")),
        ("label", label.join("; ")),
        ("engine", seen.engine.clone()),
    ] {
        if !value.is_empty() {
            let key = output.paint(Style::Muted, &format!("{key:<LABEL_WIDTH$}"));
            lines.push(format!("{key} {}", plain(&value)));
        }
    }
    let findings = container.findings.iter();
    lines.extend(findings.map(|finding| finding_in_words(output, finding)));
    match &container.route_command {
        Some(command) => lines.push(format!(
            "\nIt has no route. To give it one:\n  {}",
            output.paint(Style::Strong, command)
        )),
        None if !seen.running => lines.push(format!(
            "\nTo start it:\n  {}",
            output.paint(
                Style::Strong,
                &format!("bentlane container start {}", seen.name)
            )
        )),
        None => {}
    }
    lines.join("\n")
}
