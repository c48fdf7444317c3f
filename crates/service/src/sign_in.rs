//! Who is signed in to the console.
//!
//! `bentlane console` gets a code, which a browser turns into a session, once and within a minute.
//! Code and session are good for connections of the user who asked alone, so that they are of no
//! use to others who read them from a command line or a screen. A browser of another user, as on the
//! host of a virtual machine, is let in when the terminal that asked agrees. Nothing is stored: when
//! the service ends, nobody is signed in. One that starts again in place hands its sessions to itself.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use aws_lc_rs::digest::{SHA256, digest};
use rand::Rng;
use rand::distr::Alphanumeric;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::sync::watch;

/// How long a code can be used, once.
pub(crate) const CODE_LIFE: Duration = Duration::from_secs(60);
/// How long a session lasts without being used.
pub(crate) const SESSION_LIFE: Duration = Duration::from_secs(12 * 3600);
/// How long after signing in a session may make calls that run commands or change keys.
pub(crate) const RECENT: Duration = Duration::from_secs(600);
/// Codes and sessions kept at a time, each; the oldest go first.
const MOST: usize = 64;

/// The codes and sessions of the moment.
#[derive(Debug, Default)]
pub(crate) struct SignIn {
    open: Mutex<Open>,
}

/// A secret as it is kept: by its digest, so that looking one up takes no longer the more of it is
/// right.
type Secret = [u8; 32];

#[derive(Debug, Default)]
struct Open {
    last_id: u64,
    codes: HashMap<Secret, Code>,
    sessions: HashMap<Secret, Session>,
}

#[derive(Debug)]
struct Code {
    id: u64,
    /// Who asked for it.
    uid: u32,
    until: Instant,
    /// Whether a terminal waits that can be asked.
    asks: bool,
    state: watch::Sender<CodeState>,
}

/// The state of a code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CodeState {
    /// Not used yet.
    Open,
    /// A browser of this user wants to; `None` when the user is unknown.
    Asked(Option<u32>),
    /// The terminal lets this user's browser in, or does not.
    Answered(Option<u32>, bool),
    /// A browser signed in.
    Used,
}

/// A browser that is signed in.
#[derive(Clone, Debug)]
pub(crate) struct Session {
    pub(crate) id: u64,
    /// The user whose connections may use it; `None` for those of unknown users, once allowed.
    pub(crate) uid: Option<u32>,
    /// The browser, as it calls itself.
    pub(crate) browser: String,
    pub(crate) since: OffsetDateTime,
    pub(crate) used: OffsetDateTime,
    signed_in: Instant,
    until: Instant,
}

impl Session {
    /// Whether it began a short time ago.
    pub(crate) fn is_recent(&self, now: Instant) -> bool {
        now.saturating_duration_since(self.signed_in) < RECENT
    }
}

/// A session that a service which starts again in place leaves to itself. Of its secret it has the digest.
#[derive(Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct KeptSession {
    digest: Secret,
    id: u64,
    uid: Option<u32>,
    browser: String,
    since: OffsetDateTime,
    used: OffsetDateTime,
    /// How long ago it began, and how long it lasts without being used.
    age: Duration,
    left: Duration,
}

/// What comes of using a code.
#[derive(Debug)]
pub(crate) enum Exchange {
    /// The session's secret.
    Session(String),
    /// The code is unknown, used or too old.
    Gone,
    /// The browser is another user's, and no terminal can be asked.
    Foreign { asked_by: u32 },
    /// The browser is another user's: the terminal is asked, and this receives its answer.
    Asking(watch::Receiver<CodeState>),
}

impl SignIn {
    /// A code that a browser of `uid` can turn into a session once, within [`CODE_LIFE`]; with its
    /// number. `asks` says whether a terminal waits for [`SignIn::watch`].
    pub(crate) fn make_code(&self, uid: u32, asks: bool, now: Instant) -> (u64, String) {
        let mut open = self.open();
        open.codes.retain(|_, code| code.until > now);
        shed(&mut open.codes, |code| code.until);
        let (id, text) = (open.next_id(), random());
        let code = Code {
            id,
            uid,
            until: now + CODE_LIFE,
            asks,
            state: watch::Sender::new(CodeState::Open),
        };
        open.codes.insert(secret(&text), code);
        (id, text)
    }

    /// Follows the state of the code with this number; `None` when it is gone.
    pub(crate) fn watch(&self, id: u64) -> Option<watch::Receiver<CodeState>> {
        let open = self.open();
        let code = open.codes.values().find(|code| code.id == id)?;
        Some(code.state.subscribe())
    }

    /// Says whether the browser that a terminal was asked about is let in; gives whether anything
    /// waited for that.
    pub(crate) fn answer(&self, id: u64, agreed: bool) -> bool {
        let open = self.open();
        let code = open.codes.values().find(|code| code.id == id);
        code.is_some_and(|code| {
            code.state.send_if_modified(|state| {
                let CodeState::Asked(uid) = *state else {
                    return false;
                };
                *state = CodeState::Answered(uid, agreed);
                true
            })
        })
    }

    /// Turns a code into a session for the browser at a connection of `uid`.
    pub(crate) fn exchange(
        &self,
        text: &str,
        uid: Option<u32>,
        browser: &str,
        now: Instant,
    ) -> Exchange {
        let mut open = self.open();
        let key = secret(text);
        let Some(code) = open.codes.get(&key).filter(|code| code.until > now) else {
            return Exchange::Gone;
        };
        let state = *code.state.borrow();
        let agreed = state == CodeState::Answered(uid, true);
        if uid != Some(code.uid) && !agreed {
            if !code.asks {
                return Exchange::Foreign { asked_by: code.uid };
            }
            if state != CodeState::Open {
                return Exchange::Gone;
            }
            code.state.send_replace(CodeState::Asked(uid));
            return Exchange::Asking(code.state.subscribe());
        }
        if let Some(code) = open.codes.remove(&key) {
            code.state.send_replace(CodeState::Used);
        }
        open.sessions.retain(|_, session| session.until > now);
        shed(&mut open.sessions, |session| session.until);
        let (id, text, at) = (open.next_id(), random(), OffsetDateTime::now_utc());
        let session = Session {
            id,
            uid,
            browser: browser.to_owned(),
            since: at,
            used: at,
            signed_in: now,
            until: now + SESSION_LIFE,
        };
        open.sessions.insert(secret(&text), session);
        Exchange::Session(text)
    }

    /// The session with this secret, if it is good for a connection of `uid`; it is renewed by that.
    pub(crate) fn session(&self, text: &str, uid: Option<u32>, now: Instant) -> Option<Session> {
        let mut open = self.open();
        let session = open.sessions.get_mut(&secret(text))?;
        if session.until <= now || session.uid != uid {
            return None;
        }
        session.until = now + SESSION_LIFE;
        session.used = OffsetDateTime::now_utc();
        Some(session.clone())
    }

    /// Every session, the latest last.
    pub(crate) fn sessions(&self, now: Instant) -> Vec<Session> {
        let open = self.open();
        let good = open.sessions.values().filter(|session| session.until > now);
        let mut sessions: Vec<Session> = good.cloned().collect();
        sessions.sort_by_key(|session| session.id);
        sessions
    }

    /// The sessions to leave to a service that starts again.
    pub(crate) fn hand_over(&self, now: Instant) -> Vec<KeptSession> {
        let open = self.open();
        let good = open.sessions.iter().filter(|(_, it)| it.until > now);
        let kept = good.map(|(digest, session)| KeptSession {
            digest: *digest,
            id: session.id,
            uid: session.uid,
            browser: session.browser.clone(),
            since: session.since,
            used: session.used,
            age: now.saturating_duration_since(session.signed_in),
            left: session.until.saturating_duration_since(now),
        });
        kept.collect()
    }

    /// Goes on with these sessions.
    pub(crate) fn taken_over(kept: Vec<KeptSession>, now: Instant) -> Self {
        let mut open = Open::default();
        for session in kept {
            open.last_id = open.last_id.max(session.id);
            // One that began before the machine did is long past its first minutes.
            let signed_in = now.checked_sub(session.age).or(now.checked_sub(RECENT));
            open.sessions.insert(
                session.digest,
                Session {
                    id: session.id,
                    uid: session.uid,
                    browser: session.browser,
                    since: session.since,
                    used: session.used,
                    signed_in: signed_in.unwrap_or(now),
                    until: now + session.left.min(SESSION_LIFE),
                },
            );
        }
        Self {
            open: Mutex::new(open),
        }
    }

    /// Ends the session with this number, or all; gives how many that were.
    pub(crate) fn end(&self, id: Option<u64>) -> usize {
        let mut open = self.open();
        let before = open.sessions.len();
        open.sessions
            .retain(|_, session| id.is_some_and(|id| session.id != id));
        before - open.sessions.len()
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Open {
    fn next_id(&mut self) -> u64 {
        self.last_id += 1;
        self.last_id
    }
}

/// Makes room for one more.
fn shed<T>(secrets: &mut HashMap<Secret, T>, until: impl Fn(&T) -> Instant) {
    if secrets.len() < MOST {
        return;
    }
    let oldest = secrets.iter().min_by_key(|(_, it)| until(it));
    if let Some(oldest) = oldest.map(|(secret, _)| *secret) {
        secrets.remove(&oldest);
    }
}

fn secret(text: &str) -> Secret {
    let mut out = Secret::default();
    out.copy_from_slice(digest(&SHA256, text.as_bytes()).as_ref());
    out
}

/// 32 letters and digits, 190 bits.
fn random() -> String {
    rand::rng()
        .sample_iter(&Alphanumeric)
        .take(32)
        .map(char::from)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_service_that_starts_again_knows_its_sessions() {
        let (sign_in, now) = (SignIn::default(), Instant::now());
        let text = signed_in(&sign_in, now);
        let later = now + Duration::from_secs(60);
        let next = SignIn::taken_over(sign_in.hand_over(later), later);
        let session = next.session(&text, Some(ROWAN), later).unwrap();
        assert_eq!(session.id, sign_in.sessions(later)[0].id);
        assert!(session.is_recent(later), "it began a minute ago");
        assert!(!session.is_recent(now + RECENT));
        assert!(next.session(&text, Some(EVE), later).is_none());
        let after = now + SESSION_LIFE + Duration::from_secs(61);
        assert!(sign_in.hand_over(after).is_empty());
    }

    const ROWAN: u32 = 1000;
    const EVE: u32 = 1001;

    fn signed_in(sign_in: &SignIn, now: Instant) -> String {
        let (_, code) = sign_in.make_code(ROWAN, false, now);
        match sign_in.exchange(&code, Some(ROWAN), "a browser", now) {
            Exchange::Session(secret) => secret,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_code_works_once_for_its_user_within_a_minute() {
        let (sign_in, now) = (SignIn::default(), Instant::now());
        let (_, code) = sign_in.make_code(ROWAN, false, now);
        for uid in [Some(EVE), None] {
            let foreign = sign_in.exchange(&code, uid, "", now);
            assert!(matches!(foreign, Exchange::Foreign { asked_by: ROWAN }));
        }
        let late = sign_in.exchange(&code, Some(ROWAN), "", now + CODE_LIFE);
        assert!(matches!(late, Exchange::Gone), "too old");
        let used = sign_in.exchange(&code, Some(ROWAN), "", now);
        assert!(matches!(used, Exchange::Session(_)));
        let again = sign_in.exchange(&code, Some(ROWAN), "", now);
        assert!(matches!(again, Exchange::Gone), "used");
    }

    #[test]
    fn a_session_belongs_to_its_user_and_is_renewed_by_use() {
        let (sign_in, now) = (SignIn::default(), Instant::now());
        let secret = signed_in(&sign_in, now);
        for (given, uid) in [
            (&*secret, Some(EVE)),
            (&secret, None),
            ("wrong", Some(ROWAN)),
        ] {
            assert!(sign_in.session(given, uid, now).is_none());
        }
        let later = now + SESSION_LIFE - Duration::from_secs(1);
        let session = sign_in.session(&secret, Some(ROWAN), later).unwrap();
        assert!(session.is_recent(now) && !session.is_recent(later));
        let renewed = later + SESSION_LIFE - Duration::from_secs(1);
        assert!(sign_in.session(&secret, Some(ROWAN), renewed).is_some());
        let over = renewed + SESSION_LIFE;
        assert!(sign_in.session(&secret, Some(ROWAN), over).is_none());
    }

    #[test]
    fn sessions_are_ended_one_by_one_or_all() {
        let (sign_in, now) = (SignIn::default(), Instant::now());
        let [one, two, _] = std::array::from_fn(|_| signed_in(&sign_in, now));
        let first = sign_in.sessions(now)[0].id;
        assert_eq!(sign_in.end(Some(first)), 1);
        assert!(sign_in.session(&one, Some(ROWAN), now).is_none());
        assert!(sign_in.session(&two, Some(ROWAN), now).is_some());
        assert_eq!(sign_in.end(None), 2);
        assert!(sign_in.sessions(now).is_empty());
    }

    #[test]
    fn a_terminal_can_admit_the_browser_of_another_user() {
        for agreed in [true, false] {
            let (sign_in, now) = (SignIn::default(), Instant::now());
            let (id, code) = sign_in.make_code(ROWAN, true, now);
            let told = sign_in.watch(id).unwrap();
            assert!(!sign_in.answer(id, true), "nobody has asked yet");
            let asking = sign_in.exchange(&code, Some(EVE), "", now);
            assert!(matches!(asking, Exchange::Asking(_)));
            assert_eq!(*told.borrow(), CodeState::Asked(Some(EVE)));
            assert!(sign_in.answer(id, agreed));
            assert!(!sign_in.answer(id, true), "answered once");
            let third = sign_in.exchange(&code, None, "", now);
            assert!(matches!(third, Exchange::Gone), "it was not asked about");
            let outcome = sign_in.exchange(&code, Some(EVE), "", now);
            assert_eq!(
                matches!(outcome, Exchange::Session(_)),
                agreed,
                "{outcome:?}"
            );
        }
    }

    #[test]
    fn the_number_of_codes_is_limited() {
        let (sign_in, now) = (SignIn::default(), Instant::now());
        let (_, first) = sign_in.make_code(ROWAN, false, now);
        for second in 1..=MOST as u64 {
            sign_in.make_code(ROWAN, false, now + Duration::from_millis(second));
        }
        assert_eq!(sign_in.open().codes.len(), MOST);
        let gone = sign_in.exchange(&first, Some(ROWAN), "", now);
        assert!(matches!(gone, Exchange::Gone), "the oldest went");
    }
}
