//! Who trusts our root on this machine, and having it trusted.

use std::path::{Path, PathBuf};

use bentlane_core::authority::{Anchor, verify};
use bentlane_service::api::AuthorityView;
use bentlane_system::{Root, StoreKind, TrustStore, trust_stores};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::Serialize;
use time::OffsetDateTime;

use crate::client::Client;
use crate::error::CliError;
use crate::output::{Output, Tone};

/// Programs that read their trust store when they start, by the start of their process's name.
const BROWSERS: [&str; 4] = ["chrom", "firefox", "msedge", "brave"];

/// A store, and what it says of our root.
#[derive(Debug, Serialize)]
pub(crate) struct StoreReport {
    #[serde(flatten)]
    store: TrustStore,
    #[serde(flatten)]
    state: Trusts,
    /// Roots of ours in it, this one or former ones.
    ours: Vec<Root>,
}

/// Whether a store trusts our root.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "state")]
enum Trusts {
    /// It accepts what our own server shows.
    Trusted,
    /// Another root of ours is in it, and what our server shows is not accepted.
    Former,
    /// It does not.
    NotTrusted {
        /// What is against it.
        reason: String,
    },
    /// It cannot be told.
    Unknown {
        /// Why.
        reason: String,
    },
}

/// What is to be done to a store.
#[derive(Debug, Serialize)]
pub(crate) struct StoreStep {
    store: TrustStore,
    roots: Vec<Root>,
}

/// What our server shows, and the root that it leads to.
pub(crate) struct Ours {
    anchor: Anchor,
    root: Root,
    chain: Vec<CertificateDer<'static>>,
    server_name: String,
}

impl Ours {
    pub(crate) async fn ask(client: &Client) -> Result<Self, CliError> {
        let authority: AuthorityView = client.get("/authority").await?;
        let anchor = Anchor::read(&authority.certificate_pem);
        let chain = CertificateDer::pem_slice_iter(authority.server_chain.as_bytes());
        let chain: Vec<_> = chain
            .filter_map(Result::ok)
            .map(CertificateDer::into_owned)
            .collect();
        let named = anchor.and_then(|anchor| Some((anchor.our_name.clone()?, anchor)));
        let (name, anchor) = named.ok_or_else(|| CliError::Value {
            field: "root",
            reason: "the service has a root of another kind: see `bentlane authority show`"
                .to_owned(),
        })?;
        Ok(Self {
            root: Root {
                name,
                pem: authority.certificate_pem,
            },
            anchor,
            chain,
            server_name: authority.server_name,
        })
    }

    fn look_at(&self, store: TrustStore) -> StoreReport {
        let roots = match store.roots() {
            Ok(roots) => roots,
            Err(reason) => {
                return StoreReport {
                    store,
                    state: Trusts::Unknown { reason },
                    ours: Vec::new(),
                };
            }
        };
        let read = |pem: String| Some((Anchor::read(&pem)?, pem));
        let roots: Vec<(Anchor, String)> = roots.into_iter().filter_map(read).collect();
        let is_ours =
            |anchor: &Anchor| anchor.owner().is_some() && anchor.owner() == self.anchor.owner();
        let ours = roots.iter().filter(|(anchor, _)| is_ours(anchor));
        let ours: Vec<Root> = ours
            .filter_map(|(anchor, pem)| {
                Some(Root {
                    name: anchor.our_name.clone()?,
                    pem: pem.clone(),
                })
            })
            .collect();
        let anchors: Vec<Anchor> = roots.into_iter().map(|(anchor, _)| anchor).collect();
        let now = OffsetDateTime::now_utc();
        let state = match verify(&self.chain, &self.server_name, &anchors, now) {
            Ok(()) => Trusts::Trusted,
            Err(_) if !ours.is_empty() => Trusts::Former,
            Err(reason) => Trusts::NotTrusted { reason },
        };
        StoreReport { store, state, ours }
    }

    /// Every store with what it says of our root.
    pub(crate) fn reports(&self) -> Vec<StoreReport> {
        let stores = trust_stores(&home()).into_iter();
        stores.map(|store| self.look_at(store)).collect()
    }

    /// The stores that are to trust our root and do not hold it yet.
    pub(crate) fn plan_attach(&self) -> Vec<StoreStep> {
        let reports = self.reports().into_iter();
        let wanting = reports.filter(|report| {
            let known = !matches!(report.state, Trusts::Unknown { .. });
            known && !report.ours.iter().any(|root| root.name == self.root.name)
        });
        let step = |report: StoreReport| StoreStep {
            store: report.store,
            roots: vec![self.root.clone()],
        };
        wanting.map(step).collect()
    }

    /// The stores that hold roots of ours.
    pub(crate) fn plan_detach(&self) -> Vec<StoreStep> {
        let reports = self
            .reports()
            .into_iter()
            .filter(|report| !report.ours.is_empty());
        let step = |report: StoreReport| StoreStep {
            store: report.store,
            roots: report.ours,
        };
        reports.map(step).collect()
    }

    /// Does the steps one by one. A store that another one's tool has brought up to date meanwhile,
    /// as the system's does with Java's, is left alone.
    pub(crate) fn carry_out(&self, steps: &[StoreStep], adds: bool) -> Result<(), CliError> {
        for StoreStep { store, roots } in steps {
            let now = self.look_at(store.clone()).ours;
            let is_there = |root: &Root| now.iter().any(|there| there.name == root.name);
            for root in roots.iter().filter(|root| is_there(root) != adds) {
                if adds {
                    store.add(root)?;
                } else {
                    store.remove(root)?;
                }
            }
        }
        Ok(())
    }
}

/// The home folder of the user for whom this runs, also under sudo.
fn home() -> PathBuf {
    let of_user = |user: &str| {
        let accounts = std::fs::read_to_string("/etc/passwd").ok()?;
        let line = accounts
            .lines()
            .find(|line| line.split(':').next() == Some(user))?;
        line.split(':').nth(5).map(PathBuf::from)
    };
    let user = std::env::var("SUDO_USER").ok();
    let home = user.as_deref().and_then(of_user);
    let home = home.or_else(|| std::env::var_os("HOME").map(PathBuf::from));
    home.unwrap_or_else(|| PathBuf::from("/"))
}

pub(crate) fn plan_in_words(output: &Output, steps: &[StoreStep], adds: bool) -> String {
    let line = |step: &StoreStep| {
        let path = output.paint(Tone::Strong, &step.store.path.display().to_string());
        let names: Vec<&str> = step.roots.iter().map(|root| &*root.name).collect();
        let names = names.join(", ");
        let (kind, tone) = (
            kind_in_words(step.store.kind),
            if adds { Tone::Passing } else { Tone::Broken },
        );
        let what = if adds {
            format!("  + {names}")
        } else {
            format!("  - {names}")
        };
        format!("{path}  {kind}\n{}", output.paint(tone, &what))
    };
    steps.iter().map(line).collect::<Vec<_>>().join("\n")
}

fn kind_in_words(kind: StoreKind) -> &'static str {
    match kind {
        StoreKind::System => "the system's trust store",
        StoreKind::Browser => "a browser's trust store",
        StoreKind::Java => "Java's trust store",
    }
}

/// A line for each store, and the remedy where one does not trust us.
pub(crate) fn describe(output: &Output, reports: &[StoreReport]) -> Vec<String> {
    let line = |report: &StoreReport| {
        let (mark, words) = match &report.state {
            Trusts::Trusted => (
                output.paint(Tone::Passing, "●"),
                "trusts our certificates".to_owned(),
            ),
            Trusts::Former => (
                output.paint(Tone::Broken, "✕"),
                "holds a former root of ours, and not the one of now".to_owned(),
            ),
            Trusts::NotTrusted { .. } => (
                output.paint(Tone::Broken, "✕"),
                "does not trust our root".to_owned(),
            ),
            Trusts::Unknown { reason } => (
                output.paint(Tone::Muted, "○"),
                format!("cannot tell: {reason}"),
            ),
        };
        let path = report.store.path.display();
        format!(
            "{mark} {path}  {} {words}",
            output.paint(Tone::Muted, kind_in_words(report.store.kind))
        )
    };
    let mut lines: Vec<String> = reports.iter().map(line).collect();
    let wanting =
        |report: &StoreReport| matches!(report.state, Trusts::Former | Trusts::NotTrusted { .. });
    if reports.iter().any(wanting) {
        let arrow = output.paint(Tone::Remedy, "→");
        lines.push(format!("{arrow} sudo bentlane system attach --only trust"));
    }
    lines
}

/// Browsers that run, and have to be started again to see a change.
pub(crate) fn to_restart() -> Vec<String> {
    let Ok(processes) = std::fs::read_dir("/proc") else {
        return Vec::new();
    };
    let name = |path: PathBuf| std::fs::read_to_string(path.join("comm")).ok();
    let names = processes.flatten().filter_map(|entry| name(entry.path()));
    let browsers = names.filter(|name| BROWSERS.iter().any(|browser| name.starts_with(browser)));
    let mut browsers: Vec<String> = browsers.map(|name| name.trim().to_owned()).collect();
    browsers.sort();
    browsers.dedup();
    browsers
}

/// How a shell is told of a variable.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub(crate) enum Shell {
    /// sh, bash, zsh
    Sh,
    /// fish
    Fish,
    /// PowerShell
    Powershell,
}

/// The variables by which programs with roots of their own learn of ours. The first takes roots in
/// addition; the others take one file alone.
pub(crate) fn variables(root: &Path, bundle: &Path) -> Vec<(&'static str, String)> {
    let (root, bundle) = (root.display().to_string(), bundle.display().to_string());
    let whole = [
        "SSL_CERT_FILE",
        "REQUESTS_CA_BUNDLE",
        "CURL_CA_BUNDLE",
        "GIT_SSL_CAINFO",
        "PIP_CERT",
        "CARGO_HTTP_CAINFO",
        "AWS_CA_BUNDLE",
    ];
    let whole = whole.into_iter().map(|name| (name, bundle.clone()));
    std::iter::once(("NODE_EXTRA_CA_CERTS", root))
        .chain(whole)
        .collect()
}

impl Shell {
    pub(crate) fn line(self, name: &str, value: &str) -> String {
        match self {
            Self::Sh => format!("export {name}='{}'", value.replace('\'', r"'\''")),
            Self::Fish => {
                let value = value.replace('\\', r"\\").replace('\'', r"\'");
                format!("set -gx {name} '{value}'")
            }
            Self::Powershell => format!("$env:{name} = '{}'", value.replace('\'', "''")),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Shell::Sh, r"export A='it'\''s'")]
    #[case(Shell::Fish, r"set -gx A 'it\'s'")]
    #[case(Shell::Powershell, "$env:A = 'it''s'")]
    fn values_are_quoted(#[case] shell: Shell, #[case] wanted: &str) {
        assert_eq!(shell.line("A", "it's"), wanted);
    }
}
