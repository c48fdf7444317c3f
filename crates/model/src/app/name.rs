use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::by_text::serde_by_text;
use crate::invalid::Invalid;

/// Characters of the longest name.
const LONGEST: usize = 40;

/// The name of an app: lower-case letters, digits and hyphens, beginning with a letter or digit.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AppName(Box<str>);

/// The name of one of several ports of an app: as in `PORT_API` for `api`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PortName(Box<str>);

impl AppName {
    /// Its text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// A name made of any text, such as that of a folder; `None` when nothing of it can stand in one.
    #[must_use]
    pub fn like(text: &str) -> Option<Self> {
        let mut name = String::new();
        for c in text.chars() {
            match c.to_ascii_lowercase() {
                c if c.is_ascii_alphanumeric() => name.push(c),
                _ if name.is_empty() || name.ends_with('-') => {}
                _ => name.push('-'),
            }
        }
        name.truncate(LONGEST);
        name.trim_end_matches('-').parse().ok()
    }
}

impl PortName {
    /// Its text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The environment variable that has the port with this name: `PORT` for the only one.
    #[must_use]
    pub fn variable(name: &str) -> String {
        match name {
            "" => "PORT".to_owned(),
            name => format!("PORT_{}", name.to_ascii_uppercase().replace('-', "_")),
        }
    }
}

fn checked(text: &str, what: &'static str) -> Result<Box<str>, Invalid> {
    let is_part = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let fits = !text.is_empty()
        && text.len() <= LONGEST
        && !text.starts_with('-')
        && text.chars().all(is_part);
    if fits {
        return Ok(text.into());
    }
    let reason = format!(
        "`{text}` is no {what}: write up to {LONGEST} lower-case letters, digits and hyphens, \
         beginning with a letter or digit"
    );
    Err(Invalid::new("name", reason))
}

impl FromStr for AppName {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        checked(text, "name of an app").map(Self)
    }
}

impl FromStr for PortName {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        checked(text, "name of a port").map(Self)
    }
}

impl fmt::Display for AppName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl fmt::Display for PortName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

serde_by_text!(AppName, PortName);

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("huts", Some("huts"))]
    #[case("Hut Booking", Some("hut-booking"))]
    #[case("@moor/booking", Some("moor-booking"))]
    #[case("--x--", Some("x"))]
    #[case("Über", Some("ber"))]
    #[case("...", None)]
    fn names_are_made_of_any_text(#[case] text: &str, #[case] name: Option<&str>) {
        assert_eq!(AppName::like(text).as_ref().map(AppName::as_str), name);
    }

    #[rstest]
    #[case("", false)]
    #[case("a", true)]
    #[case("-a", false)]
    #[case("a/b", false)]
    #[case("..", false)]
    #[case("A", false)]
    fn only_plain_names_are_accepted(#[case] text: &str, #[case] accepted: bool) {
        assert_eq!(text.parse::<AppName>().is_ok(), accepted);
    }
}
