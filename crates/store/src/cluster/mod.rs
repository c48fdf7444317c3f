//! The private PostgreSQL server.
//!
//! It listens on a Unix socket in the folder of its data alone, and knows its client by the account
//! of the process at the other end (`peer`): there is no password. The role that the service uses
//! owns one database and is no superuser; the superuser of the cluster cannot connect at all.

mod guard;
mod programs;
mod setup;

use std::fs;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{Access, access};
use rustix::process::Signal;
use tokio::time::{Instant, sleep};
use tracing::{info, warn};
use url::Url;

pub use self::guard::Guard;
use self::programs::{PACKAGE_ACCOUNT, PACKAGE_PROGRAMS, Programs, check_way};
use crate::data_dir::{DataDir, DataDirError};

/// How long a server may take to start, crash recovery included.
const PATIENCE: Duration = Duration::from_secs(60);
/// How long it may take to stop, before its processes are killed. It replays its log at the next start
/// then.
const STOP_LIMIT: Duration = Duration::from_secs(3);
/// How long the guard has to notice that its server was killed, before it is killed as well.
const REAPED_AFTER: Duration = Duration::from_millis(500);
/// How often a server that is starting is looked at.
const LOOK_AGAIN: Duration = Duration::from_millis(50);
/// The superuser of the cluster, which cannot connect.
const SUPERUSER: &str = "bentlane";
/// The role that the service connects as, and the database that it owns.
const ROLE: &str = "service";
const DATABASE: &str = "bentlane";
/// The name of the server's socket in its folder: the port is a part of it, and nothing else.
const SOCKET: &str = ".s.PGSQL.5432";
/// The lock of that socket, which names the server's process.
const SOCKET_LOCK: &str = ".s.PGSQL.5432.lock";
/// Bytes of the longest path of a Unix socket (`sun_path` in unix(7), with its final zero).
const LONGEST_SOCKET_PATH: usize = 107;

/// Our own PostgreSQL server, on a Unix socket in the folder of its data. It ends when this is dropped,
/// and when the process ends.
#[derive(Debug)]
pub struct Cluster {
    data_dir: DataDir,
    folder: PathBuf,
    programs: Programs,
    guard: Option<Guard>,
    /// Bytes of the server's log when it was started.
    log_length: u64,
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
    /// The folder of the database has other things in it.
    #[error(
        "{folder} is no database any more (it has no PG_VERSION): put its files back, or move it away, and a new one is made"
    )]
    Damaged {
        /// The folder.
        folder: PathBuf,
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
    /// The server's processes do not end, not even when they are killed.
    #[error("the database server does not end")]
    Unstoppable,
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
    /// The cluster of `data_dir`, whether it is there or still to be made. The caller holds the lock of
    /// the folder.
    ///
    /// # Errors
    /// See [`ClusterError`]; each says what to do.
    pub fn of(data_dir: &DataDir) -> Result<Self, ClusterError> {
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
        Ok(Self {
            data_dir: data_dir.clone(),
            folder,
            programs,
            guard: None,
            log_length: 0,
        })
    }

    /// Goes on with the server that `guard` runs.
    #[must_use]
    pub fn taking_over(mut self, guard: Guard) -> Self {
        self.guard = Some(guard);
        self
    }

    /// Gives the guard of the server, which goes on, to be taken over; `None` when there is none.
    pub fn hand_over(&mut self) -> Option<Guard> {
        self.guard.take()
    }

    /// Makes the cluster if there is none, and brings one of an earlier version to the form of this one.
    async fn ensure_made(&mut self) -> Result<(), ClusterError> {
        if !self.folder.join("PG_VERSION").exists() {
            let mut entries = fs::read_dir(&self.folder).into_iter().flatten();
            if entries.next().is_some() {
                let folder = self.folder.clone();
                return Err(ClusterError::Damaged { folder });
            }
            setup::create(&self.programs, &self.folder).await?;
        } else if setup::is_of_earlier_version(&self.folder) {
            self.stop().await?;
            setup::convert(&self.programs, &self.folder).await?;
            for former in ["postgres.password", "postgres.port"] {
                self.data_dir.remove(former)?;
            }
        }
        Ok(())
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

    /// Makes the cluster if there is none, and starts its server if it does not run. A server that
    /// another service has left is stopped first. What this started is stopped by [`Cluster::stop`],
    /// also when this is cancelled.
    ///
    /// # Errors
    /// See [`ClusterError`]; each says what to do.
    pub async fn ensure_running(&mut self) -> Result<(), ClusterError> {
        if self.guard.is_none() {
            self.ensure_made().await?;
        }
        let deadline = Instant::now() + PATIENCE;
        let mut launched = false;
        while Instant::now() < deadline {
            match (self.guard.as_mut().map(Guard::has_ended), self.running()) {
                (Some(false), Some((_, true))) => {
                    if launched {
                        info!(socket = %self.folder.join(SOCKET).display(), "the database server has started");
                    }
                    return Ok(());
                }
                (Some(false), _) => sleep(LOOK_AGAIN).await,
                (Some(true), _) => {
                    self.guard = None;
                    if launched && !self.memory_is_in_use() {
                        return Err(self.failed_start());
                    }
                    sleep(LOOK_AGAIN).await;
                }
                (None, Some(_)) => self.stop().await?,
                (None, None) => {
                    self.launch().await?;
                    launched = true;
                }
            }
        }
        Err(ClusterError::Slow { log: self.log() })
    }

    /// Stops the server: what it was asked to keep is on the disk. One that does not stop within three
    /// seconds is killed.
    ///
    /// # Errors
    /// When its processes do not end even then.
    pub async fn stop(&mut self) -> Result<(), ClusterError> {
        if let Some(guard) = &mut self.guard {
            guard.stop();
        } else if let Some((pid, _)) = self.running() {
            guard::signal(pid, &self.folder, Signal::INT);
        }
        let start = Instant::now();
        let mut killed = false;
        while self.is_alive() {
            if start.elapsed() > STOP_LIMIT && !killed {
                warn!("the database server did not stop in time and is killed");
                guard::kill_all(&self.folder);
                killed = true;
            }
            if start.elapsed() > STOP_LIMIT + REAPED_AFTER
                && let Some(guard) = &mut self.guard
                && !guard.has_ended()
            {
                guard.kill();
            }
            if start.elapsed() > STOP_LIMIT * 2 {
                return Err(ClusterError::Unstoppable);
            }
            sleep(LOOK_AGAIN).await;
        }
        self.guard = None;
        Ok(())
    }

    /// Whether the server or its guard is there.
    fn is_alive(&mut self) -> bool {
        let guarded = self.guard.as_mut().is_some_and(|guard| !guard.has_ended());
        guarded || self.running().is_some()
    }

    fn log(&self) -> PathBuf {
        self.folder.join("server.log")
    }

    /// The server's process, and whether it takes connections, from the file that it keeps while
    /// it runs. `None` when the process that the file names is no server in our folder.
    pub(crate) fn running(&self) -> Option<(u32, bool)> {
        let text = fs::read_to_string(self.folder.join("postmaster.pid")).ok()?;
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        let pid: u32 = lines.first()?.parse().ok()?;
        let ready = lines.get(7).is_some_and(|status| *status == "ready");
        guard::is_of_server(pid, &self.folder).then_some((pid, ready))
    }

    /// Whether the last processes of a killed server still hold its memory, which takes a moment.
    fn memory_is_in_use(&self) -> bool {
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        log.lines()
            .rev()
            .take(5)
            .any(|line| line.contains("still in use"))
    }

    async fn launch(&mut self) -> Result<(), ClusterError> {
        // The server refuses to start while any process has the number in one of these.
        let stale = ["postmaster.pid", SOCKET_LOCK].map(|name| self.folder.join(name));
        if stale[0].exists() {
            warn!("the database server ended without a clean stop; its log is replayed now");
        }
        for path in stale.iter().filter(|path| path.exists()) {
            fs::remove_file(path).map_err(io_error("remove a stale lock of the database"))?;
        }
        setup::configure(&self.programs, &self.folder).await?;
        self.log_length = fs::metadata(self.log()).map_or(0, |log| log.len());
        self.guard = Some(self.programs.start_server(&self.folder, &self.log())?);
        Ok(())
    }

    /// Why the server did not start, from what it has written to its log since.
    fn failed_start(&self) -> ClusterError {
        if let Err(errno) = access(&self.folder, Access::WRITE_OK) {
            return io_error("write to the folder of the database")(errno.into());
        }
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        let said =
            usize::try_from(self.log_length).map_or(&*log, |at| log.get(at..).unwrap_or(&log));
        let fault = |line: &&str| line.contains("FATAL:") || line.contains("PANIC:");
        let line = said.lines().find(fault).or_else(|| said.lines().last());
        // After the time and the process.
        let line = line.map(|line| line.split_once("] ").map_or(line, |(_, said)| said));
        ClusterError::Program {
            program: "postgres",
            output: line.map_or_else(
                || format!("it wrote nothing to {}", self.log().display()),
                str::to_owned,
            ),
        }
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

#[cfg(test)]
mod tests {
    use std::os::unix::fs::{PermissionsExt, symlink};
    use std::process::Command;

    use tempfile::TempDir;

    use super::*;

    async fn cluster() -> (TempDir, Cluster) {
        let outer = tempfile::tempdir_in("/tmp").unwrap();
        // Lets the database's own account through, when the tests run as root.
        fs::set_permissions(outer.path(), fs::Permissions::from_mode(0o711)).unwrap();
        let data_dir = DataDir::open(outer.path().join("data")).unwrap();
        let mut cluster = Cluster::of(&data_dir).unwrap();
        cluster.ensure_running().await.unwrap();
        (outer, cluster)
    }

    #[tokio::test]
    async fn a_server_is_ours_by_its_folder_and_ends_with_us() {
        let (_other_folder, mut other) = cluster().await;
        let (_folder, mut ours) = cluster().await;
        ours.stop().await.unwrap();
        assert!(ours.running().is_none());
        // The number of our former server is now that of another one of the same account.
        let file = |cluster: &Cluster| cluster.folder().join("postmaster.pid");
        fs::write(file(&ours), fs::read(file(&other)).unwrap()).unwrap();
        assert!(ours.running().is_none());
        ours.stop().await.unwrap();
        let others = other.running().unwrap();
        fs::write(file(&ours), fs::read(file(&other)).unwrap()).unwrap();
        ours.ensure_running().await.unwrap();
        let (pid, _) = ours.running().unwrap();
        assert_ne!(pid, others.0);

        // One that hangs is killed, with all of its processes.
        let script = "for it in /proc/[0-9]*; do
            if test $it/cwd -ef \"$1\"; then kill -s STOP ${it#/proc/}; fi
        done";
        let folder = ours.folder().to_owned();
        let stopped = Command::new("sh")
            .args(["-c", script, "sh"])
            .arg(&folder)
            .status();
        assert!(stopped.unwrap().success());
        ours.stop().await.unwrap();
        assert!(ours.running().is_none());
        ours.ensure_running().await.unwrap();

        drop(ours);
        let limit = Instant::now() + PATIENCE;
        while folder.join("postmaster.pid").exists() {
            assert!(Instant::now() < limit, "it does not end");
            sleep(LOOK_AGAIN).await;
        }
        assert_eq!(other.running(), Some(others), "nothing of this reached it");
        other.stop().await.unwrap();
    }

    #[tokio::test]
    async fn a_server_whose_start_was_cancelled_can_be_stopped() {
        let (_folder, mut cluster) = cluster().await;
        cluster.stop().await.unwrap();
        let launched = async |cluster: &Cluster| {
            while cluster.running().is_none() {
                sleep(LOOK_AGAIN / 5).await;
            }
        };
        let other = Cluster::of(&cluster.data_dir).unwrap();
        tokio::select! {
            () = launched(&other) => {}
            started = cluster.ensure_running() => started.unwrap(),
        }
        cluster.stop().await.unwrap();
        assert!(cluster.running().is_none());
    }

    #[tokio::test]
    async fn what_a_killed_start_left_is_no_obstacle() {
        let outer = tempfile::tempdir_in("/tmp").unwrap();
        fs::set_permissions(outer.path(), fs::Permissions::from_mode(0o711)).unwrap();
        let data_dir = DataDir::open(outer.path().join("data")).unwrap();
        let place = place(&data_dir).unwrap();
        let left = place.with_added_extension("new-1");
        fs::create_dir_all(left.join("base")).unwrap();
        // It goes on to write there.
        let program = outer.path().join("postgres");
        symlink("/bin/sh", &program).unwrap();
        let mut writer = Command::new(&program)
            .args(["-c", "while :; do : > base/$((i=i+1)); done"])
            .current_dir(&left)
            .spawn()
            .unwrap();
        let mut cluster = Cluster::of(&data_dir).unwrap();
        cluster.ensure_running().await.unwrap();
        assert!(!writer.wait().unwrap().success());
        assert!(!left.exists());
        cluster.stop().await.unwrap();
    }
}
