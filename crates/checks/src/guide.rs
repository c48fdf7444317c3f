use std::fmt::Write;

use super::hop::{Hop, Severity};
use super::kind::FindingKind;

/// The page about all findings, in Markdown: `docs/findings.md`.
#[must_use]
pub fn guide() -> String {
    let mut page = String::from(
        "# Findings\n\n\
         What a check can find, hop by hop. Each finding has a stable name (its slug), a severity, \
         the evidence, and a fix with your names and ports filled in. `bentlane check` shows them, \
         and `bentlane check --fix` offers to apply the fixes that Bent Lane can make itself. An \
         **error** makes the check fail. A **warning** works for now, or for some clients. A \
         **hint** works, and could be better.\n\n\
         This page is generated from the code (`crates/checks/src/kind.rs`); a test keeps it up to \
         date.\n",
    );
    for hop in Hop::ALL {
        // Writing to a String does not fail.
        let _ = write!(page, "\n## {hop}\n");
        let kinds = FindingKind::ALL.iter().filter(|kind| kind.hop() == hop);
        for kind in kinds {
            let severity = match kind.severity() {
                Severity::Error => "error",
                Severity::Warning => "warning",
                Severity::Hint => "hint",
            };
            let (slug, about) = (kind.slug(), kind.about());
            let _ = write!(page, "\n### {slug}\n\n*{severity}* · {about}\n");
        }
    }
    page
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    /// `BENTLANE_WRITE=1 cargo test -p bentlane-checks guide` writes the page.
    #[test]
    fn the_guide_in_the_docs_is_up_to_date() {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/findings.md");
        if std::env::var_os("BENTLANE_WRITE").is_some() {
            std::fs::write(&path, guide()).unwrap();
        }
        let there = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(there == guide(), "docs/findings.md is out of date");
    }
}
