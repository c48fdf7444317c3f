//! Containers as targets: which one a route means, and where it can be connected to.

use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::num::NonZeroU16;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A container by its name, with the port in it when that is given.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ContainerTarget {
    /// The container's name.
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

/// A container, as its engine reports it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ContainerSeen {
    /// Its name.
    pub name: String,
    /// Whether it runs.
    pub running: bool,
    /// The process that it was started with, while it runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// The port that its label `bentlane.port` names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Ports inside it, and where this machine passes them in.
    #[schema(value_type = Vec<(u16, String)>)]
    pub published: Vec<(u16, SocketAddr)>,
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
}

/// All containers, or why they are not known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Containers {
    /// The engine does not answer, or has not been asked.
    Unknown(String),
    /// These.
    Seen(Vec<ContainerSeen>),
}

impl Default for Containers {
    fn default() -> Self {
        Self::Unknown("it has not been asked yet".to_owned())
    }
}

/// Where a container that a route leads to is.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum ContainerPlace {
    /// It can be connected to at these.
    At(Vec<SocketAddr>),
    /// It does not run.
    Stopped,
    /// There is none of that name; there are these.
    Gone(Vec<String>),
    /// It passes no port out that could be meant; these are there inside it.
    Unpublished(Vec<u16>),
    /// It is on no network that leads here, but on these.
    Elsewhere(Vec<String>),
    /// No engine answers, and why.
    EngineSilent(String),
}

impl Containers {
    /// Where a route that leads to a container leads. The port is the route's, or that of the
    /// container's label, or the only one that is published, or exposed.
    #[must_use]
    pub fn place(&self, target: &ContainerTarget) -> ContainerPlace {
        let all = match self {
            Self::Unknown(reason) => return ContainerPlace::EngineSilent(reason.clone()),
            Self::Seen(all) => all,
        };
        let Some(seen) = all.iter().find(|seen| *seen.name == *target.name) else {
            let names = all.iter().map(|seen| seen.name.clone());
            return ContainerPlace::Gone(names.collect());
        };
        if !seen.running {
            return ContainerPlace::Stopped;
        }
        let inside = target.port.map(NonZeroU16::get).or(seen.port);
        let inside = inside.or_else(|| only(seen.published.iter().map(|(port, _)| *port)));
        let inside = inside.or_else(|| only(seen.exposed.iter().copied()));
        let published = seen.published.iter();
        let published = published.filter(|(port, _)| Some(*port) == inside);
        let published: Vec<SocketAddr> = published.map(|(_, at)| *at).collect();
        if !published.is_empty() {
            return ContainerPlace::At(published);
        }
        if seen.published.is_empty() && seen.reachable.is_empty() && has_no_way(&seen.networks) {
            return ContainerPlace::Elsewhere(seen.networks.clone());
        }
        match inside {
            Some(port) if !seen.reachable.is_empty() => {
                let own = seen.reachable.iter().map(|ip| (*ip, port).into());
                ContainerPlace::At(own.collect())
            }
            _ => ContainerPlace::Unpublished(seen.exposed.clone()),
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
    #[case("web", published(&[(80, "127.0.0.1:1"), (443, "127.0.0.1:2")]), ContainerPlace::Unpublished(vec![]))]
    #[case("web", ContainerSeen { port: Some(443), ..published(&[(80, "127.0.0.1:1"), (443, "127.0.0.1:2")]) }, at(&["127.0.0.1:2"]))]
    #[case("web:81", published(&[(80, "127.0.0.1:8099")]), ContainerPlace::Unpublished(vec![]))]
    #[case("web", ContainerSeen { exposed: vec![80], reachable: vec![[10, 88, 0, 2].into()], ..seen("web") }, at(&["10.88.0.2:80"]))]
    #[case("web", ContainerSeen { exposed: vec![80], ..seen("web") }, ContainerPlace::Unpublished(vec![80]))]
    #[case("web", ContainerSeen { networks: vec!["none".into()], ..seen("web") }, ContainerPlace::Elsewhere(vec!["none".into()]))]
    #[case("web", ContainerSeen { running: false, ..published(&[(80, "127.0.0.1:1")]) }, ContainerPlace::Stopped)]
    #[case("shop", seen("web"), ContainerPlace::Gone(vec!["web".into()]))]
    fn places(#[case] target: &str, #[case] seen: ContainerSeen, #[case] place: ContainerPlace) {
        let containers = Containers::Seen(vec![seen]);
        assert_eq!(containers.place(&target.parse().unwrap()), place);
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
