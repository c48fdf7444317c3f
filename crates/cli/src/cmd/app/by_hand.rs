//! Apps in this terminal, under the name that they have.

use std::path::PathBuf;
use std::process::ExitStatus;

use bentlane_api_types::{AppByHand, AppInput, AppView, ByHandInput, Zones};
use bentlane_model::AppName;
use clap::Args;
use serde_json::{Value, json};
use tokio::process::Command;
use tokio::signal::unix::{SignalKind, signal};

use super::super::route;
use crate::client::{Client, segment};
use crate::error::{Answer, CliError};
use crate::output::Output;

/// `bentlane app try`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane app try -- npm run dev
  bentlane app try --route shop.moor.test -- python3 -m http.server '$PORT'")]
pub(crate) struct Try {
    /// The name to have it under [default: that of the folder, in the first zone]
    #[arg(long, value_name = "ADDRESS")]
    route: Option<String>,
    /// The command, with `$PORT` for its port
    #[arg(required = true, last = true, value_name = "COMMAND")]
    command: Vec<String>,
}

impl Try {
    pub(super) async fn run(self, client: &Client, output: &Output) -> Result<Answer, CliError> {
        let folder = std::env::current_dir().map_err(|source| CliError::Io {
            verb: "find this folder".to_owned(),
            source,
        })?;
        let of_folder = folder.file_name().and_then(|name| name.to_str());
        let name = of_folder.and_then(AppName::like);
        let name = name.map_or_else(|| "app".to_owned(), |name| name.to_string());
        let name = format!("{name}-try");
        let address = match self.route {
            Some(address) => address,
            None => free_address(client, &folder).await?,
        };
        let settings = json!({
            "folder": folder, "command": in_a_shell(&self.command), "start": "manual",
            "note": "for as long as `bentlane app try` runs",
        });
        let Value::Object(settings) = settings else {
            return Ok(Answer::No);
        };
        let input = AppInput {
            name: name.clone(),
            settings,
            routes: vec![route::input(&address, String::new())],
        };
        let _: AppView = client.post("/apps", &input).await?;
        let outcome = run(client, output, &name).await;
        let path = format!("/apps/{}?with_routes=true", segment(&name));
        client.delete(&path).await?;
        outcome
    }
}

/// Words for a shell: quoted, but for the port.
fn in_a_shell(words: &[String]) -> String {
    if let [line] = words {
        return line.clone();
    }
    let quoted = words.iter().map(|word| match word.contains("$PORT") {
        true => format!("\"{}\"", word.replace(['"', '`', '\\'], "")),
        false => bentlane_checks::shell(&[word]),
    });
    quoted.collect::<Vec<_>>().join(" ")
}

/// A name for the folder that no route has yet.
async fn free_address(client: &Client, folder: &std::path::Path) -> Result<String, CliError> {
    let zones: Zones = client.get("/zones").await?;
    let Some(zone) = zones.zones.first() else {
        return Err(CliError::Value {
            field: "--route",
            reason: "there is no zone yet: add one with `bentlane zone add NAME`".to_owned(),
        });
    };
    let of_folder = folder.file_name().and_then(|name| name.to_str());
    let label = of_folder.and_then(AppName::like);
    let label = label.map_or_else(|| "app".to_owned(), |label| label.to_string());
    super::propose::free_address(client, &label, &zone.name).await
}

/// Runs an app in this terminal until it ends.
pub(super) async fn run(client: &Client, output: &Output, name: &str) -> Result<Answer, CliError> {
    let path = format!("/apps/{}/by-hand", segment(name));
    let AppByHand {
        command,
        folder,
        environment,
        mark,
    } = client.get(&path).await?;
    let failed = |source| CliError::Io {
        verb: format!("run `{command}`"),
        source,
    };
    // Ctrl-C is for the app, which has this terminal; we end when it does.
    let mut ignored = Vec::new();
    for kind in [SignalKind::interrupt(), SignalKind::quit()] {
        ignored.push(signal(kind).map_err(failed)?);
    }
    let mut child = Command::new("/bin/sh")
        .arg("-c")
        .arg(&command)
        .env_clear()
        .envs(environment)
        // This is another terminal than the one that the service gives it.
        .envs(std::env::vars_os().filter(|(name, _)| name == "TERM" || name == "COLORTERM"))
        .current_dir(PathBuf::from(folder))
        .spawn()
        .map_err(failed)?;
    let pid = child.id().and_then(|pid| i32::try_from(pid).ok());
    if let Some(pid) = pid {
        let taken: Result<AppView, CliError> = client.put(&path, &ByHandInput { pid, mark }).await;
        match taken {
            Ok(app) => {
                for route in &app.routes {
                    output.say(&format!("{} leads here until it ends", route.url));
                }
            }
            Err(error) => output.error(&error),
        }
    }
    let status = child.wait().await.map_err(failed)?;
    drop(ignored);
    Ok(answer_of(status))
}

fn answer_of(status: ExitStatus) -> Answer {
    match status.success() {
        true => Answer::Yes,
        false => Answer::No,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_become_a_line_for_a_shell() {
        let line = |words: &[&str]| {
            let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
            in_a_shell(&words)
        };
        assert_eq!(line(&["npm", "run", "dev"]), "npm run dev");
        assert_eq!(
            line(&["npm run dev -- --port $PORT"]),
            "npm run dev -- --port $PORT"
        );
        assert_eq!(
            line(&["a", "x y", "--port=$PORT"]),
            "a 'x y' \"--port=$PORT\""
        );
    }
}
