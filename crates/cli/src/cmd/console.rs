use std::process::{Command, Stdio};

use bentlane_service::api::SignInLink;
use clap::Args;

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane console`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane console                         open a browser, where there is one
  bentlane console --print                 only print the link")]
pub(crate) struct Console {
    /// Print the link and open nothing
    #[arg(long)]
    print: bool,
}

impl Console {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let link: SignInLink = client.post("/sign-in-links", &()).await?;
        if !self.print && !output.is_json() && open(&link.url) {
            output.say("the console opens in your browser");
            return Ok(Answer::Yes);
        }
        output.data(&link, |link| link.url.clone())?;
        output.say(&format!("it works once, within {} s", link.expires_in_s));
        Ok(Answer::Yes)
    }
}

/// Hands `url` to the desktop's browser; `false` where there is no desktop or no browser.
fn open(url: &str) -> bool {
    let desktop = ["DISPLAY", "WAYLAND_DISPLAY"]
        .iter()
        .any(|name| std::env::var_os(name).is_some());
    let opener = if cfg!(target_os = "macos") {
        "open"
    } else {
        "xdg-open"
    };
    (desktop || cfg!(target_os = "macos"))
        && Command::new(opener)
            .arg(url)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .is_ok_and(|status| status.success())
}
