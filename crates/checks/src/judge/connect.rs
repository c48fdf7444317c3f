use serde_json::json;

use super::{HopResult, micros};
use crate::finding::Finding;
use crate::fix::Fix;
use crate::kind::FindingKind;
use crate::machine::Holder;
use crate::observation::{Answer, Connect, Facts, Observations};

pub(super) fn judge(facts: &Facts, seen: &Observations) -> HopResult {
    let address = facts.address();
    let target = &facts.route.to;
    let mut judged = match &seen.connect.outcome {
        Connect::Open(at) => {
            let mut judged = HopResult::new(at.to_string());
            judged.evidence.push(format!("{at} accepts"));
            judged.evidence.extend(seen.holder.as_ref().map(described));
            judged.with(changed_hands(facts, seen))
        }
        Connect::NotNeeded if facts.route.settings.paused => {
            HopResult::new("paused").with([Finding::route_paused(
                &address,
                facts.route.settings.note.as_deref(),
            )])
        }
        Connect::NotNeeded => HopResult::new("answered by us"),
        Connect::Closed {
            attempts,
            elsewhere,
        } => {
            let finding = match (elsewhere, &seen.moved_to) {
                (Some(elsewhere), _) => {
                    Finding::target_other_family(&address, target, attempts, *elsewhere)
                }
                (None, Some((at, holder))) => Finding::of(
                    FindingKind::TargetMoved,
                    format!(
                        "nothing listens on {}, but {} listens on port {}",
                        target.describe(),
                        holder.command,
                        at.port()
                    ),
                    attempts
                        .iter()
                        .map(ToString::to_string)
                        .chain([format!("{at}: {}", described(holder))])
                        .collect(),
                    Fix::lead_to(
                        "change the route to that port, or free its own port and restart the app",
                        &address,
                        at.port(),
                    ),
                ),
                (None, None) => Finding::target_closed(&address, target, attempts),
            };
            let first = attempts.first().map(|it| it.refusal.to_string());
            let mut judged = HopResult::new(first.unwrap_or_default());
            judged.evidence = attempts.iter().map(ToString::to_string).collect();
            judged.with([finding])
        }
        Connect::Container(place) => {
            HopResult::new("no way there").with(Finding::container(&address, target, place))
        }
        Connect::UnknownHost { reason } => {
            HopResult::new("unknown host").with([Finding::target_unknown(&address, target, reason)])
        }
    };
    judged.micros = Some(micros(seen.connect.took));
    judged
}

fn described(holder: &Holder) -> String {
    match holder.line.as_str() {
        "" => format!("that is {holder}"),
        line => format!("that is {holder}: {line}"),
    }
}

/// Another app than the one that was proved there.
fn changed_hands(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let (before, now) = (facts.before.as_ref()?, seen.holder.as_ref()?);
    // With declared expectations, the last hop reports it.
    let expects = facts.route.settings.expect.knows_the_app();
    if before.is_same_app(now) || expects {
        return None;
    }
    let title = match seen.answer.as_ref().map(|answer| &answer.outcome) {
        Some(Answer::Visit(visit)) => visit.last().markup().title,
        _ => None,
    };
    let address = facts.address();
    let fix = match title {
        Some(title) => Fix::set(
            format!("if the right app has the title \"{title}\", expect it"),
            &address,
            "expect",
            json!({ "title": title }),
        ),
        None => Fix::edit(
            "expect a text that only the right app has",
            &address,
            "--expect-text TEXT",
        ),
    };
    Some(Finding::of(
        FindingKind::TargetChangedHands,
        format!(
            "the process on {} is not the one for which the route was proved",
            facts.route.to.describe()
        ),
        vec![format!("before: {before}"), format!("now: {now}")],
        fix,
    ))
}
