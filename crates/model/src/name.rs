use std::fmt;
use std::str::FromStr;

use idna::uts46::{AsciiDenyList, DnsLength, Hyphens, Uts46};
use serde::{Deserialize, Serialize};

/// A host or zone name in its one canonical form: A-labels, lower case, without the final dot.
///
/// Names follow RFC 1035 §2.3.4 (labels of 1 to 63 octets, 253 in all) and the host name rules of
/// RFC 1123 §2.1 (letters, digits and inner hyphens); other scripts are mapped as UTS #46 says, so
/// that `hütte.test` and `xn--htte-0ra.test` are one name.
///
/// ```
/// use bentlane_model::Name;
///
/// let name: Name = "Hütte.Moor.TEST.".parse().unwrap();
/// assert_eq!(name.as_str(), "xn--htte-0ra.moor.test");
/// assert!("moor..test".parse::<Name>().is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Name(Box<str>);

impl Name {
    /// The name as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether this name is `zone` or lies below it.
    #[must_use]
    pub fn is_within(&self, zone: &Self) -> bool {
        is_at_or_below(&self.0, &zone.0)
    }

    /// The name with one more label in front.
    ///
    /// # Errors
    /// When the label, or the name that results, breaks the rules of [`Name`].
    pub fn prepend(&self, label: &str) -> Result<Self, NameError> {
        format!("{label}.{self}").parse()
    }
}

/// Whether `name` is `suffix` or lies below it.
pub fn is_at_or_below(name: &str, suffix: &str) -> bool {
    let above = name.strip_suffix(suffix);
    above.is_some_and(|above| above.is_empty() || above.ends_with('.'))
}

/// Every suffix of `name`, longest first, `name` itself included.
pub fn suffixes(name: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(name), |name| {
        name.split_once('.').map(|(_, parent)| parent)
    })
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for Name {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let text = text.strip_suffix('.').unwrap_or(text);
        if text.is_empty() {
            return Err(NameError::Empty);
        }
        if text.split('.').any(str::is_empty) {
            return Err(NameError::EmptyLabel);
        }
        if let Some(character) = text
            .chars()
            .find(|c| c.is_ascii() && !is_name_character(*c))
        {
            return Err(NameError::Character { character });
        }
        if text
            .rsplit('.')
            .next()
            .is_some_and(|last| last.bytes().all(|b| b.is_ascii_digit()))
        {
            return Err(NameError::NumericTop);
        }
        let ascii = Uts46::new()
            .to_ascii(
                text.as_bytes(),
                AsciiDenyList::STD3,
                Hyphens::CheckFirstLast,
                DnsLength::Ignore,
            )
            .map_err(|_| unacceptable(text))?;
        if let Some(label) = ascii.split('.').find(|label| label.len() > 63) {
            return Err(NameError::LabelTooLong {
                length: label.len(),
            });
        }
        if ascii.len() > 253 {
            return Err(NameError::TooLong {
                length: ascii.len(),
            });
        }
        Ok(Self(ascii.into()))
    }
}

fn is_name_character(c: char) -> bool {
    c.is_ascii_alphanumeric() || c == '-' || c == '.'
}

/// UTS #46 says that a name is refused but not why; the one common cause is found again here.
fn unacceptable(text: &str) -> NameError {
    match text
        .split('.')
        .find(|label| label.starts_with('-') || label.ends_with('-'))
    {
        Some(label) => NameError::Hyphen {
            label: label.to_owned(),
        },
        None => NameError::NotInternational,
    }
}

impl TryFrom<String> for Name {
    type Error = NameError;

    fn try_from(text: String) -> Result<Self, NameError> {
        text.parse()
    }
}

impl From<Name> for String {
    fn from(name: Name) -> Self {
        name.0.into()
    }
}

/// Why a text is no name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing was given.
    #[error("a name is needed, for instance `booking.moor.test`")]
    Empty,
    /// Two dots in a row, or one at the start.
    #[error("a label is empty: write one dot between labels and none in front")]
    EmptyLabel,
    /// A label is longer than DNS can carry (RFC 1035 §2.3.4).
    #[error("a label has {length} octets and DNS allows 63")]
    LabelTooLong {
        /// Length in bytes of the label in its ASCII form.
        length: usize,
    },
    /// The name is longer than DNS can carry (RFC 1035 §2.3.4).
    #[error("the name has {length} octets and DNS allows 253")]
    TooLong {
        /// Length in bytes of the name in its ASCII form.
        length: usize,
    },
    /// A character that host names do not have (RFC 1123 §2.1).
    #[error("the character {character:?} is not allowed: use letters, digits, hyphens and dots")]
    Character {
        /// The first such character.
        character: char,
    },
    /// A label starts or ends with a hyphen (RFC 1123 §2.1).
    #[error("the label `{label}` starts or ends with a hyphen")]
    Hyphen {
        /// The label.
        label: String,
    },
    /// The last label is a number, so that URL parsers take the name for an IPv4 address.
    #[error("the last label is a number, which browsers read as an IP address")]
    NumericTop,
    /// The rules for international names forbid it (UTS #46).
    #[error("the rules for international names (UTS #46) do not allow it")]
    NotInternational,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("moor.test", "moor.test")]
    #[case("Moor.TEST.", "moor.test")]
    #[case("hütte.test", "xn--htte-0ra.test")]
    #[case("xn--htte-0ra.test", "xn--htte-0ra.test")]
    #[case("a-b.c1.test", "a-b.c1.test")]
    #[case("localhost", "localhost")]
    fn canonical_form(#[case] given: &str, #[case] wanted: &str) {
        assert_eq!(given.parse::<Name>().unwrap().as_str(), wanted);
    }

    #[rstest]
    #[case("", NameError::Empty)]
    #[case(".", NameError::Empty)]
    #[case("a..test", NameError::EmptyLabel)]
    #[case(".test", NameError::EmptyLabel)]
    #[case("under_score.test", NameError::Character { character: '_' })]
    #[case("*.test", NameError::Character { character: '*' })]
    #[case("a b.test", NameError::Character { character: ' ' })]
    #[case("-a.test", NameError::Hyphen { label: "-a".into() })]
    #[case("a-.test", NameError::Hyphen { label: "a-".into() })]
    #[case("127.0.0.1", NameError::NumericTop)]
    #[case("xn--a.test", NameError::NotInternational)]
    fn refusals(#[case] given: &str, #[case] wanted: NameError) {
        assert_eq!(given.parse::<Name>().unwrap_err(), wanted, "{given}");
    }

    #[test]
    fn length_limits_are_those_of_dns() {
        let label = "a".repeat(63);
        assert!(format!("{label}.test").parse::<Name>().is_ok());
        let error = format!("{label}a.test").parse::<Name>().unwrap_err();
        assert_eq!(error, NameError::LabelTooLong { length: 64 });

        let longest = format!("{label}.{label}.{label}.{}", "a".repeat(61));
        assert!(longest.parse::<Name>().is_ok());
        let error = format!("{longest}a").parse::<Name>().unwrap_err();
        assert_eq!(error, NameError::TooLong { length: 254 });
    }

    #[rstest]
    #[case("moor.test", "moor.test", true)]
    #[case("a.b.moor.test", "moor.test", true)]
    #[case("blackmoor.test", "moor.test", false)]
    #[case("test", "moor.test", false)]
    fn within_a_zone(#[case] name: &str, #[case] zone: &str, #[case] within: bool) {
        let (name, zone): (Name, Name) = (name.parse().unwrap(), zone.parse().unwrap());
        assert_eq!(name.is_within(&zone), within);
    }
}
