use std::net::IpAddr;

use time::OffsetDateTime;

use super::FindingKind;
use super::finding::Finding;
use super::observation::{Answer, Connect, Facts, Handshake, Observations, Resolve, Timed};
use super::verdict::{Hop, HopReport, HopState, Verdict};

/// How one hop came out: the detail to show, and the finding if it is broken.
type Outcome = (String, Option<Finding>);

/// Says what the observations of one route mean.
///
/// The first broken hop gives the finding; what lies beyond it is not reached, since its own
/// outcome would only repeat the cause as a symptom.
#[must_use]
pub fn diagnose(facts: &Facts, seen: &Observations, now: OffsetDateTime) -> Verdict {
    let outcomes = [
        (
            Hop::Resolve,
            Some(timed(&seen.resolve, |resolve| {
                judge_resolve(facts, resolve)
            })),
        ),
        (
            Hop::Connect,
            Some(timed(&seen.connect, |connect| {
                judge_connect(facts, connect)
            })),
        ),
        (
            Hop::Handshake,
            Some(timed(&seen.handshake, |shake| {
                judge_handshake(facts, shake)
            })),
        ),
        (
            Hop::Answer,
            seen.answer
                .as_ref()
                .map(|answer| timed(answer, |answer| judge_answer(facts, answer))),
        ),
    ];
    let mut findings: Vec<Finding> = Vec::new();
    let mut hops: Vec<HopReport> = Vec::with_capacity(outcomes.len());
    for (hop, outcome) in outcomes {
        let mut report = HopReport {
            hop,
            state: HopState::NotReached,
            detail: String::new(),
            micros: None,
        };
        if let Some(((detail, finding), micros)) = outcome.filter(|_| findings.is_empty()) {
            let breaks_at = finding.as_ref().map(|finding| finding.hop);
            findings.extend(finding);
            report.state = match breaks_at {
                None => HopState::Passed,
                Some(at) => break_at(&mut hops, at, hop),
            };
            if report.state != HopState::NotReached {
                (report.detail, report.micros) = (detail, Some(micros));
            }
        }
        hops.push(report);
    }
    Verdict {
        address: facts.address.to_string(),
        name: facts.name.clone(),
        url: facts.url.clone(),
        to: facts.target.to_string(),
        passed: hops.iter().all(|report| report.state == HopState::Passed),
        hops,
        findings,
        checked_at: now,
    }
}

/// The state of `hop`, at which a fault showed that lies at the hop `at`: what is between that and this
/// was not reached, whatever it looked like on the way.
fn break_at(before: &mut [HopReport], at: Hop, hop: Hop) -> HopState {
    let Some(cause) = before.iter().position(|report| report.hop == at) else {
        debug_assert_eq!(at, hop, "a fault shows at its hop or later");
        return HopState::Broken;
    };
    for (position, report) in before.iter_mut().enumerate().skip(cause) {
        report.state = if position == cause {
            HopState::Broken
        } else {
            HopState::NotReached
        };
        if position > cause {
            (report.detail, report.micros) = (String::new(), None);
        }
    }
    HopState::NotReached
}

fn timed<T>(timed: &Timed<T>, judge: impl FnOnce(&T) -> Outcome) -> (Outcome, u64) {
    (
        judge(&timed.outcome),
        u64::try_from(timed.took.as_micros()).unwrap_or(u64::MAX),
    )
}

fn judge_resolve(facts: &Facts, seen: &Resolve) -> Outcome {
    let name = facts.name.as_str();
    let resolver = facts.resolver.to_string();
    match seen {
        Resolve::Addresses(found) => {
            let listening = |ip: &IpAddr| facts.listening_on.contains(ip);
            let shown: Vec<String> = found.iter().map(ToString::to_string).collect();
            let finding = (found.is_empty() || !found.iter().all(listening)).then(|| {
                let listening: Vec<String> =
                    facts.listening_on.iter().map(ToString::to_string).collect();
                Finding::resolves_elsewhere(name, &shown, &listening)
            });
            (shown.join(", "), finding)
        }
        Resolve::Code(code) => (code.clone(), Some(Finding::resolver_refuses(name, code))),
        Resolve::Silent => {
            let finding =
                Finding::resolver_silent(name, &resolver, "no answer over UDP".to_owned());
            ("no answer".to_owned(), Some(finding))
        }
        Resolve::Failed(reason) => (
            "failed".to_owned(),
            Some(Finding::resolver_silent(name, &resolver, reason.clone())),
        ),
    }
}

fn judge_connect(facts: &Facts, seen: &Connect) -> Outcome {
    let address = facts.address.to_string();
    match seen {
        Connect::Open(at) => (at.to_string(), None),
        Connect::NotNeeded if facts.paused => ("paused".to_owned(), None),
        Connect::NotNeeded => ("answered by us".to_owned(), None),
        Connect::Closed {
            attempts,
            elsewhere,
        } => {
            let finding = match elsewhere {
                Some(elsewhere) => {
                    Finding::target_other_family(&address, &facts.target, attempts, *elsewhere)
                }
                None => Finding::target_closed(&address, &facts.target, attempts),
            };
            let detail = attempts
                .first()
                .map(|a| a.refusal.to_string())
                .unwrap_or_default();
            (detail, Some(finding))
        }
        Connect::UnknownHost { reason } => (
            "unknown host".to_owned(),
            Some(Finding::target_unknown(&address, &facts.target, reason)),
        ),
    }
}

fn judge_handshake(facts: &Facts, seen: &Handshake) -> Outcome {
    let listener = facts.listener.to_string();
    match seen {
        Handshake::NotNeeded => ("bytes as they are".to_owned(), None),
        Handshake::Untrusted(_) | Handshake::Failed(_) if !facts.certified => (
            "no certificate".to_owned(),
            Some(Finding::beyond_the_root(facts.name.as_str())),
        ),
        Handshake::Verified { version, protocol } => (format!("{version}, {protocol}"), None),
        Handshake::Unreachable(reason) => (
            "unreachable".to_owned(),
            Some(Finding::listener_unreachable(&listener, reason)),
        ),
        Handshake::Untrusted(reason) => (
            "not trusted".to_owned(),
            Some(Finding::certificate_refused(facts.name.as_str(), reason)),
        ),
        Handshake::Failed(reason) => (
            "broke off".to_owned(),
            Some(Finding::handshake_failed(&listener, reason)),
        ),
    }
}

fn judge_answer(facts: &Facts, seen: &Answer) -> Outcome {
    let (target, address) = (&facts.target, facts.address.to_string());
    match seen {
        Answer::Response { status } => {
            let finding = (500..600)
                .contains(status)
                .then(|| Finding::app_fails(target, *status));
            (format!("status {status}"), finding)
        }
        Answer::Accepted => ("accepted".to_owned(), None),
        Answer::OwnPage { finding, .. }
            if facts.paused && *finding == FindingKind::RoutePaused.slug() =>
        {
            ("paused".to_owned(), None)
        }
        Answer::OwnPage { status, finding } => {
            let reason = format!("our listener answered {status} ({finding})");
            let finding = match FindingKind::from_slug(finding) {
                Some(FindingKind::RouteMissing) => {
                    let path = facts.address.prefix.as_str();
                    Finding::route_missing(facts.name.as_str(), path, &[])
                }
                Some(FindingKind::TargetSpeaksTls) => Finding::target_speaks_tls(&address, target),
                Some(FindingKind::TargetSpeaksPlain) => {
                    Finding::target_speaks_plain(&address, target)
                }
                Some(FindingKind::TargetUntrusted) => {
                    Finding::target_untrusted(&address, target, &reason)
                }
                Some(FindingKind::TargetTlsFailed) => Finding::target_tls_failed(target, &reason),
                Some(FindingKind::RouteLoop) => {
                    Finding::route_loop(&address, &[address.clone(), address.clone()])
                }
                Some(FindingKind::AnswerOversized) => Finding::answer_oversized(target, &reason),
                Some(FindingKind::UpgradeRefused) => Finding::upgrade_refused(target, *status),
                Some(FindingKind::FileMissing) => {
                    let path = facts.address.prefix.as_str();
                    Finding::file_missing(&address, target, path, None)
                }
                Some(FindingKind::FolderUnreadable) => {
                    Finding::folder_unreadable(&address, target, &reason)
                }
                Some(FindingKind::AnswerMalformed) => Finding::answer_malformed(target, &reason),
                Some(FindingKind::AnswerLate) => Finding::answer_late(target, "the proxy's limit"),
                _ => Finding::answer_missing(target, &reason),
            };
            (format!("status {status}, ours"), Some(finding))
        }
        Answer::Silent => (
            "no answer".to_owned(),
            Some(Finding::answer_late(target, "the time of a check")),
        ),
        Answer::Failed(reason) => (
            "broke off".to_owned(),
            Some(Finding::answer_missing(target, reason)),
        ),
    }
}

#[cfg(test)]
mod tests {
    use std::net::{Ipv4Addr, SocketAddr};
    use std::time::Duration;

    use rstest::rstest;
    use time::macros::datetime;

    use super::*;
    use crate::check::{Attempt, Refusal, Severity, lane};

    const NOW: OffsetDateTime = datetime!(2026-05-04 12:00 UTC);
    const HOME: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);

    fn facts() -> Facts {
        Facts {
            address: "booking.moor.test".parse().unwrap(),
            name: "booking.moor.test".parse().unwrap(),
            url: "https://booking.moor.test/".to_owned(),
            target: "4310".parse().unwrap(),
            paused: false,
            certified: true,
            resolver: SocketAddr::new(HOME, 53),
            listener: SocketAddr::new(HOME, 443),
            listening_on: vec![HOME],
        }
    }

    fn took<T>(outcome: T) -> Timed<T> {
        Timed {
            outcome,
            took: Duration::from_micros(1500),
        }
    }

    /// Everything as it should be; each row of the table changes one thing.
    fn healthy() -> Observations {
        let (version, protocol) = ("TLS 1.3".to_owned(), "h2".to_owned());
        Observations {
            resolve: took(Resolve::Addresses(vec![HOME])),
            connect: took(Connect::Open(SocketAddr::new(HOME, 4310))),
            handshake: took(Handshake::Verified { version, protocol }),
            answer: Some(took(Answer::Response { status: 200 })),
        }
    }

    fn resolve(outcome: Resolve) -> Observations {
        Observations {
            resolve: took(outcome),
            ..healthy()
        }
    }

    fn connect(outcome: Connect) -> Observations {
        Observations {
            connect: took(outcome),
            answer: None,
            ..healthy()
        }
    }

    fn closed(refusals: &[Refusal]) -> Observations {
        let address = SocketAddr::new(HOME, 4310);
        let attempt = |refusal: &Refusal| Attempt {
            address,
            refusal: refusal.clone(),
        };
        connect(Connect::Closed {
            attempts: refusals.iter().map(attempt).collect(),
            elsewhere: None,
        })
    }

    fn elsewhere() -> Observations {
        connect(Connect::Closed {
            attempts: Vec::new(),
            elsewhere: Some("[::1]:4310".parse().unwrap()),
        })
    }

    fn handshake(outcome: Handshake) -> Observations {
        Observations {
            handshake: took(outcome),
            answer: None,
            ..healthy()
        }
    }

    fn answer(outcome: Answer) -> Observations {
        Observations {
            answer: Some(took(outcome)),
            ..healthy()
        }
    }

    fn own_page(kind: FindingKind) -> Observations {
        answer(Answer::OwnPage {
            status: 502,
            finding: kind.slug().to_owned(),
        })
    }

    fn text() -> String {
        "reason".to_owned()
    }

    #[rstest]
    #[case(resolve(Resolve::Silent), FindingKind::ResolverSilent)]
    #[case(resolve(Resolve::Failed(text())), FindingKind::ResolverSilent)]
    #[case(resolve(Resolve::Code("REFUSED".into())), FindingKind::ResolverRefuses)]
    #[case(resolve(Resolve::Addresses(vec![])), FindingKind::ResolvesElsewhere)]
    #[case(resolve(Resolve::Addresses(vec![HOME, [10, 0, 0, 1].into()])), FindingKind::ResolvesElsewhere)]
    #[case(closed(&[Refusal::Refused, Refusal::Refused]), FindingKind::TargetRefuses)]
    #[case(closed(&[Refusal::Refused, Refusal::Silent]), FindingKind::TargetSilent)]
    #[case(closed(&[Refusal::Other(text())]), FindingKind::TargetUnreachable)]
    #[case(connect(Connect::UnknownHost { reason: text() }), FindingKind::TargetUnknown)]
    #[case(
        handshake(Handshake::Unreachable(text())),
        FindingKind::ListenerUnreachable
    )]
    #[case(
        handshake(Handshake::Untrusted(text())),
        FindingKind::CertificateRefused
    )]
    #[case(handshake(Handshake::Failed(text())), FindingKind::HandshakeFailed)]
    #[case(answer(Answer::Silent), FindingKind::AnswerLate)]
    #[case(answer(Answer::Failed(text())), FindingKind::AnswerMissing)]
    #[case(answer(Answer::Response { status: 500 }), FindingKind::AppFails)]
    #[case(own_page(FindingKind::RouteMissing), FindingKind::RouteMissing)]
    #[case(own_page(FindingKind::AnswerMissing), FindingKind::AnswerMissing)]
    #[case(own_page(FindingKind::AnswerMalformed), FindingKind::AnswerMalformed)]
    #[case(own_page(FindingKind::AnswerLate), FindingKind::AnswerLate)]
    #[case(elsewhere(), FindingKind::TargetOtherFamily)]
    #[case(own_page(FindingKind::TargetSpeaksTls), FindingKind::TargetSpeaksTls)]
    #[case(
        own_page(FindingKind::TargetSpeaksPlain),
        FindingKind::TargetSpeaksPlain
    )]
    #[case(own_page(FindingKind::TargetUntrusted), FindingKind::TargetUntrusted)]
    #[case(own_page(FindingKind::TargetTlsFailed), FindingKind::TargetTlsFailed)]
    #[case(own_page(FindingKind::RouteLoop), FindingKind::RouteLoop)]
    #[case(own_page(FindingKind::AnswerOversized), FindingKind::AnswerOversized)]
    #[case(own_page(FindingKind::UpgradeRefused), FindingKind::UpgradeRefused)]
    #[case(own_page(FindingKind::FileMissing), FindingKind::FileMissing)]
    #[case(own_page(FindingKind::FolderUnreadable), FindingKind::FolderUnreadable)]
    fn each_fault_has_its_finding(#[case] seen: Observations, #[case] kind: FindingKind) {
        let verdict = diagnose(&facts(), &seen, NOW);
        let [finding] = verdict.findings.as_slice() else {
            panic!("one cause, one finding: {verdict:?}")
        };
        assert_eq!((finding.slug, finding.severity), (kind, Severity::Broken));
        assert_eq!(finding.hop, kind.hop());
        assert!(!verdict.passed);
        assert!(!finding.summary.is_empty() && !finding.remedy.text.is_empty());
        let broken = verdict
            .hops
            .iter()
            .position(|r| r.state == HopState::Broken)
            .unwrap();
        assert_eq!(verdict.hops[broken].hop, kind.hop(), "{verdict:?}");
        assert!(
            verdict.hops[..broken]
                .iter()
                .all(|r| r.state == HopState::Passed)
        );
        assert!(
            verdict.hops[broken + 1..]
                .iter()
                .all(|r| r.state == HopState::NotReached)
        );
    }

    #[rstest]
    #[case(healthy())]
    #[case(answer(Answer::Response { status: 204 }))]
    #[case(answer(Answer::Response { status: 308 }))]
    #[case(answer(Answer::Response { status: 404 }))]
    fn healthy_routes_have_no_finding(#[case] seen: Observations) {
        let verdict = diagnose(&facts(), &seen, NOW);
        assert!(verdict.passed && verdict.findings.is_empty(), "{verdict:?}");
        assert!(
            verdict
                .hops
                .iter()
                .all(|report| report.micros == Some(1500))
        );
        assert_eq!(lane(&verdict.states()), "●──●──●──●");
    }

    #[test]
    fn a_paused_route_is_as_it_should_be() {
        let facts = Facts {
            paused: true,
            ..facts()
        };
        let seen = Observations {
            connect: took(Connect::NotNeeded),
            ..own_page(FindingKind::RoutePaused)
        };
        let verdict = diagnose(&facts, &seen, NOW);
        assert!(
            verdict.passed && verdict.hops[3].detail == "paused",
            "{verdict:?}"
        );
    }

    #[test]
    fn a_broken_first_hop_hides_what_lies_beyond() {
        let seen = Observations {
            resolve: took(Resolve::Silent),
            ..closed(&[Refusal::Refused])
        };
        let verdict = diagnose(&facts(), &seen, NOW);
        assert_eq!(verdict.findings.len(), 1);
        assert_eq!(lane(&verdict.states()), "✕╌╌○╌╌○╌╌○");
    }

    #[test]
    fn slugs_are_unique_and_lead_back() {
        for kind in FindingKind::ALL {
            assert_eq!(FindingKind::from_slug(kind.slug()), Some(*kind));
            let json = serde_json::to_string(kind).unwrap();
            assert_eq!(json, format!("\"{}\"", kind.slug()));
        }
    }

    #[test]
    fn the_remedy_for_a_silent_port_names_the_port() {
        let verdict = diagnose(&facts(), &closed(&[Refusal::Refused]), NOW);
        let remedy = &verdict.findings[0].remedy;
        assert!(remedy.text.contains("port 4310"), "{}", remedy.text);
        let command = remedy.command.as_deref();
        assert_eq!(
            command,
            Some("bentlane route edit booking.moor.test --to PORT")
        );
    }
}
