//! Files below an app's folder: which have changed, and waiting for a change.

use std::path::{Component, Path, PathBuf};
use std::time::Duration;

use bentlane_checks::ChangedFile;
use globset::{Glob, GlobSet, GlobSetBuilder};
use ignore::WalkBuilder;
use ignore::gitignore::{Gitignore, GitignoreBuilder};
use notify::{EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use time::OffsetDateTime;
use tokio::sync::mpsc;

/// Files that are looked at, at most.
const MOST_FILES: usize = 20_000;
/// Folders within folders.
const DEEPEST: usize = 8;
/// Files that are named.
const NAMED: usize = 5;
/// How long no other file may change before a change is reported.
const PAUSE: Duration = Duration::from_millis(200);
/// How long files may go on to change before it is.
const LONGEST_PAUSE: Duration = Duration::from_secs(2);

/// The files below `folder` that were written after `since`, the latest first. Those that git ignores,
/// and hidden folders, are left out.
#[must_use]
pub(crate) fn since(folder: &Path, since: OffsetDateTime) -> Vec<ChangedFile> {
    let walk = WalkBuilder::new(folder)
        .max_depth(Some(DEEPEST))
        .follow_links(false)
        .require_git(false)
        .filter_entry(|entry| !is_dependencies(entry.path()))
        .build();
    let mut changed: Vec<ChangedFile> = Vec::new();
    for entry in walk.take(MOST_FILES).flatten() {
        let Ok(about) = entry.metadata() else {
            continue;
        };
        let written = about.modified().ok().map(OffsetDateTime::from);
        if let Some(at) = written.filter(|at| about.is_file() && *at > since)
            && let Ok(path) = entry.path().strip_prefix(folder)
        {
            let path = path.display().to_string();
            changed.push(ChangedFile { path, at });
        }
    }
    changed.sort_by(|a, b| b.at.cmp(&a.at).then_with(|| a.path.cmp(&b.path)));
    changed.truncate(NAMED);
    changed
}

/// Whether a folder has what a package manager or a build put there.
fn is_dependencies(path: &Path) -> bool {
    let name = path.file_name().and_then(|name| name.to_str());
    matches!(
        name,
        Some("node_modules" | "target" | "vendor" | "__pycache__" | ".git" | ".venv" | "venv")
    )
}

/// Reports changes of files that match.
#[derive(Debug)]
pub(crate) struct Watch {
    changes: mpsc::Receiver<PathBuf>,
    _watcher: RecommendedWatcher,
}

/// The patterns of files, relative to a folder; `src` stands for everything below it, too.
///
/// # Errors
/// What is wrong with a pattern.
pub fn patterns(globs: &[String]) -> Result<GlobSet, String> {
    let mut set = GlobSetBuilder::new();
    for glob in globs {
        let glob = glob.trim_start_matches("./");
        for text in [
            glob.to_owned(),
            format!("{}/**", glob.trim_end_matches('/')),
        ] {
            set.add(Glob::new(&text).map_err(|error| error.to_string())?);
        }
    }
    set.build().map_err(|error| error.to_string())
}

/// What has to be watched for the files of a pattern: the folder with which it begins, if that is there.
fn watched(folder: &Path, glob: &str) -> PathBuf {
    let is_plain = |part: &Component<'_>| {
        let text = part.as_os_str().to_string_lossy();
        matches!(part, Component::Normal(_)) && !text.contains(['*', '?', '[', '{'])
    };
    let within: PathBuf = Path::new(glob.trim_start_matches("./"))
        .components()
        .take_while(is_plain)
        .collect();
    let place = folder.join(within);
    match place.is_dir() {
        true => place,
        false => folder.to_owned(),
    }
}

impl Watch {
    /// Watches the files of `folder` that match `globs` and that git does not ignore.
    ///
    /// # Errors
    /// A pattern that is none, or why the system does not watch.
    pub(crate) fn new(folder: &Path, globs: &[String]) -> Result<Self, String> {
        let set = patterns(globs)?;
        let ignored = Ignored::of(folder);
        let base = folder.to_owned();
        let (sender, changes) = mpsc::channel(64);
        let report = move |event: notify::Result<notify::Event>| {
            let Ok(event) = event else { return };
            if matches!(event.kind, EventKind::Access(_) | EventKind::Other) {
                return;
            }
            for path in event.paths {
                let Ok(below) = path.strip_prefix(&base) else {
                    continue;
                };
                let skipped = below
                    .components()
                    .any(|part| is_dependencies(Path::new(&part)));
                if set.is_match(below) && !skipped && !ignored.has(&path) {
                    // With the queue full enough has changed.
                    let _ = sender.try_send(below.to_owned());
                }
            }
        };
        let failed = |error: notify::Error| error.to_string();
        let mut watcher = notify::recommended_watcher(report).map_err(failed)?;
        let mut places: Vec<PathBuf> = globs.iter().map(|glob| watched(folder, glob)).collect();
        places.sort();
        places.dedup_by(|next, before| next.starts_with(before));
        for place in places {
            watcher
                .watch(&place, RecursiveMode::Recursive)
                .map_err(failed)?;
        }
        Ok(Self {
            changes,
            _watcher: watcher,
        })
    }

    /// Waits until files change, and then until they have not changed for a moment; gives one of them.
    pub(crate) async fn changed(&mut self) -> PathBuf {
        let Some(first) = self.changes.recv().await else {
            return std::future::pending().await;
        };
        let end = tokio::time::Instant::now() + LONGEST_PAUSE;
        while tokio::time::Instant::now() < end {
            match tokio::time::timeout(PAUSE, self.changes.recv()).await {
                Ok(Some(_)) => {}
                Ok(None) | Err(_) => break,
            }
        }
        first
    }
}

/// What git ignores in a folder: by its own file and those above it up to the repository, the nearest
/// first.
#[derive(Debug)]
struct Ignored(Vec<Gitignore>);

impl Ignored {
    /// What is ignored in `folder`, which need not be there. Without a repository its own file counts.
    fn of(folder: &Path) -> Self {
        let root = repository_of(folder).unwrap_or(folder);
        let above = folder
            .ancestors()
            .take_while(|place| place.starts_with(root));
        // A file that is not there, or cannot be read, ignores nothing.
        let mut rules: Vec<Gitignore> = above
            .map(|place| Gitignore::new(place.join(".gitignore")).0)
            .collect();
        let mut exclude = GitignoreBuilder::new(root);
        exclude.add(root.join(".git/info/exclude"));
        rules.extend(exclude.build());
        Self(rules)
    }

    /// Whether a file in that folder is ignored.
    fn has(&self, file: &Path) -> bool {
        let mut found = self
            .0
            .iter()
            .map(|rules| rules.matched_path_or_any_parents(file, false));
        found
            .find(|found| !found.is_none())
            .is_some_and(|found| found.is_ignore())
    }
}

/// The repository of git that a folder is in.
fn repository_of(folder: &Path) -> Option<&Path> {
    folder.ancestors().find(|place| place.join(".git").exists())
}

/// Whether git takes files that are written to `folder` into its repository.
#[must_use]
pub fn is_taken_by_git(folder: &Path) -> bool {
    repository_of(folder).is_some() && !Ignored::of(folder).has(&folder.join("file"))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;

    #[test]
    fn changed_files_are_named_unless_git_ignores_them() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str| {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, "x").unwrap();
        };
        let before = OffsetDateTime::now_utc() - time::Duration::seconds(5);
        write(".gitignore");
        fs::write(folder.path().join(".gitignore"), "*.log\n").unwrap();
        for name in ["src/app.py", "a.log", "node_modules/x.js"] {
            write(name);
        }
        let names: Vec<String> = since(folder.path(), before)
            .into_iter()
            .map(|it| it.path)
            .collect();
        assert_eq!(names, ["src/app.py"]);
        let later = OffsetDateTime::now_utc() + time::Duration::seconds(5);
        assert_eq!(since(folder.path(), later), []);
    }

    #[tokio::test]
    async fn a_change_of_a_file_that_matches_is_reported() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("src")).unwrap();
        fs::write(folder.path().join(".gitignore"), "gen.py\n").unwrap();
        let globs = ["src/**/*.py".to_owned()];
        let mut watch = Watch::new(folder.path(), &globs).unwrap();
        for name in ["src/note.txt", "src/gen.py", "other.py", "src/app.py"] {
            fs::write(folder.path().join(name), "x").unwrap();
        }
        let changed = tokio::time::timeout(Duration::from_secs(20), watch.changed()).await;
        assert_eq!(changed.unwrap(), Path::new("src/app.py"));
        assert!(Watch::new(folder.path(), &["src/[".to_owned()]).is_err());
    }

    #[rstest]
    #[case(&[], "tls", true)]
    #[case(&[(".gitignore", "tls/")], "web/tls", false)]
    #[case(&[(".gitignore", "/tls")], "tls", false)]
    #[case(&[(".gitignore", "/tls")], "web/tls", true)]
    #[case(&[("web/.gitignore", "/tls")], "web/tls", false)]
    #[case(&[(".gitignore", "tls"), ("web/.gitignore", "!tls")], "web/tls", true)]
    #[case(&[("tls/.gitignore", "*")], "tls", false)]
    #[case(&[(".git/info/exclude", "tls")], "web/tls", false)]
    #[case(&[(".gitignore", "tls/*.key")], "tls", true)]
    fn git_takes_what_it_does_not_ignore(
        #[case] files: &[(&str, &str)],
        #[case] folder: &str,
        #[case] taken: bool,
    ) {
        let root = tempfile::tempdir().unwrap();
        assert!(
            !is_taken_by_git(&root.path().join(folder)),
            "there is no repository"
        );
        for (name, text) in files {
            let path = root.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        fs::create_dir_all(root.path().join(".git")).unwrap();
        assert_eq!(is_taken_by_git(&root.path().join(folder)), taken);
    }
}
