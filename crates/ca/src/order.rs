//! Certificates that a user requests: the names that they may have, and how they are signed.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use rcgen::string::Ia5String;
use rcgen::{
    CertificateParams, CertificateSigningRequestParams, DistinguishedName, DnType, KeyPair,
    PKCS_ECDSA_P256_SHA256, SanType,
};
use time::{Duration, OffsetDateTime};

use super::root::{AuthorityError, Issuer, leaf_params};
use super::verify::certificate_pem;
use bentlane_model::Name;

/// The days that a certificate is valid for when nothing is said.
pub const USUAL_DAYS: u16 = 90;

/// A name that a certificate is for.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum CertName {
    /// A name.
    Name(Name),
    /// `*.` and a name: every name with one label more (RFC 9525 §6.3).
    Wildcard(Name),
    /// An address.
    Ip(IpAddr),
}

impl CertName {
    /// What is easily taken for granted of this name, and is not so.
    #[must_use]
    pub fn advice(&self) -> Option<String> {
        let Self::Wildcard(base) = self else {
            return None;
        };
        if !base.as_str().contains('.') {
            return Some(format!(
                "`{self}` stands right under a single label: many clients refuse that"
            ));
        }
        Some(format!(
            "`{self}` covers names with one label more, such as `any.{base}`; not `{base}` itself, \
             nor `any.other.{base}`: add those that you need"
        ))
    }

    fn is_within(&self, issuer: &Issuer) -> bool {
        match self {
            Self::Name(name) | Self::Wildcard(name) => issuer.covers(name),
            Self::Ip(ip) => ip.is_loopback(),
        }
    }

    fn san(&self) -> Result<SanType, AuthorityError> {
        Ok(match self {
            Self::Ip(ip) => SanType::IpAddress(*ip),
            name => SanType::DnsName(Ia5String::try_from(name.to_string())?),
        })
    }
}

impl fmt::Display for CertName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => name.fmt(f),
            Self::Wildcard(base) => write!(f, "*.{base}"),
            Self::Ip(ip) => ip.fmt(f),
        }
    }
}

impl FromStr for CertName {
    type Err = OrderError;

    fn from_str(text: &str) -> Result<Self, OrderError> {
        if let Ok(ip) = text.parse() {
            return Ok(Self::Ip(ip));
        }
        let (wildcard, name) = match text.strip_prefix("*.") {
            Some(base) => (true, base),
            None => (false, text),
        };
        let name: Name = name.parse().map_err(|error| OrderError::NoName {
            given: text.to_owned(),
            reason: format!("{error}"),
        })?;
        Ok(if wildcard {
            Self::Wildcard(name)
        } else {
            Self::Name(name)
        })
    }
}

/// Why a certificate is not signed.
#[derive(Debug, thiserror::Error)]
pub enum OrderError {
    /// A text is no name.
    #[error("`{given}` is no name for a certificate: {reason}")]
    NoName {
        /// The text.
        given: String,
        /// What is wrong with it.
        reason: String,
    },
    /// The request's text is damaged.
    #[error("this is no certificate request (PKCS#10, PEM), or its signature is not its key's")]
    NoRequest,
    /// The request names nothing.
    #[error(
        "the request names nothing that a certificate could be for: it needs a subjectAltName with DNS names or addresses"
    )]
    NoNames,
    /// The request names something that is no server.
    #[error("the request names `{what}`, and certificates here are for DNS names and addresses")]
    OtherName {
        /// What it names.
        what: String,
    },
    /// A name is outside the limits.
    #[error(
        "`{name}` is beyond what this authority can vouch for ({limits}, and loopback addresses): add its zone first with `bentlane zone add`"
    )]
    Beyond {
        /// The name.
        name: String,
        /// The limits.
        limits: String,
    },
    /// The certificate would outlive its issuer.
    #[error(
        "{days} days are not possible: 1 to {most} are, since the issuing certificate ends then"
    )]
    Days {
        /// The request.
        days: u16,
        /// What is possible.
        most: i64,
    },
    /// Anything else.
    #[error(transparent)]
    Authority(#[from] AuthorityError),
}

/// A new key with a request for a certificate for `names`, both PEM. The key goes nowhere else.
///
/// # Errors
/// When the crypto provider fails.
pub fn request(names: &[CertName]) -> Result<(String, String), AuthorityError> {
    let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
    let mut params = CertificateParams::default();
    params.distinguished_name = DistinguishedName::new();
    params
        .distinguished_name
        .push(DnType::OrganizationName, "Bent Lane");
    params.subject_alt_names = names.iter().map(CertName::san).collect::<Result<_, _>>()?;
    let request = params.serialize_request(&key)?.pem()?;
    Ok((key.serialize_pem(), request))
}

impl Issuer {
    /// Signs a request (PKCS#10, PEM): a certificate for its names alone, whatever else it asks for,
    /// valid for `days`. Gives the certificate and the issuing one, PEM each.
    ///
    /// # Errors
    /// See [`OrderError`].
    pub fn sign(
        &self,
        request: &str,
        days: u16,
        now: OffsetDateTime,
    ) -> Result<Vec<String>, OrderError> {
        let request = CertificateSigningRequestParams::from_pem(request);
        let request = request.map_err(|_| OrderError::NoRequest)?;
        let names = request.params.subject_alt_names.iter().map(readable);
        let names: Vec<CertName> = names.collect::<Result<_, _>>()?;
        if names.is_empty() {
            return Err(OrderError::NoNames);
        }
        if let Some(beyond) = names.iter().find(|name| !name.is_within(self)) {
            let limits = self.limits().names().iter().map(Name::as_str);
            return Err(OrderError::Beyond {
                name: beyond.to_string(),
                limits: limits.collect::<Vec<_>>().join(", "),
            });
        }
        let most = (self.not_after() - now).whole_days();
        if days == 0 || i64::from(days) > most {
            return Err(OrderError::Days { days, most });
        }
        let sans = names.iter().map(CertName::san).collect::<Result<_, _>>()?;
        let params = leaf_params(sans, now, now + Duration::days(days.into()));
        let certificate = params
            .signed_by(&request.public_key, self.signer())
            .map_err(AuthorityError::from)?;
        let chain = std::iter::once(certificate.der()).chain(self.chain());
        Ok(chain
            .map(|certificate| certificate_pem(certificate))
            .collect())
    }
}

fn readable(san: &SanType) -> Result<CertName, OrderError> {
    match san {
        SanType::DnsName(name) => name.as_str().parse(),
        SanType::IpAddress(ip) => Ok(CertName::Ip(*ip)),
        other => Err(OrderError::OtherName {
            what: format!("{other:?}"),
        }),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::fixture::{NOW, issuer, root};
    use crate::{Anchor, Authority, CertificateInfo, verify};
    use rustls::pki_types::CertificateDer;
    use rustls::pki_types::pem::PemObject;

    fn authority() -> (Authority, Issuer) {
        let root = root();
        let issuer = issuer(&root);
        (root, issuer)
    }

    fn signed(names: &[&str], days: u16) -> Result<Vec<String>, OrderError> {
        let names: Vec<CertName> = names
            .iter()
            .map(|name| name.parse())
            .collect::<Result<_, _>>()?;
        let (_, request) = request(&names)?;
        authority().1.sign(&request, days, NOW)
    }

    #[test]
    fn a_signed_certificate_is_valid_for_its_names_only() {
        let (root, issuer) = authority();
        let names = ["moor.test", "*.hut.moor.test", "127.0.0.9"].map(|name| name.parse().unwrap());
        let (key, request) = request(&names).unwrap();
        assert!(key.contains("PRIVATE KEY") && !request.contains("PRIVATE"));
        let chain = issuer.sign(&request, 30, NOW).unwrap();
        let read = |pem: &String| CertificateDer::from_pem_slice(pem.as_bytes()).unwrap();
        let chain: Vec<CertificateDer<'_>> = chain.iter().map(read).collect();
        let info = CertificateInfo::read(&chain[0]).unwrap();
        assert_eq!(info.names, ["moor.test", "*.hut.moor.test", "127.0.0.9"]);
        assert_eq!(info.not_after, NOW + Duration::days(30));
        let anchor = Anchor::read(root.certificate_pem()).unwrap();
        for (name, accepted) in [
            ("moor.test", true),
            ("a.hut.moor.test", true),
            ("127.0.0.9", true),
            ("hut.moor.test", false),
            ("a.b.hut.moor.test", false),
            ("127.0.0.1", false),
        ] {
            let outcome = verify(&chain, name, std::slice::from_ref(&anchor), NOW);
            assert_eq!(outcome.is_ok(), accepted, "{name}: {outcome:?}");
        }
    }

    #[rstest]
    #[case(&["moor.test"], 0, "0 days are not possible: 1 to 365 are")]
    #[case(&["moor.test"], 400, "400 days are not possible")]
    #[case(&["fell.test"], 30, "`fell.test` is beyond what this authority can vouch for (localhost, moor.test")]
    #[case(&["moor.test", "www.example.com"], 30, "`www.example.com` is beyond")]
    #[case(&["192.0.2.1"], 30, "`192.0.2.1` is beyond")]
    #[case(&["*.fell.test"], 30, "`*.fell.test` is beyond")]
    #[case(&["a b"], 30, "`a b` is no name")]
    #[case(&[], 30, "names nothing")]
    fn refusals(#[case] names: &[&str], #[case] days: u16, #[case] reason: &str) {
        let refused = signed(names, days).unwrap_err().to_string();
        assert!(refused.contains(reason), "{refused}");
    }

    #[test]
    fn a_file_that_is_no_request_is_refused() {
        for text in [
            "",
            "-----BEGIN CERTIFICATE REQUEST-----\nAAAA\n-----END CERTIFICATE REQUEST-----\n",
        ] {
            let refused = authority().1.sign(text, 30, NOW);
            assert!(matches!(refused, Err(OrderError::NoRequest)), "{refused:?}");
        }
    }

    #[rstest]
    #[case("*.hut.moor.test", Some("not `hut.moor.test` itself"))]
    #[case("*.test", Some("many clients refuse"))]
    #[case("moor.test", None)]
    fn wildcards_come_with_advice(#[case] name: &str, #[case] advice: Option<&str>) {
        let found = name.parse::<CertName>().unwrap().advice();
        assert_eq!(found.is_some(), advice.is_some(), "{found:?}");
        assert!(
            found
                .unwrap_or_default()
                .contains(advice.unwrap_or_default())
        );
    }
}
