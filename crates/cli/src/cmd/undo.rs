use std::path::Path;

use bentlane_api_types::{Journal, JournalEntry, MachineAction, MachineChange, UndoInput, Undone};
use bentlane_system::System as Machine;
use clap::Args;

use super::journal;
use super::system::ApplyOptions;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane undo`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane undo            undo the last change
  bentlane undo 12         undo change 12 of `bentlane journal`; of an undo, this redoes
  bentlane undo --dry-run  show what would be undone

A change of this machine (`system attach`, `detach`) takes root: sudo bentlane undo.")]
pub(crate) struct Undo {
    /// The number of the change in the journal [default: the last one that is in force]
    change: Option<u64>,
    /// Show what would be undone, and change nothing
    #[arg(long)]
    dry_run: bool,
    /// Undo a change of this machine without asking
    #[arg(long)]
    yes: bool,
}

impl Undo {
    pub(crate) async fn run(
        self,
        client: &Client,
        data_dir: &Path,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let query = self.change.map(|revision| format!("?revision={revision}"));
        let path = format!("/undo{}", query.unwrap_or_default());
        let journal: Journal = client.get(&path).await?;
        if let Some((revision, change)) = journal.entries.iter().find_map(machine_change) {
            return self
                .undo_machine(client, data_dir, output, revision, change)
                .await;
        }
        if self.dry_run {
            output.data(&journal, |journal| lines("would undo", &journal.entries))?;
            return Ok(Answer::Yes);
        }
        let input = UndoInput {
            revision: journal.entries.first().map(|entry| entry.revision),
            key: None,
        };
        let undone: Undone = client.post("/undo", &input).await?;
        output.data(&undone, |undone| {
            format!(
                "{}\nNext: `bentlane undo {}` redoes it.",
                lines("undid", &undone.entries),
                undone.revision
            )
        })?;
        Ok(Answer::Yes)
    }

    async fn undo_machine(
        self,
        client: &Client,
        data_dir: &Path,
        output: &Output,
        revision: u64,
        change: MachineChange,
    ) -> Result<Answer, CliError> {
        let machine = Machine::default();
        let action = change.action;
        let how = ApplyOptions {
            dry_run: self.dry_run,
            yes: self.yes,
            undo: Some((revision, change)),
            ..ApplyOptions::default()
        };
        match action {
            MachineAction::Attach => how.detach(Some(client), &machine, data_dir, output).await,
            MachineAction::Detach => {
                let done = how.apply(client, &machine, data_dir, output).await?;
                if done {
                    output.say(&format!("undid change {revision}"));
                }
                Ok(Answer::Yes)
            }
        }
    }
}

/// What an entry says was changed on this machine.
fn machine_change(line: &JournalEntry) -> Option<(u64, MachineChange)> {
    let value = line.after.as_ref().or(line.before.as_ref())?;
    let is_machine = line.kind == MachineChange::KIND;
    let change = serde_json::from_value(value.clone()).ok();
    Some((line.revision, change.filter(|_| is_machine)?))
}

fn lines(what: &str, entries: &[JournalEntry]) -> String {
    let lines = entries.iter().map(|line| words(what, line));
    lines.collect::<Vec<_>>().join("\n")
}

fn words(what: &str, line: &JournalEntry) -> String {
    let leads = journal::leads_to(line);
    let leads = match leads.as_str() {
        "" => leads,
        leads => format!(" ({leads})"),
    };
    format!(
        "{what} change {}: {} {} {}{leads}",
        line.revision, line.action, line.kind, line.subject
    )
}
