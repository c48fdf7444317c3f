//! A certificate and its key as the files that servers want.

use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::export::{BUNDLE_PASSWORD, bundle};
use super::root::AuthorityError;

/// A file that servers want.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct CertificatePart {
    /// What is in it.
    pub kind: PartKind,
    /// Its name, when it was chosen.
    pub file: Option<String>,
}

/// What is in a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartKind {
    /// The certificate alone.
    Certificate,
    /// The certificate, and what leads on to the root.
    Chain,
    /// The key.
    Key,
    /// Chain and key.
    Both,
    /// Chain and key as PKCS#12, under [`BUNDLE_PASSWORD`].
    Pkcs12,
}

impl PartKind {
    const ALL: [Self; 5] = [
        Self::Certificate,
        Self::Chain,
        Self::Key,
        Self::Both,
        Self::Pkcs12,
    ];

    /// The word for it.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Certificate => "certificate",
            Self::Chain => "chain",
            Self::Key => "key",
            Self::Both => "both",
            Self::Pkcs12 => "pkcs12",
        }
    }

    fn ending(self) -> &'static str {
        match self {
            Self::Certificate => "crt",
            Self::Chain => "pem",
            Self::Key => "key",
            Self::Both => "both.pem",
            Self::Pkcs12 => "p12",
        }
    }

    /// Whether the private key is in it.
    #[must_use]
    pub fn has_key(self) -> bool {
        matches!(self, Self::Key | Self::Both | Self::Pkcs12)
    }

    /// The mode of the file: what holds a key is its owner's alone.
    #[must_use]
    pub fn mode(self) -> u32 {
        match self {
            Self::Certificate | Self::Chain => 0o644,
            Self::Key | Self::Both | Self::Pkcs12 => 0o600,
        }
    }

    /// What the file holds, of a certificate, its chain and its key, PEM each.
    ///
    /// # Errors
    /// When the PKCS#12 bundle cannot be made.
    pub fn content(
        self,
        certificate: &str,
        chain: &str,
        key: &str,
    ) -> Result<Vec<u8>, AuthorityError> {
        Ok(match self {
            Self::Certificate => certificate.as_bytes().to_owned(),
            Self::Chain => chain.as_bytes().to_owned(),
            Self::Key => key.as_bytes().to_owned(),
            Self::Both => format!("{chain}{key}").into_bytes(),
            Self::Pkcs12 => bundle(chain, key, BUNDLE_PASSWORD)?,
        })
    }
}

impl CertificatePart {
    /// The usual files: chain and key.
    #[must_use]
    pub fn usual() -> Vec<Self> {
        let part = |kind| Self { kind, file: None };
        vec![part(PartKind::Chain), part(PartKind::Key)]
    }

    /// The file's name, for a certificate whose first name is `first`.
    #[must_use]
    pub fn file_name(&self, first: &str) -> String {
        let base = || first.replace('*', "wildcard").replace(':', "-");
        let usual = || format!("{}.{}", base(), self.kind.ending());
        self.file.clone().unwrap_or_else(usual)
    }
}

impl FromStr for CertificatePart {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (word, file) = match text.split_once('=') {
            Some((word, file)) => (word, Some(file.to_owned())),
            None => (text, None),
        };
        let kind = PartKind::ALL.into_iter().find(|kind| kind.as_str() == word);
        let kind = kind
            .ok_or_else(|| format!("`{word}` is none of certificate, chain, key, both, pkcs12"))?;
        if file
            .as_deref()
            .is_some_and(|file| matches!(file, "" | "." | "..") || file.contains('/'))
        {
            return Err("the name of a file is wanted after `=`, without a folder".to_owned());
        }
        Ok(Self { kind, file })
    }
}

impl TryFrom<String> for CertificatePart {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<CertificatePart> for String {
    fn from(part: CertificatePart) -> Self {
        let word = part.kind.as_str();
        part.file
            .map_or_else(|| word.to_owned(), |file| format!("{word}={file}"))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("chain", Ok("a.moor.test.pem"))]
    #[case("key=server.key", Ok("server.key"))]
    #[case("both", Ok("a.moor.test.both.pem"))]
    #[case("certificates", Err("is none of certificate, chain"))]
    #[case("key=", Err("the name of a file is wanted"))]
    #[case("key=..", Err("the name of a file is wanted"))]
    #[case("key=../x", Err("the name of a file is wanted"))]
    fn parts(#[case] text: &str, #[case] wanted: Result<&str, &str>) {
        match (text.parse::<CertificatePart>(), wanted) {
            (Ok(part), Ok(wanted)) => {
                assert_eq!(part.file_name("a.moor.test"), wanted);
                assert_eq!(String::from(part), text);
            }
            (Err(refused), Err(part)) => assert!(refused.contains(part), "{refused}"),
            (outcome, _) => panic!("{outcome:?}"),
        }
    }
}
