//! `bentlane port`

mod env_file;
mod list;
mod suggest;

use clap::Subcommand;

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane port`
#[derive(Debug, Subcommand)]
pub(crate) enum Port {
    /// List what listens on this machine, with its process, protocol and routes
    List(list::List),
    /// Suggest free ports for a project, the same each time
    Suggest(suggest::Suggest),
}

impl Port {
    pub(crate) async fn run(
        self,
        client: impl FnOnce() -> Result<Client, CliError>,
        output: &Output,
    ) -> Result<Answer, CliError> {
        match self {
            Self::List(list) => list.run(&client()?, output).await,
            Self::Suggest(suggest) => suggest.run(output),
        }
    }
}
