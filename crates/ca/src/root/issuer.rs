use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use bentlane_model::Name;
use rand::RngCore;
use rcgen::string::Ia5String;
use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa,
    KeyPair, KeyUsagePurpose, PKCS_ECDSA_P256_SHA256, PublicKeyData, SanType, SerialNumber,
    SigningKey,
};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use time::{Duration, OffsetDateTime};
use x509_parser::prelude::{FromDer, X509Certificate};

use super::{Authority, AuthorityError, BACKDATE};
use crate::limits::Limits;
use crate::verify::third_left;

/// How long an issuing certificate is valid.
const ISSUER_LIFE: Duration = Duration::days(365);
/// How long a leaf is valid: short enough that a lost one hardly matters.
const LEAF_LIFE: Duration = Duration::days(90);

/// An issuing certificate with its key: makes leaves for the names within its limits.
pub struct Issuer {
    /// The issuing certificate, and what leads on from it to a root that clients may trust.
    chain: Vec<CertificateDer<'static>>,
    certificate_pem: String,
    issuer: rcgen::Issuer<'static, KeyPair>,
    limits: Limits,
    not_before: OffsetDateTime,
    not_after: OffsetDateTime,
    /// When a third of its validity is left; its expiry when it cannot be renewed.
    renew_at: OffsetDateTime,
}

impl std::fmt::Debug for Issuer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Issuer")
            .field("limits", &self.limits)
            .field("not_after", &self.not_after)
            .finish_non_exhaustive()
    }
}

/// A server's certificate chain and key, ready for the TLS engine.
pub struct Leaf {
    /// The leaf, then the issuing certificate. The root is not sent: clients have it or not. After
    /// a change of roots, the new root's key as the old one certified it comes last.
    pub chain: Vec<CertificateDer<'static>>,
    /// The leaf's private key.
    pub key: LeafKey,
    /// First moment of validity.
    pub not_before: OffsetDateTime,
    /// Last moment of validity.
    pub not_after: OffsetDateTime,
    /// When a third of the life is left: time for the next one.
    pub renew_at: OffsetDateTime,
}

/// A leaf's private key: P-256, for ECDSA with SHA-256. It is used where it was made, without being
/// written down and read again.
pub struct LeafKey(KeyPair);

impl std::fmt::Debug for LeafKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("LeafKey")
    }
}

impl LeafKey {
    /// Signs `message` by ECDSA with SHA-256; the signature is DER (RFC 8446 §4.2.3).
    ///
    /// # Errors
    /// When the crypto provider fails.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, AuthorityError> {
        Ok(self.0.sign(message)?)
    }

    /// The public key, as certificates hold it (SubjectPublicKeyInfo, DER).
    #[must_use]
    pub fn public_key(&self) -> Vec<u8> {
        self.0.subject_public_key_info()
    }
}

impl std::fmt::Debug for Leaf {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Leaf")
            .field("not_after", &self.not_after)
            .field("renew_at", &self.renew_at)
            .finish_non_exhaustive()
    }
}

impl Issuer {
    pub(crate) fn create(
        root: &Authority,
        limits: &Limits,
        now: OffsetDateTime,
    ) -> Result<Self, AuthorityError> {
        if root.issues_itself() {
            return Self::itself(root, limits);
        }
        let (signer, summary) = (root.signer()?, root.summary());
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
        let mut params = CertificateParams::default();
        let mut subject = DistinguishedName::new();
        subject.push(DnType::OrganizationName, "Bent Lane");
        subject.push(DnType::CommonName, "Bent Lane issuing certificate");
        params.distinguished_name = subject;
        params.serial_number = Some(serial_number());
        params.not_before = (now - BACKDATE).max(summary.not_before);
        params.not_after = (now + ISSUER_LIFE).min(summary.not_after);
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.use_authority_key_identifier_extension = true;
        params.custom_extensions = vec![limits.extension()];
        let certificate = params.signed_by(&key, signer)?;
        Self::load(&certificate.pem(), &key.serialize_pem(), root)
    }

    /// An authority that may certify servers alone, as its own issuer.
    fn itself(root: &Authority, limits: &Limits) -> Result<Self, AuthorityError> {
        let not_after = root.summary().not_after;
        Ok(Self {
            chain: root.leads_on(),
            certificate_pem: root.certificate_pem().to_owned(),
            issuer: root.own_signer()?,
            limits: limits.clone(),
            not_before: root.summary().not_before,
            not_after,
            renew_at: not_after,
        })
    }

    /// Loads an issuing certificate of `root`, from its PEM texts.
    ///
    /// # Errors
    /// When a text does not parse, the certificate is no authority's or of another root, or the key
    /// is not its key.
    pub fn load(
        certificate_pem: &str,
        key_pem: &str,
        root: &Authority,
    ) -> Result<Self, AuthorityError> {
        let certificate = CertificateDer::from_pem_slice(certificate_pem.as_bytes())
            .map_err(|_| AuthorityError::Certificate)?
            .into_owned();
        let key = KeyPair::from_pem(key_pem).map_err(|_| AuthorityError::Key)?;
        let (_, parsed) =
            X509Certificate::from_der(&certificate).map_err(|_| AuthorityError::Certificate)?;
        let public_key = &parsed.public_key().subject_public_key.data;
        if **public_key != *key.public_key_raw() {
            return Err(AuthorityError::KeyMismatch);
        }
        if !parsed.is_ca() {
            return Err(AuthorityError::NotAnAuthority);
        }
        if !signed_by(&parsed, root.certificate()) {
            return Err(AuthorityError::OtherRoot);
        }
        let constraints = parsed.name_constraints();
        let constraints = constraints.map_err(|_| AuthorityError::Certificate)?;
        let limits = constraints.map(|extension| Limits::read(extension.value));
        let limits = limits.ok_or(AuthorityError::Unlimited)?;
        let not_before = parsed.validity().not_before.to_datetime();
        let not_after = parsed.validity().not_after.to_datetime();
        let issuer = rcgen::Issuer::from_ca_cert_der(&certificate, key)?;
        Ok(Self {
            chain: [certificate].into_iter().chain(root.leads_on()).collect(),
            certificate_pem: certificate_pem.to_owned(),
            issuer,
            limits,
            not_before,
            not_after,
            renew_at: third_left(not_before, not_after),
        })
    }

    /// Whether it is good at `now`: for these limits, and current.
    #[must_use]
    pub fn is_good(&self, limits: &Limits, now: OffsetDateTime) -> bool {
        self.limits == *limits && self.is_current(now)
    }

    /// Whether its validity has begun at `now`, and more than a third of it is left. One that was made
    /// while the clock was ahead is not valid yet.
    #[must_use]
    pub fn is_current(&self, now: OffsetDateTime) -> bool {
        self.not_before <= now && now < self.renew_at
    }

    /// Whether its validity begins after `now`, so that it was made while the clock was ahead.
    #[must_use]
    pub fn is_made_later(&self, now: OffsetDateTime) -> bool {
        now < self.not_before
    }

    /// Whether it is valid at `now`.
    #[must_use]
    pub fn is_valid(&self, now: OffsetDateTime) -> bool {
        self.not_before <= now && now <= self.not_after
    }

    /// When a third of its life is left: time for the next one.
    #[must_use]
    pub fn renew_at(&self) -> OffsetDateTime {
        self.renew_at
    }

    /// Last moment of validity.
    #[must_use]
    pub fn not_after(&self) -> OffsetDateTime {
        self.not_after
    }

    /// The issuing certificate, PEM.
    #[must_use]
    pub fn certificate_pem(&self) -> &str {
        &self.certificate_pem
    }

    /// Its private key, PKCS#8 PEM. It belongs in a file that only its owner reads.
    #[must_use]
    pub fn key_pem(&self) -> String {
        self.issuer.key().serialize_pem()
    }

    pub(crate) fn signer(&self) -> &rcgen::Issuer<'static, KeyPair> {
        &self.issuer
    }

    /// The issuing certificate, and what leads on from it.
    pub(crate) fn chain(&self) -> &[CertificateDer<'static>] {
        &self.chain
    }

    /// What it can vouch for.
    #[must_use]
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// Whether the issuer may vouch for `name`.
    #[must_use]
    pub fn covers(&self, name: &Name) -> bool {
        self.limits.covers(name)
    }

    /// Makes a certificate for `name` alone, valid for 90 days from `now` or as long as the issuer.
    ///
    /// The one for `localhost` also covers the loopback addresses. A name outside the zones can be
    /// asked for, but no client accepts what comes of it; see [`Issuer::covers`].
    ///
    /// # Errors
    /// When the crypto provider fails.
    pub fn issue(&self, name: &Name, now: OffsetDateTime) -> Result<Leaf, AuthorityError> {
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256)?;
        let not_after = (now + LEAF_LIFE).min(self.not_after);
        let mut names = vec![SanType::DnsName(Ia5String::try_from(name.as_str())?)];
        if name.as_str() == "localhost" {
            names.extend([
                SanType::IpAddress(IpAddr::V4(Ipv4Addr::LOCALHOST)),
                SanType::IpAddress(IpAddr::V6(Ipv6Addr::LOCALHOST)),
            ]);
        }
        let params = leaf_params(names, now, not_after);
        let certificate = params.signed_by(&key, &self.issuer)?.into();
        Ok(Leaf {
            chain: [certificate]
                .into_iter()
                .chain(self.chain.iter().cloned())
                .collect(),
            key: LeafKey(key),
            not_before: now - BACKDATE,
            not_after,
            renew_at: third_left(now, not_after),
        })
    }
}

/// A server's certificate for `names`.
pub(crate) fn leaf_params(
    names: Vec<SanType>,
    now: OffsetDateTime,
    not_after: OffsetDateTime,
) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.subject_alt_names = names;
    // The names are in the SAN (RFC 9525 §2), and a common name is limited to 64 characters, which
    // host names are not. An empty subject would do, but some clients want to show one.
    let mut subject = DistinguishedName::new();
    subject.push(DnType::OrganizationName, "Bent Lane");
    params.distinguished_name = subject;
    params.serial_number = Some(serial_number());
    params.not_before = now - BACKDATE;
    params.not_after = not_after;
    params.is_ca = IsCa::ExplicitNoCa;
    params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    params.use_authority_key_identifier_extension = true;
    params
}

/// Whether `root`'s key signed this certificate (RFC 5280 §6.1.3).
fn signed_by(certificate: &X509Certificate<'_>, root: &CertificateDer<'_>) -> bool {
    let Ok((_, root)) = X509Certificate::from_der(root) else {
        return false;
    };
    let verified = certificate.verify_signature(Some(root.public_key()));
    certificate.issuer() == root.subject() && verified.is_ok()
}

/// A random positive number of 127 bits: unique without a list, and unguessable.
pub(crate) fn serial_number() -> SerialNumber {
    let mut octets = [0; 16];
    rand::rng().fill_bytes(&mut octets);
    octets[0] = (octets[0] & 0x7f) | 0x40;
    SerialNumber::from_slice(&octets)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::fixture::{NOW, issuer, owner, root};
    use crate::{Anchor, Owner, verify};

    /// What a TLS client that trusts `root` alone says of a leaf.
    fn verified(
        root: &Authority,
        leaf: &Leaf,
        wanted: &str,
        at: OffsetDateTime,
    ) -> Result<(), String> {
        let anchor = Anchor::read(root.certificate_pem()).unwrap();
        verify(&leaf.chain, wanted, &[anchor], at)
    }

    #[rstest]
    #[case("booking.moor.test", "booking.moor.test", 0, true)]
    #[case("moor.test", "moor.test", 89, true)]
    #[case("a.b.moor.test", "a.b.moor.test", 0, true)]
    #[case("localhost", "localhost", 0, true)]
    #[case("localhost", "127.0.0.1", 0, true)]
    #[case("booking.moor.test", "other.moor.test", 0, false)]
    #[case("booking.moor.test", "booking.moor.test", 91, false)]
    #[case("booking.moor.test", "booking.moor.test", -1, false)]
    #[case("example.com", "example.com", 0, false)]
    #[case("moor.example", "moor.example", 0, false)]
    #[case("fell.test", "fell.test", 0, false)]
    #[case("blackmoor.test", "blackmoor.test", 0, false)]
    fn clients_that_trust_the_root(
        #[case] issued: &str,
        #[case] wanted: &str,
        #[case] days_later: i64,
        #[case] accepted: bool,
    ) {
        let authority = root();
        let leaf = issuer(&authority)
            .issue(&issued.parse().unwrap(), NOW)
            .unwrap();
        let outcome = verified(&authority, &leaf, wanted, NOW + Duration::days(days_later));
        assert_eq!(outcome.is_ok(), accepted, "{outcome:?}");
    }

    #[test]
    fn names_that_clients_will_accept() {
        let issuer = issuer(&root());
        for (name, covered) in [
            ("moor.test", true),
            ("x.moor.test", true),
            ("fell.test", false),
        ] {
            assert_eq!(issuer.covers(&name.parse().unwrap()), covered, "{name}");
        }
    }

    #[test]
    fn leaves_are_renewed_with_a_third_of_their_life_left() {
        let leaf = issuer(&root())
            .issue(&"x.moor.test".parse().unwrap(), NOW)
            .unwrap();
        assert_eq!(leaf.not_after, NOW + Duration::days(90));
        assert_eq!(leaf.renew_at, NOW + Duration::days(60));
    }

    #[test]
    fn roots_and_issuers_are_loaded_from_their_files() {
        let authority = root();
        let key = authority.key_pem().unwrap();
        let again = Authority::load(authority.certificate_pem(), Some(&key), None).unwrap();
        assert_eq!(again.summary(), authority.summary());
        assert_eq!(again.limits(), authority.limits());
        assert!(again.summary().subject.contains(" on fell"));
        assert_eq!(again.summary().fingerprint_sha256.len(), 32 * 3 - 1);

        let issuer = issuer(&authority);
        let (certificate, secret) = (issuer.certificate_pem(), issuer.key_pem());
        let loaded = Issuer::load(certificate, &secret, &again).unwrap();
        assert!(loaded.is_good(issuer.limits(), NOW + Duration::days(200)));
        assert!(!loaded.is_good(issuer.limits(), NOW + Duration::days(300)));
        assert!(!loaded.is_good(again.limits().unwrap(), NOW));
        let names: Vec<&str> = loaded.limits().names().iter().map(Name::as_str).collect();
        assert_eq!(names, ["localhost", "moor.test"], "what the root covers");

        let stranger = root();
        let foreign = stranger.key_pem().unwrap();
        let mixed = Authority::load(authority.certificate_pem(), Some(&foreign), None);
        assert!(matches!(mixed, Err(AuthorityError::KeyMismatch)));
        let mixed = Issuer::load(certificate, &secret, &stranger);
        assert!(matches!(mixed, Err(AuthorityError::OtherRoot)));
        let damaged = Authority::load("", Some(&key), None);
        assert!(matches!(damaged, Err(AuthorityError::Certificate)));
        let locked = Authority::load(authority.certificate_pem(), None, None).unwrap();
        assert!(matches!(
            locked.issuer_for([], NOW),
            Err(AuthorityError::Locked)
        ));
    }

    #[test]
    fn a_change_of_roots_breaks_nothing() {
        let (old, zone) = (root(), "moor.example".parse::<Name>().unwrap());
        let limits = Limits::of_root([zone.clone()]);
        let new = old.successor(&owner(), &limits, NOW).unwrap();
        assert_ne!(new.summary().subject, old.summary().subject);
        let issuer = new
            .issuer_for(["moor.test".parse().unwrap(), zone], NOW)
            .unwrap();
        for (root, name, accepted) in [
            (&old, "a.moor.test", true),
            (&new, "a.moor.test", true),
            (&old, "a.moor.example", false),
            (&new, "a.moor.example", true),
            (&root(), "a.moor.test", false),
        ] {
            let leaf = issuer.issue(&name.parse().unwrap(), NOW).unwrap();
            let outcome = verified(root, &leaf, name, NOW);
            assert_eq!(outcome.is_ok(), accepted, "{name}: {outcome:?}");
        }
        let (key, cross) = (new.key_pem().unwrap(), new.others_pem());
        let again = Authority::load(new.certificate_pem(), Some(&key), cross).unwrap();
        assert_eq!(again.cross(), new.cross());
    }

    #[test]
    fn long_owners_fit_the_subject() {
        let owner = Owner {
            host: "fellö".repeat(20),
        };
        let root = Authority::create(&owner, &Limits::of_root([]), NOW).unwrap();
        let subject = &root.summary().subject;
        let name = subject.split("CN=").nth(1).unwrap();
        assert_eq!(name.chars().count(), LONGEST, "{subject}");
    }

    const LONGEST: usize = 64;

    /// A company's issuing authority: certified by its root, and with `longest` for its own chains.
    fn company(longest: u8) -> (Authority, Authority) {
        let root = root();
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap();
        let mut params = CertificateParams::default();
        params
            .distinguished_name
            .push(DnType::CommonName, "Company issuing authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(longest));
        params.not_before = NOW - Duration::days(9);
        params.not_after = NOW + Duration::days(900);
        let certificate = params.signed_by(&key, root.signer().unwrap()).unwrap();
        let others = root.certificate_pem().to_owned();
        let key = key.serialize_pem();
        let authority = Authority::load(&certificate.pem(), Some(&key), Some(&others));
        (authority.unwrap(), root)
    }

    #[rstest]
    #[case(0, 2)]
    #[case(1, 3)]
    fn certificates_are_issued_through_a_companys_authority(
        #[case] longest: u8,
        #[case] sent: usize,
    ) {
        let (company, root) = company(longest);
        assert_eq!(company.issues_itself(), longest == 0);
        assert_eq!((company.cross(), company.leads_on().len()), (None, 1));
        let issuer = company
            .issuer_for(["moor.test".parse().unwrap()], NOW)
            .unwrap();
        let leaf = issuer.issue(&"a.moor.test".parse().unwrap(), NOW).unwrap();
        assert_eq!(leaf.chain.len(), sent, "the root is not sent");
        verified(&root, &leaf, "a.moor.test", NOW).unwrap();
        verified(&company, &leaf, "a.moor.test", NOW).unwrap();
        assert!(!issuer.covers(&"moor.example".parse().unwrap()));
        let kept = crate::Safe::of(&company, None).unwrap();
        let again = kept.authority().unwrap();
        assert_eq!(again.leads_on(), company.leads_on());
    }

    #[test]
    fn no_key_is_shown_by_accident() {
        let authority = root();
        let issuer = issuer(&authority);
        let leaf = issuer.issue(&"x.moor.test".parse().unwrap(), NOW).unwrap();
        let shown = format!("{authority:?} {issuer:?} {leaf:?}");
        assert!(
            !shown.contains("KeyPair") && !shown.contains("PRIVATE"),
            "{shown}"
        );
        assert!(shown.len() < 2000, "no bytes of keys either: {shown}");
    }
}
