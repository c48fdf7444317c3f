//! PostgreSQL's programs: where they are, and running them as the account that the server has.

use std::ffi::OsStr;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Output, Stdio};

use nix::unistd::User;
use tokio::io::AsyncWriteExt;
use tokio::process::Command;

use super::guard::{self, Guard};
use super::{ClusterError, io_error};

/// The account of Debian's package, which a server started by root runs as.
pub(super) const PACKAGE_ACCOUNT: &str = "postgres";
/// Where Debian puts the server's programs, a folder for each version.
pub(super) const PACKAGE_PROGRAMS: &str = "/usr/lib/postgresql";

/// The programs of one version, and the account that runs them.
#[derive(Clone, Debug)]
pub(super) struct Programs {
    folder: PathBuf,
    /// `None` for our own account.
    account: Option<Account>,
}

/// The account that the server runs as, when it is not ours.
#[derive(Clone, Copy, Debug)]
pub(super) struct Account {
    pub(super) uid: u32,
    pub(super) gid: u32,
}

impl Programs {
    /// Those of the version that made the cluster in `cluster`, or the newest.
    pub(super) fn find(made_by: Option<&str>, cluster: &Path) -> Result<Self, ClusterError> {
        Ok(Self {
            folder: find_folder(made_by, cluster)?,
            account: server_account()?,
        })
    }

    pub(super) fn account(&self) -> Option<Account> {
        self.account
    }

    /// Runs `program` in the folder `cluster`; gives its output, whatever its exit code.
    pub(super) async fn output(
        &self,
        program: &str,
        args: &[&OsStr],
        input: &str,
    ) -> Result<Output, ClusterError> {
        self.feed(
            Command::new(self.folder.join(program)),
            args,
            input.as_bytes(),
        )
        .await
    }

    /// Writes a file as the server's account, so that a link that this account may have put there
    /// leads no further than the account itself could. The file is complete or the old one.
    pub(super) async fn write(&self, path: &Path, content: &str) -> Result<(), ClusterError> {
        const SCRIPT: &str = "umask 077 && cat > \"$1.new\" && mv -f \"$1.new\" \"$1\"";
        let mut shell = Command::new("/bin/sh");
        shell.env("PATH", "/usr/bin:/bin");
        let args = ["-c", SCRIPT, "sh"].map(OsStr::new);
        let args = [&args[..], &[path.as_os_str()]].concat();
        let output = self.feed(shell, &args, content.as_bytes()).await?;
        if output.status.success() {
            return Ok(());
        }
        Err(ClusterError::Program {
            program: "writing the settings of the database server",
            output: String::from_utf8_lossy(&output.stderr).trim().to_owned(),
        })
    }

    /// Starts the server for the folder `cluster`, which writes to the file `log`, under a guard.
    ///
    /// # Errors
    /// When no process can be started.
    pub(super) fn start_server(&self, cluster: &Path, log: &Path) -> Result<Guard, ClusterError> {
        let mut shell = std::process::Command::new("/bin/sh");
        shell
            .args(["-c", guard::SCRIPT, "bentlane-database"])
            .args([&self.folder.join("postgres"), cluster, log])
            // No signal of a terminal reaches it.
            .process_group(0)
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        Guard::start(self.set_up(&mut shell))
            .map_err(io_error("start the guard of the database server"))
    }

    /// What is the same for each of the programs.
    fn set_up<'a>(&self, command: &'a mut std::process::Command) -> &'a mut std::process::Command {
        command
            .current_dir("/")
            // Errors are read, not shown as they are, so they come in one language.
            .env("LC_MESSAGES", "C")
            .stdin(Stdio::piped());
        if let Some(Account { uid, gid }) = self.account {
            command.uid(uid).gid(gid);
        }
        command
    }

    async fn feed(
        &self,
        mut command: Command,
        args: &[&OsStr],
        input: &[u8],
    ) -> Result<Output, ClusterError> {
        self.set_up(command.as_std_mut())
            .args(args)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        // A stop of the service does not wait for these.
        command.kill_on_drop(true);
        let failed = || io_error("run PostgreSQL's programs");
        let mut child = command.spawn().map_err(failed())?;
        if let Some(mut stdin) = child.stdin.take() {
            // A program that does not read to the end says why in its exit code.
            let _ = stdin.write_all(input).await;
        }
        child.wait_with_output().await.map_err(failed())
    }
}

fn find_folder(made_by: Option<&str>, cluster: &Path) -> Result<PathBuf, ClusterError> {
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
        let found = std::env::split_paths(&path).find(|folder| folder.join("postgres").exists());
        return found.ok_or_else(|| ClusterError::OtherVersion {
            folder: cluster.to_owned(),
            made_by: made_by.to_owned(),
        });
    }
    packaged
        .into_iter()
        .map(|(_, programs)| programs)
        .chain(in_path)
        .find(|programs| programs.join("initdb").exists() && programs.join("postgres").exists())
        .ok_or(ClusterError::NotInstalled)
}

/// The package's account when root runs the service, since the server refuses to run as root.
fn server_account() -> Result<Option<Account>, ClusterError> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let user = User::from_name(PACKAGE_ACCOUNT)
        .map_err(|errno| io_error("look up the account of the database server")(errno.into()))?
        .ok_or(ClusterError::NoAccount)?;
    Ok(Some(Account {
        uid: user.uid.as_raw(),
        gid: user.gid.as_raw(),
    }))
}

/// Whether `account` can reach the folders above `path`.
///
/// # Errors
/// The first folder that does not let it in.
pub(super) fn check_way(account: Account, path: &Path) -> Result<(), ClusterError> {
    for folder in path.ancestors().skip(1) {
        let metadata = fs::metadata(folder).map_err(io_error("look at the data folder"))?;
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
                path: folder.to_owned(),
                mode,
            });
        }
    }
    Ok(())
}

/// The name of the account that this process runs as, which the server checks.
pub(super) fn own_name() -> Result<String, ClusterError> {
    let uid = nix::unistd::geteuid();
    let user = User::from_uid(uid)
        .map_err(|errno| io_error("look up the name of this account")(errno.into()))?;
    user.map(|user| user.name)
        .filter(|name| name.as_bytes().iter().all(|byte| !byte.is_ascii_control()))
        .ok_or(ClusterError::Nameless { uid: uid.as_raw() })
}

/// A text as an argument.
pub(super) fn os(text: &str) -> &OsStr {
    OsStr::new(text)
}
