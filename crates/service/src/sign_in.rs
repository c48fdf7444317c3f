use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rand::Rng;
use rand::distr::Alphanumeric;

/// How long a sign-in link can be used, once.
pub(crate) const LINK_LIFE: Duration = Duration::from_secs(120);
/// How long a browser stays signed in.
const SESSION_LIFE: Duration = Duration::from_secs(7 * 24 * 3600);
/// Links and sessions kept at a time, each; the oldest go first.
const MOST: usize = 64;

/// Who may use the API: holders of the token, and browsers that signed in by a one-time link.
#[derive(Debug)]
pub(crate) struct SignIn {
    token: String,
    open: Mutex<Open>,
}

#[derive(Debug, Default)]
struct Open {
    links: HashMap<String, Instant>,
    sessions: HashMap<String, Instant>,
}

impl SignIn {
    pub(crate) fn new(token: String) -> Self {
        Self {
            token,
            open: Mutex::default(),
        }
    }

    /// A new secret: 32 letters and digits, 190 bits.
    pub(crate) fn secret() -> String {
        rand::rng()
            .sample_iter(&Alphanumeric)
            .take(32)
            .map(char::from)
            .collect()
    }

    /// Whether `given` is the token, in a time that does not tell how much of it is right.
    pub(crate) fn is_token(&self, given: &str) -> bool {
        let (given, token) = (given.as_bytes(), self.token.as_bytes());
        let differing = given.iter().zip(token).fold(0, |acc, (a, b)| acc | (a ^ b));
        given.len() == token.len() && differing == 0
    }

    /// A code that can be turned into a session once, within [`LINK_LIFE`].
    pub(crate) fn make_link(&self, now: Instant) -> String {
        add(&mut self.open().links, now + LINK_LIFE, now)
    }

    /// Turns a link's code into a session; `None` when it is unknown, used or too old.
    pub(crate) fn use_link(&self, code: &str, now: Instant) -> Option<String> {
        let mut open = self.open();
        let until = open.links.remove(code)?;
        (until > now).then(|| add(&mut open.sessions, now + SESSION_LIFE, now))
    }

    pub(crate) fn is_session(&self, given: &str, now: Instant) -> bool {
        self.open()
            .sessions
            .get(given)
            .is_some_and(|until| *until > now)
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn add(secrets: &mut HashMap<String, Instant>, until: Instant, now: Instant) -> String {
    secrets.retain(|_, until| *until > now);
    if secrets.len() >= MOST {
        let oldest = secrets
            .iter()
            .min_by_key(|(_, until)| **until)
            .map(|(code, _)| code.clone());
        if let Some(oldest) = oldest {
            secrets.remove(&oldest);
        }
    }
    let secret = SignIn::secret();
    secrets.insert(secret.clone(), until);
    secret
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_token_is_compared_whole() {
        let sign_in = SignIn::new("abcd".to_owned());
        assert!(sign_in.is_token("abcd"));
        for wrong in ["", "abc", "abcde", "abcx"] {
            assert!(!sign_in.is_token(wrong), "{wrong}");
        }
    }

    #[test]
    fn a_link_works_once_and_for_a_while() {
        let (sign_in, now) = (SignIn::new(String::new()), Instant::now());
        let code = sign_in.make_link(now);
        let session = sign_in.use_link(&code, now).unwrap();
        assert!(sign_in.is_session(&session, now));
        assert!(!sign_in.is_session(&session, now + SESSION_LIFE));
        assert_eq!(sign_in.use_link(&code, now), None, "used");
        let late = sign_in.make_link(now);
        assert_eq!(sign_in.use_link(&late, now + LINK_LIFE), None, "too old");
    }

    #[test]
    fn links_are_bounded() {
        let (sign_in, now) = (SignIn::new(String::new()), Instant::now());
        let first = sign_in.make_link(now);
        for second in 1..=MOST as u64 {
            sign_in.make_link(now + Duration::from_millis(second));
        }
        assert_eq!(sign_in.open().links.len(), MOST);
        assert_eq!(sign_in.use_link(&first, now), None, "the oldest went");
    }
}
