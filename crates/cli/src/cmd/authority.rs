use std::fs;
use std::io::{ErrorKind, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use bentlane_api_types::{AuthorityView, ImportRoot, Protect, Unlock};
use bentlane_ca::{Form, Passphrase};
use bentlane_system::ClientTrust;
use clap::{Args, Subcommand, ValueEnum};
use serde::Serialize;
use time::OffsetDateTime;
use time::macros::format_description;

use super::trust;
use crate::account::home;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::input::{read_text, whole_path};
use crate::output::{Output, Style, busy};

/// `bentlane authority`
#[derive(Debug, Subcommand)]
pub(crate) enum Authority {
    /// Show the root certificate: whose it is, how long it is valid, what it can vouch for
    Show(Show),
    /// Export the root certificate, for trust stores and clients
    Export(Export),
    /// Make a new root that the present one certifies, so that nothing breaks meanwhile
    Rotate(Rotate),
    /// Take a root from another machine or system, so that both share one
    Import(ImportFiles),
    /// Keep the root's key under a passphrase, or no longer
    Protect(ProtectKey),
    /// Use a key that is under a passphrase once, for an issuing certificate for the zones of now
    Unlock(UnlockKey),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority show")]
pub(crate) struct Show {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority export > root.pem
  bentlane authority export --out root.pem
  bentlane authority export --as pkcs12 --out root.p12            for Java and Windows
  bentlane authority export --as apple-profile --out root.mobileconfig
  curl --cacert root.pem https://booking.moor.test/")]
pub(crate) struct Export {
    /// Write to this file, which must not exist yet [default: stdout]
    #[arg(long, value_name = "FILE")]
    out: Option<PathBuf>,
    /// The form of the file
    #[arg(long = "as", value_enum, value_name = "FORM", default_value = "pem")]
    form: FormName,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum FormName {
    /// Base64 between two lines
    Pem,
    /// The plain encoding
    Der,
    /// A PKCS#12 bundle, under the password `changeit`
    Pkcs12,
    /// A profile for Apple's systems
    AppleProfile,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority import root.pem root.key
  bentlane authority import /mnt/other/bentlane/keys/root.pem          both in one file

The root of now is kept beside, among the keys. The other one has to be trusted where it is not yet.")]
pub(crate) struct ImportFiles {
    /// The file with the root certificate, PEM
    certificate: PathBuf,
    /// The file with its key, PKCS#8 PEM [default: the same]
    key: Option<PathBuf>,
    /// Import it even without name constraints, so that it can certify any name
    #[arg(long)]
    unconstrained: bool,
    #[command(flatten)]
    passphrase: PassphraseFrom,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority rotate
  bentlane authority rotate --passphrase-file ~/secret")]
pub(crate) struct Rotate {
    #[command(flatten)]
    passphrase: PassphraseFrom,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority protect                asks for the new passphrase
  bentlane authority protect --remove       asks for the present one")]
pub(crate) struct ProtectKey {
    /// Store the key without a passphrase again
    #[arg(long)]
    remove: bool,
    #[command(flatten)]
    passphrase: PassphraseFrom,
    /// A file whose first line is the new passphrase
    #[arg(long, value_name = "FILE", conflicts_with = "remove")]
    new_passphrase_file: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane authority unlock
  BENTLANE_PASSPHRASE=... bentlane authority unlock")]
pub(crate) struct UnlockKey {
    #[command(flatten)]
    passphrase: PassphraseFrom,
}

/// Where a passphrase comes from: never from the command line, which others can read.
#[derive(Debug, Default, Args)]
pub(super) struct PassphraseFrom {
    /// A file whose first line is the passphrase; without it BENTLANE_PASSPHRASE, or the terminal
    #[arg(long, value_name = "FILE")]
    passphrase_file: Option<PathBuf>,
}

impl PassphraseFrom {
    fn read(&self) -> Result<Passphrase, CliError> {
        self.read_for("Passphrase of the root key: ")
    }

    /// The passphrase; `question` is what the terminal is asked.
    pub(super) fn read_for(&self, question: &str) -> Result<Passphrase, CliError> {
        match self.given()? {
            Some(passphrase) => Ok(passphrase),
            None => asked(question).map(Passphrase::new),
        }
    }

    /// A passphrase for something new: the terminal is asked twice.
    pub(super) fn read_new(&self) -> Result<Passphrase, CliError> {
        match self.given()? {
            Some(passphrase) => Ok(passphrase),
            None => asked_twice(),
        }
    }

    fn given(&self) -> Result<Option<Passphrase>, CliError> {
        if let Some(file) = &self.passphrase_file {
            return first_line(file).map(Some);
        }
        let given = std::env::var("BENTLANE_PASSPHRASE").ok();
        Ok(given.filter(|text| !text.is_empty()).map(Passphrase::new))
    }
}

fn first_line(file: &Path) -> Result<Passphrase, CliError> {
    let text = read_text(file)?;
    let line = text.lines().next().unwrap_or_default();
    Ok(Passphrase::new(line.to_owned()))
}

/// Asks on the terminal, which does not show what is typed.
fn asked(question: &str) -> Result<String, CliError> {
    if !std::io::stdin().is_terminal() {
        return Err(CliError::NoPassphrase);
    }
    rpassword::prompt_password(question).map_err(|source| CliError::Io {
        verb: "read the passphrase".to_owned(),
        source,
    })
}

impl Authority {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Show(Show {}) => show(client, output).await?,
            Self::Export(wanted) => export(client, output, wanted).await?,
            Self::Rotate(Rotate { passphrase }) => {
                let authority = rotate(client, &passphrase).await?;
                output.data(&authority, |view| describe(output, view))?;
                output.say(
                    "the new root is in force. What trusts the former one goes on working; have \
                     the new one trusted before that is over: bentlane authority export",
                );
            }
            Self::Import(files) => import(client, output, files).await?,
            Self::Unlock(UnlockKey { passphrase }) => {
                let unlock = unlock(client, &passphrase).await?;
                let authority: AuthorityView = client.post("/authority/unlock", &unlock).await?;
                output.data(&authority, |view| describe(output, view))?;
            }
            Self::Protect(key) => protect(client, output, key).await?,
        }
        Ok(Answer::Yes)
    }
}

async fn show(client: &Client, output: &Output) -> Result<(), CliError> {
    let authority: AuthorityView = client.get("/authority").await?;
    let clients = trust::ask(client).await?.clients(&home());
    let shown = Shown { authority, clients };
    output.data(&shown, |Shown { authority, clients }| {
        let clients = trust::describe(output, clients).join("\n");
        format!("{}\n\n{clients}", describe(output, authority))
    })?;
    Ok(())
}

async fn export(
    client: &Client,
    output: &Output,
    Export { out, form }: Export,
) -> Result<(), CliError> {
    let form = form.form();
    let name = serde_json::to_value(form).map_err(CliError::Answer)?;
    let name = name.as_str().unwrap_or_default();
    let path = format!("/authority/root?form={name}");
    let exporting = busy("exporting the root");
    let octets = client.bytes(&path).await?;
    drop(exporting);
    match out {
        None => output.raw(&octets)?,
        Some(path) => {
            new_file(&path, 0o644, &octets)?;
            output.say(&format!("the root certificate is in {}", path.display()));
        }
    }
    Ok(())
}

async fn import(client: &Client, output: &Output, files: ImportFiles) -> Result<(), CliError> {
    let ImportFiles {
        certificate,
        key,
        unconstrained,
        passphrase,
    } = files;
    let key = whole_path(key.as_deref().unwrap_or(&certificate))?;
    let locked = read_text(&key)?.contains("BEGIN ENCRYPTED PRIVATE KEY");
    let request = ImportRoot {
        certificate: whole_path(&certificate)?,
        key,
        passphrase: locked.then(|| passphrase.read()).transpose()?,
        unconstrained,
    };
    let authority: AuthorityView = client.post("/authority/import", &request).await?;
    output.data(&authority, |view| describe(output, view))?;
    output.say(match authority.unconstrained {
        true => {
            "this root is in force. It can vouch for any name, so it is not put into \
             trust stores: install it as the owner of that root does"
        }
        false => {
            "this root is in force; add it to the trust stores: sudo bentlane \
             system attach --only trust"
        }
    });
    Ok(())
}

async fn protect(client: &Client, output: &Output, key: ProtectKey) -> Result<(), CliError> {
    let ProtectKey {
        remove,
        passphrase,
        new_passphrase_file,
    } = key;
    let Unlock { passphrase } = unlock(client, &passphrase).await?;
    let next = match (remove, new_passphrase_file) {
        (true, _) => None,
        (false, Some(file)) => Some(first_line(&file)?),
        (false, None) => Some(asked_twice()?),
    };
    let protect = Protect { passphrase, next };
    let authority: AuthorityView = client.post("/authority/protect", &protect).await?;
    output.data(&authority, |view| describe(output, view))?;
    Ok(())
}

/// The authority, and who trusts it.
#[derive(Serialize)]
struct Shown {
    #[serde(flatten)]
    authority: AuthorityView,
    clients: Vec<ClientTrust>,
}

fn asked_twice() -> Result<Passphrase, CliError> {
    let next = asked("New passphrase: ")?;
    if asked("The same again: ")? == next {
        return Ok(Passphrase::new(next));
    }
    Err(CliError::Value {
        field: "passphrase",
        reason: "the two are not the same; nothing was changed".to_owned(),
    })
}

/// The passphrase, when the key is under one.
/// Makes a new root, with the passphrase of the present one where its key has one.
pub(super) async fn rotate(
    client: &Client,
    passphrase: &PassphraseFrom,
) -> Result<AuthorityView, CliError> {
    let unlock = unlock(client, passphrase).await?;
    client.post("/authority/rotate", &unlock).await
}

async fn unlock(client: &Client, from: &PassphraseFrom) -> Result<Unlock, CliError> {
    let authority: AuthorityView = client.get("/authority").await?;
    let passphrase = authority.locked.then(|| from.read()).transpose()?;
    Ok(Unlock { passphrase })
}

/// Writes a file with these permissions, whole or not at all. Never over a file that is there: it may be
/// the last copy of something else.
pub(super) fn new_file(path: &Path, mode: u32, octets: &[u8]) -> Result<(), CliError> {
    let mut options = fs::OpenOptions::new();
    let file = options.write(true).create_new(true).mode(mode).open(path);
    file.and_then(|mut file| {
        let written = file.write_all(octets).and_then(|()| file.sync_all());
        // What is left of one that was cut off is of no use.
        written.inspect_err(|_| drop(fs::remove_file(path)))
    })
    .map_err(|source| match source.kind() {
        ErrorKind::AlreadyExists => CliError::FileThere(path.to_owned()),
        _ => CliError::Io {
            verb: format!("write {}", path.display()),
            source,
        },
    })
}

impl FormName {
    fn form(self) -> Form {
        match self {
            Self::Pem => Form::Pem,
            Self::Der => Form::Der,
            Self::Pkcs12 => Form::Pkcs12,
            Self::AppleProfile => Form::AppleProfile,
        }
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
            output.paint(Style::Muted, &format!("{label:<14}"))
        )
    };
    let limits = match &view.limits {
        Some(limits) if !view.unconstrained => format!(
            "{}, and what lies below them; nothing else",
            limits.join(", ")
        ),
        _ => output.paint(
            Style::Broken,
            "any name: it is unconstrained, and never put into trust stores",
        ),
    };
    let key = if view.locked {
        "under a passphrase"
    } else {
        "in the data folder, for its owner alone"
    };
    let validity = format!("{} to {}", day(summary.not_before), day(summary.not_after));
    let issues = format!(
        "{} (until {})",
        view.covers.join(", "),
        day(view.issuing_until)
    );
    let mut lines = vec![
        line("subject", &summary.subject),
        line("valid", &validity),
        line("can vouch for", &limits),
        line("issues for", &issues),
        line("key", key),
        line("SHA-256", &summary.fingerprint_sha256),
    ];
    if view.follows_another {
        lines.push(line("trusted", "also where the root before it is trusted"));
    }
    let arrow = output.paint(Style::Fix, "→");
    if !view.uncovered.is_empty() {
        let zones = view.uncovered.join(", ");
        let text = format!("no client will accept a certificate for {zones}");
        lines.push(output.paint(Style::Broken, &text));
    }
    if view.unconstrained || view.uncovered.iter().any(|zone| !within(zone, view)) {
        lines.push(format!("{arrow} bentlane authority rotate"));
    } else if !view.uncovered.is_empty() {
        lines.push(format!("{arrow} bentlane authority unlock"));
    }
    lines.join("\n")
}

/// Whether the root can vouch for a zone.
fn within(zone: &str, view: &AuthorityView) -> bool {
    let below = |suffix: &String| zone == suffix || zone.ends_with(&format!(".{suffix}"));
    view.limits
        .as_ref()
        .is_none_or(|limits| limits.iter().any(below))
}
