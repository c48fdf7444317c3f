use std::path::{Path, PathBuf};

use bentlane_api_types::{Backup, RestoreFrom, RestoreInput, Restored, Status};
use bentlane_model::AppSettings;
use clap::{Args, ValueEnum};
use time::macros::format_description;

use super::authority::PassphraseFrom;
use super::confirm;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::input::read_text;
use crate::output::Output;

/// `bentlane restore`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane restore lanes.json               replace zones, routes and apps by those of a backup
  bentlane restore lanes.json --keys        use its keys, too: asks for their passphrase
  bentlane restore --from last-known-good   the database is lost: store again what is in force
  bentlane restore --from database          the database was replaced on purpose: use what it has

A restored backup is a change like others: `bentlane undo` takes it back. The journal of the backup
is taken over where there is none. The root before is kept in the data folder, beside its successor.

The service notices when its database is lost, emptied or an older one: it serves what was in force
last, refuses changes, and leaves the database as it is. `bentlane status` says so.")]
pub(crate) struct Restore {
    /// A backup, made by `bentlane backup`
    #[arg(required_unless_present = "from")]
    file: Option<PathBuf>,
    /// What to go by when the database is not the one that was in use
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["file", "keys"])]
    from: Option<Source>,
    /// Use the keys of the backup from now on
    #[arg(long)]
    keys: bool,
    #[command(flatten)]
    passphrase: PassphraseFrom,
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
        let (input, what) = match (self.from, &self.file) {
            (Some(Source::LastKnownGood), _) => (
                go_by(RestoreFrom::LastKnownGood),
                "what the database has will be replaced by the configuration that is in force"
                    .to_owned(),
            ),
            (Some(Source::Database), _) => (
                go_by(RestoreFrom::Database),
                "the configuration that is in force will be replaced by what the database has"
                    .to_owned(),
            ),
            (None, file) => {
                let path = file.as_deref().unwrap_or(Path::new("-"));
                let backup = read(path)?;
                let now: Status = client.get("/status").await?;
                let what = self.question(path, &backup, &now)?;
                let passphrase = self
                    .keys
                    .then(|| self.passphrase.read_for("Passphrase of the keys: "));
                let input = RestoreInput {
                    from: RestoreFrom::Backup,
                    backup: Some(backup),
                    passphrase: passphrase.transpose()?,
                };
                (input, what)
            }
        };
        output.say(&what);
        if !self.yes && !confirm::agreed(output)? {
            output.say("nothing was changed");
            return Ok(Answer::Yes);
        }
        let restored: Restored = client.post("/restore", &input).await?;
        output.data(&restored, |restored| {
            let Restored {
                revision,
                zones,
                routes,
                apps,
                journal,
                keys,
            } = restored;
            let mut line = format!(
                "restored: revision {revision}, zones: {zones}, routes: {routes}, apps: {apps}"
            );
            for (is_there, part) in [(journal, "the journal"), (keys, "the keys")] {
                if *is_there {
                    line = format!("{line}, {part}");
                }
            }
            line
        })?;
        if restored.keys {
            output
                .say("if this machine does not trust the root yet: `sudo bentlane system attach`");
        }
        Ok(Answer::Yes)
    }

    /// What will be replaced by what.
    fn question(&self, path: &Path, backup: &Backup, now: &Status) -> Result<String, CliError> {
        let counted = |zones: usize, routes: usize| {
            let plural = |count: usize, one: &str| match count {
                1 => format!("1 {one}"),
                more => format!("{more} {one}s"),
            };
            format!("{}, {}", plural(zones, "zone"), plural(routes, "route"))
        };
        let day = format_description!("[year]-[month]-[day] [hour]:[minute] UTC");
        let (there, here) = (
            counted(
                backup.configuration.zones.len(),
                backup.configuration.routes.len(),
            ),
            counted(now.zones, now.routes),
        );
        let keys = match (self.keys, &backup.keys) {
            (true, None) => {
                return Err(CliError::Value {
                    field: "keys",
                    reason: format!("{} has no keys: leave out --keys", path.display()),
                });
            }
            (true, Some(_)) => ", and this root by that of the backup",
            (false, Some(_)) => "; the keys of the backup are left out (--keys)",
            (false, None) => "",
        };
        let mut question = format!(
            "what is stored ({here}) will be replaced by {} of {} ({there}){keys}",
            path.display(),
            backup.made_at.format(day).unwrap_or_default()
        );
        // They run as the service's user.
        for app in &backup.configuration.apps {
            let AppSettings {
                command, folder, ..
            } = &app.settings;
            let line = format!("{} runs `{command}` in {}", app.name, folder.display());
            question.push_str("\n  ");
            question.push_str(&line.replace(char::is_control, "\u{fffd}"));
        }
        Ok(question)
    }
}

fn go_by(from: RestoreFrom) -> RestoreInput {
    RestoreInput {
        from,
        backup: None,
        passphrase: None,
    }
}

/// The backup in this file.
fn read(path: &Path) -> Result<Backup, CliError> {
    let text = read_text(path)?;
    serde_json::from_str(&text).map_err(|cause| CliError::Value {
        field: "file",
        reason: format!("{} is no backup, or is damaged: {cause}", path.display()),
    })
}
