//! The browsers of this machine, and what those of a user are set to.

use std::fs;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use bentlane_checks::BrowserDns;
use serde::Serialize;
use serde_json::Value;

use crate::profiles::profiles;

/// A browser that has not said its version by then hangs.
const PATIENCE: Duration = Duration::from_secs(3);

/// A family of browsers, which get trusted roots in the same way.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Family {
    /// Chromium.
    Chromium,
    /// Google Chrome.
    Chrome,
    /// Microsoft Edge.
    Edge,
    /// Brave.
    Brave,
    /// Firefox.
    Firefox,
}

impl Family {
    /// Every family.
    pub const ALL: [Self; 5] = [
        Self::Chromium,
        Self::Chrome,
        Self::Edge,
        Self::Brave,
        Self::Firefox,
    ];

    /// How its makers call it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Chromium => "Chromium",
            Self::Chrome => "Chrome",
            Self::Edge => "Edge",
            Self::Brave => "Brave",
            Self::Firefox => "Firefox",
        }
    }

    fn programs(self) -> &'static [&'static str] {
        match self {
            Self::Chromium => &["chromium", "chromium-browser"],
            Self::Chrome => &["google-chrome", "google-chrome-stable"],
            Self::Edge => &["microsoft-edge", "microsoft-edge-stable"],
            Self::Brave => &["brave-browser", "brave"],
            Self::Firefox => &["firefox", "firefox-esr"],
        }
    }

    /// The names of its processes. A driver that steers a browser is not the browser.
    fn processes(self) -> &'static [&'static str] {
        match self {
            Self::Chromium => &["chromium", "chromium-browse"],
            Self::Chrome => &["chrome", "google-chrome"],
            Self::Edge => &["msedge", "microsoft-edge"],
            Self::Brave => &["brave", "brave-browser"],
            Self::Firefox => &["firefox", "firefox-esr", "firefox-bin"],
        }
    }

    /// The family of a process of this name.
    #[must_use]
    pub fn of_process(name: &str) -> Option<Self> {
        let mut families = Self::ALL.into_iter();
        families.find(|family| family.processes().contains(&name))
    }

    /// The policy file with which an administrator adds roots: one of ours, or one shared with other
    /// policies.
    pub(crate) fn policy(self) -> &'static str {
        match self {
            Self::Chromium => "/etc/chromium/policies/managed/bentlane.json",
            Self::Chrome => "/etc/opt/chrome/policies/managed/bentlane.json",
            Self::Edge => "/etc/opt/edge/policies/managed/bentlane.json",
            Self::Brave => "/etc/brave/policies/managed/bentlane.json",
            Self::Firefox => "/etc/firefox/policies/policies.json",
        }
    }

    /// Whether it goes by the database that Chromium and its relatives share.
    pub(crate) fn shares_a_database(self) -> bool {
        self != Self::Firefox
    }
}

/// A browser that is installed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Browser {
    /// Which.
    pub family: Family,
    /// Its program.
    pub program: PathBuf,
}

impl Browser {
    /// Its version, as it says itself; `None` when it does not say within seconds. Root does not run
    /// it for another user.
    #[must_use]
    pub fn version(&self) -> Option<String> {
        if rustix::process::geteuid().is_root() && std::env::var_os("SUDO_UID").is_some() {
            return None;
        }
        let mut asked = Command::new(&self.program)
            .arg("--version")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        let mut stdout = asked.stdout.take()?;
        let (tell, told) = mpsc::channel();
        thread::spawn(move || {
            let mut said = String::new();
            // The receiver is gone when it took too long.
            let _ = stdout.read_to_string(&mut said);
            let _ = tell.send(said);
        });
        let said = told.recv_timeout(PATIENCE);
        // It has ended, or hangs; either way it is waited for, so that nothing of it is left.
        let _ = asked.kill();
        let _ = asked.wait();
        let said = said.ok()?;
        let is_version = |word: &&str| word.starts_with(|c: char| c.is_ascii_digit());
        said.split_whitespace().find(is_version).map(str::to_owned)
    }
}

/// The browsers that `PATH` leads to.
#[must_use]
pub fn installed_browsers() -> Vec<Browser> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders: Vec<PathBuf> = std::env::split_paths(&path).collect();
    let program = |family: Family| {
        let mut places = family
            .programs()
            .iter()
            .flat_map(|name| folders.iter().map(move |folder| folder.join(name)));
        places.find(|place| place.is_file())
    };
    let installed = |family| {
        let program = program(family)?;
        Some(Browser { family, program })
    };
    Family::ALL.into_iter().filter_map(installed).collect()
}

/// Folders of browsers that keep a file `Local State`, below the home folder.
pub(crate) const CHROMIUM_LIKE: [(&str, &str); 4] = [
    ("Chromium", ".config/chromium"),
    ("Chromium", "snap/chromium/common/chromium"),
    ("Chrome", ".config/google-chrome"),
    ("Edge", ".config/microsoft-edge"),
];
/// What the URL of our own DNS over HTTPS contains.
const OURS: &str = "bentlane.localhost";

/// The browsers below this home folder that ask only their own DNS server, and that is
/// not us. Those that only try one first, and fall back to the system, are left out.
#[must_use]
pub fn browsers_with_own_dns(home: &Path) -> Vec<BrowserDns> {
    let chromium = CHROMIUM_LIKE.iter().filter_map(|(browser, folder)| {
        let file = home.join(folder).join("Local State");
        let server = secure_only(&fs::read_to_string(&file).ok()?)?;
        Some(found(browser, &file, server, Vec::new()))
    });
    let firefox = profiles(home).into_iter().filter_map(|folder| {
        let file: PathBuf = folder.join("prefs.js");
        let (server, except) = trusted_only(&fs::read_to_string(&file).ok()?)?;
        Some(found("Firefox", &file, server, except))
    });
    let policies = Family::ALL.into_iter().filter_map(by_policy);
    let all = policies.chain(chromium).chain(firefox);
    all.filter(|it| {
        it.server
            .as_ref()
            .is_none_or(|server| !server.contains(OURS))
    })
    .collect()
}

fn found(browser: &str, file: &Path, server: String, except: Vec<String>) -> BrowserDns {
    BrowserDns {
        browser: browser.to_owned(),
        file: file.display().to_string(),
        server: Some(server).filter(|server| !server.is_empty()),
        except,
        by_policy: false,
    }
}

/// What an administrator has set for every user of a browser.
fn by_policy(family: Family) -> Option<BrowserDns> {
    let file = Path::new(family.policy());
    let files = match family {
        Family::Firefox => vec![file.to_owned()],
        _ => files_beside(file),
    };
    files.into_iter().find_map(|file| {
        let policies = serde_json::from_str(&fs::read_to_string(&file).ok()?).ok()?;
        let (server, except) = match family {
            Family::Firefox => locked_only(&policies)?,
            _ => (managed_only(&policies)?, Vec::new()),
        };
        Some(BrowserDns {
            by_policy: true,
            ..found(family.name(), &file, server, except)
        })
    })
}

/// Every file of a policy's folder.
fn files_beside(file: &Path) -> Vec<PathBuf> {
    let folder = file.parent().and_then(|folder| fs::read_dir(folder).ok());
    let entries = folder.into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
    files.sort();
    files
}

/// The servers in a managed policy of Chromium's, when it has queries sent over HTTPS alone.
fn managed_only(policies: &Value) -> Option<String> {
    let text = |key: &str| policies[key].as_str();
    (text("DnsOverHttpsMode")? == "secure")
        .then(|| text("DnsOverHttpsTemplates").unwrap_or_default().to_owned())
}

/// The server in a `policies.json` of Firefox's, when nothing else is asked, and the domains that it is
/// not asked for.
fn locked_only(policies: &Value) -> Option<(String, Vec<String>)> {
    let policy = policies.pointer("/policies/DNSOverHTTPS")?;
    if policy["Enabled"] != true || policy["Fallback"] != false {
        return None;
    }
    let server = policy["ProviderURL"].as_str().unwrap_or_default();
    let except = policy["ExcludedDomains"].as_array().into_iter().flatten();
    let except = except.filter_map(|domain| Some(domain.as_str()?.to_owned()));
    Some((server.to_owned(), except.collect()))
}

/// The servers in a `Local State`, when it asks over HTTPS alone; empty when none is named.
fn secure_only(text: &str) -> Option<String> {
    let state: Value = serde_json::from_str(text).ok()?;
    let setting = |key: &str| state.pointer(&format!("/dns_over_https/{key}"))?.as_str();
    (setting("mode")? == "secure").then(|| setting("templates").unwrap_or_default().to_owned())
}

/// The server in a `prefs.js`, when nothing else is asked, and the domains that it is not asked for. The
/// server is empty when none is named.
fn trusted_only(text: &str) -> Option<(String, Vec<String>)> {
    let setting = |key: &str| {
        let start = format!("user_pref(\"{key}\", ");
        let line = text.lines().find_map(|line| line.strip_prefix(&start))?;
        Some(line.trim_end_matches(");").trim_matches('"').to_owned())
    };
    (setting("network.trr.mode")? == "3").then(|| {
        let chosen = setting("network.trr.custom_uri").or_else(|| setting("network.trr.uri"));
        let except = setting("network.trr.excluded-domains").unwrap_or_default();
        let except = except.split(',').map(|domain| domain.trim().to_owned());
        (
            chosen.unwrap_or_default(),
            except.filter(|domain| !domain.is_empty()).collect(),
        )
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        r#"{"dns_over_https":{"mode":"secure","templates":"https://dns.example/q"}}"#,
        Some("https://dns.example/q")
    )]
    #[case(r#"{"dns_over_https":{"mode":"secure","templates":""}}"#, Some(""))]
    #[case(r#"{"dns_over_https":{"mode":"automatic"}}"#, None)]
    #[case("{}", None)]
    #[case("{", None)]
    fn local_states(#[case] text: &str, #[case] wanted: Option<&str>) {
        let found = secure_only(text);
        assert_eq!(found.as_deref(), wanted);
    }

    #[rstest]
    #[case(
        "user_pref(\"network.trr.mode\", 3);\nuser_pref(\"network.trr.uri\", \"https://a\");",
        Some("https://a")
    )]
    #[case("user_pref(\"network.trr.mode\", 3);", Some(""))]
    #[case("user_pref(\"network.trr.mode\", 2);", None)]
    #[case("", None)]
    fn preferences(#[case] text: &str, #[case] wanted: Option<&str>) {
        let found = trusted_only(text).map(|(server, _)| server);
        assert_eq!(found.as_deref(), wanted);
    }

    #[test]
    fn domains_that_are_not_asked_for_are_read() {
        let text = "user_pref(\"network.trr.mode\", 3);\nuser_pref(\"network.trr.excluded-domains\", \"a.test, b.test\");";
        assert_eq!(trusted_only(text).unwrap().1, ["a.test", "b.test"]);
    }

    #[rstest]
    #[case(
        r#"{"DnsOverHttpsMode":"secure","DnsOverHttpsTemplates":"https://a"}"#,
        Some("https://a")
    )]
    #[case(r#"{"DnsOverHttpsMode":"automatic"}"#, None)]
    #[case(r#"{"policies":{"DNSOverHTTPS":{"Enabled":true,"Fallback":false,"ProviderURL":"https://b"}}}"#, Some("https://b"))]
    #[case(
        r#"{"policies":{"DNSOverHTTPS":{"Enabled":true,"ProviderURL":"https://b"}}}"#,
        None
    )]
    #[case(
        r#"{"policies":{"DNSOverHTTPS":{"Enabled":false,"Locked":true}}}"#,
        None
    )]
    #[case("[]", None)]
    fn policies(#[case] text: &str, #[case] wanted: Option<&str>) {
        let policies = serde_json::from_str(text).unwrap();
        let found = managed_only(&policies).or_else(|| Some(locked_only(&policies)?.0));
        assert_eq!(found.as_deref(), wanted);
    }
}
