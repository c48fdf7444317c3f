use std::fs;
use std::path::PathBuf;

use bentlane_service::api::AuthorityView;
use clap::{Args, Subcommand};
use time::OffsetDateTime;
use time::macros::format_description;

use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Tone};

/// `bentlane authority`
#[derive(Debug, Subcommand)]
pub(crate) enum Authority {
    /// Show the root certificate: whose it is, how long it is valid, what it vouches for
    Show(Show),
    /// Export the root certificate as PEM, for trust stores and clients
    Export(Export),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority show")]
pub(crate) struct Show {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority export > root.pem
  bentlane authority export --out root.pem
  curl --cacert root.pem https://booking.moor.test/")]
pub(crate) struct Export {
    /// Write to this file, which must not exist yet [default: stdout]
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
}

impl Authority {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let authority: AuthorityView = client.get("/authority").await?;
        match self {
            Self::Show(Show {}) => output.data(&authority, |view| describe(output, view))?,
            Self::Export(Export { out: None }) => {
                output.line(authority.certificate_pem.trim_end())?;
            }
            Self::Export(Export { out: Some(path) }) => {
                // Never over a file that is there: it may be the last copy of another root.
                fs::File::create_new(&path)
                    .and_then(|mut file| {
                        std::io::Write::write_all(&mut file, authority.certificate_pem.as_bytes())
                    })
                    .map_err(|source| CliError::Io {
                        verb: format!("write {}", path.display()),
                        source,
                    })?;
                output.say(&format!("the root certificate is in {}", path.display()));
            }
        }
        Ok(Answer::Yes)
    }
}

fn describe(output: &Output, view: &AuthorityView) -> String {
    let day = |at: OffsetDateTime| {
        at.format(format_description!("[year]-[month]-[day]"))
            .unwrap_or_default()
    };
    let summary = &view.summary;
    let line = |label: &str, text: &str| {
        format!(
            "{} {text}",
            output.paint(Tone::Muted, &format!("{label:<12}"))
        )
    };
    let validity = format!("{} to {}", day(summary.not_before), day(summary.not_after));
    [
        line("subject", &summary.subject),
        line("valid", &validity),
        line(
            "vouches for",
            &format!("{} and what lies below them", view.covers.join(", ")),
        ),
        line("SHA-256", &summary.fingerprint_sha256),
    ]
    .join("\n")
}
