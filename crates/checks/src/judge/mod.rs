//! What the observations at each hop mean.

mod answer;
mod browser;
mod connect;
mod expect;
mod handshake;
mod resolve;
mod streams;
mod trials;

use time::macros::format_description;
use time::{OffsetDateTime, UtcOffset};

use super::finding::Finding;
use super::hop::{Hop, Severity};
use super::observation::{Facts, Observations};

/// How one hop came out.
#[derive(Debug, Default)]
pub(super) struct HopResult {
    /// What to show in a few words.
    pub(super) detail: String,
    /// The evidence, in full.
    pub(super) evidence: Vec<String>,
    /// How long it took, in microseconds.
    pub(super) micros: Option<u64>,
    /// What is wrong, cause before effect.
    pub(super) findings: Vec<Finding>,
    /// The title of the page that answered.
    pub(super) title: Option<String>,
    /// Whether there was nothing to judge by.
    pub(super) undeclared: bool,
    /// Whether the hop was left alone, so that neither it nor what lies beyond is known.
    pub(super) untried: bool,
}

impl HopResult {
    fn new(detail: impl Into<String>) -> Self {
        Self {
            detail: detail.into(),
            ..Self::default()
        }
    }

    fn with(mut self, finding: impl IntoIterator<Item = Finding>) -> Self {
        self.findings.extend(finding);
        self
    }

    /// Where the way ends: the hop at which the first broken finding lies.
    pub(super) fn breaks_at(&self) -> Option<Hop> {
        let mut findings = self.findings.iter();
        findings
            .find(|finding| finding.severity == Severity::Error)
            .map(|finding| finding.hop)
    }
}

/// Judges one hop; `None` when it was not tried.
pub(super) fn judge(hop: Hop, facts: &Facts, seen: &Observations) -> Option<HopResult> {
    match hop {
        Hop::Resolve => Some(resolve::judge(facts, seen)),
        Hop::Handshake => Some(handshake::judge(facts, seen)),
        Hop::Connect => Some(connect::judge(facts, seen)),
        Hop::Answer => seen
            .answer
            .as_ref()
            .map(|it| answer::judge(facts, seen, it)),
        Hop::Expect => seen.answer.as_ref().map(|it| expect::judge(facts, it)),
    }
}

/// A duration as microseconds.
fn micros(took: std::time::Duration) -> u64 {
    u64::try_from(took.as_micros()).unwrap_or(u64::MAX)
}

/// A duration as a person reads it.
pub(super) fn in_words(took: std::time::Duration) -> String {
    match took.as_micros() {
        0..1_000 => format!("{} µs", took.as_micros()),
        1_000..1_000_000 => format!("{} ms", took.as_millis()),
        _ => format!("{:.1} s", took.as_secs_f64()),
    }
}

/// A time that has passed, in its two largest units.
pub(crate) fn in_words_rounded(ago: time::Duration) -> String {
    let seconds = ago.whole_seconds().max(0);
    let (days, hours, minutes) = (seconds / 86_400, seconds / 3600 % 24, seconds / 60 % 60);
    match (days, hours, minutes) {
        (0, 0, 0) => format!("{seconds} s"),
        (0, 0, minutes) => format!("{minutes} min {} s", seconds % 60),
        (0, hours, minutes) => format!("{hours} h {minutes} min"),
        (days, hours, _) => format!("{days} d {hours} h"),
    }
}

/// A point in time, in UTC.
pub(crate) fn moment(at: OffsetDateTime) -> String {
    let format = format_description!("[year]-[month]-[day] [hour]:[minute]:[second] UTC");
    let at = at.to_offset(UtcOffset::UTC);
    at.format(format).unwrap_or_else(|_| at.to_string())
}

pub(crate) fn list<T: ToString>(all: &[T]) -> String {
    let texts: Vec<String> = all.iter().map(ToString::to_string).collect();
    texts.join(", ")
}
