use std::fmt;
use std::net::{Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::name::{Name, is_at_or_below};
use crate::presentation::Word;

/// Length in bytes of the longest name in text form, without its final dot (RFC 1035 §2.3.4).
const LONGEST_NAME: usize = 253;
/// Length in bytes of the longest label.
const LONGEST_LABEL: usize = 63;
/// Length in bytes of the longest string of a TXT record (RFC 1035 §3.3).
const LONGEST_STRING: usize = 255;

/// A name in a record: like a host name, and `_` may stand in it (RFC 8552), and `*` as its whole
/// first label. Lower case, without a final dot; empty is the root.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct RecordName(String);

/// A record of the user's own in a zone.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Record {
    /// Whose record it is: a whole name.
    pub owner: RecordName,
    /// Seconds that it may be kept; `None` is as long as the zone's other answers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ttl: Option<u32>,
    /// Type and data.
    #[serde(flatten)]
    pub data: RecordData,
}

/// The data of a record, of the types that a dev machine meets.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "TypeAndText", into = "TypeAndText")]
pub enum RecordData {
    /// An IPv4 address (RFC 1035 §3.4.1).
    A(Ipv4Addr),
    /// An IPv6 address (RFC 3596 §2.2).
    Aaaa(Ipv6Addr),
    /// Another name for the owner (RFC 1035 §3.3.1).
    Cname(RecordName),
    /// Strings (RFC 1035 §3.3.14).
    Txt(Vec<Vec<u8>>),
    /// Where mail goes (RFC 1035 §3.3.9).
    Mx {
        /// Lower is tried first.
        preference: u16,
        /// The mail server.
        exchange: RecordName,
    },
    /// Where a service is (RFC 2782).
    Srv {
        /// Lower is tried first.
        priority: u16,
        /// The share among those of one priority.
        weight: u16,
        /// The port.
        port: u16,
        /// The host.
        target: RecordName,
    },
}

/// Why a record or a part of it is not one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RecordError {
    /// The name.
    #[error("`{given}` is no name: {reason}")]
    Name {
        /// The text.
        given: String,
        /// The rule that it breaks.
        reason: &'static str,
    },
    /// The type.
    #[error("records of the type `{given}` are not kept: A, AAAA, CNAME, MX, SRV and TXT are")]
    Type {
        /// The text.
        given: String,
    },
    /// The data.
    #[error("`{given}` is no data of an {kind} record: write {form}")]
    Data {
        /// The text.
        given: String,
        /// The type.
        kind: &'static str,
        /// What it looks like.
        form: &'static str,
    },
}

impl RecordName {
    /// Reads a name: whole when it ends with a dot, otherwise below `origin`; `@` is `origin`.
    ///
    /// # Errors
    /// When it breaks a rule of names.
    pub fn relative(text: &str, origin: &Self) -> Result<Self, RecordError> {
        if text == "@" {
            return Ok(origin.clone());
        }
        match text.strip_suffix('.') {
            Some(whole) => whole.parse(),
            None if origin.0.is_empty() => text.parse(),
            None => format!("{text}.{origin}").parse(),
        }
    }

    /// The name in lower case, without a final dot.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it is `zone` or lies below it.
    #[must_use]
    pub fn is_within(&self, zone: &Name) -> bool {
        is_at_or_below(&self.0, zone.as_str())
    }
}

impl From<&Name> for RecordName {
    fn from(name: &Name) -> Self {
        Self(name.to_string())
    }
}

impl FromStr for RecordName {
    type Err = RecordError;

    fn from_str(text: &str) -> Result<Self, RecordError> {
        let error = |reason| RecordError::Name {
            given: text.to_owned(),
            reason,
        };
        let name = text.strip_suffix('.').unwrap_or(text).to_ascii_lowercase();
        if name.len() > LONGEST_NAME {
            return Err(error("it is longer than 253 octets"));
        }
        if name.is_empty() {
            return match text {
                "." => Ok(Self(name)),
                _ => Err(error("it is empty")),
            };
        }
        for (position, label) in name.split('.').enumerate() {
            if label.is_empty() {
                return Err(error("a label is empty"));
            }
            if label.len() > LONGEST_LABEL {
                return Err(error("a label is longer than 63 octets"));
            }
            if label == "*" && position == 0 {
                continue;
            }
            let plain = |octet: u8| octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'_');
            if !label.bytes().all(plain) {
                return Err(error("letters, digits, `-` and `_` may stand in it"));
            }
        }
        Ok(Self(name))
    }
}

impl TryFrom<String> for RecordName {
    type Error = RecordError;

    fn try_from(text: String) -> Result<Self, RecordError> {
        text.parse()
    }
}

impl From<RecordName> for String {
    fn from(name: RecordName) -> Self {
        format!("{}.", name.0)
    }
}

impl fmt::Display for RecordName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl RecordData {
    /// The type's name, as in a master file.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match self {
            Self::A(_) => "A",
            Self::Aaaa(_) => "AAAA",
            Self::Cname(_) => "CNAME",
            Self::Txt(_) => "TXT",
            Self::Mx { .. } => "MX",
            Self::Srv { .. } => "SRV",
        }
    }

    /// Reads the data of a record of type `kind` from the words of a master file (RFC 1035 §5.1).
    /// Names that do not end with a dot lie below `origin`.
    ///
    /// # Errors
    /// When the type is none of ours, or the words are not its data.
    pub fn parse(kind: &str, words: &[Word], origin: &RecordName) -> Result<Self, RecordError> {
        let upper = kind.to_ascii_uppercase();
        let (kind, form) = match upper.as_str() {
            "A" => ("A", "an IPv4 address"),
            "AAAA" => ("AAAA", "an IPv6 address"),
            "CNAME" => ("CNAME", "one name"),
            "TXT" => (
                "TXT",
                "strings of up to 255 octets, quoted where blanks are in them",
            ),
            "MX" => ("MX", "`PREFERENCE NAME`, such as `10 mail`"),
            "SRV" => ("SRV", "`PRIORITY WEIGHT PORT NAME`, such as `0 0 5060 sip`"),
            _ => {
                return Err(RecordError::Type {
                    given: kind.to_owned(),
                });
            }
        };
        let wrong = || RecordError::Data {
            given: words
                .iter()
                .map(Word::to_string)
                .collect::<Vec<_>>()
                .join(" "),
            kind,
            form,
        };
        let texts: Option<Vec<&str>> = words.iter().map(Word::as_str).collect();
        let number = |text: &str| text.parse::<u16>().map_err(|_| wrong());
        let name = |text: &str| RecordName::relative(text, origin);
        match (kind, texts.as_deref()) {
            ("A", Some([address])) => address.parse().map(Self::A).map_err(|_| wrong()),
            ("AAAA", Some([address])) => address.parse().map(Self::Aaaa).map_err(|_| wrong()),
            ("CNAME", Some([target])) => name(target).map(Self::Cname),
            ("MX", Some([preference, exchange])) => Ok(Self::Mx {
                preference: number(preference)?,
                exchange: name(exchange)?,
            }),
            ("SRV", Some([priority, weight, port, target])) => Ok(Self::Srv {
                priority: number(priority)?,
                weight: number(weight)?,
                port: number(port)?,
                target: name(target)?,
            }),
            ("TXT", _) if !words.is_empty() => {
                let strings: Vec<Vec<u8>> = words.iter().map(|word| word.0.clone()).collect();
                let fits = strings.iter().all(|string| string.len() <= LONGEST_STRING);
                fits.then_some(Self::Txt(strings)).ok_or_else(wrong)
            }
            _ => Err(wrong()),
        }
    }
}

impl fmt::Display for RecordData {
    /// The data as in a master file, names whole.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::A(address) => write!(f, "{address}"),
            Self::Aaaa(address) => write!(f, "{address}"),
            Self::Cname(target) => write!(f, "{target}."),
            Self::Mx {
                preference,
                exchange,
            } => write!(f, "{preference} {exchange}."),
            Self::Srv {
                priority,
                weight,
                port,
                target,
            } => write!(f, "{priority} {weight} {port} {target}."),
            Self::Txt(strings) => {
                for (position, string) in strings.iter().enumerate() {
                    let blank = if position == 0 { "" } else { " " };
                    write!(f, "{blank}{}", Word(string.clone()).quoted())?;
                }
                Ok(())
            }
        }
    }
}

/// The text form of the data: its type, and then as in a master file.
#[derive(Serialize, Deserialize)]
struct TypeAndText {
    #[serde(rename = "type")]
    kind: String,
    data: String,
}

impl From<RecordData> for TypeAndText {
    fn from(data: RecordData) -> Self {
        Self {
            kind: data.kind().to_owned(),
            data: data.to_string(),
        }
    }
}

impl TryFrom<TypeAndText> for RecordData {
    type Error = String;

    fn try_from(text: TypeAndText) -> Result<Self, String> {
        let words = crate::presentation::words(&text.data)?;
        let root = RecordName(String::new());
        Self::parse(&text.kind, &words, &root).map_err(|error| error.to_string())
    }
}
