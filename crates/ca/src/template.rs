//! Leaves by template: the certificates that one issuer makes for names of one length differ in a few
//! places alone, so that the rest is encoded once. What comes of it is octet for octet what the
//! encoder makes.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use rcgen::string::Ia5String;
use rcgen::{
    CertificateParams, Issuer, KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData, SanType,
    SerialNumber, SigningKey,
};
use rustls::pki_types::CertificateDer;
use time::OffsetDateTime;
use time::macros::datetime;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::issue::leaf_params;

/// What stands for the parts that differ, each unlike everything else.
const SERIAL: [u8; 16] = [0x5a; 16];
const NOT_BEFORE: OffsetDateTime = datetime!(2031-02-03 04:05:06 UTC);
const NOT_AFTER: OffsetDateTime = datetime!(2042-11-12 13:14:15 UTC);
const LETTER: &str = "x";

/// The templates of one issuer, by the length of the name.
#[derive(Default)]
pub(super) struct Templates(Mutex<HashMap<usize, Option<Arc<Template>>>>);

/// The parts of a leaf that differ.
pub(super) struct Parts<'a> {
    pub(super) name: &'a str,
    pub(super) key: &'a KeyPair,
    pub(super) serial: [u8; 16],
    pub(super) not_before: OffsetDateTime,
    pub(super) not_after: OffsetDateTime,
}

struct Template {
    /// What is signed (RFC 5280 §4.1.1.1).
    tbs: Vec<u8>,
    /// The signature's algorithm, as it stands behind.
    algorithm: Vec<u8>,
    serial: usize,
    not_before: usize,
    not_after: usize,
    point: usize,
    identifier: usize,
    name: usize,
}

impl Templates {
    /// A leaf with these parts; `None` when there is no template for it, and the encoder has to be
    /// asked.
    pub(super) fn leaf(
        &self,
        issuer: &Issuer<'static, KeyPair>,
        parts: &Parts<'_>,
    ) -> Option<CertificateDer<'static>> {
        let length = parts.name.len();
        let known = {
            let templates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            templates.get(&length).cloned()
        };
        let template = known.unwrap_or_else(|| {
            let made = Template::make(issuer, length).map(Arc::new);
            let mut templates = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            templates.insert(length, made.clone());
            made
        });
        template?.fill(issuer.key(), parts)
    }
}

impl Template {
    fn make(issuer: &Issuer<'static, KeyPair>, length: usize) -> Option<Self> {
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).ok()?;
        let name = LETTER.repeat(length);
        let names = vec![SanType::DnsName(Ia5String::try_from(name.as_str()).ok()?)];
        let mut params = leaf_params(names, NOT_BEFORE, NOT_AFTER);
        params.serial_number = Some(SerialNumber::from_slice(&SERIAL));
        (params.not_before, params.not_after) = (NOT_BEFORE, NOT_AFTER);
        let identifier = params.key_identifier(&key);
        let certificate = params.signed_by(&key, issuer).ok()?;
        let (_, parsed) = X509Certificate::from_der(certificate.der()).ok()?;
        let tbs = parsed.tbs_certificate.as_ref().to_vec();
        let outer = certificate.der();
        let behind = outer.get(header(outer)? + tbs.len()..)?;
        let algorithm = behind.get(..whole(behind)?)?.to_vec();
        let at = |part: &[u8]| only(&tbs, part);
        Some(Self {
            serial: at(&SERIAL)?,
            not_before: at(&utc_time(NOT_BEFORE)?)?,
            not_after: at(&utc_time(NOT_AFTER)?)?,
            point: at(key.der_bytes())?,
            identifier: at(&identifier)?,
            name: at(name.as_bytes())?,
            algorithm,
            tbs,
        })
    }

    fn fill(&self, signer: &KeyPair, parts: &Parts<'_>) -> Option<CertificateDer<'static>> {
        let mut tbs = self.tbs.clone();
        let identifier = CertificateParams::default().key_identifier(parts.key);
        for (at, part) in [
            (self.serial, &parts.serial[..]),
            (self.not_before, &utc_time(parts.not_before)?),
            (self.not_after, &utc_time(parts.not_after)?),
            (self.point, parts.key.der_bytes()),
            (self.identifier, &identifier),
            (self.name, parts.name.as_bytes()),
        ] {
            tbs.get_mut(at..at + part.len())?.copy_from_slice(part);
        }
        let signature = signer.sign(&tbs).ok()?;
        // A BIT STRING without unused bits.
        let mut bits = Vec::with_capacity(signature.len() + 4);
        put_header(&mut bits, 0x03, signature.len() + 1);
        bits.push(0);
        bits.extend(signature);
        let length = tbs.len() + self.algorithm.len() + bits.len();
        let mut certificate = Vec::with_capacity(length + 4);
        put_header(&mut certificate, 0x30, length);
        certificate.extend(tbs);
        certificate.extend(&self.algorithm);
        certificate.extend(bits);
        Some(certificate.into())
    }
}

/// Where `part` stands, when it stands there alone.
fn only(all: &[u8], part: &[u8]) -> Option<usize> {
    if part.is_empty() {
        return None;
    }
    let windows = all.windows(part.len()).enumerate();
    let mut places = windows.filter(|(_, window)| *window == part);
    let (first, _) = places.next()?;
    places.next().is_none().then_some(first)
}

/// A moment as UTCTime (X.690 §11.8); `None` from 2050 on, when it is written otherwise (RFC 5280
/// §4.1.2.5).
fn utc_time(at: OffsetDateTime) -> Option<[u8; 13]> {
    let at = at.to_offset(time::UtcOffset::UTC);
    if !(1950..2050).contains(&at.year()) {
        return None;
    }
    let year = u8::try_from(at.year().rem_euclid(100)).ok()?;
    let numbers = [
        year,
        u8::from(at.month()),
        at.day(),
        at.hour(),
        at.minute(),
        at.second(),
    ];
    let mut text = [b'Z'; 13];
    for (place, number) in text.chunks_exact_mut(2).zip(numbers) {
        place[0] = b'0' + number / 10;
        place[1] = b'0' + number % 10;
    }
    Some(text)
}

/// Octets of an element's tag and length (X.690 §8.1).
fn header(der: &[u8]) -> Option<usize> {
    match *der.get(1)? {
        length @ 0x80.. => Some(2 + usize::from(length & 0x7f)),
        _ => Some(2),
    }
}

/// Octets of a whole element.
fn whole(der: &[u8]) -> Option<usize> {
    let header = header(der)?;
    let content = match *der.get(1)? {
        0x80.. => der
            .get(2..header)?
            .iter()
            .fold(0, |all, octet| all << 8 | usize::from(*octet)),
        short => usize::from(short),
    };
    Some(header + content)
}

fn put_header(der: &mut Vec<u8>, tag: u8, length: usize) {
    der.push(tag);
    let octets = length.to_be_bytes();
    let significant = octets
        .iter()
        .position(|octet| *octet != 0)
        .unwrap_or(octets.len() - 1);
    let octets = &octets[significant..];
    if length >= 0x80 {
        // At most eight.
        der.push(0x80 | u8::try_from(octets.len()).unwrap_or_default());
    }
    der.extend(octets);
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::fixture::{NOW, issuer, root};

    #[rstest]
    #[case("a.test")]
    #[case("booking.moor.test")]
    #[case(
        "a-name-that-is-longer-than-one-hundred-and-twenty-seven-octets.a-name-that-is-longer-than-one-hundred-and-twenty-seven-octets.moor.test"
    )]
    fn what_is_signed_is_what_the_encoder_makes(#[case] name: &str) {
        let issuer = issuer(&root());
        let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap();
        let mut serial = [7; 16];
        serial[0] = 0x41;
        let (not_before, not_after) = (NOW, NOW + time::Duration::days(90));
        let parts = Parts {
            name,
            key: &key,
            serial,
            not_before,
            not_after,
        };
        let ours = Templates::default().leaf(issuer.signer(), &parts).unwrap();
        let names = vec![SanType::DnsName(Ia5String::try_from(name).unwrap())];
        let mut params = leaf_params(names, not_before, not_after);
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        (params.not_before, params.not_after) = (not_before, not_after);
        let wanted = params.signed_by(&key, issuer.signer()).unwrap();
        let tbs = |der: &[u8]| {
            let (rest, parsed) = X509Certificate::from_der(der).unwrap();
            assert!(rest.is_empty());
            (
                parsed.tbs_certificate.as_ref().to_vec(),
                parsed.signature_algorithm.algorithm.to_id_string(),
            )
        };
        assert_eq!(tbs(&ours), tbs(wanted.der()));
    }

    #[rstest]
    #[case(datetime!(2026-05-04 03:02:01 UTC), Some("260504030201Z"))]
    #[case(datetime!(1999-12-31 23:59:59 UTC), Some("991231235959Z"))]
    #[case(datetime!(2026-05-04 03:02:01 +2), Some("260504010201Z"))]
    #[case(datetime!(2050-01-01 00:00 UTC), None)]
    fn times(#[case] at: OffsetDateTime, #[case] text: Option<&str>) {
        let written = utc_time(at);
        assert_eq!(
            written.as_ref().map(|text| &text[..]),
            text.map(str::as_bytes)
        );
    }

    #[rstest]
    #[case(5, &[0x30, 5])]
    #[case(127, &[0x30, 127])]
    #[case(128, &[0x30, 0x81, 128])]
    #[case(256, &[0x30, 0x82, 1, 0])]
    fn headers(#[case] length: usize, #[case] wanted: &[u8]) {
        let mut der = Vec::new();
        put_header(&mut der, 0x30, length);
        assert_eq!(der, wanted);
        assert_eq!(header(&der), Some(wanted.len()));
        assert_eq!(whole(&der), Some(wanted.len() + length));
    }
}
