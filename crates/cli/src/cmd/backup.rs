use std::path::PathBuf;

use bentlane_api_types::{Backup as Contents, BackupInput};
use clap::Args;
use serde_json::json;

use super::authority::{PassphraseFrom, new_file};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane backup`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane backup lanes.json               zones, routes, apps and the journal
  bentlane backup lanes.json --keys        the keys as well, under a passphrase that it asks for
  bentlane backup \"lanes-$(date +%F).json\" --keys --passphrase-file ~/secret

`bentlane restore FILE` puts it back, here or on another machine. A file that is there is left alone.
The traffic is not in it, nor what is attached to this machine.")]
pub(crate) struct Backup {
    /// The file to make
    file: PathBuf,
    /// Copy the keys as well: the root's, and those of imported certificates
    #[arg(long)]
    keys: bool,
    #[command(flatten)]
    passphrase: PassphraseFrom,
}

impl Backup {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let passphrase = self.keys.then(|| self.passphrase.read_new()).transpose()?;
        let backup: Contents = client.post("/backup", &BackupInput { passphrase }).await?;
        let text = serde_json::to_string_pretty(&backup).map_err(CliError::Answer)?;
        new_file(&self.file, 0o600, text.as_bytes())?;
        let (zones, routes) = (
            backup.configuration.zones.len(),
            backup.configuration.routes.len(),
        );
        let data = json!({
            "file": self.file, "revision": backup.configuration.revision, "zones": zones,
            "routes": routes, "changes": backup.journal.len(), "keys": backup.keys.is_some(),
        });
        let keys = match backup.keys {
            Some(_) => "the keys under their passphrase",
            None => "no keys (--keys)",
        };
        output.data(&data, |_| {
            format!(
                "{}: revision {}, zones: {zones}, routes: {routes}, entries of the journal: {}, {keys}",
                self.file.display(),
                backup.configuration.revision,
                backup.journal.len(),
            )
        })?;
        Ok(Answer::Yes)
    }
}
