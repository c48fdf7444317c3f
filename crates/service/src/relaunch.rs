//! Starting again in place: the process executes its program once more with the sockets that it has,
//! so that no connection is refused, and the database server goes on.

use std::ffi::OsString;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use bentlane_store::Guard;
use rustix::process::Pid;
use tokio::process::Command;
use tokio::time::timeout;

/// What runs while the file at its path may be another one.
const RUNNING: &str = "/proc/self/exe";
/// How long the program may take to check its settings.
const CHECK_LIMIT: Duration = Duration::from_secs(10);

/// The program of this process, and how it was started.
#[derive(Clone, Debug)]
pub struct Relaunch {
    program: PathBuf,
    args: Vec<OsString>,
}

/// What a process that starts again leaves to itself.
#[derive(Debug)]
pub struct Handover {
    /// Every socket that it listens on.
    pub sockets: Vec<OwnedFd>,
    /// The guard of the private database server, and the socket whose end stops that.
    pub database: Option<(Pid, OwnedFd)>,
}

impl Handover {
    pub(crate) fn new(sockets: Vec<OwnedFd>, guard: Option<Guard>) -> Self {
        Self {
            sockets,
            database: guard.and_then(Guard::hand_over),
        }
    }
}

impl Relaunch {
    /// That of this process. To be called before its file can have been replaced.
    ///
    /// # Errors
    /// When the system does not say which file it is.
    pub fn of_this_process() -> io::Result<Self> {
        Ok(Self {
            program: std::env::current_exe()?,
            args: std::env::args_os().skip(1).collect(),
        })
    }

    /// The file to execute: what is at the program's path now, such as a newer version, or else what
    /// runs already.
    #[must_use]
    pub fn program(&self) -> &Path {
        match self.program.is_file() {
            true => &self.program,
            false => Path::new(RUNNING),
        }
    }

    /// The arguments, without the program's name.
    #[must_use]
    pub fn args(&self) -> &[OsString] {
        &self.args
    }

    /// Whether the program would start with these arguments and the settings file of now.
    ///
    /// # Errors
    /// The reason why it would not.
    pub(crate) async fn check(&self) -> Result<(), String> {
        let mut command = Command::new(self.program());
        command
            .args(&self.args)
            .arg("--check")
            .stdin(Stdio::null())
            .kill_on_drop(true);
        let path = self.program().display();
        let output = timeout(CHECK_LIMIT, command.output())
            .await
            .map_err(|_| format!("{path} did not check its settings in time"))?
            .map_err(|cause| format!("{path} cannot be run: {cause}"))?;
        if output.status.success() {
            return Ok(());
        }
        let said = String::from_utf8_lossy(&output.stderr);
        let said = said.trim();
        Err(match said.strip_prefix("bentlane: ").unwrap_or(said) {
            "" => format!("{path} gave no reason"),
            reason => reason.to_owned(),
        })
    }
}
