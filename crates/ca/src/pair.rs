//! Certificates that come from elsewhere, with their keys.

use std::fmt;

use rcgen::{KeyPair, PublicKeyData};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use time::OffsetDateTime;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::verify::{CertificateInfo, chain_pem};
use bentlane_model::Name;

/// A certificate with its chain and key, made elsewhere: by a public authority, or a company's.
pub struct Pair {
    /// The certificate, then what certifies each.
    pub chain: Vec<CertificateDer<'static>>,
    /// Its key.
    pub key: PrivateKeyDer<'static>,
    /// What is in it.
    pub info: CertificateInfo,
}

impl fmt::Debug for Pair {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Pair")
            .field("info", &self.info)
            .finish_non_exhaustive()
    }
}

impl Clone for Pair {
    fn clone(&self) -> Self {
        Self {
            chain: self.chain.clone(),
            key: self.key.clone_key(),
            info: self.info.clone(),
        }
    }
}

/// Why a pair is not taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PairError {
    /// There is no certificate.
    #[error("the first file holds no certificate, neither as PEM nor as DER")]
    NoCertificate,
    /// There is no key, or one under a passphrase.
    #[error(
        "the second file holds no private key that can be read: PKCS#8, SEC 1 or PKCS#1, without a passphrase"
    )]
    NoKey,
    /// The key belongs to none of the certificates.
    #[error("the key belongs to none of the certificates in the first file")]
    KeyMismatch,
    /// The certificate names no server.
    #[error("the certificate names no server (it has no subjectAltName)")]
    NoNames,
    /// It has expired.
    #[error("the certificate was valid until {until} only")]
    Expired {
        /// Its last day.
        until: String,
    },
    /// It is still to begin.
    #[error("the certificate is valid from {from} on only: is this machine's clock right?")]
    NotYet {
        /// Its first day.
        from: String,
    },
}

impl Pair {
    /// Reads a pair. The certificates may stand in any order, with others among them: the one that
    /// the key belongs to comes first, then what certifies it, as far as it is there. A certificate
    /// may also be in its plain encoding (DER), whatever the file is called.
    ///
    /// # Errors
    /// See [`PairError`].
    pub fn read(certificates: &[u8], key: &[u8], now: OffsetDateTime) -> Result<Self, PairError> {
        let mut all: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(certificates)
            .filter_map(Result::ok)
            .map(CertificateDer::into_owned)
            .collect();
        if all.is_empty() {
            all.push(CertificateDer::from(certificates.to_vec()));
        }
        all.retain(|der| X509Certificate::from_der(der).is_ok());
        if all.is_empty() {
            return Err(PairError::NoCertificate);
        }
        let key = PrivateKeyDer::from_pem_slice(key).map_err(|_| PairError::NoKey)?;
        let public = KeyPair::try_from(&key).map_err(|_| PairError::NoKey)?;
        let public = public.der_bytes();
        let is_keys = |der: &CertificateDer<'_>| {
            X509Certificate::from_der(der)
                .is_ok_and(|(_, it)| *it.public_key().subject_public_key.data == *public)
        };
        let position = all.iter().position(is_keys).ok_or(PairError::KeyMismatch)?;
        let mut chain = vec![all.swap_remove(position)];
        while let Some(next) = chain.last().and_then(|last| certifier(last, &all)) {
            chain.push(all.swap_remove(next));
        }
        let info = chain.first().and_then(CertificateInfo::read);
        let info = info
            .filter(|info| !info.names.is_empty())
            .ok_or(PairError::NoNames)?;
        if now > info.not_after {
            let until = info.not_after.date().to_string();
            return Err(PairError::Expired { until });
        }
        if now < info.not_before {
            let from = info.not_before.date().to_string();
            return Err(PairError::NotYet { from });
        }
        Ok(Self { chain, key, info })
    }

    /// Whether it is for `name`; `exactly` when not by a wildcard, which stands for one label
    /// (RFC 9525 §6.3).
    #[must_use]
    pub fn covers(&self, name: &Name, exactly: bool) -> bool {
        let names = self.info.names.iter();
        let names = names.filter(|own| !exactly || !own.starts_with("*."));
        covers(names, name)
    }

    /// Whether the end is near enough for a warning.
    #[must_use]
    pub fn ends_soon(&self, now: OffsetDateTime) -> bool {
        self.info.ends_soon(now)
    }

    /// Who has to be known to a client, when the chain does not lead to a root itself: the issuer of
    /// its last certificate.
    #[must_use]
    pub fn leads_to(&self) -> Option<String> {
        let (_, last) = X509Certificate::from_der(self.chain.last()?).ok()?;
        (last.issuer() != last.subject()).then(|| last.issuer().to_string())
    }

    /// The chain, PEM.
    #[must_use]
    pub fn chain_pem(&self) -> String {
        chain_pem(&self.chain)
    }
}

/// Which of `others` certifies `certificate`, by its subject and its key; not itself.
/// Whether one of a certificate's names is for `name`; a wildcard stands for one label (RFC 9525
/// §6.3).
pub fn covers<'a>(names: impl IntoIterator<Item = &'a String>, name: &Name) -> bool {
    let name = name.as_str();
    let below = name.split_once('.').map(|(_, rest)| rest);
    names.into_iter().any(|own| match own.strip_prefix("*.") {
        Some(base) => below.is_some_and(|below| below.eq_ignore_ascii_case(base)),
        None => own.eq_ignore_ascii_case(name),
    })
}

fn certifier(certificate: &CertificateDer<'_>, others: &[CertificateDer<'_>]) -> Option<usize> {
    let (_, certificate) = X509Certificate::from_der(certificate).ok()?;
    others.iter().position(|other| {
        X509Certificate::from_der(other).is_ok_and(|(_, other)| {
            other.subject() == certificate.issuer()
                && certificate
                    .verify_signature(Some(other.public_key()))
                    .is_ok()
        })
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::Duration;

    use super::*;
    use crate::fixture::{NOW, issuer, root};
    use crate::request;

    /// A chain, leaf first and root last, and the leaf's key.
    fn made(names: &[&str]) -> (Vec<String>, String) {
        let root = root();
        let issuer = issuer(&root);
        let names: Vec<_> = names.iter().map(|name| name.parse().unwrap()).collect();
        let (key, request) = request(&names).unwrap();
        let mut chain = issuer.sign(&request, 30, NOW).unwrap();
        chain.push(root.certificate_pem().to_owned());
        (chain, key)
    }

    #[rstest]
    #[case(&[0, 1, 2])]
    #[case(&[2, 1, 0])]
    #[case(&[1, 2, 0])]
    fn certificates_may_come_in_any_order(#[case] order: &[usize]) {
        let (chain, key) = made(&["a.moor.test"]);
        let (stranger, _) = made(&["b.moor.test"]);
        let mut text: String = order.iter().map(|part| chain[*part].as_str()).collect();
        text.push_str(&stranger[0]);
        let pair = Pair::read(text.as_bytes(), key.as_bytes(), NOW).unwrap();
        assert_eq!(pair.chain_pem(), chain.concat());
        assert_eq!(pair.leads_to(), None);
        let alone = Pair::read(chain[0].as_bytes(), key.as_bytes(), NOW).unwrap();
        assert!(alone.leads_to().unwrap().contains("issuing certificate"));
        let plain = Pair::read(&alone.chain[0], key.as_bytes(), NOW).unwrap();
        assert_eq!(plain.info, alone.info, "DER is taken, too");
    }

    #[rstest]
    #[case("a.moor.test", true, true)]
    #[case("A.moor.test", true, true)]
    #[case("x.hut.moor.test", false, true)]
    #[case("hut.moor.test", false, false)]
    #[case("x.y.hut.moor.test", false, false)]
    #[case("moor.test", false, false)]
    fn names(#[case] name: &str, #[case] exactly: bool, #[case] covered: bool) {
        let (chain, key) = made(&["a.moor.test", "*.hut.moor.test"]);
        let pair = Pair::read(chain.concat().as_bytes(), key.as_bytes(), NOW).unwrap();
        let name = name.parse().unwrap();
        assert_eq!(
            (pair.covers(&name, true), pair.covers(&name, false)),
            (exactly, covered)
        );
    }

    #[test]
    fn each_fault_of_a_pair_has_its_error() {
        let (chain, key) = made(&["a.moor.test"]);
        let chain = chain.concat();
        let (_, other) = made(&["a.moor.test"]);
        let read = |chain: &str, key: &str, days| {
            let at = NOW + Duration::days(days);
            Pair::read(chain.as_bytes(), key.as_bytes(), at).unwrap_err()
        };
        assert_eq!(read("", &key, 0), PairError::NoCertificate);
        assert_eq!(read(&chain, "", 0), PairError::NoKey);
        assert_eq!(read(&chain, &chain, 0), PairError::NoKey);
        assert_eq!(read(&chain, &other, 0), PairError::KeyMismatch);
        assert!(matches!(read(&chain, &key, 31), PairError::Expired { .. }));
        assert!(matches!(read(&chain, &key, -1), PairError::NotYet { .. }));
        let pair = Pair::read(chain.as_bytes(), key.as_bytes(), NOW).unwrap();
        assert!(!pair.ends_soon(NOW) && pair.ends_soon(NOW + Duration::days(10)));
        assert!(!format!("{pair:?}").contains("PRIVATE"));
    }
}
