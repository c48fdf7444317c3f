use std::path::PathBuf;

use bentlane_core::RouteDraft;
use bentlane_core::check::{Verdict, lane};
use bentlane_service::api::{
    CheckRequest, RouteInput, RouteInputs, RoutePatch, RouteView, Routes, RoutesAdded, Verdicts,
};
use clap::{Args, Subcommand};

use super::lanes;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::read_text;
use crate::output::{Output, Tone, table};

/// `bentlane route`
#[derive(Debug, Subcommand)]
pub(crate) enum Route {
    /// Add a route, and check it at once
    Add(Add),
    /// List the routes with their lanes
    List(List),
    /// Show one route, hop by hop
    Show(Show),
    /// Have a route lead elsewhere, and check it at once
    Edit(Edit),
    /// Remove a route
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route add booking.moor.test 4310
  bentlane route add booking.moor.test/api 4311
  bentlane route add '*.hut.moor.test' 4312
  bentlane route add vm.moor.test http://192.168.56.10:8080
  bentlane route add www.moor.test redirect:https://booking.moor.test
  bentlane route add store.moor.test 4320 --address own      a loopback address of its own
  bentlane route add --from routes.txt                       many at once, all or none")]
pub(crate) struct Add {
    /// NAME[/PREFIX]: a name or '*.NAME', and where wanted the start of the path
    #[arg(required_unless_present = "from")]
    route: Option<String>,
    /// A port of this machine, http://HOST:PORT, or redirect:URL
    #[arg(required_unless_present = "from")]
    target: Option<String>,
    /// What the name resolves to: an address, or `own` for a free loopback address of its own
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// A file with a route and its target on each line, `#` before a comment; `-` is standard input
    #[arg(long, value_name = "FILE", conflicts_with_all = ["route", "target", "address"])]
    from: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route list
  bentlane route list --format json | jq -r '.routes[].url'")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route show booking.moor.test/api")]
pub(crate) struct Show {
    /// The route's address
    address: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane route edit booking.moor.test --to 4320
  bentlane route edit vm.moor.test --address 192.168.56.10     its name leads to a VM
  bentlane route edit vm.moor.test --address zone              and back to where the zone says")]
pub(crate) struct Edit {
    /// The route
    route: String,
    /// Where it leads from now on: a port, http://HOST:PORT, or redirect:URL
    #[arg(long, value_name = "TARGET", required_unless_present = "address")]
    to: Option<String>,
    /// What its name resolves to: an address, `own` for a free loopback address of its own, or
    /// `zone` for what the zone says
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
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
            Self::Add(Add {
                from: Some(file), ..
            }) => {
                let routes = read_lines(&read_text(&file)?)?;
                let RoutesAdded { added } =
                    client.post("/routes/many", &RouteInputs { routes }).await?;
                output.data(&RoutesAdded { added }, |_| {
                    let s = if added == 1 { "" } else { "s" };
                    format!("{added} route{s} added.\nNext: bentlane check")
                })?;
            }
            Self::Add(Add {
                route,
                target,
                address,
                from: None,
            }) => {
                let mut input = input(&route.unwrap_or_default(), target.unwrap_or_default());
                input.address = address;
                let route: RouteView = client.post("/routes", &input).await?;
                output.advise(&route.advice);
                show_checked(client, output, route).await?;
            }
            Self::Edit(Edit { route, to, address }) => {
                let path = format!("/routes/{}", segment(&route));
                let route: RouteView = client.patch(&path, &RoutePatch { to, address }).await?;
                show_checked(client, output, route).await?;
            }
            Self::Show(Show { address }) => {
                let route = client
                    .get(&format!("/routes/{}", segment(&address)))
                    .await?;
                output.data(&route, |route| describe(output, route))?;
            }
            Self::List(List {}) => {
                let routes: Routes = client.get("/routes").await?;
                if routes.routes.is_empty() && !output.is_json() {
                    output
                        .say("there is no route yet: add one with `bentlane route add NAME PORT`");
                    return Ok(Answer::Yes);
                }
                output.data(&routes, |Routes { routes }| list(output, routes))?;
            }
            Self::Remove(Remove { address }) => {
                client
                    .delete(&format!("/routes/{}", segment(&address)))
                    .await?;
                output.say(&format!("the route {address} is gone"));
            }
        }
        Ok(Answer::Yes)
    }
}

/// A route as it is written on a line: its address, and its target.
fn input(address: &str, to: String) -> RouteInput {
    let (name, prefix) = match address.find('/').filter(|_| !address.contains("://")) {
        Some(slash) => (&address[..slash], Some(address[slash..].to_owned())),
        None => (address, None),
    };
    RouteInput {
        name: name.to_owned(),
        prefix,
        to,
        address: None,
    }
}

/// Reads a route and its target from each line, and says all that is wrong, line by line.
fn read_lines(text: &str) -> Result<Vec<RouteInput>, CliError> {
    let (mut routes, mut wrong) = (Vec::new(), Vec::new());
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.split('#').next().unwrap_or_default();
        let words: Vec<&str> = line.split_whitespace().collect();
        match *words.as_slice() {
            [] => {}
            [address, target] => {
                let input = input(address, target.to_owned());
                let draft = RouteDraft {
                    name: &input.name,
                    prefix: input.prefix.as_deref(),
                    to: &input.to,
                };
                match draft.parse() {
                    Ok(_) => routes.push(input),
                    Err(errors) => {
                        wrong.extend(errors.iter().map(|error| format!("line {number}: {error}")));
                    }
                }
            }
            _ => wrong.push(format!("line {number}: a route and its target are wanted")),
        }
    }
    if wrong.is_empty() {
        Ok(routes)
    } else {
        Err(CliError::Lines(wrong))
    }
}

/// Shows a route that was just made or changed, with what a check of it finds now.
async fn show_checked(
    client: &Client,
    output: &Output,
    mut route: RouteView,
) -> Result<(), CliError> {
    let request = CheckRequest {
        addresses: vec![route.address.clone()],
    };
    let Verdicts { verdicts } = client.post("/checks", &request).await?;
    route.verdict = verdicts.into_iter().next();
    output.data(&route, |route| describe(output, route))
}

fn describe(output: &Output, route: &RouteView) -> String {
    let url = output.paint(Tone::Strong, &route.url);
    let mut heading = format!("{url}  {}", target_in_words(&route.to));
    if let Some(address) = route.settings.address {
        heading.push_str(&format!("\nits name resolves to {address}"));
    }
    let Some(verdict) = &route.verdict else {
        let advice = format!("not checked yet: bentlane check {}", route.address);
        return format!("{heading}\n{}", output.paint(Tone::Muted, &advice));
    };
    let verdicts = std::slice::from_ref(verdict);
    let parts = [
        heading,
        lanes::lanes(output, verdicts),
        details(output, verdict),
        lanes::findings(output, verdicts),
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
    let line = |report: &bentlane_core::check::HopReport| {
        let hop = output.paint(Tone::Muted, &format!("{:<10}", report.hop.as_str()));
        format!("{hop} {}", report.detail)
    };
    verdict.hops.iter().map(line).collect::<Vec<_>>().join("\n")
}

fn target_in_words(to: &str) -> String {
    if let Some(url) = to.strip_prefix("redirect:") {
        format!("redirects to {url}")
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
        .map(|route| {
            let lane = match &route.verdict {
                Some(verdict) => {
                    let tone = if verdict.passed {
                        Tone::Passing
                    } else {
                        Tone::Broken
                    };
                    output.paint(tone, &lane(&verdict.states()))
                }
                None => output.paint(Tone::Muted, "not checked yet"),
            };
            [
                route.address.clone(),
                route.to.clone(),
                route.url.clone(),
                lane,
            ]
        })
        .collect();
    table(["ADDRESS", "TARGET", "URL", "LANE"], rows)
}
