use std::time::Duration;

use bentlane_api_types::{Restarting, Status};
use clap::Args;
use serde_json::json;
use tokio::time::{Instant, sleep};

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// How long the service may take to start again.
const PATIENCE: Duration = Duration::from_secs(30);
/// How often it is asked.
const ASK_AGAIN_AFTER: Duration = Duration::from_millis(50);

/// `bentlane restart`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane restart        after an upgrade, or to use what was changed in config.toml

The service starts again in place: it keeps its process, its listeners and its database server.
Requests at work have 2 s to finish, new ones wait, and WebSockets are closed with 1012 (service
restart). Nothing is stopped when the program or its settings file would not start.")]
pub(crate) struct Restart {}

impl Restart {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let start = Instant::now();
        let Restarting { pid, started_at } = client.post("/restart", &json!({})).await?;
        let status = loop {
            // The former process may still take a call, and close it.
            let status: Result<Status, _> = client.get("/status").await;
            match status {
                Ok(status) if status.started_at != started_at => break status,
                Err(error) if start.elapsed() > PATIENCE => return Err(error),
                _ if start.elapsed() > PATIENCE => return Err(CliError::NoRestart { pid }),
                _ => sleep(ASK_AGAIN_AFTER).await,
            }
        };
        output.data(&status, |status| {
            format!(
                "restarted in {:.1} s: version {}, process {}, revision {}",
                start.elapsed().as_secs_f64(),
                status.version,
                status.pid,
                status.revision
            )
        })?;
        Ok(Answer::Yes)
    }
}
