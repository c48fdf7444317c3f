use std::net::SocketAddr;

use bentlane_service::api::Status as StatusView;
use clap::Args;
use time::macros::format_description;

use super::lanes;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Tone};

/// `bentlane status`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane status
  bentlane status --format json | jq -r '.listeners.https[]'")]
pub(crate) struct Status {}

impl Status {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let status: StatusView = client.get("/status").await?;
        output.data(&status, |status| describe(output, status))?;
        Ok(Answer::Yes)
    }
}

fn describe(output: &Output, status: &StatusView) -> String {
    let minutes = format_description!("[year]-[month]-[day] [hour]:[minute] UTC");
    let since = status.started_at.format(&minutes).unwrap_or_default();
    let places = |all: &[SocketAddr]| {
        all.iter()
            .map(ToString::to_string)
            .collect::<Vec<_>>()
            .join("  ")
    };
    let listeners = &status.listeners;
    let console = listeners
        .api
        .first()
        .map(|at| format!("http://{at}"))
        .unwrap_or_default();
    let database = if status.database.reachable {
        status.database.place.clone()
    } else {
        let away = format!(
            "{}  not reachable: routes work, changes do not",
            status.database.place
        );
        output.paint(Tone::Broken, &away)
    };
    let upstreams = match status.upstreams.as_deref() {
        None => "other names are refused".to_owned(),
        Some([]) => {
            let none = "no upstream resolver is known: other names do not resolve";
            output.paint(Tone::Broken, none)
        }
        Some(all) => format!("other names from {}", places(all)),
    };
    let line = |label: &str, text: &str| {
        format!(
            "  {} {text}",
            output.paint(Tone::Muted, &format!("{label:<9}"))
        )
    };
    let title = format!("Bent Lane {}", status.version);
    let mut lines = vec![
        format!(
            "{}  process {}, since {since}",
            output.paint(Tone::Strong, &title),
            status.pid
        ),
        String::new(),
        line("DNS", &format!("{}  {upstreams}", places(&listeners.dns))),
        line(
            "HTTP",
            &format!("{}  redirects to HTTPS", places(&listeners.http)),
        ),
        line("HTTPS", &places(&listeners.https)),
        line(
            "console",
            &format!("{console}  sign in with `bentlane console`"),
        ),
        line("database", &database),
        line("data", &status.data_dir),
        String::new(),
        routes(output, status),
    ];
    for broken in &status.broken {
        let mark = output.paint(Tone::Broken, "✕");
        lines.push(format!("  {mark} {}  {}", broken.address, broken.summary));
    }
    if !status.broken.is_empty() {
        lines.push(format!(
            "  {} bentlane check",
            output.paint(Tone::Remedy, "→")
        ));
    }
    lines.join("\n")
}

fn routes(output: &Output, status: &StatusView) -> String {
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
            output.paint(Tone::Remedy, "→")
        );
    }
    let fate = lanes::count(status.routes, status.passing, status.broken.len());
    let tone = if status.broken.is_empty() {
        Tone::Passing
    } else {
        Tone::Broken
    };
    format!("{zones}, {}", output.paint(tone, &fate))
}
