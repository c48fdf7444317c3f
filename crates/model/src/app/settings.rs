use std::fmt;
use std::num::NonZeroU16;
use std::path::{Component, Path, PathBuf};
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::name::PortName;
use crate::by_text::serde_by_text;
use crate::invalid::Invalid;
use crate::setting::{merged, settings};
use crate::settings::{WaitLimit, words};

settings! {
    /// What an app runs, and when.
    pub struct AppSettings {
        /// The folder that it runs in
        folder: PathBuf as String, "DIR", "this folder";
        /// What to run, as one would type it; `$PORT` is its port
        command: String as String, "COMMAND", "none";
        /// A variable of its environment, `NAME=VALUE`
        env: Vec<Variable> as Vec<String>, "NAME=VALUE", "none";
        /// A file with variables of its environment, a `NAME=VALUE` on each line
        env_file: Vec<PathBuf> as Vec<String>, "FILE", "none", rare;
        /// The port that it listens on
        port: Option<NonZeroU16> as u32, "PORT", "assigned";
        /// Names of its ports, where it has several: `web` is handed over as PORT_WEB
        ports: Vec<PortName> as Vec<String>, "NAME", "none", rare;
        /// When it is ready: once it listens (`port`), answers a path (`/health`), or prints a text
        /// (`output:TEXT`)
        ready: Ready as String, "WHEN", "port";
        /// What starts it: the first request (`visit`), the start of the service (`service`), or you alone
        /// (`manual`)
        start: StartWhen as String, "WHEN", "visit";
        /// How long to wait until it is ready, such as `30s` or `5m`
        start_timeout: Option<WaitLimit> as String, "TIME", "2m", rare;
        /// Stop it once nothing was asked of it for so long, such as `30m`, or `never`
        stop_when_idle: IdleLimit as String, "TIME", "never";
        /// Restart it when a file changes that matches, such as `src/**/*.py`; files that git ignores do not
        /// count
        restart_on: Vec<String> as Vec<String>, "GLOB", "none", rare;
        /// A file that it writes its log to, such as `log/*.log`, to be shown with its output
        log: Vec<String> as Vec<String>, "FILE", "none", rare;
        /// Run it in a terminal of its own, so that it prints colours, and each line at once
        terminal: Option<bool> as bool, "BOOL", "on", rare;
        /// A note about the app
        note: Option<String> as String, "TEXT", "none", rare;
    }
}

impl AppSettings {
    /// How long to wait until it is ready, where nothing was chosen: an app may compile first.
    pub const START_TIMEOUT: Duration = Duration::from_secs(120);

    /// The settings after a JSON merge patch (RFC 7396): `null` unsets, what is left out stays, and
    /// lists are replaced.
    ///
    /// # Errors
    /// Each unknown key, and each value that its setting does not accept.
    pub fn merged(&self, patch: &Map<String, Value>) -> Result<Self, Vec<Invalid>> {
        let mut patch = patch.clone();
        // As one writes them: `web,api`.
        if let Some(Value::Array(names)) = patch.get_mut("ports") {
            *names = names
                .iter()
                .flat_map(|entry| match entry.as_str() {
                    Some(text) => text.split(',').map(|name| name.trim().into()).collect(),
                    None => vec![entry.clone()],
                })
                .collect();
        }
        merged(self, &patch, Self::SETTINGS)
    }

    /// How long to wait until it is ready.
    #[must_use]
    pub fn start_limit(&self) -> Duration {
        self.start_timeout
            .map_or(Self::START_TIMEOUT, WaitLimit::duration)
    }

    /// Whether it runs in a terminal of its own.
    #[must_use]
    pub fn has_terminal(&self) -> bool {
        self.terminal.unwrap_or(true)
    }

    pub(super) fn check(&self) -> Result<(), Invalid> {
        let refuse = |field, reason: String| Err(Invalid::new(field, reason));
        if self.command.trim().is_empty() {
            return refuse("command", "say what to run".to_owned());
        }
        if self.command.contains('\0') {
            return refuse("command", "it has a zero byte".to_owned());
        }
        if !is_plain(&self.folder) {
            let reason = format!(
                "`{}` is not the whole path of a folder",
                self.folder.display()
            );
            return refuse("folder", reason);
        }
        if let Some(file) = self.env_file.iter().find(|file| !is_plain(file)) {
            let reason = format!("`{}` is not the whole path of a file", file.display());
            return refuse("env_file", reason);
        }
        let mut names = self.ports.clone();
        names.sort();
        if let Some(twice) = names.windows(2).find(|pair| pair[0] == pair[1]) {
            return refuse("ports", format!("`{}` is there twice", twice[0]));
        }
        Ok(())
    }
}

/// Whether a path starts at the root and has no `.` and `..`.
fn is_plain(path: &Path) -> bool {
    let plain = |part| matches!(part, Component::RootDir | Component::Normal(_));
    path.is_absolute() && path.components().all(plain)
}

words! {
    /// What starts an app.
    #[derive(Default)]
    StartWhen, "start" {
        /// The first request for it.
        #[default]
        Visit = "visit",
        /// The start of the service.
        Service = "service",
        /// A person alone.
        Manual = "manual",
    }
}

/// When an app is ready.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Ready {
    /// Once it listens.
    #[default]
    Port,
    /// Once it answers this path, with a status below 500.
    Path(String),
    /// Once it prints this text.
    Output(String),
}

impl fmt::Display for Ready {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Port => f.write_str("port"),
            Self::Path(path) => f.write_str(path),
            Self::Output(text) => write!(f, "output:{text}"),
        }
    }
}

impl FromStr for Ready {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let is_path = |text: &str| text.parse::<http::uri::PathAndQuery>().is_ok();
        match text.split_once(':') {
            _ if text == "port" => Ok(Self::Port),
            _ if text.starts_with('/') && is_path(text) => Ok(Self::Path(text.to_owned())),
            Some(("output", printed)) if !printed.is_empty() => {
                Ok(Self::Output(printed.to_owned()))
            }
            _ => {
                let reason = format!("`{text}` is none of `port`, a path and `output:TEXT`");
                Err(Invalid::new("ready", reason))
            }
        }
    }
}

/// After how long without a request an app is stopped.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum IdleLimit {
    /// Never.
    #[default]
    Never,
    /// After this time.
    After(Duration),
}

impl fmt::Display for IdleLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Never => f.write_str("never"),
            Self::After(time) => humantime::format_duration(*time).fmt(f),
        }
    }
}

impl FromStr for IdleLimit {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        const SHORTEST: Duration = Duration::from_secs(1);
        const LONGEST: Duration = Duration::from_secs(30 * 86_400);
        let refuse = |reason: String| Invalid::new("stop_when_idle", reason);
        if text == "never" {
            return Ok(Self::Never);
        }
        match humantime::parse_duration(text) {
            Ok(time) if !(SHORTEST..=LONGEST).contains(&time) => Err(refuse(format!(
                "`{text}` is not between 1s and 30 days; `never` sets no limit"
            ))),
            Ok(time) => Ok(Self::After(time)),
            Err(_) => Err(refuse(format!(
                "`{text}` is no time such as `30m`, and not `never`"
            ))),
        }
    }
}

/// A variable of an environment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

impl fmt::Display for Variable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}={}", self.name, self.value)
    }
}

impl FromStr for Variable {
    type Err = Invalid;

    /// Reads `NAME=VALUE`, with a name as POSIX has it (Base Definitions §8.1).
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let refuse = |reason: String| Invalid::new("env", reason);
        let Some((name, value)) = text.split_once('=') else {
            return Err(refuse(format!("`{text}` has no `=`: write NAME=VALUE")));
        };
        let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
        if name.is_empty()
            || name.starts_with(|c: char| c.is_ascii_digit())
            || !name.chars().all(is_part)
        {
            return Err(refuse(format!("`{name}` is no name of a variable")));
        }
        if value.contains('\0') {
            return Err(refuse(format!("the value of {name} has a zero byte")));
        }
        Ok(Self {
            name: name.to_owned(),
            value: value.to_owned(),
        })
    }
}

serde_by_text!(Ready, IdleLimit, Variable);

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    #[rstest]
    #[case(json!({ "ready": "/health", "stop_when_idle": "30m", "start": "service" }), None)]
    #[case(json!({ "ready": "output:Listening on" }), None)]
    #[case(json!({ "ports": ["web,api", "mail"] }), None)]
    #[case(json!({ "ready": "soon" }), Some("none of `port`, a path and `output:TEXT`"))]
    #[case(json!({ "start": "always" }), Some("unknown variant"))]
    #[case(json!({ "stop_when_idle": "0s" }), Some("not between 1s and 30 days"))]
    #[case(json!({ "env": ["A"] }), Some("has no `=`"))]
    #[case(json!({ "env": ["1A=x"] }), Some("no name of a variable"))]
    #[case(json!({ "port": 0 }), Some("nonzero"))]
    #[case(json!({ "ports": ["web api"] }), Some("no name of a port"))]
    #[case(json!({ "ports": ["web,web"] }), Some("is there twice"))]
    #[case(json!({ "command": " " }), Some("say what to run"))]
    #[case(json!({ "folder": "huts" }), Some("not the whole path"))]
    #[case(json!({ "folder": "/a/../etc" }), Some("not the whole path"))]
    #[case(json!({ "env_file": [".env"] }), Some("not the whole path"))]
    #[case(json!({ "colour": 1 }), Some("there is no setting `colour`"))]
    fn settings_are_checked(#[case] patch: Value, #[case] refusal: Option<&str>) {
        let base = json!({ "folder": "/srv/huts", "command": "npm run dev" });
        let [base, patch] = [base, patch].map(|it| it.as_object().cloned().unwrap());
        let base = AppSettings::default().merged(&base).unwrap();
        let outcome = base.merged(&patch).map_err(|all| all[0].clone());
        let outcome = outcome.and_then(|it| it.check().map(|()| it));
        match (outcome, refusal) {
            (Ok(_), None) => {}
            (Err(error), Some(part)) => assert!(error.to_string().contains(part), "{error}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }
}
