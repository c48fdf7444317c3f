use std::fmt;
use std::num::NonZeroU16;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::name::{Name, NameError};

/// The names a route stands for: one name, or every name below one. Ordered as their texts are, octet by
/// octet: `*` is before every octet of a name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Pattern {
    /// `*.NAME`: one or more labels in front of the name, never the name itself (RFC 4592 §2.1.1).
    Wildcard(Name),
    /// This name alone.
    Exact(Name),
}

impl Pattern {
    /// The name without the `*.` in front.
    #[must_use]
    pub fn base(&self) -> &Name {
        match self {
            Self::Exact(name) | Self::Wildcard(name) => name,
        }
    }

    /// Whether the pattern stands for many names.
    #[must_use]
    pub fn is_wildcard(&self) -> bool {
        matches!(self, Self::Wildcard(_))
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Exact(name) => name.fmt(f),
            Self::Wildcard(name) => write!(f, "*.{name}"),
        }
    }
}

impl FromStr for Pattern {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, AddressError> {
        let (wildcard, base) = match text.strip_prefix("*.") {
            Some(base) => (true, base),
            None => (false, text),
        };
        if base.contains('*') {
            return Err(AddressError::Wildcard);
        }
        let base = base.parse()?;
        Ok(if wildcard {
            Self::Wildcard(base)
        } else {
            Self::Exact(base)
        })
    }
}

/// The start of a URL path, matched on whole segments.
///
/// `/api` stands for `/api` and `/api/…` but not for `/apiary`. A final slash means nothing, so it
/// is dropped; `/` is every path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct PathPrefix(Box<str>);

impl PathPrefix {
    /// The prefix as text, `/` for every path.
    #[must_use]
    pub fn as_str(&self) -> &str {
        if self.0.is_empty() { "/" } else { &self.0 }
    }

    /// Whether the prefix is that of every path.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether `path` lies under this prefix.
    #[must_use]
    pub fn matches(&self, path: &str) -> bool {
        path.strip_prefix(&*self.0)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            || self.is_root()
    }

    /// Length of the prefix in bytes: the longer of two that match is the more specific.
    pub(crate) fn specificity(&self) -> usize {
        self.0.len()
    }
}

impl Default for PathPrefix {
    /// Every path.
    fn default() -> Self {
        Self("".into())
    }
}

impl fmt::Display for PathPrefix {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl FromStr for PathPrefix {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, AddressError> {
        if !text.starts_with('/') {
            return Err(AddressError::PrefixWithoutSlash {
                prefix: text.to_owned(),
            });
        }
        if let Some(character) = text.chars().find(|c| !is_path_character(*c)) {
            return Err(AddressError::PrefixCharacter { character });
        }
        let path = text.trim_end_matches('/');
        if path
            .split('/')
            .skip(1)
            .any(|segment| matches!(segment, "" | "." | ".."))
        {
            return Err(AddressError::PrefixSegment);
        }
        Ok(Self(path.into()))
    }
}

/// The characters of a path in a URL, RFC 3986 §3.3, percent-encoding included.
fn is_path_character(c: char) -> bool {
    c.is_ascii_alphanumeric() || "/-._~!$&'()*+,;=:@%".contains(c)
}

/// What a route answers to: a name pattern with a path prefix, on the ports of the listeners or on one of
/// its own, written `NAME[:PORT][/PREFIX]`.
///
/// ```
/// use bentlane_model::Address;
///
/// let address: Address = "*.hut.moor.test/api/".parse().unwrap();
/// assert_eq!(address.to_string(), "*.hut.moor.test/api");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Address {
    /// The names.
    pub pattern: Pattern,
    /// The paths; every one for raw TCP.
    pub prefix: PathPrefix,
    /// The port, on an address of the name's own; `None` is HTTP on the ports of the listeners.
    pub port: Option<NonZeroU16>,
}

impl Address {
    /// The address of an HTTP route.
    #[must_use]
    pub fn http(pattern: Pattern, prefix: PathPrefix) -> Self {
        Self {
            pattern,
            prefix,
            port: None,
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.pattern.fmt(f)?;
        if let Some(port) = self.port {
            write!(f, ":{port}")?;
        }
        if self.prefix.is_root() {
            return Ok(());
        }
        self.prefix.fmt(f)
    }
}

impl FromStr for Address {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, AddressError> {
        if let Some((scheme, rest)) = text.split_once("://") {
            return Err(AddressError::Scheme {
                scheme: scheme.to_owned(),
                suggestion: rest.trim_end_matches('/').to_owned(),
            });
        }
        let (name, prefix) = match text.find('/') {
            Some(slash) => (&text[..slash], text[slash..].parse()?),
            None => (text, PathPrefix::default()),
        };
        let (name, port) = match name.split_once(':') {
            Some((name, port)) => (name, Some(port)),
            None => (name, None),
        };
        let port = port.map(|port| {
            port.parse().map_err(|_| AddressError::Port {
                port: port.to_owned(),
            })
        });
        Ok(Self {
            pattern: name.parse()?,
            prefix,
            port: port.transpose()?,
        })
    }
}

macro_rules! serde_by_text {
    ($($kind:ty),*) => {$(
        impl TryFrom<String> for $kind {
            type Error = AddressError;

            fn try_from(text: String) -> Result<Self, AddressError> {
                text.parse()
            }
        }

        impl From<$kind> for String {
            fn from(value: $kind) -> Self {
                value.to_string()
            }
        }
    )*};
}
serde_by_text!(Pattern, PathPrefix, Address);

/// Why a text is no address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// The name is not one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// A `*` somewhere else than in front.
    #[error("`*` stands only as the whole first label: write `*.moor.test`")]
    Wildcard,
    /// A URL was given.
    #[error("an address has no scheme: leave out `{scheme}://` and write `{suggestion}`")]
    Scheme {
        /// What stood before `://`.
        scheme: String,
        /// What to write.
        suggestion: String,
    },
    /// Something else than a port behind the colon.
    #[error("`{port}` is no port: ports go from 1 to 65535")]
    Port {
        /// What stood behind the colon.
        port: String,
    },
    /// A prefix such as `api`.
    #[error("a path prefix starts with a slash: write `/{prefix}`")]
    PrefixWithoutSlash {
        /// The prefix as given.
        prefix: String,
    },
    /// A character that has no place in a URL path.
    #[error("the character {character:?} is not allowed in a path prefix")]
    PrefixCharacter {
        /// The first such character.
        character: char,
    },
    /// An empty, `.` or `..` segment, which clients remove before they ask.
    #[error("a path prefix has no empty, `.` or `..` segment")]
    PrefixSegment,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("Booking.moor.test", "booking.moor.test")]
    #[case("booking.moor.test/", "booking.moor.test")]
    #[case("booking.moor.test/api/", "booking.moor.test/api")]
    #[case("*.hut.moor.test/a/b", "*.hut.moor.test/a/b")]
    #[case("store.moor.test:5432", "store.moor.test:5432")]
    #[case("store.moor.test:8443/", "store.moor.test:8443")]
    #[case("*.moor.test:8443/api/", "*.moor.test:8443/api")]
    fn canonical_form(#[case] given: &str, #[case] wanted: &str) {
        assert_eq!(given.parse::<Address>().unwrap().to_string(), wanted);
    }

    #[rstest]
    #[case("", AddressError::Name(NameError::Empty))]
    #[case("/api", AddressError::Name(NameError::Empty))]
    #[case("a.*.test", AddressError::Wildcard)]
    #[case("*", AddressError::Wildcard)]
    #[case("*.*.test", AddressError::Wildcard)]
    #[case("https://a.test/", AddressError::Scheme { scheme: "https".into(), suggestion: "a.test".into() })]
    #[case("a.test:http", AddressError::Port { port: "http".into() })]
    #[case("a.test:0", AddressError::Port { port: "0".into() })]
    #[case("a.test:80/a b", AddressError::PrefixCharacter { character: ' ' })]
    #[case("a.test/a b", AddressError::PrefixCharacter { character: ' ' })]
    #[case("a.test/a?b", AddressError::PrefixCharacter { character: '?' })]
    #[case("a.test//a", AddressError::PrefixSegment)]
    #[case("a.test/../a", AddressError::PrefixSegment)]
    fn refusals(#[case] given: &str, #[case] wanted: AddressError) {
        assert_eq!(given.parse::<Address>().unwrap_err(), wanted, "{given}");
    }

    #[test]
    fn a_prefix_needs_its_slash() {
        let error = "api".parse::<PathPrefix>().unwrap_err();
        assert_eq!(
            error.to_string(),
            "a path prefix starts with a slash: write `/api`"
        );
    }

    #[rstest]
    #[case("/", "/anything", true)]
    #[case("/", "*", true)]
    #[case("/api", "/api", true)]
    #[case("/api", "/api/v1", true)]
    #[case("/api", "/apiary", false)]
    #[case("/api", "/", false)]
    fn prefixes_end_on_segment_boundaries(
        #[case] prefix: &str,
        #[case] path: &str,
        #[case] matches: bool,
    ) {
        let prefix: PathPrefix = prefix.parse().unwrap();
        assert_eq!(prefix.matches(path), matches, "{prefix} {path}");
    }
}
