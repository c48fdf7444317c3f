mod issuer;

pub(crate) use issuer::leaf_params;
pub use issuer::{Issuer, Leaf, LeafKey};

use crate::fingerprint::{fingerprint, key_sha256};
use issuer::serial_number;
use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa,
    KeyPair, KeyUsagePurpose, PKCS_ECDSA_P256_SHA256,
};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::{Deserialize, Serialize};
use time::{Duration, OffsetDateTime};
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::limits::Limits;
use bentlane_model::Name;

/// How long a root is valid.
const ROOT_LIFE: Duration = Duration::days(3652);
/// How far a certificate's start lies in the past, for clients whose clock is behind ours.
pub(super) const BACKDATE: Duration = Duration::hours(1);
/// Characters of a common name (ub-common-name, RFC 5280 appendix A.1).
const LONGEST_COMMON_NAME: usize = 64;

/// Where an authority was made; part of the root's subject, so that it is recognised in a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Owner {
    /// The machine's name.
    pub host: String,
}

/// The root certificate, and its key when that is at hand.
pub struct Authority {
    certificate: CertificateDer<'static>,
    certificate_pem: String,
    key: Option<rcgen::Issuer<'static, KeyPair>>,
    /// Further certificates: its own key as the root before it certified it, or, for a company's
    /// issuing authority, what certifies it.
    others: Vec<CertificateDer<'static>>,
    others_pem: Option<String>,
    /// Whether it certifies itself: clients have it, and it is not sent.
    is_root: bool,
    /// Whether it may certify servers alone, so that its own key issues.
    issues_itself: bool,
    limits: Option<Limits>,
    /// Whether its constraints are those of ours.
    is_constrained: bool,
    /// See [`key_sha256`].
    key_sha256: String,
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

impl std::fmt::Debug for Authority {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Authority")
            .field("summary", &self.summary)
            .field("limits", &self.limits)
            .field("has_key", &self.key.is_some())
            .finish_non_exhaustive()
    }
}

impl Authority {
    /// Makes a new root for `owner` within `limits`, valid for ten years from `now`.
    ///
    /// # Errors
    /// When the crypto provider fails, or `owner` holds characters that no subject can.
    pub fn create(
        owner: &Owner,
        limits: &Limits,
        now: OffsetDateTime,
    ) -> Result<Self, AuthorityError> {
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
        let certificate = params(owner, limits, now).self_signed(&key)?;
        Self::load(&certificate.pem(), Some(&key.serialize_pem()), None)
    }

    /// Makes the root that comes after this one, with its key certified by this one, too: clients
    /// that trust this root accept what the next one issues, until this one expires.
    ///
    /// # Errors
    /// When this root's key is locked, and as [`Authority::create`].
    pub fn successor(
        &self,
        owner: &Owner,
        limits: &Limits,
        now: OffsetDateTime,
    ) -> Result<Self, AuthorityError> {
        let signer = self.signer()?;
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
        let mut params = params(owner, limits, now);
        let certificate = params.self_signed(&key)?;
        params.serial_number = Some(serial_number());
        params.not_before = params.not_before.max(self.summary.not_before);
        params.not_after = params.not_after.min(self.summary.not_after);
        params.use_authority_key_identifier_extension = true;
        let cross = params.signed_by(&key, signer)?;
        let key = key.serialize_pem();
        Self::load(&certificate.pem(), Some(&key), Some(&cross.pem()))
    }

    /// Loads a root, or a company's issuing authority, from its PEM texts: the
    /// certificate, its key unless that is locked, and further certificates: what the root before it
    /// made of its key, or what leads on from it to the company's root.
    ///
    /// # Errors
    /// When a text does not parse, the certificate is no authority's, or the key is not its key.
    pub fn load(
        certificate_pem: &str,
        key_pem: Option<&str>,
        others_pem: Option<&str>,
    ) -> Result<Self, AuthorityError> {
        let certificate = CertificateDer::from_pem_slice(certificate_pem.as_bytes())
            .map_err(|_| AuthorityError::Certificate)?
            .into_owned();
        let (_, parsed) =
            X509Certificate::from_der(&certificate).map_err(|_| AuthorityError::Certificate)?;
        if !parsed.is_ca() {
            return Err(AuthorityError::NotAnAuthority);
        }
        let basic = parsed.basic_constraints().ok().flatten();
        let longest = basic.and_then(|basic| basic.value.path_len_constraint);
        let others = CertificateDer::pem_slice_iter(others_pem.unwrap_or_default().as_bytes())
            .map(|found| found.map(CertificateDer::into_owned))
            .collect::<Result<_, _>>()
            .map_err(|_| AuthorityError::Certificate)?;
        let constraints = parsed.name_constraints();
        let constraints = constraints.map_err(|_| AuthorityError::Certificate)?;
        let summary = Summary {
            subject: parsed.subject().to_string(),
            fingerprint_sha256: fingerprint(&certificate),
            not_before: parsed.validity().not_before.to_datetime(),
            not_after: parsed.validity().not_after.to_datetime(),
        };
        let is_constrained = constraints
            .as_ref()
            .is_some_and(|it| Limits::are_complete(it.value, it.critical));
        let authority = Self {
            is_constrained,
            key_sha256: key_sha256(&parsed),
            limits: constraints.map(|extension| Limits::read(extension.value)),
            key: None,
            others,
            others_pem: others_pem.map(str::to_owned),
            is_root: parsed.issuer() == parsed.subject(),
            issues_itself: longest == Some(0),
            certificate_pem: certificate_pem.to_owned(),
            certificate: certificate.clone(),
            summary,
        };
        match key_pem {
            Some(key) => authority.with_key(key),
            None => Ok(authority),
        }
    }

    /// The same with its key, PKCS#8 PEM.
    ///
    /// # Errors
    /// When that is no key, or another's.
    pub fn with_key(mut self, key_pem: &str) -> Result<Self, AuthorityError> {
        let key = KeyPair::from_pem(key_pem).map_err(|_| AuthorityError::Key)?;
        let (_, parsed) = X509Certificate::from_der(&self.certificate)
            .map_err(|_| AuthorityError::Certificate)?;
        let public_key = &parsed.public_key().subject_public_key.data;
        if **public_key != *key.public_key_raw() {
            return Err(AuthorityError::KeyMismatch);
        }
        self.key = Some(rcgen::Issuer::from_ca_cert_der(&self.certificate, key)?);
        Ok(self)
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

    /// The root's private key, PKCS#8 PEM, when it is at hand. It belongs in a file that only its
    /// owner reads.
    #[must_use]
    pub fn key_pem(&self) -> Option<String> {
        Some(self.key.as_ref()?.key().serialize_pem())
    }

    /// Whether it is valid at `now`.
    ///
    /// # Errors
    /// When it has expired, or is not valid yet.
    pub fn check_validity(&self, now: OffsetDateTime) -> Result<(), AuthorityError> {
        let Summary {
            not_before,
            not_after,
            ..
        } = &self.summary;
        if *not_before <= now && now <= *not_after {
            return Ok(());
        }
        Err(AuthorityError::NotValid {
            from: not_before.date().to_string(),
            until: not_after.date().to_string(),
        })
    }

    /// Its own key certified by the root before it.
    #[must_use]
    pub fn cross(&self) -> Option<&CertificateDer<'static>> {
        self.others.first().filter(|_| self.is_root)
    }

    /// Further certificates that are kept with it, PEM.
    #[must_use]
    pub fn others_pem(&self) -> Option<&str> {
        self.others_pem.as_deref()
    }

    /// What servers send behind what it certified, up to a root that clients may have. Roots are not
    /// sent.
    #[must_use]
    pub fn leads_on(&self) -> Vec<CertificateDer<'static>> {
        let own = (!self.is_root).then_some(&self.certificate);
        let others = self.others.iter().filter(|other| !is_root(other));
        own.into_iter().chain(others).cloned().collect()
    }

    /// Whether it may certify servers alone (pathLenConstraint 0, RFC 5280 §4.2.1.9): its own key
    /// issues then, and has to be at hand.
    #[must_use]
    pub fn issues_itself(&self) -> bool {
        self.issues_itself
    }

    /// Subject, fingerprint and validity.
    #[must_use]
    pub fn summary(&self) -> &Summary {
        &self.summary
    }

    /// What it can vouch for; `None` for anything at all.
    #[must_use]
    pub fn limits(&self) -> Option<&Limits> {
        self.limits.as_ref()
    }

    /// Whether it is constrained as our own roots are, so that its key is worth nothing beyond its
    /// limits. Only such a root may be put into trust stores.
    #[must_use]
    pub fn is_constrained(&self) -> bool {
        self.is_constrained
    }

    /// SHA-256 of its public key: by that it is recognised, since anybody can give a root a name.
    #[must_use]
    pub fn key_sha256(&self) -> &str {
        &self.key_sha256
    }

    /// Whether its limits allow certificates for `name`.
    #[must_use]
    pub fn covers(&self, name: &Name) -> bool {
        self.limits
            .as_ref()
            .is_none_or(|limits| limits.covers(name))
    }

    /// Makes an issuing certificate for those of `names` that the root covers, `localhost` and the
    /// loopback addresses.
    ///
    /// # Errors
    /// When the root's key is locked, or the crypto provider fails.
    pub fn issuer_for(
        &self,
        names: impl IntoIterator<Item = Name>,
        now: OffsetDateTime,
    ) -> Result<Issuer, AuthorityError> {
        Issuer::create(self, &self.issuer_limits(names), now)
    }

    /// The limits of an issuing certificate for `names`.
    #[must_use]
    pub fn issuer_limits(&self, names: impl IntoIterator<Item = Name>) -> Limits {
        Limits::new(names.into_iter().filter(|name| self.covers(name)))
    }

    /// The key that issues, when it is its own.
    pub(crate) fn own_signer(&self) -> Result<rcgen::Issuer<'static, KeyPair>, AuthorityError> {
        let key = KeyPair::from_pem(&self.key_pem().ok_or(AuthorityError::Locked)?)?;
        Ok(rcgen::Issuer::from_ca_cert_der(&self.certificate, key)?)
    }

    pub(crate) fn signer(&self) -> Result<&rcgen::Issuer<'static, KeyPair>, AuthorityError> {
        self.key.as_ref().ok_or(AuthorityError::Locked)
    }
}

fn params(owner: &Owner, limits: &Limits, now: OffsetDateTime) -> CertificateParams {
    let mut params = CertificateParams::default();
    let serial = serial_number();
    // Some of the serial number, so that two roots of one owner are two subjects: clients tell
    // certificates that certify each other apart by that.
    let digits: String = serial
        .to_bytes()
        .iter()
        .skip(1)
        .take(3)
        .map(|it| format!("{it:02x}"))
        .collect();
    let mut name = format!("Bent Lane root {digits} on {}", owner.host);
    if let Some((end, _)) = name.char_indices().nth(LONGEST_COMMON_NAME) {
        name.truncate(end);
    }
    let mut subject = DistinguishedName::new();
    subject.push(DnType::OrganizationName, "Bent Lane");
    subject.push(DnType::CommonName, name);
    params.distinguished_name = subject;
    params.serial_number = Some(serial);
    params.not_before = now - BACKDATE;
    params.not_after = now + ROOT_LIFE;
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    params.custom_extensions = vec![limits.extension()];
    params
}

fn is_root(certificate: &CertificateDer<'_>) -> bool {
    X509Certificate::from_der(certificate).is_ok_and(|(_, it)| it.issuer() == it.subject())
}

/// Why an authority cannot be made or loaded.
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
    /// Its own key issues, and would be locked.
    #[error(
        "the certificate may not certify an issuing certificate (pathLenConstraint is 0), so its own key issues all the time: it cannot be under a passphrase"
    )]
    CannotLock,
    /// It could vouch for anything.
    #[error(
        "this root has no name constraints, so its key can certify any name. To use it anyway, add --unconstrained"
    )]
    Unconstrained,
    /// It has expired, or is not valid yet.
    #[error("the root certificate is valid from {from} to {until} only")]
    NotValid {
        /// Its first day.
        from: String,
        /// Its last day.
        until: String,
    },
    /// Certificate and key come from different pairs.
    #[error("the root key does not belong to the root certificate")]
    KeyMismatch,
    /// That is not the passphrase.
    #[error("that is not the passphrase of the root key")]
    WrongPassphrase,
    /// A bundle could not be made.
    #[error("the bundle could not be made")]
    Bundle,
    /// An issuing certificate comes from elsewhere.
    #[error("the issuing certificate was not made by this root")]
    OtherRoot,
    /// An issuing certificate could vouch for anything.
    #[error("the issuing certificate has no name constraints")]
    Unlimited,
    /// The root's key is under a passphrase that was not given.
    #[error("the root key is locked: run `bentlane authority unlock`")]
    Locked,
    /// A certificate could not be written or signed.
    #[error("a certificate could not be made")]
    Making(#[from] rcgen::Error),
}
