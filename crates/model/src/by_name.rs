//! Targets that follow from the name that is asked for.

use std::fmt;
use std::num::NonZeroU16;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::by_text::serde_by_text;
use crate::invalid::Invalid;
use crate::name::Name;
use crate::target::Target;

/// What the first label of a name below a wildcard stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ByName {
    /// A port of this machine, on which a process of the service's user speaks HTTP.
    Port,
    /// An app.
    App,
    /// A container.
    Container,
}

impl ByName {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Port, Self::App, Self::Container];

    /// How it is written as a target.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Port => "port-from-name",
            Self::App => "app-from-name",
            Self::Container => "container-from-name",
        }
    }

    /// Where `name`, below `base`, leads; `None` when it has more than one label more, or one that stands
    /// for nothing.
    #[must_use]
    pub fn target(self, name: &str, base: &Name) -> Option<Target> {
        let label = name.strip_suffix(base.as_str())?.strip_suffix('.')?;
        match self {
            _ if label.contains('.') => None,
            Self::Port => label.parse().ok().map(Target::Port),
            Self::App => format!("app:{label}").parse().ok(),
            Self::Container => format!("container:{label}").parse().ok(),
        }
    }

    /// What it leads to, in words.
    #[must_use]
    pub fn describe(self) -> &'static str {
        match self {
            Self::Port => "the port that the name begins with",
            Self::App => "the app that the name begins with",
            Self::Container => "the container that the name begins with",
        }
    }
}

/// The ports from one to another, such as `3000-9999`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PortRange {
    first: NonZeroU16,
    last: NonZeroU16,
}

impl PortRange {
    /// Whether it has `port`.
    #[must_use]
    pub fn contains(self, port: u16) -> bool {
        (self.first.get()..=self.last.get()).contains(&port)
    }
}

impl fmt::Display for PortRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{}", self.first, self.last)
    }
}

impl FromStr for PortRange {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        let range = text.split_once('-').and_then(|(first, last)| {
            let (first, last) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
            (first <= last).then_some(Self { first, last })
        });
        range.ok_or_else(|| {
            let reason = format!("`{text}` is no range of ports such as `3000-9999`");
            Invalid::new("ports", reason)
        })
    }
}

serde_by_text!(PortRange);

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(ByName::Port, "4310.at.moor.test", Some("4310"))]
    #[case(ByName::Port, "0.at.moor.test", None)]
    #[case(ByName::Port, "a.4310.at.moor.test", None)]
    #[case(ByName::Port, "huts.at.moor.test", None)]
    #[case(ByName::Port, "4310.moor.test", None)]
    #[case(ByName::Port, "at.moor.test", None)]
    #[case(ByName::App, "huts.at.moor.test", Some("app:huts"))]
    #[case(ByName::Container, "huts_web.at.moor.test", Some("container:huts_web"))]
    fn the_first_label_says_where_a_name_leads(
        #[case] by: ByName,
        #[case] name: &str,
        #[case] to: Option<&str>,
    ) {
        let target = by.target(name, &"at.moor.test".parse().unwrap());
        assert_eq!(target.map(|it| it.to_string()).as_deref(), to);
    }

    #[rstest]
    #[case("3000-9999", true)]
    #[case("9999-3000", false)]
    #[case("3000", false)]
    #[case("0-5", false)]
    fn ranges_are_read(#[case] text: &str, #[case] fine: bool) {
        let range = text.parse::<PortRange>();
        assert_eq!(range.is_ok(), fine);
        assert!(range.is_err() || range.unwrap().contains(5000));
    }
}
