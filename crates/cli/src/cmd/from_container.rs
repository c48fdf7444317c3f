//! Looking from inside the network of a container, for `bentlane check --from`.
//!
//! With an engine of root's this is root's work: `sudo bentlane check --from container:NAME`. Root
//! then asks only the engine itself which process the container is; reads two files of
//! it without leaving its root folder; and a child enters its network and gives up root's rights
//! before it connects anywhere.

use std::fs::File;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use bentlane_api_types::{FromSeen, NameToLookUp};
use bentlane_checks::{FromContainer, Hosts};
use bentlane_containers::Engine;
use bentlane_dns::ResolvConf;
use bentlane_model::{Name, chain};
use bentlane_probe::look_from_here;
use bentlane_system::read_in_root;
use clap::Args;
use command_fds::{CommandFdExt, FdMapping};
use futures_util::future::join_all;
use nix::unistd::{Gid, Uid, setgroups, setresgid, setresuid};
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use serde::{Deserialize, Serialize};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;
use tokio::time::timeout;

use crate::account::Account;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// How long all looks from one container may take together.
const LIMIT: Duration = Duration::from_secs(60);
/// How long one look-up or connection may take.
const HOP: Duration = Duration::from_secs(2);
/// Bytes of a hosts file, or of `resolv.conf`.
const LARGEST_FILE: u64 = 1024 * 1024;
/// The number under which the child gets the network.
const NETWORK: i32 = 3;
/// A user without privileges, for root without sudo.
const NOBODY: u32 = 65534;

/// What is to be looked at from inside a network.
#[derive(Debug, Serialize, Deserialize)]
struct LookFrom {
    nameservers: Vec<SocketAddr>,
    names: Vec<(Name, Vec<IpAddr>, u16)>,
}

fn failed(verb: &str, source: impl Into<std::io::Error>) -> CliError {
    CliError::Io {
        verb: verb.to_owned(),
        source: source.into(),
    }
}

fn refused(reason: impl Into<String>) -> CliError {
    CliError::Value {
        field: "from",
        reason: reason.into(),
    }
}

/// The container in `container:NAME`.
pub(crate) fn container_in(text: &str) -> Result<&str, CliError> {
    let name = text
        .strip_prefix("container:")
        .filter(|name| !name.is_empty());
    name.ok_or_else(|| {
        refused(format!(
            "`{text}` is not a place to look from: write container:NAME"
        ))
    })
}

/// Looks up these names and connects to them, as `container` does.
pub(crate) async fn look(
    container: &str,
    engine: Option<&Path>,
    names: &[NameToLookUp],
) -> Result<FromSeen, CliError> {
    let pid = process_of(container, engine).await?;
    let process = PathBuf::from(format!("/proc/{pid}"));
    let closed = |source: std::io::Error| match source.kind() {
        std::io::ErrorKind::PermissionDenied => refused(format!(
            "the container {container} belongs to root's engine, so this is for root: run \
             `sudo bentlane check --from container:{container}`"
        )),
        _ => failed(&format!("look into the container {container}"), source),
    };
    let root = File::open(process.join("root")).map_err(closed)?;
    let network = File::open(process.join("ns/net")).map_err(closed)?;
    let read = |path: &str| read_in_root(&root, Path::new(path), LARGEST_FILE);
    let conf = read("/etc/resolv.conf")?;
    let conf = String::from_utf8_lossy(&conf).into_owned();
    let hosts = read("/etc/hosts").unwrap_or_default();
    let hosts = String::from_utf8_lossy(&hosts).into_owned();
    let entries = Hosts(&hosts).entries();
    let each = names.iter().map(|NameToLookUp { name, port, .. }| {
        let name: Name = name.parse().map_err(|error| refused(format!("{error}")))?;
        let own = entries.iter().filter(|entry| entry.name == name);
        let own = own.map(|entry| entry.address).collect();
        Ok::<_, CliError>((name, own, *port))
    });
    let look = LookFrom {
        nameservers: ResolvConf::parse(&conf).upstreams(&[]),
        names: each.collect::<Result<_, _>>()?,
    };
    let own = std::fs::metadata("/proc/self/ns/net").map(|it| it.ino());
    let theirs = network.metadata().map(|it| it.ino());
    Ok(FromSeen {
        container: container.to_owned(),
        shares_network: own.is_ok() && own.ok() == theirs.ok(),
        seen: enter(pid, network, &look).await?,
    })
}

/// The first process of a container, as its engine says. Root asks an engine of root's alone.
async fn process_of(container: &str, engine: Option<&Path>) -> Result<u32, CliError> {
    let uid = rustix::process::geteuid();
    let found = Engine::find(engine, uid.as_raw()).map_err(|error| refused(chain(&error)))?;
    let socket = std::fs::metadata(found.socket());
    if uid.is_root() && socket.is_ok_and(|it| it.uid() != 0) {
        return Err(refused(format!(
            "the engine at {} is another user's: run this as that user, without sudo",
            found.socket().display()
        )));
    }
    let seen = found.container(container).await;
    let seen = seen.map_err(|error| refused(chain(&error)))?;
    seen.and_then(|seen| seen.pid).ok_or_else(|| {
        refused(format!(
            "there is no container {container}, or it does not run"
        ))
    })
}

/// Has this very program look from inside the network of a process.
async fn enter(pid: u32, network: File, look: &LookFrom) -> Result<Vec<FromContainer>, CliError> {
    let verb = "look from inside the network of the container";
    let mut command = if rustix::process::geteuid().is_root() {
        let (uid, gid) = Account::behind_sudo()
            .map_or((NOBODY, NOBODY), |it| (it.uid.as_raw(), it.gid.as_raw()));
        let mut command = std::process::Command::new("/proc/self/exe");
        command
            .args(["look-from-here", "--as-user"])
            .arg(format!("{uid}:{gid}"));
        let mapping = FdMapping {
            parent_fd: OwnedFd::from(network),
            child_fd: NETWORK,
        };
        command
            .fd_mappings(vec![mapping])
            .map_err(|cause| failed(verb, std::io::Error::other(cause)))?;
        Command::from(command)
    } else {
        // A network of the user's own is entered together with its user namespace.
        let program = std::env::current_exe().map_err(|source| failed(verb, source))?;
        let mut command = Command::new("nsenter");
        command
            .args(["--target", &pid.to_string(), "--user", "--net"])
            .args(["--preserve-credentials", "--"])
            .arg(program)
            .arg("look-from-here");
        command
    };
    let mut running = command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .map_err(|source| failed(verb, source))?;
    let question = serde_json::to_vec(look).map_err(CliError::Answer)?;
    if let Some(mut input) = running.stdin.take() {
        let written = input.write_all(&question).await;
        written.map_err(|source| failed(verb, source))?;
    }
    let output = timeout(LIMIT, running.wait_with_output()).await;
    let output = output.map_err(|late| failed(verb, std::io::Error::other(late)))?;
    let output = output.map_err(|source| failed(verb, source))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        return Err(failed(verb, std::io::Error::other(said)));
    }
    serde_json::from_slice(&output.stdout).map_err(CliError::Answer)
}

/// `bentlane look-from-here`: what a child does in the network that it was given.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  bentlane look-from-here < QUESTION")]
pub(crate) struct LookFromHere {
    /// Enter the network that is passed as descriptor 3, and become UID:GID
    #[arg(long, value_name = "UID:GID")]
    as_user: Option<String>,
}

impl LookFromHere {
    pub(crate) async fn run(self, output: &Output) -> Result<Answer, CliError> {
        let question = std::io::read_to_string(std::io::stdin());
        let question = question.map_err(|source| failed("read the question", source))?;
        if let Some(user) = &self.as_user {
            enter_and_become(user)?;
        }
        let look: LookFrom = serde_json::from_str(&question).map_err(CliError::Answer)?;
        let looks = look.names.iter().map(|(name, in_hosts, port)| {
            look_from_here(in_hosts, &look.nameservers, name, *port, HOP)
        });
        let seen = serde_json::to_string(&join_all(looks).await).map_err(CliError::Answer)?;
        output.line(&seen)?;
        Ok(Answer::Yes)
    }
}

/// Enters the network that was passed, and gives up root's rights for good.
fn enter_and_become(user: &str) -> Result<(), CliError> {
    let ids = user.split_once(':');
    let ids = ids.and_then(|(uid, gid)| Some((uid.parse().ok()?, gid.parse().ok()?)));
    let (uid, gid): (u32, u32) = ids.ok_or_else(|| refused(format!("`{user}` is not UID:GID")))?;
    let network = File::open(format!("/proc/self/fd/{NETWORK}"))
        .map_err(|source| failed("open the network", source))?;
    let kind = Some(LinkNameSpaceType::Network);
    move_into_link_name_space(rustix::fd::AsFd::as_fd(&network), kind)
        .map_err(|errno| failed("enter the network", errno))?;
    let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
    let become_it = || {
        setgroups(&[])?;
        setresgid(gid, gid, gid)?;
        setresuid(uid, uid, uid)
    };
    become_it().map_err(|errno: nix::errno::Errno| failed("give up root's rights", errno))
}
