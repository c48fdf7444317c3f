use std::collections::HashMap;
use std::path::{Path, PathBuf};

use bentlane_model::suggested_ports;
use bentlane_probe::{PortSeen, ports};
use clap::Args;
use serde::Serialize;

use super::super::confirm;
use super::env_file::{self, Unclosed};
use crate::error::{Answer, CliError};
use crate::output::{Output, table};
use crate::text_file::TextFile;

/// Bytes of an environment file.
const LARGEST: u64 = 1024 * 1024;
/// The permissions of a new one, which may get secrets.
const PRIVATE: u32 = 0o600;
/// Ports that are suggested at most.
const MOST: u16 = 100;

/// `bentlane port suggest`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane port suggest
  bentlane port suggest 3
  bentlane port suggest --name web,db,mail --write .env")]
pub(crate) struct Suggest {
    /// How many ports
    #[arg(value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=i64::from(MOST)))]
    count: u16,
    /// What the ports are for; NAME has the variable PORT_NAME
    #[arg(
        long,
        value_name = "NAME,…",
        value_delimiter = ',',
        conflicts_with = "count"
    )]
    name: Vec<String>,
    /// The project's folder
    #[arg(long, value_name = "DIR", default_value = ".")]
    folder: PathBuf,
    /// Write them to this environment file, in a marked block; the rest of the file stays as it is
    #[arg(long, value_name = "FILE")]
    write: Option<PathBuf>,
    /// Do not ask before the file is changed
    #[arg(long, requires = "write")]
    yes: bool,
}

#[derive(Clone, Debug, Serialize)]
struct Suggested {
    folder: String,
    ports: Vec<SuggestedPort>,
}

#[derive(Clone, Debug, Serialize)]
struct SuggestedPort {
    /// What it is for; absent for ports that are only counted.
    #[serde(skip_serializing_if = "Option::is_none")]
    name: Option<String>,
    variable: String,
    port: u16,
}

impl Suggest {
    pub(super) fn run(self, output: &Output) -> Result<Answer, CliError> {
        let folder = self.folder.canonicalize().map_err(|source| CliError::Io {
            verb: format!("find the folder {}", self.folder.display()),
            source,
        })?;
        let names = self.variables()?;
        let file = self.write.as_deref().map(EnvFile::open).transpose()?;
        let kept = file.as_ref().map(EnvFile::ports).transpose()?;
        let suggested = suggest(&folder, names, &kept.unwrap_or_default(), &ports())?;
        let Some(file) = file else {
            output.data(&suggested, in_words)?;
            return Ok(Answer::Yes);
        };
        file.write(&suggested, self.yes, output)?;
        if output.is_json() {
            output.data(&suggested, in_words)?;
        }
        Ok(Answer::Yes)
    }

    /// The names of the ports, if they have any, and their variables.
    fn variables(&self) -> Result<Vec<(Option<String>, String)>, CliError> {
        let refuse = |name: &str| CliError::Value {
            field: "--name",
            reason: format!(
                "`{name}` is no name of letters, digits, `-` and `_` that begins with a letter"
            ),
        };
        if self.name.is_empty() {
            let variable = |number: u16| match number {
                1 => "PORT".to_owned(),
                number => format!("PORT_{number}"),
            };
            return Ok((1..=self.count)
                .map(|number| (None, variable(number)))
                .collect());
        }
        let variable = |name: &String| {
            let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
            if !name.starts_with(|c: char| c.is_ascii_alphabetic()) || !name.chars().all(plain) {
                return Err(refuse(name));
            }
            let variable = format!("PORT_{}", name.to_ascii_uppercase().replace('-', "_"));
            Ok((Some(name.clone()), variable))
        };
        let all: Vec<_> = self.name.iter().map(variable).collect::<Result<_, _>>()?;
        for (at, (name, variable)) in all.iter().enumerate() {
            if all[..at].iter().any(|(_, known)| known == variable) {
                let name = name.as_deref().unwrap_or_default();
                return Err(CliError::Value {
                    field: "--name",
                    reason: format!(
                        "`{name}` has the variable {variable}, which another name has already"
                    ),
                });
            }
        }
        Ok(all)
    }
}

/// Ports for these variables of a project: those it has, or free ones.
fn suggest(
    folder: &Path,
    names: Vec<(Option<String>, String)>,
    kept: &HashMap<String, u16>,
    seen: &[PortSeen],
) -> Result<Suggested, CliError> {
    let is_taken = |port: u16| {
        let mut there = seen.iter().filter(|it| it.port == port);
        there.any(|it| !is_of_project(it, folder))
    };
    let keeps = |variable: &String| kept.get(variable).copied().filter(|port| !is_taken(*port));
    let new = names
        .iter()
        .filter(|(_, variable)| keeps(variable).is_none());
    let new: Vec<String> = new.map(|(_, variable)| variable.clone()).collect();
    let is_ours = |port: u16| kept.values().any(|kept| *kept == port);
    let project = folder.display().to_string();
    let free = suggested_ports(&project, &new, |port| is_taken(port) || is_ours(port));
    let free = free.ok_or_else(|| CliError::Value {
        field: "port suggest",
        reason: "there are not that many free ports".to_owned(),
    })?;
    let mut free = free.into_iter();
    let ports = names.into_iter().filter_map(|(name, variable)| {
        let port = keeps(&variable).or_else(|| free.next())?;
        Some(SuggestedPort {
            name,
            variable,
            port,
        })
    });
    Ok(Suggested {
        folder: project,
        ports: ports.collect(),
    })
}

/// Whether what listens there works in the project's folder.
fn is_of_project(seen: &PortSeen, folder: &Path) -> bool {
    let holder = seen.holder.as_ref();
    let works_in = holder.and_then(|holder| holder.folder.as_deref());
    works_in.is_some_and(|works_in| Path::new(works_in).starts_with(folder))
}

fn in_words(suggested: &Suggested) -> String {
    let row = |port: &SuggestedPort| [port.variable.clone(), port.port.to_string()];
    table(
        ["VARIABLE", "PORT"],
        suggested.ports.iter().map(row).collect(),
    )
}

/// An environment file, in the folder that it is in behind all links.
struct EnvFile(TextFile);

impl EnvFile {
    fn open(file: &Path) -> Result<Self, CliError> {
        TextFile::open(file, LARGEST).map(Self)
    }

    fn unclosed(&self) -> impl FnOnce(Unclosed) -> CliError {
        let file = self.0.path.display().to_string();
        move |Unclosed| CliError::Value {
            field: "--write",
            reason: format!(
                "the lines of `bentlane port suggest` in {file} have no end: add the line `# End of ports` behind them"
            ),
        }
    }

    fn ports(&self) -> Result<HashMap<String, u16>, CliError> {
        env_file::ports(&self.0.text).map_err(self.unclosed())
    }

    /// Shows what changes, asks, and writes.
    fn write(&self, suggested: &Suggested, agreed: bool, output: &Output) -> Result<(), CliError> {
        let ports = suggested.ports.iter();
        let variables: Vec<_> = ports.map(|it| (it.variable.clone(), it.port)).collect();
        let edit = env_file::edited(&self.0.text, &variables).map_err(self.unclosed())?;
        let file = self.0.path.display();
        for (line, variable) in &edit.elsewhere {
            output.say(&format!(
                "{file} sets {variable} in line {line}, too: remove that line"
            ));
        }
        if edit.text == self.0.text {
            output.say(&format!("{file} has these ports"));
            return Ok(());
        }
        output.say(&format!("{file}"));
        let removed = edit.removed.iter().map(|line| format!("  - {line}"));
        let added = edit.added.iter().map(|line| format!("  + {line}"));
        removed.chain(added).for_each(|line| output.say(&line));
        if !agreed && !confirm::agreed(output)? {
            return Ok(());
        }
        self.0.replace(&edit.text, PRIVATE)?;
        output.say("written");
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::net::{IpAddr, Ipv4Addr};

    use bentlane_checks::Holder;

    use super::*;

    fn listener(port: u16, folder: &str) -> PortSeen {
        PortSeen {
            port,
            addresses: vec![IpAddr::V4(Ipv4Addr::LOCALHOST)],
            uid: 1000,
            holder: Some(Holder {
                pid: 10,
                command: "node".to_owned(),
                line: String::new(),
                folder: Some(folder.to_owned()),
                started: None,
            }),
        }
    }

    fn ports_of(kept: &[(&str, u16)], seen: &[PortSeen]) -> Vec<u16> {
        let names = ["PORT_WEB", "PORT_DB"]
            .map(|it| (None, it.to_owned()))
            .to_vec();
        let kept = kept.iter().map(|(name, port)| ((*name).to_owned(), *port));
        let suggested = suggest(Path::new("/huts"), names, &kept.collect(), seen).unwrap();
        suggested.ports.iter().map(|it| it.port).collect()
    }

    #[test]
    fn what_a_project_has_stays_unless_another_has_taken_it() {
        let usual = ports_of(&[], &[]);
        assert_eq!(
            ports_of(&[], &[listener(usual[0], "/huts/web")]),
            usual,
            "its own"
        );
        assert_ne!(ports_of(&[], &[listener(usual[0], "/shop")])[0], usual[0]);
        assert_eq!(ports_of(&[("PORT_WEB", 4310)], &[]), [4310, usual[1]]);
        let taken = ports_of(&[("PORT_WEB", 4310)], &[listener(4310, "/shop")]);
        assert_eq!(taken, usual);
        // One that it has is not given to another name.
        let both = ports_of(&[("PORT_WEB", usual[1])], &[]);
        assert_eq!(both, [usual[1], usual[1] + 1]);
    }
}
