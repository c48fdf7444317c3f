use std::collections::BTreeMap;

use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use bentlane_core::{Hosts, HostsEntry, Name, Snapshot};
use bentlane_probe::port_holder;
use bentlane_service::api::{AuthorityView, Routes, Status, Zones};
use bentlane_system::{
    Content, Facts, Ours, Part, PartState, Plan, ProgramStep, Step, StepKind, StoreReport,
    StoreStep, System as Machine, read_file,
};
use clap::{Args, Subcommand, ValueEnum};
use serde::Serialize;
use tokio::net::lookup_host;

use super::confirm;
use super::trust::{self, Shell};
use crate::account::home;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::input::read_text;
use crate::output::{Output, Tone};

/// A label that no route has: it resolves when the zone itself is asked of us.
const PROBE_LABEL: &str = "bentlane-lookup";
/// Addresses at which a resolver of this machine would stand in our way, or before us.
const PORT_53: [&str; 4] = ["127.0.0.1:53", "[::1]:53", "127.0.0.53:53", "0.0.0.0:53"];

/// Bytes of the list of the keys that roots had.
const LARGEST_LIST: u64 = 64 * 1024;

/// What is left to do when the service has become a unit.
const UNIT_NEXT: &str = "systemd has the ports now, and starts the service at the first question \
    or request. Stop the one that runs now with Ctrl-C where it was started.";

/// `bentlane system`
#[derive(Debug, Subcommand)]
pub(crate) enum System {
    /// Show whether this machine's lookups ask us, and what stands in the way
    Show(Show),
    /// Have this machine's lookups ask us; what is changed is kept
    Attach(Attach),
    /// Put back what was there before
    Detach(Detach),
    /// Bring what is attached up to date, after another program changed it or routes changed
    Repair(Repair),
    /// Print the steps for a system that we do not attach to ourselves
    Guide(Guide),
    /// Print the variables by which programs with roots of their own come to trust ours
    Env(Env),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system env --shell fish | source
  eval \"$(bentlane system env)\"
  bentlane system env --format json

Node, Python, Ruby, curl, git and others bring roots of their own, or take a file in place of the
system's: that file holds the system's roots and ours, and the service keeps it up to date.")]
pub(crate) struct Env {
    /// For which shell
    #[arg(long, value_enum, default_value = "sh")]
    shell: Shell,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system show
  bentlane system show --format json | jq '.zones[] | select(.reaches_us | not)'

Exits 1 when a zone's names do not reach us.")]
pub(crate) struct Show {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system attach --dry-run
  sudo bentlane system attach
  sudo bentlane system attach --only hosts     exact names only, where the resolver cannot be asked
  sudo bentlane system attach --only trust     our root in every trust store
  sudo bentlane system attach --only unit      from the start of the machine, as an ordinary user")]
pub(crate) struct Attach {
    #[command(flatten)]
    how: How,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system detach --dry-run
  sudo bentlane system detach
  sudo bentlane system detach --only hosts --yes")]
pub(crate) struct Detach {
    #[command(flatten)]
    how: How,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  sudo bentlane system repair

`system attach --only unit` has systemd run this by itself. It changes names in the zones that were
approved when the system was attached, and no others.")]
pub(crate) struct Repair {}

#[derive(Debug, Args)]
struct How {
    /// This part alone
    #[arg(long, value_enum)]
    only: Option<OnlyPart>,
    /// Show what would be changed, and change nothing
    #[arg(long)]
    dry_run: bool,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum OnlyPart {
    /// The name servers in /etc/resolv.conf
    Resolver,
    /// A block of exact names in /etc/hosts
    Hosts,
    /// Our root in the trust stores of the system, the browsers and Java
    Trust,
    /// The service as a unit of systemd's, which opens ports 53, 80 and 443 for it
    Unit,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system guide macos
  bentlane system guide windows")]
pub(crate) struct Guide {
    /// The system
    #[arg(value_enum)]
    system: Elsewhere,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Elsewhere {
    /// macOS
    Macos,
    /// Windows
    Windows,
}

/// What `show` shows.
#[derive(Debug, Serialize)]
struct Report {
    parts: Vec<PartReport>,
    zones: Vec<ZoneReport>,
    shadowing: Vec<Shadow>,
    others_on_port_53: Vec<Other>,
    trust: Vec<StoreReport>,
    /// Browsers that have run since before a store came to trust our root.
    to_restart: Vec<String>,
    /// Whether our resolver listens where the system's lookups ask.
    on_port_53: bool,
}

#[derive(Debug, Serialize)]
struct PartReport {
    part: Part,
    path: PathBuf,
    #[serde(flatten)]
    state: PartState,
}

#[derive(Debug, Serialize)]
struct ZoneReport {
    zone: String,
    /// Whether the system's own lookup of a name in it gives the addresses that we answer.
    reaches_us: bool,
    /// What it gave.
    found: Vec<IpAddr>,
    /// What it said, when it gave nothing.
    reason: Option<String>,
}

#[derive(Debug, Serialize)]
struct Shadow {
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

impl System {
    /// Runs the command. What is attached can be detached without a service, too.
    pub(crate) async fn run(
        self,
        client: impl FnOnce() -> Result<Client, CliError>,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let machine = Machine::default();
        match &self {
            Self::Detach(Detach { how }) => return how.detach(&machine, data_dir, output),
            Self::Repair(Repair {}) => return repair(&machine, output),
            _ => {}
        }
        let client = &client()?;
        match self {
            Self::Show(Show {}) => {
                let report = report(client, &machine).await?;
                output.data(&report, |report| describe(output, report))?;
                let reached = report.zones.iter().all(|zone| zone.reaches_us);
                Ok(if reached { Answer::Yes } else { Answer::No })
            }
            Self::Attach(Attach { how }) if how.is_trust() => {
                let ours = trust::ask(client).await?;
                if !ours.is_constrained() {
                    return Err(CliError::Value {
                        field: "trust",
                        reason: "the root in force is unconstrained: it can vouch for any name, so it \
                                 is not put into trust stores; `bentlane authority rotate` makes one \
                                 that vouches for your zones alone"
                            .to_owned(),
                    });
                }
                if !ours.is_ours() {
                    output.say(
                        "this root was not made by Bent Lane: it is trusted where whoever made it \
                         has it trusted; `bentlane system show` tells where that is",
                    );
                    return Ok(Answer::Yes);
                }
                let steps = ours.plan_attach(&home());
                if how.change_stores(output, &ours, &steps, true)? {
                    if nix::unistd::geteuid().is_root() {
                        machine.approve_roots(data_dir, ours.keys().iter().cloned())?;
                    }
                    let reports = ours.reports(&home());
                    output.data(&reports, |reports| {
                        trust::describe(output, reports).join("\n")
                    })?;
                }
                Ok(Answer::Yes)
            }
            Self::Attach(Attach { how }) => {
                let facts = facts(client).await?;
                // What root does is decided here, whatever the service says of its names.
                let (facts, left_out) = facts.limited_to(&facts.zones);
                for what in left_out {
                    output.say(&format!("left out: {what}"));
                }
                let plan = machine.plan_attach(&how.parts(&[Part::Resolver]), &facts)?;
                if how.carry_out(output, &machine, &plan, "attached already")? {
                    if matches!(how.only, Some(OnlyPart::Unit)) {
                        output.say(UNIT_NEXT);
                    }
                    let report = report(client, &machine).await?;
                    output.data(&report, |report| describe(output, report))?;
                }
                Ok(Answer::Yes)
            }
            // Done above.
            Self::Detach(_) | Self::Repair(_) => Ok(Answer::Yes),
            Self::Env(Env { shell }) => {
                let status: Status = client.get("/status").await?;
                let authority: AuthorityView = client.get("/authority").await?;
                let root = PathBuf::from(status.data_dir).join("root.pem");
                let variables = trust::variables(&root, authority.bundle.as_ref());
                let shown: BTreeMap<_, _> = variables.iter().cloned().collect();
                output.data(&shown, |_| {
                    let lines = variables
                        .iter()
                        .map(|(name, value)| shell.line(name, value));
                    lines.collect::<Vec<_>>().join("\n")
                })?;
                Ok(Answer::Yes)
            }
            Self::Guide(Guide { system }) => {
                let status: Status = client.get("/status").await?;
                let zones: Zones = client.get("/zones").await?;
                let zones: Vec<&str> = zones.zones.iter().map(|zone| &*zone.name).collect();
                output.line(guide(system, &zones, &status.listeners.dns).trim_end())?;
                Ok(Answer::Yes)
            }
        }
    }
}

impl How {
    fn parts(&self, all: &[Part]) -> Vec<Part> {
        match self.only {
            None => all.to_vec(),
            Some(OnlyPart::Resolver) => vec![Part::Resolver],
            Some(OnlyPart::Hosts) => vec![Part::Hosts],
            Some(OnlyPart::Unit) => Part::UNITS.to_vec(),
            // Trust stores are no files of ours: see `change_stores`.
            Some(OnlyPart::Trust) => Vec::new(),
        }
    }

    fn detach(
        &self,
        machine: &Machine,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        if !self.is_trust() {
            let plan = machine.plan_detach(&self.parts(&Part::ALL))?;
            if self.carry_out(output, machine, &plan, "nothing of ours is there")? {
                output.say("everything is as it was before");
            }
        }
        if self.is_trust() || self.only.is_none() {
            // Our roots are known by whose they are, which the certificate tells.
            let root = data_dir.join("root.pem");
            if !root.exists() {
                output.say("no root was ever made here, so no store holds one");
                return Ok(Answer::Yes);
            }
            let approved = machine.approved()?.map(|approved| approved.roots);
            let keys = former_keys(data_dir)
                .into_iter()
                .chain(approved.unwrap_or_default());
            let ours = Ours::new(&read_text(&root)?, "", "localhost", keys);
            let steps = ours.as_ref().map(|ours| ours.plan_detach(&home()));
            if let (Some(ours), Some(steps)) = (&ours, steps)
                && self.change_stores(output, ours, &steps, false)?
            {
                if machine.approved()?.is_some() {
                    machine.approve_roots(data_dir, [])?;
                }
                output.say("no store holds a root of ours now");
            }
        }
        Ok(Answer::Yes)
    }

    fn is_trust(&self) -> bool {
        matches!(self.only, Some(OnlyPart::Trust))
    }

    /// Shows what would be done to trust stores, asks, and does it; gives whether anything was done.
    fn change_stores(
        &self,
        output: &Output,
        ours: &Ours,
        steps: &[StoreStep],
        adds: bool,
    ) -> Result<bool, CliError> {
        if steps.is_empty() {
            let words = if adds {
                "every store trusts our root already"
            } else {
                "no store holds a root of ours"
            };
            output.say(words);
            return Ok(false);
        }
        if self.dry_run {
            output.data(&steps, |steps| trust::plan_in_words(output, steps, adds))?;
            return Ok(false);
        }
        output.say(&trust::plan_in_words(output, steps, adds));
        if !self.yes && !confirm::agreed(output)? {
            output.say("nothing was changed");
            return Ok(false);
        }
        ours.carry_out(steps, adds)?;
        let running = trust::to_restart(None);
        if !running.is_empty() {
            let running = running.join(", ");
            output.say(&format!(
                "start {running} again: they read their roots when they start"
            ));
        }
        Ok(true)
    }

    /// Shows the plan, asks, and does it; gives whether anything was done.
    fn carry_out(
        &self,
        output: &Output,
        machine: &Machine,
        plan: &Plan,
        nothing: &str,
    ) -> Result<bool, CliError> {
        if plan.is_empty() {
            output.say(nothing);
            return Ok(false);
        }
        if self.dry_run {
            output.data(plan, |plan| in_words(output, plan))?;
            return Ok(false);
        }
        output.say(&in_words(output, plan));
        if !self.yes && !confirm::agreed(output)? {
            output.say("nothing was changed");
            return Ok(false);
        }
        machine.carry_out(plan)?;
        Ok(true)
    }
}

/// The keys of the roots that the service on this folder had, also when it does not run.
fn former_keys(data_dir: &Path) -> Vec<String> {
    let kept = read_file(&data_dir.join("keys/known-roots.json"), LARGEST_LIST).unwrap_or_default();
    serde_json::from_slice(&kept).unwrap_or_default()
}

/// Brings what is attached up to date, as root.
fn repair(machine: &Machine, output: &Output) -> Result<Answer, CliError> {
    let (repaired, left_out) = machine.repair()?;
    for part in &repaired {
        output.say(&format!(
            "{} is up to date again",
            machine.path(*part).display()
        ));
    }
    for what in left_out {
        output.say(&format!(
            "left out: {what}; `sudo bentlane system attach` asks for it"
        ));
    }
    if repaired.is_empty() {
        output.say("nothing had to be repaired");
    }
    Ok(Answer::Yes)
}

fn in_words(output: &Output, plan: &Plan) -> String {
    let mut lines = Vec::new();
    let zones = plan.approved.as_ref().map(|approved| &approved.zones);
    if let Some(zones) = zones.filter(|zones| !zones.is_empty()) {
        let zones: Vec<&str> = zones.iter().map(Name::as_str).collect();
        lines.push(format!(
            "names in {} may be changed on this machine from now on, and no others",
            output.paint(Tone::Strong, &zones.join(", "))
        ));
    }
    match &plan.program {
        Some(ProgramStep::Install { to, .. }) => lines.push(format!(
            "{}  a copy of this program that only root can change, for systemd to run",
            output.paint(Tone::Strong, &to.display().to_string())
        )),
        Some(ProgramStep::Remove { path }) => lines.push(format!(
            "{}  remove the copy of this program",
            output.paint(Tone::Strong, &path.display().to_string())
        )),
        None => {}
    }
    for step in &plan.steps {
        let what = match (step.kind, step.part) {
            (StepKind::Replace, Part::Resolver) => {
                "have the system's lookups ask us; what is there is kept"
            }
            (StepKind::Replace, Part::Hosts) => "write a block of ours; the rest stays",
            (StepKind::Replace, Part::UnitSockets) => {
                "have systemd open ports 53, 80 and 443 for the service"
            }
            (StepKind::Replace, Part::Unit) => {
                "have systemd run the service, as the owner of its data folder"
            }
            (StepKind::Replace, Part::Watch) => {
                "have systemd watch the files that network managers and routes change"
            }
            (StepKind::Replace, Part::Repair) => {
                "have systemd repair the lookups then, as root, within the zones above"
            }
            (StepKind::Restore, _) => "put back what was there before",
            (StepKind::Clean, _) => "take out the block of ours; the rest stays",
            (StepKind::Forget, _) => "leave it: what is there now is not ours",
        };
        let path = output.paint(Tone::Strong, &step.path.display().to_string());
        lines.push(format!("{path}  {what}"));
        if let Some(caution) = &step.caution {
            let caution = format!("  careful: {caution}");
            lines.push(output.paint(Tone::Broken, &caution));
        }
        lines.extend(difference(output, step));
    }
    lines.join("\n")
}

/// The lines that go and the lines that come.
fn difference(output: &Output, step: &Step) -> Vec<String> {
    let lines = |content: &Content| match content {
        Content::Absent => Vec::new(),
        Content::Link { to } => vec![format!("a link to {}", to.display())],
        Content::File { text, .. } => text.lines().map(str::to_owned).collect(),
    };
    let (now, after) = (lines(&step.now), lines(&step.after));
    let gone = now.iter().filter(|line| !after.contains(line));
    let new = after.iter().filter(|line| !now.contains(line));
    gone.map(|line| output.paint(Tone::Broken, &format!("  - {line}")))
        .chain(new.map(|line| output.paint(Tone::Passing, &format!("  + {line}"))))
        .collect()
}

async fn facts(client: &Client) -> Result<Facts, CliError> {
    let status: Status = client.get("/status").await?;
    let routes: Routes = client.get("/routes").await?;
    let zones: Zones = client.get("/zones").await?;
    let zones = zones.zones.iter();
    Ok(Facts {
        owner: status.data_dir.into(),
        // The file that runs now, whatever is at its path meanwhile.
        program: "/proc/self/exe".into(),
        zones: zones.filter_map(|zone| zone.name.parse().ok()).collect(),
        dns: status.listeners.dns,
        names: routes
            .routes
            .into_iter()
            // A wildcard is no name.
            .filter_map(|route| Some((route.name.parse().ok()?, route.resolves_to)))
            .collect(),
    })
}

async fn report(client: &Client, machine: &Machine) -> Result<Report, CliError> {
    let status: Status = client.get("/status").await?;
    let zones: Zones = client.get("/zones").await?;
    let ours: Vec<IpAddr> = status.listeners.https.iter().map(SocketAddr::ip).collect();
    let mut reports = Vec::new();
    for zone in &zones.zones {
        let elsewhere = zone.settings.addresses();
        let wanted = if elsewhere.is_empty() {
            &ours
        } else {
            &elsewhere
        };
        reports.push(look_up(&zone.name, wanted).await);
    }
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
    let shadow = |entry: HostsEntry| Shadow {
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
    let trust = trust::ask(client).await?.reports(&home());
    Ok(Report {
        parts: parts.into_iter().collect::<Result<_, _>>()?,
        zones: reports,
        shadowing: Hosts(&text)
            .shadowing(&Snapshot::of_zones(names))
            .into_iter()
            .map(shadow)
            .collect(),
        others_on_port_53: others.collect(),
        to_restart: trust::unaware(&trust),
        trust,
        on_port_53: status.listeners.dns.iter().any(|at| at.port() == 53),
    })
}

/// Looks a name up as every program of this machine does.
async fn look_up(zone: &str, ours: &[IpAddr]) -> ZoneReport {
    let found = lookup_host((format!("{PROBE_LABEL}.{zone}"), 443)).await;
    let (found, reason) = match found {
        Ok(found) => (found.map(|at| at.ip()).collect(), None),
        Err(error) => {
            // What the system says comes last, behind what was tried.
            let error = error.to_string();
            let reason = error.rsplit(": ").next().unwrap_or_default();
            (Vec::new(), Some(reason.to_lowercase()))
        }
    };
    let mut found: Vec<IpAddr> = found;
    found.sort_unstable();
    found.dedup();
    ZoneReport {
        zone: zone.to_owned(),
        reaches_us: !found.is_empty() && found.iter().all(|ip| ours.contains(ip)),
        found,
        reason,
    }
}

fn describe(output: &Output, report: &Report) -> String {
    let passing = output.paint(Tone::Passing, "●");
    let broken = output.paint(Tone::Broken, "✕");
    let arrow = output.paint(Tone::Remedy, "→");
    let mut lines = Vec::new();
    for zone in &report.zones {
        let found: Vec<String> = zone.found.iter().map(ToString::to_string).collect();
        let name = output.paint(Tone::Strong, &zone.zone);
        lines.push(match (zone.reaches_us, &zone.reason) {
            (true, _) => format!("{passing} {name}  this machine's lookups reach us"),
            (false, Some(reason)) => format!("{broken} {name}  is not found: {reason}"),
            (false, None) => format!("{broken} {name}  is found elsewhere: {}", found.join(", ")),
        });
    }
    if report.zones.is_empty() {
        lines.push("there is no zone yet".to_owned());
        lines.push(format!("{arrow} bentlane zone add moor.test"));
    }
    lines.push(String::new());
    for part in &report.parts {
        let state = match part.state {
            PartState::Detached => {
                let unit = Part::UNITS.contains(&part.part);
                let words = if unit {
                    "not there"
                } else {
                    "as the system has it"
                };
                output.paint(Tone::Muted, words)
            }
            PartState::Attached => "attached".to_owned(),
            PartState::Changed => output.paint(Tone::Broken, "changed by another program since"),
            PartState::CutShort => output.paint(Tone::Broken, "attaching was cut short"),
        };
        let label = format!("{:<9}", part.part.as_str());
        let label = output.paint(Tone::Muted, &label);
        lines.push(format!("  {label} {}  {state}", part.path.display()));
    }
    for shadow in &report.shadowing {
        let Shadow {
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
    let mut trust = trust::describe(output, &report.trust);
    if !report.to_restart.is_empty() {
        let names = report.to_restart.join(", ");
        trust.push(format!(
            "{arrow} start {names} again: it runs since before our root was trusted"
        ));
    }
    let reached = report.zones.iter().all(|zone| zone.reaches_us);
    let changed =
        |part: &PartReport| matches!(part.state, PartState::Changed | PartState::CutShort);
    if reached && !report.parts.iter().any(changed) {
        lines.push(String::new());
        lines.extend(trust);
        return lines.join("\n");
    }
    if report.on_port_53 {
        lines.push(format!("{arrow} sudo bentlane system attach"));
    } else {
        lines.push(format!("{arrow} sudo bentlane system attach --only hosts"));
        lines.push(
            "  for exact names; wildcards need the resolver on port 53: `sudo bentlane serve`"
                .to_owned(),
        );
    }
    lines.push(String::new());
    lines.extend(trust);
    lines.join("\n")
}

fn guide(system: Elsewhere, zones: &[&str], dns: &[SocketAddr]) -> String {
    let at = dns.iter().find(|at| at.is_ipv4()).or(dns.first());
    let at = at
        .copied()
        .unwrap_or(SocketAddr::from(([127, 0, 0, 1], 53)));
    let mut text = String::new();
    for zone in zones {
        text.push_str(&match system {
            Elsewhere::Macos => format!(
                "sudo mkdir -p /etc/resolver\n\
                 printf 'nameserver {ip}\\nport {port}\\n' | sudo tee /etc/resolver/{zone}\n\
                 # undo: sudo rm /etc/resolver/{zone}\n\n",
                ip = at.ip(),
                port = at.port(),
            ),
            Elsewhere::Windows => format!(
                "# in PowerShell, as administrator; the resolver has to listen on port 53\n\
                 Add-DnsClientNrptRule -Namespace '.{zone}' -NameServers '{ip}'\n\
                 # undo: Get-DnsClientNrptRule | Where-Object Namespace -eq '.{zone}' | \
                 Remove-DnsClientNrptRule -Force\n\n",
                ip = at.ip(),
            ),
        });
    }
    if zones.is_empty() {
        text.push_str("there is no zone yet: add one with `bentlane zone add moor.test`");
    }
    text
}
