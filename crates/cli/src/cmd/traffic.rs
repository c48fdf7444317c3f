use std::time::Duration;

use bentlane_api_types::{Traffic as TrafficView, TrafficSummary};
use bentlane_traffic::{Ending, Exchange, StatusRange, Tally};
use clap::Args;
use time::UtcOffset;
use time::macros::format_description;

use super::lanes::duration;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::format::Format;
use crate::output::{Output, Style, table};

/// How wide a time of day with milliseconds is.
const AT_WIDTH: usize = 12;
/// Seconds for which a call waits for exchanges.
const WAIT: u32 = 20;

/// `bentlane traffic`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane traffic                         the last requests, newest last
  bentlane traffic --follow                and new ones, until interrupted
  bentlane traffic --route booking.moor.test/api --status 5xx
  bentlane traffic --text /huts --method POST --limit 200
  bentlane traffic --summary --since 1h    by route: requests, errors, latencies
  bentlane traffic --format har > moor.har    for the network panel of a browser
  bentlane traffic --follow --format json | jq -r .path

Records have no bodies, no headers, and no query values that may be secrets. TIME is the whole time,
APP the time until the app's response began.")]
pub(crate) struct Traffic {
    /// Keep running, and print each request when its response is complete
    #[arg(long, conflicts_with = "summary")]
    follow: bool,
    /// Only requests to this route
    #[arg(long, value_name = "ADDRESS")]
    route: Option<String>,
    /// Only responses with this status: 404, 5xx, 400-499
    #[arg(long, value_name = "STATUS", value_parser = status)]
    status: Option<StatusRange>,
    /// Only requests with this method
    #[arg(long, value_name = "METHOD")]
    method: Option<String>,
    /// Only requests with this text in name or path
    #[arg(long, value_name = "TEXT")]
    text: Option<String>,
    /// Show this many at most [default: 20, and 1000 for an archive]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=10_000))]
    limit: Option<u16>,
    /// Show totals by route
    #[arg(long, conflicts_with_all = ["route", "status", "method", "text", "limit"])]
    summary: bool,
    /// With --summary: how far back, 1h at most [default: 15m]
    #[arg(long, value_name = "TIME", value_parser = parse_since, requires = "summary")]
    since: Option<Duration>,
}

fn parse_since(text: &str) -> Result<Duration, String> {
    let since = humantime::parse_duration(text).map_err(|error| error.to_string())?;
    if since > Tally::REACH {
        return Err("it reaches back an hour at most".to_owned());
    }
    Ok(since)
}

fn status(text: &str) -> Result<StatusRange, String> {
    text.parse()
        .map_err(|invalid: bentlane_model::Invalid| invalid.reason)
}

impl Traffic {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        if self.summary {
            return self.sum_up(client, output).await;
        }
        if output.format() == Format::Har {
            let path = self.path("/traffic/archive", 1_000);
            let archive: serde_json::Value = client.get(&path).await?;
            output.line(&serde_json::to_string_pretty(&archive).map_err(CliError::Answer)?)?;
            return Ok(Answer::Yes);
        }
        let mut traffic: TrafficView = client.get(&self.path("/traffic", 20)).await?;
        if !self.follow {
            if traffic.exchanges.is_empty() && output.is_table() {
                output.say(self.nothing());
                return Ok(Answer::Yes);
            }
            output.data(&traffic, |traffic| listed(output, &traffic.exchanges))?;
            report_losses(traffic.left_out, traffic.not_kept, output);
            return Ok(Answer::Yes);
        }
        if output.is_table() && traffic.exchanges.is_empty() {
            output.say("waiting for requests …");
        }
        let mut headed = false;
        loop {
            if traffic.missed > 0 {
                let missed = traffic.missed;
                output.say(&format!("{missed} more passed than could be shown"));
            }
            if output.is_table() {
                if !traffic.exchanges.is_empty() {
                    let text = listed(output, &traffic.exchanges);
                    let lines = text.lines().skip(usize::from(headed));
                    output.line(&lines.collect::<Vec<_>>().join("\n"))?;
                    headed = true;
                }
            } else {
                for exchange in &traffic.exchanges {
                    output.line(&serde_json::to_string(exchange).map_err(CliError::Answer)?)?;
                }
            }
            let path = self.path("/traffic", 1_000);
            let path = format!("{path}&after={}&wait={WAIT}", traffic.last);
            traffic = client.get(&path).await?;
        }
    }

    /// The call for what is wanted.
    fn path(&self, of: &str, most: u16) -> String {
        let limit = self.limit.unwrap_or(most).to_string();
        let status = self.status.map(|status| status.to_string());
        let wanted = [
            ("limit", Some(&limit)),
            ("route", self.route.as_ref()),
            ("status", status.as_ref()),
            ("method", self.method.as_ref()),
            ("text", self.text.as_ref()),
        ];
        let wanted = wanted.into_iter();
        let pairs = wanted.filter_map(|(key, value)| Some(format!("{key}={}", segment(value?))));
        format!("{of}?{}", pairs.collect::<Vec<_>>().join("&"))
    }

    fn nothing(&self) -> &'static str {
        let all = self.route.is_none() && self.status.is_none();
        if all && self.method.is_none() && self.text.is_none() {
            return "nothing has passed yet: open a route in a browser, and look again";
        }
        "nothing of that kind has passed"
    }

    async fn sum_up(&self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let since = self.since.unwrap_or(Duration::from_secs(900));
        let seconds = since.as_secs().max(1);
        let path = format!("/traffic/summary?seconds={seconds}");
        let summary: TrafficSummary = client.get(&path).await?;
        if summary.routes.is_empty() && output.is_table() {
            let since = humantime::format_duration(Duration::from_secs(seconds));
            output.say(&format!("nothing has passed in the last {since}"));
            return Ok(Answer::Yes);
        }
        output.data(&summary, |summary| {
            let rows = summary.routes.iter().map(|route| {
                [
                    route.route.clone().unwrap_or_else(|| "no route".to_owned()),
                    route.exchanges.to_string(),
                    rate(route.per_second),
                    route.errors.to_string(),
                    duration(route.p50_us),
                    duration(route.p95_us),
                    duration(route.p99_us),
                    octets(route.sent),
                ]
            });
            table(
                [
                    "ROUTE",
                    "REQUESTS",
                    "PER SECOND",
                    "ERRORS",
                    "P50",
                    "P95",
                    "P99",
                    "SENT",
                ],
                rows.collect(),
            )
        })?;
        Ok(Answer::Yes)
    }
}

/// Says what is missing, since the start.
fn report_losses(left_out: u64, not_kept: u64, output: &Output) {
    if left_out > 0 && output.is_table() {
        output.say(&format!(
            "note: {left_out} requests since the start came too fast to be recorded"
        ));
    }
    if not_kept > 0 && output.is_table() {
        output.say(&format!(
            "note: {not_kept} requests since the start are not in the database, and no longer listed: too many came"
        ));
    }
}

/// Exchanges as a table, with its heading. Colours come last: what paints has no width.
fn listed(output: &Output, exchanges: &[Exchange]) -> String {
    let plain = table(
        [
            "AT (UTC)", "STATUS", "METHOD", "TIME", "APP", "SENT", "WHAT",
        ],
        exchanges.iter().map(row).collect(),
    );
    let mut lines = plain.lines();
    let heading = lines.next().map(str::to_owned);
    let rows = lines.zip(exchanges).map(|(line, exchange)| {
        let (at, rest) = line.split_at_checked(AT_WIDTH).unwrap_or(("", line));
        let tone = match exchange.status {
            500.. => Style::Broken,
            400.. => Style::Fix,
            _ => return format!("{}{rest}", output.paint(Style::Muted, at)),
        };
        let status = exchange.status.to_string();
        let rest = rest.replacen(&status, &output.paint(tone, &status), 1);
        format!("{}{rest}", output.paint(Style::Muted, at))
    });
    heading
        .into_iter()
        .chain(rows)
        .collect::<Vec<_>>()
        .join("\n")
}

fn row(exchange: &Exchange) -> [String; 7] {
    let format = format_description!("[hour]:[minute]:[second].[subsecond digits:3]");
    let at = exchange.at.to_offset(UtcOffset::UTC).format(format);
    let at = at.unwrap_or_default();
    let mut what = format!("{}{}", exchange.name, exchange.path);
    if let Some(finding) = exchange.finding {
        what.push_str(&format!("  ({})", finding.slug()));
    }
    let ending = match exchange.ending {
        Ending::Whole => "",
        Ending::Stream => "  (stream)",
        Ending::Upgraded => "  (upgraded)",
        Ending::ClientLeft => "  (the client left)",
        Ending::TargetBrokeOff => "  (the app broke off)",
    };
    what.push_str(ending);
    [
        at,
        exchange.status.to_string(),
        exchange.method.clone(),
        duration(exchange.timings.total_us()),
        duration(exchange.timings.first_byte_us),
        octets(exchange.sent),
        what,
    ]
}

/// A size as people read it.
#[allow(clippy::cast_precision_loss, reason = "three digits of it are shown")]
fn octets(count: u64) -> String {
    match count as f64 {
        it if it < 1e3 => format!("{it:.0} B"),
        it if it < 1e6 => format!("{:.1} kB", it / 1e3),
        it if it < 1e9 => format!("{:.1} MB", it / 1e6),
        it => format!("{:.1} GB", it / 1e9),
    }
}

fn rate(per_second: f64) -> String {
    match per_second {
        it if it >= 10.0 => format!("{it:.0}"),
        it if it >= 0.1 => format!("{it:.1}"),
        _ => "< 0.1".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, "0 B")]
    #[case(1_024, "1.0 kB")]
    #[case(5_300_000, "5.3 MB")]
    #[case(2_000_000_000, "2.0 GB")]
    fn sizes(#[case] count: u64, #[case] shown: &str) {
        assert_eq!(octets(count), shown);
    }
}
