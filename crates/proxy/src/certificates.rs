use std::collections::HashMap;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use arc_swap::ArcSwap;
use bentlane_core::Name;
use bentlane_core::authority::{Issuer, Leaf};
use rustls::crypto::aws_lc_rs::sign::any_supported_type;
use rustls::pki_types::CertificateDer;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use time::OffsetDateTime;
use tracing::{debug, error};

/// Leaves kept at a time; a client can ask for any number of names below a wildcard.
const CAPACITY: usize = 1024;

/// The certificates of the TLS listeners: made on demand for each server name, kept in memory.
///
/// A handshake for a known name takes no lock. Making a certificate for a new one takes the lock,
/// so that two handshakes for one name at once make it once.
pub struct Certificates {
    state: ArcSwap<State>,
    making: Mutex<()>,
}

/// An issuer with the leaves it made: they change together, so that no leaf outlives its issuer.
#[derive(Clone)]
struct State {
    issuer: Arc<Issuer>,
    leaves: HashMap<Box<str>, Kept>,
}

#[derive(Clone)]
struct Kept {
    key: Arc<CertifiedKey>,
    renew_at: OffsetDateTime,
}

impl fmt::Debug for Certificates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Certificates")
            .field("kept", &self.state.load().leaves.len())
            .finish()
    }
}

impl Certificates {
    /// Certificates by `issuer`, none made yet.
    #[must_use]
    pub fn new(issuer: Issuer) -> Self {
        let state = State {
            issuer: Arc::new(issuer),
            leaves: HashMap::new(),
        };
        Self {
            state: ArcSwap::from_pointee(state),
            making: Mutex::new(()),
        }
    }

    /// Takes another issuer; its leaves are made anew. Connections at work go on.
    pub fn replace_issuer(&self, issuer: Issuer) {
        let _making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
        self.state.store(Arc::new(State {
            issuer: Arc::new(issuer),
            leaves: HashMap::new(),
        }));
    }

    /// The issuer of the moment.
    #[must_use]
    pub fn issuer(&self) -> Arc<Issuer> {
        Arc::clone(&self.state.load().issuer)
    }

    /// The chain that is shown under `name`, made if need be, and when the next one is made; `None`
    /// when there is no certificate for it.
    #[must_use]
    pub fn shown(&self, name: &str) -> Option<(Vec<CertificateDer<'static>>, OffsetDateTime)> {
        self.find(name)?;
        let state = self.state.load();
        let kept = state.leaves.get(name)?;
        Some((kept.key.cert.clone(), kept.renew_at))
    }

    /// What was made so far: the name, its chain, and when the next one is made.
    #[must_use]
    pub fn made(&self) -> Vec<(String, Vec<CertificateDer<'static>>, OffsetDateTime)> {
        let state = self.state.load();
        let made = state.leaves.iter();
        made.map(|(name, kept)| (name.to_string(), kept.key.cert.clone(), kept.renew_at))
            .collect()
    }

    fn find(&self, name: &str) -> Option<Arc<CertifiedKey>> {
        let now = OffsetDateTime::now_utc();
        let state = self.state.load();
        match state.leaves.get(name) {
            Some(kept) if kept.renew_at > now => Some(Arc::clone(&kept.key)),
            _ => self.make(name, now),
        }
    }

    fn make(&self, name: &str, now: OffsetDateTime) -> Option<Arc<CertifiedKey>> {
        let parsed: Name = name.parse().ok()?;
        let _making = self.making.lock().unwrap_or_else(PoisonError::into_inner);
        let state = self.state.load_full();
        if let Some(kept) = state.leaves.get(name).filter(|kept| kept.renew_at > now) {
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
            key: Arc::new(certified_key(leaf)?),
        };
        let key = Arc::clone(&kept.key);
        let mut next = State::clone(&state);
        if next.leaves.len() >= CAPACITY {
            next.forget_oldest();
        }
        next.leaves.insert(name.into(), kept);
        self.state.store(Arc::new(next));
        Some(key)
    }
}

impl State {
    /// Forgets the older half, so that a full cache is not tidied at every new name.
    fn forget_oldest(&mut self) {
        let mut ages: Vec<_> = self.leaves.values().map(|kept| kept.renew_at).collect();
        ages.sort_unstable();
        if let Some(middle) = ages.get(ages.len() / 2).copied() {
            self.leaves.retain(|_, kept| kept.renew_at > middle);
        }
    }
}

fn certified_key(leaf: Leaf) -> Option<CertifiedKey> {
    let key = any_supported_type(&leaf.key)
        .inspect_err(|cause| error!(%cause, "the TLS engine refuses a key we made"))
        .ok()?;
    Some(CertifiedKey::new(leaf.chain, key))
}

impl ResolvesServerCert for Certificates {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // Without a server name the client asked for an address; only loopback's can be ours.
        self.find(hello.server_name().unwrap_or("localhost"))
    }
}

#[cfg(test)]
mod tests {
    use bentlane_core::authority::{Authority, Limits, Owner};

    use super::*;

    fn issuer() -> Issuer {
        let owner = Owner {
            user: "rowan".into(),
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
        for position in 0..CAPACITY + 10 {
            certificates
                .find(&format!("n{position}.moor.test"))
                .unwrap();
        }
        assert!(certificates.state.load().leaves.len() <= CAPACITY);
    }
}
