use bentlane_service::api::{JournalLine, UndoInput, Undone};
use clap::Args;

use super::journal;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane undo`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane undo            take back the last change
  bentlane undo 12         take back change 12 of `bentlane journal`; of an undo, it redoes")]
pub(crate) struct Undo {
    /// The number of the change in the journal [default: the last one that is in force]
    change: Option<u64>,
}

impl Undo {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let input = UndoInput {
            revision: self.change,
        };
        let undone: Undone = client.post("/undo", &input).await?;
        output.data(&undone, |undone| {
            let lines: Vec<String> = undone.entries.iter().map(words).collect();
            format!(
                "{}\nNext: `bentlane undo {}` brings it back.",
                lines.join("\n"),
                undone.revision
            )
        })?;
        Ok(Answer::Yes)
    }
}

fn words(line: &JournalLine) -> String {
    let leads = journal::leads_to(line);
    let leads = match leads.as_str() {
        "" => leads,
        leads => format!(" ({leads})"),
    };
    format!(
        "took back change {}: {} {} {}{leads}",
        line.revision, line.action, line.kind, line.subject
    )
}
