//! What is noted of each exchange, on its way to whoever keeps it.
//!
//! A request's note is filled in as it goes, without a lock and with one allocation beside itself, and
//! put into a bounded queue when the last octet of the response has been read. Everything that takes
//! longer, such as hiding what may be secret, is done by whoever takes it out.

use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Instant, SystemTime};

use bentlane_core::check::FindingKind;
use bentlane_core::exchange::{
    Ending, Exchange, Protocol, Timings, Visitor, combined_line, without_secrets,
};
use crossbeam_queue::ArrayQueue;
use http::header::{REFERER, USER_AGENT};
use http::{HeaderMap, HeaderName, Method, StatusCode, Version};
use time::OffsetDateTime;
use tokio::sync::Notify;

use crate::body::Progress;
use crate::plane::Plane;

/// Exchanges that wait to be taken at most; with more, the newest are left out and counted.
const WAITING: usize = 16 * 1024;

/// The exchanges that ended lately. Noting one takes no lock and never waits. Cloning gives another
/// handle to the same.
#[derive(Clone, Debug)]
pub struct Recorder {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    queue: ArrayQueue<Box<Note>>,
    left_out: AtomicU64,
    /// Whether somebody waits to be told of the next exchange.
    awaited: AtomicBool,
    news: Notify,
}

/// An exchange that ended.
#[derive(Clone, Debug)]
pub struct Recorded {
    /// The exchange, without its number.
    pub exchange: Exchange,
    /// The route's access log, and the line for it.
    pub log: Option<(PathBuf, String)>,
}

impl Default for Recorder {
    fn default() -> Self {
        Self {
            inner: Arc::new(Inner {
                queue: ArrayQueue::new(WAITING),
                left_out: AtomicU64::new(0),
                awaited: AtomicBool::new(false),
                news: Notify::new(),
            }),
        }
    }
}

impl Recorder {
    /// Takes the exchanges that ended since the last time, first the one that ended first.
    pub fn take(&self) -> impl Iterator<Item = Recorded> {
        let (now, at) = (Instant::now(), SystemTime::now());
        std::iter::from_fn(move || self.inner.queue.pop()).map(move |note| note.told(now, at))
    }

    /// Whether there is nothing to take.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.inner.queue.is_empty()
    }

    /// Waits until there is an exchange to take.
    pub async fn news(&self) {
        self.inner.awaited.store(true, Ordering::SeqCst);
        if self.inner.queue.is_empty() {
            self.inner.news.notified().await;
        }
        self.inner.awaited.store(false, Ordering::SeqCst);
    }

    /// How many exchanges were left out since the start, for want of room.
    #[must_use]
    pub fn left_out(&self) -> u64 {
        self.inner.left_out.load(Ordering::Relaxed)
    }

    fn put(&self, note: Box<Note>) {
        if self.inner.queue.push(note).is_err() {
            self.inner.left_out.fetch_add(1, Ordering::Relaxed);
        }
        // Whoever reads pauses after each time, so that many cost no more than one.
        if self.inner.awaited.load(Ordering::SeqCst)
            && self.inner.awaited.swap(false, Ordering::SeqCst)
        {
            self.inner.news.notify_one();
        }
    }
}

/// What is noted of an exchange while it goes on.
#[derive(Debug)]
pub(crate) struct Note {
    /// Whether nobody wants to know: a check of our own, or a page of our own.
    pub(crate) skipped: bool,
    client: IpAddr,
    secure: bool,
    version: Version,
    method: Method,
    /// The name, and behind it path and query.
    place: Box<str>,
    name_length: usize,
    /// The plane that it was routed by, once it is answered, and the route's place in it.
    plane: Option<Arc<Plane>>,
    pub(crate) position: Option<usize>,
    status: StatusCode,
    pub(crate) finding: Option<FindingKind>,
    /// The request's body, when it has one, until the response's goes on with it.
    pub(crate) received: Option<Progress>,
    pub(crate) sent: u64,
    /// Whether the response has no end of its own.
    pub(crate) is_stream: bool,
    visitor: Option<Box<Visitor>>,
    pub(crate) start: Instant,
    /// When a new connection was begun.
    pub(crate) connecting: Option<Instant>,
    /// When it was there.
    pub(crate) connected: Option<Instant>,
    /// When the request was sent.
    pub(crate) asked: Option<Instant>,
    answered: Option<Instant>,
    /// How and when it ended.
    end: Option<(Ending, Instant)>,
    /// How many octets went to the target.
    pub(crate) carried: u64,
}

impl Note {
    /// For a request whose head has come in.
    pub(crate) fn begin(client: IpAddr, secure: bool, version: Version, method: Method) -> Self {
        Self {
            skipped: false,
            client,
            secure,
            version,
            method,
            place: Box::default(),
            name_length: 0,
            plane: None,
            position: None,
            status: StatusCode::OK,
            finding: None,
            received: None,
            sent: 0,
            is_stream: false,
            visitor: None,
            start: Instant::now(),
            connecting: None,
            connected: None,
            asked: None,
            answered: None,
            end: None,
            carried: 0,
        }
    }

    /// What is asked for.
    pub(crate) fn asks(&mut self, name: &str, path: &str) {
        let mut place = String::with_capacity(name.len() + path.len());
        place.push_str(name);
        place.push_str(path);
        (self.place, self.name_length) = (place.into(), name.len());
    }

    /// Whether it is known what is asked for.
    pub(crate) fn knows_place(&self) -> bool {
        !self.place.is_empty()
    }

    /// Who asks, for an access log.
    pub(crate) fn visited_by(&mut self, headers: &HeaderMap) {
        let text = |name: &HeaderName| {
            let value = headers.get(name)?;
            Some(String::from_utf8_lossy(value.as_bytes()).into_owned())
        };
        self.visitor = Some(Box::new(Visitor {
            referer: text(&REFERER),
            agent: text(&USER_AGENT),
        }));
    }

    /// The head of the response is there, by a route of `plane`.
    pub(crate) fn answered(&mut self, status: StatusCode, plane: Arc<Plane>) {
        self.status = status;
        self.plane = Some(plane);
        self.answered = Some(Instant::now());
    }

    /// The same note, to be ended by somebody else; what stays is nobody's.
    pub(crate) fn hand_over(&mut self) -> Box<Self> {
        let mut stays = Self::begin(self.client, self.secure, self.version, self.method.clone());
        stays.skipped = true;
        Box::new(std::mem::replace(self, stays))
    }

    /// The exchange is over.
    pub(crate) fn end(mut self: Box<Self>, ending: Ending) {
        let Some(plane) = self.plane.as_ref().filter(|_| !self.skipped) else {
            return;
        };
        let recorder = plane.recorder.clone();
        let ending = match ending {
            Ending::Whole | Ending::ClientLeft if self.is_stream => Ending::Stream,
            ending => ending,
        };
        self.end = Some((ending, Instant::now()));
        recorder.put(self);
    }

    /// The same for a connection that changed its protocol, and carried so much to target and client.
    pub(crate) fn end_upgraded(mut self: Box<Self>, to_target: u64, to_client: u64) {
        (self.carried, self.sent) = (to_target, to_client);
        self.end(Ending::Upgraded);
    }

    /// What it tells, when it was `now` at `at`.
    fn told(self: Box<Self>, now: Instant, at: SystemTime) -> Recorded {
        let (ending, end) = self.end.unwrap_or((Ending::ClientLeft, self.start));
        let (name, path) = self
            .place
            .split_at_checked(self.name_length)
            .unwrap_or_default();
        let routes = self
            .plane
            .iter()
            .map(|plane| plane.snapshot.configuration());
        let route = routes
            .zip(self.position)
            .find_map(|(configuration, position)| configuration.routes.get(position));
        let answered = self.answered.unwrap_or(end);
        let begun = self.connecting.or(self.asked).unwrap_or(self.start);
        let connect = self.connecting.map(|begun| {
            // A connection that did not come about took until the answer that says so.
            self.connected.unwrap_or(answered) - begun
        });
        let asked = self.asked.or(self.connecting.map(|_| answered));
        let exchange = Exchange {
            id: 0,
            at: OffsetDateTime::from(at) - (now - self.start),
            route: route.map(|route| route.address.to_string()),
            client: self.client.to_canonical(),
            secure: self.secure,
            protocol: match self.version {
                Version::HTTP_2 => Protocol::Http2,
                Version::HTTP_10 | Version::HTTP_09 => Protocol::Http10,
                _ => Protocol::Http11,
            },
            method: self.method.as_str().to_owned(),
            name: name.to_owned(),
            path: without_secrets(path).into_owned(),
            status: self.status.as_u16(),
            ending,
            finding: self.finding,
            received: self.carried,
            sent: self.sent,
            timings: Timings {
                queue_us: Timings::micros(begun - self.start),
                connect_us: connect.map(Timings::micros),
                first_byte_us: Timings::micros(answered - asked.unwrap_or(begun)),
                last_byte_us: Timings::micros(end - answered),
            },
        };
        let file = route.and_then(|route| route.settings.access_log.clone());
        let log = file.zip(self.visitor).map(|(file, visitor)| {
            let line = combined_line(&exchange, &visitor);
            (file, line)
        });
        Recorded { exchange, log }
    }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    #[test]
    fn what_does_not_fit_is_counted() {
        let recorder = Recorder::default();
        let note = || {
            let client = Ipv4Addr::LOCALHOST.into();
            Box::new(Note::begin(client, true, Version::HTTP_2, Method::GET))
        };
        for _ in 0..WAITING + 3 {
            recorder.put(note());
        }
        assert_eq!(recorder.left_out(), 3);
        assert_eq!(recorder.take().count(), WAITING);
        recorder.put(note());
        assert_eq!(recorder.take().count(), 1);
    }
}
