//! The private PostgreSQL server.
//!
//! It listens on a Unix socket in the folder of its data alone, and knows its client by the account
//! of the process at the other end (`peer`): there is no password. The role that the service uses
//! owns one database and is no superuser; the superuser of the cluster cannot connect at all.

mod programs;
mod setup;

use std::ffi::OsStr;
use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::Output;
use std::time::Duration;

use rustix::process::{Pid, setpriority_process};
use tokio::time::{Instant, sleep};
use tracing::{info, warn};
use url::Url;

use self::programs::{PACKAGE_ACCOUNT, PACKAGE_PROGRAMS, Programs, check_way, os};
use crate::data_dir::{DataDir, DataDirError};

/// How long a server may take to start, crash recovery included, or to stop.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often a server that is starting is looked at.
const LOOK_AGAIN: Duration = Duration::from_millis(50);
/// The nice value of the private server's processes (setpriority(2)).
const NICE: i32 = 10;
/// The superuser of the cluster, which cannot connect.
const SUPERUSER: &str = "bentlane";
/// The role that the service connects as, and the database that it owns.
const ROLE: &str = "service";
const DATABASE: &str = "bentlane";
/// The name of the server's socket in its folder: the port is a part of it, and nothing else.
const SOCKET: &str = ".s.PGSQL.5432";
/// Bytes of the longest path of a Unix socket (`sun_path` in unix(7), with its final zero).
const LONGEST_SOCKET_PATH: usize = 107;

/// Our own PostgreSQL server, on a Unix socket in the folder of its data.
#[derive(Clone, Debug)]
pub struct Cluster {
    folder: PathBuf,
    programs: Programs,
}

/// Why the private server cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ClusterError {
    /// The programs are not installed.
    #[error(
        "PostgreSQL's server programs are not installed (looked in PATH and {PACKAGE_PROGRAMS}): run `apt-get install postgresql`, or give a database with --database-url"
    )]
    NotInstalled,
    /// The cluster was made by another version.
    #[error(
        "the database in {folder} was made by PostgreSQL {made_by}, which is not installed: run `apt-get install postgresql-{made_by}`"
    )]
    OtherVersion {
        /// The cluster's folder.
        folder: PathBuf,
        /// The version that made it.
        made_by: String,
    },
    /// Root runs the service, and the package's account is missing.
    #[error(
        "PostgreSQL does not run as root, and there is no account `{PACKAGE_ACCOUNT}` to run it as: run `apt-get install postgresql`"
    )]
    NoAccount,
    /// The account that runs the service has no name, which the server needs for its client.
    #[error(
        "the account {uid} has no name in the system's list of users, and PostgreSQL needs one: run the service as a user with a name, or give a database with --database-url"
    )]
    Nameless {
        /// The account.
        uid: u32,
    },
    /// The package's account cannot reach the folder.
    #[error(
        "the account `{PACKAGE_ACCOUNT}` cannot enter {path} (mode {mode:o}): choose another --data-dir, such as /var/lib/bentlane, or run `chmod o+x {path}`"
    )]
    NoWay {
        /// The folder that does not let it in.
        path: PathBuf,
        /// Its permissions.
        mode: u32,
    },
    /// The path of the server's socket is too long.
    #[error(
        "the path {path} has {length} bytes, and a socket's path has {LONGEST_SOCKET_PATH} at most: choose a shorter --data-dir"
    )]
    TooLong {
        /// The socket.
        path: PathBuf,
        /// Its bytes.
        length: usize,
    },
    /// Something else is where the database of a service that runs as root goes.
    #[error(
        "{path} is not a folder of the account `{PACKAGE_ACCOUNT}`: move it away, or choose another --data-dir"
    )]
    Foreign {
        /// Its path.
        path: PathBuf,
    },
    /// One of the programs failed.
    #[error("{program} failed: {output}")]
    Program {
        /// Which program.
        program: &'static str,
        /// The last lines of what it said.
        output: String,
    },
    /// The server does not come up.
    #[error("the database server did not come up within {} s: see {log}", PATIENCE.as_secs())]
    Slow {
        /// Its log.
        log: PathBuf,
    },
    /// A file of the data folder.
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    /// Anything else of the system.
    #[error("cannot {verb}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// The system's reason.
        source: io::Error,
    },
}

fn io_error(verb: &'static str) -> impl FnOnce(io::Error) -> ClusterError {
    move |source| ClusterError::Io { verb, source }
}

impl Cluster {
    /// Makes the cluster for `data_dir` if there is none, and has its server run: one that runs
    /// already, also one left by a crash of ours, is used as it is.
    ///
    /// # Errors
    /// See [`ClusterError`]; each says what to do.
    pub async fn start(data_dir: &DataDir) -> Result<Self, ClusterError> {
        let folder = place(data_dir)?;
        let socket = folder.join(SOCKET);
        let length = socket.as_os_str().as_bytes().len();
        if length > LONGEST_SOCKET_PATH {
            return Err(ClusterError::TooLong {
                path: socket,
                length,
            });
        }
        let made_by = fs::read_to_string(folder.join("PG_VERSION")).ok();
        let programs = Programs::find(made_by.as_deref().map(str::trim), &folder)?;
        if let Some(account) = programs.account() {
            check_way(account, &folder)?;
        }
        let cluster = Self { folder, programs };
        if made_by.is_none() {
            setup::create(&cluster.programs, &cluster.folder).await?;
        } else if setup::is_of_earlier_version(&cluster.folder) {
            cluster.stop().await?;
            setup::convert(&cluster.programs, &cluster.folder).await?;
            for former in ["postgres.password", "postgres.port"] {
                data_dir.remove(former)?;
            }
        }
        cluster.ensure_running().await?;
        Ok(cluster)
    }

    /// The URL under which [`Store`](crate::Store) reaches the server.
    ///
    /// # Panics
    /// Never: the URL's fixed part is well-formed.
    #[must_use]
    pub fn url(&self) -> String {
        let mut url = Url::parse(&format!("postgres://{ROLE}@localhost:5432/{DATABASE}"))
            .expect("the URL is well-formed");
        url.query_pairs_mut()
            .append_pair("host", &self.folder.display().to_string());
        url.into()
    }

    /// The folder of the data, in which the socket is.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Starts the server again if it does not run.
    ///
    /// # Errors
    /// When it does not come up.
    pub async fn ensure_running(&self) -> Result<(), ClusterError> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            match self.running() {
                Some((_, true)) => return Ok(()),
                Some((_, false)) => sleep(LOOK_AGAIN).await,
                None => match self.launch().await {
                    Ok(()) => {}
                    // The last processes of a killed server may hold its memory a little longer.
                    Err(error) if Instant::now() < deadline && self.is_worth_a_try(&error) => {
                        sleep(LOOK_AGAIN * 10).await;
                    }
                    Err(error) => return Err(error),
                },
            }
            if Instant::now() > deadline {
                return Err(ClusterError::Slow { log: self.log() });
            }
        }
    }

    /// Stops the server; what it was asked to keep is on the disk.
    ///
    /// # Errors
    /// When it does not stop in time.
    pub async fn stop(&self) -> Result<(), ClusterError> {
        if self.running().is_none() {
            return Ok(());
        }
        let seconds = PATIENCE.as_secs().to_string();
        self.control("stop", &["-m", "fast", "-w", "-t", &seconds].map(os))
            .await
    }

    fn log(&self) -> PathBuf {
        self.folder.join("server.log")
    }

    /// The server's process, and whether it takes connections, from the file that it keeps while
    /// it runs.
    pub(crate) fn running(&self) -> Option<(u32, bool)> {
        let text = fs::read_to_string(self.folder.join("postmaster.pid")).ok()?;
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        let pid: u32 = lines.first()?.parse().ok()?;
        if !is_running_server(&fs::read_to_string(format!("/proc/{pid}/stat")).ok()?) {
            return None;
        }
        let ready = lines.get(7).is_some_and(|status| *status == "ready");
        Some((pid, ready))
    }

    fn is_worth_a_try(&self, error: &ClusterError) -> bool {
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        let last = log.lines().rev().take(5).collect::<Vec<_>>().join("\n");
        matches!(error, ClusterError::Program { .. }) && last.contains("still in use")
    }

    async fn launch(&self) -> Result<(), ClusterError> {
        let stale = self.folder.join("postmaster.pid");
        if stale.exists() {
            warn!("the database server ended without a clean stop; its log is replayed now");
            fs::remove_file(&stale).map_err(io_error("remove the stale postmaster.pid"))?;
        }
        setup::configure(&self.programs, &self.folder).await?;
        let (log, seconds) = (self.log(), PATIENCE.as_secs().to_string());
        let args = [os("-l"), log.as_os_str(), os("-w"), os("-t"), os(&seconds)];
        self.control("start", &args).await?;
        info!(socket = %self.folder.join(SOCKET).display(), "the database server is ready");
        self.lower_priority();
        Ok(())
    }

    /// Lowers the server's priority below that of requests that pass
    /// while what passed is written down.
    fn lower_priority(&self) {
        let pid = self.running().and_then(|(pid, _)| i32::try_from(pid).ok());
        if let Some(pid) = pid.and_then(Pid::from_raw)
            && let Err(cause) = setpriority_process(Some(pid), NICE)
        {
            warn!(%cause, "the database server has the priority of everybody");
        }
    }

    /// Runs `pg_ctl`.
    async fn control(&self, mode: &str, rest: &[&OsStr]) -> Result<(), ClusterError> {
        let first = [os(mode), os("-D"), self.folder.as_os_str()];
        let args = [&first[..], rest].concat();
        let output = self.programs.output("pg_ctl", &args, "").await?;
        if output.status.success() {
            return Ok(());
        }
        Err(ClusterError::Program {
            program: "pg_ctl",
            output: self.last_words(&output),
        })
    }

    fn last_words(&self, output: &Output) -> String {
        let said = String::from_utf8_lossy(&output.stderr);
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        let last = |text: &str| {
            text.lines()
                .rev()
                .take(2)
                .map(str::to_owned)
                .collect::<Vec<_>>()
        };
        let mut lines = [last(&log), last(&said)].concat();
        lines.reverse();
        lines.join("; ")
    }
}

/// Where the cluster of a data folder is. The account that runs the server for root cannot enter
/// a folder that is root's alone, so there it is beside; one that an earlier version made inside is
/// moved there.
fn place(data_dir: &DataDir) -> Result<PathBuf, ClusterError> {
    let inside = data_dir.path("postgres");
    if !rustix::process::geteuid().is_root() {
        return Ok(inside);
    }
    let beside = data_dir.root().with_added_extension("postgres");
    match fs::symlink_metadata(&beside) {
        Ok(metadata) if metadata.is_dir() => Ok(beside),
        Ok(_) => Err(ClusterError::Foreign { path: beside }),
        Err(_) => {
            if inside.join("PG_VERSION").is_file() {
                fs::rename(&inside, &beside)
                    .map_err(io_error("move the database out of the data folder"))?;
            }
            Ok(beside)
        }
    }
}

/// Whether a process with this `/proc/PID/stat` is a database server at work. A stale file may name
/// a process that is another program's by now, or one that is dead and only not yet reaped.
fn is_running_server(stat: &str) -> bool {
    let after_command = stat
        .rsplit_once(") ")
        .map(|(_, fields)| fields)
        .unwrap_or_default();
    stat.contains("(postgres)") && !after_command.starts_with(['Z', 'X'])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("812 (postgres) S 1 812 812 0 -1", true)]
    #[case("812 (postgres) Z 1 812 812 0 -1", false)]
    #[case("812 (node) S 1 812 812 0 -1", false)]
    #[case("", false)]
    fn servers_at_work(#[case] stat: &str, #[case] running: bool) {
        assert_eq!(is_running_server(stat), running);
    }
}
