use std::cmp::Ordering;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use super::finding::Finding;
use super::hop::Hop;
use super::kind::FindingKind;
use super::since::Since;
use bentlane_model::Name;

/// How a hop came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum HopState {
    /// As it should.
    Passed,
    /// Not as it should: the first such hop is where the way ends.
    Broken,
    /// An earlier hop is broken, so this one says nothing.
    NotReached,
    /// The route does not declare what to expect, so it is unknown whether it is the right app.
    NotDeclared,
    /// The app is stopped until a request starts it, and a check does not start it.
    NotTried,
}

impl HopState {
    /// Whether nothing is wrong at the hop, as far as anybody has said what would be right.
    #[must_use]
    pub fn is_good(self) -> bool {
        matches!(self, Self::Passed | Self::NotDeclared | Self::NotTried)
    }
}

/// One hop of a verdict.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct HopReport {
    /// Which hop.
    pub hop: Hop,
    /// How it came out.
    pub state: HopState,
    /// A summary: an address, a protocol, a status.
    pub detail: String,
    /// The evidence, line by line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub evidence: Vec<String>,
    /// How long it took, in microseconds; absent when it was not tried.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub micros: Option<u64>,
}

/// What a check of one route came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Verdict {
    /// The route's address.
    pub address: String,
    /// The name that was asked for.
    #[schema(value_type = String)]
    pub name: Name,
    /// The URL that was asked for.
    pub url: String,
    /// Where the route leads.
    pub to: String,
    /// Whether no hop is broken, and each was reached.
    pub passed: bool,
    /// Whether it passes and breaks in turn, several times within minutes.
    #[serde(default)]
    pub flapping: bool,
    /// All hops, in the order of a request.
    pub hops: Vec<HopReport>,
    /// What is wrong, the worst first, cause before effect.
    pub findings: Vec<Finding>,
    /// The title of the page that answered, if one did and has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Until when a failing route was proved, and what is different since then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<Since>,
    /// When the check was made.
    #[serde(with = "time::serde::rfc3339")]
    pub checked_at: OffsetDateTime,
}

impl Verdict {
    /// The verdict on an address to which no route answers.
    #[must_use]
    pub fn nowhere(address: &str, name: Name, finding: Finding, now: OffsetDateTime) -> Self {
        let report = |hop: Hop| HopReport {
            hop,
            state: match hop.cmp(&finding.hop) {
                Ordering::Less => HopState::Passed,
                Ordering::Equal => HopState::Broken,
                Ordering::Greater => HopState::NotReached,
            },
            detail: String::new(),
            evidence: Vec::new(),
            micros: None,
        };
        Self {
            address: address.to_owned(),
            url: format!("https://{name}/"),
            name,
            to: String::new(),
            passed: false,
            flapping: false,
            title: None,
            since: None,
            hops: Hop::ALL.into_iter().map(report).collect(),
            findings: vec![finding],
            checked_at: now,
        }
    }

    /// The states of the hops, for drawing the lane.
    #[must_use]
    pub fn states(&self) -> Vec<HopState> {
        self.hops.iter().map(|report| report.state).collect()
    }

    /// Whether the app has not answered yet, while a client would still wait.
    #[must_use]
    pub fn is_starting(&self) -> bool {
        let mut findings = self.findings.iter();
        self.passed
            && findings.any(|finding| {
                matches!(
                    finding.slug,
                    FindingKind::StillStarting | FindingKind::AppStarting
                )
            })
    }

    /// Whether an app is stopped until a request starts it, so that the rest of its lane is not known.
    #[must_use]
    pub fn is_stopped(&self) -> bool {
        let mut findings = self.findings.iter();
        self.passed && findings.any(|finding| finding.slug == FindingKind::AppStopped)
    }

    /// Whether `other` says the same of the route, except for times and evidence.
    #[must_use]
    pub fn agrees_with(&self, other: &Self) -> bool {
        let kinds = |it: &Self| {
            it.findings
                .iter()
                .map(|it| (it.slug, it.severity))
                .collect()
        };
        let (own, others): (Vec<_>, Vec<_>) = (kinds(self), kinds(other));
        self.to == other.to
            && self.states() == other.states()
            && self.flapping == other.flapping
            && own == others
    }

    /// The worst finding, the cause before its effects.
    #[must_use]
    pub fn worst(&self) -> Option<&Finding> {
        self.findings.first()
    }
}

/// The lane as one line of text: solid where it passes, broken where it fails, dotted beyond, with an
/// open end where nothing is declared.
///
/// ```
/// use bentlane_checks::{HopState::{Broken, NotDeclared, NotReached, Passed}, lane};
///
/// assert_eq!(lane(&[Passed, Passed, Passed, Passed, Passed]), "●──●──●──●──●");
/// assert_eq!(lane(&[Passed, Passed, Passed, Passed, NotDeclared]), "●──●──●──●╌╌◌");
/// assert_eq!(lane(&[Passed, Broken, NotReached, NotReached, NotReached]), "●╴ ✕╌╌○╌╌○╌╌○");
/// ```
#[must_use]
pub fn lane(states: &[HopState]) -> String {
    let mut line = String::new();
    for (position, state) in states.iter().enumerate() {
        let (way, mark) = match state {
            HopState::Passed => ("──", '●'),
            HopState::Broken => ("╴ ", '✕'),
            HopState::NotReached => ("╌╌", '○'),
            HopState::NotDeclared | HopState::NotTried => ("╌╌", '◌'),
        };
        if position > 0 {
            line.push_str(way);
        }
        line.push(mark);
    }
    line
}
