use std::fmt::Write;

use crate::app::AppSettings;
use crate::setting::{Setting, leaves};
use crate::settings::RouteSettings;
use crate::zone::ZoneSettings;

/// The part of `docs/settings.md` about routes and zones, in Markdown.
#[must_use]
pub fn settings_guide() -> String {
    let mut page = String::from(
        "# Settings\n\n\
         What can be set for a route, a zone, an app, and the service. `bentlane route add`, `route edit`, `zone edit`, \
         `app add` and `app edit` have a flag for each: `--strip-prefix` for `strip_prefix`, `--expect-status` \
         for `expect.status`. A list takes its flag once for each entry, and `--unset KEY` goes back \
         to the default. In the API, `PATCH` takes a JSON merge patch (RFC 7396) in which `null` \
         unsets, and lists are replaced.\n\n\
         This page is generated from the code; a test keeps it up to date.\n",
    );
    for (title, settings) in [
        ("Routes", RouteSettings::SETTINGS),
        ("Zones", ZoneSettings::SETTINGS),
        ("Apps", AppSettings::SETTINGS),
    ] {
        // Writing to a String does not fail.
        let _ = write!(
            page,
            "\n## {title}\n\n| key | takes | meaning | default |\n| --- | --- | --- | --- |\n"
        );
        rows(&mut page, settings);
    }
    page
}

fn rows(page: &mut String, settings: &'static [Setting]) {
    for leaf in leaves(settings) {
        let (key, takes) = (leaf.key(), leaf.setting.kind.describe());
        let (help, default) = (leaf.setting.help.trim(), leaf.setting.default);
        let _ = writeln!(page, "| `{key}` | {takes} | {help} | {default} |");
    }
}
