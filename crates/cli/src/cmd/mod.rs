//! The commands: each file holds a command's arguments and what it does with them.

pub(crate) mod app;
pub(crate) mod args;
pub(crate) mod authority;
mod backup;
pub(crate) mod cert;
pub(crate) mod check;
mod confirm;
pub(crate) mod console;
pub(crate) mod container;
mod fix;
pub(crate) mod from_container;
mod ignored;
pub(crate) mod journal;
mod junit;
mod lanes;
mod machine;
pub(crate) mod port;
pub(crate) mod project;
pub(crate) mod record;
mod restart;
mod restore;
pub(crate) mod route;
mod running;
pub(crate) mod serve;
mod settings;
pub(crate) mod setup;
pub(crate) mod status;
pub(crate) mod system;
pub(crate) mod trace;
pub(crate) mod traffic;
mod trust;
pub(crate) mod undo;
pub(crate) mod zone;

use std::future::Future;
use std::path::PathBuf;

use bentlane_checks::Finding;
use bentlane_service::ServiceSettings;

use crate::account::Account;
use crate::client::Client;
use crate::error::{Answer, CliError};
use crate::output::{Output, Style};
use args::{Args, Command, Global};

/// Runs the command that was typed.
/// `typed` are its words, for the journal.
pub(crate) fn run(args: Args, typed: &str, output: &Output) -> Result<Answer, CliError> {
    let Args { global, command } = args;
    if let Some(Command::Serve(serve)) = command {
        return run_service(*serve, &global, output);
    }
    let settings = read_settings(&global, base_folder("XDG_CONFIG_HOME", ".config"))?;
    let data_dir = data_dir(&global, &settings)?;
    let client = || Client::open(&data_dir, typed);
    let Some(command) = command else {
        return wait(status::overview(&client()?, output));
    };
    match command {
        // Above.
        Command::Serve(_) => Ok(Answer::Yes),
        Command::Setup(setup) => wait(setup.run(typed, &data_dir, output)),
        Command::Status(status) => wait(status.run(&client()?, output)),
        Command::Check(check) => wait(check.run(&client()?, &data_dir, output)),
        Command::LookFromHere(look) => wait(look.run(output)),
        Command::Trace(trace) => wait(trace.run(&client()?, output)),
        Command::Zone(zone) => wait(zone.run(&client()?, output)),
        Command::Record(record) => wait(record.run(&client()?, output)),
        Command::Route(route) => wait(route.run(&client()?, output)),
        Command::App(app) => wait(app.run(&client()?, output)),
        Command::Container(container) => wait(container.run(&client()?, output)),
        Command::Project(project) => wait(project.run(&client()?, output)),
        Command::Port(port) => wait(port.run(client, output)),
        Command::Authority(authority) => wait(authority.run(&client()?, output)),
        Command::Cert(cert) => wait(cert.run(&client()?, output)),
        Command::System(system) => wait(system.run(client, &data_dir, output)),
        Command::Traffic(traffic) => wait(traffic.run(&client()?, output)),
        Command::Journal(journal) => wait(journal.run(&client()?, output)),
        Command::Restart(restart) => wait(restart.run(&client()?, output)),
        Command::Backup(backup) => wait(backup.run(&client()?, output)),
        Command::Restore(restore) => wait(restore.run(&client()?, output)),
        Command::Undo(undo) => wait(undo.run(&client()?, &data_dir, output)),
        Command::Console(console) => wait(console.run(&client()?, output)),
    }
}

/// A finding with its evidence and its fix, for below what it is about.
pub(crate) fn finding_in_words(output: &Output, finding: &Finding) -> String {
    let mut lines = vec![format!("\n{} ({})", finding.summary, finding.slug.slug())];
    lines.extend(finding.evidence.iter().map(|line| format!("  {line}")));
    lines.push(format!("Fix: {}", finding.fix.text));
    if let Some(command) = &finding.fix.command {
        lines.push(format!("  {}", output.paint(Style::Strong, command)));
    }
    lines.join("\n")
}

/// Without control characters, with which a value could overwrite what a terminal shows.
pub(crate) fn printable(text: &str) -> String {
    text.replace(char::is_control, "\u{fffd}")
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

/// Runs the service, as the user who called sudo when root starts it.
fn run_service(serve: serve::Serve, global: &Global, output: &Output) -> Result<Answer, CliError> {
    if let Some(account) = serve.account()? {
        let folder = account.home.join(".config");
        let settings = || read_settings(global, Some(folder));
        let data_dir = global.data_dir.as_deref();
        return serve.run_as(&account, settings, data_dir, output);
    }
    let settings = read_settings(global, base_folder("XDG_CONFIG_HOME", ".config"))?;
    let data_dir = data_dir(global, &settings)?;
    serve.run(data_dir, settings, output)
}

/// The settings, from the file that was named or the one in the folder of the user's settings.
fn read_settings(global: &Global, folder: Option<PathBuf>) -> Result<ServiceSettings, CliError> {
    let path = match &global.config {
        Some(path) => path.clone(),
        None => match folder {
            Some(folder) => folder.join("bentlane/config.toml"),
            None => return Ok(ServiceSettings::default()),
        },
    };
    Ok(ServiceSettings::read(&path, global.config.is_some())?)
}

fn data_dir(global: &Global, settings: &ServiceSettings) -> Result<PathBuf, CliError> {
    if let Some(named) = global.data_dir.as_ref().or(settings.data_dir.as_ref()) {
        return Ok(named.clone());
    }
    // Under sudo it is about the service of the user who typed it, unless only root has one.
    let of_root = PathBuf::from("/var/lib/bentlane");
    if let Some(account) = Account::behind_sudo() {
        let of_user = account.home.join(".local/share/bentlane");
        let is_roots = !of_user.exists() && of_root.join("api.sock").exists();
        return Ok(if is_roots { of_root } else { of_user });
    }
    if rustix::process::geteuid().is_root() && std::env::var_os("XDG_DATA_HOME").is_none() {
        return Ok(of_root);
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
