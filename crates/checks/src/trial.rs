use std::fmt;

use crate::observation::{Direct, Timed};
use crate::page::Page;

/// The fields that tell an app what the client asked for, as the proxy adds them.
pub const FORWARDING: [&str; 6] = [
    "via",
    "forwarded",
    "x-forwarded-for",
    "x-forwarded-host",
    "x-forwarded-proto",
    "x-forwarded-port",
];

/// How a request to the target itself differs from the one that the proxy sends. One thing is changed at a
/// time, so that what helps names the cause.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Trial {
    /// In nothing.
    AsProxied,
    /// In nothing but the protocol: HTTP/1.1 where HTTP/2 was agreed on.
    OverHttp1,
    /// It has none of the forwarding fields.
    WithoutForwarding,
    /// It lacks one of them.
    Without(&'static str),
    /// Its host is the name without the port.
    WithoutPort,
    /// Its host is the target's own.
    OwnHost,
    /// Its host is the target's own, and it has no forwarding fields: as a client asks it without us.
    Direct,
}

impl fmt::Display for Trial {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::AsProxied => f.write_str("as the proxy does"),
            Self::OverHttp1 => f.write_str("over HTTP/1.1"),
            Self::WithoutForwarding => f.write_str("without forwarding headers"),
            Self::Without(field) => write!(f, "without {field}"),
            Self::WithoutPort => f.write_str("under the name without the port"),
            Self::OwnHost => f.write_str("under its own host"),
            Self::Direct => f.write_str("directly, under its own host"),
        }
    }
}

/// What the target itself answered to requests for one URL.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trials {
    answers: Vec<(Trial, Timed<Direct>)>,
}

impl Trials {
    /// Notes an answer.
    pub fn add(&mut self, trial: Trial, answer: Timed<Direct>) {
        self.answers.push((trial, answer));
    }

    /// The page that came of a trial, if it was made and one came.
    #[must_use]
    pub fn page(&self, wanted: Trial) -> Option<&Page> {
        let mut answers = self.answers.iter();
        let (_, answer) = answers.find(|(trial, _)| *trial == wanted)?;
        answer.outcome.page()
    }

    /// The page that came of a trial, when the client would have been content with it.
    #[must_use]
    pub fn success(&self, wanted: Trial) -> Option<&Page> {
        self.page(wanted).filter(|page| page.status < 400)
    }

    /// Every trial with its answer, in the order in which they were made.
    pub fn iter(&self) -> impl Iterator<Item = (Trial, &Timed<Direct>)> {
        self.answers.iter().map(|(trial, answer)| (*trial, answer))
    }
}
