use bentlane_service::api::{ZoneInput, ZoneView, Zones};
use clap::{Args, Subcommand};

use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::{Output, table};

/// `bentlane zone`
#[derive(Debug, Subcommand)]
pub(crate) enum Zone {
    /// Add a zone: it and every name below it resolve to this machine
    Add(Add),
    /// List the zones
    List(List),
    /// Remove a zone
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane zone add moor.test
  bentlane zone add staging.example.com --anyway      a real domain, out of reach from then on")]
pub(crate) struct Add {
    /// The suffix, such as moor.test
    name: String,
    /// Take it even if it can be a real domain
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
  bentlane zone remove moor.test
  bentlane zone remove moor.test --with-routes")]
pub(crate) struct Remove {
    /// The zone
    name: String,
    /// Remove its routes, too
    #[arg(long)]
    with_routes: bool,
}

impl Zone {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Add(Add { name, anyway }) => {
                let input = ZoneInput { name, anyway };
                let zone: ZoneView = client.post("/zones", &input).await?;
                output.advise(&zone.advice);
                output.data(&zone, |zone| {
                    let name = &zone.name;
                    format!(
                        "{name} and every name below it resolve to this machine now.\n\
                         Next: bentlane route add app.{name} PORT"
                    )
                })?;
            }
            Self::List(List {}) => {
                let zones: Zones = client.get("/zones").await?;
                if zones.zones.is_empty() && !output.is_json() {
                    output.say("there is no zone yet: add one with `bentlane zone add moor.test`");
                    return Ok(Answer::Yes);
                }
                output.data(&zones, |Zones { zones }| {
                    let row = |zone: &ZoneView| [zone.name.clone(), zone.routes.to_string()];
                    table(["ZONE", "ROUTES"], zones.iter().map(row).collect())
                })?;
            }
            Self::Remove(Remove { name, with_routes }) => {
                let path = format!("/zones/{}?with_routes={with_routes}", segment(&name));
                client.delete(&path).await?;
                output.say(&format!("the zone {name} is gone"));
            }
        }
        Ok(Answer::Yes)
    }
}
