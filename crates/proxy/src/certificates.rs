use std::fmt;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::{ArcSwap, ArcSwapOption};
use bentlane_ca::{Issuer, LeafKey, Pair};
use bentlane_model::{Name, PinnedCert, Snapshot};
use lru::LruCache;
use rustls::crypto::aws_lc_rs::sign::any_supported_type;
use rustls::pki_types::{CertificateDer, SubjectPublicKeyInfoDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::{CertifiedKey, Signer, SigningKey};
use rustls::{SignatureAlgorithm, SignatureScheme};
use time::OffsetDateTime;
use tokio::sync::Notify;
use tracing::{debug, error};

/// Leaves kept at a time; a client can ask for any number of names below a wildcard.
const CAPACITY: NonZeroUsize = NonZeroUsize::new(2_048).expect("it is not zero");

/// The certificates of the TLS listeners: made on demand for each server name, kept in memory, the
/// least recently used forgotten first.
///
/// A handshake takes the lock, and making a certificate for a new name keeps it, so that two
/// handshakes for one name at once make it once.
pub struct Certificates {
    state: Mutex<State>,
    /// From elsewhere; they go before those that are made here.
    imported: ArcSwap<Vec<Imported>>,
    /// The routes, when some of them chose a certificate.
    pinning: ArcSwapOption<Snapshot>,
    /// Notified when the issuer is found not to be current.
    outdated: Notify,
}

/// An issuer with the leaves it made: they change together, so that no leaf outlives its issuer.
struct State {
    issuer: Arc<Issuer>,
    leaves: LruCache<Box<str>, CachedLeaf>,
}

struct Imported {
    pair: Pair,
    key: Arc<CertifiedKey>,
}

/// The certificate of a name.
#[derive(Clone, Debug)]
pub struct Shown {
    /// The certificate, and the chain after it.
    pub chain: Vec<CertificateDer<'static>>,
    /// When the next one is made; `None` for one from elsewhere.
    pub renew_at: Option<OffsetDateTime>,
}

#[derive(Clone)]
struct CachedLeaf {
    key: Arc<CertifiedKey>,
    not_before: OffsetDateTime,
    renew_at: OffsetDateTime,
}

impl CachedLeaf {
    /// Also the clock may be set back.
    fn is_current(&self, now: OffsetDateTime) -> bool {
        self.not_before <= now && now < self.renew_at
    }
}

impl fmt::Debug for Certificates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Certificates")
            .field("kept", &self.state().leaves.len())
            .finish()
    }
}

impl Certificates {
    /// Certificates by `issuer`, none made yet.
    #[must_use]
    pub fn new(issuer: Issuer) -> Self {
        Self {
            state: Mutex::new(State::new(issuer)),
            imported: ArcSwap::default(),
            pinning: ArcSwapOption::empty(),
            outdated: Notify::new(),
        }
    }

    /// Waits until a certificate is asked for while the issuer is not current: it is to be renewed, or
    /// was made while the clock was ahead.
    pub async fn outdated(&self) {
        self.outdated.notified().await;
    }

    /// Replaces the issuer, whose leaves are made again. Open connections are not affected.
    pub fn replace_issuer(&self, issuer: Issuer) {
        *self.state() = State::new(issuer);
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
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

    /// The imported certificate that is shown for `name`.
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
        Arc::clone(&self.state().issuer)
    }

    /// The chain that is shown under `name`, made if need be, and when the next one is made; `None`
    /// when there is no certificate for it.
    #[must_use]
    pub fn shown(&self, name: &str) -> Option<Shown> {
        if let Some(imported) = self.imported(name) {
            return Some(imported);
        }
        let made = self.leaf(name)?;
        Some(Shown {
            chain: made.key.cert.clone(),
            renew_at: Some(made.renew_at),
        })
    }

    /// What was made so far: the name, its chain, and when the next one is made.
    #[must_use]
    pub fn made(&self) -> Vec<(String, Shown)> {
        let made = |name: &str, kept: &CachedLeaf| {
            let shown = Shown {
                chain: kept.key.cert.clone(),
                renew_at: Some(kept.renew_at),
            };
            (name.to_owned(), shown)
        };
        let state = self.state();
        let kept = state.leaves.iter();
        kept.map(|(name, kept)| made(name, kept)).collect()
    }

    fn find(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let imported = self.imported_key(name);
        imported.or_else(|| self.leaf(name).map(|made| made.key))
    }

    /// The leaf for `name`, made if there is none or its time has come.
    fn leaf(&self, name: &str) -> Option<CachedLeaf> {
        let now = OffsetDateTime::now_utc();
        let mut state = self.state();
        if let Some(kept) = state.leaves.get(name).filter(|it| it.is_current(now)) {
            return Some(kept.clone());
        }
        if !state.issuer.is_current(now) {
            self.outdated.notify_one();
        }
        let parsed: Name = name.parse().ok()?;
        if !state.issuer.covers(&parsed) {
            debug!(name, "a client asks for a name outside every zone");
            return None;
        }
        let leaf = state
            .issuer
            .issue(&parsed, now)
            .inspect_err(|cause| error!(name, %cause, "cannot make a certificate"))
            .ok()?;
        let kept = CachedLeaf {
            not_before: leaf.not_before,
            renew_at: leaf.renew_at,
            key: Arc::new(CertifiedKey::new(leaf.chain, Arc::new(Key::new(leaf.key)))),
        };
        state.leaves.put(name.into(), kept.clone());
        Some(kept)
    }
}

impl State {
    fn new(issuer: Issuer) -> Self {
        Self {
            issuer: Arc::new(issuer),
            leaves: LruCache::new(CAPACITY),
        }
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
    use time::Duration;

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

    #[rstest::rstest]
    #[case(Duration::days(-60), false)]
    #[case(Duration::days(-1), false)]
    #[case(Duration::ZERO, true)]
    #[case(Duration::days(59), true)]
    #[case(Duration::days(61), false)]
    fn a_cached_leaf_is_current_in_both_directions(#[case] later: Duration, #[case] current: bool) {
        let certificates = Certificates::new(issuer());
        let leaf = certificates.leaf("a.moor.test").unwrap();
        assert_eq!(leaf.is_current(OffsetDateTime::now_utc() + later), current);
    }

    #[test]
    fn a_leaf_is_cached_until_the_issuer_changes() {
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
    fn the_least_recently_used_leaf_is_forgotten_first() {
        let certificates = Certificates::new(issuer());
        certificates
            .state()
            .leaves
            .resize(NonZeroUsize::new(2).unwrap());
        let [first, second] =
            ["a", "b"].map(|name| certificates.find(&format!("{name}.moor.test")).unwrap());
        let again = certificates.find("a.moor.test").unwrap();
        certificates.find("c.moor.test").unwrap();
        assert!(Arc::ptr_eq(&first, &again));
        assert!(Arc::ptr_eq(
            &first,
            &certificates.find("a.moor.test").unwrap()
        ));
        assert!(!Arc::ptr_eq(
            &second,
            &certificates.find("b.moor.test").unwrap()
        ));
        assert_eq!(certificates.made().len(), 2);
    }
}
