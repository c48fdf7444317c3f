//! Who trusts our root on this machine, in words, and the variables for programs with roots of
//! their own.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use bentlane_api_types::AuthorityView;
use bentlane_system::{
    ClientTrust, Family, OwnRoot, StoreKind, StoreReport, StoreStep, TrustState,
};

use crate::client::Client;
use crate::error::CliError;
use crate::output::{Output, Style};

/// In what the system counts times of processes, whatever its own clock does (`USER_HZ`, proc(5)).
const TICKS_A_SECOND: u64 = 100;

/// What the service presents.
pub(crate) async fn ask(client: &Client) -> Result<OwnRoot, CliError> {
    ours(&client.get("/authority").await?)
}

/// What a service presents that shows this.
pub(crate) fn ours(view: &AuthorityView) -> Result<OwnRoot, CliError> {
    let AuthorityView {
        certificate_pem,
        server_chain,
        server_name,
        keys,
        ..
    } = view;
    let ours = OwnRoot::new(
        certificate_pem,
        server_chain,
        server_name,
        keys.iter().cloned(),
    );
    ours.ok_or_else(|| CliError::Value {
        field: "root",
        reason: "the service has a root of another kind: see `bentlane authority show`".to_owned(),
    })
}

pub(crate) fn plan_in_words(output: &Output, steps: &[StoreStep], adds: bool) -> String {
    let line = |step: &StoreStep| {
        let path = output.paint(Style::Strong, &step.store.path.display().to_string());
        let names: Vec<&str> = step.roots.iter().map(|root| &*root.name).collect();
        let names = names.join(", ");
        let kind = step.in_words(adds);
        let tone = if adds { Style::Passing } else { Style::Broken };
        let what = if adds {
            format!("  + {names}")
        } else {
            format!("  - {names}")
        };
        format!("{path}  {kind}\n{}", output.paint(tone, &what))
    };
    steps.iter().map(line).collect::<Vec<_>>().join("\n")
}

/// A line for each program, and the fix where one does not trust us.
pub(crate) fn describe(output: &Output, clients: &[ClientTrust]) -> Vec<String> {
    let line = |seen: &ClientTrust| {
        let (mark, words) = match &seen.state {
            TrustState::Trusted => (
                output.paint(Style::Passing, "●"),
                "trusts the root".to_owned(),
            ),
            TrustState::Former => (
                output.paint(Style::Broken, "✕"),
                "trusts a former root and not this one".to_owned(),
            ),
            TrustState::NotTrusted { .. } => (
                output.paint(Style::Broken, "✕"),
                "does not trust the root".to_owned(),
            ),
            TrustState::Unknown { reason } => (
                output.paint(Style::Muted, "○"),
                format!("cannot be asked: {reason}"),
            ),
        };
        let path = output.paint(Style::Muted, &format!("({})", seen.store.display()));
        format!("{mark} {} {words} {path}", seen.client)
    };
    let mut lines: Vec<String> = clients.iter().map(line).collect();
    let wanting = |seen: &ClientTrust| {
        matches!(
            seen.state,
            TrustState::Former | TrustState::NotTrusted { .. }
        )
    };
    if clients.iter().any(wanting) {
        let arrow = output.paint(Style::Fix, "→");
        lines.push(format!("{arrow} sudo bentlane system attach --only trust"));
    }
    lines
}

/// When a store was changed last, that browsers read when they start.
fn changed(report: &StoreReport) -> Option<SystemTime> {
    let path = match report.store.kind {
        StoreKind::Browser => report.store.path.join("cert9.db"),
        StoreKind::System | StoreKind::Policy => report.store.path.clone(),
        StoreKind::Java => return None,
    };
    std::fs::metadata(path).ok()?.modified().ok()
}

/// Browsers that have run since before a store came to trust us, and have not noticed.
pub(crate) fn unaware(reports: &[StoreReport]) -> Vec<String> {
    let trusting = reports
        .iter()
        .filter(|report| report.state == TrustState::Trusted);
    trusting
        .filter_map(changed)
        .max()
        .map(|since| to_restart(Some(since)))
        .unwrap_or_default()
}

/// When a process was started: the system counts in ticks since it was started itself.
fn started(process: &Path) -> Option<SystemTime> {
    let stat = std::fs::read_to_string(process.join("stat")).ok()?;
    // The name may hold anything, so the fields are counted from behind it.
    let ticks: u64 = stat
        .rsplit_once(')')?
        .1
        .split_whitespace()
        .nth(19)?
        .parse()
        .ok()?;
    let system = std::fs::read_to_string("/proc/stat").ok()?;
    let booted = system
        .lines()
        .find_map(|line| line.strip_prefix("btime "))?;
    let seconds = ticks / TICKS_A_SECOND;
    let since = booted.trim().parse::<u64>().ok()? + seconds;
    Some(UNIX_EPOCH + Duration::from_secs(since))
}

/// Browsers that run, and have to be started again to see a change; those that were started before
/// `since`, when that is known.
pub(crate) fn to_restart(since: Option<SystemTime>) -> Vec<String> {
    let Ok(processes) = std::fs::read_dir("/proc") else {
        return Vec::new();
    };
    let early = |path: &PathBuf| match (since, started(path)) {
        (Some(since), Some(started)) => started < since,
        _ => true,
    };
    let name = |path: PathBuf| {
        let name = std::fs::read_to_string(path.join("comm")).ok();
        name.filter(|_| early(&path))
    };
    let names = processes.flatten().filter_map(|entry| name(entry.path()));
    let browsers = names.filter_map(|name| Family::of_process(name.trim()));
    let mut browsers: Vec<String> = browsers.map(|family| family.name().to_owned()).collect();
    browsers.sort();
    browsers.dedup();
    browsers
}

/// How a shell sets a variable.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
pub(crate) enum Shell {
    /// sh, bash, zsh
    Sh,
    /// fish
    Fish,
    /// PowerShell
    Powershell,
}

/// The variables that add our root to programs with their own list of roots. The first takes roots in
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
