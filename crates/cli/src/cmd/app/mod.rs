mod add;
mod by_hand;
mod output;
pub(super) mod propose;

use bentlane_api_types::{AppEnvironment, AppList, AppView};
use bentlane_checks::{AppState, AppStatus};
use bentlane_model::{AppSettings, Variable};
use bentlane_service::is_secret;
use clap::{Args, Subcommand};
use serde_json::{Map, Value};
use time::OffsetDateTime;

use super::settings::{self, Changes};
use super::{finding_in_words, printable};
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::input::whole_path;
use crate::output::{Output, Style, busy, table};

/// Characters of the column of settings.
const SETTING_WIDTH: usize = 16;

/// `bentlane app`
#[derive(Debug, Subcommand)]
pub(crate) enum App {
    /// Add an app: a command that the first visit starts
    Add(Box<add::Add>),
    /// List the apps, how each is, and where
    List(List),
    /// Show one app: how it is, its settings, its routes
    Show(Show),
    /// Change what an app runs, and when
    Edit(Box<Edit>),
    /// Start an app, and wait until it is ready
    Start(Named),
    /// Stop an app
    Stop(Named),
    /// Stop an app if it runs, and start it again
    Restart(Named),
    /// Print what an app has printed
    Output(output::ReadOutput),
    /// Run an app in this terminal instead of in the service
    Run(Named),
    /// Run a command in this terminal under a name, for as long as it runs
    Try(by_hand::Try),
    /// Remove an app
    Remove(Remove),
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app list
  bentlane app list --format json | jq -r '.apps[] | select(.status.state == \"crashed\") | .name'")]
pub(crate) struct List {}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app show booking
  bentlane app show booking --env          the variables that it gets, secrets hidden")]
pub(crate) struct Show {
    /// The app
    name: String,
    /// Show its environment instead
    #[arg(long)]
    env: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app edit booking --command 'npm run dev -- --port $PORT'
  bentlane app edit booking --stop-when-idle 30m
  bentlane app edit booking --start manual              only `app start` starts it
  bentlane app edit booking --restart-on 'src/**/*.py'
  bentlane app edit booking --unset port                have a port assigned again
  bentlane app edit booking --refresh-environment       after a change of your shell's files")]
pub(crate) struct Edit {
    /// The app
    name: String,
    #[command(flatten)]
    changes: Changes<AppSettings>,
    /// Read the environment from your login shell again
    #[arg(long)]
    refresh_environment: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app start booking
  bentlane app restart booking
  bentlane app run booking            in this terminal: with input, colours and Ctrl-C
  bentlane app stop booking")]
pub(crate) struct Named {
    /// The app
    name: String,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app remove booking
  bentlane app remove booking --with-routes")]
pub(crate) struct Remove {
    /// The app
    name: String,
    /// Also remove the routes that lead to it
    #[arg(long)]
    with_routes: bool,
}

impl App {
    pub(crate) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        match self {
            Self::Add(add) => add.run(client, output).await,
            Self::List(List {}) => {
                let list: AppList = client.get("/apps").await?;
                if list.apps.is_empty() && output.is_table() {
                    output
                        .say("there is no app yet: add one in its folder with `bentlane app add`");
                    return Ok(Answer::Yes);
                }
                output.data(&list, |list| in_rows(&list.apps))?;
                Ok(Answer::Yes)
            }
            Self::Show(show) => show.run(client, output).await,
            Self::Edit(edit) => edit.run(client, output).await,
            Self::Start(Named { name }) => act(client, output, &name, "start").await,
            Self::Stop(Named { name }) => act(client, output, &name, "stop").await,
            Self::Restart(Named { name }) => act(client, output, &name, "restart").await,
            Self::Output(read) => read.run(client, output).await,
            Self::Run(Named { name }) => by_hand::run(client, output, &name).await,
            Self::Try(attempt) => attempt.run(client, output).await,
            Self::Remove(Remove { name, with_routes }) => {
                let path = format!("/apps/{}?with_routes={with_routes}", segment(&name));
                client.delete(&path).await?;
                output.say(&format!("removed the app {name}"));
                Ok(Answer::Yes)
            }
        }
    }
}

impl Show {
    async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let path = format!("/apps/{}", segment(&self.name));
        if self.env {
            let environment: AppEnvironment = client.get(&format!("{path}/environment")).await?;
            output.data(&environment, |environment| {
                let variables = environment.variables.iter();
                let line = variables.map(|variable| {
                    let value = variable.value.as_deref().unwrap_or("***");
                    format!("{}={}", variable.name, printable(value))
                });
                line.collect::<Vec<_>>().join("\n")
            })?;
            return Ok(Answer::Yes);
        }
        let app: AppView = client.get(&path).await?;
        output.data(&app, |app| describe(output, app))?;
        Ok(answer_of(&app))
    }
}

impl Edit {
    async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let path = format!("/apps/{}", segment(&self.name));
        let patch = whole_paths(self.changes.patch()?)?;
        if patch.is_empty() && !self.refresh_environment {
            return Err(CliError::Value {
                field: "app edit",
                reason: "say what to change: see `bentlane app edit --help`".to_owned(),
            });
        }
        if self.refresh_environment {
            let _reading = busy("asking your login shell");
            let read: AppEnvironment = client.post(&format!("{path}/environment"), &()).await?;
            output.say(&format!(
                "read {} variables from your login shell",
                read.variables.len()
            ));
        }
        let app: AppView = match patch.is_empty() {
            true => client.get(&path).await?,
            false => client.patch(&path, &patch).await?,
        };
        output.data(&app, |app| describe(output, app))?;
        if matches!(app.status.state, AppState::Starting | AppState::Running) {
            output.say(&format!(
                "it goes on as it was started; `bentlane app restart {}` has it use this",
                self.name
            ));
        }
        Ok(Answer::Yes)
    }
}

/// Starts, stops or restarts an app, and shows what came of it.
async fn act(
    client: &Client,
    output: &Output,
    name: &str,
    verb: &'static str,
) -> Result<Answer, CliError> {
    let path = format!("/apps/{}/{verb}?wait=true", segment(name));
    let waiting = busy(match verb {
        "stop" => "stopping",
        _ => "waiting until it is ready",
    });
    let app: AppView = client.post(&path, &()).await?;
    drop(waiting);
    output.data(&app, |app| in_short(output, app))?;
    match verb {
        "stop" => Ok(Answer::Yes),
        _ => Ok(answer_of(&app)),
    }
}

/// Whether nothing is wrong with it.
fn answer_of(app: &AppView) -> Answer {
    match app.status.state {
        AppState::Crashed | AppState::CrashLoop => Answer::No,
        _ => Answer::Yes,
    }
}

/// Files and folders by their whole paths: the service has another working folder.
fn whole_paths(mut patch: Map<String, Value>) -> Result<Map<String, Value>, CliError> {
    let whole = |text: &mut String| {
        *text = whole_path(text.as_ref())?
            .canonicalize()
            .map_err(|source| CliError::Io {
                verb: format!("find {text}"),
                source,
            })?
            .display()
            .to_string();
        Ok::<_, CliError>(())
    };
    if let Some(Value::String(folder)) = patch.get_mut("folder") {
        whole(folder)?;
    }
    if let Some(Value::Array(files)) = patch.get_mut("env_file") {
        for file in files {
            if let Value::String(file) = file {
                whole(file)?;
            }
        }
    }
    Ok(patch)
}

fn in_rows(apps: &[AppView]) -> String {
    let heading = ["APP", "STATE", "SINCE", "AT", "COMMAND", "VISIT"];
    let now = OffsetDateTime::now_utc();
    let rows = apps.iter().map(|app| {
        let AppStatus {
            state,
            since,
            listens,
            by_hand,
            ..
        } = &app.status;
        let since = since.filter(|_| *state != AppState::Stopped);
        let at = listens.first().map(ToString::to_string);
        let port = || app.ports.values().next().map(|port| format!("port {port}"));
        [
            app.name.clone(),
            match by_hand {
                true => format!("{} by hand", state.as_str()),
                false => state.as_str().to_owned(),
            },
            since.map(|since| ago(now - since)).unwrap_or_default(),
            at.or_else(port).unwrap_or_default(),
            printable(&app.settings.command),
            app.routes
                .first()
                .map(|route| route.url.clone())
                .unwrap_or_default(),
        ]
    });
    table(heading, rows.collect())
}

/// A time that has passed, in its largest unit.
fn ago(time: time::Duration) -> String {
    let seconds = time.whole_seconds().max(0);
    match seconds {
        0..60 => format!("{seconds} s"),
        60..3600 => format!("{} min", seconds / 60),
        3600..86_400 => format!("{} h", seconds / 3600),
        _ => format!("{} d", seconds / 86_400),
    }
}

/// An app in a line or two, with what is wrong with it.
fn in_short(output: &Output, app: &AppView) -> String {
    let status = &app.status;
    let state = paint_state(output, status.state);
    let mut lines = vec![format!(
        "{} is {state}",
        output.paint(Style::Strong, &app.name)
    )];
    if let Some(at) = status.listens.first() {
        lines[0].push_str(&format!(" at {at}"));
    }
    lines.extend(app.routes.iter().map(|route| route.url.clone()));
    lines.extend(
        status
            .findings(OffsetDateTime::now_utc(), true)
            .iter()
            .map(|finding| finding_in_words(output, finding)),
    );
    lines.join("\n")
}

fn paint_state(output: &Output, state: AppState) -> String {
    let style = match state {
        AppState::Running => Style::Passing,
        AppState::Crashed | AppState::CrashLoop => Style::Broken,
        AppState::Stopped | AppState::Starting | AppState::Stopping => Style::Muted,
    };
    output.paint(style, state.as_str())
}

fn describe(output: &Output, app: &AppView) -> String {
    let muted = |text: &str| output.paint(Style::Muted, &format!("{text:<SETTING_WIDTH$}"));
    let mut lines = vec![in_short(output, app), String::new()];
    if let Some(pid) = app.status.pid {
        lines.push(format!("{} {pid}", muted("process")));
    }
    for (name, port) in &app.ports {
        let name = match name.as_str() {
            "" => "port".to_owned(),
            name => format!("port {name}"),
        };
        lines.push(format!("{} {port}", muted(&name)));
    }
    for (key, value) in settings::in_words(&app.settings) {
        if key == "env" {
            let shown = app.settings.env.iter().map(shown_variable);
            let shown = shown.collect::<Vec<_>>().join(", ");
            lines.push(format!("{} {}", muted(&key), printable(&shown)));
        } else if key != "port" && key != "ports" {
            lines.push(format!("{} {}", muted(&key), printable(&value)));
        }
    }
    let output_command = format!("bentlane app output {}", app.name);
    lines.push(format!("{} {output_command}", muted("output")));
    lines.join("\n")
}

/// A variable, without its value when that is a secret.
fn shown_variable(variable: &Variable) -> String {
    let Variable { name, value } = variable;
    match is_secret(name, value) {
        true => format!("{name}=***"),
        false => variable.to_string(),
    }
}
