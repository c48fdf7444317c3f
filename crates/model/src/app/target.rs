use std::collections::BTreeMap;
use std::fmt;
use std::net::SocketAddr;
use std::str::FromStr;

use super::name::{AppName, PortName};
use crate::invalid::Invalid;

/// An app by its name, and one of its ports where it has several.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AppTarget {
    /// The app's name.
    pub name: AppName,
    /// The name of the port; its first one when there is none.
    pub port: Option<PortName>,
}

impl fmt::Display for AppTarget {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "app:{}", self.name)?;
        let Some(port) = &self.port else {
            return Ok(());
        };
        write!(f, ":{port}")
    }
}

impl FromStr for AppTarget {
    type Err = Invalid;

    /// Reads `NAME` or `NAME:PORT`, where PORT is a name.
    fn from_str(text: &str) -> Result<Self, Invalid> {
        let (name, port) = match text.split_once(':') {
            Some((name, port)) => (name, Some(port.parse()?)),
            None => (text, None),
        };
        Ok(Self {
            name: name.parse()?,
            port,
        })
    }
}

/// Where a port of an app is, while the app runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunningPort {
    /// The name of the port; empty for the only one.
    pub name: String,
    /// Where it can be connected to.
    pub at: Vec<SocketAddr>,
}

/// The apps that can be connected to.
pub type Apps = BTreeMap<AppName, Vec<RunningPort>>;

/// Where an app that a route leads to is.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum AppPlace {
    /// It can be connected to at these.
    At(Vec<SocketAddr>),
    /// It does not run, or is not ready.
    NotReady,
}

impl AppPlace {
    /// Where a route that leads to `target` leads.
    pub(crate) fn of(target: &AppTarget, apps: &Apps) -> Self {
        let ports = apps.get(&target.name).into_iter().flatten();
        let is_meant = |port: &&RunningPort| {
            let wanted = target.port.as_ref();
            wanted.is_none_or(|wanted| *port.name == *wanted.as_str())
        };
        let mut meant = ports.into_iter().filter(is_meant);
        meant
            .next()
            .map_or(Self::NotReady, |port| Self::At(port.at.clone()))
    }
}
