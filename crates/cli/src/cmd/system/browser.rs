//! Starting an installed browser to see what it says.

use std::process::Stdio;
use std::time::Duration;

use bentlane_checks::{
    Fix, ItemState, MachineItem, MachinePart, NameToReach, PROBE_LABEL, ToReach,
};
use bentlane_system::{Browser, Family, installed_browsers};
use tempfile::TempDir;
use tokio::process::Command;
use tokio::time::timeout;

use crate::account::Account;
use crate::client::Client;
use crate::error::CliError;
use crate::output::Output;

/// A browser that has not shown its page by then hangs.
const PATIENCE: Duration = Duration::from_secs(60);
/// How a browser of the kind that can be asked names what stopped it, on stderr or on its own page.
const ERROR: &str = "ERR_";
/// What is on every page of ours.
const OURS: &str = "Bent Lane";

/// Opens a name of each zone in a browser of this machine, with a profile that is thrown away and
/// without a flag that touches trust or lookups.
pub(super) async fn look(client: &Client, output: &Output) -> Result<Vec<MachineItem>, CliError> {
    let browsers = installed_browsers();
    let mut browsers = browsers.into_iter();
    let Some(browser) = browsers.find(|it| it.family != Family::Firefox) else {
        return Ok(vec![item(
            "browser".to_owned(),
            ItemState::Hint,
            "no Chromium or relative is installed, so none was started".to_owned(),
        )]);
    };
    let to_reach: ToReach = client.get("/machine/names").await?;
    let port = match to_reach.https.first().map(|at| at.port()) {
        Some(443) | None => String::new(),
        Some(port) => format!(":{port}"),
    };
    let mut items = Vec::new();
    for zone in &to_reach.zones {
        // Root opens no page of an app: the browser has no sandbox then.
        let own = |name: &&NameToReach| name.name.as_str().starts_with(PROBE_LABEL);
        let mut names = zone.names.iter();
        let name = match runs_as_root() {
            true => names.find(own),
            false => names.next(),
        };
        let Some(name) = name else {
            continue;
        };
        let url = format!("https://{}{port}/", name.name);
        output.say(&format!("starting {} on {url}", browser.family.name()));
        let (state, summary) = match open(&browser, &url).await {
            Ok(None) => (ItemState::Passed, format!("opens {url}")),
            Ok(Some(error)) => (ItemState::Failed, format!("does not open {url}: {error}")),
            Err(reason) => (ItemState::Failed, format!("was not started: {reason}")),
        };
        items.push(item(browser.family.name().to_owned(), state, summary));
    }
    Ok(items)
}

fn item(subject: String, state: ItemState, summary: String) -> MachineItem {
    MachineItem {
        part: MachinePart::Browser,
        fix: (state == ItemState::Failed).then(|| {
            Fix::attach(
                "have lookups and trust attached, then start the browser again",
                None,
            )
        }),
        subject,
        state,
        summary,
        names: Vec::new(),
    }
}

/// Whether a browser that is started now is root's.
fn runs_as_root() -> bool {
    nix::unistd::geteuid().is_root() && Account::behind_sudo().is_none()
}

/// What the browser says is wrong with a page; `None` when it shows it.
async fn open(browser: &Browser, url: &str) -> Result<Option<String>, String> {
    let profile = TempDir::new().map_err(|cause| cause.to_string())?;
    let mut command = Command::new(&browser.program);
    command
        .args([
            "--headless",
            "--disable-gpu",
            "--no-first-run",
            "--dump-dom",
        ])
        .arg("--disable-background-networking")
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(url)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true);
    match Account::behind_sudo() {
        Some(account) => {
            let (uid, gid) = (account.uid.as_raw(), account.gid.as_raw());
            std::os::unix::fs::chown(profile.path(), Some(uid), Some(gid))
                .map_err(|cause| cause.to_string())?;
            command.uid(uid).gid(gid).env("HOME", &account.home);
            command.current_dir("/");
        }
        // The browser does not start for root otherwise.
        None if runs_as_root() => {
            command.arg("--no-sandbox");
        }
        None => {}
    }
    let shown = timeout(PATIENCE, command.output()).await;
    let shown = shown.map_err(|_| format!("no page after {} s", PATIENCE.as_secs()))?;
    let shown = shown.map_err(|cause| cause.to_string())?;
    let page = String::from_utf8_lossy(&shown.stdout);
    let words = String::from_utf8_lossy(&shown.stderr);
    let error = first_error(&words).or_else(|| first_error(&page));
    if let Some(error) = error {
        return Ok(Some(error));
    }
    if page.contains(OURS) || page.len() > "<html><head></head><body></body></html>".len() {
        return Ok(None);
    }
    Ok(Some("it shows an empty page".to_owned()))
}

/// The first name of an error in what a browser wrote.
fn first_error(text: &str) -> Option<String> {
    let at = text.find(ERROR)?;
    let is_part = |c: char| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_';
    let name = text.get(at..)?;
    let end = name.find(|c| !is_part(c)).unwrap_or(name.len());
    name.get(..end).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "x net::ERR_CERT_AUTHORITY_INVALID (-202)",
        Some("ERR_CERT_AUTHORITY_INVALID")
    )]
    #[case("<div>ERR_NAME_NOT_RESOLVED</div>", Some("ERR_NAME_NOT_RESOLVED"))]
    #[case("all is well", None)]
    fn errors_by_name(#[case] text: &str, #[case] name: Option<&str>) {
        assert_eq!(first_error(text).as_deref(), name);
    }
}
