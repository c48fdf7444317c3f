use std::ffi::OsStr;
use std::fs;
use std::io;
use std::net::{Ipv4Addr, TcpListener};
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Output, Stdio};
use std::time::Duration;

use rand::Rng;
use rand::distr::Alphanumeric;
use rustix::process::{Pid, setpriority_process};
use tokio::process::Command;
use tokio::time::{Instant, sleep};
use tracing::{info, warn};

use crate::data_dir::{DataDir, DataDirError};

/// The account of Debian's package, which a server started by root runs as.
const PACKAGE_ACCOUNT: &str = "postgres";
/// Where Debian puts the server's programs, a folder for each version.
const PACKAGE_PROGRAMS: &str = "/usr/lib/postgresql";
/// How long a server may take to start, crash recovery included, or to stop.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often a server that is starting is looked at.
const LOOK_AGAIN: Duration = Duration::from_millis(50);
/// The role that owns everything, and the database it is kept in.
/// The nice value of the private server's processes (setpriority(2)).
const NICE: i32 = 10;
const ROLE: &str = "bentlane";

/// Small and private: a handful of connections over loopback, no socket file.
const SETTINGS: &str = "
# written by bentlane when the cluster was made
listen_addresses = '127.0.0.1'
unix_socket_directories = ''
max_connections = 20
shared_buffers = 16MB
max_wal_size = 128MB
min_wal_size = 32MB
";

/// A PostgreSQL server of our own, its data in the data folder, on loopback alone.
#[derive(Clone, Debug)]
pub struct Cluster {
    folder: PathBuf,
    data_dir: DataDir,
    programs: PathBuf,
    account: Option<Account>,
    password: String,
    port: u16,
}

/// The account that the server runs as, when it is not ours.
#[derive(Clone, Debug)]
struct Account {
    uid: u32,
    gid: u32,
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
    /// The package's account cannot reach the data folder.
    #[error(
        "the account `{PACKAGE_ACCOUNT}` cannot enter {path} (mode {mode:o}): choose another --data-dir, such as /var/lib/bentlane, or run `chmod o+x {path}`"
    )]
    NoWay {
        /// The folder that does not let it in.
        path: PathBuf,
        /// Its permissions.
        mode: u32,
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
    /// Makes the cluster in `data_dir` if there is none, and has its server run: one that runs
    /// already, also one left by a crash of ours, is used as it is.
    ///
    /// # Errors
    /// See [`ClusterError`]; each says what to do.
    pub async fn start(data_dir: &DataDir) -> Result<Self, ClusterError> {
        let folder = data_dir.path("postgres");
        let made_by = fs::read_to_string(folder.join("PG_VERSION")).ok();
        let programs = find_programs(made_by.as_deref().map(str::trim), &folder)?;
        let account = account_for(data_dir.root())?;
        let mut cluster = Self {
            folder,
            data_dir: data_dir.clone(),
            programs,
            account,
            password: String::new(),
            port: 0,
        };
        if made_by.is_none() {
            cluster.create().await?;
        }
        cluster.password = data_dir.read_secret("postgres.password")?.ok_or_else(|| {
            io_error("find the database's password")(io::ErrorKind::NotFound.into())
        })?;
        cluster.ensure_running().await?;
        Ok(cluster)
    }

    /// The URL under which [`Store`](crate::Store) reaches the server.
    #[must_use]
    pub fn url(&self) -> String {
        format!(
            "postgres://{ROLE}:{}@127.0.0.1:{}/postgres",
            self.password, self.port
        )
    }

    /// The port on 127.0.0.1.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Starts the server again if it does not run, on the same port while that is free.
    ///
    /// # Errors
    /// When it does not come up.
    pub async fn ensure_running(&mut self) -> Result<(), ClusterError> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            match self.running() {
                Some((_, port, true)) => {
                    self.port = port;
                    return Ok(());
                }
                Some((_, _, false)) => sleep(LOOK_AGAIN).await,
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
        self.run(
            "pg_ctl",
            ["stop", "-D"],
            &[
                self.folder.as_os_str(),
                OsStr::new("-m"),
                OsStr::new("fast"),
                OsStr::new("-w"),
                OsStr::new("-t"),
                OsStr::new(&seconds),
            ],
        )
        .await
    }

    fn log(&self) -> PathBuf {
        self.folder.join("server.log")
    }

    /// The server's process and port, and whether it takes connections, from the file that it
    /// keeps while it runs.
    pub(crate) fn running(&self) -> Option<(u32, u16, bool)> {
        let text = fs::read_to_string(self.folder.join("postmaster.pid")).ok()?;
        let lines: Vec<&str> = text.lines().map(str::trim).collect();
        let pid: u32 = lines.first()?.parse().ok()?;
        if !is_running_server(&fs::read_to_string(format!("/proc/{pid}/stat")).ok()?) {
            return None;
        }
        let port = lines.get(3).and_then(|port| port.parse().ok());
        let ready = lines.get(7).is_some_and(|status| *status == "ready");
        Some((pid, port.unwrap_or_default(), ready && port.is_some()))
    }

    fn is_worth_a_try(&self, error: &ClusterError) -> bool {
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        let last = log.lines().rev().take(5).collect::<Vec<_>>().join("\n");
        matches!(error, ClusterError::Program { .. }) && last.contains("still in use")
    }

    async fn launch(&mut self) -> Result<(), ClusterError> {
        let stale = self.folder.join("postmaster.pid");
        if stale.exists() {
            warn!("the database server ended without a clean stop; its log is replayed now");
            fs::remove_file(&stale).map_err(io_error("remove the stale postmaster.pid"))?;
        }
        self.port = self.free_port()?;
        let (seconds, options) = (PATIENCE.as_secs().to_string(), format!("-p {}", self.port));
        self.run(
            "pg_ctl",
            ["start", "-D"],
            &[
                self.folder.as_os_str(),
                OsStr::new("-l"),
                self.log().as_os_str(),
                OsStr::new("-w"),
                OsStr::new("-t"),
                OsStr::new(&seconds),
                OsStr::new("-o"),
                OsStr::new(&options),
            ],
        )
        .await?;
        self.give_way();
        Ok(())
    }

    /// Has the server give way to whoever needs the processor at once, such as requests that pass
    /// while what passed is written down.
    fn give_way(&self) {
        let pid = self.running().and_then(|(pid, ..)| i32::try_from(pid).ok());
        if let Some(pid) = pid.and_then(Pid::from_raw)
            && let Err(cause) = setpriority_process(Some(pid), NICE)
        {
            warn!(%cause, "the database server has the priority of everybody");
        }
    }

    /// The port of last time while it is free, so that connections made by URL find it again.
    fn free_port(&self) -> Result<u16, ClusterError> {
        let last = self.data_dir.read("postgres.port")?;
        let last = last.and_then(|text| text.trim().parse().ok()).unwrap_or(0);
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, last))
            .or_else(|_| TcpListener::bind((Ipv4Addr::LOCALHOST, 0)))
            .map_err(io_error("find a free port for the database"))?;
        let port = listener
            .local_addr()
            .map_err(io_error("find a free port"))?
            .port();
        self.data_dir
            .write("postgres.port", format!("{port}\n").as_bytes())?;
        Ok(port)
    }

    /// Makes the cluster beside its place and renames it when it is whole.
    async fn create(&self) -> Result<(), ClusterError> {
        info!(folder = %self.folder.display(), "making the database, once");
        let password: String = rand::rng()
            .sample_iter(&Alphanumeric)
            .take(32)
            .map(char::from)
            .collect();
        self.data_dir
            .write_secret("postgres.password", password.as_bytes())?;
        let beside = self.data_dir.path("postgres.new");
        let password_file = self.data_dir.path("postgres.new.password");
        if beside.exists() {
            fs::remove_dir_all(&beside).map_err(io_error("clear a half-made database"))?;
        }
        fs::create_dir(&beside).map_err(io_error("make the database's folder"))?;
        fs::set_permissions(&beside, fs::Permissions::from_mode(0o700))
            .map_err(io_error("close the database's folder to others"))?;
        self.data_dir
            .write_secret("postgres.new.password", password.as_bytes())?;
        for path in [&beside, &password_file] {
            self.hand_over(path)?;
        }
        let outcome = self
            .run(
                "initdb",
                ["--username", ROLE],
                &[
                    OsStr::new("--auth=scram-sha-256"),
                    OsStr::new("--encoding=UTF8"),
                    OsStr::new("--locale=C.UTF-8"),
                    OsStr::new("--pwfile"),
                    password_file.as_os_str(),
                    OsStr::new("-D"),
                    beside.as_os_str(),
                ],
            )
            .await;
        self.data_dir.remove("postgres.new.password")?;
        outcome?;
        let settings = beside.join("postgresql.conf");
        let text = fs::read_to_string(&settings).map_err(io_error("read postgresql.conf"))?;
        fs::write(&settings, text + SETTINGS).map_err(io_error("write postgresql.conf"))?;
        fs::rename(&beside, &self.folder).map_err(io_error("put the database in its place"))
    }

    fn hand_over(&self, path: &Path) -> Result<(), ClusterError> {
        match &self.account {
            Some(account) => chown(path, Some(account.uid), Some(account.gid))
                .map_err(io_error("hand the database's files to its account")),
            None => Ok(()),
        }
    }

    async fn run(
        &self,
        program: &'static str,
        first: [&str; 2],
        rest: &[&OsStr],
    ) -> Result<(), ClusterError> {
        let mut command = Command::new(self.programs.join(program));
        command
            .args(first)
            .args(rest)
            .current_dir(self.data_dir.root())
            .stdin(Stdio::null());
        // Errors are read, not shown as they are, so they come in one language.
        command.env("LC_MESSAGES", "C");
        if let Some(account) = &self.account {
            command.uid(account.uid).gid(account.gid);
        }
        let output = command
            .output()
            .await
            .map_err(io_error("run PostgreSQL's programs"))?;
        if output.status.success() {
            return Ok(());
        }
        Err(ClusterError::Program {
            program,
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

/// The folder of the server's programs: of the version that made the cluster, or the newest.
fn find_programs(made_by: Option<&str>, folder: &Path) -> Result<PathBuf, ClusterError> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let in_path = std::env::split_paths(&path).filter(|_| made_by.is_none());
    let mut packaged: Vec<(u32, PathBuf)> = fs::read_dir(PACKAGE_PROGRAMS)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| {
            let version = entry.file_name().to_str()?.parse().ok()?;
            Some((version, entry.path().join("bin")))
        })
        .collect();
    packaged.sort_by_key(|(version, _)| std::cmp::Reverse(*version));
    if let Some(made_by) = made_by {
        let same = packaged
            .iter()
            .find(|(version, _)| version.to_string() == made_by);
        if let Some((_, programs)) = same {
            return Ok(programs.clone());
        }
        // Without Debian's layout, what PATH leads to has to be the right version.
        let found = std::env::split_paths(&path).find(|folder| folder.join("pg_ctl").exists());
        return found.ok_or_else(|| ClusterError::OtherVersion {
            folder: folder.to_owned(),
            made_by: made_by.to_owned(),
        });
    }
    packaged
        .into_iter()
        .map(|(_, programs)| programs)
        .chain(in_path)
        .find(|programs| programs.join("initdb").exists() && programs.join("pg_ctl").exists())
        .ok_or(ClusterError::NotInstalled)
}

/// Root hands the server to the package's account, which must be able to reach the folder.
fn account_for(data_dir: &Path) -> Result<Option<Account>, ClusterError> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let accounts = fs::read_to_string("/etc/passwd").map_err(io_error("read /etc/passwd"))?;
    let account = find_account(&accounts, PACKAGE_ACCOUNT).ok_or(ClusterError::NoAccount)?;
    for path in data_dir.ancestors() {
        let metadata = fs::metadata(path).map_err(io_error("look at the data folder"))?;
        let mode = metadata.mode() & 0o777;
        let entry = if metadata.uid() == account.uid {
            0o100
        } else if metadata.gid() == account.gid {
            0o010
        } else {
            0o001
        };
        if mode & entry == 0 {
            return Err(ClusterError::NoWay {
                path: path.to_owned(),
                mode,
            });
        }
    }
    Ok(Some(account))
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

fn find_account(accounts: &str, name: &str) -> Option<Account> {
    accounts.lines().find_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        let found = fields.first() == Some(&name);
        found.then(|| {
            Some(Account {
                uid: fields.get(2)?.parse().ok()?,
                gid: fields.get(3)?.parse().ok()?,
            })
        })?
    })
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

    #[test]
    fn accounts_are_read_by_name() {
        let text = "root:x:0:0:root:/root:/bin/bash\npostgres:x:101:104:,,,:/var:/bin/sh\nbad\n";
        let account = find_account(text, "postgres").unwrap();
        assert_eq!((account.uid, account.gid), (101, 104));
        assert!(find_account(text, "nobody").is_none());
        assert!(find_account(text, "bad").is_none());
    }
}
