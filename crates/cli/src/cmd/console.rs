use std::io::IsTerminal;
use std::process::{Command, Stdio};

use bentlane_api_types::{LinkAnswer, LinkNews, LinkState, SignInLink, SignInRequest, SignedOut};
use bentlane_system::TrustState;
use clap::Args;

use super::{confirm, trust};
use crate::account::home;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane console`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane console                         open a browser, where there is one
  bentlane console --print                 only print the link
  bentlane console --sign-out              sign every browser out

The link works once, within a minute, in a browser of the same user. For the browser of another user,
as on the host of a virtual machine, this asks on the terminal first.")]
pub(crate) struct Console {
    /// Print the link and open nothing
    #[arg(long)]
    print: bool,
    /// Sign every browser out
    #[arg(long, conflicts_with = "print")]
    sign_out: bool,
}

impl Console {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        if self.sign_out {
            let ended: SignedOut = client.delete_and_read("/sessions").await?;
            output.data(&ended, |ended| match ended.sessions {
                0 => "no browser was signed in".to_owned(),
                1 => "signed one browser out".to_owned(),
                more => format!("signed {more} browsers out"),
            })?;
            return Ok(Answer::Yes);
        }
        let asks = std::io::stdin().is_terminal() && !output.is_json();
        let request = SignInRequest {
            asks,
            trusted: is_trusted(client).await?,
        };
        let link: SignInLink = client.post("/sign-in-links", &request).await?;
        if !self.print && !output.is_json() && open(&link.url) {
            output.say("the console opens in your browser");
        } else {
            output.data(&link, |link| link.url.clone())?;
            output.say(&format!("it works once, within {} s", link.expires_in_s));
        }
        if asks {
            follow(client, &link, output).await?;
        }
        Ok(Answer::Yes)
    }
}

/// Whether every trust store of this machine trusts our root, so that any browser does.
async fn is_trusted(client: &Client) -> Result<bool, CliError> {
    let clients = trust::ask(client).await?.clients(&home());
    Ok(!clients.is_empty() && clients.iter().all(|it| it.state == TrustState::Trusted))
}

/// Waits until the link was used, and asks before the browser of another user is let in.
async fn follow(client: &Client, link: &SignInLink, output: &Output) -> Result<(), CliError> {
    let path = format!("/sign-in-links/{}", link.id);
    loop {
        let news: LinkNews = client.get(&path).await?;
        match news.state {
            LinkState::Open | LinkState::Answered => {}
            LinkState::Used | LinkState::Over => return Ok(()),
            LinkState::Asked => {
                let user = news.user.as_deref().unwrap_or("another user");
                output.say(&format!(
                    "a browser of {user} wants to sign in with this link: if that is you, as from \
                     the host of this machine, let it in"
                ));
                let agreed = confirm::agreed(output)?;
                let answer = LinkAnswer { agreed };
                client
                    .post::<()>(&format!("{path}/answer"), &answer)
                    .await?;
                if !agreed {
                    output.say("it was not let in");
                    return Ok(());
                }
            }
        }
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
