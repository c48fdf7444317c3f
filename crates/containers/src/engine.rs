use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};
use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_model::ContainerSeen;
use bollard::models::{ContainerInspectResponse, EndpointSettings, PortBinding};
use bollard::query_parameters::{
    EventsOptionsBuilder, ListContainersOptionsBuilder, UploadToContainerOptionsBuilder,
};
use bollard::{API_DEFAULT_VERSION, Docker};
use futures_util::StreamExt;

/// Where engines have their sockets, below the folder for run-time files or of this user.
const SOCKETS: [&str; 3] = [
    "/var/run/docker.sock",
    "/run/podman/podman.sock",
    "/run/user/{uid}/podman/podman.sock",
];
/// The variables that name the socket for the engines' own clients.
const VARIABLES: [&str; 2] = ["DOCKER_HOST", "CONTAINER_HOST"];
/// Seconds that an answer may take.
const LIMIT: u64 = 5;
/// How soon an engine that does not report changes is asked again.
const UNTOLD: Duration = Duration::from_secs(2);
/// The label with the port that is meant.
const PORT_LABEL: &str = "bentlane.port";

/// A container engine.
#[derive(Clone, Debug)]
pub struct Engine {
    client: Docker,
    socket: PathBuf,
}

/// Why an engine does not answer.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// There is no socket.
    #[error("there is no socket of an engine: {}", .0.join(", "))]
    NoSocket(Vec<String>),
    /// No archive can be made of files.
    #[error("the files cannot be packed")]
    Archive(#[source] std::io::Error),
    /// The engine does not answer, or refuses.
    #[error("the engine at {socket} does not do it")]
    Api {
        /// Its socket.
        socket: PathBuf,
        /// What it says.
        source: bollard::errors::Error,
    },
}

impl Engine {
    /// The engine at `socket`; without one, at what the environment names, or where engines usually
    /// are.
    ///
    /// # Errors
    /// When there is no socket.
    pub fn find(socket: Option<&Path>, uid: u32) -> Result<Self, EngineError> {
        let named = VARIABLES.iter().filter_map(|name| std::env::var(name).ok());
        let named = named.filter_map(|url| url.strip_prefix("unix://").map(PathBuf::from));
        let usual = SOCKETS
            .iter()
            .map(|path| path.replace("{uid}", &uid.to_string()));
        let candidates: Vec<PathBuf> = match socket {
            Some(socket) => vec![socket.to_owned()],
            None => named.chain(usual.map(PathBuf::from)).collect(),
        };
        let found = candidates.iter().find(|path| path.exists());
        let Some(socket) = found else {
            let tried = candidates.iter().map(|path| path.display().to_string());
            return Err(EngineError::NoSocket(tried.collect()));
        };
        let place = socket.display().to_string();
        let client = Docker::connect_with_unix(&place, LIMIT, API_DEFAULT_VERSION);
        Ok(Self {
            client: client.map_err(|source| EngineError::Api {
                socket: socket.clone(),
                source,
            })?,
            socket: socket.clone(),
        })
    }

    /// Its socket.
    #[must_use]
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    fn failed(&self) -> impl Fn(bollard::errors::Error) -> EngineError {
        let socket = self.socket.clone();
        move |source| EngineError::Api {
            socket: socket.clone(),
            source,
        }
    }

    /// Every container, with all that matters of those in `wanted`.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn containers(
        &self,
        wanted: &BTreeSet<String>,
    ) -> Result<Vec<ContainerSeen>, EngineError> {
        let options = ListContainersOptionsBuilder::default().all(true).build();
        let all = self.client.list_containers(Some(options)).await;
        let mut containers = Vec::new();
        for summary in all.map_err(self.failed())? {
            let names = summary.names.unwrap_or_default();
            let Some(name) = names.first().map(|name| name.trim_start_matches('/')) else {
                continue;
            };
            if !wanted.contains(name) {
                containers.push(ContainerSeen {
                    name: name.to_owned(),
                    ..ContainerSeen::default()
                });
                continue;
            }
            // One that was removed meanwhile is none.
            containers.extend(self.container(name).await?);
        }
        Ok(containers)
    }

    /// Waits until something about a container has changed, at most for the time `most`.
    pub async fn changed(&self, most: Duration) {
        let kinds = std::collections::HashMap::from([("type", vec!["container"])]);
        let options = EventsOptionsBuilder::default().filters(&kinds).build();
        let mut events = Box::pin(self.client.events(Some(options)));
        match tokio::time::timeout(most, events.next()).await {
            Ok(Some(Ok(_))) | Err(_) => {}
            // An engine that does not report changes is asked again soon.
            Ok(_) => tokio::time::sleep(UNTOLD).await,
        }
    }

    /// One container; `None` when there is none.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn container(&self, name: &str) -> Result<Option<ContainerSeen>, EngineError> {
        let inspected = self.inspect(name).await?;
        Ok(inspected.map(|inspected| seen(name, &inspected)))
    }

    /// The id of a container, which another of the same name does not have; `None` when there is
    /// none.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn id(&self, container: &str) -> Result<Option<String>, EngineError> {
        Ok(self
            .inspect(container)
            .await?
            .and_then(|inspected| inspected.id))
    }

    async fn inspect(&self, name: &str) -> Result<Option<ContainerInspectResponse>, EngineError> {
        match self.client.inspect_container(name, None).await {
            Ok(inspected) => Ok(Some(inspected)),
            Err(error) if is_missing(&error) => Ok(None),
            Err(error) => Err(self.failed()(error)),
        }
    }

    /// Puts files, each with its name, content and mode, into a folder of a container, which may be
    /// stopped.
    ///
    /// # Errors
    /// When the engine does not answer, or there is no such container or folder.
    pub async fn put_files(
        &self,
        container: &str,
        folder: &str,
        files: &[(String, Vec<u8>, u32)],
    ) -> Result<(), EngineError> {
        let archive = archive(files).map_err(EngineError::Archive)?;
        let options = UploadToContainerOptionsBuilder::default()
            .path(folder)
            .build();
        let body = bollard::body_full(archive.into());
        let put = self
            .client
            .upload_to_container(container, Some(options), body);
        put.await.map_err(self.failed())
    }
}

/// An archive (tar) as engines take it.
fn archive(files: &[(String, Vec<u8>, u32)]) -> std::io::Result<Vec<u8>> {
    let mut archive = tar::Builder::new(Vec::new());
    for (name, content, mode) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(content.len() as u64);
        header.set_mode(*mode);
        header.set_cksum();
        archive.append_data(&mut header, name, content.as_slice())?;
    }
    archive.into_inner()
}

fn is_missing(error: &bollard::errors::Error) -> bool {
    matches!(
        error,
        bollard::errors::Error::DockerResponseServerError {
            status_code: 404,
            ..
        }
    )
}

fn seen(name: &str, inspected: &ContainerInspectResponse) -> ContainerSeen {
    let state = inspected.state.as_ref();
    let config = inspected.config.as_ref();
    let settings = inspected.network_settings.as_ref();
    let labels = config.and_then(|config| config.labels.as_ref());
    let port = |text: &str| text.split('/').next()?.parse::<u16>().ok();
    let ports = settings.and_then(|it| it.ports.clone()).unwrap_or_default();
    let mut published: Vec<(u16, SocketAddr)> = Vec::new();
    for (inside, bindings) in &ports {
        let Some(inside) = port(inside).filter(|_| !inside.ends_with("/udp")) else {
            continue;
        };
        for binding in bindings.iter().flatten() {
            published.extend(places(binding).into_iter().map(|at| (inside, at)));
        }
    }
    published.sort_unstable();
    published.dedup();
    let exposed = config.and_then(|config| config.exposed_ports.clone());
    let mut exposed: Vec<u16> = exposed.iter().flatten().filter_map(|it| port(it)).collect();
    exposed.sort_unstable();
    let networks = settings
        .and_then(|it| it.networks.clone())
        .unwrap_or_default();
    let mode = inspected
        .host_config
        .as_ref()
        .and_then(|it| it.network_mode.clone());
    let mut names: Vec<String> = networks.keys().cloned().collect();
    if names.is_empty() {
        names.extend(mode);
    }
    names.sort();
    ContainerSeen {
        name: name.to_owned(),
        running: state.and_then(|state| state.running).unwrap_or_default(),
        pid: state
            .and_then(|state| state.pid)
            .and_then(|pid| u32::try_from(pid).ok())
            .filter(|pid| *pid > 0),
        port: labels
            .and_then(|labels| labels.get(PORT_LABEL))
            .and_then(|text| text.parse().ok()),
        published,
        exposed,
        reachable: networks.values().filter_map(reachable).collect(),
        networks: names,
        image: inspected.image.clone(),
    }
}

/// Where this machine listens for a published port; for every address means for loopback, too.
fn places(binding: &PortBinding) -> Vec<SocketAddr> {
    let port = binding
        .host_port
        .as_deref()
        .and_then(|text| text.parse().ok());
    let Some(port) = port.filter(|port: &u16| *port != 0) else {
        return Vec::new();
    };
    match binding.host_ip.as_deref().unwrap_or_default().parse() {
        Ok(IpAddr::V4(ip)) if !ip.is_unspecified() => vec![(ip, port).into()],
        Ok(IpAddr::V6(ip)) if !ip.is_unspecified() => vec![(ip, port).into()],
        Ok(IpAddr::V6(_)) => vec![(Ipv6Addr::LOCALHOST, port).into()],
        _ => vec![(Ipv4Addr::LOCALHOST, port).into()],
    }
}

/// The container's own address on a network whose gateway is this machine.
fn reachable(network: &EndpointSettings) -> Option<IpAddr> {
    let gateway: IpAddr = network.gateway.as_deref()?.parse().ok()?;
    // Only an address of this machine can be bound.
    UdpSocket::bind((gateway, 0)).ok()?;
    network.ip_address.as_deref()?.parse().ok()
}
