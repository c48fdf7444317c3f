use std::io::IsTerminal;
use std::time::Duration;

use bentlane_api_types::{AppOutput, OutputLineView};
use bentlane_service::plain;
use clap::Args;
use time::macros::format_description;
use time::{OffsetDateTime, UtcOffset};

use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// Lines that are printed when nothing else is said.
const USUAL: usize = 200;

/// `bentlane app output`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app output booking
  bentlane app output booking --follow
  bentlane app output booking --since 10m
  bentlane app output booking --text 'Error' --limit 20")]
pub(crate) struct ReadOutput {
    /// The app
    name: String,
    /// Keep printing what it prints
    #[arg(long)]
    follow: bool,
    /// Only what was printed in this time, such as `10m`
    #[arg(long, value_name = "TIME", value_parser = humantime::parse_duration)]
    since: Option<Duration>,
    /// Only lines with this text
    #[arg(long, value_name = "TEXT")]
    text: Option<String>,
    /// Print at most N lines, the last ones [default: 200, or all with --since or --text]
    #[arg(long, value_name = "N")]
    limit: Option<usize>,
}

impl ReadOutput {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let path = format!("/apps/{}/output", segment(&self.name));
        let read: AppOutput = client.get(&path).await?;
        let mut last = read.last;
        let mut lines: Vec<OutputLineView> = read.lines;
        lines.retain(|line| self.is_wanted(line));
        let filtered = self.since.is_some() || self.text.is_some();
        let limit = self
            .limit
            .unwrap_or(if filtered { usize::MAX } else { USUAL });
        lines.drain(..lines.len().saturating_sub(limit));
        if !output.is_table() && !self.follow {
            output.data(&AppOutput { lines, last }, |_| String::new())?;
            return Ok(Answer::Yes);
        }
        if lines.is_empty() && !self.follow && output.is_table() {
            output.say(&format!("{} has printed nothing of that kind", self.name));
            return Ok(Answer::Yes);
        }
        loop {
            for line in &lines {
                match output.is_json() {
                    true => output.line(&serde_json::to_string(line).map_err(CliError::Answer)?)?,
                    false => output.line(&Self::shown(output, line))?,
                }
            }
            if !self.follow {
                return Ok(Answer::Yes);
            }
            let more: AppOutput = client
                .get(&format!("{path}?after={last}&wait=true"))
                .await?;
            last = more.last;
            lines = more.lines;
            lines.retain(|line| self.is_wanted(line));
        }
    }

    fn is_wanted(&self, line: &OutputLineView) -> bool {
        let is_new = self.since.is_none_or(|since| {
            let from = OffsetDateTime::now_utc() - since;
            line.at >= from
        });
        let text = plain(&line.text);
        is_new
            && self
                .text
                .as_ref()
                .is_none_or(|wanted| text.contains(wanted))
    }

    fn shown(output: &Output, line: &OutputLineView) -> String {
        let format = format_description!("[hour]:[minute]:[second]");
        let at = line
            .at
            .to_offset(UtcOffset::UTC)
            .format(format)
            .unwrap_or_default();
        let at = output.paint(Style::Muted, &at);
        let coloured = output.words_in_colour() && std::io::stdout().is_terminal();
        let text = match coloured {
            // What follows is not to have the colours of this line.
            true if line.text.contains('\u{1b}') => format!("{}\u{1b}[0m", line.text),
            true => line.text.clone(),
            false => plain(&line.text),
        };
        match line.stream.as_str() {
            "terminal" | "stdout" => format!("{at}  {text}"),
            "bentlane" => format!("{at}  {}", output.paint(Style::Muted, &format!("— {text}"))),
            stream => format!("{at}  {}  {text}", output.paint(Style::Muted, stream)),
        }
    }
}
