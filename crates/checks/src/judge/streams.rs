//! Whether upgrades and event streams work.

use std::time::Duration;

use super::in_words;
use crate::finding::Finding;
use crate::fix::Fix;
use crate::hop::Severity;
use crate::kind::FindingKind;
use crate::observation::{EventsSeen, Facts, UpgradeSeen};

/// How long an event stream may say nothing before its first lump counts as late.
pub(super) const FIRST_EVENT: Duration = Duration::from_millis(900);

/// A path that a script of the app merely names may be behind a condition or a sign-in: only one that the
/// route declares can fail a check.
fn weighed(finding: Finding, declared: Option<&String>, path: &str) -> Finding {
    let plain = |path: &str| {
        let path = path.split(['?', '#']).next().unwrap_or_default();
        path.trim_start_matches('/').to_owned()
    };
    if declared.is_some_and(|declared| plain(declared) == plain(path)) {
        return finding;
    }
    Finding {
        severity: Severity::Hint,
        ..finding
    }
}

pub(super) fn upgrade(facts: &Facts, seen: &UpgradeSeen) -> Option<Finding> {
    let declared = facts.route.settings.expect.websocket.as_ref();
    refused(facts, seen).map(|finding| weighed(finding, declared, &seen.path))
}

pub(super) fn events(facts: &Facts, seen: &EventsSeen) -> Option<Finding> {
    let declared = facts.route.settings.expect.events.as_ref();
    buffered(facts, seen).map(|finding| weighed(finding, declared, &seen.path))
}

fn refused(facts: &Facts, seen: &UpgradeSeen) -> Option<Finding> {
    let status = seen.status.filter(|status| *status != 101);
    if seen.status == Some(101) {
        return None;
    }
    let outcome = status.map_or("no answer".to_owned(), |status| format!("status {status}"));
    let mut finding = Finding::upgrade_refused(facts.server(), status.unwrap_or_default());
    finding.evidence = vec![format!("{}: {outcome}, expected 101", seen.path)];
    if seen.with_own_origin == Some(101) {
        finding
            .evidence
            .push("with the app's own host and origin it answers 101".to_owned());
        finding.fix = Fix::set(
            format!(
                "allow {} in the app's list of origins; or send the app its own",
                facts.name
            ),
            &facts.address(),
            "host",
            "target",
        );
    }
    Some(finding)
}

fn buffered(facts: &Facts, seen: &EventsSeen) -> Option<Finding> {
    let address = facts.address();
    let (status, media_type) = seen.head.as_ref().map_or((0, ""), |it| (it.0, &*it.1));
    if status != 200 || !media_type.starts_with("text/event-stream") {
        return Some(Finding::of(
            FindingKind::EventsMissing,
            format!("{} is not an event stream", seen.path),
            vec![match status {
                0 => "no answer".to_owned(),
                status => format!("status {status}, {media_type}"),
            }],
            Fix::edit(
                "check the path of the app's events, and whether it requires a sign-in",
                &address,
                "--expect-events PATH",
            ),
        ));
    }
    let first = seen.lumps.first();
    let late = first.is_none_or(|(after, events)| *after > FIRST_EVENT && *events > 1);
    let compressed = seen.encoding.is_some() && first.is_none() && seen.flows_uncompressed;
    if !late || (first.is_none() && !compressed) {
        return None;
    }
    let mut evidence: Vec<String> = seen
        .lumps
        .iter()
        .map(|(after, events)| format!("after {}: {events} events", in_words(*after)))
        .collect();
    if let Some(encoding) = &seen.encoding {
        evidence.push(format!("compressed with {encoding}"));
    }
    let fix = if compressed {
        evidence.push("without compression they come at once".to_owned());
        Fix::add(
            "turn off compression of `text/event-stream` in the app, or ask it for uncompressed responses",
            &address,
            "remove_headers",
            "request accept-encoding",
        )
    } else {
        Fix::text("flush the app's output after each event")
    };
    Some(Finding::of(
        FindingKind::EventsBuffered,
        format!(
            "the events of {} are buffered and arrive in batches",
            seen.path
        ),
        evidence,
        fix,
    ))
}
