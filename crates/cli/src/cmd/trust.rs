//! Who trusts our root on this machine, in words, and the variables for programs with roots of
//! their own.

use std::path::{Path, PathBuf};

use bentlane_service::api::AuthorityView;
use bentlane_system::{Ours, StoreKind, StoreReport, StoreStep, Trusts};

use crate::client::Client;
use crate::error::CliError;
use crate::output::{Output, Tone};

/// Programs that read their trust store when they start, by the start of their process's name.
const BROWSERS: [&str; 4] = ["chrom", "firefox", "msedge", "brave"];

/// What the service presents.
pub(crate) async fn ask(client: &Client) -> Result<Ours, CliError> {
    let AuthorityView {
        certificate_pem,
        server_chain,
        server_name,
        ..
    } = client.get("/authority").await?;
    Ours::new(&certificate_pem, &server_chain, &server_name).ok_or_else(|| CliError::Value {
        field: "root",
        reason: "the service has a root of another kind: see `bentlane authority show`".to_owned(),
    })
}

/// The home folder of the user for whom this runs, also under sudo.
pub(super) fn home() -> PathBuf {
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
