//! What can be wrong with a folder as a target.

use std::ffi::OsStr;
use std::path::Path;

use bentlane_model::Target;

use crate::finding::Finding;
use crate::fix::{Fix, shell};
use crate::hop::Severity;
use crate::kind::FindingKind;

impl Finding {
    /// The folder has no such file.
    #[must_use]
    pub fn file_missing(address: &str, target: &Target, path: &str, reason: Option<&str>) -> Self {
        Self::of(
            FindingKind::FileMissing,
            format!("{} has no file for {path}", target.describe()),
            reason.map(str::to_owned).into_iter().collect(),
            Fix::edit(
                "add the file; a single-page app needs a fallback for paths that have no file",
                address,
                "--fallback index.html",
            ),
        )
    }

    /// The folder has no page for its own path. What is in it may be all that it is for.
    #[must_use]
    pub fn index_missing(address: &str, target: &Target) -> Self {
        let fix = Fix::edit(
            "nothing, if its files are asked for by their names; otherwise add an index.html, or another page",
            address,
            "--fallback FILE",
        );
        Self {
            severity: Severity::Hint,
            ..Self::of(
                FindingKind::FileMissing,
                format!("{} has no index.html", target.describe()),
                Vec::new(),
                fix,
            )
        }
    }

    /// The folder, or a file in it, cannot be read.
    #[must_use]
    pub fn folder_unreadable(address: &str, target: &Target, reason: &str) -> Self {
        Self::of(
            FindingKind::FolderUnreadable,
            format!("{} cannot be read", target.describe()),
            vec![reason.to_owned()],
            Fix::edit(
                "check that it exists and that the service may read it, or use another folder",
                address,
                "--to folder:PATH",
            ),
        )
    }

    /// A file of the folder needs an interpreter; `all` of them that are known.
    #[must_use]
    pub fn sources_not_served(address: &str, folder: &Path, first: &str, all: &[String]) -> Self {
        let place = folder.display().to_string();
        let has = |name: &str| all.iter().any(|file| file == name);
        // With a free port in place of PORT.
        let extension = Path::new(first).extension().and_then(OsStr::to_str);
        let extension = extension.unwrap_or_default().to_ascii_lowercase();
        let command = match &*extension {
            _ if has("manage.py") => Some(format!(
                "python3 {} runserver PORT",
                shell(&[&format!("{place}/manage.py")])
            )),
            "php" | "phtml" => Some(format!("php -S 127.0.0.1:PORT -t {}", shell(&[&place]))),
            "py" => Some(format!(
                "PORT=PORT python3 {}",
                shell(&[&format!("{place}/{first}")])
            )),
            "rb" => Some(format!(
                "PORT=PORT ruby {}",
                shell(&[&format!("{place}/{first}")])
            )),
            _ => None,
        };
        let edit = shell(&["bentlane", "route", "edit", address]);
        let text = format!(
            "run them as an app and lead the route to its port (`{edit} --to PORT`); or serve their source with \
             `{edit} --serve-sources`"
        );
        let fix = match command {
            Some(command) => Fix::command(text, command),
            None => Fix::text(text),
        };
        let summary = format!("{first} in {place} needs an interpreter, and is not served");
        Self::of(FindingKind::SourcesNotServed, summary, all.to_vec(), fix)
    }
}
