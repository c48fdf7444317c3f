use bentlane_api_types::{Guide as GuideView, Zones};
use clap::{Args, ValueEnum};

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane system guide macos
  bentlane system guide macos --script > bentlane.sh
  bentlane system guide windows --script > bentlane.ps1

Nobody has tried these scripts on those systems yet: read one before you run it. Each undoes itself
when it is called with `undo`.")]
pub(crate) struct Guide {
    /// The system
    #[arg(value_enum)]
    system: OtherSystem,
    /// Print one script that does it, and undoes it
    #[arg(long)]
    script: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum OtherSystem {
    /// macOS
    Macos,
    /// Windows
    Windows,
    /// Windows, with the service in its Linux subsystem
    Wsl,
    /// A phone or tablet
    Phone,
}

impl Guide {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let zones: Zones = client.get("/zones").await?;
        if zones.zones.is_empty() {
            output.say("there is no zone yet: add one with `bentlane zone add moor.test`");
        }
        let system = match self.system {
            OtherSystem::Macos => "macos",
            OtherSystem::Windows => "windows",
            OtherSystem::Wsl => "wsl",
            OtherSystem::Phone => "phone",
        };
        let guide: GuideView = client.get(&format!("/machine/guides/{system}")).await?;
        let text = if self.script {
            guide.script
        } else {
            guide.text
        };
        output.line(text.trim_end())?;
        Ok(Answer::Yes)
    }
}
