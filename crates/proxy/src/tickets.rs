use std::fmt;
use std::sync::Arc;

use arc_swap::ArcSwap;
use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::rand;
use rustls::server::ProducesTickets;

/// How long a client may come back with a ticket, in seconds.
const LIFETIME: u32 = 12 * 3600;

/// Octets of a key.
pub const TICKET_KEY_LENGTH: usize = 32;

/// Tickets by which clients resume their sessions without a signature (RFC 8446 §4.6.1, RFC 5077):
/// what we would have to remember is given to the client, sealed. The keys can outlive a process,
/// so sessions go on after a restart. Cloning gives another handle to the same ones.
#[derive(Clone)]
pub struct Tickets {
    keys: Arc<ArcSwap<Keys>>,
}

/// The key that seals, and the one before it, which only opens.
struct Keys {
    current: LessSafeKey,
    previous: LessSafeKey,
}

impl fmt::Debug for Tickets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Tickets").finish_non_exhaustive()
    }
}

impl Keys {
    fn new(current: &[u8; TICKET_KEY_LENGTH], previous: &[u8; TICKET_KEY_LENGTH]) -> Option<Self> {
        let key = |octets| {
            UnboundKey::new(&AES_256_GCM, octets)
                .map(LessSafeKey::new)
                .ok()
        };
        Some(Self {
            current: key(current)?,
            previous: key(previous)?,
        })
    }
}

impl Tickets {
    /// Tickets sealed by `current`, and opened by `previous`, too. `None` when the crypto provider
    /// does not take them.
    #[must_use]
    pub fn new(
        current: &[u8; TICKET_KEY_LENGTH],
        previous: &[u8; TICKET_KEY_LENGTH],
    ) -> Option<Self> {
        let keys = Arc::new(ArcSwap::from_pointee(Keys::new(current, previous)?));
        Some(Self { keys })
    }

    /// Goes by other keys from now on.
    pub fn replace(&self, current: &[u8; TICKET_KEY_LENGTH], previous: &[u8; TICKET_KEY_LENGTH]) {
        if let Some(keys) = Keys::new(current, previous) {
            self.keys.store(Arc::new(keys));
        }
    }
}

impl ProducesTickets for Tickets {
    fn enabled(&self) -> bool {
        true
    }

    fn lifetime(&self) -> u32 {
        LIFETIME
    }

    fn encrypt(&self, plain: &[u8]) -> Option<Vec<u8>> {
        let mut nonce = [0; NONCE_LEN];
        rand::fill(&mut nonce).ok()?;
        let mut sealed = plain.to_vec();
        let keys = self.keys.load();
        let unique = Nonce::assume_unique_for_key(nonce);
        keys.current
            .seal_in_place_append_tag(unique, Aad::empty(), &mut sealed)
            .ok()?;
        Some([&nonce[..], &sealed].concat())
    }

    fn decrypt(&self, ticket: &[u8]) -> Option<Vec<u8>> {
        let (nonce, sealed) = ticket.split_first_chunk::<NONCE_LEN>()?;
        let keys = self.keys.load();
        [&keys.current, &keys.previous].into_iter().find_map(|key| {
            let mut opened = sealed.to_vec();
            let nonce = Nonce::assume_unique_for_key(*nonce);
            let plain = key.open_in_place(nonce, Aad::empty(), &mut opened).ok()?;
            Some(plain.to_vec())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tickets_open_for_two_keys_and_for_nobody_else() {
        let tickets = Tickets::new(&[1; 32], &[2; 32]).unwrap();
        let ticket = tickets.encrypt(b"session").unwrap();
        assert_eq!(tickets.decrypt(&ticket).as_deref(), Some(&b"session"[..]));
        assert_ne!(
            tickets.encrypt(b"session").unwrap(),
            ticket,
            "no two are alike"
        );
        tickets.replace(&[3; 32], &[1; 32]);
        assert_eq!(tickets.decrypt(&ticket).as_deref(), Some(&b"session"[..]));
        tickets.replace(&[4; 32], &[3; 32]);
        assert_eq!(tickets.decrypt(&ticket), None);
        let mut changed = ticket.clone();
        *changed.last_mut().unwrap() ^= 1;
        tickets.replace(&[1; 32], &[1; 32]);
        assert_eq!(tickets.decrypt(&changed), None);
        assert_eq!(tickets.decrypt(b"short"), None);
    }
}
