//! This machine: attached, detached, and looked at.

mod attach;
mod browser;
mod guide;
mod show;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_api_types::{AuthorityView, Status};
use bentlane_system::System as Machine;
use clap::{Args, Subcommand};

pub(crate) use self::attach::{ApplyOptions, OnlyPart};
use self::attach::{Attach, Detach};
use self::guide::Guide;
use super::trust::{self, Shell};
use super::{junit, machine};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::format::Format;
use crate::output::Output;

/// `bentlane system`
#[derive(Debug, Subcommand)]
pub(crate) enum System {
    /// Show whether this machine finds and trusts the names, and what is attached
    Show(Show),
    /// Check whether programs on this machine find the names and trust the certificates
    Check(Check),
    /// Point this machine's lookups at Bent Lane, and have its trust stores trust the root
    Attach(Attach),
    /// Undo what attach changed
    Detach(Detach),
    /// Update what is attached, after another program changed it or routes changed
    Repair(Repair),
    /// Print instructions or a script for macOS, Windows, WSL and phones
    Guide(Guide),
    /// Print environment variables for programs that do not use the system's trust store
    Env(Env),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system show
  bentlane system show --format json | jq '.machine.items[] | select(.state == \"failed\")'

Exits 1 when a program of this machine does not find our names, or does not trust our root.")]
pub(crate) struct Show {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system check && npm run dev
  bentlane system check --wait 30s
  bentlane system check --browser          start the installed browser and see what it says
  bentlane system check --format junit > machine.xml

It is the first part of `bentlane check`, without the routes: the system's lookups of every zone,
what each trust store says, and the ports. Exits 1 when something of that fails.")]
pub(crate) struct Check {
    /// Repeat until all passes, at most for this time: 30s, 2m
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    wait: Option<Duration>,
    /// Open a page of the service in an installed browser, headless, with a new profile
    #[arg(long)]
    browser: bool,
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
  sudo bentlane system repair

`system attach --only unit` has systemd run this by itself. It changes names in the zones that were
approved when the system was attached, and no others.")]
pub(crate) struct Repair {}

impl System {
    /// Runs the command. What is attached can be detached without a service, too.
    pub(crate) async fn run(
        self,
        client: impl FnOnce() -> Result<Client, CliError>,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let machine = Machine::default();
        match self {
            Self::Detach(Detach { how }) => {
                let client = client().ok(); // It can be detached without a service.
                how.detach(client.as_ref(), &machine, data_dir, output)
                    .await
            }
            Self::Repair(Repair {}) => repair(&machine, output),
            Self::Show(Show {}) => show::show(&client()?, &machine, output).await,
            Self::Check(check) => check.run(&client()?, output).await,
            Self::Attach(Attach { how }) => {
                how.attach(&client()?, &machine, data_dir, output).await
            }
            Self::Env(Env { shell }) => env(&client()?, shell, output).await,
            Self::Guide(guide) => guide.run(&client()?, output).await,
        }
    }
}

impl Check {
    async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let mut verdict = match self.wait {
            Some(most) => machine::wait(client, output, most).await?,
            None => machine::look(client).await?,
        };
        if self.browser {
            verdict.items.extend(browser::look(client, output).await?);
            verdict.passed = verdict.items.iter().all(|it| !it.state.fails());
        }
        if output.format() == Format::Junit {
            output.raw(&junit::report(Some(&verdict), &[])?)?;
        } else {
            output.data(&verdict, |verdict| machine::describe(output, verdict))?;
        }
        Ok(if verdict.passed {
            Answer::Yes
        } else {
            Answer::No
        })
    }
}

async fn env(client: &Client, shell: Shell, output: &Output) -> Result<Answer, CliError> {
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
