//! The commands: each file holds a command's arguments and what it does with them.

pub(crate) mod authority;
pub(crate) mod cert;
pub(crate) mod check;
mod confirm;
pub(crate) mod console;
pub(crate) mod journal;
mod junit;
mod lanes;
pub(crate) mod record;
pub(crate) mod route;
mod route_keys;
pub(crate) mod serve;
pub(crate) mod status;
pub(crate) mod system;
pub(crate) mod trace;
pub(crate) mod traffic;
mod trust;
pub(crate) mod zone;

use std::future::Future;
use std::path::PathBuf;

use bentlane_service::{ConfigFile, LookFrom};

use crate::args::{Args, Command, Global};
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// Runs the command that was typed.
pub(crate) fn run(args: Args, output: &Output) -> Result<Answer, CliError> {
    let Args { global, command } = args;
    let settings = read_settings(&global)?;
    let data_dir = data_dir(&global, &settings)?;
    let client = || Client::open(&data_dir);
    match command {
        Command::Serve(serve) => serve.run(data_dir, settings, output),
        Command::Status(status) => wait(status.run(&client()?, output)),
        Command::Check(check) => wait(check.run(&client()?, &data_dir, output)),
        Command::LookFromHere => wait(look_from_here(output)),
        Command::Trace(trace) => wait(trace.run(&client()?, output)),
        Command::Zone(zone) => wait(zone.run(&client()?, output)),
        Command::Record(record) => wait(record.run(&client()?, output)),
        Command::Route(route) => wait(route.run(&client()?, output)),
        Command::Authority(authority) => wait(authority.run(&client()?, output)),
        Command::Cert(cert) => wait(cert.run(&client()?, output)),
        Command::System(system) => wait(system.run(client, &data_dir, output)),
        Command::Traffic(traffic) => wait(traffic.run(&client()?, output)),
        Command::Journal(journal) => wait(journal.run(&client()?, output)),
        Command::Console(console) => wait(console.run(&client()?, output)),
    }
}

/// Answers a question of the service's, which has entered another network for it.
async fn look_from_here(output: &Output) -> Result<Answer, CliError> {
    let question = std::io::read_to_string(std::io::stdin()).map_err(|source| CliError::Io {
        verb: "read the question".to_owned(),
        source,
    })?;
    let look: LookFrom = serde_json::from_str(&question).map_err(CliError::Answer)?;
    let seen = serde_json::to_string(&look.look().await).map_err(CliError::Answer)?;
    output.line(&seen)?;
    Ok(Answer::Yes)
}

fn wait<T>(work: impl Future<Output = Result<T, CliError>>) -> Result<T, CliError> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|source| CliError::Io {
            verb: "start the runtime".to_owned(),
            source,
        })?
        .block_on(work)
}

fn read_settings(global: &Global) -> Result<ConfigFile, CliError> {
    let path = match &global.config {
        Some(path) => path.clone(),
        None => match base_folder("XDG_CONFIG_HOME", ".config") {
            Some(folder) => folder.join("bentlane/config.toml"),
            None => return Ok(ConfigFile::default()),
        },
    };
    Ok(ConfigFile::read(&path, global.config.is_some())?)
}

fn data_dir(global: &Global, settings: &ConfigFile) -> Result<PathBuf, CliError> {
    if let Some(named) = global.data_dir.as_ref().or(settings.data_dir.as_ref()) {
        return Ok(named.clone());
    }
    // The database's own account has to reach the folder, and it cannot enter root's home.
    if rustix::process::geteuid().is_root() && std::env::var_os("XDG_DATA_HOME").is_none() {
        let of_root = PathBuf::from("/var/lib/bentlane");
        // Under sudo the service may well be that of the user who typed it.
        let of_user = trust::home().join(".local/share/bentlane");
        let is_users = std::env::var_os("SUDO_USER").is_some() && of_user.join("token").exists();
        return Ok(if is_users { of_user } else { of_root });
    }
    base_folder("XDG_DATA_HOME", ".local/share")
        .map(|folder| folder.join("bentlane"))
        .ok_or(CliError::NoHome)
}

/// A base folder as the XDG specification has it: named by `variable`, or below the home folder.
fn base_folder(variable: &str, below_home: &str) -> Option<PathBuf> {
    let absolute = |path: PathBuf| path.is_absolute().then_some(path);
    let named = std::env::var_os(variable)
        .map(PathBuf::from)
        .and_then(absolute);
    named.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(below_home)))
}
