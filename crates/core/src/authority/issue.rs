use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use rand::RngCore;
use rcgen::string::Ia5String;
use rcgen::{
    BasicConstraints, CertificateParams, CidrSubnet, DistinguishedName, DnType,
    ExtendedKeyUsagePurpose, GeneralSubtree, IsCa, KeyPair, KeyUsagePurpose, NameConstraints,
    PKCS_ECDSA_P256_SHA256, SanType, SerialNumber,
};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use time::{Duration, OffsetDateTime};

use super::root::{AuthorityError, BACKDATE, Summary};
use crate::configuration::Zone;
use crate::name::Name;

/// How long an issuing certificate is valid.
const ISSUER_LIFE: Duration = Duration::days(365);
/// How long a leaf is valid: short enough that a lost one hardly matters.
const LEAF_LIFE: Duration = Duration::days(90);

/// An issuing certificate with its key: makes leaves for the names of its zones.
#[derive(Debug)]
pub struct Issuer {
    certificate: CertificateDer<'static>,
    issuer: rcgen::Issuer<'static, KeyPair>,
    zones: Vec<Name>,
    not_after: OffsetDateTime,
}

/// A server's certificate chain and key, ready for the TLS engine.
#[derive(Debug)]
pub struct Leaf {
    /// The leaf, then the issuing certificate. The root is not sent: clients have it or not.
    pub chain: Vec<CertificateDer<'static>>,
    /// The leaf's private key.
    pub key: PrivateKeyDer<'static>,
    /// Last moment of validity.
    pub not_after: OffsetDateTime,
    /// When a third of the life is left: time for the next one.
    pub renew_at: OffsetDateTime,
}

impl Issuer {
    pub(super) fn create(
        root: &rcgen::Issuer<'static, KeyPair>,
        summary: &Summary,
        zones: &[Zone],
        now: OffsetDateTime,
    ) -> Result<Self, AuthorityError> {
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
        params.name_constraints = Some(constraints(zones));
        let not_after = params.not_after;
        let certificate = params.signed_by(&key, root)?;
        Ok(Self {
            certificate: certificate.into(),
            issuer: rcgen::Issuer::new(params, key),
            zones: zones.iter().map(|zone| zone.name.clone()).collect(),
            not_after,
        })
    }

    /// Whether the issuer may vouch for `name`: one of its zones covers it.
    #[must_use]
    pub fn covers(&self, name: &Name) -> bool {
        name.as_str() == "localhost" || self.zones.iter().any(|zone| name.is_within(zone))
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
        let mut params = CertificateParams::default();
        let mut names = vec![SanType::DnsName(Ia5String::try_from(name.as_str())?)];
        if name.as_str() == "localhost" {
            names.extend([
                SanType::IpAddress(IpAddr::V4(Ipv4Addr::LOCALHOST)),
                SanType::IpAddress(IpAddr::V6(Ipv6Addr::LOCALHOST)),
            ]);
        }
        params.subject_alt_names = names;
        // The names are in the SAN (RFC 9525 §2), and a common name is limited to 64 characters,
        // which host names are not. An empty subject would do, but some clients want to show one.
        let mut subject = DistinguishedName::new();
        subject.push(DnType::OrganizationName, "Bent Lane");
        params.distinguished_name = subject;
        params.serial_number = Some(serial_number());
        params.not_before = now - BACKDATE;
        params.not_after = (now + LEAF_LIFE).min(self.not_after);
        params.is_ca = IsCa::ExplicitNoCa;
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.use_authority_key_identifier_extension = true;
        let not_after = params.not_after;
        let certificate = params.signed_by(&key, &self.issuer)?;
        Ok(Leaf {
            chain: vec![certificate.into(), self.certificate.clone()],
            key: PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der())),
            not_after,
            renew_at: not_after - (not_after - now) / 3,
        })
    }
}

/// The zones, `localhost` and the loopback addresses are permitted. Email addresses have no
/// permitted place at all: a name type that is left out would be unconstrained
/// (RFC 5280 §4.2.1.10), so the empty host excludes every one of them.
fn constraints(zones: &[Zone]) -> NameConstraints {
    let names = zones
        .iter()
        .map(|zone| zone.name.as_str())
        .chain(["localhost"]);
    NameConstraints {
        permitted_subtrees: names
            .map(|name| GeneralSubtree::DnsName(name.to_owned()))
            .chain([
                GeneralSubtree::IpAddress(CidrSubnet::from_v4_prefix([127, 0, 0, 0], 8)),
                GeneralSubtree::IpAddress(CidrSubnet::from_v6_prefix(
                    Ipv6Addr::LOCALHOST.octets(),
                    128,
                )),
            ])
            .collect(),
        excluded_subtrees: vec![GeneralSubtree::Rfc822Name(String::new())],
    }
}

/// A random positive number of 127 bits: unique without a list, and unguessable.
pub(super) fn serial_number() -> SerialNumber {
    let mut octets = [0; 16];
    rand::rng().fill_bytes(&mut octets);
    octets[0] = (octets[0] & 0x7f) | 0x40;
    SerialNumber::from_slice(&octets)
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use rstest::rstest;
    use rustls::RootCertStore;
    use rustls::client::WebPkiServerVerifier;
    use rustls::client::danger::ServerCertVerifier;
    use rustls::pki_types::{ServerName, UnixTime};
    use time::macros::datetime;

    use super::*;
    use crate::authority::{Authority, Owner};

    const NOW: OffsetDateTime = datetime!(2026-05-04 12:00 UTC);

    fn authority() -> Authority {
        let owner = Owner {
            user: "rowan".into(),
            host: "fell".into(),
        };
        Authority::create(&owner, NOW).unwrap()
    }

    fn issuer(authority: &Authority) -> Issuer {
        authority
            .issuer_for(&[Zone::new("moor.test".parse().unwrap())], NOW)
            .unwrap()
    }

    /// What a TLS client that trusts the root says of a leaf for `issued`, asked for `wanted`.
    fn verify(issued: &str, wanted: &str, at: OffsetDateTime) -> Result<(), rustls::Error> {
        let authority = authority();
        let leaf = issuer(&authority)
            .issue(&issued.parse().unwrap(), NOW)
            .unwrap();
        let mut roots = RootCertStore::empty();
        roots.add(authority.certificate().clone()).unwrap();
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let verifier = WebPkiServerVerifier::builder_with_provider(roots.into(), provider)
            .build()
            .unwrap();
        let since_epoch = std::time::Duration::from_secs(at.unix_timestamp().unsigned_abs());
        let (leaf, chain) = leaf.chain.split_first().unwrap();
        let name = ServerName::try_from(wanted).unwrap();
        let time = UnixTime::since_unix_epoch(since_epoch);
        verifier
            .verify_server_cert(leaf, chain, &name, &[], time)
            .map(drop)
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
    #[case("blackmoor.test", "blackmoor.test", 0, false)]
    fn clients_that_trust_the_root(
        #[case] issued: &str,
        #[case] wanted: &str,
        #[case] days_later: i64,
        #[case] accepted: bool,
    ) {
        let outcome = verify(issued, wanted, NOW + Duration::days(days_later));
        assert_eq!(outcome.is_ok(), accepted, "{outcome:?}");
    }

    #[test]
    fn the_issuer_knows_what_clients_will_accept() {
        let issuer = issuer(&authority());
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
        let leaf = issuer(&authority())
            .issue(&"x.moor.test".parse().unwrap(), NOW)
            .unwrap();
        assert_eq!(leaf.not_after, NOW + Duration::days(90));
        assert_eq!(leaf.renew_at, NOW + Duration::days(60));
    }

    #[test]
    fn a_root_is_taken_up_from_its_files() {
        let authority = authority();
        let again = Authority::load(authority.certificate_pem(), &authority.key_pem()).unwrap();
        assert_eq!(again.summary(), authority.summary());
        assert!(again.summary().subject.contains("rowan@fell"));
        assert_eq!(again.summary().fingerprint_sha256.len(), 32 * 3 - 1);

        let stranger = self::authority();
        let mixed = Authority::load(authority.certificate_pem(), &stranger.key_pem());
        assert!(matches!(mixed, Err(AuthorityError::KeyMismatch)));
        let damaged = Authority::load("", &authority.key_pem());
        assert!(matches!(damaged, Err(AuthorityError::Certificate)));
    }
}
