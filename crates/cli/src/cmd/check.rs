use bentlane_service::api::{CheckRequest, Routes, Verdicts};
use clap::Args;
use indicatif::{ProgressBar, ProgressStyle};

use super::lanes;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// Routes checked for one step of the progress bar.
const STEP: usize = 64;

/// `bentlane check`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane check                           every route
  bentlane check booking.moor.test booking.moor.test/api
  bentlane check --format json | jq '.verdicts[] | select(.passed | not)'

Hops: resolve (our resolver knows the name), connect (the target accepts), handshake (the
certificate is trusted), answer (a request gets its response). Exit code 1 when one fails.")]
pub(crate) struct Check {
    /// The routes to check [default: all]
    #[arg(value_name = "ADDRESS")]
    addresses: Vec<String>,
}

impl Check {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let addresses = if self.addresses.is_empty() {
            let Routes { routes } = client.get("/routes").await?;
            routes.into_iter().map(|route| route.address).collect()
        } else {
            self.addresses
        };
        let verdicts = check(client, addresses).await?;
        if verdicts.verdicts.is_empty() && !output.is_json() {
            output.say("there is no route yet: add one with `bentlane route add NAME PORT`");
            return Ok(Answer::Yes);
        }
        output.data(&verdicts, |Verdicts { verdicts }| {
            let parts = [
                lanes::lanes(output, verdicts),
                lanes::findings(output, verdicts),
                lanes::summary(verdicts),
            ];
            parts
                .into_iter()
                .filter(|part| !part.is_empty())
                .collect::<Vec<_>>()
                .join("\n\n")
        })?;
        let passed = verdicts.verdicts.iter().all(|verdict| verdict.passed);
        Ok(if passed { Answer::Yes } else { Answer::No })
    }
}

/// Checks `addresses` in steps, with a bar when there are many.
async fn check(client: &Client, addresses: Vec<String>) -> Result<Verdicts, CliError> {
    let bar = if addresses.len() > STEP {
        let style = ProgressStyle::with_template("{bar:30} {pos} of {len} routes, {eta} left")
            .unwrap_or_else(|_| ProgressStyle::default_bar());
        ProgressBar::new(addresses.len() as u64).with_style(style)
    } else {
        ProgressBar::hidden()
    };
    let mut verdicts = Vec::with_capacity(addresses.len());
    for step in addresses.chunks(STEP) {
        let request = CheckRequest {
            addresses: step.to_vec(),
        };
        let checked: Verdicts = client.post("/checks", &request).await?;
        verdicts.extend(checked.verdicts);
        bar.inc(step.len() as u64);
    }
    bar.finish_and_clear();
    Ok(Verdicts { verdicts })
}
