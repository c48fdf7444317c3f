//! Carrying out what resolves a finding.

use std::io;
use std::path::Path;
use std::process::Stdio;

use bentlane_api_types::{AppView, RoutePatch, RouteView};
use bentlane_checks::Action;
use serde_json::{Map, Value, json};
use tokio::process::Command;

use super::settings::value_in_words;
use super::{authority, route};
use crate::client::{Client, segment};
use crate::error::CliError;

/// What `action` will change, a line each, before it does.
pub(super) async fn preview(client: &Client, action: &Action) -> Result<Vec<String>, CliError> {
    let Action::EditRoute {
        address,
        patch,
        add,
    } = action
    else {
        return Ok(vec![action.in_words()]);
    };
    let path = format!("/routes/{}", segment(address));
    let route: RouteView = client.get(&path).await?;
    let mut patch = patch.clone();
    bentlane_model::add_to_lists(&mut patch, add, &route.settings);
    let mut before = json!(route.settings);
    before["to"] = json!(route.to);
    let mut lines = Vec::new();
    differences("", &patch, &before, &mut lines);
    Ok(lines)
}

/// A line for each key that `patch` sets otherwise than it is.
fn differences(group: &str, patch: &Map<String, Value>, before: &Value, lines: &mut Vec<String>) {
    for (key, after) in patch {
        let before = &before[key];
        let key = format!("{group}{key}");
        match after {
            Value::Object(inner) => differences(&format!("{key}."), inner, before, lines),
            after if after == before => {}
            after => lines.push(format!(
                "{key}: {} → {}",
                value_in_words(before),
                value_in_words(after)
            )),
        }
    }
}

/// Does it, through the service; what takes root is run with sudo, and shows its own plan unless it
/// is `agreed` to.
pub(super) async fn carry_out(
    client: &Client,
    data_dir: &Path,
    action: &Action,
    agreed: bool,
) -> Result<(), CliError> {
    match action {
        Action::EditRoute {
            address,
            patch,
            add,
        } => {
            let mut settings = patch.clone();
            let to = settings.remove("to");
            let to = to.as_ref().and_then(Value::as_str).map(str::to_owned);
            let patch = RoutePatch { to, settings };
            route::change(client, address, patch, add).await.map(drop)
        }
        Action::AddRoute { address, to } => {
            let input = route::input(address, to.clone());
            client.post::<RouteView>("/routes", &input).await.map(drop)
        }
        Action::RemoveCert { name } => {
            let path = format!("/certificates/imported/{}", segment(name));
            client.delete(&path).await
        }
        Action::StartApp { name, again } => {
            let verb = if *again { "restart" } else { "start" };
            let path = format!("/apps/{}/{verb}?wait=true", segment(name));
            client.post::<AppView>(&path, &()).await.map(drop)
        }
        Action::RotateAuthority => {
            let asked = authority::PassphraseFrom::default();
            authority::rotate(client, &asked).await.map(drop)
        }
        Action::SystemAttach { .. } => attach(action, data_dir, agreed).await,
    }
}

async fn attach(action: &Action, data_dir: &Path, agreed: bool) -> Result<(), CliError> {
    let failed = |source| CliError::Io {
        verb: format!("run `{}`", action.command()),
        source,
    };
    let program = std::env::current_exe().map_err(failed)?;
    let mut running = match rustix::process::geteuid().is_root() {
        true => Command::new(program),
        false => {
            let mut sudo = Command::new("sudo");
            sudo.arg("--preserve-env=BENTLANE_DATA_DIR").arg(program);
            sudo
        }
    };
    running.args(action.arguments());
    if agreed {
        running.arg("--yes");
    }
    // It is for the service that was asked, whichever way that was named.
    running.env("BENTLANE_DATA_DIR", data_dir);
    running.stdout(Stdio::null());
    let status = running.status().await.map_err(failed)?;
    if status.success() || status.code() == Some(1) {
        return Ok(());
    }
    Err(failed(io::Error::other(format!("it ended with {status}"))))
}
