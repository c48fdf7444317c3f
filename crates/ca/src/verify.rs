use std::net::IpAddr;
use std::sync::Arc;

use pem::{EncodeConfig, LineEnding, Pem};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{RootCertStore, crypto};
use serde::{Deserialize, Serialize};
use time::{Duration, OffsetDateTime};
use x509_parser::extensions::GeneralName;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::fingerprint::{fingerprint, key_sha256};
use super::limits::Limits;

/// How long before its expiry a certificate that is not renewed automatically gets a warning.
const WARNED_FROM: Duration = Duration::days(21);
/// What our roots are called, at the start of their common name.
const OUR_NAME: &str = "Bent Lane root ";

/// A root in a trust store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Anchor {
    certificate: CertificateDer<'static>,
    /// The common name of its subject, when it is called as our roots are.
    pub our_name: Option<String>,
    /// SHA-256 of the certificate: hexadecimal pairs with colons between.
    pub fingerprint_sha256: String,
    /// SHA-256 of its public key, which identifies a root of ours.
    pub key_sha256: String,
    /// What it can vouch for; `None` for anything at all.
    pub limits: Option<Limits>,
    /// Whether it is constrained as our own roots are.
    pub is_constrained: bool,
}

impl Anchor {
    /// Reads a certificate, PEM; `None` when it is none.
    #[must_use]
    pub fn read(pem: &str) -> Option<Self> {
        let certificate = CertificateDer::from_pem_slice(pem.as_bytes()).ok()?;
        let (_, parsed) = X509Certificate::from_der(&certificate).ok()?;
        let name = parsed.subject().iter_common_name().next();
        let name = name.and_then(|name| name.as_str().ok());
        let our_name = name.filter(|name| name.starts_with(OUR_NAME));
        let constraints = parsed.name_constraints().ok()?;
        Some(Self {
            key_sha256: key_sha256(&parsed),
            is_constrained: constraints
                .as_ref()
                .is_some_and(|it| Limits::are_complete(it.value, it.critical)),
            limits: constraints.map(|extension| Limits::read(extension.value)),
            our_name: our_name.map(str::to_owned),
            fingerprint_sha256: fingerprint(&certificate),
            certificate: certificate.clone().into_owned(),
        })
    }
}

/// What a person asks about a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct CertificateInfo {
    /// The names that it is for, as they stand in its subjectAltName.
    pub names: Vec<String>,
    /// Who made it, as RFC 4514 writes it.
    pub issuer: String,
    /// First moment of validity.
    #[serde(with = "time::serde::rfc3339")]
    pub not_before: OffsetDateTime,
    /// Last moment of validity.
    #[serde(with = "time::serde::rfc3339")]
    pub not_after: OffsetDateTime,
    /// SHA-256 of the certificate: hexadecimal pairs with colons between.
    pub fingerprint_sha256: String,
}

impl CertificateInfo {
    /// Whether its end is near enough for a warning: 21 days.
    #[must_use]
    pub fn ends_soon(&self, now: OffsetDateTime) -> bool {
        now > self.not_after - WARNED_FROM
    }

    /// When a third of its life is left: time for the next one.
    #[must_use]
    pub fn renewed_from(&self) -> OffsetDateTime {
        third_left(self.not_before, self.not_after)
    }

    /// Reads a certificate, PEM; `None` when it is none.
    #[must_use]
    pub fn from_pem(pem: &str) -> Option<Self> {
        let certificate = CertificateDer::from_pem_slice(pem.as_bytes()).ok()?;
        Self::read(&certificate)
    }

    /// Reads a certificate; `None` when it is none.
    #[must_use]
    pub fn read(certificate: &CertificateDer<'_>) -> Option<Self> {
        let (_, parsed) = X509Certificate::from_der(certificate).ok()?;
        let names = parsed.subject_alternative_name().ok()?;
        let names = names.iter().flat_map(|names| &names.value.general_names);
        let names = names.map(|name| match name {
            GeneralName::DNSName(name) => (*name).to_owned(),
            GeneralName::IPAddress(octets) => address(octets),
            other => other.to_string(),
        });
        Some(Self {
            names: names.collect(),
            issuer: parsed.issuer().to_string(),
            not_before: parsed.validity().not_before.to_datetime(),
            not_after: parsed.validity().not_after.to_datetime(),
            fingerprint_sha256: fingerprint(certificate),
        })
    }
}

/// When a third of the time from one moment to another is left.
pub(super) fn third_left(from: OffsetDateTime, until: OffsetDateTime) -> OffsetDateTime {
    until - (until - from) / 3
}

fn address(octets: &[u8]) -> String {
    let v4 = <[u8; 4]>::try_from(octets).map(IpAddr::from);
    let address = v4.or_else(|_| <[u8; 16]>::try_from(octets).map(IpAddr::from));
    address.map_or_else(|_| format!("{octets:?}"), |address| address.to_string())
}

/// A certificate in its text form (RFC 7468).
#[must_use]
pub(super) fn certificate_pem(certificate: &CertificateDer<'_>) -> String {
    let config = EncodeConfig::new().set_line_ending(LineEnding::LF);
    pem::encode_config(&Pem::new("CERTIFICATE", certificate.to_vec()), config)
}

/// Certificates in their text form, one after the other.
#[must_use]
pub fn chain_pem(chain: &[CertificateDer<'_>]) -> String {
    chain.iter().map(certificate_pem).collect()
}

/// Whether a client that trusts `anchors` accepts a server of this name that shows `chain`, leaf
/// first, at `now`.
///
/// # Errors
/// What the TLS engine has against it.
pub fn verify(
    chain: &[CertificateDer<'_>],
    name: &str,
    anchors: &[Anchor],
    now: OffsetDateTime,
) -> Result<(), String> {
    let mut roots = RootCertStore::empty();
    for anchor in anchors {
        // One that the engine does not take vouches for nothing.
        let _ = roots.add(anchor.certificate.clone());
    }
    if roots.is_empty() {
        return Err("no root is trusted".to_owned());
    }
    let provider = Arc::new(crypto::aws_lc_rs::default_provider());
    let verifier = WebPkiServerVerifier::builder_with_provider(roots.into(), provider).build();
    let verifier = verifier.map_err(|cause| cause.to_string())?;
    let (leaf, others) = chain
        .split_first()
        .ok_or("the server shows no certificate")?;
    let name = ServerName::try_from(name).map_err(|cause| cause.to_string())?;
    let seconds = u64::try_from(now.unix_timestamp()).unwrap_or_default();
    let now = UnixTime::since_unix_epoch(std::time::Duration::from_secs(seconds));
    let verified = verifier.verify_server_cert(leaf, others, &name, &[], now);
    verified.map(drop).map_err(|cause| cause.to_string())
}
