//! Apps that the service runs: how one is at a moment, and what is wrong with it.

use std::net::SocketAddr;

use bentlane_model::{AppName, Target};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use super::finding::Finding;
use super::fix::{Action, Fix};
use super::hop::Severity;
use super::judge::{in_words_rounded, moment};
use super::kind::FindingKind;

/// Lines of output that a finding shows.
const SHOWN_LINES: usize = 15;

/// What an app does at the moment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AppState {
    /// It does not run.
    #[default]
    Stopped,
    /// It was started, and is not ready.
    Starting,
    /// It is ready.
    Running,
    /// It is being stopped.
    Stopping,
    /// It ended by itself, or could not be started; it may be started again after a pause.
    Crashed,
    /// It crashed too often, and is not started again by itself.
    CrashLoop,
}

impl Finding {
    /// The app that a route leads to is not ready yet, as of the routes of a moment.
    #[must_use]
    pub fn app_not_ready_yet(target: &Target) -> Self {
        Self::of(
            FindingKind::AppStarting,
            format!("{} is not ready", target.describe()),
            Vec::new(),
            Fix::command("look how it is", "bentlane app list"),
        )
    }
}

impl AppState {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Stopped => "stopped",
            Self::Starting => "starting",
            Self::Running => "running",
            Self::Stopping => "stopping",
            Self::Crashed => "crashed",
            Self::CrashLoop => "crash loop",
        }
    }
}

/// Why an app does not run although it should.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum AppProblem {
    /// It ended with this code.
    Exited {
        /// The code.
        code: i32,
    },
    /// A signal ended it.
    Killed {
        /// Its name, such as `SIGSEGV`.
        signal: String,
    },
    /// It was not ready in time, and was stopped.
    NotReady {
        /// How long was waited, in words.
        limit: String,
        /// What was waited for, in words.
        waited_for: String,
    },
    /// The shell does not find the command.
    CommandMissing,
    /// Its folder is not there.
    FolderMissing,
    /// Another program has the port that was chosen for it.
    PortHeld {
        /// The port.
        port: u16,
        /// Who has it, where that is known.
        holder: Option<String>,
        /// Since when that program runs, where that is known.
        #[serde(
            default,
            with = "time::serde::rfc3339::option",
            skip_serializing_if = "Option::is_none"
        )]
        since: Option<OffsetDateTime>,
        /// The app that has it, if it is one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schema(value_type = Option<String>)]
        app: Option<AppName>,
    },
    /// The system did not start it.
    NotStarted {
        /// Why.
        reason: String,
    },
}

/// A file that was written since an app last started well.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ChangedFile {
    /// Its path below the app's folder.
    pub path: String,
    /// When it was written.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
}

/// An app, as it is at a moment.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AppStatus {
    /// Its name.
    #[schema(value_type = String)]
    pub name: AppName,
    /// What it does.
    pub state: AppState,
    /// Since when.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub since: Option<OffsetDateTime>,
    /// Whether the first request starts it.
    pub starts_on_visit: bool,
    /// What keeps it from running.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<AppProblem>,
    /// How often it crashed in a row.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub crashes: u32,
    /// When it is started again by itself.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub again_at: Option<OffsetDateTime>,
    /// What it runs.
    pub command: String,
    /// The folder that it runs in.
    pub folder: String,
    /// Its first process, while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// The port that it got in `PORT`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Where it listens.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub listens: Vec<SocketAddr>,
    /// Whether it runs in a terminal (`bentlane app run`).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub by_hand: bool,
    /// The last lines that it printed, without colours.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub output: Vec<String>,
    /// Folders of its log files that are not there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub logs_missing: Vec<String>,
    /// What changed below its folder since it last started well, the latest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed: Vec<ChangedFile>,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde passes references")]
fn is_zero(number: &u32) -> bool {
    *number == 0
}

impl AppProblem {
    /// What happened, in words that follow the app's name.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Exited { code: 0 } => "ended by itself (exit code 0)".to_owned(),
            Self::Exited { code } => format!("crashed with exit code {code}"),
            Self::Killed { signal } => format!("was ended by {signal}"),
            Self::NotReady { limit, waited_for } => {
                format!("was not ready within {limit}: {waited_for}")
            }
            Self::CommandMissing => "cannot be started: there is no such command".to_owned(),
            Self::FolderMissing => "cannot be started: its folder is not there".to_owned(),
            Self::PortHeld { port, holder, .. } => match holder {
                Some(holder) => {
                    format!("cannot be started: {holder} has its port {port}")
                }
                None => format!("cannot be started: something else has its port {port}"),
            },
            Self::NotStarted { reason } => format!("cannot be started: {reason}"),
        }
    }

    fn kind(&self) -> FindingKind {
        match self {
            Self::Exited { .. } | Self::Killed { .. } | Self::NotStarted { .. } => {
                FindingKind::AppCrashed
            }
            Self::NotReady { .. } => FindingKind::AppNotReady,
            Self::CommandMissing => FindingKind::AppCommandMissing,
            Self::FolderMissing => FindingKind::AppFolderMissing,
            Self::PortHeld { .. } => FindingKind::AppPortHeld,
        }
    }
}

impl AppStatus {
    /// Whether nothing is wrong with an app that does not run: a visit starts it.
    #[must_use]
    pub fn waits_for_a_visit(&self) -> bool {
        self.state == AppState::Stopped && self.starts_on_visit
    }

    /// What is wrong with it, whatever leads to it; with its last output for a terminal.
    #[must_use]
    pub fn findings(&self, now: OffsetDateTime, with_output: bool) -> Vec<Finding> {
        let has_crashed = matches!(self.state, AppState::Crashed | AppState::CrashLoop);
        let crash = has_crashed.then(|| self.finding(now, with_output));
        let hints = [self.listens_elsewhere(), self.log_missing()];
        crash
            .into_iter()
            .chain(hints.into_iter().flatten())
            .collect()
    }

    /// What keeps a request from it; with its last output for a terminal, and without for a page that
    /// shows that by itself.
    #[must_use]
    pub fn finding(&self, now: OffsetDateTime, with_output: bool) -> Finding {
        let name = &self.name;
        let restart = |text: &str| {
            let action = Action::StartApp {
                name: name.to_string(),
                again: true,
            };
            Fix::action(text, action)
        };
        let mut finding = match (self.state, &self.problem) {
            (AppState::Stopped, _) => {
                let action = Action::StartApp {
                    name: name.to_string(),
                    again: false,
                };
                let (text, severity) = match self.starts_on_visit {
                    true => ("visit it, or start it now", Severity::Hint),
                    false => ("start it", Severity::Error),
                };
                let fix = Fix::action(text, action);
                let summary = format!("the app {name} is stopped");
                Finding {
                    severity,
                    ..Finding::of(FindingKind::AppStopped, summary, Vec::new(), fix)
                }
            }
            (AppState::Starting | AppState::Running | AppState::Stopping, _) => Finding::of(
                FindingKind::AppStarting,
                match self.state {
                    AppState::Stopping => format!("the app {name} is being stopped"),
                    _ => format!("the app {name} is starting"),
                },
                Vec::new(),
                Fix::command(
                    "wait, or look at what it prints",
                    format!("bentlane app output {name} --follow"),
                ),
            ),
            (AppState::CrashLoop, problem) => Finding::of(
                FindingKind::AppCrashLoop,
                format!("the app {name} has crashed {} times in a row", self.crashes),
                problem
                    .iter()
                    .map(|problem| format!("the last time it {}", problem.in_words()))
                    .collect(),
                restart("fix the cause that its output shows, and start it again"),
            ),
            (AppState::Crashed, problem) => {
                let words = problem.as_ref().map(AppProblem::in_words);
                let words = words.unwrap_or_else(|| "crashed".to_owned());
                let kind = problem
                    .as_ref()
                    .map_or(FindingKind::AppCrashed, AppProblem::kind);
                let fix = match problem {
                    Some(AppProblem::CommandMissing | AppProblem::FolderMissing) => Fix::command(
                        "correct the command or the folder",
                        format!("bentlane app edit {name} --command COMMAND --folder DIR"),
                    ),
                    Some(AppProblem::PortHeld {
                        app: Some(other), ..
                    }) => Fix::command(
                        format!(
                            "stop the app {other}, or have another port assigned to one of them"
                        ),
                        format!("bentlane app stop {other}"),
                    ),
                    Some(AppProblem::PortHeld { .. }) => Fix::command(
                        "stop the other program, or have another port assigned to the app",
                        format!("bentlane app edit {name} --unset port"),
                    ),
                    Some(AppProblem::NotReady { .. }) => Fix::command(
                        "look at what it prints; another sign of being ready, or more time, may be what \
                         it needs",
                        format!("bentlane app edit {name} --ready WHEN --start-timeout TIME"),
                    ),
                    _ => restart("fix the cause that its output shows, and start it again"),
                };
                Finding::of(kind, format!("the app {name} {words}"), Vec::new(), fix)
            }
        };
        finding.evidence.extend(self.evidence(now, with_output));
        finding
    }

    fn evidence(&self, now: OffsetDateTime, with_output: bool) -> Vec<String> {
        let mut lines = vec![format!("it runs `{}` in {}", self.command, self.folder)];
        if let Some(AppProblem::PortHeld { since, .. }) = &self.problem {
            let since = since.map(|at| format!("it has run since {}: ", moment(at)));
            let since = since.unwrap_or_default();
            lines.push(format!(
                "{since}`bentlane port list` shows who has which port"
            ));
        }
        if let Some(since) = self.since {
            let ago = in_words_rounded(now - since);
            let state = self.state.as_str();
            lines.push(format!("{state} for {ago}, since {}", moment(since)));
        }
        if let Some(again) = self.again_at.filter(|again| *again > now) {
            let wait = (again - now).whole_seconds() + 1;
            lines.push(format!("it is started again in {wait} s"));
        }
        if matches!(self.state, AppState::Crashed | AppState::CrashLoop) {
            lines.extend(self.changed.iter().map(|file| {
                let ago = in_words_rounded(now - file.at);
                format!(
                    "{} was changed {ago} ago, after its last good start",
                    file.path
                )
            }));
        }
        if with_output {
            let skipped = self.output.len().saturating_sub(SHOWN_LINES);
            let shown = self.output.iter().skip(skipped);
            lines.extend(shown.map(|line| format!("| {line}")));
        }
        lines
    }

    /// A folder of its log files is not there.
    #[must_use]
    pub fn log_missing(&self) -> Option<Finding> {
        let folder = self.logs_missing.first()?;
        let name = &self.name;
        Some(Finding::of(
            FindingKind::AppLogMissing,
            format!("the app {name} has its log files in {folder}, which is not there"),
            Vec::new(),
            Fix::command(
                "make the folder, or name another",
                format!("bentlane app edit {name} --log FILE"),
            ),
        ))
    }

    /// It listens on another port than it got in `PORT`.
    #[must_use]
    pub fn listens_elsewhere(&self) -> Option<Finding> {
        let wanted = self.port?;
        let elsewhere = self.listens.iter().all(|at| at.port() != wanted);
        let at = self.listens.first().filter(|_| elsewhere)?;
        let (name, port) = (&self.name, at.port());
        Some(Finding::of(
            FindingKind::AppListensElsewhere,
            format!("the app {name} got {wanted} in PORT, and listens on port {port}"),
            vec![
                format!("requests are passed on to {at}"),
                format!("it runs `{}`", self.command),
            ],
            Fix::command(
                "hand the port over in the command, as its program takes it, such as `--port $PORT`",
                format!("bentlane app edit {name} --command COMMAND"),
            ),
        ))
    }
}
