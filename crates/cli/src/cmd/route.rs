use std::collections::{BTreeMap, BTreeSet};
use std::io::{IsTerminal, stdin};
use std::path::{Path, PathBuf};

use bentlane_api_types::{
    CheckRequest, RouteInput, RouteInputs, RouteMatch, RoutePatch, RouteValues, RouteView, Routes,
    RoutesAdded, Verdicts, ZoneInput, Zones,
};
use bentlane_checks::{Acceptance, Accepted, Verdict, acceptance, lane};
use bentlane_model::{Address, ByName, Name, RouteDraft, RouteLine, RouteSettings, suggested_zone};
use clap::{Args, Subcommand, ValueEnum};
use serde_json::{Map, Value, json};

use super::settings::{Changes, Flags};
use super::{confirm, lanes, running, settings, zone};
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::{read_text, whole_path};
use crate::output::{Output, Style, busy, table};

/// Characters of the column of settings.
const SETTING_WIDTH: usize = 16;
/// Characters of a line of reasons.
const REASON_WIDTH: usize = 76;

/// `bentlane route`
#[derive(Debug, Subcommand)]
pub(crate) enum Route {
    /// Add a route, and check it at once
    Add(Box<Add>),
    /// List the routes with their lanes
    List(List),
    /// Show one route, hop by hop
    Show(Show),
    /// Change a route, and check it at once
    Edit(Box<Edit>),
    /// Remove a route
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route add booking.moor.test 4310
  bentlane route add booking.moor.test/api 4311 --strip-prefix
  bentlane route add '*.hut.moor.test' 4312
  bentlane route add shop.moor.test 4330 --subdomains        every name below it, too
  bentlane route add '*.at.moor.test' --port-from-name         4310.at.moor.test leads to 4310
  bentlane route add vm.moor.test https://198.51.100.10:8443 --target-tls none
  bentlane route add docs.moor.test folder:./docs            with --else 4310, an app for the rest
  bentlane route add www.moor.test redirect:https://booking.moor.test
  bentlane route add store.moor.test:5432 54021              raw TCP, on an address of its own
  bentlane route add a.moor.test:9443 4340 --protocol http   HTTPS on another port
  bentlane route add --from routes.txt                       many at once, all or none")]
pub(crate) struct Add {
    /// NAME[/PREFIX] or NAME:PORT (raw TCP; HTTP with `--protocol http`); NAME may be '*.NAME'
    #[arg(required_unless_present = "from")]
    route: Option<String>,
    /// A port of this machine, HOST:PORT, https://HOST:PORT, h2c://HOST:PORT, folder:PATH or
    /// redirect:URL [default: ask, with what listens on this machine]
    target: Option<String>,
    /// Also add the zone of the name, if there is none [default: ask on a terminal]
    #[arg(long, conflicts_with = "from")]
    add_zone: bool,
    /// Lead each name below the wildcard to the port that it begins with: 4310.at.moor.test to 4310
    #[arg(long, hide_short_help = true, conflicts_with_all = ["target", "from"])]
    port_from_name: bool,
    /// The same for the apps of `bentlane app list`
    #[arg(long, hide_short_help = true, conflicts_with_all = ["target", "from", "port_from_name"])]
    app_from_name: bool,
    /// The same for containers
    #[arg(long, hide_short_help = true, conflicts_with_all = ["target", "from", "port_from_name", "app_from_name"])]
    container_from_name: bool,
    /// A file with a route, its target and settings as flags on each line, `#` before a comment; `-` is
    /// standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["route", "target"])]
    from: Option<PathBuf>,
    #[command(flatten)]
    settings: Flags<RouteSettings>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route list
  bentlane route list --format json | jq -r '.routes[].url'")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route show booking.moor.test/api
  bentlane route show booking.moor.test --for sso        who takes its name, and why
  bentlane route show booking.moor.test --format json | jq .values     for single sign-on, webhooks")]
pub(crate) struct Show {
    /// The route's address
    address: String,
    /// Show whether third parties accept its name: redirects, cookies, passkeys, webhooks
    #[arg(long = "for", value_enum, value_name = "PURPOSE")]
    purpose: Option<Purpose>,
}

/// What a name is to be good for.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Purpose {
    /// Single sign-on and what goes with it
    Sso,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route edit booking.moor.test --to 4320
  bentlane route edit vm.moor.test --address 198.51.100.10     its name leads to a VM
  bentlane route edit vm.moor.test --unset address             and back to where the zone says
  bentlane route edit booking.moor.test --paused               a page says that it rests
  bentlane route edit booking.moor.test --paused=false
  bentlane route edit api.moor.test --allow-origins 'https://*.moor.test'       these alone
  bentlane route edit api.moor.test --add 'allow_origins=https://*.fell.test'   one more
  bentlane route edit api.moor.test --unset allow_origins --unset expect.text")]
pub(crate) struct Edit {
    /// The route
    route: String,
    /// Where it leads from now on
    #[arg(long, value_name = "TARGET")]
    to: Option<String>,
    #[command(flatten)]
    changes: Changes<RouteSettings>,
    /// Add an entry to a setting that is a list, such as allow_origins; may be repeated
    #[arg(long, value_name = "KEY=ENTRY", help_heading = "Settings")]
    add: Vec<String>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route remove booking.moor.test/api")]
pub(crate) struct Remove {
    /// The route's address
    address: String,
}

impl Route {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Add(add) => add.run(client, output).await?,
            Self::Edit(edit) => edit.run(client, output).await?,
            Self::Show(Show { address, purpose }) => {
                let route: RouteView = client
                    .get(&format!("/routes/{}", segment(&address)))
                    .await?;
                if let Some(Purpose::Sso) = purpose {
                    let all = third_parties(client, &route).await?;
                    output.data(&all, |all| acceptance_in_words(output, all))?;
                    return Ok(Answer::Yes);
                }
                output.data(&route, |route: &RouteView| {
                    let values = values_in_words(output, &route.values);
                    format!("{}\n\n{values}", describe(output, route))
                })?;
            }
            Self::List(List {}) => {
                let routes: Routes = client.get("/routes").await?;
                if routes.routes.is_empty() && !output.is_json() {
                    output
                        .say("there is no route yet: add one with `bentlane route add NAME PORT`");
                    return Ok(Answer::Yes);
                }
                output.data(&routes, |Routes { routes, .. }| list(output, routes))?;
            }
            Self::Remove(Remove { address }) => {
                client
                    .delete(&format!("/routes/{}", segment(&address)))
                    .await?;
                output.say(&format!("removed the route {address}"));
            }
        }
        Ok(Answer::Yes)
    }
}

impl Add {
    async fn run(self, client: &Client, output: &Output) -> Result<(), CliError> {
        let settings = self.settings.patch()?;
        if let Some(file) = self.from {
            let routes = read_lines(&read_text(&file)?, &settings)?;
            let adding = busy("adding routes");
            let added = client.post("/routes/many", &RouteInputs { routes }).await?;
            drop(adding);
            return output.data(&added, |RoutesAdded { added }| {
                let s = if *added == 1 { "" } else { "s" };
                format!("{added} route{s} added.\nNext: bentlane check")
            });
        }
        let address = self.route.unwrap_or_default();
        let by_name = [
            (self.port_from_name, ByName::Port),
            (self.app_from_name, ByName::App),
            (self.container_from_name, ByName::Container),
        ];
        let by_name = by_name.into_iter().find(|(wanted, _)| *wanted);
        let target = by_name
            .map(|(_, by)| by.as_str().to_owned())
            .or(self.target);
        let target = match target {
            Some(target) => whole_target(target)?,
            None => chosen_target(client, output, &address).await?,
        };
        if self.add_zone || (stdin().is_terminal() && !output.is_json()) {
            add_missing_zone(client, output, &address, self.add_zone).await?;
        }
        let mut input = input(&address, target);
        input.settings = settings;
        let route: RouteView = client.post("/routes", &input).await?;
        output.advise(&route.advice);
        for note in &route.port_notes {
            output.say(note);
        }
        let route = checked(client, route).await?;
        output.data(&route, |route| describe(output, route))?;
        offer_to_expect(client, output, &route).await
    }
}

/// Offers to declare the title of the page as the right app's, so that another in its place is noticed.
async fn offer_to_expect(
    client: &Client,
    output: &Output,
    route: &RouteView,
) -> Result<(), CliError> {
    let verdict = route.verdict.as_ref();
    let title = verdict.and_then(|verdict| verdict.title.as_ref());
    let passed = verdict.is_some_and(|verdict| verdict.passed);
    let asks = output.is_table() && confirm::is_asked();
    let expects = &route.settings.expect;
    let Some(title) = title.filter(|_| asks && passed && expects.is_empty()) else {
        return Ok(());
    };
    output.say(&format!(
        "\nIts title is “{title}”. Expect that in checks, so that another app in its place is noticed?"
    ));
    if !confirm::agreed(output)? {
        return Ok(());
    }
    let patch = RoutePatch {
        to: None,
        settings: Map::from_iter([("expect".to_owned(), json!({ "title": title }))]),
    };
    change(client, &route.address, patch, &BTreeMap::new()).await?;
    output.say(&format!("{} is expected to have that title", route.address));
    Ok(())
}

/// Asks which of the apps that listen the route is to lead to.
async fn chosen_target(
    client: &Client,
    output: &Output,
    address: &str,
) -> Result<String, CliError> {
    let found = running::apps(Some(client), &BTreeSet::new()).await?;
    let line = |app: &running::App| {
        let title = app.title.as_ref().map(|title| format!("  “{title}”"));
        format!("{:>6}  {}{}", app.port, app.seen, title.unwrap_or_default())
    };
    let lines: Vec<String> = found.iter().map(line).collect();
    if !confirm::is_asked() || found.is_empty() {
        let listening = match lines.is_empty() {
            true => "nothing that speaks HTTP listens on this machine yet".to_owned(),
            false => format!("these listen here:\n{}", lines.join("\n")),
        };
        return Err(CliError::Value {
            field: "target",
            reason: format!("say where {address} leads to, such as a port; {listening}"),
        });
    }
    output.say(&lines.join("\n"));
    let port = confirm::answer(output, &format!("The port for {address}: "))?;
    whole_target(port)
}

/// Adds the zone that one would want for `address` where none covers it, `at_once` or when that is
/// agreed to. What is wrong with the address, the service says.
async fn add_missing_zone(
    client: &Client,
    output: &Output,
    address: &str,
    at_once: bool,
) -> Result<(), CliError> {
    let Ok(address) = address.parse::<Address>() else {
        return Ok(());
    };
    let base = address.pattern.base();
    let known: Zones = client.get("/zones").await?;
    let mut zones = known.zones.iter().filter_map(|zone| zone.name.parse().ok());
    if zones.any(|zone: Name| base.is_within(&zone)) {
        return Ok(());
    }
    let name = suggested_zone(base).to_owned();
    if !at_once {
        output.say(&format!(
            "no zone covers {base}. Add {name}, so that it and every name below it resolve to this \
             machine?"
        ));
        if !confirm::agreed(output)? {
            return Ok(());
        }
    }
    let input = ZoneInput {
        name,
        anyway: false,
    };
    let zone = zone::add(client, output, input).await?;
    output.say(&zone::resolves(&zone.name));
    Ok(())
}

impl Edit {
    async fn run(self, client: &Client, output: &Output) -> Result<(), CliError> {
        let patch = RoutePatch {
            to: self.to.map(whole_target).transpose()?,
            settings: self.changes.patch()?,
        };
        let additions = settings::additions(&self.add, RouteSettings::SETTINGS)?;
        if patch == RoutePatch::default() && additions.is_empty() {
            return Err(CliError::Value {
                field: "route edit",
                reason: "say what to change: see `bentlane route edit --help`".to_owned(),
            });
        }
        let route = change(client, &self.route, patch, &additions).await?;
        show_checked(client, output, route).await
    }
}

/// Changes a route. Entries to add go behind those that its lists have at that moment, since a merge
/// patch would replace these.
pub(super) async fn change(
    client: &Client,
    address: &str,
    mut patch: RoutePatch,
    additions: &BTreeMap<String, Vec<String>>,
) -> Result<RouteView, CliError> {
    let path = format!("/routes/{}", segment(address));
    if additions.is_empty() {
        return client.patch(&path, &patch).await;
    }
    // Another client's change at the same time counts as a later one.
    loop {
        let (route, tag): (RouteView, _) = client.get_tagged(&path).await?;
        bentlane_model::add_to_lists(&mut patch.settings, additions, &route.settings);
        if let Some(route) = client.patch_tagged(&path, &patch, tag).await? {
            return Ok(route);
        }
    }
}

/// A route as it is written on a line: its address, and its target.
pub(super) fn input(address: &str, to: String) -> RouteInput {
    let (name, prefix) = match address.find('/').filter(|_| !address.contains("://")) {
        Some(slash) => (&address[..slash], Some(address[slash..].to_owned())),
        None => (address, None),
    };
    RouteInput {
        name: name.to_owned(),
        prefix,
        to,
        ..RouteInput::default()
    }
}

/// The absolute path of a folder: the service has another working folder.
fn whole_target(target: String) -> Result<String, CliError> {
    match target.strip_prefix("folder:") {
        Some(path) => Ok(format!("folder:{}", whole_path(Path::new(path))?.display())),
        None => Ok(target),
    }
}

/// Reads a route, its target and settings as flags from each line, and says all that is wrong, line by
/// line. What a line leaves open, `settings` say.
fn read_lines(text: &str, settings: &Map<String, Value>) -> Result<Vec<RouteInput>, CliError> {
    let (mut routes, mut wrong) = (Vec::new(), Vec::new());
    for (number, line) in (1..).zip(text.lines()) {
        match read_line(line) {
            Ok(None) => {}
            Ok(Some(mut route)) => {
                let mut whole = settings.clone();
                whole.append(&mut route.settings);
                routes.push(RouteInput {
                    settings: whole,
                    ..route
                });
            }
            Err(reasons) => {
                wrong.extend(
                    reasons
                        .into_iter()
                        .map(|reason| format!("line {number}: {reason}")),
                );
            }
        }
    }
    if wrong.is_empty() {
        Ok(routes)
    } else {
        Err(CliError::Lines(wrong))
    }
}

fn read_line(line: &str) -> Result<Option<RouteInput>, Vec<String>> {
    let read = RouteLine::read(line, RouteSettings::SETTINGS).map_err(|reason| vec![reason])?;
    let Some(RouteLine { words, settings }) = read else {
        return Ok(None);
    };
    let [address, target] = words.as_slice() else {
        return Err(vec!["a route and its target are wanted".to_owned()]);
    };
    let input = RouteInput {
        settings,
        ..input(address, target.clone())
    };
    let draft = RouteDraft {
        name: &input.name,
        prefix: input.prefix.as_deref(),
        to: &input.to,
    };
    match draft.parse() {
        Ok(_) => Ok(Some(input)),
        Err(errors) => Err(errors.iter().map(ToString::to_string).collect()),
    }
}

/// Shows a route that was just made or changed, with what a check of it finds now.
async fn show_checked(client: &Client, output: &Output, route: RouteView) -> Result<(), CliError> {
    let route = checked(client, route).await?;
    output.data(&route, |route| describe(output, route))
}

/// The route, with what a check of it comes to.
async fn checked(client: &Client, mut route: RouteView) -> Result<RouteView, CliError> {
    let request = CheckRequest {
        addresses: vec![route.address.clone()],
        ..CheckRequest::default()
    };
    let Verdicts { verdicts, .. } = client.post("/checks", &request).await?;
    route.verdict = verdicts.into_iter().next();
    Ok(route)
}

fn describe(output: &Output, route: &RouteView) -> String {
    let url = output.paint(Style::Strong, &route.url);
    let mut heading = format!("{url}  {}", target_in_words(&route.to));
    for (key, value) in settings::in_words(&route.settings) {
        let key = output.paint(Style::Muted, &format!("{key:<SETTING_WIDTH$}"));
        heading.push_str(&format!("\n{key} {value}"));
    }
    let origins = [
        ("project", route.project.clone()),
        ("label of", route.of_container.clone()),
    ];
    for (key, value) in origins {
        if let Some(value) = value {
            let key = output.paint(Style::Muted, &format!("{key:<SETTING_WIDTH$}"));
            heading.push_str(&format!("\n{key} {}", running::plain(&value)));
        }
    }
    let Some(verdict) = &route.verdict else {
        let advice = format!("not checked yet: bentlane check {}", route.address);
        return format!("{heading}\n{}", output.paint(Style::Muted, &advice));
    };
    let verdicts = std::slice::from_ref(verdict);
    let parts = [
        heading,
        lanes::lanes(output, verdicts),
        details(output, verdict),
        lanes::findings(output, verdicts, |_| true),
    ];
    parts
        .into_iter()
        .filter(|part| !part.is_empty())
        .collect::<Vec<_>>()
        .join("\n\n")
}

/// What each hop saw, for a route that passes: where it does not, the finding says more.
fn details(output: &Output, verdict: &Verdict) -> String {
    if !verdict.passed {
        return String::new();
    }
    let line = |report: &bentlane_checks::HopReport| {
        let hop = output.paint(Style::Muted, &format!("{:<10}", report.hop.as_str()));
        format!("{hop} {}", report.detail)
    };
    verdict.hops.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// Whether third parties take a route's name.
async fn third_parties(client: &Client, route: &RouteView) -> Result<Vec<Acceptance>, CliError> {
    let address: Address = route.address.parse().map_err(|error| CliError::Value {
        field: "route",
        reason: format!("{error}"),
    })?;
    let known: Zones = client.get("/zones").await?;
    let zones = known.zones.iter().filter_map(|it| it.name.parse().ok());
    let base = address.pattern.base();
    let zone = zones
        .filter(|zone: &Name| base.is_within(zone))
        .max_by_key(|zone| zone.as_str().len());
    let zone = zone.unwrap_or_else(|| base.clone());
    Ok(acceptance(&address.pattern, &zone, route.values.port))
}

/// A paragraph for each purpose.
pub(crate) fn acceptance_in_words(output: &Output, all: &[Acceptance]) -> String {
    let widest = all
        .iter()
        .map(|it| it.purpose.len())
        .max()
        .unwrap_or_default();
    let line = |it: &Acceptance| {
        let (tone, word) = match it.accepted {
            Accepted::Yes => (Style::Passing, "yes"),
            Accepted::Often => (Style::Fix, "not by all"),
            Accepted::No => (Style::Broken, "no"),
        };
        let word = output.paint(tone, &format!("{word:<10}"));
        let first = format!("{:<widest$}  {word}  {}", it.purpose, it.value);
        let indent = " ".repeat(widest + 2 + 10 + 2);
        let reason = wrapped(&it.reason, REASON_WIDTH).join(&format!("\n{indent}"));
        format!(
            "{}\n{indent}{}",
            first.trim_end(),
            output.paint(Style::Muted, &reason)
        )
    };
    all.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// A text in lines of at most so many characters.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// What other systems ask for, to be registered with them.
fn values_in_words(output: &Output, values: &RouteValues) -> String {
    let RouteValues {
        origin,
        callback_base,
        cookie_domain,
        host,
        port,
    } = values;
    let none = "none: browsers share no cookies right under a single label";
    let rows = [
        ("origin", origin.as_str()),
        ("callbacks", callback_base),
        ("cookies", cookie_domain.as_deref().unwrap_or(none)),
        ("host", host),
        ("port", &port.to_string()),
    ];
    let raw = origin.starts_with("tcp:");
    let line = |(label, text): &(&str, &str)| {
        let label = output.paint(Style::Muted, &format!("{label:<10}"));
        format!("{label} {text}")
    };
    let rows = rows
        .iter()
        .filter(|(label, _)| !raw || matches!(*label, "host" | "port"));
    rows.map(line).collect::<Vec<_>>().join("\n")
}

fn target_in_words(to: &str) -> String {
    if let Some(url) = to.strip_prefix("redirect:") {
        format!("redirects to {url}")
    } else if let Some(path) = to.strip_prefix("folder:") {
        format!("answers with the files of {path}")
    } else if to.bytes().all(|octet| octet.is_ascii_digit()) {
        format!("leads to port {to}")
    } else {
        format!("leads to {to}")
    }
}

fn list(output: &Output, routes: &[RouteView]) -> String {
    // Painted texts have no width that a table could count on, so the lane comes last.
    let rows = routes
        .iter()
        .flat_map(|route| {
            let lane = match &route.verdict {
                Some(verdict) => {
                    let tone = if verdict.passed {
                        Style::Passing
                    } else {
                        Style::Broken
                    };
                    output.paint(tone, &lane(&verdict.states()))
                }
                None => output.paint(Style::Muted, "not checked yet"),
            };
            let to = match &route.of_container {
                Some(_) => format!("{} (label)", route.to),
                None => route.to.clone(),
            };
            let own = [route.address.clone(), to, route.url.clone(), lane];
            let of_name = |it: &RouteMatch| {
                [
                    format!("  {}", it.name),
                    it.to.clone(),
                    it.url.clone(),
                    String::new(),
                ]
            };
            std::iter::once(own).chain(route.matches.iter().map(of_name))
        })
        .collect();
    table(["ADDRESS", "TARGET", "URL", "LANE"], rows)
}
