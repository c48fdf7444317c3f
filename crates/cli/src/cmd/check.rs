use std::cmp::Reverse;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use bentlane_api_types::{CheckRequest, NamesToLookUp, Routes, Verdicts};
use bentlane_checks::{Action, Finding, FindingKind, Fix, Hop, MachineVerdict, Severity, Verdict};
use clap::Args;
use serde::Serialize;
use time::macros::format_description;
use tokio::time::sleep;

use super::{confirm, fix, from_container, junit, lanes, machine};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::format::Format;
use crate::output::{Output, Style, progress};

/// Routes checked for one step of the progress bar.
const STEP: usize = 64;
/// How often routes are looked at that are waited for, or watched.
const LOOK_AGAIN: Duration = Duration::from_millis(500);
/// Fixes that are carried out for one check at most: each is followed by another check.
const MOST_FIXES: usize = 50;

/// `bentlane check`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane check                           every route
  bentlane check booking.moor.test ravenstone.hut.moor.test/tarn
  bentlane check --deep booking.moor.test  also what the page requests and loads
  bentlane check --fix                     apply the fixes, one by one
  bentlane check --wait 30s && npm test    wait until all pass
  bentlane check --only connect
  bentlane check --routes-only             in CI, where nothing is attached
  bentlane check --from container:tiles    what that container sees; with sudo for root's engine
  bentlane check --format junit > checks.xml
  bentlane check --format json | jq '.verdicts[] | select(.passed | not)'

First comes this machine: its lookups, its trust stores, its ports. Then each route, hop by hop:
resolve (the name leads here), handshake (the certificate is trusted), connect (a route exists and
its target accepts), answer (a response comes), expect (it is the right app's, where the route says
what to expect). A route is proved when every hop passes and this machine reaches it, and ready when
the machine does not yet. Exit code 1 when anything fails. docs/findings.md explains every finding.")]
pub(crate) struct Check {
    /// Routes, or names and URLs that lead to them [default: all routes]
    #[arg(value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// Check only this hop
    #[arg(long, value_name = "HOP", value_parser = hop)]
    only: Option<Hop>,
    /// Check the first two hops from inside a container's network: container:NAME
    #[arg(long, value_name = "container:NAME", conflicts_with_all = ["only", "deep", "wait", "watch", "fix"])]
    from: Option<String>,
    /// With --from: the socket of the container engine [default: the usual ones]
    #[arg(long, value_name = "SOCKET", requires = "from")]
    engine: Option<PathBuf>,
    /// Also check what the page requests and loads, and the app without the proxy
    #[arg(long)]
    deep: bool,
    /// Skip this machine: whether its lookups and trust stores work
    #[arg(long)]
    routes_only: bool,
    /// Offer to apply the fixes, one by one, and check again
    #[arg(long)]
    fix: bool,
    /// With --fix: apply them without asking, except those that say which app is the right one
    #[arg(long, requires = "fix")]
    yes: bool,
    /// Repeat until all pass, at most for this time: 30s, 2m
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    wait: Option<Duration>,
    /// Keep running, and print a line whenever a route changes
    #[arg(long, conflicts_with_all = ["wait", "fix", "only", "deep"])]
    watch: bool,
}

/// Whole seconds, and as many as a check waits in any case.
fn seconds(time: Duration) -> u32 {
    const USUAL: u64 = 10;
    time.as_secs().max(USUAL).try_into().unwrap_or(u32::MAX)
}

fn hop(text: &str) -> Result<Hop, String> {
    let names: Vec<&str> = Hop::ALL.iter().map(|hop| hop.as_str()).collect();
    let found = Hop::ALL.into_iter().find(|hop| hop.as_str() == text);
    found.ok_or_else(|| format!("it is none of {}", names.join(", ")))
}

impl Check {
    pub(crate) async fn run(
        self,
        client: &Client,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        if self.watch {
            return self.watch(client, output).await;
        }
        let mut checked = match self.wait {
            Some(most) => self.wait(client, output, most).await?,
            None => self.check_all(client, output, None).await?,
        };
        if self.fix {
            checked = self.fix(client, data_dir, output, checked).await?;
        }
        self.show(output, &checked)?;
        Ok(if checked.passed() {
            Answer::Yes
        } else {
            Answer::No
        })
    }

    /// A check of this machine and of every route.
    pub(crate) fn of_everything() -> Self {
        Self {
            addresses: Vec::new(),
            only: None,
            from: None,
            engine: None,
            deep: false,
            routes_only: false,
            fix: false,
            yes: false,
            wait: None,
            watch: false,
        }
    }

    /// Whether this machine is to be checked.
    fn looks_at_the_machine(&self) -> bool {
        !self.routes_only && self.only.is_none() && self.from.is_none()
    }

    /// Checks what was asked for; `patience` is how long a response may take to begin, in place of 10 s.
    async fn check_all(
        &self,
        client: &Client,
        output: &Output,
        patience: Option<Duration>,
    ) -> Result<Checked, CliError> {
        let looking = async {
            match self.looks_at_the_machine() {
                true => machine::look(client).await.map(Some),
                false => Ok(None),
            }
        };
        let (machine, routes) = tokio::try_join!(looking, self.check(client, output, patience))?;
        Ok(Checked { machine, routes })
    }

    /// Checks, in steps, with a bar when there are many.
    async fn check(
        &self,
        client: &Client,
        output: &Output,
        patience: Option<Duration>,
    ) -> Result<Verdicts, CliError> {
        let known = self.addresses.is_empty();
        let addresses = if known {
            let Routes { routes, .. } = client.get("/routes").await?;
            routes.into_iter().map(|route| route.address).collect()
        } else {
            self.addresses.clone()
        };
        let steps = if addresses.len() > STEP && output.is_table() {
            addresses.len()
        } else {
            0
        };
        let bar = progress(steps, "routes");
        let mut all = Verdicts::default();
        for step in addresses.chunks(STEP) {
            let mut request = CheckRequest {
                addresses: step.to_vec(),
                only: self.only,
                deep: self.deep,
                wait_s: patience.map(seconds),
                from: None,
                known,
            };
            if let Some(from) = &self.from {
                let container = from_container::container_in(from)?;
                let asked: NamesToLookUp = client.post("/checks/names", &request).await?;
                let engine = self.engine.as_deref();
                let seen = from_container::look(container, engine, &asked.names).await?;
                request.from = Some(seen);
            }
            let checked: Verdicts = client.post("/checks", &request).await?;
            all.verdicts.extend(checked.verdicts);
            all.gone.extend(checked.gone);
            bar.inc(step.len() as u64);
        }
        bar.finish_and_clear();
        Ok(all)
    }

    /// Checks until all pass or the time limit is reached.
    async fn wait(
        &self,
        client: &Client,
        output: &Output,
        most: Duration,
    ) -> Result<Checked, CliError> {
        let start = Instant::now();
        let mut told = String::new();
        loop {
            let left = most.saturating_sub(start.elapsed());
            let checked = self.check_all(client, output, Some(left)).await?;
            if checked.is_settled() || start.elapsed() >= most {
                return Ok(checked);
            }
            let what = checked.failed();
            if what != told {
                output.say(&format!("waiting for {what} …"));
                told = what;
            }
            sleep(LOOK_AGAIN.min(most.saturating_sub(start.elapsed()))).await;
        }
    }

    /// Prints a line whenever a route changes, until it is interrupted.
    async fn watch(&self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let mut known: HashMap<String, Verdict> = HashMap::new();
        loop {
            let Routes { routes, .. } = client.get("/routes").await?;
            for route in routes {
                let wanted = self.addresses.is_empty() || self.addresses.contains(&route.address);
                let Some(verdict) = route.verdict.filter(|_| wanted) else {
                    continue;
                };
                let before = known.get(&verdict.address);
                if before.is_none_or(|before| !before.agrees_with(&verdict)) {
                    if output.is_table() {
                        output.line(&change(output, &verdict))?;
                    } else {
                        output.line(&serde_json::to_string(&verdict).map_err(CliError::Answer)?)?;
                    }
                    known.insert(verdict.address.clone(), verdict);
                }
            }
            sleep(LOOK_AGAIN).await;
        }
    }

    /// Offers each fix that is ours to carry out, one by one, and checks again after each.
    async fn fix(
        &self,
        client: &Client,
        data_dir: &Path,
        output: &Output,
        mut checked: Checked,
    ) -> Result<Checked, CliError> {
        let mut done: Vec<Action> = Vec::new();
        for _ in 0..MOST_FIXES {
            let Some(OfferedFix { what, text, action }) = checked.next_fix(&done) else {
                break;
            };
            done.push(action.clone());
            output.say(&what);
            output.say(&format!("  → {text}"));
            output.say(&format!("    {}", action.command()));
            for line in fix::preview(client, &action).await? {
                output.say(&format!("    {}", output.paint(Style::Muted, &line)));
            }
            if action.decides_what_is_right() {
                if self.yes {
                    output.say(
                        "left to you, since only you know whether the right app answers there",
                    );
                    continue;
                }
                output.say("    Is the app that answers there now the right one? Open it to see.");
            }
            // What changes the machine shows its own plan, and asks.
            if !self.yes && !action.needs_root() && !confirm::agreed(output)? {
                output.say("left as it is");
                continue;
            }
            if let Err(error) = fix::carry_out(client, data_dir, &action, self.yes).await {
                output.error(&error);
                continue;
            }
            checked = self.check_all(client, output, None).await?;
        }
        if done.is_empty() {
            output.say("nothing here can be fixed by a command of Bent Lane's");
        }
        Ok(checked)
    }

    fn show(&self, output: &Output, checked: &Checked) -> Result<(), CliError> {
        let Checked { machine, routes } = checked;
        if output.format() == Format::Junit {
            return output.raw(&junit::report(machine.as_ref(), &routes.verdicts)?);
        }
        output.data(checked, |checked| self.in_words(output, checked))
    }

    fn in_words(&self, output: &Output, Checked { machine, routes }: &Checked) -> String {
        let Verdicts { verdicts, gone } = routes;
        let gone = gone
            .iter()
            .map(|address| format!("{address} is gone: it was removed meanwhile"));
        // What holds for the whole machine is said once, above.
        let of_route = |finding: &Finding| machine.is_none() || !is_of_the_machine(finding);
        let parts = [
            machine
                .as_ref()
                .map(|it| machine::describe(output, it))
                .unwrap_or_default(),
            match verdicts.is_empty() {
                true => {
                    "there is no route yet: add one with `bentlane route add NAME PORT`".to_owned()
                }
                false => lanes::lanes(output, verdicts),
            },
            lanes::findings(output, verdicts, of_route),
            gone.collect::<Vec<_>>().join("\n"),
            self.summary(verdicts, machine.as_ref()),
        ];
        let parts = parts.into_iter().filter(|part| !part.is_empty());
        parts.collect::<Vec<_>>().join("\n\n")
    }

    fn summary(&self, verdicts: &[Verdict], machine: Option<&MachineVerdict>) -> String {
        if verdicts.is_empty() {
            return String::new();
        }
        let count = lanes::Count::of(verdicts, machine).in_words();
        match machine {
            Some(machine) => match machine::missing(machine) {
                Some(missing) => format!("{count}; {missing}"),
                None => count,
            },
            None if self.routes_only => format!("{count}; this machine was left out"),
            None => count,
        }
    }
}

/// What a check came to.
#[derive(Debug, Serialize)]
struct Checked {
    /// This machine, unless it was left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    machine: Option<MachineVerdict>,
    #[serde(flatten)]
    routes: Verdicts,
}

/// A fix that is ours to carry out.
struct OfferedFix {
    what: String,
    text: String,
    action: Action,
}

impl Checked {
    fn passed(&self) -> bool {
        self.machine.as_ref().is_none_or(|machine| machine.passed)
            && self.routes.verdicts.iter().all(|verdict| verdict.passed)
    }

    /// Whether all pass, and no app is still starting.
    fn is_settled(&self) -> bool {
        self.passed() && !self.routes.verdicts.iter().any(Verdict::is_starting)
    }

    /// What failed or is still starting, in few words.
    fn failed(&self) -> String {
        let items = self.machine.iter().flat_map(MachineVerdict::failed);
        let items =
            items.map(|item| format!("this machine's {} ({})", item.part.as_str(), item.subject));
        let broken = self.routes.verdicts.iter();
        let broken = broken.filter(|it| !it.passed || it.is_starting());
        let mut all = items.chain(broken.map(|it| it.address.clone()));
        let first = all.next().unwrap_or_default();
        match all.count() {
            0 => first,
            1 => format!("{first} and one other"),
            others => format!("{first} and {others} others"),
        }
    }

    /// The next fix that was not offered yet: the machine's first, then the worst finding's.
    fn next_fix(&self, done: &[Action]) -> Option<OfferedFix> {
        let mut items = self.machine.iter().flat_map(MachineVerdict::failed);
        let of_machine = items.find_map(|item| {
            let Fix { text, action, .. } = item.fix.clone()?;
            let action = action.filter(|action| !done.contains(action))?;
            let what = format!("{}: {}", item.subject, item.summary);
            Some(OfferedFix { what, text, action })
        });
        of_machine.or_else(|| {
            let (finding, action) = next_of_routes(&self.routes, done)?;
            Some(OfferedFix {
                what: format!("{} ({})", finding.summary, finding.slug.slug()),
                text: finding.fix.text,
                action,
            })
        })
    }
}

/// Whether a finding repeats for a route what is said of the machine.
fn is_of_the_machine(finding: &Finding) -> bool {
    let kinds = [
        FindingKind::SystemNotAsking,
        FindingKind::RootDistrusted,
        FindingKind::OlderRootTrusted,
    ];
    finding.severity != Severity::Error && kinds.contains(&finding.slug)
}

/// The worst finding whose fix is ours to carry out and was not offered yet, with its command.
fn next_of_routes(verdicts: &Verdicts, done: &[Action]) -> Option<(Finding, Action)> {
    let findings = verdicts.verdicts.iter().flat_map(|it| &it.findings);
    let ours = findings.filter_map(|finding| {
        let action = finding.fix.action.clone()?;
        let wanted = finding.severity > Severity::Hint && !done.contains(&action);
        wanted.then_some((finding, action))
    });
    // Of those that are as bad, the first.
    let worst = ours.min_by_key(|(finding, _)| Reverse(finding.severity));
    worst.map(|(finding, action)| (finding.clone(), action))
}

/// A line for a route that has changed.
fn change(output: &Output, verdict: &Verdict) -> String {
    let format = format_description!("[hour]:[minute]:[second]");
    let at = verdict.checked_at.format(format).unwrap_or_default();
    let at = output.paint(Style::Muted, &at);
    let lane = lanes::small(output, verdict);
    let flapping = if verdict.flapping { ", flapping" } else { "" };
    let words = match verdict.worst().filter(|_| !verdict.passed) {
        Some(finding) => format!("{}: {}{flapping}", finding.hop, finding.summary),
        None => format!("every hop passes{flapping}"),
    };
    format!("{at}  {lane}  {}  {words}", verdict.address)
}
