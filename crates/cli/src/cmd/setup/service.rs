//! Starting the service for the first time, and stopping it again.

use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use bentlane_api_types::Status;
use rustix::process::{Pid, Signal, kill_process, test_kill_process};
use tokio::time::sleep;

use crate::client::Client;
use crate::error::CliError;
use crate::output::Output;

/// A service that makes its database first needs some seconds.
const PATIENCE: Duration = Duration::from_secs(90);
const LOOK_AGAIN: Duration = Duration::from_millis(100);

/// Starts the service in the background, on the standard ports where this is root.
pub(super) async fn start(
    typed: &str,
    data_dir: &Path,
    output: &Output,
) -> Result<Client, CliError> {
    output.say("starting the service …");
    let failed = |source| CliError::Io {
        verb: "start the service".to_owned(),
        source,
    };
    let program = std::env::current_exe().map_err(failed)?;
    let mut command = Command::new(program);
    command.arg("serve").arg("--data-dir").arg(data_dir);
    if !nix::unistd::geteuid().is_root() {
        command.arg("--high-ports");
    }
    command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    // Ctrl-C on this command is not for the service.
    command.process_group(0);
    let mut service = command.spawn().map_err(failed)?;
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        if let Ok(client) = Client::open(data_dir, typed)
            && client
                .get::<Status>("/status")
                .await
                .is_ok_and(|it| it.database.reachable)
        {
            return Ok(client);
        }
        if service.try_wait().map_err(failed)?.is_some() {
            break;
        }
        sleep(LOOK_AGAIN).await;
    }
    Err(CliError::NotStarted)
}

/// Stops the service, as Ctrl-C would. The process that it names has to be its user's: root stops
/// nothing else, whatever a service says.
pub(super) async fn stop(client: &Client, data_dir: &Path) -> Result<(), CliError> {
    let status: Status = client.get("/status").await?;
    let failed = |source| CliError::Io {
        verb: format!("stop process {}", status.pid),
        source,
    };
    let owner = |path: &Path| std::fs::metadata(path).map(|it| it.uid());
    let process = Path::new("/proc").join(status.pid.to_string());
    let users = owner(&process).map_err(failed)? == owner(data_dir).map_err(failed)?;
    let pid = i32::try_from(status.pid)
        .ok()
        .filter(|pid| users && *pid > 1);
    let Some(pid) = pid.and_then(Pid::from_raw) else {
        let reason = "it is not a process of the service's user";
        return Err(failed(std::io::Error::other(reason)));
    };
    kill_process(pid, Signal::TERM).map_err(|cause| failed(cause.into()))?;
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE && test_kill_process(pid).is_ok() {
        sleep(LOOK_AGAIN).await;
    }
    Ok(())
}

/// Waits until the unit's service answers; a question starts it.
pub(super) async fn wait_for(data_dir: &Path, output: &Output) -> Result<(), CliError> {
    output.say("waiting for systemd to start the service …");
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        let _ = tokio::net::TcpStream::connect("127.0.0.1:443").await;
        if let Ok(client) = Client::open(data_dir, "setup")
            && client.get::<Status>("/status").await.is_ok()
        {
            return Ok(());
        }
        sleep(LOOK_AGAIN).await;
    }
    Err(CliError::NotStarted)
}
