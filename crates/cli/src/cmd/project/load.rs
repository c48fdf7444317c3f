//! Loading a project file: what changes is shown, asked for once, and applied whole.

use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_api_types::{
    CheckRequest, PlannedAction, PlannedChange, ProjectLoad, ProjectPlan, Status, Verdicts,
};
use bentlane_checks::MachinePart;
use bentlane_model::{Held, Name};
use bentlane_project::Requires;
use clap::Args;
use notify::{RecursiveMode, Watcher as _};
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep};

use super::super::{confirm, lanes, machine, printable};
use super::{find_file, read_file, refused};
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, Style, busy};

/// How long changes of the file are collected before it is read again.
const SETTLE: Duration = Duration::from_millis(100);
/// How long `--wait` waits for the routes to pass.
const WAIT_LIMIT: Duration = Duration::from_secs(120);
/// How often they are checked meanwhile.
const CHECK_EVERY: Duration = Duration::from_millis(500);

/// `bentlane project load`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane project load                          of this folder, or the nearest above
  bentlane project load --dry-run                what is new, changed, gone and the same
  bentlane project load --zone fix-login.moor.test     a further working copy, with names of its own
  bentlane project load --watch                  and each time that the file changes
  bentlane project load --yes --wait --check && npm test")]
pub(crate) struct Load {
    /// The file [default: bentlane.toml of this folder or the nearest above]
    file: Option<PathBuf>,
    /// Move its names below this zone, and give its apps other names and ports
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// Take names from another project, or from a person
    #[arg(long)]
    take_over: bool,
    /// Only show what would change
    #[arg(long)]
    dry_run: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
    /// Go on, and load the file again when it changes: what is harmless at once, the rest once you agreed
    #[arg(long, conflicts_with_all = ["dry_run", "wait", "check"])]
    watch: bool,
    /// Wait until its routes pass, up to two minutes; apps that a visit starts are started
    #[arg(long)]
    wait: bool,
    /// Check its routes, and end with 1 unless all of them pass
    #[arg(long)]
    check: bool,
}

impl Load {
    /// Loads the file of a folder.
    pub(in crate::cmd) fn of(folder: &Path, yes: bool) -> Result<Self, CliError> {
        Ok(Self {
            file: Some(find_file(Some(folder))?),
            zone: None,
            take_over: false,
            dry_run: false,
            yes,
            watch: false,
            wait: false,
            check: false,
        })
    }

    /// The zone that the file says.
    pub(in crate::cmd) fn zone(&self) -> Result<Option<Name>, CliError> {
        let file = find_file(self.file.as_deref())?;
        let read = bentlane_project::read(&read_file(&file)?).map_err(|faults| {
            let each = faults
                .iter()
                .map(|fault| format!("{}: {fault}", file.display()));
            refused(each.collect::<Vec<_>>().join("\n"))
        })?;
        Ok(read.zone)
    }

    pub(in crate::cmd) async fn run(
        self,
        client: &Client,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let file = find_file(self.file.as_deref())?;
        let text = read_file(&file)?;
        let answer = self
            .load(client, output, &file, text.clone(), false)
            .await?;
        if matches!(answer, Answer::No) || self.dry_run {
            return Ok(answer);
        }
        if self.watch {
            return self.follow(client, output, &file, text).await;
        }
        if self.wait || self.check {
            return self.prove(client, output, &file).await;
        }
        Ok(answer)
    }

    fn request(&self, file: &Path, text: String) -> ProjectLoad {
        ProjectLoad {
            file: file.to_owned(),
            text,
            zone: self.zone.clone(),
            take_over: self.take_over,
            based_on: None,
        }
    }

    /// Loads a text of the file. With `is_again`, what is harmless needs no consent.
    async fn load(
        &self,
        client: &Client,
        output: &Output,
        file: &Path,
        text: String,
        is_again: bool,
    ) -> Result<Answer, CliError> {
        let mut request = self.request(file, text);
        loop {
            let plan: ProjectPlan = client.post("/projects?dry_run=true", &request).await?;
            let missing = unmet(client, &plan.requires).await?;
            if self.dry_run {
                output.data(&plan, |plan| in_words(output, plan, &missing))?;
                return Ok(match missing.is_empty() {
                    true => Answer::Yes,
                    false => Answer::No,
                });
            }
            if !missing.is_empty() {
                return Err(refused(missing.join("; ")));
            }
            if plan.changes.is_empty() {
                output.say(&format!("{}: nothing has changed", file.display()));
                return Ok(Answer::Yes);
            }
            output.say(&in_words(output, &plan, &missing));
            let is_agreed = self.yes || (is_again && is_harmless(&plan));
            if !is_agreed && !confirm::agreed(output)? {
                output.say("nothing was loaded");
                return Ok(Answer::No);
            }
            request.based_on = Some(plan.revision);
            match client.post::<ProjectPlan>("/projects", &request).await {
                // Another change came between: it is shown what loading means now.
                Err(CliError::Refused(problem)) if problem.status == 412 => {
                    request.based_on = None;
                    output.say("the configuration has changed meanwhile:");
                }
                Err(error) => return Err(error),
                Ok(loaded) => {
                    if output.is_json() {
                        output.data(&loaded, |_| String::new())?;
                    }
                    output.say(&format!("loaded {}", file.display()));
                    return Ok(Answer::Yes);
                }
            }
        }
    }

    /// Loads the file each time that it changes, until interrupted.
    async fn follow(
        &self,
        client: &Client,
        output: &Output,
        file: &Path,
        mut text: String,
    ) -> Result<Answer, CliError> {
        let (sender, mut changes) = mpsc::channel(1);
        let name = file.file_name().map(ToOwned::to_owned);
        let mut watcher =
            notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
                let is_its = |path: &PathBuf| path.file_name() == name.as_deref();
                if event.is_ok_and(|event| event.paths.iter().any(is_its)) {
                    // One that waits is enough.
                    let _ = sender.try_send(());
                }
            })
            .map_err(|error| refused(error.to_string()))?;
        let folder = file.parent().unwrap_or(Path::new("/"));
        watcher
            .watch(folder, RecursiveMode::NonRecursive)
            .map_err(|error| refused(error.to_string()))?;
        output.say(&format!("watching {}", file.display()));
        while changes.recv().await.is_some() {
            sleep(SETTLE).await;
            // What came meanwhile is in what is read now.
            let _ = changes.try_recv();
            let now = match read_file(file) {
                Ok(now) if now == text => continue,
                Ok(now) => now,
                Err(error) => {
                    output.error(&error);
                    continue;
                }
            };
            text.clone_from(&now);
            if let Err(error) = self.load(client, output, file, now, true).await {
                output.error(&error);
            }
        }
        Ok(Answer::Yes)
    }

    /// Checks the routes of the file; waits for them where that is asked for.
    async fn prove(
        &self,
        client: &Client,
        output: &Output,
        file: &Path,
    ) -> Result<Answer, CliError> {
        let list: bentlane_api_types::Projects = client.get("/projects").await?;
        let project = list.projects.into_iter().find(|it| it.file == file);
        let project =
            project.ok_or_else(|| refused(format!("{} is not loaded", file.display())))?;
        if self.wait {
            let _waiting = busy("starting the apps");
            for app in &project.apps {
                let path = format!("/apps/{}/start?wait=true", segment(app));
                let _: bentlane_api_types::AppView = client.post(&path, &()).await?;
            }
        }
        let request = CheckRequest {
            addresses: project.routes.clone(),
            ..CheckRequest::default()
        };
        let until = Instant::now() + WAIT_LIMIT;
        let waiting = busy("checking the routes");
        let checked = loop {
            let checked: Verdicts = match project.routes.is_empty() {
                true => return Ok(Answer::Yes),
                false => client.post("/checks", &request).await?,
            };
            let passed = checked.verdicts.iter().all(|verdict| verdict.passed);
            if passed || !self.wait || Instant::now() > until {
                break checked;
            }
            sleep(CHECK_EVERY).await;
        };
        drop(waiting);
        let verdicts = checked.verdicts;
        let passed = verdicts.iter().all(|verdict| verdict.passed);
        output.say(&lanes::lanes(output, &verdicts));
        let findings = lanes::findings(output, &verdicts, |_| true);
        if !findings.is_empty() {
            output.say(&findings);
        }
        Ok(match passed {
            true => Answer::Yes,
            false => Answer::No,
        })
    }
}

/// Whether a change needs no consent: it runs no other command, reaches nothing beyond the project, and
/// takes nothing from others.
fn is_harmless(plan: &ProjectPlan) -> bool {
    plan.commands.is_empty() && plan.beyond.is_empty() && plan.held.is_empty()
}

/// What a project needs of the machine and is not there.
async fn unmet(client: &Client, requires: &Requires) -> Result<Vec<String>, CliError> {
    let mut missing = Vec::new();
    if *requires == Requires::default() {
        return Ok(missing);
    }
    let status: Status = client.get("/status").await?;
    missing.extend(requires.refuses_version(&status.version));
    let listens =
        |listeners: &[std::net::SocketAddr], port| listeners.iter().any(|at| at.port() == port);
    let on_standard_ports =
        listens(&status.listeners.http, 80) && listens(&status.listeners.https, 443);
    if requires.standard_ports && !on_standard_ports {
        missing.push(
            "it needs the ports 80 and 443: start the service with `sudo bentlane serve`, without \
             --high-ports"
                .to_owned(),
        );
    }
    let answers = status.engines.iter().any(|engine| engine.fault.is_none());
    if requires.engine && !answers {
        missing.push("it needs a container engine, and none answers: start one".to_owned());
    }
    if requires.lookups || requires.trust {
        let seen = machine::look(client).await?;
        let is_ready = |part: MachinePart| seen.failed().all(|item| item.part != part);
        if requires.lookups && !is_ready(MachinePart::Lookups) {
            missing.push(
                "it needs this machine's lookups to reach Bent Lane: `sudo bentlane system attach --only lookups`"
                    .to_owned(),
            );
        }
        if requires.trust && !is_ready(MachinePart::Trust) {
            missing.push(
                "it needs this machine to trust the root: `sudo bentlane system attach --only trust`".to_owned(),
            );
        }
    }
    Ok(missing)
}

/// What loading a file changes, for a person.
fn in_words(output: &Output, plan: &ProjectPlan, missing: &[String]) -> String {
    let mut lines = vec![output.paint(Style::Strong, &plan.file.display().to_string())];
    for change in &plan.changes {
        let (sign, style) = match change.change {
            PlannedAction::New => ("new", Style::Passing),
            PlannedAction::Changed => ("changed", Style::Fix),
            PlannedAction::Gone => ("gone", Style::Broken),
        };
        let sign = output.paint(style, &format!("{sign:<8}"));
        lines.push(format!("  {sign} {:<7} {}", change.kind, told(change)));
    }
    if plan.same > 0 {
        lines.push(format!("  {:<8} {}", "same", plan.same));
    }
    for Held { what, file } in &plan.held {
        lines.push(match file {
            Some(file) => format!("  takes the {what} from {}", file.display()),
            None => format!("  takes the {what}, which was made by hand"),
        });
    }
    if !plan.held.is_empty() {
        lines.push("  without --take-over nothing is loaded".to_owned());
    }
    if !plan.commands.is_empty() {
        lines.push("Commands that it runs as you:".to_owned());
        for command in &plan.commands {
            lines.push(format!(
                "  {} in {}",
                command.app,
                printable(&command.folder)
            ));
            if let Some(before) = &command.before {
                lines.push(format!("  - {}", printable(before)));
            }
            lines.push(format!("  + {}", printable(&command.command)));
        }
    }
    if !plan.beyond.is_empty() {
        lines.push("Beyond its folder and this machine:".to_owned());
        lines.extend(
            plan.beyond
                .iter()
                .map(|line| format!("  {}", printable(line))),
        );
    }
    lines.extend(
        plan.notes
            .iter()
            .map(|note| format!("note: {}", printable(note))),
    );
    lines.extend(missing.iter().map(|reason| format!("missing: {reason}")));
    lines.join("\n")
}

fn told(change: &PlannedChange) -> String {
    let values = match (&change.before, &change.after) {
        (Some(before), Some(after)) => format!("  {before} → {after}"),
        (None, Some(after)) => format!("  {after}"),
        (Some(before), None) => format!("  {before}"),
        (None, None) => String::new(),
    };
    printable(&format!("{}{values}", change.name))
}
