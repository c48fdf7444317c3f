use std::collections::HashMap;
use std::future::ready;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};
use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_model::{ContainerSeen, Health, ROUTES_LABEL};
use bollard::models::{
    ContainerInspectResponse, EndpointSettings, EventMessageTypeEnum, HealthStatusEnum, PortBinding,
};
use bollard::query_parameters::{
    EventsOptionsBuilder, ListContainersOptionsBuilder, UploadToContainerOptionsBuilder,
};
use bollard::{API_DEFAULT_VERSION, Docker};
use futures_util::{Stream, StreamExt, TryStreamExt, stream};

/// Where engines have their sockets.
const SOCKETS: [&str; 4] = [
    "/var/run/docker.sock",
    "/run/podman/podman.sock",
    "/run/user/{uid}/podman/podman.sock",
    "/run/user/{uid}/docker.sock",
];
/// The variables that name the socket for the engines' own clients.
const VARIABLES: [&str; 2] = ["DOCKER_HOST", "CONTAINER_HOST"];
/// The labels with the project of a compose file, and the service in it.
const PROJECT_LABELS: [&str; 2] = ["com.docker.compose.project", "io.podman.compose.project"];
const SERVICE_LABELS: [&str; 2] = ["com.docker.compose.service", "io.podman.compose.service"];
/// Seconds that an answer may take.
const LIMIT: u64 = 5;
/// How long a container may take to stop: its engine gives it ten seconds.
const STOP_LIMIT: Duration = Duration::from_secs(20);
/// Containers that an engine is asked about at the same time.
const AT_ONCE: usize = 8;

/// The sockets at which there can be an engine: those that are `configured`, or else that of the
/// environment and the usual ones.
#[must_use]
pub fn sockets(configured: &[PathBuf], uid: u32) -> Vec<PathBuf> {
    if !configured.is_empty() {
        return configured.to_vec();
    }
    let named = VARIABLES.iter().filter_map(|name| std::env::var(name).ok());
    let named = named.filter_map(|url| url.strip_prefix("unix://").map(PathBuf::from));
    let usual = SOCKETS
        .iter()
        .map(|path| path.replace("{uid}", &uid.to_string()));
    let mut all: Vec<PathBuf> = Vec::new();
    for socket in named.chain(usual.map(PathBuf::from)) {
        // One may be a link to another.
        let real = |path: &PathBuf| path.canonicalize().unwrap_or_else(|_| path.clone());
        if all.iter().all(|known| real(known) != real(&socket)) {
            all.push(socket);
        }
    }
    all
}

/// A network of containers, as its engine reports it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NetworkSeen {
    /// Its name.
    pub name: String,
    /// The socket of its engine.
    pub engine: String,
    /// What makes it, such as `bridge`.
    pub driver: String,
    /// The address of the machine on it.
    pub gateway: Option<String>,
    /// Its addresses, such as `10.88.0.0/16`.
    pub subnet: Option<String>,
}

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
    /// No engine has it.
    #[error("there is no container {0}: see `bentlane container list`")]
    NoContainer(String),
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
    /// The engine at `socket`; without one, the first of those that the environment names and the usual
    /// ones that is there.
    ///
    /// # Errors
    /// When there is no socket.
    pub fn find(socket: Option<&Path>, uid: u32) -> Result<Self, EngineError> {
        let configured: Vec<PathBuf> = socket.map(Path::to_owned).into_iter().collect();
        let candidates = sockets(&configured, uid);
        let found = candidates.iter().find(|path| path.exists());
        let Some(socket) = found else {
            let tried = candidates.iter().map(|path| path.display().to_string());
            return Err(EngineError::NoSocket(tried.collect()));
        };
        Self::at(socket)
    }

    /// The engine at this socket.
    ///
    /// # Errors
    /// When there is no socket.
    pub fn at(socket: &Path) -> Result<Self, EngineError> {
        if !socket.exists() {
            return Err(EngineError::NoSocket(vec![socket.display().to_string()]));
        }
        let place = socket.display().to_string();
        let client = Docker::connect_with_unix(&place, LIMIT, API_DEFAULT_VERSION);
        Ok(Self {
            client: client.map_err(|source| EngineError::Api {
                socket: socket.to_owned(),
                source,
            })?,
            socket: socket.to_owned(),
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

    /// The ids of all containers, each with the engine's word for its state.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn list(&self) -> Result<Vec<(String, String)>, EngineError> {
        let options = ListContainersOptionsBuilder::default().all(true).build();
        let all = self.client.list_containers(Some(options)).await;
        let all = all.map_err(self.failed())?.into_iter();
        let listed = all.filter_map(|summary| {
            let state = summary.state.map(|state| state.to_string());
            let status = summary.status.unwrap_or_default();
            // The health is in words only: "Up 3 minutes (healthy)".
            let health = status.split_once('(').map(|(_, health)| health.to_owned());
            let state = state.unwrap_or_default() + &health.unwrap_or_default();
            Some((summary.id?, state))
        });
        Ok(listed.collect())
    }

    /// Every container.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn containers(&self) -> Result<Vec<ContainerSeen>, EngineError> {
        let ids = self.list().await?.into_iter().map(|(id, _)| id);
        let found = self.several(ids.collect()).await?;
        Ok(found.into_iter().filter_map(|(_, seen)| seen).collect())
    }

    /// The containers with these ids or names; `None` for one that is gone.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn several(
        &self,
        ids: Vec<String>,
    ) -> Result<Vec<(String, Option<ContainerSeen>)>, EngineError> {
        let asked = stream::iter(ids).map(|id| async move {
            let seen = self.container(&id).await?;
            Ok((id, seen))
        });
        asked.buffer_unordered(AT_ONCE).try_collect().await
    }

    /// The containers that something happens to, from now on: `None` for what may concern any of them.
    /// The stream ends when the connection does.
    pub fn events(&self) -> impl Stream<Item = Option<String>> + Send + use<> {
        let kinds = HashMap::from([("type", vec!["container", "network"])]);
        let options = EventsOptionsBuilder::default().filters(&kinds).build();
        let events = self.client.events(Some(options));
        let events = events.take_while(|event| ready(event.is_ok()));
        events.filter_map(|event| ready(event.ok())).map(|event| {
            let is_container = event.typ == Some(EventMessageTypeEnum::CONTAINER);
            let actor = event.actor?;
            match is_container {
                true => actor.id,
                false => actor.attributes?.remove("container"),
            }
        })
    }

    /// The networks of this engine.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn networks(&self) -> Result<Vec<NetworkSeen>, EngineError> {
        let all = self.client.list_networks(None).await;
        let all = all.map_err(self.failed())?.into_iter();
        let seen = all.filter_map(|network| {
            let pools = network
                .ipam
                .and_then(|ipam| ipam.config)
                .unwrap_or_default();
            let is_v4 = |pool: &&bollard::models::IpamConfig| {
                pool.subnet
                    .as_deref()
                    .is_some_and(|subnet| subnet.contains('.'))
            };
            let pool = pools.iter().find(is_v4);
            Some(NetworkSeen {
                name: network.name?,
                engine: self.socket.display().to_string(),
                driver: network.driver.unwrap_or_default(),
                gateway: pool.and_then(|pool| pool.gateway.clone()),
                subnet: pool.and_then(|pool| pool.subnet.clone()),
            })
        });
        Ok(seen.collect())
    }

    /// Starts a container.
    ///
    /// # Errors
    /// When the engine does not answer, or does not start it.
    pub async fn start(&self, name: &str) -> Result<(), EngineError> {
        let started = self.client.start_container(name, None).await;
        done(started).map_err(self.failed())
    }

    /// Stops a container; its engine kills it when it takes more than ten seconds.
    ///
    /// # Errors
    /// When the engine does not answer, or does not stop it.
    pub async fn stop(&self, name: &str) -> Result<(), EngineError> {
        let client = self.client.clone().with_timeout(STOP_LIMIT);
        done(client.stop_container(name, None).await).map_err(self.failed())
    }

    /// Whether the label with routes of this container came with its image.
    async fn label_is_of_image(&self, image: Option<&str>, label: &str) -> bool {
        let Some(image) = image else {
            return false;
        };
        let Ok(image) = self.client.inspect_image(image).await else {
            return false;
        };
        let labels = image.config.and_then(|config| config.labels);
        labels.is_some_and(|labels| labels.get(ROUTES_LABEL).is_some_and(|own| own == label))
    }

    /// One container; `None` when there is none.
    ///
    /// # Errors
    /// When the engine does not answer.
    pub async fn container(&self, name: &str) -> Result<Option<ContainerSeen>, EngineError> {
        let Some(inspected) = self.inspect(name).await? else {
            return Ok(None);
        };
        let mut seen = seen(&inspected);
        seen.engine = self.socket.display().to_string();
        if let Some(label) = &seen.label {
            let of_image = self.label_is_of_image(seen.image.as_deref(), label).await;
            seen.label_of_image = of_image;
        }
        Ok(Some(seen))
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

/// What an answer comes to which says that it was so already (304).
fn done(answer: Result<(), bollard::errors::Error>) -> Result<(), bollard::errors::Error> {
    match answer {
        Err(bollard::errors::Error::DockerResponseServerError {
            status_code: 304, ..
        }) => Ok(()),
        answer => answer,
    }
}

fn seen(inspected: &ContainerInspectResponse) -> ContainerSeen {
    let state = inspected.state.as_ref();
    let config = inspected.config.as_ref();
    let settings = inspected.network_settings.as_ref();
    let labels = config.and_then(|config| config.labels.as_ref());
    let label = |names: &[&str]| {
        let mut values = names.iter().filter_map(|name| labels?.get(*name));
        values.next().filter(|value| !value.is_empty()).cloned()
    };
    let port = |text: &str| text.split('/').next()?.parse::<u16>().ok();
    let tcp =
        |text: &str| port(text).filter(|_| !text.ends_with("/udp") && !text.ends_with("/sctp"));
    let ports = settings.and_then(|it| it.ports.clone()).unwrap_or_default();
    let mut published: Vec<(u16, SocketAddr)> = Vec::new();
    for (inside, bindings) in &ports {
        let Some(inside) = tcp(inside) else {
            continue;
        };
        for binding in bindings.iter().flatten() {
            published.extend(places(binding).into_iter().map(|at| (inside, at)));
        }
    }
    published.sort_unstable();
    published.dedup();
    let host = inspected.host_config.as_ref();
    let bindings = host
        .and_then(|it| it.port_bindings.clone())
        .unwrap_or_default();
    let bindings = bindings
        .into_iter()
        .filter(|(inside, _)| tcp(inside).is_some());
    let bindings = bindings.flat_map(|(_, bindings)| bindings.unwrap_or_default());
    let wanted = bindings.filter_map(|binding| binding.host_port?.parse().ok());
    let mut host_ports: Vec<u16> = wanted.filter(|port| *port != 0).collect();
    host_ports.extend(published.iter().map(|(_, at)| at.port()));
    host_ports.sort_unstable();
    host_ports.dedup();
    let exposed = config.and_then(|config| config.exposed_ports.clone());
    let mut exposed: Vec<u16> = exposed.iter().flatten().filter_map(|it| tcp(it)).collect();
    exposed.sort_unstable();
    let networks = settings
        .and_then(|it| it.networks.clone())
        .unwrap_or_default();
    let mode = host.and_then(|it| it.network_mode.clone());
    let mut names: Vec<String> = networks.keys().cloned().collect();
    if names.is_empty() {
        names.extend(mode);
    }
    names.sort();
    let health = state.and_then(|state| state.health.as_ref()?.status);
    let mut reachable: Vec<IpAddr> = networks.values().filter_map(reachable).collect();
    reachable.sort_unstable();
    ContainerSeen {
        name: inspected
            .name
            .as_deref()
            .unwrap_or_default()
            .trim_start_matches('/')
            .to_owned(),
        id: inspected.id.clone().unwrap_or_default(),
        engine: String::new(),
        state: state
            .and_then(|state| state.status)
            .map(|status| status.to_string())
            .unwrap_or_default(),
        running: state.and_then(|state| state.running).unwrap_or_default(),
        health: health.and_then(|health| match health {
            HealthStatusEnum::STARTING => Some(Health::Starting),
            HealthStatusEnum::HEALTHY => Some(Health::Healthy),
            HealthStatusEnum::UNHEALTHY => Some(Health::Unhealthy),
            HealthStatusEnum::EMPTY | HealthStatusEnum::NONE => None,
        }),
        created: inspected
            .created
            .as_ref()
            .map(ToString::to_string)
            .unwrap_or_default(),
        pid: state
            .and_then(|state| state.pid)
            .and_then(|pid| u32::try_from(pid).ok())
            .filter(|pid| *pid > 0),
        project: label(&PROJECT_LABELS),
        service: label(&SERVICE_LABELS),
        label: label(&[ROUTES_LABEL]),
        label_of_image: false,
        published,
        host_ports,
        exposed,
        reachable,
        networks: names,
        image: inspected.image.clone(),
        image_name: config.and_then(|config| config.image.clone()),
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
