use std::fmt::Write;

use crate::configuration::ZoneSettings;
use crate::setting::{Setting, SettingKind};
use crate::settings::RouteSettings;

/// The page about the settings of routes and zones, in Markdown: `docs/settings.md`.
#[must_use]
pub fn settings_guide() -> String {
    let mut page = String::from(
        "# Settings\n\n\
         What can be set for a route and for a zone. `bentlane route add`, `route edit` and \
         `zone edit` have a flag for each: `--strip-prefix` for `strip_prefix`, `--expect-status` \
         for `expect.status`. A list takes its flag once for each entry, and `--unset KEY` goes back \
         to the default. In the API, `PATCH` takes a JSON merge patch (RFC 7396) in which `null` \
         unsets, and lists are replaced.\n\n\
         This page is made from the code (`crates/model/src/settings.rs`); a test keeps it up to \
         date.\n",
    );
    for (title, settings) in [
        ("Routes", RouteSettings::SETTINGS),
        ("Zones", ZoneSettings::SETTINGS),
    ] {
        // Writing to a String does not fail.
        let _ = write!(
            page,
            "\n## {title}\n\n| key | takes | meaning | default |\n| --- | --- | --- | --- |\n"
        );
        rows(&mut page, "", settings);
    }
    page
}

fn rows(page: &mut String, group: &str, settings: &[Setting]) {
    for setting in settings {
        let key = setting.key;
        let takes = match setting.kind {
            SettingKind::Group(inner) => {
                rows(page, &format!("{group}{key}."), inner);
                continue;
            }
            SettingKind::Text => "text",
            SettingKind::Number => "number",
            SettingKind::Switch => "`true` or `false`",
            SettingKind::List => "list of texts",
        };
        let (help, default) = (setting.help.trim(), setting.default);
        let _ = writeln!(page, "| `{group}{key}` | {takes} | {help} | {default} |");
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    /// `BENTLANE_WRITE=1 cargo test -p bentlane-model guide` writes the page anew.
    #[test]
    fn the_page_in_the_docs_is_this_one() {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/settings.md");
        if std::env::var_os("BENTLANE_WRITE").is_some() {
            std::fs::write(&path, settings_guide()).unwrap();
        }
        let there = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(there == settings_guide(), "docs/settings.md is out of date");
    }
}
