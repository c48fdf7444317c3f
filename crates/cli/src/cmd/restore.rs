use bentlane_api_types::{RestoreFrom, RestoreInput, Restored};
use clap::{Args, ValueEnum};

use super::confirm;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane restore`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane restore --from last-known-good   the database is lost: store again what is in force
  bentlane restore --from database          the database was replaced on purpose: use what it has

The service notices when its database is lost, emptied or an older one: it serves what was in force
last, refuses changes, and leaves the database as it is. `bentlane status` says so.")]
pub(crate) struct Restore {
    /// What to go by from now on
    #[arg(long, value_name = "SOURCE")]
    from: Source,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Source {
    /// The configuration that is in force
    LastKnownGood,
    /// What the database has
    Database,
}

impl Restore {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let (from, what) = match self.from {
            Source::LastKnownGood => (
                RestoreFrom::LastKnownGood,
                "what the database has will be replaced by the configuration that is in force",
            ),
            Source::Database => (
                RestoreFrom::Database,
                "the configuration that is in force will be replaced by what the database has",
            ),
        };
        output.say(what);
        if !self.yes && !confirm::agreed(output)? {
            output.say("nothing was changed");
            return Ok(Answer::Yes);
        }
        let restored: Restored = client.post("/restore", &RestoreInput { from }).await?;
        output.data(&restored, |restored| {
            let Restored {
                revision,
                zones,
                routes,
            } = restored;
            format!("restored: revision {revision}, zones: {zones}, routes: {routes}")
        })?;
        Ok(Answer::Yes)
    }
}
