use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use bentlane_api_types::{MachineAction, MachineChange, MachineNote, Routes, Status, Zones};
use bentlane_model::Name;
use bentlane_system::{
    Facts, OwnRoot, Part, Plan, ProgramStep, Step, StoreStep, System as Machine, read_file,
};
use clap::{Args, ValueEnum};
use serde::Serialize;

use super::super::{confirm, machine, trust};
use crate::account::{Account, home};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::input::read_text;
use crate::output::{Output, Style, progress};

/// Bytes of the list of the keys that roots had.
const LARGEST_LIST: u64 = 64 * 1024;

/// What is left to do when the service has become a unit.
const UNIT_NEXT: &str = "systemd has the ports now, and starts the service at the first question \
    or request. Stop the one that runs now with Ctrl-C where it was started.";

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system attach --dry-run
  sudo bentlane system attach                  lookups and trust
  sudo bentlane system attach --only hosts     exact names only, where the resolver cannot be asked
  sudo bentlane system attach --only trust --user rowan --user wren
  sudo bentlane system attach --only unit      from the start of the machine, as an ordinary user")]
pub(crate) struct Attach {
    #[command(flatten)]
    pub(super) how: ApplyOptions,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system detach --dry-run
  sudo bentlane system detach                  everything
  sudo bentlane system detach --only hosts --yes")]
pub(crate) struct Detach {
    #[command(flatten)]
    pub(super) how: ApplyOptions,
}

#[derive(Clone, Debug, Default, Args)]
pub(crate) struct ApplyOptions {
    /// This part alone
    #[arg(long, value_enum)]
    pub(crate) only: Option<OnlyPart>,
    /// The browsers of this user; several times for several [default: who runs this, or called sudo]
    #[arg(long, value_name = "NAME")]
    pub(crate) user: Vec<String>,
    /// Show what would be changed, and change nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Do it without asking
    #[arg(long)]
    pub(crate) yes: bool,
    /// Leave out what only root can change.
    #[arg(skip)]
    pub(crate) without_root: bool,
    /// An earlier change to undo: what it changed, and nothing else.
    #[arg(skip)]
    pub(crate) undo: Option<(u64, MachineChange)>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnlyPart {
    /// The system's lookups of names: /etc/resolv.conf, or systemd's resolver
    Lookups,
    /// Our root in the trust stores of the system, the browsers and Java
    Trust,
    /// A block of exact names in /etc/hosts
    Hosts,
    /// The service as a unit of systemd's, which opens ports 53, 80 and 443 for it
    Unit,
}

/// All that would be done.
#[derive(Debug, Default, Serialize)]
struct Planned {
    #[serde(flatten)]
    files: Plan,
    stores: Vec<StoreStep>,
    /// What cannot be done, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    left_out: Vec<String>,
}

impl Planned {
    fn is_empty(&self) -> bool {
        self.files.is_empty() && self.stores.is_empty()
    }

    /// Leaves out what `change` did not change.
    fn limit_to(&mut self, change: &MachineChange) {
        let meant = |path: &PathBuf| change.paths.contains(path);
        self.files.steps.retain(|step| meant(&step.path));
        self.stores.retain(|step| meant(&step.store.path));
    }

    /// Whatever is changed.
    fn paths(&self) -> Vec<PathBuf> {
        let files = self.files.steps.iter().map(|step| step.path.clone());
        let stores = self.stores.iter().map(|step| step.store.path.clone());
        files.chain(stores).collect()
    }

    /// Something that only root can change.
    fn for_root(&self) -> Option<&Path> {
        let files = self.files.steps.iter().map(|step| &*step.path);
        let stores = self.stores.iter().map(|step| &step.store);
        let stores = stores.filter(|store| store.needs_root());
        files.chain(stores.map(|store| &*store.path)).next()
    }
}

impl ApplyOptions {
    /// Whether this part is wanted: `by_default` where none is named.
    fn wants(&self, part: OnlyPart, by_default: bool) -> bool {
        self.only.map_or(by_default, |only| only == part)
    }

    /// The files that are meant: `by_default` where no part is named. Trust stores are none of them.
    fn parts(&self, machine: &Machine, by_default: &[Part]) -> Vec<Part> {
        if let Some((_, change)) = &self.undo {
            let changed = |part: &Part| change.paths.contains(&machine.path(*part));
            return Part::ALL.into_iter().filter(changed).collect();
        }
        match self.only {
            None => by_default.to_vec(),
            Some(OnlyPart::Lookups) => vec![Part::Resolver],
            Some(OnlyPart::Hosts) => vec![Part::Hosts],
            Some(OnlyPart::Unit) => Part::UNITS.to_vec(),
            Some(OnlyPart::Trust) => Vec::new(),
        }
    }

    /// Whether what is to be undone is as the change left it.
    fn check_unchanged(&self, planned: &Planned) -> Result<(), CliError> {
        let mut steps = planned.files.steps.iter().filter(|_| self.undo.is_some());
        let changed = steps.find_map(|step| step.caution.as_ref().map(|why| (&step.path, why)));
        match changed {
            None => Ok(()),
            Some((path, why)) => Err(CliError::Value {
                field: "undo",
                reason: format!(
                    "nothing was undone: {} has changed since: {why}; \
                     `bentlane system detach` shows what it would do",
                    path.display()
                ),
            }),
        }
    }

    /// Adds the change to the journal, if a service with one runs.
    async fn note(
        &self,
        client: Option<&Client>,
        action: MachineAction,
        planned: &Planned,
    ) -> Result<(), CliError> {
        let note = MachineNote {
            change: MachineChange {
                action,
                paths: planned.paths(),
                homes: self.homes()?,
            },
            undoes: self.undo.as_ref().map(|(revision, _)| *revision),
        };
        let Some(client) = client else { return Ok(()) };
        match client.post("/machine/changes", &note).await {
            Err(CliError::NotRunning { .. } | CliError::Unreachable { .. }) => Ok(()),
            other => other,
        }
    }

    /// The home folders of the users whose browsers are meant.
    fn homes(&self) -> Result<Vec<PathBuf>, CliError> {
        if let Some((_, change)) = &self.undo {
            // The journal is the service's: root goes by it into homes of users, and nowhere else.
            let own = home();
            let is_home = |folder: &&PathBuf| **folder == own || Account::lives_in(folder);
            return Ok(change.homes.iter().filter(is_home).cloned().collect());
        }
        if self.user.is_empty() {
            return Ok(vec![home()]);
        }
        let home = |name: &String| {
            let account = Account::named(name).ok_or_else(|| CliError::Value {
                field: "--user",
                reason: format!("there is no user {name}"),
            });
            account.map(|account| account.home)
        };
        self.user.iter().map(home).collect()
    }

    /// Shows what would be changed, asks, does it, and shows what came of it.
    pub(super) async fn attach(
        &self,
        client: &Client,
        machine: &Machine,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        if self.apply(client, machine, data_dir, output).await? {
            let verdict = machine::look(client).await?;
            output.data(&verdict, |verdict| machine::describe(output, verdict))?;
        }
        Ok(Answer::Yes)
    }

    /// Brings the names in the hosts file up to date, where they are there by us.
    pub(crate) async fn refresh_hosts(client: &Client, machine: &Machine) -> Result<(), CliError> {
        let facts = facts(client).await?;
        let (facts, _) = facts.limited_to(&facts.zones);
        for part in machine.out_of_date(&facts)? {
            machine.carry_out(&machine.plan_attach(&[part], &facts)?)?;
        }
        Ok(())
    }

    /// Shows what would be changed, asks, and does it; gives whether anything was changed.
    pub(crate) async fn apply(
        &self,
        client: &Client,
        machine: &Machine,
        data_dir: &Path,
        output: &Output,
    ) -> Result<bool, CliError> {
        let mut planned = Planned::default();
        let ours = trust::ask(client).await?;
        if self.wants(OnlyPart::Trust, true) {
            self.plan_trust(&ours, &mut planned)?;
        }
        let parts = self.parts(machine, &[Part::Resolver]);
        if !parts.is_empty() {
            let facts = facts(client).await?;
            // What root does is decided here, whatever the service says of its names.
            let (facts, left_out) = facts.limited_to(&facts.zones);
            planned.left_out.extend(left_out);
            match machine.plan_attach(&parts, &facts) {
                Ok(plan) => planned.files = plan,
                Err(cause) if self.only.is_none() => planned.left_out.push(cause.to_string()),
                Err(cause) => return Err(cause.into()),
            }
        }
        if let Some((_, change)) = &self.undo {
            planned.limit_to(change);
        }
        if self.without_root {
            planned.stores.retain(|step| !step.store.needs_root());
        }
        if !self.carry_out(output, machine, Some(&ours), &planned, true)? {
            return Ok(false);
        }
        if !planned.stores.is_empty() && nix::unistd::geteuid().is_root() {
            machine.approve_roots(data_dir, ours.keys().iter().cloned())?;
        }
        let action = MachineAction::Attach;
        self.note(Some(client), action, &planned).await?;
        if self.wants(OnlyPart::Unit, false) {
            output.say(UNIT_NEXT);
        }
        Ok(true)
    }

    fn plan_trust(&self, ours: &OwnRoot, planned: &mut Planned) -> Result<(), CliError> {
        let Some(refused) = ours.refusal() else {
            planned.stores = ours.plan_attach(&self.homes()?);
            return Ok(());
        };
        if self.only.is_some() && !ours.is_constrained() {
            return Err(CliError::Value {
                field: "trust",
                reason: refused.to_owned(),
            });
        }
        planned.left_out.push(refused.to_owned());
        Ok(())
    }

    /// Restores what was replaced.
    pub(crate) async fn detach(
        &self,
        client: Option<&Client>,
        machine: &Machine,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let mut planned = Planned::default();
        let parts = self.parts(machine, &Part::ALL);
        if !parts.is_empty() {
            planned.files = machine.plan_detach(&parts)?;
        }
        let mut ours = None;
        // Our roots are recognised by the owner in the certificate.
        let root = data_dir.join("root.pem");
        if self.wants(OnlyPart::Trust, true) && root.exists() {
            let approved = machine.approved()?.map(|approved| approved.roots);
            let keys = former_keys(data_dir)
                .into_iter()
                .chain(approved.unwrap_or_default());
            ours = OwnRoot::new(&read_text(&root)?, "", "localhost", keys);
            let homes = self.homes()?;
            planned.stores = ours
                .as_ref()
                .map_or_else(Vec::new, |it| it.plan_detach(&homes));
        }
        if let Some((_, change)) = &self.undo {
            planned.limit_to(change);
        }
        self.check_unchanged(&planned)?;
        let done = self.carry_out(output, machine, ours.as_ref(), &planned, false)?;
        if done {
            let action = MachineAction::Detach;
            self.note(client, action, &planned).await?;
            if !planned.stores.is_empty() && machine.approved()?.is_some() {
                machine.approve_roots(data_dir, [])?;
            }
            output.say("everything is restored");
        }
        Ok(Answer::Yes)
    }

    /// Shows the plan, asks, and does it; gives whether anything was done.
    fn carry_out(
        &self,
        output: &Output,
        machine: &Machine,
        ours: Option<&OwnRoot>,
        planned: &Planned,
        adds: bool,
    ) -> Result<bool, CliError> {
        if !self.agreed(output, planned, adds)? {
            return Ok(false);
        }
        if !planned.files.is_empty() {
            machine.carry_out(&planned.files)?;
        }
        // Without a root of ours no store is planned for.
        if let Some(ours) = ours {
            let bar = progress(planned.stores.len(), "trust stores");
            ours.carry_out(&planned.stores, adds, |store| {
                bar.set_message(store.path.display().to_string());
                bar.inc(1);
            })?;
            bar.finish_and_clear();
        }
        let running = trust::to_restart(None);
        if !planned.stores.is_empty() && !running.is_empty() {
            output.say(&format!(
                "start {} again: browsers read their roots when they start",
                running.join(" and ")
            ));
        }
        Ok(true)
    }

    /// Shows the plan, and asks whether to do it.
    fn agreed(&self, output: &Output, planned: &Planned, adds: bool) -> Result<bool, CliError> {
        if planned.is_empty() {
            for what in &planned.left_out {
                output.say(&format!("left out: {what}"));
            }
            output.say(match adds {
                true => "nothing to do: it is attached already",
                false => "nothing to do: nothing is attached",
            });
            return Ok(false);
        }
        if self.dry_run {
            output.data(planned, |planned| in_words(output, planned, adds))?;
            return Ok(false);
        }
        output.say(&in_words(output, planned, adds));
        if let Some(path) = planned.for_root()
            && !nix::unistd::geteuid().is_root()
        {
            return Err(bentlane_system::SystemError::NotAllowed {
                path: path.to_owned(),
            }
            .into());
        }
        if !self.yes && !confirm::agreed(output)? {
            output.say("nothing was changed");
            return Ok(false);
        }
        Ok(true)
    }
}

/// The keys of the roots that the service on this folder had, also when it does not run.
fn former_keys(data_dir: &Path) -> Vec<String> {
    let kept = read_file(&data_dir.join("keys/known-roots.json"), LARGEST_LIST).unwrap_or_default();
    serde_json::from_slice(&kept).unwrap_or_default()
}

fn in_words(output: &Output, planned: &Planned, adds: bool) -> String {
    let mut text = files_in_words(output, &planned.files);
    if !planned.stores.is_empty() {
        let stores = trust::plan_in_words(output, &planned.stores, adds);
        let gap = if text.is_empty() { "" } else { "\n" };
        let _ = write!(text, "{gap}{stores}"); // a String takes every write
    }
    for what in &planned.left_out {
        let _ = write!(text, "\nleft out: {what}");
    }
    text
}

fn files_in_words(output: &Output, plan: &Plan) -> String {
    let mut lines = Vec::new();
    let zones = plan.approved.as_ref().map(|approved| &approved.zones);
    if let Some(zones) = zones.filter(|zones| !zones.is_empty()) {
        let zones: Vec<&str> = zones.iter().map(Name::as_str).collect();
        lines.push(format!(
            "names in {} may be changed on this machine from now on, and no others",
            output.paint(Style::Strong, &zones.join(", "))
        ));
    }
    match &plan.program {
        Some(ProgramStep::Install { to, .. }) => lines.push(format!(
            "{}  a copy of this program that only root can change, for systemd to run",
            output.paint(Style::Strong, &to.display().to_string())
        )),
        Some(ProgramStep::Remove { path }) => lines.push(format!(
            "{}  remove the copy of this program",
            output.paint(Style::Strong, &path.display().to_string())
        )),
        None => {}
    }
    for step in &plan.steps {
        let what = step.in_words();
        let path = output.paint(Style::Strong, &step.path.display().to_string());
        lines.push(format!("{path}  {what}"));
        if let Some(caution) = &step.caution {
            let caution = format!("  careful: {caution}");
            lines.push(output.paint(Style::Broken, &caution));
        }
        lines.extend(difference(output, step));
    }
    lines.join("\n")
}

/// The lines that go and the lines that come.
fn difference(output: &Output, step: &Step) -> Vec<String> {
    let (gone, new) = step.difference();
    gone.iter()
        .map(|line| output.paint(Style::Broken, &format!("  - {line}")))
        .chain(
            new.iter()
                .map(|line| output.paint(Style::Passing, &format!("  + {line}"))),
        )
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
