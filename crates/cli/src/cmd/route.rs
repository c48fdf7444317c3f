use bentlane_core::check::{Verdict, lane};
use bentlane_service::api::{CheckRequest, RouteInput, RoutePatch, RouteView, Routes, Verdicts};
use clap::{Args, Subcommand};

use super::lanes;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
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
  bentlane route add vm.moor.test http://192.168.56.10:8080")]
pub(crate) struct Add {
    /// NAME[/PREFIX]: a name or '*.NAME', and where wanted the start of the path
    address: String,
    /// A port of this machine, or http://HOST:PORT
    target: String,
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
  bentlane route edit booking.moor.test --to 4320")]
pub(crate) struct Edit {
    /// The route's address
    address: String,
    /// Where it leads from now on: a port, or http://HOST:PORT
    #[arg(long, value_name = "TARGET")]
    to: String,
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
            Self::Add(Add { address, target }) => {
                let (name, prefix) = match address.find('/').filter(|_| !address.contains("://")) {
                    Some(slash) => (&address[..slash], Some(address[slash..].to_owned())),
                    None => (&*address, None),
                };
                let input = RouteInput {
                    name: name.to_owned(),
                    prefix,
                    to: target,
                };
                let route: RouteView = client.post("/routes", &input).await?;
                output.advise(&route.advice);
                show_checked(client, output, route).await?;
            }
            Self::Edit(Edit { address, to }) => {
                let path = format!("/routes/{}", segment(&address));
                let route: RouteView = client.patch(&path, &RoutePatch { to }).await?;
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
    let heading = format!("{url}  leads to {}", target_in_words(&route.to));
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
    if to.bytes().all(|octet| octet.is_ascii_digit()) {
        format!("port {to}")
    } else {
        to.to_owned()
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
