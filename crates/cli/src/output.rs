use std::io::{self, IsTerminal, Write};
use std::time::Duration;

use bentlane_checks::Advice;
use bentlane_model::chain;
use comfy_table::presets::NOTHING;
use comfy_table::{ContentArrangement, Table};
use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;

use crate::error::CliError;
use crate::format::Format;

/// Where data and words go: data to stdout, words to stderr.
#[derive(Debug)]
pub(crate) struct Output {
    format: Format,
    colours: bool,
}

/// What a colour stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Style {
    /// As it should be.
    Passing,
    /// Not as it should be.
    Broken,
    /// Of less weight.
    Muted,
    /// What to do.
    Fix,
    /// A heading.
    Strong,
}

impl Output {
    pub(crate) fn new(format: Format) -> Self {
        Self {
            format,
            colours: !colours_refused() && io::stdout().is_terminal(),
        }
    }

    /// Whether what goes to stderr may be in colours.
    #[allow(clippy::unused_self, reason = "this is the output")]
    pub(crate) fn words_in_colour(&self) -> bool {
        !colours_refused() && io::stderr().is_terminal()
    }

    pub(crate) fn format(&self) -> Format {
        self.format
    }

    /// Whether people read what is printed.
    pub(crate) fn is_table(&self) -> bool {
        self.format == Format::Table
    }

    pub(crate) fn is_json(&self) -> bool {
        self.format == Format::Json
    }

    /// Paints `text` when the terminal takes colours.
    pub(crate) fn paint(&self, tone: Style, text: &str) -> String {
        if !self.colours {
            return text.to_owned();
        }
        let code = match tone {
            Style::Passing => "36",
            Style::Broken => "31",
            Style::Muted => "2",
            Style::Fix => "33",
            Style::Strong => "1",
        };
        format!("\x1b[{code}m{text}\x1b[0m")
    }

    /// Prints `data` as JSON, or what `table` makes of it.
    pub(crate) fn data<T: Serialize>(
        &self,
        data: &T,
        table: impl FnOnce(&T) -> String,
    ) -> Result<(), CliError> {
        match self.format {
            Format::Json => {
                let json = serde_json::to_string_pretty(data).map_err(CliError::Answer)?;
                self.line(&json)
            }
            Format::Table => self.line(table(data).trim_end()),
            Format::Junit => refused("`junit` is for `bentlane check` alone"),
            Format::Har => refused("`har` is for lists of `bentlane traffic` alone"),
        }
    }

    /// Prints a line.
    pub(crate) fn line(&self, line: &str) -> Result<(), CliError> {
        self.raw(format!("{line}\n").as_bytes())
    }

    /// Prints bytes as they are.
    #[allow(clippy::unused_self, reason = "this is the output")]
    pub(crate) fn raw(&self, octets: &[u8]) -> Result<(), CliError> {
        let mut out = io::stdout().lock();
        match out.write_all(octets).and_then(|()| out.flush()) {
            // The reader has closed the pipe.
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
            outcome => outcome.map_err(|source| CliError::Io {
                verb: "write to stdout".to_owned(),
                source,
            }),
        }
    }

    /// Says a word about what happens.
    #[allow(clippy::unused_self, reason = "this is the output")]
    pub(crate) fn say(&self, words: &str) {
        // A closed standard error is no reason to fail.
        let _ = writeln!(io::stderr().lock(), "{words}");
    }

    /// Says what is questionable about a name that was taken.
    pub(crate) fn advise(&self, advice: &[Advice]) {
        for advice in advice {
            self.say(&format!("note: {}", advice.in_words()));
        }
    }

    pub(crate) fn error(&self, error: &CliError) {
        self.say(&format!("bentlane: {}", chain(error)));
    }
}

/// A bar for so many steps of long work, on a terminal alone.
pub(crate) fn progress(steps: usize, what: &str) -> ProgressBar {
    if steps < 2 || !io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let template = format!("{{bar:30}} {{pos}} of {{len}} {what}, {{eta}} left  {{msg}}");
    let style = ProgressStyle::with_template(&template);
    let style = style.unwrap_or_else(|_| ProgressStyle::default_bar());
    ProgressBar::new(steps as u64).with_style(style)
}

/// Shows a spinner on a terminal until it is dropped.
pub(crate) fn busy(what: &'static str) -> Busy {
    if !io::stderr().is_terminal() {
        return Busy(ProgressBar::hidden());
    }
    let bar = ProgressBar::new_spinner().with_message(what);
    bar.enable_steady_tick(Duration::from_millis(100));
    Busy(bar)
}

/// What goes on.
pub(crate) struct Busy(ProgressBar);

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}

/// A format that the command does not have.
fn refused(reason: &str) -> Result<(), CliError> {
    Err(CliError::Value {
        field: "--format",
        reason: reason.to_owned(),
    })
}

/// <https://no-color.org>: set and not empty means no colour.
fn colours_refused() -> bool {
    std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty())
}

/// A plain table with a heading.
pub(crate) fn table<const N: usize>(heading: [&str; N], rows: Vec<[String; N]>) -> String {
    let mut table = Table::new();
    table
        .load_preset(NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(heading);
    table.add_rows(rows);
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    table
        .lines()
        .map(|line| line.trim_end().to_owned())
        .collect::<Vec<_>>()
        .join("\n")
}
