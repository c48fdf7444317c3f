use std::net::SocketAddr;

use bentlane_api_types::{
    Attention, Capacity, DatabaseStatus, RunsAs, Status as StatusView, TaskStateView, TaskView,
};
use bentlane_checks::MachineVerdict;
use clap::Args;
use time::macros::format_description;

use super::{lanes, machine};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};

/// `bentlane status`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane status
  bentlane status --format json | jq -r '.listeners.https[]'")]
pub(crate) struct Status {}

impl Status {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let status: StatusView = client.get("/status").await?;
        // Programs ask for this alone and often; to look at the machine takes a moment.
        let machine = match output.is_json() {
            true => None,
            false => {
                let seen: Result<MachineVerdict, CliError> = client.get("/machine").await;
                // The status is shown also when the machine cannot be observed.
                seen.inspect_err(|error| output.error(error)).ok()
            }
        };
        output.data(&status, |status| describe(output, status, machine.as_ref()))?;
        Ok(Answer::Yes)
    }
}

/// What runs and what to do next, for who types no command.
pub(crate) async fn overview(client: &Client, output: &Output) -> Result<Answer, CliError> {
    let answer = Status {}.run(client, output).await?;
    if !output.is_json() {
        output.say(
            "\nNext:\n  \
             bentlane route add NAME PORT   give an app a name\n  \
             bentlane check                 prove every hop of every route\n  \
             bentlane console               the same in a browser\n\
             `bentlane --help` shows every command.",
        );
    }
    Ok(answer)
}

fn places(all: &[SocketAddr]) -> String {
    let all = all.iter().map(ToString::to_string);
    all.collect::<Vec<_>>().join("  ")
}

fn database(output: &Output, database: &DatabaseStatus) -> String {
    if database.reachable {
        return database.place.clone();
    }
    let cause = database.error.as_deref();
    let away = format!(
        "{}  cannot be used: routes work, changes do not\n            {}",
        database.place,
        cause.unwrap_or("no reason was given")
    );
    output.paint(Style::Broken, &away)
}

fn upstreams(output: &Output, upstreams: Option<&[SocketAddr]>) -> String {
    match upstreams {
        None => "other names are refused".to_owned(),
        Some([]) => {
            let none = "no upstream resolver is known: other names do not resolve";
            output.paint(Style::Broken, none)
        }
        Some(all) => format!("other names from {}", places(all)),
    }
}

fn describe(output: &Output, status: &StatusView, machine: Option<&MachineVerdict>) -> String {
    let minutes = format_description!("[year]-[month]-[day] [hour]:[minute] UTC");
    let since = status.started_at.format(&minutes).unwrap_or_default();
    let listeners = &status.listeners;
    let line = |label: &str, text: &str| {
        format!(
            "  {} {text}",
            output.paint(Style::Muted, &format!("{label:<9}"))
        )
    };
    let title = format!("Bent Lane {}", status.version);
    let mut lines = vec![
        format!(
            "{}  process {}, since {since}",
            output.paint(Style::Strong, &title),
            status.pid
        ),
        String::new(),
        line(
            "DNS",
            &format!(
                "{}  {}",
                places(&listeners.dns),
                upstreams(output, status.upstreams.as_deref())
            ),
        ),
        line(
            "HTTP",
            &format!("{}  redirects to HTTPS", places(&listeners.http)),
        ),
        line("HTTPS", &places(&listeners.https)),
        line(
            "console",
            &format!(
                "{}  open it with `bentlane console`",
                places(&listeners.console)
            ),
        ),
        line("database", &database(output, &status.database)),
        line("data", &status.data_dir),
        line("user", &runs_as(output, &status.runs_as)),
        line("limits", &capacity(output, &status.capacity)),
        String::new(),
        routes(output, status, machine),
    ];
    if let Some(missing) = machine.and_then(machine::missing) {
        let mark = output.paint(Style::Broken, "✕");
        lines.push(format!("  {mark} {missing}"));
        lines.push(format!(
            "  {} bentlane system check",
            output.paint(Style::Fix, "→")
        ));
    }
    for broken in &status.broken {
        let mark = output.paint(Style::Broken, "✕");
        lines.push(format!("  {mark} {}  {}", broken.address, broken.summary));
    }
    if !status.broken.is_empty() {
        lines.push(format!(
            "  {} bentlane check",
            output.paint(Style::Fix, "→")
        ));
    }
    for task in &status.tasks {
        lines.extend(faulty(output, task));
    }
    for Attention { text, command } in &status.attention {
        lines.push(format!("  {} {text}", output.paint(Style::Broken, "✕")));
        if let Some(command) = command {
            lines.push(format!("  {} {command}", output.paint(Style::Fix, "→")));
        }
    }
    lines.join("\n")
}

/// A task that does not run, or had to be started again.
fn faulty(output: &Output, task: &TaskView) -> Option<String> {
    let TaskView { name, restarts, .. } = task;
    let reason = task.error.as_deref().unwrap_or("no reason known");
    let (tone, text) = match task.state {
        TaskStateView::Running if *restarts == 0 => return None,
        TaskStateView::Running => {
            let times = if *restarts == 1 {
                "once"
            } else {
                "several times"
            };
            (
                Style::Muted,
                format!("{name} ended and was started again {times}: {reason}"),
            )
        }
        TaskStateView::Restarting => (
            Style::Broken,
            format!("{name} ended and is about to be started again: {reason}"),
        ),
        TaskStateView::Failed => (
            Style::Broken,
            format!("{name} ended, and the service stops: {reason}"),
        ),
    };
    let mark = if tone == Style::Broken { "✕" } else { "!" };
    Some(format!("  {} {text}", output.paint(tone, mark)))
}

fn runs_as(output: &Output, runs_as: &RunsAs) -> String {
    let name = runs_as.user.as_deref().unwrap_or("without a name");
    let words = format!("{name} (uid {})", runs_as.uid);
    if runs_as.uid != 0 {
        return words;
    }
    let why = "root: start the service with `sudo` as its user, or with --user NAME";
    output.paint(Style::Broken, why)
}

fn capacity(output: &Output, capacity: &Capacity) -> String {
    let Capacity {
        connections,
        descriptors,
        wanted,
    } = capacity;
    let words = format!("{connections} connections, {descriptors} open files");
    match wanted {
        None => words,
        Some(wanted) => {
            let more = format!("{words}; raise `ulimit -Hn` to {wanted} for more");
            let tone = if *connections < 1000 {
                Style::Broken
            } else {
                Style::Muted
            };
            output.paint(tone, &more)
        }
    }
}

fn routes(output: &Output, status: &StatusView, machine: Option<&MachineVerdict>) -> String {
    let zones = if status.zones == 1 {
        "1 zone".to_owned()
    } else {
        format!("{} zones", status.zones)
    };
    if status.routes == 0 {
        let next = if status.zones == 0 {
            "zone add moor.test"
        } else {
            "route add NAME PORT"
        };
        return format!(
            "{zones}, no route yet\n  {} bentlane {next}",
            output.paint(Style::Fix, "→")
        );
    }
    let (proved, ready) = match machine.is_some_and(|machine| machine.passed) {
        true => (status.passing, 0),
        false => (0, status.passing),
    };
    let count = lanes::Count {
        routes: status.routes,
        proved,
        ready,
        broken: status.broken.len(),
        starting: status.starting,
        stopped: status.stopped,
    };
    let fate = count.in_words();
    let tone = if status.broken.is_empty() {
        Style::Passing
    } else {
        Style::Broken
    };
    format!("{zones}, {}", output.paint(tone, &fate))
}
