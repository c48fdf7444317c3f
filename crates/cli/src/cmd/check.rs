use std::cmp::Reverse;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use bentlane_core::check::{Finding, Hop, Severity, Verdict};
use bentlane_service::api::{CheckRequest, NamesToLookUp, Routes, Verdicts};
use clap::Args;
use indicatif::{ProgressBar, ProgressStyle};
use time::macros::format_description;
use tokio::process::Command;
use tokio::time::sleep;

use super::{confirm, from_container, junit, lanes};
use crate::args::Format;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Tone};

/// Routes checked for one step of the progress bar.
const STEP: usize = 64;
/// How often routes are looked at that are waited for, or watched.
const LOOK_AGAIN: Duration = Duration::from_millis(500);
/// Remedies that are carried out for one check at most: each is followed by another check.
const MOST_REMEDIES: usize = 50;

/// `bentlane check`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane check                           every route
  bentlane check booking.moor.test ravenstone.hut.moor.test/tarn
  bentlane check --deep booking.moor.test  what the page asks and loads, too
  bentlane check --fix                     carry out what fixes it, one by one
  bentlane check --wait 30s && npm test    wait until all pass
  bentlane check --only connect
  bentlane check --from container:tiles    what that container sees; with sudo for root's engine
  bentlane check --format junit > checks.xml
  bentlane check --format json | jq '.verdicts[] | select(.passed | not)'

Hops: resolve (the name leads here), connect (the target accepts), handshake (the certificate is
trusted), answer (a request gets its response), expect (it is the right app's). Exit code 1 when one
fails. Every finding is explained in docs/findings.md.")]
pub(crate) struct Check {
    /// Routes, or names and URLs that lead to them [default: all routes]
    #[arg(value_name = "ADDRESS")]
    addresses: Vec<String>,
    /// Look at this hop alone
    #[arg(long, value_name = "HOP", value_parser = hop)]
    only: Option<Hop>,
    /// Look from inside a container's network, at the first two hops: container:NAME
    #[arg(long, value_name = "container:NAME", conflicts_with_all = ["only", "deep", "wait", "watch", "fix"])]
    from: Option<String>,
    /// With --from: the socket of the container engine [default: where engines usually have it]
    #[arg(long, value_name = "SOCKET", requires = "from")]
    engine: Option<PathBuf>,
    /// Look further: at what a page asks and loads, and at the app without the proxy
    #[arg(long)]
    deep: bool,
    /// Offer to run the commands that fix what was found, and check again
    #[arg(long)]
    fix: bool,
    /// With --fix: carry them out without asking
    #[arg(long, requires = "fix")]
    yes: bool,
    /// Check again until all pass, for at most this long: 30s, 2m
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    wait: Option<Duration>,
    /// Go on, and print a line whenever a route changes
    #[arg(long, conflicts_with_all = ["wait", "fix", "only", "deep"])]
    watch: bool,
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
        let mut verdicts = match self.wait {
            Some(most) => self.wait(client, output, most).await?,
            None => self.check(client, output).await?,
        };
        if verdicts.verdicts.is_empty() && verdicts.gone.is_empty() && output.is_table() {
            output.say("there is no route yet: add one with `bentlane route add NAME PORT`");
            return Ok(Answer::Yes);
        }
        if self.fix {
            verdicts = self.fix(client, data_dir, output, verdicts).await?;
        }
        show(output, &verdicts)?;
        let passed = verdicts.verdicts.iter().all(|verdict| verdict.passed);
        Ok(if passed { Answer::Yes } else { Answer::No })
    }

    /// Checks, in steps, with a bar when there are many.
    async fn check(&self, client: &Client, output: &Output) -> Result<Verdicts, CliError> {
        let known = self.addresses.is_empty();
        let addresses = if known {
            let Routes { routes, .. } = client.get("/routes").await?;
            routes.into_iter().map(|route| route.address).collect()
        } else {
            self.addresses.clone()
        };
        let bar = if addresses.len() > STEP && output.is_table() {
            let style = ProgressStyle::with_template("{bar:30} {pos} of {len} routes, {eta} left")
                .unwrap_or_else(|_| ProgressStyle::default_bar());
            ProgressBar::new(addresses.len() as u64).with_style(style)
        } else {
            ProgressBar::hidden()
        };
        let mut all = Verdicts::default();
        for step in addresses.chunks(STEP) {
            let mut request = CheckRequest {
                addresses: step.to_vec(),
                only: self.only,
                deep: self.deep,
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

    /// Checks until all pass, or the time is over.
    async fn wait(
        &self,
        client: &Client,
        output: &Output,
        most: Duration,
    ) -> Result<Verdicts, CliError> {
        let start = Instant::now();
        let mut told = usize::MAX;
        loop {
            let verdicts = self.check(client, output).await?;
            let broken: Vec<&Verdict> = verdicts.verdicts.iter().filter(|it| !it.passed).collect();
            if broken.is_empty() || start.elapsed() >= most {
                return Ok(verdicts);
            }
            if broken.len() != told {
                told = broken.len();
                let first = broken
                    .first()
                    .map(|it| it.address.clone())
                    .unwrap_or_default();
                let others = match broken.len() {
                    1 => String::new(),
                    count => format!(" and {} others", count - 1),
                };
                output.say(&format!("waiting for {first}{others} …"));
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

    /// Offers each remedy that is ours to carry out, one by one, and checks again after each.
    async fn fix(
        &self,
        client: &Client,
        data_dir: &Path,
        output: &Output,
        mut verdicts: Verdicts,
    ) -> Result<Verdicts, CliError> {
        let mut done: Vec<String> = Vec::new();
        for _ in 0..MOST_REMEDIES {
            let Some((finding, command)) = next_remedy(&verdicts, &done) else {
                break;
            };
            done.push(command.clone());
            output.say(&format!("{} ({})", finding.summary, finding.slug.slug()));
            output.say(&format!("  → {}", finding.remedy.text));
            output.say(&format!("    {command}"));
            // What changes the machine shows its own plan, and asks.
            let asks = command.contains(" system attach");
            if !self.yes && !asks && !confirm::agreed(output)? {
                output.say("left as it is");
                continue;
            }
            if let Err(error) = carry_out(&command, data_dir, asks && self.yes).await {
                output.error(&error);
                continue;
            }
            verdicts = self.check(client, output).await?;
        }
        if done.is_empty() {
            output.say("nothing here can be fixed by a command of Bent Lane's");
        }
        Ok(verdicts)
    }
}

/// The worst finding whose remedy is ours to carry out and was not offered yet, with its command.
fn next_remedy(verdicts: &Verdicts, done: &[String]) -> Option<(Finding, String)> {
    let findings = verdicts.verdicts.iter().flat_map(|it| &it.findings);
    let ours = findings.filter_map(|finding| {
        let command = finding.remedy.command.clone()?;
        let wanted = finding.remedy.ours && finding.severity > Severity::Hint;
        (wanted && !done.contains(&command)).then_some((finding, command))
    });
    // Of those that are as bad, the first.
    let worst = ours.min_by_key(|(finding, _)| Reverse(finding.severity));
    worst.map(|(finding, command)| (finding.clone(), command))
}

/// Runs a command of ours, as it was shown.
async fn carry_out(command: &str, data_dir: &Path, agreed: bool) -> Result<(), CliError> {
    let failed = |source| CliError::Io {
        verb: format!("run `{command}`"),
        source,
    };
    let program = std::env::current_exe().map_err(failed)?;
    let words = shlex::split(command).unwrap_or_default();
    let as_root = words.first().is_some_and(|word| word == "sudo");
    let mut running = if as_root && !rustix::process::geteuid().is_root() {
        let mut running = Command::new("sudo");
        running.arg("--preserve-env=BENTLANE_DATA_DIR").arg(program);
        running
    } else {
        Command::new(program)
    };
    running.args(words.iter().skip(if as_root { 2 } else { 1 }));
    if agreed {
        running.arg("--yes");
    }
    // It is for the service that was asked, whichever way that was named.
    running.env("BENTLANE_DATA_DIR", data_dir);
    running.stdout(Stdio::null());
    let status = running.status().await.map_err(failed)?;
    if status.success() || status.code() == Some(1) {
        return Ok(());
    }
    Err(failed(std::io::Error::other(format!(
        "it ended with {status}"
    ))))
}

/// A line for a route that has changed.
fn change(output: &Output, verdict: &Verdict) -> String {
    let format = format_description!("[hour]:[minute]:[second]");
    let at = verdict.checked_at.format(format).unwrap_or_default();
    let at = output.paint(Tone::Muted, &at);
    let lane = lanes::small(output, verdict);
    let flapping = if verdict.flapping { ", flapping" } else { "" };
    let words = match verdict.worst().filter(|_| !verdict.passed) {
        Some(finding) => format!("{}: {}{flapping}", finding.hop, finding.summary),
        None => format!("every hop proved{flapping}"),
    };
    format!("{at}  {lane}  {}  {words}", verdict.address)
}

fn show(output: &Output, verdicts: &Verdicts) -> Result<(), CliError> {
    if output.format() == Format::Junit {
        return output.raw(&junit::report(&verdicts.verdicts)?);
    }
    output.data(verdicts, |Verdicts { verdicts, gone }| {
        let gone = gone
            .iter()
            .map(|address| format!("{address} is gone: it was removed meanwhile"));
        let parts = [
            lanes::lanes(output, verdicts),
            lanes::findings(output, verdicts),
            gone.collect::<Vec<_>>().join("\n"),
            lanes::summary(verdicts),
        ];
        parts
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("\n\n")
    })
}
