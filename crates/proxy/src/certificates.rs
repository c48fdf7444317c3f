use std::collections::HashMap;
use std::fmt;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Arc, Mutex, PoisonError};

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_ca::{Issuer, LeafKey, Pair};
use bentlane_model::{Name, PinnedCert, Snapshot};
use rustls::crypto::aws_lc_rs::sign::any_supported_type;
use rustls::pki_types::{CertificateDer, SubjectPublicKeyInfoDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::{CertifiedKey, Signer, SigningKey};
use rustls::{SignatureAlgorithm, SignatureScheme};
use time::OffsetDateTime;
use tracing::{debug, error};

/// Leaves kept at a time; a client can ask for any number of names below a wildcard.
const CAPACITY: usize = 16_384;
/// Parts in which they are kept.
const PARTS: usize = 128;

/// The certificates of the TLS listeners: made on demand for each server name, kept in memory.
///
/// A handshake for a known name takes no lock. Making a certificate for a new one takes the lock,
/// so that two handshakes for one name at once make it once.
pub struct Certificates {
    state: ArcSwap<State>,
    /// From elsewhere; they go before those that are made here.
    imported: ArcSwap<Vec<Imported>>,
    /// The routes, when some of them chose a certificate.
    pinning: ArcSwapOption<Snapshot>,
    making: Mutex<()>,
}

/// An issuer with the leaves it made: they change together, so that no leaf outlives its issuer.
struct State {
    issuer: Arc<Issuer>,
    /// In parts, by the hash of the name: a new leaf copies its part alone.
    leaves: Vec<ArcSwap<Leaves>>,
}

type Leaves = HashMap<Box<str>, Kept>;

struct Imported {
    pair: Pair,
    key: Arc<CertifiedKey>,
}

/// What is shown under a name.
#[derive(Clone, Debug)]
pub struct Shown {
    /// The certificate, and what is shown behind it.
    pub chain: Vec<CertificateDer<'static>>,
    /// When the next one is made; `None` for one from elsewhere.
    pub renew_at: Option<OffsetDateTime>,
}

#[derive(Clone)]
struct Kept {
    key: Arc<CertifiedKey>,
    renew_at: OffsetDateTime,
}

impl fmt::Debug for Certificates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Certificates")
            .field("kept", &self.state.load().kept())
            .finish()
    }
}

impl Certificates {
    /// Certificates by `issuer`, none made yet.
    #[must_use]
    pub fn new(issuer: Issuer) -> Self {
        Self {
            state: ArcSwap::from_pointee(State::new(issuer)),
            imported: ArcSwap::default(),
            pinning: ArcSwapOption::empty(),
            making: Mutex::new(()),
        }
    }

    /// Takes another issuer; its leaves are made anew. Connections at work go on.
    pub fn replace_issuer(&self, issuer: Issuer) {
        let _making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
        self.state.store(Arc::new(State::new(issuer)));
    }

    /// Shows these pairs from now on under the names that they are for, one that holds a name itself
    /// before one that covers it by a wildcard. Connections at work go on.
    ///
    /// # Errors
    /// What the TLS engine has against a key; then nothing is changed.
    pub fn import(&self, pairs: Vec<Pair>) -> Result<(), String> {
        let read = |pair: Pair| {
            let key = any_supported_type(&pair.key).map_err(|cause| cause.to_string())?;
            let key = Arc::new(CertifiedKey::new(pair.chain.clone(), key));
            Ok(Imported { pair, key })
        };
        let imported = pairs
            .into_iter()
            .map(read)
            .collect::<Result<Vec<_>, String>>()?;
        self.imported.store(Arc::new(imported));
        Ok(())
    }

    /// What is shown under `name`, when that comes from elsewhere.
    #[must_use]
    pub fn imported(&self, name: &str) -> Option<Shown> {
        let chain = self.imported_key(name)?.cert.clone();
        Some(Shown {
            chain,
            renew_at: None,
        })
    }

    /// Goes by what the routes of `snapshot` chose from now on.
    pub(crate) fn pin(&self, snapshot: &Arc<Snapshot>) {
        let some = snapshot.has_pinned().then(|| Arc::clone(snapshot));
        self.pinning.store(some);
    }

    /// Whether a connection that was made for `connection` may serve `name`, too: the certificate
    /// that it showed is for both.
    pub(crate) fn serves(&self, connection: &str, name: &str) -> bool {
        let shown = self.imported_key(connection);
        let (Some(shown), Ok(name)) = (shown, name.parse()) else {
            return false;
        };
        let imported = self.imported.load();
        let mut shown = imported.iter().filter(|it| Arc::ptr_eq(&it.key, &shown));
        shown.any(|it| it.pair.covers(&name, false))
    }

    fn imported_key(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let imported = self.imported.load();
        if imported.is_empty() {
            return None;
        }
        let name: Name = name.parse().ok()?;
        if let Some(snapshot) = &*self.pinning.load() {
            match snapshot.pinned_cert(name.as_str()) {
                Some(PinnedCert::Issued) => return None,
                Some(PinnedCert::Imported(first)) => {
                    let is_it = |it: &&Imported| {
                        it.pair
                            .info
                            .names
                            .first()
                            .is_some_and(|own| **own == **first)
                    };
                    if let Some(it) = imported.iter().find(is_it) {
                        return Some(Arc::clone(&it.key));
                    }
                }
                None => {}
            }
        }
        let find = |exactly| imported.iter().find(|it| it.pair.covers(&name, exactly));
        find(true)
            .or_else(|| find(false))
            .map(|it| Arc::clone(&it.key))
    }

    /// The issuer of the moment.
    #[must_use]
    pub fn issuer(&self) -> Arc<Issuer> {
        Arc::clone(&self.state.load().issuer)
    }

    /// The chain that is shown under `name`, made if need be, and when the next one is made; `None`
    /// when there is no certificate for it.
    #[must_use]
    pub fn shown(&self, name: &str) -> Option<Shown> {
        if let Some(imported) = self.imported(name) {
            return Some(imported);
        }
        let chain = self.find(name)?.cert.clone();
        let renew_at = self.state.load().part(name)?.load().get(name)?.renew_at;
        Some(Shown {
            chain,
            renew_at: Some(renew_at),
        })
    }

    /// What was made so far: the name, its chain, and when the next one is made.
    #[must_use]
    pub fn made(&self) -> Vec<(String, Shown)> {
        let state = self.state.load();
        let made = |name: &str, kept: &Kept| {
            let shown = Shown {
                chain: kept.key.cert.clone(),
                renew_at: Some(kept.renew_at),
            };
            (name.to_owned(), shown)
        };
        let parts = state.leaves.iter().map(ArcSwap::load);
        parts
            .flat_map(|part| {
                part.iter()
                    .map(|(name, kept)| made(name, kept))
                    .collect::<Vec<_>>()
            })
            .collect()
    }

    fn find(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        if let Some(imported) = self.imported_key(name) {
            return Some(imported);
        }
        let now = OffsetDateTime::now_utc();
        let state = self.state.load();
        match state.part(name)?.load().get(name) {
            Some(kept) if kept.renew_at > now => Some(Arc::clone(&kept.key)),
            _ => self.make(name, now),
        }
    }

    fn make(&self, name: &str, now: OffsetDateTime) -> Option<Arc<CertifiedKey>> {
        let parsed: Name = name.parse().ok()?;
        let _making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
        let state = self.state.load_full();
        let part = state.part(name)?;
        let known = part.load_full();
        if let Some(kept) = known.get(name).filter(|kept| kept.renew_at > now) {
            return Some(Arc::clone(&kept.key));
        }
        if !state.issuer.covers(&parsed) {
            debug!(name, "a client asks for a name outside every zone");
            return None;
        }
        let leaf = state
            .issuer
            .issue(&parsed, now)
            .inspect_err(|cause| error!(name, %cause, "cannot make a certificate"))
            .ok()?;
        let kept = Kept {
            renew_at: leaf.renew_at,
            key: Arc::new(CertifiedKey::new(leaf.chain, Arc::new(Key::new(leaf.key)))),
        };
        let key = Arc::clone(&kept.key);
        let mut next = Leaves::clone(&known);
        if next.len() >= CAPACITY / PARTS {
            forget_oldest(&mut next);
        }
        next.insert(name.into(), kept);
        part.store(Arc::new(next));
        Some(key)
    }
}

impl State {
    fn new(issuer: Issuer) -> Self {
        Self {
            issuer: Arc::new(issuer),
            leaves: (0..PARTS).map(|_| ArcSwap::default()).collect(),
        }
    }

    /// The part that the leaf of `name` belongs to.
    fn part(&self, name: &str) -> Option<&ArcSwap<Leaves>> {
        let mut hasher = DefaultHasher::new();
        name.hash(&mut hasher);
        let part = usize::try_from(hasher.finish() % PARTS as u64).ok()?;
        self.leaves.get(part)
    }

    fn kept(&self) -> usize {
        self.leaves.iter().map(|part| part.load().len()).sum()
    }
}

/// Forgets the older half, so that a full part is not tidied at every new name.
fn forget_oldest(leaves: &mut Leaves) {
    let mut ages: Vec<_> = leaves.values().map(|kept| kept.renew_at).collect();
    ages.sort_unstable();
    if let Some(middle) = ages.get(ages.len() / 2).copied() {
        leaves.retain(|_, kept| kept.renew_at > middle);
    }
}

/// A key made here, as the TLS engine uses it.
#[derive(Clone, Debug)]
struct Key(Arc<LeafKey>);

impl Key {
    fn new(key: LeafKey) -> Self {
        Self(Arc::new(key))
    }
}

impl SigningKey for Key {
    fn choose_scheme(&self, offered: &[SignatureScheme]) -> Option<Box<dyn Signer>> {
        if !offered.contains(&SignatureScheme::ECDSA_NISTP256_SHA256) {
            return None;
        }
        Some(Box::new(self.clone()))
    }

    fn public_key(&self) -> Option<SubjectPublicKeyInfoDer<'_>> {
        Some(SubjectPublicKeyInfoDer::from(self.0.public_key()))
    }

    fn algorithm(&self) -> SignatureAlgorithm {
        SignatureAlgorithm::ECDSA
    }
}

impl Signer for Key {
    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, rustls::Error> {
        let signed = self.0.sign(message);
        signed.map_err(|cause| rustls::Error::General(cause.to_string()))
    }

    fn scheme(&self) -> SignatureScheme {
        SignatureScheme::ECDSA_NISTP256_SHA256
    }
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // Without a server name the client asked for an address; only loopback's can be ours.
        self.find(hello.server_name().unwrap_or("localhost"))
    }
}

#[cfg(test)]
mod tests {
    use bentlane_ca::{Authority, Limits, Owner};

    use super::*;

    fn issuer() -> Issuer {
        let owner = Owner {
            host: "fell".into(),
        };
        let now = OffsetDateTime::now_utc();
        let root = Authority::create(&owner, &Limits::of_root([]), now).unwrap();
        root.issuer_for(["moor.test".parse().unwrap()], now)
            .unwrap()
    }

    #[test]
    fn a_leaf_is_made_once_and_anew_with_another_issuer() {
        let certificates = Certificates::new(issuer());
        let first = certificates.find("a.moor.test").unwrap();
        assert!(Arc::ptr_eq(
            &first,
            &certificates.find("a.moor.test").unwrap()
        ));
        certificates.replace_issuer(issuer());
        assert!(!Arc::ptr_eq(
            &first,
            &certificates.find("a.moor.test").unwrap()
        ));
    }

    #[test]
    fn names_outside_the_zones_get_none() {
        let certificates = Certificates::new(issuer());
        for name in ["fell.test", "test", "", "not a name"] {
            assert!(certificates.find(name).is_none(), "{name}");
        }
        assert!(certificates.find("localhost").is_some());
    }

    #[test]
    fn the_cache_is_bounded() {
        let certificates = Certificates::new(issuer());
        // All of one part, which is as full as it gets.
        let state = certificates.state.load_full();
        let first = state.part("n0.moor.test").unwrap();
        let names = (0..).map(|position| format!("n{position}.moor.test"));
        let same = |name: &String| std::ptr::eq(state.part(name).unwrap(), first);
        for name in names.filter(same).take(CAPACITY / PARTS + 10) {
            certificates.find(&name).unwrap();
        }
        assert!(first.load().len() <= CAPACITY / PARTS);
        assert_eq!(state.kept(), first.load().len());
    }
}
