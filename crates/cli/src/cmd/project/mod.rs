mod init;
mod load;

pub(super) use self::load::Load;

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use bentlane_api_types::{ProjectExport, ProjectText, ProjectView, Projects};
use bentlane_project::{FILE_NAME, LONGEST_FILE};
use clap::{Args, Subcommand};

use super::running::plain;
use super::{confirm, printable};
use crate::account::Account;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::whole_path;
use crate::output::{Output, table};
use crate::text_file::TextFile;

/// The mode of a new project file, which is for the whole team.
const PUBLIC: u32 = 0o644;

/// `bentlane project`
#[derive(Debug, Subcommand)]
pub(crate) enum Project {
    /// Write a project file from what runs here now
    Init(init::Init),
    /// Apply a project file: its zone, routes, apps, records and certificates
    Load(Load),
    /// Take out all that came from a project file
    Unload(Unload),
    /// List the projects that were loaded
    List(List),
    /// Write what exists now into a project file, and keep its comments
    Export(Export),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane project unload
  bentlane project unload ~/huts/bentlane.toml")]
pub(crate) struct Unload {
    /// The file [default: bentlane.toml of this folder or the nearest above]
    file: Option<PathBuf>,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane project list
  bentlane project list --format json | jq -r '.projects[].file'")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane project export                     what the file says now, on standard output
  bentlane project export --write             the same, into the file")]
pub(crate) struct Export {
    /// The file [default: bentlane.toml of this folder or the nearest above]
    file: Option<PathBuf>,
    /// Write the file, once its difference was shown
    #[arg(long)]
    write: bool,
    /// Do not ask before the file is written
    #[arg(long)]
    yes: bool,
}

impl Project {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Init(init) => init.run(client, output).await,
            Self::Load(load) => load.run(client, output).await,
            Self::Unload(Unload { file }) => {
                let file = match file {
                    // It may be gone.
                    Some(file) => whole_path(&file)?,
                    None => find_file(None)?,
                };
                let path = format!("/projects?file={}", segment(&file.display().to_string()));
                client.delete(&path).await?;
                output.say(&format!("took out what came from {}", file.display()));
                Ok(Answer::Yes)
            }
            Self::List(List {}) => {
                let list: Projects = client.get("/projects").await?;
                if list.projects.is_empty() && output.is_table() {
                    output.say("no project was loaded yet: load one in its folder with `bentlane project load`");
                    return Ok(Answer::Yes);
                }
                output.data(&list, |list| in_rows(&list.projects))?;
                Ok(Answer::Yes)
            }
            Self::Export(export) => export.run(client, output).await,
        }
    }
}

impl Export {
    async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let file = match find_file(self.file.as_deref()) {
            Ok(file) => file,
            // A new one.
            Err(_) => whole_path(self.file.as_deref().unwrap_or(Path::new(FILE_NAME)))?,
        };
        let file = TextFile::open(&file, LONGEST_FILE as u64)?;
        let export = ProjectExport {
            file: file.path.clone(),
            text: file.path.exists().then(|| file.text.clone()),
        };
        let text: ProjectText = client.post("/projects/text", &export).await?;
        if !self.write {
            output.data(&text, |it| it.text.trim_end().to_owned())?;
            return Ok(Answer::Yes);
        }
        write_file(output, &file, &text.text, self.yes)
    }
}

fn in_rows(projects: &[ProjectView]) -> String {
    let rows = projects.iter().map(|project| {
        let state = match (&project.fault, project.is_changed) {
            (Some(fault), _) => format!("cannot be read: {fault}"),
            (None, true) => "changed since it was loaded".to_owned(),
            (None, false) => "loaded".to_owned(),
        };
        [
            plain(&project.file.display().to_string()),
            state,
            project.zone.clone().unwrap_or_default(),
            project.routes.len().to_string(),
            project.apps.len().to_string(),
        ]
    });
    table(
        ["FILE", "STATE", "MOVED BELOW", "ROUTES", "APPS"],
        rows.collect(),
    )
}

/// The project file that is meant: the one that is named, or that of this folder or the nearest above, by
/// its whole path without links.
fn find_file(named: Option<&Path>) -> Result<PathBuf, CliError> {
    let found = match named {
        Some(path) if path.is_dir() => path.join(FILE_NAME),
        Some(path) => path.to_owned(),
        None => {
            let here = whole_path(Path::new("."))?;
            let mut above = here.ancestors().map(|folder| folder.join(FILE_NAME));
            above.find(|path| path.is_file()).ok_or_else(|| {
                refused(format!(
                    "there is no {FILE_NAME} here or above: write one with `bentlane project init`"
                ))
            })?
        }
    };
    found.canonicalize().map_err(|source| CliError::Io {
        verb: format!("find {}", found.display()),
        source,
    })
}

/// The text of a project file. One of another user's is not read: it says which commands are run.
fn read_file(file: &Path) -> Result<String, CliError> {
    let io = |source| CliError::Io {
        verb: format!("read {}", file.display()),
        source,
    };
    let opened = fs::File::open(file).map_err(io)?;
    let about = opened.metadata().map_err(io)?;
    let own = rustix::process::geteuid().as_raw();
    let behind_sudo = Account::behind_sudo().map(|account| account.uid.as_raw());
    if ![Some(own), Some(0), behind_sudo].contains(&Some(about.uid())) {
        return Err(refused(format!(
            "{} belongs to another user, who could have commands run as you: copy it, and read it first",
            file.display()
        )));
    }
    if about.mode() & 0o002 != 0 {
        return Err(refused(format!(
            "every user can write {}, and have commands run as you: chmod o-w it first",
            file.display()
        )));
    }
    if about.len() > LONGEST_FILE as u64 {
        return Err(refused(format!("{} is longer than 16 MiB", file.display())));
    }
    std::io::read_to_string(opened).map_err(io)
}

/// Shows what changes in a project file, asks, and writes it.
fn write_file(
    output: &Output,
    file: &TextFile,
    after: &str,
    at_once: bool,
) -> Result<Answer, CliError> {
    let path = file.path.display();
    if file.text == after {
        output.say(&format!("{path} says that already"));
        return Ok(Answer::Yes);
    }
    output.say(&difference(&file.text, after));
    output.say(&format!("Write this to {path}?"));
    if !at_once && !confirm::agreed(output)? {
        output.say("nothing was written");
        return Ok(Answer::No);
    }
    file.replace(after, PUBLIC)?;
    output.say(&format!("wrote {path}"));
    Ok(Answer::Yes)
}

/// The lines that differ, with `-` and `+` before them.
fn difference(before: &str, after: &str) -> String {
    let (old, new): (Vec<&str>, Vec<&str>) = (before.lines().collect(), after.lines().collect());
    let head = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let (old, new) = (&old[head..], &new[head..]);
    let tail = old
        .iter()
        .rev()
        .zip(new.iter().rev())
        .take_while(|(a, b)| a == b)
        .count();
    let gone = old[..old.len() - tail]
        .iter()
        .map(|line| format!("- {}", printable(line)));
    let come = new[..new.len() - tail]
        .iter()
        .map(|line| format!("+ {}", printable(line)));
    gone.chain(come).collect::<Vec<_>>().join("\n")
}

fn refused(reason: String) -> CliError {
    CliError::Value {
        field: "project",
        reason,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_lines_that_differ_are_shown() {
        assert_eq!(difference("a\nb\nc\n", "a\nx\nc\n"), "- b\n+ x");
        assert_eq!(difference("", "a\n"), "+ a");
        assert_eq!(difference("a\n\x1b[2J\n", "a\n"), "- \u{fffd}[2J");
    }
}
