use std::fs;
use std::path::PathBuf;

use bentlane_api_types::{
    CertificateView, Certificates, ExportRequest, ExportedView, ImportRequest, ImportedView,
    SignRequest, Signed,
};
use bentlane_ca::{CertName, CertificatePart, PartKind, USUAL_DAYS, request};
use bentlane_system::Folder;
use clap::{Args, Subcommand};
use serde::Serialize;
use time::OffsetDateTime;
use time::macros::format_description;

use super::ignored;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::{read_text, whole_path};
use crate::output::{Output, Style, table};

/// `bentlane cert`
#[derive(Debug, Subcommand)]
pub(crate) enum Cert {
    /// List the certificates that are served, by name
    List(List),
    /// Show the certificate that is served for a name, and why
    Show(Show),
    /// Make a key and a certificate as files, for a server that wants them
    Issue(Issue),
    /// Sign a request (PKCS#10) for a key that was made elsewhere
    Sign(Sign),
    /// Keep a key and a certificate fresh in a folder, for a server that opens TLS itself
    Export(Export),
    /// Show a certificate from elsewhere, of a public or a company's authority, under its names
    Import(Import),
    /// No longer show an imported certificate
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert import company.crt company.key

The certificates may stand in any order. The service reads the files, and reads them again when they
change; one that cannot be used leaves the former in its place.")]
pub(crate) struct Import {
    /// The file with the certificate and its chain, PEM or DER
    certificate: PathBuf,
    /// The file with its key, PEM, without a passphrase
    key: PathBuf,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert remove staging.example.com")]
pub(crate) struct Remove {
    /// The first name in the certificate
    name: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert list")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert show booking.moor.test
  bentlane cert show booking.moor.test --format json | jq -r .chain")]
pub(crate) struct Show {
    /// The name that a client asks for
    name: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert issue store.moor.test                             store.moor.test.pem and .key
  bentlane cert issue moor.test --wildcard --days 30              moor.test and *.moor.test
  bentlane cert issue store.moor.test 127.0.0.1 --out tls
  bentlane cert issue store.moor.test --part chain=server.crt --part key=server.key
  bentlane cert issue store.moor.test --part pkcs12 --part both

Parts: certificate (alone), chain (with what leads to the root), key, both (chain and key in one file),
pkcs12 (chain and key, under the password `changeit`). Files with a key are their owner's alone.")]
pub(crate) struct Issue {
    /// DNS names, `*.NAME` included, and loopback addresses
    #[arg(required = true, value_name = "NAME")]
    names: Vec<CertName>,
    /// Cover the names with one label more, too: adds `*.NAME` for each name
    #[arg(long)]
    wildcard: bool,
    /// How long it is valid
    #[arg(long, value_name = "DAYS", default_value_t = USUAL_DAYS)]
    days: u16,
    /// The folder for the files, made if it is not there
    #[arg(long, value_name = "FOLDER", default_value = ".")]
    out: PathBuf,
    /// A file to write: certificate, chain, key, both or pkcs12, with a name of your choice after `=`
    /// [default: chain and key]
    #[arg(long = "part", value_name = "PART[=FILE]")]
    parts: Vec<CertificatePart>,
    /// Overwrite files that are there
    #[arg(long)]
    overwrite: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert export ledger.moor.test --to /srv/ledger/tls
  bentlane cert export store.moor.test --to tls --part chain=server.crt --part key=server.key \\
      --then 'systemctl reload postgresql'
  bentlane cert export mail.moor.test --for-container mail --to /etc/tls
  bentlane cert export --stop --to /srv/ledger/tls        the files stay, and are no longer renewed

The service writes the files as its own user, puts new ones in their place when a third of their life is
left or the root changes, and then runs the command. With --for-container the folder is one inside a
container: it gets the files at once, again when they are new, and again when it was made anew.")]
pub(crate) struct Export {
    /// DNS names, `*.NAME` included, and loopback addresses
    #[arg(
        required_unless_present = "stop",
        conflicts_with = "stop",
        value_name = "NAME"
    )]
    names: Vec<CertName>,
    /// The folder for the files, made if it is not there
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
    /// The container that the folder is in
    #[arg(long, value_name = "CONTAINER")]
    for_container: Option<String>,
    /// Cover the names with one label more, too: adds `*.NAME` for each name
    #[arg(long)]
    wildcard: bool,
    /// A file to write: certificate, chain, key, both or pkcs12, with a name of your choice after `=`
    /// [default: chain and key]
    #[arg(long = "part", value_name = "PART[=FILE]")]
    parts: Vec<CertificatePart>,
    /// A command for the shell to run when the files are new
    #[arg(long, value_name = "COMMAND")]
    then: Option<String>,
    /// No longer renew what is in the folder
    #[arg(long)]
    stop: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane cert sign server.csr > server.crt
  openssl req -new -key server.key -addext subjectAltName=DNS:a.moor.test -subj / | bentlane cert sign -")]
pub(crate) struct Sign {
    /// The request, PEM; `-` is standard input
    file: PathBuf,
    /// How long it is valid
    #[arg(long, value_name = "DAYS", default_value_t = USUAL_DAYS)]
    days: u16,
}

/// What was made.
#[derive(Debug, Serialize)]
struct IssuedFiles {
    names: Vec<String>,
    #[serde(with = "time::serde::rfc3339")]
    not_after: OffsetDateTime,
    fingerprint_sha256: String,
    files: Vec<PathBuf>,
}

impl Cert {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::List(List {}) => {
                let all: Certificates = client.get("/certificates").await?;
                output.data(&all, |all| {
                    let exported = all.exported.iter().map(|view| {
                        let text = export_in_words(view);
                        format!("\n\nkept fresh in files: {text}")
                    });
                    format!(
                        "{}{}",
                        list(&all.certificates),
                        exported.collect::<String>()
                    )
                })?;
            }
            Self::Show(Show { name }) => {
                let path = format!("/certificates/{}", segment(&name));
                let view: CertificateView = client.get(&path).await?;
                output.data(&view, |view| describe(output, view))?;
            }
            Self::Sign(Sign { file, days }) => {
                let request = read_text(&file)?;
                let days = Some(days);
                let signed: Signed = client
                    .post("/certificates", &SignRequest { request, days })
                    .await?;
                output.data(&signed, |signed| {
                    let whole = format!("{}{}", signed.certificate, signed.chain);
                    whole.trim_end().to_owned()
                })?;
            }
            Self::Issue(issue) => issue.run(client, output).await?,
            Self::Export(export) => export.run(client, output).await?,
            Self::Import(Import { certificate, key }) => {
                let request = ImportRequest {
                    certificate: whole_path(&certificate)?,
                    key: whole_path(&key)?,
                };
                let view: ImportedView = client.post("/certificates/imported", &request).await?;
                if let Some(issuer) = &view.leads_to {
                    output.say(&format!(
                        "the chain in the file ends below a root: clients accept it where they know {issuer}"
                    ));
                }
                if view.routes.is_empty() {
                    output.say("no route has a name that it covers yet");
                }
                output.data(&view, |view| {
                    let ends = if view.ends_soon {
                        ", which is soon"
                    } else {
                        ""
                    };
                    let until = day(view.info.not_after);
                    let routes: String = view
                        .routes
                        .iter()
                        .map(|route| format!("\n  {route}"))
                        .collect();
                    format!(
                        "{}, valid until {until}{ends}{routes}",
                        view.info.names.join(", ")
                    )
                })?;
            }
            Self::Remove(Remove { name }) => {
                client
                    .delete(&format!("/certificates/imported/{}", segment(&name)))
                    .await?;
                output.say(&format!(
                    "the imported certificate of {name} is no longer shown"
                ));
            }
        }
        Ok(Answer::Yes)
    }
}

impl Issue {
    async fn run(self, client: &Client, output: &Output) -> Result<(), CliError> {
        let names = with_wildcards(&self.names, self.wildcard);
        let parts = self.files(&names)?;
        let failed = |source| CliError::Authority { source };
        // The key is made here, and only the request for its certificate leaves this process.
        let (key, request) = request(&names).map_err(failed)?;
        let days = Some(self.days);
        let signed: Signed = client
            .post("/certificates", &SignRequest { request, days })
            .await?;
        let chain = format!("{}{}", signed.certificate, signed.chain);
        let mut files = Vec::with_capacity(parts.len());
        let mut secret = Vec::new();
        for (kind, path) in parts {
            let content = kind.content(&signed.certificate, &chain, &key);
            let content = content.map_err(failed)?;
            let (folder, name) = Folder::of(&path)?;
            folder.write(&name, &content, kind.mode())?;
            if kind.has_key() {
                secret.push(path.clone());
            }
            files.push(path);
        }
        for advice in names.iter().filter_map(CertName::advice) {
            output.say(&advice);
        }
        let made = IssuedFiles {
            names: signed.info.names,
            not_after: signed.info.not_after,
            fingerprint_sha256: signed.info.fingerprint_sha256,
            files,
        };
        output.data(&made, |made| {
            let files: Vec<String> = made
                .files
                .iter()
                .map(|file| file.display().to_string())
                .collect();
            format!(
                "{}, valid until {}\n{}",
                made.names.join(", "),
                day(made.not_after),
                files.join("\n")
            )
        })?;
        for file in &secret {
            ignored::offer(output, file)?;
        }
        Ok(())
    }

    /// The files to write, none of which is there unless it may be overwritten.
    fn files(&self, names: &[CertName]) -> Result<Vec<(PartKind, PathBuf)>, CliError> {
        let first = names.first().map(ToString::to_string).unwrap_or_default();
        let usual = CertificatePart::usual();
        let parts = if self.parts.is_empty() {
            &usual
        } else {
            &self.parts
        };
        let mut files: Vec<(PartKind, PathBuf)> = Vec::new();
        for part in parts {
            let path = self.out.join(part.file_name(&first));
            let taken = |reason: &str| CliError::Value {
                field: "--part",
                reason: format!("{} {reason}", path.display()),
            };
            if files.iter().any(|(_, other)| *other == path) {
                return Err(taken("is named twice"));
            }
            if !self.overwrite && path.exists() {
                return Err(taken("is there already; give another name, or --overwrite"));
            }
            files.push((part.kind, path));
        }
        fs::create_dir_all(&self.out).map_err(|source| CliError::Io {
            verb: format!("make the folder {}", self.out.display()),
            source,
        })?;
        Ok(files)
    }
}

/// The names, with `*.NAME` for each where that is wanted.
fn with_wildcards(names: &[CertName], wildcard: bool) -> Vec<CertName> {
    let below = names.iter().filter_map(|name| match name {
        CertName::Name(name) => Some(CertName::Wildcard(name.clone())),
        CertName::Wildcard(_) | CertName::Ip(_) => None,
    });
    let below = below.filter(|_| wildcard);
    names.iter().cloned().chain(below).collect()
}

impl Export {
    async fn run(self, client: &Client, output: &Output) -> Result<(), CliError> {
        let failed = |source| CliError::Io {
            verb: format!("make the folder {}", self.to.display()),
            source,
        };
        let folder = match self.for_container {
            Some(_) => self.to.clone(),
            None => {
                fs::create_dir_all(&self.to).map_err(failed)?;
                whole_path(&self.to)?
            }
        };
        if self.stop {
            let mut path = format!(
                "/certificates/exported?folder={}",
                segment(&folder.display().to_string())
            );
            if let Some(container) = &self.for_container {
                path.push_str(&format!("&container={}", segment(container)));
            }
            client.delete(&path).await?;
            output.say(&format!(
                "the files in {} stay as they are from now on",
                folder.display()
            ));
            return Ok(());
        }
        let names = with_wildcards(&self.names, self.wildcard);
        let request = ExportRequest {
            names: names.iter().map(ToString::to_string).collect(),
            folder,
            parts: self.parts,
            container: self.for_container,
            then: self.then,
        };
        let view: ExportedView = client.post("/certificates/exported", &request).await?;
        for advice in names.iter().filter_map(CertName::advice) {
            output.say(&advice);
        }
        output.data(&view, export_in_words)
    }
}

fn export_in_words(view: &ExportedView) -> String {
    let mut text = view.names.join(", ");
    if let (Some(until), Some(next)) = (view.not_after, view.renewed_from) {
        text.push_str(&format!(
            ", valid until {}, the next from {}",
            day(until),
            day(next)
        ));
    }
    for file in &view.files {
        text.push_str(&format!("\n  {}", file.display()));
    }
    if let Some(container) = &view.container {
        text.push_str(&format!("\n  copied into {container}"));
    }
    if let Some(then) = &view.then {
        text.push_str(&format!("\n  afterwards: {then}"));
    }
    if let Some(trouble) = &view.trouble {
        text.push_str(&format!("\n  trouble: {trouble}"));
    }
    text
}

fn day(at: OffsetDateTime) -> String {
    at.format(format_description!("[year]-[month]-[day]"))
        .unwrap_or_default()
}

fn list(certificates: &[CertificateView]) -> String {
    let row = |view: &CertificateView| {
        let (names, until) = match &view.info {
            Some(info) if view.ends_soon => (
                info.names.join(", "),
                format!("{}, soon", day(info.not_after)),
            ),
            Some(info) => (info.names.join(", "), day(info.not_after)),
            None => ("made when it is asked for".to_owned(), String::new()),
        };
        [view.name.clone(), view.reason.clone(), names, until]
    };
    table(
        ["NAME", "WHY", "COVERS", "UNTIL"],
        certificates.iter().map(row).collect(),
    )
}

fn describe(output: &Output, view: &CertificateView) -> String {
    let line = |label: &str, text: &str| {
        format!(
            "{} {text}",
            output.paint(Style::Muted, &format!("{label:<10}"))
        )
    };
    let mut lines = vec![line("shown for", &view.name), line("why", &view.reason)];
    if let Some(info) = &view.info {
        let validity = format!("{} to {}", day(info.not_before), day(info.not_after));
        let renewed = view
            .renewed_from
            .map(|at| format!(", the next from {}", day(at)));
        lines.extend([
            line("covers", &info.names.join(", ")),
            line("issuer", &info.issuer),
            line(
                "valid",
                &format!("{validity}{}", renewed.unwrap_or_default()),
            ),
            line("SHA-256", &info.fingerprint_sha256),
        ]);
    }
    lines.join("\n")
}
