//! Until when a failing route was proved, and what is different since then.

use std::borrow::Cow;
use std::net::SocketAddr;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use crate::finding::printable;
use crate::judge::{in_words_rounded, list, moment};
use crate::machine::{Holder, WrittenFile};

/// What a route was proved with, to be compared with what is there once it fails.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    /// When it was proved last, or when the first of many checks in a row did that, as far as it is known.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Where the route led.
    pub to: String,
    /// What there was.
    #[serde(flatten)]
    pub conditions: Conditions,
}

/// What a route depends on, at one time.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Conditions {
    /// The process that had the target's port.
    pub holder: Option<Holder>,
    /// The branch of the repository in which that works, or in which the target's folder is.
    pub branch: Option<String>,
    /// The image of the target's container.
    pub image: Option<String>,
    /// The SHA-256 fingerprint of the certificate that was shown.
    pub certificate: Option<String>,
    /// The system's name servers.
    pub nameservers: Vec<SocketAddr>,
    /// Where packets to other networks go.
    pub gateways: Vec<String>,
    /// The title of the page.
    pub title: Option<String>,
}

/// What is there now, beside the conditions.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Present {
    /// The conditions now.
    pub conditions: Conditions,
    /// Whether the process of the proof still runs.
    pub holder_runs: bool,
    /// Files of the app, and of this machine, written since the proof.
    pub files: Vec<WrittenFile>,
    /// Changes of the configuration since then, in words.
    pub edits: Vec<(OffsetDateTime, String)>,
}

/// Until when a failing route was proved, and what is different since then.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Since {
    /// When it was proved, as far as that is known the last time.
    #[serde(with = "time::serde::rfc3339")]
    pub proved_at: OffsetDateTime,
    /// What is different; in the order of time, and then what has no time.
    pub changes: Vec<Change>,
}

/// Something that is different.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Change {
    /// When it changed, where that is known.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub at: Option<OffsetDateTime>,
    /// What, in a sentence without its full stop.
    pub what: String,
}

impl Since {
    /// Compares what a route was proved with and what there is now.
    #[must_use]
    pub fn compare(proof: &Proof, now: &Present) -> Self {
        let before = &proof.conditions;
        let Conditions {
            branch,
            image,
            certificate,
            nameservers,
            gateways,
            ..
        } = &now.conditions;
        let mut changes: Vec<Change> = Vec::new();
        let mut note = |at, what| {
            let what = printable(what);
            changes.push(Change { at, what });
        };
        for (at, words) in &now.edits {
            note(Some(*at), words.clone());
        }
        for file in &now.files {
            note(Some(file.written), format!("{} was written", file.name));
        }
        if let Some((at, words)) = process(before.holder.as_ref(), now) {
            note(at, words);
        }
        let pairs = [
            ("the branch", text(&before.branch), text(branch)),
            ("the container's image", text(&before.image), text(image)),
            (
                "the certificate",
                text(&before.certificate),
                text(certificate),
            ),
            (
                "the system's list of name servers",
                listed(&before.nameservers),
                listed(nameservers),
            ),
            (
                "the network's gateway",
                listed(&before.gateways),
                listed(gateways),
            ),
        ];
        for (what, before, now) in pairs {
            if let (Some(before), Some(now)) = (before, now)
                && before != now
            {
                note(None, format!("{what} is {now}, and was {before}"));
            }
        }
        // What has no time comes last.
        changes.sort_by_key(|change| (change.at.is_none(), change.at));
        Self {
            proved_at: proof.at,
            changes,
        }
    }

    /// For people: until when the route was proved, and a line for each change, as of `now`.
    #[must_use]
    pub fn in_words(&self, now: OffsetDateTime) -> Vec<String> {
        let ago = in_words_rounded(now - self.proved_at);
        let rest = match self.changes.is_empty() {
            true => "nothing that is known is different since then",
            false => "since then:",
        };
        let first = format!("proved {ago} ago, at {}; {rest}", moment(self.proved_at));
        let changes = self.changes.iter().map(|Change { at, what }| match at {
            Some(at) => format!("  {} ago: {what}", in_words_rounded(now - *at)),
            None => format!("  {what}"),
        });
        [first].into_iter().chain(changes).collect()
    }
}

/// How the process behind the port is another.
fn process(before: Option<&Holder>, now: &Present) -> Option<(Option<OffsetDateTime>, String)> {
    let before = before?;
    let Some(holder) = &now.conditions.holder else {
        return (!now.holder_runs).then(|| (None, format!("{before} has ended")));
    };
    let is_one = holder.is_same_process(before);
    let words = match (is_one, before.is_same_app(holder)) {
        (true, _) => return None,
        (false, false) => format!("{holder} has the port, and {before} had it"),
        (false, true) if holder.line != before.line => {
            format!(
                "{holder} was started in place of process {}, as `{}`, before `{}`",
                before.pid, holder.line, before.line
            )
        }
        (false, true) => format!("{holder} was started in place of process {}", before.pid),
    };
    Some((holder.started, words))
}

fn text(known: &Option<String>) -> Option<Cow<'_, str>> {
    known.as_deref().map(Cow::from)
}

fn listed<T: ToString>(all: &[T]) -> Option<Cow<'_, str>> {
    (!all.is_empty()).then(|| list(all).into())
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    const PROVED: OffsetDateTime = datetime!(2026-05-04 12:00 UTC);

    fn holder(pid: u32, folder: &str, line: &str) -> Holder {
        Holder {
            pid,
            command: "node".to_owned(),
            line: line.to_owned(),
            folder: Some(folder.to_owned()),
            started: Some(PROVED + time::Duration::minutes(i64::from(pid))),
        }
    }

    fn proof() -> Proof {
        Proof {
            at: PROVED,
            to: "4310".to_owned(),
            conditions: Conditions {
                holder: Some(holder(1, "/a", "node a")),
                branch: Some("main".to_owned()),
                nameservers: vec!["10.0.0.1:53".parse().unwrap()],
                ..Conditions::default()
            },
        }
    }

    fn same() -> Present {
        Present {
            conditions: proof().conditions,
            holder_runs: true,
            ..Present::default()
        }
    }

    fn with(change: impl FnOnce(&mut Present)) -> Present {
        let mut now = same();
        change(&mut now);
        now
    }

    #[rstest::rstest]
    #[case(same(), &[])]
    #[case(with(|now| now.conditions.holder = None), &[])]
    #[case(with(|now| (now.conditions.holder, now.holder_runs) = (None, false)), &["node (process 1 in /a) has ended"])]
    #[case(
        with(|now| now.conditions.holder = Some(holder(2, "/a", "node a"))),
        &["node (process 2 in /a) was started in place of process 1"]
    )]
    #[case(
        with(|now| now.conditions.holder = Some(holder(2, "/a", "node b"))),
        &["node (process 2 in /a) was started in place of process 1, as `node b`, before `node a`"]
    )]
    #[case(
        with(|now| now.conditions.holder = Some(holder(2, "/b", "node a"))),
        &["node (process 2 in /b) has the port, and node (process 1 in /a) had it"]
    )]
    #[case(with(|now| now.conditions.branch = Some("fix".to_owned())), &["the branch is fix, and was main"])]
    #[case(with(|now| now.conditions.branch = None), &[])]
    #[case(
        with(|now| now.files.push(WrittenFile { name: ".env.\u{1b}[2J".to_owned(), written: PROVED })),
        &[".env.\u{fffd}[2J was written"]
    )]
    #[case(
        with(|now| now.conditions.nameservers = vec!["10.9.9.9:53".parse().unwrap()]),
        &["the system's list of name servers is 10.9.9.9:53, and was 10.0.0.1:53"]
    )]
    #[case(
        with(|now| {
            now.conditions.branch = Some("fix".to_owned());
            now.edits.push((PROVED + time::Duration::hours(2), "rowan set paused".to_owned()));
            now.files.push(WrittenFile { name: ".env".to_owned(), written: PROVED + time::Duration::hours(1) });
        }),
        &[".env was written", "rowan set paused", "the branch is fix, and was main"]
    )]
    fn what_is_different_is_named(#[case] now: Present, #[case] wanted: &[&str]) {
        let since = Since::compare(&proof(), &now);
        let found: Vec<&str> = since.changes.iter().map(|change| &*change.what).collect();
        assert_eq!(found, wanted);
        assert_eq!(since.proved_at, PROVED);
    }

    #[test]
    fn changes_are_told_with_their_time() {
        let since = |now: &Present| Since::compare(&proof(), now);
        let at = PROVED + time::Duration::minutes(90);
        let nothing = "proved 1 h 30 min ago, at 2026-05-04 12:00:00 UTC; nothing that is known is different since then";
        assert_eq!(since(&same()).in_words(at), [nothing]);
        let now = with(|now| {
            now.conditions.branch = Some("fix".to_owned());
            now.edits.push((at, "rowan edited it".to_owned()));
        });
        let wanted = [
            "proved 1 h 30 min ago, at 2026-05-04 12:00:00 UTC; since then:",
            "  0 s ago: rowan edited it",
            "  the branch is fix, and was main",
        ];
        assert_eq!(since(&now).in_words(at), wanted);
    }

    #[test]
    fn a_proof_is_stored_and_read() {
        let stored = serde_json::to_value(proof()).unwrap();
        assert_eq!(serde_json::from_value::<Proof>(stored).unwrap(), proof());
    }
}
