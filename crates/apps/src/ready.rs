//! Whether an app is ready, and where it listens.

use std::net::SocketAddr;
use std::time::Duration;

use bentlane_model::{Ready, RunningPort};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout};

use crate::output::Output;
use crate::processes::{Tree, listens_on, reachable};
use crate::text::plain;

/// How often every socket of the app is looked at while it does not listen on its port.
const LOOK_ELSEWHERE: Duration = Duration::from_millis(250);
/// How long it may listen elsewhere before that is taken for its port: it may open others first.
const PATIENCE: Duration = Duration::from_millis(1500);
/// How often it is asked whether it is ready, and how long it may take to answer.
const ASK_EVERY: Duration = Duration::from_millis(100);
const ANSWER_LIMIT: Duration = Duration::from_secs(2);
/// Ports of debuggers, which are not what visitors want.
const DEBUGGERS: std::ops::RangeInclusive<u16> = 9222..=9239;

/// Where an app is.
pub(crate) enum Place {
    /// It can be connected to.
    At(Vec<RunningPort>),
    /// Not yet, or not at the moment.
    NotYet,
}

/// What shows that an app is ready.
#[derive(Debug)]
pub(crate) struct Readiness {
    ready: Ready,
    /// The last line of output that was searched.
    searched: u64,
    printed: bool,
    /// Since when it listens on other ports alone.
    elsewhere_since: Option<Instant>,
    /// Since when it listens on some of its ports.
    partly_since: Option<Instant>,
    last_look: Option<Instant>,
    last_asked: Option<Instant>,
    /// What came of asking it last.
    answer: Option<String>,
}

impl Readiness {
    /// From the line with this number on.
    pub(crate) fn new(ready: &Ready, line: u64) -> Self {
        Self {
            ready: ready.clone(),
            searched: line,
            printed: false,
            elsewhere_since: None,
            partly_since: None,
            last_look: None,
            last_asked: None,
            answer: None,
        }
    }

    /// Looks where the app is.
    pub(crate) async fn look(
        &mut self,
        tree: &mut Tree,
        wanted: &[(String, u16)],
        output: &Output,
        was_ready: bool,
    ) -> Place {
        if !was_ready && !self.has_printed(output) {
            return Place::NotYet;
        }
        let Some(places) = self.places(tree, wanted, was_ready).await else {
            return Place::NotYet;
        };
        if let (Ready::Path(path), false) = (&self.ready, was_ready) {
            let path = path.clone();
            if !self.answers(&places, &path).await {
                return Place::NotYet;
            }
        }
        Place::At(places)
    }

    /// What is still missing, in words.
    pub(crate) fn waited_for(&self, wanted: &[(String, u16)]) -> String {
        match (&self.ready, &self.answer) {
            (Ready::Output(text), _) if !self.printed => format!("it has not printed “{text}”"),
            (Ready::Path(path), Some(answer)) => format!("{path} gives {answer}"),
            _ => match wanted.first() {
                Some((_, port)) => format!("it does not listen on port {port}"),
                None => "it does not listen".to_owned(),
            },
        }
    }

    fn has_printed(&mut self, output: &Output) -> bool {
        let Ready::Output(text) = &self.ready else {
            return true;
        };
        if !self.printed {
            let (lines, last) = output.lines(self.searched, usize::MAX);
            let own = lines.iter().filter(|line| &*line.stream != "bentlane");
            self.printed = own.into_iter().any(|line| plain(&line.text).contains(text));
            self.searched = last;
        }
        self.printed
    }

    /// Where its ports are: as wanted, or else where it listens.
    async fn places(
        &mut self,
        tree: &mut Tree,
        wanted: &[(String, u16)],
        was_ready: bool,
    ) -> Option<Vec<RunningPort>> {
        let is_there = wanted.iter().any(|(_, port)| listens_on(*port));
        if !is_there && !was_ready {
            // Reading every socket costs more than reading who listens.
            let now = Instant::now();
            if self.last_look.is_some_and(|at| now < at + LOOK_ELSEWHERE) {
                return None;
            }
            self.last_look = Some(now);
        }
        let listeners = tree.listeners();
        let as_told: Vec<RunningPort> = wanted
            .iter()
            .map(|(name, port)| RunningPort {
                name: name.clone(),
                at: reachable(&listeners, *port),
            })
            .filter(|place| !place.at.is_empty())
            .collect();
        if !as_told.is_empty() {
            self.elsewhere_since = None;
            // Of several ports some are there a moment before the others.
            let since = *self.partly_since.get_or_insert_with(Instant::now);
            let is_whole = as_told.len() == wanted.len();
            let waits = !is_whole && !was_ready && since.elapsed() < PATIENCE;
            return (!waits).then_some(as_told);
        }
        if listeners.is_empty() {
            self.elsewhere_since = None;
            return None;
        }
        let since = *self.elsewhere_since.get_or_insert_with(Instant::now);
        if since.elapsed() < PATIENCE && !was_ready {
            return None;
        }
        let name = wanted
            .first()
            .map(|(name, _)| name.clone())
            .unwrap_or_default();
        let at = elsewhere(&listeners).await;
        Some(vec![RunningPort { name, at }])
    }

    async fn answers(&mut self, places: &[RunningPort], path: &str) -> bool {
        let now = Instant::now();
        if self.last_asked.is_some_and(|at| now < at + ASK_EVERY) {
            return false;
        }
        self.last_asked = Some(now);
        let Some(at) = places.first().and_then(|place| place.at.first()) else {
            return false;
        };
        let status = timeout(ANSWER_LIMIT, status_of(*at, path)).await;
        let (is_ready, answer) = match status {
            Ok(Some(status)) => (status < 500, format!("the status {status}")),
            Ok(None) | Err(_) => (false, "no answer".to_owned()),
        };
        self.answer = Some(answer);
        is_ready
    }
}

/// The port of an app that does not listen on its own: the first that speaks HTTP.
async fn elsewhere(listeners: &[SocketAddr]) -> Vec<SocketAddr> {
    let mut ports: Vec<u16> = listeners.iter().map(SocketAddr::port).collect();
    ports.sort_by_key(|port| (DEBUGGERS.contains(port), *port));
    ports.dedup();
    for port in &ports {
        let at = reachable(listeners, *port);
        if let Some(first) = at.first()
            && let Ok(Some(_)) = timeout(ANSWER_LIMIT, status_of(*first, "/")).await
        {
            return at;
        }
    }
    ports
        .first()
        .map_or_else(Vec::new, |port| reachable(listeners, *port))
}

/// The status with which a server answers a request for `path` (RFC 9112 §4).
async fn status_of(at: SocketAddr, path: &str) -> Option<u16> {
    let mut stream = TcpStream::connect(at).await.ok()?;
    let request = format!(
        "GET {path} HTTP/1.1\r\nHost: localhost:{}\r\nUser-Agent: bentlane\r\nAccept: */*\r\n\
         Connection: close\r\n\r\n",
        at.port()
    );
    stream.write_all(request.as_bytes()).await.ok()?;
    let mut head = [0; 12];
    stream.read_exact(&mut head).await.ok()?;
    let head = std::str::from_utf8(&head).ok()?;
    let status = head.strip_prefix("HTTP/1.")?.get(2..5)?;
    status.parse().ok()
}
