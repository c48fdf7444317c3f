use std::path::PathBuf;

use bentlane_api_types::{
    AuthorityView, Queries, QueryCount, RecordView, Records, ZoneFile, ZoneInput, ZoneView, Zones,
};
use bentlane_checks::acceptance;
use bentlane_dns::QueryOutcome;
use bentlane_model::{Answers, Name, Pattern, Plain, ZoneSettings};
use clap::{Args, Subcommand};
use serde::Serialize;

use super::confirm;
use super::settings::Changes;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::read_text;
use crate::output::{Output, busy, table};

/// Names that `show` lists as those asked for most.
const SHOWN_COUNTS: usize = 10;
/// The port of HTTPS.
const HTTPS: u16 = 443;

/// `bentlane zone`
#[derive(Debug, Subcommand)]
pub(crate) enum Zone {
    /// Add a zone: it and every name below it resolve to this machine
    Add(Add),
    /// List the zones
    List(List),
    /// Show one zone: what its names resolve to, and its records
    Show(Show),
    /// Change what a zone's names resolve to
    Edit(Edit),
    /// Replace a zone's records with those of a master file (RFC 1035), all or none
    Import(Import),
    /// Print a zone as a master file (RFC 1035)
    Export(Export),
    /// Remove a zone
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone add moor.test
  bentlane zone add staging.example.com --anyway      a real domain, which this machine no longer reaches")]
pub(crate) struct Add {
    /// The suffix, such as moor.test
    name: String,
    /// Add it even if it may be a registered domain
    #[arg(long)]
    anyway: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone list
  bentlane zone list --format json")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone show moor.test")]
pub(crate) struct Show {
    /// The zone
    name: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone edit moor.test --ttl 60
  bentlane zone edit moor.test --ipv4 198.51.100.10        names lead to a VM
  bentlane zone edit moor.test --unset ipv4                and back to this machine
  bentlane zone edit moor.test --answers routed-names      other names do not exist
  bentlane zone edit moor.test --plain serve               plain HTTP is passed on")]
pub(crate) struct Edit {
    /// The zone
    name: String,
    #[command(flatten)]
    changes: Changes<ZoneSettings>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone import moor.test moor.zone --dry-run
  bentlane zone import moor.test moor.zone
  bentlane zone export moor.test | bentlane zone import fell.test -")]
pub(crate) struct Import {
    /// The zone
    name: String,
    /// The file; `-` is standard input
    file: PathBuf,
    /// Only say whether the file could be taken, and what is in it
    #[arg(long)]
    dry_run: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone export moor.test > moor.zone")]
pub(crate) struct Export {
    /// The zone
    name: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone remove moor.test
  bentlane zone remove moor.test --with-routes")]
pub(crate) struct Remove {
    /// The zone
    name: String,
    /// Remove its routes, too
    #[arg(long)]
    with_routes: bool,
}

/// What a zone that was added does.
pub(super) fn resolves(zone: &str) -> String {
    format!("{zone} and every name below it resolve to this machine now.")
}

/// Whether third parties take names of a zone, in a line.
fn third_parties(zone: &Name) -> String {
    let example = zone.prepend("app").unwrap_or_else(|_| zone.clone());
    let all = acceptance(&Pattern::Exact(example), zone, HTTPS);
    let parts = all
        .iter()
        .map(|it| format!("{}: {}", it.purpose, it.accepted.as_str()));
    format!(
        "Do third parties accept its names? {}.\n`bentlane route show NAME --for sso` says why.",
        parts.collect::<Vec<_>>().join(", ")
    )
}

/// Adds a zone, and says what there is to know of it.
pub(super) async fn add(
    client: &Client,
    output: &Output,
    input: ZoneInput,
) -> Result<ZoneView, CliError> {
    // The user may still change their mind.
    if confirm::is_asked()
        && output.is_table()
        && let Ok(name) = input.name.parse()
    {
        output.say(&third_parties(&name));
    }
    let zone: ZoneView = client.post("/zones", &input).await?;
    output.advise(&zone.advice);
    if zone.new_root {
        output.say(&format!(
            "the root could not vouch for {}, so another one follows it; what trusts the former one \
             goes on accepting the other zones. Have the new one trusted:\n  \
             sudo bentlane system attach --only trust",
            zone.name
        ));
    }
    if !zone.certified {
        output.say(&format!(
            "the root cannot vouch for {}, so no client will accept certificates there: make a new \
             root with `bentlane authority rotate`, and add it to the trust stores",
            zone.name
        ));
    }
    Ok(zone)
}

impl Zone {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Add(Add { name, anyway }) => {
                let zone = add(client, output, ZoneInput { name, anyway }).await?;
                output.data(&zone, |zone| {
                    let name = &zone.name;
                    format!(
                        "{}\nNext: bentlane route add app.{name} PORT",
                        resolves(name)
                    )
                })?;
            }
            Self::List(List {}) => list(client, output).await?,
            Self::Show(Show { name }) => show(client, output, &name).await?,
            Self::Edit(edit) => {
                let path = format!("/zones/{}", segment(&edit.name));
                let zone: ZoneView = client.patch(&path, &edit.changes.patch()?).await?;
                output.data(&zone, |zone| {
                    format!("{}  {}", zone.name, resolves_to(zone))
                })?;
            }
            Self::Import(import) => self::import(client, output, import).await?,
            Self::Export(Export { name }) => {
                let path = format!("/zones/{}/file", segment(&name));
                let file: ZoneFile = client.get(&path).await?;
                output.data(&file, |file| file.text.clone())?;
            }
            Self::Remove(zone) => remove(client, output, zone).await?,
        }
        Ok(Answer::Yes)
    }
}

async fn list(client: &Client, output: &Output) -> Result<(), CliError> {
    let zones: Zones = client.get("/zones").await?;
    if zones.zones.is_empty() && !output.is_json() {
        output.say("there is no zone yet: add one with `bentlane zone add moor.test`");
        return Ok(());
    }
    output.data(&zones, |Zones { zones }| {
        let row = |zone: &ZoneView| {
            [
                zone.name.clone(),
                zone.routes.to_string(),
                zone.records.to_string(),
                resolves_to(zone),
            ]
        };
        let heading = ["ZONE", "ROUTES", "RECORDS", "RESOLVES TO"];
        table(heading, zones.iter().map(row).collect())
    })?;
    Ok(())
}

async fn show(client: &Client, output: &Output, name: &str) -> Result<(), CliError> {
    let zone: ZoneView = client.get(&format!("/zones/{}", segment(name))).await?;
    let records: Records = client.get("/records").await?;
    let path = format!("/queries?limit={SHOWN_COUNTS}&zone={}", segment(name));
    let queries: Queries = client.get(&path).await?;
    let shown = Shown {
        asked_most: queries.counts,
        own_records: records
            .records
            .into_iter()
            .filter(|record| record.zone == zone.name)
            .collect(),
        zone,
    };
    output.data(&shown, describe)?;
    Ok(())
}

async fn import(client: &Client, output: &Output, import: Import) -> Result<(), CliError> {
    let Import {
        name,
        file,
        dry_run,
    } = import;
    let text = read_text(&file)?;
    let path = format!("/zones/{}/file?dry_run={dry_run}", segment(&name));
    let importing = busy("importing records");
    let records: Records = client.put(&path, &ZoneFile { text }).await?;
    drop(importing);
    output.data(&records, |records| record_table(&records.records))?;
    let count = records.records.len();
    output.say(&match dry_run {
        true => format!("{name} would have these {count} records"),
        false => format!("{name} has these {count} records now"),
    });
    Ok(())
}

async fn remove(client: &Client, output: &Output, zone: Remove) -> Result<(), CliError> {
    let Remove { name, with_routes } = zone;
    let path = format!("/zones/{}?with_routes={with_routes}", segment(&name));
    client.delete(&path).await?;
    output.say(&format!("removed the zone {name}"));
    let authority: AuthorityView = client.get("/authority").await?;
    if authority
        .limits
        .is_some_and(|limits| limits.contains(&name))
    {
        output.say(&format!(
            "the root can still vouch for {name}; `bentlane authority rotate` makes one \
             that cannot, which then has to be trusted again"
        ));
    }
    Ok(())
}

/// A zone with its records, for `show`.
#[derive(Serialize)]
struct Shown {
    #[serde(flatten)]
    zone: ZoneView,
    own_records: Vec<RecordView>,
    asked_most: Vec<QueryCount>,
}

fn describe(shown: &Shown) -> String {
    let zone = &shown.zone;
    let routes = if zone.routes == 1 { "route" } else { "routes" };
    let plain = match zone.settings.plain {
        Plain::Redirect => "",
        Plain::Serve => "; plain HTTP is served",
        Plain::Refuse => "; plain HTTP is refused",
    };
    let heading = format!(
        "{}  {}; answers kept for {} s; {} {routes}{plain}",
        zone.name,
        resolves_to(zone),
        zone.settings.ttl,
        zone.routes
    );
    let mut parts = vec![heading];
    if !shown.own_records.is_empty() {
        parts.push(record_table(&shown.own_records));
    }
    if !shown.asked_most.is_empty() {
        let row = |asked: &QueryCount| {
            [
                asked.name.clone(),
                asked.kind.clone(),
                outcome_in_words(asked.outcome).to_owned(),
                asked.count.to_string(),
                asked
                    .processes
                    .keys()
                    .cloned()
                    .collect::<Vec<_>>()
                    .join(", "),
            ]
        };
        let rows = shown.asked_most.iter().map(row).collect();
        let titles = ["ASKED MOST", "TYPE", "ANSWER", "TIMES", "ASKED BY"];
        parts.push(table(titles, rows));
    }
    parts.join("\n\n")
}

fn outcome_in_words(outcome: QueryOutcome) -> &'static str {
    match outcome {
        QueryOutcome::Ours => "from the zone",
        QueryOutcome::Kept => "known already",
        QueryOutcome::Forwarded => "asked upstream",
        QueryOutcome::Blocked => "blocked: leads to a local address",
        QueryOutcome::Refused => "not answered",
    }
}

fn resolves_to(zone: &ZoneView) -> String {
    let settings = &zone.settings;
    let addresses = settings.addresses();
    let addresses: Vec<String> = addresses.iter().map(ToString::to_string).collect();
    let place = if addresses.is_empty() {
        "this machine".to_owned()
    } else {
        addresses.join(" and ")
    };
    match settings.answers {
        Answers::EveryName => place,
        Answers::RoutedNames => format!("{place}, names of routes and records alone"),
    }
}

/// Records of one's own as a table.
pub(super) fn record_table(records: &[RecordView]) -> String {
    let row = |record: &RecordView| {
        [
            record.owner.clone(),
            record.ttl.to_string(),
            record.kind.clone(),
            record.data.clone(),
        ]
    };
    table(
        ["OWNER", "TTL", "TYPE", "DATA"],
        records.iter().map(row).collect(),
    )
}
