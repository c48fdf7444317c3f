//! Records of exchanges, on their way to the traffic log.
//!
//! A record is filled in while its request is served, without a lock and with one more allocation, and is
//! put into a bounded queue when the last byte of the response has been read. The consumer does all
//! that takes longer: it redacts and packs a record at once, so that its memory can be used again, and
//! unpacks it when it is read.

use std::borrow::Cow;
use std::collections::HashMap;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant, SystemTime};

use bentlane_checks::FindingKind;
use bentlane_model::Snapshot;
use bentlane_queue::BoundedQueue;
use bentlane_traffic::{
    Ending, Exchange, Outcome, Protocol, Timings, Visitor, combined_line, without_secrets,
};
use foldhash::fast::RandomState;
use http::header::{REFERER, USER_AGENT};
use http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, Version};
use time::OffsetDateTime;

use crate::activity::Busy;
use crate::request_body::Progress;

/// The most exchanges that wait to be taken; of more, the newest are dropped and counted.
const WAITING: usize = 16 * 1024;

/// The exchanges that ended lately. Cloning gives another handle to the same.
#[derive(Clone, Debug)]
pub struct Recorder {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    queue: BoundedQueue<Box<ExchangeBuilder>>,
    /// Used by the consumer.
    labels: Mutex<RouteLabels>,
}

/// An exchange that ended, in compact form.
#[derive(Debug)]
pub struct RecordedExchange {
    at: SystemTime,
    timings: Timings,
    /// The route's address.
    route: Option<Arc<str>>,
    ending: Ending,
    details: Details,
}

/// The details of an exchange.
#[derive(Debug)]
pub(crate) struct Details {
    client: IpAddr,
    secure: bool,
    version: Version,
    method: Method,
    /// The name, and behind it path and query.
    place: Box<str>,
    name_length: usize,
    status: StatusCode,
    pub(crate) finding: Option<FindingKind>,
    /// How many bytes went to the target.
    pub(crate) carried: u64,
    pub(crate) sent: u64,
}

impl Details {
    fn name_and_path(&self) -> (&str, &str) {
        self.place
            .split_at_checked(self.name_length)
            .unwrap_or_default()
    }
}

/// What a long exchange needs of its snapshot, copied so that the snapshot can be dropped.
#[derive(Debug)]
struct OwnedContext {
    route: Option<Arc<str>>,
    log: Option<PathBuf>,
}

/// What two clocks said at one moment.
#[derive(Clone, Copy, Debug)]
struct Clocks {
    now: Instant,
    at: SystemTime,
}

/// The addresses of a snapshot's routes, made when they are first needed.
#[derive(Debug, Default)]
struct RouteLabels {
    /// Weak, so that it can be dropped; while this exists, no other snapshot has its address.
    snapshot: Weak<Snapshot>,
    labels: HashMap<usize, Arc<str>, RandomState>,
}

impl RouteLabels {
    fn of(&mut self, snapshot: &Arc<Snapshot>, position: usize) -> Option<Arc<str>> {
        if self.snapshot.as_ptr() != Arc::as_ptr(snapshot) {
            self.snapshot = Arc::downgrade(snapshot);
            self.labels = HashMap::default();
        }
        if let Some(label) = self.labels.get(&position) {
            return Some(Arc::clone(label));
        }
        let label = label(snapshot, position)?;
        self.labels.insert(position, Arc::clone(&label));
        Some(label)
    }
}

fn label(snapshot: &Snapshot, position: usize) -> Option<Arc<str>> {
    let route = snapshot.configuration().routes.get(position)?;
    Some(route.address.to_string().into())
}

/// The access log of a route.
fn log(snapshot: &Snapshot, position: usize) -> Option<PathBuf> {
    let route = snapshot.configuration().routes.get(position)?;
    route.settings.access_log.clone()
}

impl Default for Recorder {
    fn default() -> Self {
        Self {
            inner: Arc::new(Inner {
                queue: BoundedQueue::new(WAITING),
                labels: Mutex::default(),
            }),
        }
    }
}

impl Recorder {
    /// Takes the exchanges that ended since the last time, first the one that ended first; with each
    /// the route's access log and the line for it, when it has one.
    pub fn take(&self) -> impl Iterator<Item = (RecordedExchange, Option<(PathBuf, String)>)> {
        let clocks = Clocks {
            now: Instant::now(),
            at: SystemTime::now(),
        };
        let mut labels = self
            .inner
            .labels
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        std::iter::from_fn(move || {
            let exchange = self.inner.queue.pop()?;
            Some(RecordedExchange::new(exchange, clocks, &mut labels))
        })
    }

    /// Whether there is nothing to take.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.inner.queue.is_empty()
    }

    /// Waits until there is an exchange to take.
    pub async fn ready(&self) {
        self.inner.queue.ready().await;
    }

    /// How many exchanges were dropped since the start because the queue was full.
    #[must_use]
    pub fn left_out(&self) -> u64 {
        self.inner.queue.dropped()
    }

    fn put(&self, exchange: Box<ExchangeBuilder>) {
        self.inner.queue.push(exchange);
    }
}

/// An exchange while it goes on.
#[derive(Debug)]
pub(crate) struct ExchangeBuilder {
    /// Whether it is not recorded: one of our own checks, or one of our own pages.
    pub(crate) skipped: bool,
    /// Where it is recorded when it ends.
    pub(crate) recorder: Option<Recorder>,
    pub(crate) details: Details,
    /// The snapshot that it was routed by, once it is answered. `position` is the route's index in it.
    snapshot: Option<Arc<Snapshot>>,
    /// Used instead of the snapshot by exchanges that may last much longer than that.
    lasting: Option<Box<OwnedContext>>,
    pub(crate) position: Option<usize>,
    /// The request's body, when it has one, until the response's goes on with it.
    pub(crate) received: Option<Progress>,
    /// Whether the response is a stream without an end.
    pub(crate) is_stream: bool,
    visitor: Option<Box<Visitor>>,
    /// Says that its connection is at work, for as long as this is there.
    pub(crate) busy: Option<Busy>,
    /// The same of the app that it leads to, when it leads to one.
    pub(crate) app_busy: Option<Busy>,
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
}

impl ExchangeBuilder {
    /// For a request whose head has come in.
    pub(crate) fn begin(client: IpAddr, secure: bool, version: Version, method: Method) -> Self {
        Self {
            skipped: false,
            recorder: None,
            details: Details {
                client,
                secure,
                version,
                method,
                place: Box::default(),
                name_length: 0,
                status: StatusCode::OK,
                finding: None,
                carried: 0,
                sent: 0,
            },
            snapshot: None,
            lasting: None,
            position: None,
            received: None,
            is_stream: false,
            visitor: None,
            busy: None,
            app_busy: None,
            start: Instant::now(),
            connecting: None,
            connected: None,
            asked: None,
            answered: None,
            end: None,
        }
    }

    /// Sets the name and path of the request.
    pub(crate) fn asks(&mut self, name: &str, path: &str) {
        let mut place = String::with_capacity(name.len() + path.len());
        place.push_str(name);
        place.push_str(path);
        (self.details.place, self.details.name_length) = (place.into(), name.len());
    }

    /// Whether name and path are set.
    pub(crate) fn knows_place(&self) -> bool {
        !self.details.place.is_empty()
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

    /// The head of the response has arrived, by a route of `snapshot`.
    pub(crate) fn answered(&mut self, status: StatusCode, snapshot: Arc<Snapshot>) {
        self.details.status = status;
        self.snapshot = Some(snapshot);
        self.answered = Some(Instant::now());
    }

    /// Moves this exchange out, to be ended elsewhere; what stays is not recorded.
    pub(crate) fn hand_over(&mut self) -> Box<Self> {
        let Details {
            client,
            secure,
            version,
            ref method,
            ..
        } = self.details;
        let mut stays = Self::begin(client, secure, version, method.clone());
        stays.skipped = true;
        let mut exchange = Box::new(std::mem::replace(self, stays));
        exchange.lasts();
        exchange
    }

    /// It may last for hours: releases the snapshot.
    pub(crate) fn lasts(&mut self) {
        if let Some(snapshot) = self.snapshot.take() {
            let position = self.position;
            self.lasting = Some(Box::new(OwnedContext {
                route: position.and_then(|position| label(&snapshot, position)),
                log: position.and_then(|position| log(&snapshot, position)),
            }));
        }
    }

    /// Ends the exchange.
    pub(crate) fn end(mut self: Box<Self>, ending: Ending) {
        let Some(recorder) = self.recorder.take().filter(|_| !self.skipped) else {
            return;
        };
        let ending = match ending {
            Ending::Whole | Ending::ClientLeft if self.is_stream => Ending::Stream,
            ending => ending,
        };
        self.end = Some((ending, Instant::now()));
        recorder.put(self);
    }

    /// The same for a connection that changed its protocol, and carried so much to target and client.
    pub(crate) fn end_upgraded(mut self: Box<Self>, to_target: u64, to_client: u64) {
        (self.details.carried, self.details.sent) = (to_target, to_client);
        self.end(Ending::Upgraded);
    }

    fn timings(&self, end: Instant) -> Timings {
        let answered = self.answered.unwrap_or(end);
        let begun = self.connecting.or(self.asked).unwrap_or(self.start);
        let connect = self.connecting.map(|begun| {
            // A connection that failed took until the answer that says so.
            self.connected.unwrap_or(answered) - begun
        });
        let asked = self.asked.or(self.connecting.map(|_| answered));
        Timings {
            queue_us: Timings::micros(begun - self.start),
            connect_us: connect.map(Timings::micros),
            first_byte_us: Timings::micros(answered - asked.unwrap_or(begun)),
            last_byte_us: Timings::micros(end - answered),
        }
    }
}

impl RecordedExchange {
    /// Drops the snapshot, which may long have been replaced, and removes what may be secret.
    fn new(
        mut exchange: Box<ExchangeBuilder>,
        clocks: Clocks,
        labels: &mut RouteLabels,
    ) -> (Self, Option<(PathBuf, String)>) {
        let (name, path) = exchange.details.name_and_path();
        if let Cow::Owned(path) = without_secrets(path) {
            exchange.details.place = format!("{name}{path}").into();
        }
        let (ending, end) = exchange.end.unwrap_or((Ending::ClientLeft, exchange.start));
        let visitor = exchange.visitor.take();
        let (route, file) = match (
            exchange.lasting.take(),
            exchange.snapshot.take().zip(exchange.position),
        ) {
            (Some(lasting), _) => (lasting.route, lasting.log),
            (None, Some((snapshot, position))) => {
                let file = visitor.as_ref().and_then(|_| log(&snapshot, position));
                (labels.of(&snapshot, position), file)
            }
            (None, None) => (None, None),
        };
        let recorded = Self {
            at: clocks.at - (clocks.now - exchange.start),
            timings: exchange.timings(end),
            route,
            ending,
            details: exchange.details,
        };
        let log = file.zip(visitor).map(|(file, visitor)| {
            let line = combined_line(&recorded.exchange(0), &visitor);
            (file, line)
        });
        (recorded, log)
    }

    /// The address of the route; `None` when no route answers to the name and path.
    #[must_use]
    pub fn route(&self) -> Option<&str> {
        self.route.as_deref()
    }

    /// The same, to be kept.
    #[must_use]
    pub fn label(&self) -> Option<&Arc<str>> {
        self.route.as_ref()
    }

    /// Whether the target gave no response, broke it off, or answered with a server error (5xx).
    #[must_use]
    pub fn is_failure(&self) -> bool {
        self.details.finding.is_some()
            || self.details.status.is_server_error()
            || self.ending == Ending::TargetBrokeOff
    }

    /// What is counted of it.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        Outcome {
            status: self.details.status.as_u16(),
            ending: self.ending,
            sent: self.details.sent,
            total_us: self.timings.total_us(),
        }
    }

    /// The whole exchange, with its number.
    #[must_use]
    pub fn exchange(&self, id: i64) -> Exchange {
        let details = &self.details;
        let (name, path) = details.name_and_path();
        Exchange {
            id,
            at: OffsetDateTime::from(self.at),
            route: self.route.as_deref().map(str::to_owned),
            client: details.client.to_canonical(),
            secure: details.secure,
            protocol: match details.version {
                Version::HTTP_2 => Protocol::Http2,
                Version::HTTP_10 | Version::HTTP_09 => Protocol::Http10,
                _ => Protocol::Http11,
            },
            method: details.method.as_str().to_owned(),
            name: name.to_owned(),
            path: path.to_owned(),
            status: details.status.as_u16(),
            ending: self.ending,
            finding: details.finding,
            received: details.carried,
            sent: details.sent,
            timings: self.timings,
        }
    }
}

impl ExchangeBuilder {
    /// Sets the route by its index, and the client where the route `logs` requests. Requests to our own
    /// pages, which have no index, are not recorded.
    pub(crate) fn set_route(&mut self, position: Option<usize>, logs: bool, headers: &HeaderMap) {
        self.position = position;
        self.skipped |= position.is_none();
        if logs {
            self.visited_by(headers);
        }
    }

    /// Adds `Server-Timing` (W3C Server Timing §3) with the times to connect and to the first byte.
    #[cold]
    pub(crate) fn add_server_timing(&self, headers: &mut HeaderMap) {
        let millis = |duration: Duration| duration.as_secs_f64() * 1000.0;
        let mut value = match self.connecting.zip(self.connected) {
            Some((start, end)) => format!("connect;dur={:.1}, ", millis(end - start)),
            None => String::new(),
        };
        let asked = self.asked.unwrap_or(self.start);
        value.push_str(&format!("app;dur={:.1}", millis(asked.elapsed())));
        if let Ok(value) = HeaderValue::try_from(value) {
            headers.append("server-timing", value);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    #[test]
    fn lost_entries_are_counted() {
        let recorder = Recorder::default();
        let exchange = || {
            let client = Ipv4Addr::LOCALHOST.into();
            Box::new(ExchangeBuilder::begin(
                client,
                true,
                Version::HTTP_2,
                Method::GET,
            ))
        };
        for _ in 0..WAITING + 3 {
            recorder.put(exchange());
        }
        assert_eq!(recorder.left_out(), 3);
        assert_eq!(recorder.take().count(), WAITING);
        recorder.put(exchange());
        assert_eq!(recorder.take().count(), 1);
    }
}
