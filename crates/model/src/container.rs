//! Containers as targets: which ones a route means, and where they can be connected to.

use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::num::NonZeroU16;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A container by its name, or all containers of a service, with the port in it when that is given.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ContainerTarget {
    /// The container's name, or `PROJECT-SERVICE` for those of a service.
    pub name: Box<str>,
    /// The port inside it.
    pub port: Option<NonZeroU16>,
}

impl fmt::Display for ContainerTarget {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "container:{}", self.name)?;
        self.port.map_or(Ok(()), |port| write!(f, ":{port}"))
    }
}

impl FromStr for ContainerTarget {
    type Err = String;

    /// Reads `NAME` or `NAME:PORT`, as engines name containers.
    fn from_str(text: &str) -> Result<Self, String> {
        let (name, port) = match text.split_once(':') {
            Some((name, port)) => {
                let parsed = port.parse();
                let parsed = parsed.map_err(|_| format!("`{port}` is no port"))?;
                (name, Some(parsed))
            }
            None => (text, None),
        };
        let mut letters = name.chars();
        let begins = letters.next().is_some_and(|c| c.is_ascii_alphanumeric());
        if !begins || !letters.all(|c| c.is_ascii_alphanumeric() || "_.-".contains(c)) {
            return Err(format!("`{name}` is no name of a container"));
        }
        Ok(Self {
            name: name.into(),
            port,
        })
    }
}

/// What the health check of a container came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Health {
    /// It has not passed yet, and still may.
    Starting,
    /// It passed.
    Healthy,
    /// It failed.
    Unhealthy,
}

impl Health {
    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Starting => "starting",
            Self::Healthy => "healthy",
            Self::Unhealthy => "unhealthy",
        }
    }
}

/// A container, as its engine reports it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ContainerSeen {
    /// Its name.
    pub name: String,
    /// Its id.
    #[serde(default)]
    pub id: String,
    /// The socket of its engine.
    #[serde(default)]
    pub engine: String,
    /// The engine's word for its state, such as `running` or `exited`.
    #[serde(default)]
    pub state: String,
    /// Whether it runs.
    pub running: bool,
    /// What its health check came to; absent when it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub health: Option<Health>,
    /// When it was made, as the engine writes it (RFC 3339).
    #[serde(default)]
    pub created: String,
    /// The process that it was started with, while it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// The project of the compose file that it is from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub project: Option<String>,
    /// The service of the compose file that it is one of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<String>,
    /// What its label `bentlane.routes` says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Whether that label came with the image, and counts for nothing.
    #[serde(default)]
    pub label_of_image: bool,
    /// Ports inside it, and where this machine passes them in.
    #[schema(value_type = Vec<(u16, String)>)]
    pub published: Vec<(u16, SocketAddr)>,
    /// Ports of this machine that it has, or will have once it runs.
    #[serde(default)]
    pub host_ports: Vec<u16>,
    /// Ports that its image says it listens on.
    pub exposed: Vec<u16>,
    /// Its own addresses that can be reached from this machine.
    #[schema(value_type = Vec<String>)]
    pub reachable: Vec<IpAddr>,
    /// The networks that it is on.
    pub networks: Vec<String>,
    /// The image that it was made from: its digest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// The image as it was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image_name: Option<String>,
}

impl ContainerSeen {
    /// The name for a route that follows it when it is recreated, and reaches the other
    /// containers of its service, too: `PROJECT-SERVICE`, or its name when it is of none.
    #[must_use]
    pub fn route_name(&self) -> String {
        match (&self.project, &self.service) {
            (Some(project), Some(service)) => format!("{project}-{service}"),
            _ => self.name.clone(),
        }
    }

    /// The port that a route means which names none: the only one that is published, or exposed.
    fn only_port(&self) -> Option<u16> {
        let published = only(self.published.iter().map(|(port, _)| *port));
        match self.published.is_empty() {
            true => only(self.exposed.iter().copied()),
            false => published,
        }
    }

    /// Where it can be connected to.
    fn place(&self, port: Option<u16>) -> ContainerPlace {
        if !self.running {
            return ContainerPlace::Stopped;
        }
        let inside = port.or_else(|| self.only_port());
        let published = self.published.iter();
        let published = published.filter(|(port, _)| Some(*port) == inside);
        let published: Vec<SocketAddr> = published.map(|(_, at)| *at).collect();
        if !published.is_empty() {
            return ContainerPlace::At(published);
        }
        if self.published.is_empty() && self.reachable.is_empty() && has_no_way(&self.networks) {
            return ContainerPlace::Elsewhere(self.networks.clone());
        }
        match inside {
            Some(port) if !self.reachable.is_empty() => {
                let own = self.reachable.iter().map(|ip| (*ip, port).into());
                ContainerPlace::At(own.collect())
            }
            Some(_) => ContainerPlace::Unpublished(self.exposed.clone()),
            None => {
                let mut several: Vec<u16> = self.published.iter().map(|(port, _)| *port).collect();
                if several.is_empty() {
                    several.clone_from(&self.exposed);
                }
                several.sort_unstable();
                several.dedup();
                match several.len() {
                    0 | 1 => ContainerPlace::Unpublished(self.exposed.clone()),
                    _ => ContainerPlace::PortUnclear(several),
                }
            }
        }
    }
}

/// An engine that does not answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SilentEngine {
    /// Its socket.
    pub socket: String,
    /// Why.
    pub reason: String,
}

/// All containers of all engines, as they were reported last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Containers {
    /// The containers; those of an engine that does not answer any more as it reported them last.
    pub seen: Vec<ContainerSeen>,
    /// The engines that do not answer.
    pub silent: Vec<SilentEngine>,
}

impl Default for Containers {
    fn default() -> Self {
        Self::unknown("it has not been asked yet")
    }
}

/// One of several containers that answer for the same route.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Replica {
    /// The container's name.
    pub name: String,
    /// Where it can be connected to.
    pub at: Vec<SocketAddr>,
}

/// Where the containers that a route leads to are.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ContainerPlace {
    /// It can be connected to at these.
    At(Vec<SocketAddr>),
    /// Each of these can be, and one is as good as another.
    Replicas(Vec<Replica>),
    /// It runs, and its health check has not passed yet.
    Starting,
    /// It does not run.
    Stopped,
    /// There is none of that name; there are these.
    Gone(Vec<String>),
    /// It passes no port out that could be meant; these are there inside it.
    Unpublished(Vec<u16>),
    /// It has several ports, of which none was chosen.
    PortUnclear(Vec<u16>),
    /// It is on no network that leads here, but on these.
    Elsewhere(Vec<String>),
    /// No engine answers, and why.
    EngineSilent(String),
}

impl Containers {
    /// Nothing is known, since no engine answers for this reason.
    #[must_use]
    pub fn unknown(reason: &str) -> Self {
        Self {
            seen: Vec::new(),
            silent: vec![SilentEngine {
                socket: String::new(),
                reason: reason.to_owned(),
            }],
        }
    }

    /// The containers that `target` names: the one with this name, or those of the service
    /// `PROJECT-SERVICE`, as engines write it with a hyphen or an underscore.
    pub fn named<'a>(&'a self, target: &ContainerTarget) -> Vec<&'a ContainerSeen> {
        let name = &*target.name;
        if let Some(one) = self.seen.iter().find(|seen| seen.name == name) {
            return vec![one];
        }
        let is_of = |seen: &&ContainerSeen| match (&seen.project, &seen.service) {
            (Some(project), Some(service)) => {
                let rest = name.strip_prefix(project.as_str());
                let rest = rest.and_then(|rest| rest.strip_prefix(['-', '_']));
                rest == Some(service)
            }
            _ => false,
        };
        self.seen.iter().filter(is_of).collect()
    }

    /// Why the engine of the containers that `target` names does not answer, while they are where they
    /// were.
    #[must_use]
    pub fn silent_engine_of(&self, target: &ContainerTarget) -> Option<&SilentEngine> {
        let first = *self.named(target).first()?;
        self.silent
            .iter()
            .find(|silent| silent.socket == first.engine)
    }

    /// Where a route that leads to a container leads. The port is the route's, or the only one that is
    /// published, or exposed.
    #[must_use]
    pub fn place(&self, target: &ContainerTarget) -> ContainerPlace {
        let named = self.named(target);
        let port = target.port.map(NonZeroU16::get);
        if named.is_empty() {
            if let Some(silent) = self.silent.first() {
                return ContainerPlace::EngineSilent(silent.reason.clone());
            }
            let names = self.seen.iter().map(|seen| seen.name.clone());
            return ContainerPlace::Gone(names.collect());
        }
        let places = named.iter().map(|seen| (*seen, seen.place(port)));
        let (at, other): (Vec<_>, Vec<_>) =
            places.partition(|(_, place)| matches!(place, ContainerPlace::At(_)));
        if at.is_empty() {
            // Of those that run there is more to be said.
            let mut other = other.into_iter().map(|(_, place)| place);
            let first = other
                .clone()
                .find(|place| *place != ContainerPlace::Stopped);
            let stopped = || other.next().unwrap_or(ContainerPlace::Stopped);
            return first.unwrap_or_else(stopped);
        }
        // Those that are well, or else any that is not still starting.
        let is_well = |seen: &ContainerSeen| matches!(seen.health, None | Some(Health::Healthy));
        let any_well = at.iter().any(|(seen, _)| is_well(seen));
        let goes = |seen: &ContainerSeen| match any_well {
            true => is_well(seen),
            false => seen.health == Some(Health::Unhealthy),
        };
        let replicas = at.into_iter().filter(|(seen, _)| goes(seen));
        let replicas = replicas.filter_map(|(seen, place)| match place {
            ContainerPlace::At(at) => Some(Replica {
                name: seen.name.clone(),
                at,
            }),
            _ => None,
        });
        let mut replicas: Vec<Replica> = replicas.collect();
        replicas.sort_by(|a, b| a.name.cmp(&b.name));
        match replicas.len() {
            0 => ContainerPlace::Starting,
            1 => ContainerPlace::At(replicas.remove(0).at),
            _ => ContainerPlace::Replicas(replicas),
        }
    }
}

/// Whether these networks, as engines name them, never lead to the machine.
fn has_no_way(networks: &[String]) -> bool {
    networks.is_empty()
        || networks.iter().all(|name| {
            name == "none" || name.starts_with("container:") || name.ends_with("(internal)")
        })
}

/// The one value, if all are the same.
fn only(mut values: impl Iterator<Item = u16>) -> Option<u16> {
    let first = values.next()?;
    values.all(|value| value == first).then_some(first)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn seen(name: &str) -> ContainerSeen {
        ContainerSeen {
            name: name.to_owned(),
            running: true,
            networks: vec!["bridge".to_owned()],
            ..ContainerSeen::default()
        }
    }

    fn published(ports: &[(u16, &str)]) -> ContainerSeen {
        let ports = ports.iter().map(|(port, at)| (*port, at.parse().unwrap()));
        ContainerSeen {
            published: ports.collect(),
            ..seen("web")
        }
    }

    fn at(places: &[&str]) -> ContainerPlace {
        ContainerPlace::At(places.iter().map(|at| at.parse().unwrap()).collect())
    }

    #[rstest]
    #[case("web", published(&[(80, "127.0.0.1:8099")]), at(&["127.0.0.1:8099"]))]
    #[case("web:80", published(&[(80, "127.0.0.1:8099"), (443, "127.0.0.1:8443")]), at(&["127.0.0.1:8099"]))]
    #[case("web", published(&[(80, "127.0.0.1:1"), (443, "127.0.0.1:2")]), ContainerPlace::PortUnclear(vec![80, 443]))]
    #[case("web", ContainerSeen { exposed: vec![80, 81], ..seen("web") }, ContainerPlace::PortUnclear(vec![80, 81]))]
    #[case("web:81", published(&[(80, "127.0.0.1:8099")]), ContainerPlace::Unpublished(vec![]))]
    #[case("web", ContainerSeen { exposed: vec![80], reachable: vec![[10, 88, 0, 2].into()], ..seen("web") }, at(&["10.88.0.2:80"]))]
    #[case("web", ContainerSeen { exposed: vec![80], ..seen("web") }, ContainerPlace::Unpublished(vec![80]))]
    #[case("web", ContainerSeen { networks: vec!["none".into()], ..seen("web") }, ContainerPlace::Elsewhere(vec!["none".into()]))]
    #[case("web", ContainerSeen { running: false, ..published(&[(80, "127.0.0.1:1")]) }, ContainerPlace::Stopped)]
    #[case("web", ContainerSeen { health: Some(Health::Starting), ..published(&[(80, "127.0.0.1:1")]) }, ContainerPlace::Starting)]
    #[case("web", ContainerSeen { health: Some(Health::Unhealthy), ..published(&[(80, "127.0.0.1:1")]) }, at(&["127.0.0.1:1"]))]
    #[case("shop", seen("web"), ContainerPlace::Gone(vec!["web".into()]))]
    fn places(#[case] target: &str, #[case] seen: ContainerSeen, #[case] place: ContainerPlace) {
        let containers = Containers {
            seen: vec![seen],
            silent: Vec::new(),
        };
        assert_eq!(containers.place(&target.parse().unwrap()), place);
    }

    /// The containers of the service `web` of the project `huts`, each with the health that is given.
    fn scaled(health: &[Option<Health>]) -> Containers {
        let one = |(number, health): (usize, &Option<Health>)| {
            let at = format!("127.0.0.1:{}", 1 + number);
            ContainerSeen {
                name: format!("huts-web-{number}"),
                project: Some("huts".to_owned()),
                service: Some("web".to_owned()),
                health: *health,
                ..published(&[(80, &at)])
            }
        };
        Containers {
            seen: health.iter().enumerate().map(one).collect(),
            silent: Vec::new(),
        }
    }

    #[rstest]
    #[case(&[None, None], "huts-web", &[0, 1])]
    #[case(&[None, None], "huts_web:80", &[0, 1])]
    #[case(&[None, None], "huts-web-1", &[1])]
    #[case(&[None, Some(Health::Starting), Some(Health::Unhealthy)], "huts-web", &[0])]
    #[case(&[Some(Health::Unhealthy), Some(Health::Unhealthy)], "huts-web", &[0, 1])]
    fn a_service_is_all_its_containers_that_are_well(
        #[case] health: &[Option<Health>],
        #[case] target: &str,
        #[case] wanted: &[u16],
    ) {
        let found = match scaled(health).place(&target.parse().unwrap()) {
            ContainerPlace::At(at) => at,
            ContainerPlace::Replicas(replicas) => {
                replicas.into_iter().flat_map(|it| it.at).collect()
            }
            other => panic!("{other:?}"),
        };
        let found: Vec<u16> = found.into_iter().map(|at| at.port() - 1).collect();
        assert_eq!(found, wanted);
    }

    #[test]
    fn a_container_stays_where_it_was_while_its_engine_is_silent() {
        let target: ContainerTarget = "web".parse().unwrap();
        let mut containers = Containers::unknown("no socket");
        assert!(matches!(
            containers.place(&target),
            ContainerPlace::EngineSilent(_)
        ));
        containers.seen = vec![published(&[(80, "127.0.0.1:1")])];
        assert_eq!(containers.place(&target), at(&["127.0.0.1:1"]));
        assert!(containers.silent_engine_of(&target).is_some());
    }

    #[rstest]
    #[case("web", true)]
    #[case("web_1.x-y:80", true)]
    #[case("", false)]
    #[case("-web", false)]
    #[case("a/b", false)]
    #[case("web:0", false)]
    #[case("web:x", false)]
    fn names(#[case] text: &str, #[case] accepted: bool) {
        let parsed = text.parse::<ContainerTarget>();
        assert_eq!(parsed.is_ok(), accepted, "{parsed:?}");
    }
}
