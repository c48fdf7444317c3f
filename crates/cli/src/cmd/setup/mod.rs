//! The guided first run: what is looked at, the plan, and carrying it out.

mod found;
mod service;

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use bentlane_api_types::{RouteInput, RouteView, Routes, Status, ZoneInput, ZoneView, Zones};
use bentlane_checks::{MachinePart, MachineVerdict, acceptance};
use bentlane_model::{Name, Pattern};
use bentlane_system::{Folder, System as Machine, installed_browsers, trust_stores};
use clap::{Args, ValueEnum};
use serde::{Deserialize, Serialize};

use self::found::{Proposal, proposals};
use super::check::Check;
use super::project::Load;
use super::system::{ApplyOptions, OnlyPart};
use super::{confirm, machine, route, zone};
use crate::account::home;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// What setup did, in the data folder, so that it can be undone.
const RECORD: &str = "setup.json";
/// Bytes of that at most.
const LARGEST_RECORD: u64 = 256 * 1024;
const OWNER_ONLY: u32 = 0o600;
/// The port of DNS.
const DNS: u16 = 53;

/// `bentlane setup`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  sudo bentlane setup                      look, show the plan, ask, do it, check
  bentlane setup                           what works without root, and the command for the rest
  bentlane setup --dry-run
  sudo bentlane setup --yes --zone moor.test
  sudo bentlane setup --only zone,lookups,trust
  sudo bentlane setup --project .          for a project with a bentlane.toml, which is loaded
  sudo bentlane setup --undo               take all of it back

It starts the service where none runs. Exit code 1 when the check at the end finds something wrong.")]
pub(crate) struct Setup {
    /// The zone for names of this machine's apps [default: what names here use already, or USER.test]
    #[arg(long, value_name = "NAME")]
    zone: Option<Name>,
    /// These steps alone
    #[arg(long, value_enum, value_delimiter = ',')]
    only: Vec<Part>,
    /// Set up for the project in this folder: with the zone of its bentlane.toml, which is loaded then
    #[arg(long, value_name = "DIR")]
    project: Option<PathBuf>,
    /// Show the plan, and change nothing
    #[arg(long)]
    dry_run: bool,
    /// Do it without asking
    #[arg(long)]
    yes: bool,
    /// Undo what setup did
    #[arg(long, conflicts_with_all = ["zone", "only", "project", "dry_run"])]
    undo: bool,
}

/// A step of setting up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Part {
    /// The zone
    Zone,
    /// The system's lookups of names in it
    Lookups,
    /// Our root in every trust store
    Trust,
    /// The service as a unit of systemd's
    Unit,
    /// Routes to what runs
    Routes,
}

/// What setup did.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Done {
    #[serde(default)]
    zone: Option<String>,
    #[serde(default)]
    routes: Vec<String>,
    /// Whether the service was started by setup.
    #[serde(default)]
    started: bool,
}

/// What would be done.
#[derive(Debug, Serialize)]
struct Plan {
    /// Whether the service has to be started.
    starts_service: bool,
    /// Whether it runs on high ports, and is started again on the standard ones.
    starts_again: bool,
    zone: Name,
    steps: Vec<Step>,
    routes: Vec<Proposal>,
    /// What needs root, when this is not root.
    for_root: Vec<Part>,
}

#[derive(Debug, Serialize)]
struct Step {
    part: Part,
    text: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    details: Vec<String>,
}

/// Steps as they are planned.
struct Steps {
    is_root: bool,
    /// Those that can be done now.
    now: Vec<Step>,
    /// Parts that need root, when this is not root.
    for_root: Vec<Part>,
}

impl Steps {
    /// Adds a step that needs root.
    fn privileged(&mut self, step: Step) {
        match self.is_root {
            true => self.now.push(step),
            false => self.for_root.push(step.part),
        }
    }

    fn lookups(&mut self, machine: &Machine) {
        let path = machine.path(bentlane_system::Part::Resolver);
        self.privileged(Step {
            part: Part::Lookups,
            text: format!(
                "{} is pointed at Bent Lane; the present file is kept",
                path.display()
            ),
            details: found::holders_of_standard_ports(),
        });
    }

    /// Without root, the stores of the user.
    fn trust(&mut self) {
        let stores = trust_stores(&[home()], &installed_browsers());
        let stores = stores.iter();
        let stores = stores.filter(|store| self.is_root || !store.needs_root());
        let details: Vec<String> = stores.map(|it| it.path.display().to_string()).collect();
        if !self.is_root {
            self.for_root.push(Part::Trust);
        }
        if !details.is_empty() {
            self.now.push(Step {
                part: Part::Trust,
                text: "the root of this machine, which vouches for the zone alone, in".to_owned(),
                details,
            });
        }
    }
}

impl Setup {
    pub(crate) async fn run(
        mut self,
        typed: &str,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        if self.undo {
            return self.undo(typed, data_dir, output).await;
        }
        let loading = match self.project.as_deref() {
            Some(folder) => Some(Load::of(folder, self.yes)?),
            None => None,
        };
        if let Some(loading) = &loading {
            self.zone = self.zone.or(loading.zone()?);
        }
        let mut done = read_record(data_dir);
        let running = Client::open(data_dir, typed).ok();
        let known = match &running {
            Some(client) => client.get::<Status>("/status").await.ok(),
            None => None,
        };
        let running = running.filter(|_| known.is_some());
        let mut plan = self.plan(running.as_ref(), output).await?;
        // One that setup started without root goes on with the standard ports.
        let is_low = |status: &Status| status.listeners.dns.iter().any(|at| at.port() == DNS);
        let is_root = nix::unistd::geteuid().is_root();
        plan.starts_again =
            is_root && done.started && known.as_ref().is_some_and(|status| !is_low(status));
        if self.dry_run {
            output.data(&plan, |plan| in_words(output, plan))?;
            return Ok(Answer::Yes);
        }
        output.say(&in_words(output, &plan));
        if !self.yes && !plan.agreed(output)? {
            output.say("nothing was changed");
            return Ok(Answer::Yes);
        }
        let client = match running {
            Some(client) if plan.starts_again => {
                service::stop(&client, data_dir).await?;
                service::start(typed, data_dir, output).await?
            }
            Some(client) => client,
            None => {
                let client = service::start(typed, data_dir, output).await?;
                done.started = true;
                client
            }
        };
        let outcome = self
            .carry_out(&plan, &client, data_dir, output, &mut done)
            .await;
        // What was done before a step failed can be undone, too.
        write_record(data_dir, &done)?;
        outcome?;
        if let Some(loading) = loading {
            loading.run(&client, output).await?;
        }
        let answer = Check::of_everything()
            .run(&client, data_dir, output)
            .await?;
        let Routes { routes, .. } = client.get("/routes").await?;
        for route in routes.iter().filter(|it| !it.name.starts_with("*.")) {
            output.say(&route.url);
        }
        if !plan.for_root.is_empty() {
            output.say("For the other steps, which need root:\n  sudo bentlane setup --yes");
        }
        Ok(answer)
    }

    fn wants(&self, part: Part) -> bool {
        self.only.is_empty() || self.only.contains(&part)
    }

    /// Looks at the machine, and says what there is to do.
    async fn plan(&self, client: Option<&Client>, output: &Output) -> Result<Plan, CliError> {
        let zones: Vec<Name> = match client {
            Some(client) => {
                let known: Zones = client.get("/zones").await?;
                known
                    .zones
                    .iter()
                    .filter_map(|it| it.name.parse().ok())
                    .collect()
            }
            None => Vec::new(),
        };
        let zone = match (&self.zone, zones.first()) {
            (Some(zone), _) => zone.clone(),
            (None, Some(zone)) => zone.clone(),
            (None, None) => self.choose_zone(output)?,
        };
        let is_root = nix::unistd::geteuid().is_root();
        let machine = Machine::default();
        let seen = match client {
            Some(client) => Some(machine::look(client).await?),
            None => None,
        };
        // What is as it should be is no step, unless a new zone changes it.
        let is_new = !zones.contains(&zone);
        let missing = |part: MachinePart| {
            let fails = |seen: &MachineVerdict| seen.failed().any(|item| item.part == part);
            is_new || seen.as_ref().is_none_or(fails)
        };
        let mut steps = Steps {
            is_root,
            now: Vec::new(),
            for_root: Vec::new(),
        };
        if self.wants(Part::Zone) && is_new {
            steps.now.push(Step {
                part: Part::Zone,
                text: format!("{zone}, so that it and every name below it lead to this machine"),
                details: Vec::new(),
            });
        }
        if self.wants(Part::Lookups) && missing(MachinePart::Lookups) {
            steps.lookups(&machine);
        }
        if self.wants(Part::Trust) && missing(MachinePart::Trust) {
            steps.trust();
        }
        if self.wants(Part::Unit) && machine.runs_systemd() {
            steps.privileged(Step {
                part: Part::Unit,
                text: "systemd runs the service from the start of the machine".to_owned(),
                details: Vec::new(),
            });
        }
        // A project says itself which routes it has.
        let routes = match self.wants(Part::Routes) && self.project.is_none() {
            true => proposals(client, &zone).await?,
            false => Vec::new(),
        };
        Ok(Plan {
            starts_service: client.is_none(),
            starts_again: false,
            zone,
            steps: steps.now,
            routes,
            for_root: steps.for_root,
        })
    }

    /// Proposes a zone, with its advantages and disadvantages, and asks on a terminal.
    fn choose_zone(&self, output: &Output) -> Result<Name, CliError> {
        let proposed = found::usual_zone();
        if self.yes || self.dry_run || !confirm::is_asked() {
            return Ok(proposed);
        }
        output.say(
            "The zone is the suffix of every name. Names under .test are reserved for this (RFC 6761) \
             and never lead\nanywhere else; below a domain of your own, what is really there is out of \
             reach for this machine.",
        );
        let pattern = Pattern::Exact(proposed.prepend("app").unwrap_or_else(|_| proposed.clone()));
        output.say(&route::acceptance_in_words(
            output,
            &acceptance(&pattern, &proposed, 443),
        ));
        loop {
            let text = confirm::answer(output, &format!("Zone [{proposed}]: "))?;
            if text.is_empty() {
                return Ok(proposed);
            }
            match text.parse() {
                Ok(zone) => return Ok(zone),
                Err(error) => output.say(&format!("{error}")),
            }
        }
    }

    async fn carry_out(
        &self,
        plan: &Plan,
        client: &Client,
        data_dir: &Path,
        output: &Output,
        done: &mut Done,
    ) -> Result<(), CliError> {
        let machine = Machine::default();
        let how = |only| ApplyOptions {
            only: Some(only),
            yes: true,
            ..ApplyOptions::default()
        };
        for step in &plan.steps {
            match step.part {
                Part::Zone => {
                    let input = ZoneInput {
                        name: plan.zone.to_string(),
                        anyway: false,
                    };
                    let added: ZoneView = zone::add(client, output, input).await?;
                    output.say(&zone::resolves(&added.name));
                    done.zone = Some(added.name);
                }
                Part::Lookups => {
                    let attached = how(OnlyPart::Lookups)
                        .apply(client, &machine, data_dir, output)
                        .await;
                    // Without port 53 there are the exact names still.
                    if let Err(error) = attached {
                        output.error(&error);
                        how(OnlyPart::Hosts)
                            .apply(client, &machine, data_dir, output)
                            .await?;
                    }
                }
                Part::Trust => {
                    let trust = ApplyOptions {
                        without_root: !nix::unistd::geteuid().is_root(),
                        ..how(OnlyPart::Trust)
                    };
                    trust.apply(client, &machine, data_dir, output).await?;
                }
                Part::Unit | Part::Routes => {}
            }
        }
        for Proposal {
            address, target, ..
        } in &plan.routes
        {
            let input = RouteInput {
                name: address.clone(),
                to: target.clone(),
                ..RouteInput::default()
            };
            match client.post::<RouteView>("/routes", &input).await {
                Ok(added) => done.routes.push(added.address),
                Err(error) => output.error(&error),
            }
        }
        // The hosts file has the routes' names, so it comes after them.
        if plan.steps.iter().any(|step| step.part == Part::Lookups) {
            ApplyOptions::refresh_hosts(client, &machine).await?;
        }
        if plan.steps.iter().any(|step| step.part == Part::Unit) {
            how(OnlyPart::Unit)
                .apply(client, &machine, data_dir, output)
                .await?;
            if done.started {
                // systemd starts it again, at the first question.
                service::stop(client, data_dir).await?;
                service::wait_for(data_dir, output).await?;
            }
        }
        Ok(())
    }

    /// Undoes what setup did: what is attached, the routes and the zone that it added, and the
    /// service that it started.
    async fn undo(
        &self,
        typed: &str,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let done = read_record(data_dir);
        let how = ApplyOptions {
            yes: self.yes,
            ..ApplyOptions::default()
        };
        let client = Client::open(data_dir, typed).ok();
        how.detach(client.as_ref(), &Machine::default(), data_dir, output)
            .await?;
        if let Some(client) = client {
            for route in &done.routes {
                gone(client.delete(&format!("/routes/{}", segment(route))).await)?;
            }
            if let Some(zone) = &done.zone {
                let path = format!("/zones/{}", segment(zone));
                if let Err(error) = client.delete(&path).await {
                    output.say(&format!("the zone {zone} stays: {error}"));
                }
            }
            if done.started {
                service::stop(&client, data_dir).await?;
                output.say("the service is stopped; its data stays");
            }
        }
        if data_dir.exists() {
            let folder = Folder::open(data_dir)?;
            folder.remove(OsStr::new(RECORD))?;
        }
        Ok(Answer::Yes)
    }
}

/// What was removed meanwhile counts as removed, too.
fn gone(removed: Result<(), CliError>) -> Result<(), CliError> {
    match removed {
        Err(CliError::Refused(problem)) if problem.status == 404 => Ok(()),
        other => other,
    }
}

impl Plan {
    /// Asks whether to do it, and takes out what is to be left out.
    fn agreed(&mut self, output: &Output) -> Result<bool, CliError> {
        let count = self.steps.len() + self.routes.len();
        let text = confirm::answer(
            output,
            "Do it? y for yes, n for no, or the numbers to leave out, such as 2 5: ",
        )?;
        if matches!(text.as_str(), "y" | "Y" | "yes") {
            return Ok(true);
        }
        let numbers: Option<Vec<usize>> = text
            .split_whitespace()
            .map(|word| {
                word.parse()
                    .ok()
                    .filter(|number| (1..=count).contains(number))
            })
            .collect();
        let Some(numbers) = numbers.filter(|numbers| !numbers.is_empty()) else {
            return Ok(false);
        };
        let steps = self.steps.len();
        let mut number = 0;
        self.steps.retain(|_| {
            number += 1;
            !numbers.contains(&number)
        });
        let mut number = steps;
        self.routes.retain(|_| {
            number += 1;
            !numbers.contains(&number)
        });
        Ok(true)
    }
}

fn in_words(output: &Output, plan: &Plan) -> String {
    let mut lines = vec![output.paint(Style::Strong, "Plan")];
    if plan.starts_again {
        lines.push("    service  starts again, on ports 53, 80 and 443".to_owned());
    }
    if plan.starts_service {
        let ports = match nix::unistd::geteuid().is_root() {
            true => "on ports 53, 80 and 443",
            false => "on high ports, since this is not root",
        };
        lines.push(format!("    service  starts {ports}"));
    }
    let mut number = 0;
    for step in &plan.steps {
        number += 1;
        let part = step.part.to_possible_value();
        let part = part.map(|it| it.get_name().to_owned()).unwrap_or_default();
        lines.push(format!("{number:>2}  {part:<8} {}", step.text));
        for detail in &step.details {
            lines.push(output.paint(Style::Muted, &format!("             {detail}")));
        }
    }
    for Proposal {
        address,
        target,
        title,
        seen,
    } in &plan.routes
    {
        number += 1;
        let title = title.as_ref().map(|title| format!("  “{title}”"));
        lines.push(format!(
            "{number:>2}  route    {address} → {target}{}",
            title.unwrap_or_default()
        ));
        lines.push(output.paint(Style::Muted, &format!("             {seen}")));
    }
    if number == 0 {
        lines.push("    nothing is missing".to_owned());
    }
    if !plan.for_root.is_empty() {
        let parts = plan
            .for_root
            .iter()
            .filter_map(ValueEnum::to_possible_value);
        let parts: Vec<String> = parts.map(|it| it.get_name().to_owned()).collect();
        lines.push(format!(
            "left out, since it needs root: {}; later `sudo bentlane setup --yes`",
            parts.join(", ")
        ));
    }
    lines.join("\n")
}

fn read_record(data_dir: &Path) -> Done {
    let kept = Folder::open(data_dir).ok();
    let kept = kept.and_then(|folder| folder.read(OsStr::new(RECORD), LARGEST_RECORD).ok()?);
    kept.and_then(|bytes| serde_json::from_slice(&bytes).ok())
        .unwrap_or_default()
}

fn write_record(data_dir: &Path, done: &Done) -> Result<(), CliError> {
    let text = serde_json::to_vec_pretty(done).map_err(CliError::Answer)?;
    let folder = Folder::open(data_dir)?;
    Ok(folder.write(OsStr::new(RECORD), &text, OWNER_ONLY)?)
}
