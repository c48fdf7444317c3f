use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, IsCa, KeyPair, KeyUsagePurpose,
    PKCS_ECDSA_P256_SHA256,
};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::{Deserialize, Serialize};
use time::{Duration, OffsetDateTime};
use x509_parser::prelude::{FromDer, X509Certificate};

use super::issue::{Issuer, serial_number};
use crate::configuration::Zone;

/// How long a root is valid.
const ROOT_LIFE: Duration = Duration::days(3652);
/// How far a certificate's start lies in the past, for clients whose clock is behind ours.
pub(super) const BACKDATE: Duration = Duration::hours(1);

/// Whose authority it is; part of the root's subject, so that it is recognised in a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Owner {
    /// The account's name.
    pub user: String,
    /// The machine's name.
    pub host: String,
}

/// The root certificate and its key.
#[derive(Debug)]
pub struct Authority {
    certificate: CertificateDer<'static>,
    certificate_pem: String,
    issuer: rcgen::Issuer<'static, KeyPair>,
    summary: Summary,
}

/// What a person asks about a root.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[schema(as = Authority)]
pub struct Summary {
    /// The subject, as RFC 4514 writes it.
    pub subject: String,
    /// SHA-256 of the certificate: hexadecimal pairs with colons between.
    pub fingerprint_sha256: String,
    /// First moment of validity.
    #[serde(with = "time::serde::rfc3339")]
    pub not_before: OffsetDateTime,
    /// Last moment of validity.
    #[serde(with = "time::serde::rfc3339")]
    pub not_after: OffsetDateTime,
}

impl Authority {
    /// Makes a new root for `owner`, valid for ten years from `now`.
    ///
    /// # Errors
    /// When the crypto provider fails, or `owner` holds characters that no subject can.
    pub fn create(owner: &Owner, now: OffsetDateTime) -> Result<Self, AuthorityError> {
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
        let mut params = CertificateParams::default();
        let mut subject = DistinguishedName::new();
        subject.push(DnType::OrganizationName, "Bent Lane");
        subject.push(
            DnType::CommonName,
            format!("Bent Lane root of {}@{}", owner.user, owner.host),
        );
        params.distinguished_name = subject;
        params.serial_number = Some(serial_number());
        params.not_before = now - BACKDATE;
        params.not_after = now + ROOT_LIFE;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let certificate = params.self_signed(&key)?;
        Self::load(&certificate.pem(), &key.serialize_pem())
    }

    /// Takes up a root made earlier, from its two PEM texts.
    ///
    /// # Errors
    /// When a text does not parse, the certificate is no authority's, or the key is not its key.
    pub fn load(certificate_pem: &str, key_pem: &str) -> Result<Self, AuthorityError> {
        let certificate = CertificateDer::from_pem_slice(certificate_pem.as_bytes())
            .map_err(|_| AuthorityError::Certificate)?
            .into_owned();
        let key = KeyPair::from_pem(key_pem).map_err(|_| AuthorityError::Key)?;
        let (_, parsed) =
            X509Certificate::from_der(&certificate).map_err(|_| AuthorityError::Certificate)?;
        if !parsed.is_ca() {
            return Err(AuthorityError::NotAnAuthority);
        }
        let public_key = &parsed.public_key().subject_public_key.data;
        if **public_key != *key.public_key_raw() {
            return Err(AuthorityError::KeyMismatch);
        }
        let summary = Summary {
            subject: parsed.subject().to_string(),
            fingerprint_sha256: fingerprint(&certificate),
            not_before: parsed.validity().not_before.to_datetime(),
            not_after: parsed.validity().not_after.to_datetime(),
        };
        Ok(Self {
            issuer: rcgen::Issuer::from_ca_cert_der(&certificate, key)?,
            certificate_pem: certificate_pem.to_owned(),
            certificate,
            summary,
        })
    }

    /// The root certificate, DER.
    #[must_use]
    pub fn certificate(&self) -> &CertificateDer<'static> {
        &self.certificate
    }

    /// The root certificate, PEM: what a trust store takes.
    #[must_use]
    pub fn certificate_pem(&self) -> &str {
        &self.certificate_pem
    }

    /// The root's private key, PKCS#8 PEM. It belongs in a file that only its owner reads.
    #[must_use]
    pub fn key_pem(&self) -> String {
        self.issuer.key().serialize_pem()
    }

    /// Subject, fingerprint and validity.
    #[must_use]
    pub fn summary(&self) -> &Summary {
        &self.summary
    }

    /// Makes an issuing certificate, constrained to `zones`, `localhost` and loopback addresses.
    ///
    /// # Errors
    /// When the crypto provider fails.
    pub fn issuer_for(
        &self,
        zones: &[Zone],
        now: OffsetDateTime,
    ) -> Result<Issuer, AuthorityError> {
        Issuer::create(&self.issuer, &self.summary, zones, now)
    }
}

fn fingerprint(certificate: &[u8]) -> String {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, certificate);
    digest
        .as_ref()
        .iter()
        .map(|octet| format!("{octet:02X}"))
        .collect::<Vec<_>>()
        .join(":")
}

/// Why an authority cannot be made or taken up.
#[derive(Debug, thiserror::Error)]
pub enum AuthorityError {
    /// The certificate's text is damaged.
    #[error("the root certificate is not a PEM certificate")]
    Certificate,
    /// The key's text is damaged.
    #[error("the root key is not a PKCS#8 PEM key")]
    Key,
    /// The certificate is a server's.
    #[error("the certificate may not issue others (basicConstraints is not CA:TRUE)")]
    NotAnAuthority,
    /// Certificate and key come from different pairs.
    #[error("the root key does not belong to the root certificate")]
    KeyMismatch,
    /// A certificate could not be written or signed.
    #[error("a certificate could not be made")]
    Making(#[from] rcgen::Error),
}
