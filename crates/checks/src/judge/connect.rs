use bentlane_model::{ContainerPlace, Health, LabelFault, LabelProblem, StartContainer, Target};
use serde_json::json;

use super::{HopResult, in_words_rounded, micros, moment};
use crate::app::{AppState, AppStatus};
use crate::finding::Finding;
use crate::fix::{Action, Fix};
use crate::hop::Severity;
use crate::kind::FindingKind;
use crate::machine::Holder;
use crate::observation::{Answer, Connect, Facts, Observations};

pub(super) fn judge(facts: &Facts, seen: &Observations) -> HopResult {
    let address = facts.address();
    let target = facts.server();
    let mut judged = match &seen.connect.outcome {
        Connect::Open(at) => {
            let mut judged = HopResult::new(at.to_string());
            judged.evidence.push(format!("{at} accepts"));
            judged.evidence.extend(seen.holder.as_ref().map(described));
            judged.with(
                changed_hands(facts, seen)
                    .into_iter()
                    .chain(changed_title(facts, seen))
                    .chain(old_configuration(facts, seen))
                    .chain(facts.app.as_ref().and_then(AppStatus::listens_elsewhere))
                    .chain(facts.app.as_ref().and_then(AppStatus::log_missing))
                    .chain(of_containers(facts, seen))
                    .chain(asked_for_by_label(facts))
                    .chain(
                        facts
                            .project_missing
                            .as_deref()
                            .map(Finding::project_file_missing),
                    ),
            )
        }
        Connect::NotNeeded if facts.route.settings.paused => {
            HopResult::new("paused").with([Finding::route_paused(
                &address,
                facts.route.settings.note.as_deref(),
            )])
        }
        Connect::NotNeeded if matches!(target, Target::ByName(_)) => {
            let mut judged = HopResult::new("by the name");
            judged.untried = true;
            judged
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
                    moved(facts, at.port()),
                ),
                (None, None) => Finding::target_closed(&address, target, attempts),
            };
            let first = attempts.first().map(|it| it.refusal.to_string());
            let mut judged = HopResult::new(first.unwrap_or_default());
            judged.evidence = attempts.iter().map(ToString::to_string).collect();
            judged.with([finding])
        }
        Connect::Container(ContainerPlace::PortUnclear(ports)) if !seen.http_ports.is_empty() => {
            let name = match target {
                Target::Container(container) => &*container.name,
                _ => "NAME",
            };
            let finding = Finding::http_port_unclear(&address, name, ports, &seen.http_ports);
            HopResult::new("no way there").with([finding])
        }
        Connect::Container(place) => {
            let mut judged = HopResult::new("no way there");
            let starts = facts.route.settings.start == StartContainer::Visit;
            let waits = *place == ContainerPlace::Stopped && starts;
            judged.untried = waits || *place == ContainerPlace::Starting;
            let mut finding = Finding::container(&address, target, place);
            if let Some(finding) = finding.as_mut().filter(|_| waits) {
                finding.severity = Severity::Hint;
                finding.evidence = vec!["a request starts it, and a check does not".to_owned()];
            }
            judged.with(finding)
        }
        Connect::App(app) => {
            let mut judged = HopResult::new(app.state.as_str());
            judged.untried = app.waits_for_a_visit() || app.state == AppState::Starting;
            judged.with([app.finding(facts.now, true)])
        }
        Connect::UnknownHost { reason } => {
            HopResult::new("unknown host").with([Finding::target_unknown(&address, target, reason)])
        }
    };
    let is_needed = !matches!(seen.connect.outcome, Connect::NotNeeded | Connect::App(_));
    judged.micros = is_needed.then(|| micros(seen.connect.took));
    judged
}

/// The way to an app on another port; by hand where it was never proved which one is the right app.
fn moved(facts: &Facts, port: u16) -> Fix {
    let address = facts.address();
    match facts.before {
        Some(_) => Fix::lead_to(
            "change the route to that port, or free its own port and restart the app",
            &address,
            port,
        ),
        None => Fix::edit(
            "if that is the right app, change the route to its port; or restart the app on its own",
            &address,
            &format!("--to {port}"),
        ),
    }
}

fn described(holder: &Holder) -> String {
    match holder.line.as_str() {
        "" => format!("that is {holder}"),
        line => format!("that is {holder}: {line}"),
    }
}

/// What is to be said of containers that accept connections.
fn of_containers(facts: &Facts, seen: &Observations) -> Vec<Finding> {
    let Target::Container(target) = facts.server() else {
        return Vec::new();
    };
    let containers = facts.snapshot.containers();
    let named = containers.named(target);
    let unhealthy = named
        .iter()
        .filter(|it| it.health == Some(Health::Unhealthy));
    let mut found: Vec<Finding> = unhealthy
        .map(|it| Finding::container_unhealthy(&it.name))
        .collect();
    if !seen.replicas_down.is_empty() {
        found.push(Finding::replicas_unreachable(
            &seen.replicas_down,
            named.len(),
        ));
    }
    found.extend(
        containers
            .silent_engine_of(target)
            .map(Finding::engine_lost),
    );
    found
}

/// Containers whose labels ask for the address of this route.
fn asked_for_by_label(facts: &Facts) -> Vec<Finding> {
    let address = facts.address();
    let problems = facts.snapshot.labels().problems.iter();
    let asks = |problem: &&LabelProblem| {
        problem.fault == LabelFault::Taken
            && problem.line.split_whitespace().next() == Some(&*address)
    };
    problems.filter(asks).map(Finding::label).collect()
}

/// An app that was started before files were written that it reads when it starts.
fn old_configuration(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let (latest, holder) = (seen.written_since_start.first()?, seen.holder.as_ref()?);
    let started = holder.started?;
    let ago = |at| in_words_rounded(facts.now - at);
    let mut evidence = vec![format!(
        "{holder} was started {} ago, at {}",
        ago(started),
        moment(started)
    )];
    let files = seen.written_since_start.iter();
    evidence.extend(files.map(|file| {
        format!(
            "{} was written {} ago, at {}",
            file.name,
            ago(file.written),
            moment(file.written)
        )
    }));
    Some(Finding::of(
        FindingKind::OldConfiguration,
        format!(
            "{} was started before {} was last written",
            holder.command, latest.name
        ),
        evidence,
        match &facts.app {
            Some(app) => Fix::action(
                "restart the app if it is to use that",
                Action::StartApp {
                    name: app.name.to_string(),
                    again: true,
                },
            ),
            None => Fix::text("restart the app if it is to use that"),
        },
    ))
}

/// An app of another machine whose page has another title than when the route was proved. Numbers in a
/// title change while an app stays what it is.
fn changed_title(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let words = |title: &str| title.replace(|c: char| c.is_ascii_digit(), "");
    let (before, now) = (facts.before_title.as_deref()?, &*title(seen)?);
    let addresses = facts.server().addresses().ok();
    let is_here = addresses.is_some_and(|all| all.iter().any(|at| at.ip().is_loopback()));
    let expects = facts.route.settings.expect.knows_the_app();
    let is_server = matches!(facts.server(), Target::Server { .. });
    if !is_server || is_here || expects || words(before) == words(now) {
        return None;
    }
    let finding = Finding::of(
        FindingKind::TargetChangedHands,
        format!(
            "the page of {} has another title than when the route was proved",
            facts.server().describe()
        ),
        vec![format!("before: {before}"), format!("now: {now}")],
        Fix::set(
            format!("if the right app has the title \"{now}\", expect it"),
            &facts.address(),
            "expect",
            json!({ "title": now }),
        ),
    );
    Some(Finding {
        severity: Severity::Hint,
        ..finding
    })
}

/// The title of the page that answered.
fn title(seen: &Observations) -> Option<String> {
    match &seen.answer.as_ref()?.outcome {
        Answer::Visit(visit) => visit.last().markup().title,
        _ => None,
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
    let address = facts.address();
    let fix = match title(seen) {
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
            facts.server().describe()
        ),
        vec![format!("before: {before}"), format!("now: {now}")],
        fix,
    ))
}
