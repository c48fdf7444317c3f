use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use bentlane_core::check::{Facts, FromContainer, Verdict, diagnose_from};
use bentlane_core::{Hosts, Name, ResolvConf, chain};
use bentlane_probe::look_from_here;
use bentlane_runtime::Engine;
use futures_util::future::join_all;
use serde::{Deserialize, Serialize};
use tokio::io::AsyncWriteExt;
use tokio::process::Command;
use tokio::time::timeout;

/// How long all looks from one container may take together.
const LIMIT: Duration = Duration::from_secs(60);
/// How long one look-up or connection may take.
const HOP: Duration = Duration::from_secs(2);

/// What is to be looked at from inside a network.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LookFrom {
    nameservers: Vec<SocketAddr>,
    names: Vec<(Name, Vec<IpAddr>, u16)>,
}

impl LookFrom {
    /// Looks from the network that this process is in.
    pub async fn look(&self) -> Vec<FromContainer> {
        let looks = self.names.iter().map(|(name, in_hosts, port)| {
            look_from_here(in_hosts, &self.nameservers, name, *port, HOP)
        });
        join_all(looks).await
    }
}

/// Why nothing was looked at.
#[derive(Debug, thiserror::Error)]
pub(crate) enum FromError {
    #[error("{0}")]
    Engine(String),
    #[error("there is no container {0}, or it does not run")]
    Gone(String),
    #[error(
        "the files of the container {0} cannot be read; the service has to run as root for that, or as whoever started the container"
    )]
    Closed(String),
    #[error("the network of the container cannot be entered: {0}")]
    Entering(String),
}

/// Walks the first two hops of routes inside the network of a container, with the container's own
/// hosts file and name servers.
pub(crate) async fn check_from(
    engine: Option<&std::path::Path>,
    container: &str,
    all: &[Facts],
) -> Result<Vec<Verdict>, FromError> {
    let uid = rustix::process::geteuid().as_raw();
    let engine = Engine::find(engine, uid).map_err(|error| FromError::Engine(chain(&error)))?;
    let seen = engine.container(container).await;
    let seen = seen.map_err(|error| FromError::Engine(chain(&error)))?;
    let pid = seen.and_then(|seen| seen.pid);
    let pid = pid.ok_or_else(|| FromError::Gone(container.to_owned()))?;
    let read = |file: &str| std::fs::read_to_string(format!("/proc/{pid}/root/etc/{file}"));
    let conf = read("resolv.conf").map_err(|_| FromError::Closed(container.to_owned()))?;
    let hosts = read("hosts").unwrap_or_default();
    let entries = Hosts(&hosts).entries();
    let look = LookFrom {
        nameservers: ResolvConf::parse(&conf).upstreams(&[]),
        names: all
            .iter()
            .map(|facts| {
                let own = entries.iter().filter(|entry| entry.name == facts.name);
                let own = own.map(|entry| entry.address).collect();
                (facts.name.clone(), own, facts.listener.port())
            })
            .collect(),
    };
    let network = |pid: &str| std::fs::read_link(format!("/proc/{pid}/ns/net")).ok();
    let shares = network("self").is_some() && network("self") == network(&pid.to_string());
    let seen = enter(pid, &look).await?;
    let judged = all.iter().zip(&seen);
    Ok(judged
        .map(|(facts, seen)| diagnose_from(facts, container, shares, seen))
        .collect())
}

/// Has this very program look from inside the network of a process.
async fn enter(pid: u32, look: &LookFrom) -> Result<Vec<FromContainer>, FromError> {
    let failed = |error: &dyn std::fmt::Display| FromError::Entering(error.to_string());
    let program = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("bentlane"));
    let mut running = Command::new("nsenter")
        .args(["--target", &pid.to_string(), "--net", "--"])
        .arg(program)
        .arg("look-from-here")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| failed(&error))?;
    let question = serde_json::to_vec(look).map_err(|error| failed(&error))?;
    if let Some(mut input) = running.stdin.take() {
        let written = input.write_all(&question).await;
        written.map_err(|error| failed(&error))?;
    }
    let output = timeout(LIMIT, running.wait_with_output()).await;
    let output = output.map_err(|error| failed(&error))?;
    let output = output.map_err(|error| failed(&error))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        return Err(failed(&said.trim()));
    }
    serde_json::from_slice(&output.stdout).map_err(|error| failed(&error))
}
