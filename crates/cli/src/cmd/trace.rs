use bentlane_api_types::TraceRequest;
use bentlane_checks::{Step, Trace as Way};
use clap::Args;

use super::lanes::duration;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// Characters of the waterfall.
const WIDTH: usize = 28;

/// `bentlane trace`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane trace https://booking.moor.test/huts
  bentlane trace ravenstone.hut.moor.test
  bentlane trace booking.moor.test/api --format json | jq '.steps[] | {step, micros}'

It asks once, as a browser would, and does not follow redirects. Exit code 1 when no app answers.")]
pub(crate) struct Trace {
    /// The URL, or a name with a path
    url: String,
}

impl Trace {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let request = TraceRequest { url: self.url };
        let way: Way = client.post("/traces", &request).await?;
        output.data(&way, |way| in_words(output, way))?;
        Ok(if way.arrived { Answer::Yes } else { Answer::No })
    }
}

fn in_words(output: &Output, way: &Way) -> String {
    let total = duration(way.micros);
    let url = output.paint(Style::Strong, &way.url);
    let mut lines = vec![format!("{url}  {total}"), String::new()];
    let last = way.steps.len().saturating_sub(1);
    for (position, step) in way.steps.iter().enumerate() {
        let tone = match position == last && !way.arrived {
            true => Style::Broken,
            false => Style::Passing,
        };
        let bar = output.paint(tone, &bar(step, way.micros));
        let time = step.micros.map(duration).unwrap_or_default();
        lines.push(format!(
            "{:<9} {bar} {time:>8}  {}",
            step.step, step.decision
        ));
        let indent = " ".repeat(9 + 1 + WIDTH + 1 + 8 + 2);
        lines.extend(
            step.details
                .iter()
                .map(|line| output.paint(Style::Muted, &format!("{indent}{line}"))),
        );
    }
    if let Some(finding) = &way.finding {
        let arrow = output.paint(Style::Fix, "→");
        lines.push(String::new());
        lines.push(format!("{arrow} {}", finding.fix.text));
        let command = finding.fix.command.iter();
        lines.extend(command.map(|command| output.paint(Style::Fix, &format!("    {command}"))));
    }
    lines.join("\n")
}

/// A step in the waterfall: where it begins, and how long it is.
fn bar(step: &Step, total: u64) -> String {
    let place = |micros: u64| {
        let place = micros.saturating_mul(WIDTH as u64) / total.max(1);
        usize::try_from(place).unwrap_or(WIDTH).min(WIDTH)
    };
    let Some((begins, micros)) = step.begins.zip(step.micros) else {
        return format!("{:<WIDTH$}", "");
    };
    let from = place(begins).min(WIDTH - 1);
    let until = place(begins.saturating_add(micros)).max(from + 1);
    let bar = "━".repeat(until - from);
    format!("{:from$}{bar}{:rest$}", "", "", rest = WIDTH - until)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Some(0), 100, 100, 0, WIDTH)]
    #[case(Some(50), 50, 100, WIDTH / 2, WIDTH / 2)]
    #[case(Some(100), 0, 100, WIDTH - 1, 1)]
    #[case(Some(0), 0, 0, 0, 1)]
    #[case(None, 0, 100, WIDTH, 0)]
    fn bars(
        #[case] begins: Option<u64>,
        #[case] micros: u64,
        #[case] total: u64,
        #[case] before: usize,
        #[case] long: usize,
    ) {
        let step = Step {
            step: String::new(),
            begins,
            micros: begins.map(|_| micros),
            decision: String::new(),
            details: Vec::new(),
        };
        let drawn = bar(&step, total);
        assert_eq!(drawn.chars().count(), WIDTH);
        assert_eq!(drawn.chars().filter(|c| *c == '━').count(), long);
        assert_eq!(drawn.chars().take_while(|c| *c == ' ').count(), before);
    }
}
