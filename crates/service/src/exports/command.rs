use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::{ExitStatus, Stdio};
use std::time::Duration;

use bentlane_system::Folder;
use nix::unistd::{Uid, User};
use rustix::process::{Pid, Signal, kill_process_group};
use tokio::io::{AsyncRead, AsyncReadExt, copy, sink};
use tokio::process::Command;
use tokio::time::timeout;

/// How long a command may take.
const TIME_LIMIT: Duration = Duration::from_secs(60);
/// How long to wait for the rest of its output after its end.
const OUTPUT_TIME_LIMIT: Duration = Duration::from_secs(1);
/// The most bytes of its output that are kept.
const OUTPUT_LIMIT: u64 = 16 * 1024;
/// The `PATH` of a command.
const COMMAND_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// Runs a shell command in a folder, as the folder's owner and with a clean environment, so that a user
/// who may write to the folder gains nothing by it. Returns the exit status and the start of what the
/// command wrote to standard error.
pub(super) async fn run_as_owner(
    folder: &Path,
    command: &str,
) -> Result<(ExitStatus, String), String> {
    let handle = Folder::open(folder).map_err(|error| format!("is not run: {error}"))?;
    let (uid, gid) = handle.owner();
    let own = rustix::process::geteuid();
    let user = User::from_uid(Uid::from_raw(uid)).ok().flatten();
    let name = user
        .as_ref()
        .map_or_else(|| uid.to_string(), |user| user.name.clone());
    let home = user.map_or_else(|| PathBuf::from("/"), |user| user.dir);
    let mut shell = Command::new("/bin/sh");
    shell
        .args(["-c", command])
        .current_dir(folder)
        .env_clear()
        .envs([
            ("PATH", OsStr::new(COMMAND_PATH)),
            ("HOME", home.as_os_str()),
        ])
        .envs([("USER", &*name), ("LOGNAME", &*name), ("SHELL", "/bin/sh")])
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .kill_on_drop(true);
    if own.is_root() {
        // The standard library clears the supplementary groups with the user.
        shell.uid(uid).gid(gid);
    } else if uid != own.as_raw() {
        return Err(format!(
            "is not run: it would run as the owner of the folder, {name}, and the service is another \
             user's"
        ));
    }
    let mut child = shell
        .spawn()
        .map_err(|cause| format!("cannot be run: {cause}"))?;
    let group = child
        .id()
        .and_then(|id| Pid::from_raw(i32::try_from(id).ok()?));
    let (out, err) = (child.stdout.take(), child.stderr.take());
    // Both are read, so that the command never blocks on a full pipe.
    drop(tokio::spawn(read_start(out)));
    let output = tokio::spawn(read_start(err));
    match timeout(TIME_LIMIT, child.wait()).await {
        Ok(Ok(status)) => {
            // A process that it left in the background may still hold the pipe open.
            let output = timeout(OUTPUT_TIME_LIMIT, output).await;
            Ok((status, output.ok().and_then(Result::ok).unwrap_or_default()))
        }
        Ok(Err(cause)) => Err(format!("cannot be waited for: {cause}")),
        Err(_) => {
            if let Some(group) = group {
                // It may have ended by now.
                let _ = kill_process_group(group, Signal::KILL);
            }
            Err(format!("took more than {} s", TIME_LIMIT.as_secs()))
        }
    }
}

/// Reads the start of a command's output; the rest is read and dropped.
async fn read_start(stream: Option<impl AsyncRead + Unpin>) -> String {
    let mut output = Vec::new();
    if let Some(mut stream) = stream {
        // A read error shows in the exit status.
        let _ = (&mut stream)
            .take(OUTPUT_LIMIT)
            .read_to_end(&mut output)
            .await;
        let _ = copy(&mut stream, &mut sink()).await;
    }
    String::from_utf8_lossy(&output).into_owned()
}
