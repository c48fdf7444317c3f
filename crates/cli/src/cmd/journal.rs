use bentlane_api_types::{Journal as JournalView, JournalEntry};
use clap::Args;
use serde_json::Value;
use time::macros::format_description;

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, table};

/// `bentlane journal`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane journal
  bentlane journal --limit 500 --format json")]
pub(crate) struct Journal {
    /// Show at most this many changes
    #[arg(long, default_value_t = 20, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=1000))]
    limit: u64,
}

impl Journal {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let journal: JournalView = client
            .get(&format!("/journal?limit={}", self.limit))
            .await?;
        if journal.entries.is_empty() && !output.is_json() {
            output.say("nothing was changed yet");
            return Ok(Answer::Yes);
        }
        output.data(&journal, |journal| {
            table(
                ["NO", "WHEN (UTC)", "WHO", "WHAT", "SUBJECT", "LEADS TO"],
                journal.entries.iter().map(row).collect(),
            )
        })?;
        Ok(Answer::Yes)
    }
}

fn row(line: &JournalEntry) -> [String; 6] {
    let seconds = format_description!("[year]-[month]-[day] [hour]:[minute]:[second]");
    let undoes = line
        .undoes
        .map_or_else(String::new, |change| format!("; undoes {change}"));
    [
        line.revision.to_string(),
        line.at.format(seconds).unwrap_or_default(),
        line.who.clone(),
        format!("{} {}{undoes}", line.action, line.kind),
        line.subject.clone(),
        leads_to(line),
    ]
}

/// Where the route led before and leads since; nothing for a zone.
pub(super) fn leads_to(line: &JournalEntry) -> String {
    let target = |value: &Option<Value>| {
        let to = value.as_ref()?.get("to")?.as_str();
        to.map(str::to_owned)
    };
    match (target(&line.before), target(&line.after)) {
        (Some(before), Some(after)) if before == after => before,
        (Some(before), Some(after)) => format!("{before} → {after}"),
        (None, Some(only)) | (Some(only), None) => only,
        (None, None) => String::new(),
    }
}
