//! What the browsers of a user are set to.

use std::fs;
use std::path::{Path, PathBuf};

use bentlane_core::check::BrowserDns;
use serde_json::Value;

/// Folders of browsers that keep a file `Local State`, below the home folder.
const CHROMIUM_LIKE: [(&str, &str); 4] = [
    ("Chromium", ".config/chromium"),
    ("Chromium", "snap/chromium/common/chromium"),
    ("Chrome", ".config/google-chrome"),
    ("Edge", ".config/microsoft-edge"),
];
/// What stands in the URL of our own DNS over HTTPS.
const OURS: &str = "bentlane.localhost";

/// The browsers below this home folder that ask a DNS server of their own and no other, and that is
/// not us. Those that only try one first, and fall back to the system, are left out.
#[must_use]
pub fn browsers_with_own_dns(home: &Path) -> Vec<BrowserDns> {
    let chromium = CHROMIUM_LIKE.iter().filter_map(|(browser, folder)| {
        let file = home.join(folder).join("Local State");
        let server = secure_only(&fs::read_to_string(&file).ok()?)?;
        Some(found(browser, &file, server))
    });
    let firefox = crate::stores::profiles(home)
        .into_iter()
        .filter_map(|folder| {
            let file: PathBuf = folder.join("prefs.js");
            let server = trusted_only(&fs::read_to_string(&file).ok()?)?;
            Some(found("Firefox", &file, server))
        });
    let all = chromium.chain(firefox);
    all.filter(|it| {
        it.server
            .as_ref()
            .is_none_or(|server| !server.contains(OURS))
    })
    .collect()
}

fn found(browser: &str, file: &Path, server: String) -> BrowserDns {
    BrowserDns {
        browser: browser.to_owned(),
        file: file.display().to_string(),
        server: Some(server).filter(|server| !server.is_empty()),
    }
}

/// The servers in a `Local State`, when it asks over HTTPS alone; empty when none is named.
fn secure_only(text: &str) -> Option<String> {
    let state: Value = serde_json::from_str(text).ok()?;
    let setting = |key: &str| state.pointer(&format!("/dns_over_https/{key}"))?.as_str();
    (setting("mode")? == "secure").then(|| setting("templates").unwrap_or_default().to_owned())
}

/// The server in a `prefs.js`, when nothing else is asked; empty when none is named.
fn trusted_only(text: &str) -> Option<String> {
    let setting = |key: &str| {
        let start = format!("user_pref(\"{key}\", ");
        let line = text.lines().find_map(|line| line.strip_prefix(&start))?;
        Some(line.trim_end_matches(");").trim_matches('"').to_owned())
    };
    (setting("network.trr.mode")? == "3").then(|| {
        let chosen = setting("network.trr.custom_uri").or_else(|| setting("network.trr.uri"));
        chosen.unwrap_or_default()
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
        let found = trusted_only(text);
        assert_eq!(found.as_deref(), wanted);
    }
}
