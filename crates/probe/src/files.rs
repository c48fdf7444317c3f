//! Files that say how an app runs: what it read when it started, and what it would take to run it.

use std::fs::{self, File, Metadata};
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use bentlane_checks::{Holder, WrittenFile};
use bentlane_model::is_source;
use rustix::fs::OFlags;

/// Names of files that programs read when they start. One that ends with a dot stands for all that begin
/// with it.
const READ_AT_START: [&str; 38] = [
    ".env",
    ".env.",
    "Cargo.lock",
    "Gemfile.lock",
    "Pipfile.lock",
    "Procfile",
    "angular.json",
    "application.properties",
    "application.yml",
    "appsettings.",
    "astro.config.",
    "bun.lock",
    "composer.lock",
    "config.ru",
    "config/application.rb",
    "config/database.yml",
    "config/environment.rb",
    "config/routes.yaml",
    "config/services.yaml",
    "go.sum",
    "gunicorn.conf.py",
    "next.config.",
    "nuxt.config.",
    "package-lock.json",
    "pnpm-lock.yaml",
    "poetry.lock",
    "requirements.txt",
    "rsbuild.config.",
    "src/main/resources/application.properties",
    "src/main/resources/application.yml",
    "svelte.config.",
    "uv.lock",
    "vite.config.",
    "vue.config.",
    "webpack.config.",
    "wp-config.php",
    "wrangler.toml",
    "yarn.lock",
];
/// Dev servers that read their configuration again when it changes.
const READ_AGAIN: [&str; 5] = ["astro", "next", "nuxt", "remix", "vite"];
/// Entries of a folder that are looked at.
const MOST_ENTRIES: usize = 2000;
/// Digits of a commit that are shown.
const COMMIT_SHOWN: usize = 12;
/// Bytes of a line that are read.
const LONGEST_LINE: u64 = 4096;
/// Files that are named.
const MOST_NAMED: usize = 5;
/// How exactly the start of a process is known; and programs write files of their own as they start.
const AT_ONCE: Duration = Duration::from_secs(2);

/// The files that the process has read as it started, as far as their names tell, and that were written
/// since then; with its program.
pub(crate) fn written_since_start(holder: &Holder) -> Vec<WrittenFile> {
    let Some(started) = holder.started else {
        return Vec::new();
    };
    let since = SystemTime::from(started) + AT_ONCE;
    // As the process sees it, which may be in a container.
    let process = PathBuf::from(format!("/proc/{}", holder.pid));
    let mut found = written_since(&process.join("cwd"), since);
    let reads_again = READ_AGAIN.iter().any(|name| {
        let mut words = holder.line.split([' ', '/']);
        words.any(|word| word == *name || word.starts_with(&format!("{name}.")))
    });
    found.retain(|file| {
        !reads_again || !(file.name.starts_with(".env") || file.name.contains(".config."))
    });
    found.extend(newer_program(&process.join("exe"), since));
    found.truncate(MOST_NAMED);
    found
}

/// The files in a folder that programs read when they start, written after `since`; the latest first. It
/// reads folders.
#[must_use]
pub fn written_since(folder: &Path, since: SystemTime) -> Vec<WrittenFile> {
    let subfolders = ["", "config", "src/main/resources"];
    let mut found: Vec<WrittenFile> = Vec::new();
    for below in subfolders {
        let entries = fs::read_dir(folder.join(below)).into_iter().flatten();
        for entry in entries.take(MOST_ENTRIES).flatten() {
            let Ok(name) = entry.file_name().into_string() else {
                continue;
            };
            let name = match below {
                "" => name,
                below => format!("{below}/{name}"),
            };
            let is_read = READ_AT_START
                .iter()
                .any(|known| match known.strip_suffix('.') {
                    Some(_) => name.starts_with(known),
                    None => name == *known,
                });
            if is_read && let Ok(metadata) = entry.metadata() {
                found.extend(newer(name, &metadata, since));
            }
        }
    }
    found.sort_by(|a, b| b.written.cmp(&a.written).then_with(|| a.name.cmp(&b.name)));
    found.truncate(MOST_NAMED);
    found
}

fn newer(name: String, metadata: &Metadata, since: SystemTime) -> Option<WrittenFile> {
    let written = metadata.modified().ok()?;
    // What has a time to come says nothing.
    let is_newer = metadata.is_file() && written > since && written <= SystemTime::now();
    is_newer.then(|| WrittenFile {
        name,
        written: written.into(),
    })
}

/// The file of the program, when another has taken its place. A program that was deleted only, as by an
/// upgrade of the system in progress, is left out.
fn newer_program(exe: &Path, since: SystemTime) -> Option<WrittenFile> {
    let place = fs::read_link(exe).ok()?;
    let place = place.to_str()?;
    let place = place.strip_suffix(" (deleted)").unwrap_or(place);
    newer(place.to_owned(), &fs::symlink_metadata(place).ok()?, since)
}

/// The branch that is checked out in the repository to which a folder belongs, or the commit where there is no
/// branch. It reads two small files.
#[must_use]
pub fn branch_in(folder: &Path) -> Option<String> {
    let place = folder.ancestors().map(|above| above.join(".git"));
    let place = place.into_iter().find(|place| place.exists())?;
    let git = match place.is_dir() {
        true => place,
        // A working tree beside the repository: `gitdir: PATH`.
        false => folder.join(first_line(&place)?.strip_prefix("gitdir: ")?),
    };
    let head = first_line(&git.join("HEAD"))?;
    let is_word = |text: &str| !text.is_empty() && text.chars().all(|c| c.is_ascii_graphic());
    let name = match head.strip_prefix("ref: ") {
        Some(reference) => reference.strip_prefix("refs/heads/").unwrap_or(reference),
        None => head.get(..COMMIT_SHOWN)?,
    };
    is_word(name).then(|| name.to_owned())
}

/// The first line of a small file.
fn first_line(file: &Path) -> Option<String> {
    // Not to wait for whoever writes to what is no file.
    let flags = OFlags::NONBLOCK.bits().cast_signed();
    let file = File::options().read(true).custom_flags(flags).open(file);
    let file = file
        .ok()
        .filter(|file| file.metadata().is_ok_and(|it| it.is_file()))?;
    let mut text = String::new();
    file.take(LONGEST_LINE).read_to_string(&mut text).ok()?;
    text.lines().next().map(str::to_owned)
}

/// Where packets to other networks go: the gateways of the default routes of IPv4, with their interfaces. It
/// reads a table of the kernel.
#[must_use]
pub fn gateways() -> Vec<String> {
    let routes = procfs::net::route().unwrap_or_default().into_iter();
    let default = routes.filter(|route| route.destination.is_unspecified());
    let mut gateways: Vec<String> = default
        .map(|route| format!("{} on {}", route.gateway, route.iface))
        .collect();
    gateways.sort();
    gateways.dedup();
    gateways
}

/// Files in a folder that need an interpreter, in their order; the first few.
pub(crate) fn sources_in(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder).into_iter().flatten();
    let names = entries.take(MOST_ENTRIES).flatten();
    let names = names.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()));
    let names = names.filter_map(|entry| entry.file_name().into_string().ok());
    let mut found: Vec<String> = names.filter(|name| is_source(Path::new(name))).collect();
    found.sort();
    found.truncate(MOST_NAMED);
    found
}

#[cfg(test)]
mod tests {
    use std::time::UNIX_EPOCH;

    use super::*;

    #[test]
    fn files_read_at_the_start_are_known_by_name() {
        assert!(READ_AT_START.is_sorted());
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir(at("config")).unwrap();
        let now = SystemTime::now() - Duration::from_secs(1);
        for (name, age) in [
            (".env.local", 10),
            ("vite.config.ts", 20),
            ("config/database.yml", 30),
            ("index.php", 10),
            ("app.py", 10),
            ("Cargo.lock", 200),
        ] {
            fs::write(at(name), "x").unwrap();
            let file = File::options().write(true).open(at(name)).unwrap();
            file.set_modified(now - Duration::from_secs(age)).unwrap();
        }
        fs::create_dir(at(".env")).unwrap();
        let since = now - Duration::from_secs(100);
        let names =
            |found: Vec<WrittenFile>| found.into_iter().map(|file| file.name).collect::<Vec<_>>();
        let wanted = [".env.local", "vite.config.ts", "config/database.yml"];
        assert_eq!(names(written_since(folder.path(), since)), wanted);
        assert_eq!(sources_in(folder.path()), ["app.py", "index.php"]);
        assert!(written_since(&at("missing"), UNIX_EPOCH).is_empty());
    }

    #[rstest::rstest]
    #[case("ref: refs/heads/fix/login\n", Some("fix/login"))]
    #[case("0123456789abcdef0123456789abcdef01234567\n", Some("0123456789ab"))]
    #[case("ref: refs/heads/\x1b[2J\n", None)]
    #[case("", None)]
    fn branches(#[case] head: &str, #[case] branch: Option<&str>) {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at(".git/worktrees/other")).unwrap();
        fs::create_dir_all(at("app/src")).unwrap();
        fs::create_dir_all(at("other")).unwrap();
        fs::write(at(".git/HEAD"), head).unwrap();
        assert_eq!(branch_in(&at("app/src")).as_deref(), branch);
        // What is no file is not waited for.
        fs::remove_file(at(".git/HEAD")).unwrap();
        let fifo = rustix::fs::FileType::Fifo;
        let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
        rustix::fs::mknodat(rustix::fs::CWD, at(".git/HEAD"), fifo, mode, 0).unwrap();
        assert_eq!(branch_in(&at("app/src")), None);
        // Another working tree of the same repository.
        fs::write(at(".git/worktrees/other/HEAD"), "ref: refs/heads/other\n").unwrap();
        let git = at(".git/worktrees/other");
        fs::write(at("other/.git"), format!("gitdir: {}\n", git.display())).unwrap();
        assert_eq!(branch_in(&at("other")).as_deref(), Some("other"));
    }
}
