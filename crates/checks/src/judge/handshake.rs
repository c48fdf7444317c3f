use super::{HopResult, browser, micros};
use crate::finding::Finding;
use crate::fix::{Action, Fix, Part, shell};
use crate::hop::Severity;
use crate::kind::FindingKind;
use crate::machine::{Machine, StoreSeen, StoreTrust};
use crate::observation::{CertificateFault, Facts, Handshake, Observations, PairFacts};

/// Days before its end from which an imported certificate is spoken of.
const SOON_DAYS: i64 = 21;

pub(super) fn judge(facts: &Facts, seen: &Observations) -> HopResult {
    let listener = facts.listener.to_string();
    let name = facts.name.as_str();
    let refused = matches!(
        seen.handshake.outcome,
        Handshake::Untrusted { .. } | Handshake::Failed(_)
    );
    let mut judged = match &seen.handshake.outcome {
        Handshake::NotNeeded => HopResult::new("bytes as they are"),
        _ if refused && !facts.certified && facts.pair.is_none() => {
            HopResult::new("no certificate").with([Finding::beyond_the_root(name)])
        }
        Handshake::Verified { version, protocol } => {
            let mut judged = HopResult::new(format!("{version}, {protocol}"));
            judged.evidence = vec![
                format!("{listener} negotiated {version} and {protocol}"),
                match facts.pair.as_ref().filter(|pair| pair.shown) {
                    Some(pair) => format!("the certificate is the imported one of {}", pair.name),
                    None => "it shows one of our own certificates".to_owned(),
                },
            ];
            let Machine {
                clock_off: off,
                clock_set: set,
                ..
            } = &*facts.machine;
            let clock = off.as_deref().map(clock_off);
            let clock = clock.or_else(|| set.as_deref().map(clock_set));
            judged.with(clock).with(
                facts
                    .pair
                    .as_ref()
                    .and_then(|pair| pair_in_use(facts, pair)),
            )
        }
        Handshake::Unreachable(reason) => {
            HopResult::new("unreachable").with([Finding::listener_unreachable(&listener, reason)])
        }
        Handshake::Untrusted { fault, reason } => {
            HopResult::new("not trusted").with([refusal(facts, *fault, reason)])
        }
        Handshake::Failed(reason) => {
            HopResult::new("broke off").with([Finding::handshake_failed(&listener, reason)])
        }
    };
    let is_needed = !matches!(seen.handshake.outcome, Handshake::NotNeeded);
    judged.micros = is_needed.then(|| micros(seen.handshake.took));
    judged.findings.extend(listener_held(facts, seen));
    judged.findings.extend(browser::forced_https(facts));
    if is_needed && facts.pair.is_none() {
        for seen in &facts.machine.stores {
            let StoreSeen { store, .. } = seen;
            let words = match seen.trust_for(&facts.name) {
                StoreTrust::Trusted => "trusts our root",
                StoreTrust::Older => "trusts an older root of ours, and not this one",
                StoreTrust::Distrusted => "does not trust our root",
                StoreTrust::Unknown => "cannot be asked",
            };
            judged.evidence.push(format!("{store} {words}"));
        }
        judged.findings.extend(stores(facts));
    }
    judged
}

fn clock_off(how: &str) -> Finding {
    Finding::of(
        FindingKind::ClockOff,
        "this machine's clock is wrong",
        vec![how.to_owned()],
        Fix::command(
            "set the clock, preferably with NTP, and check again",
            "sudo timedatectl set-ntp true",
        ),
    )
}

fn clock_set(how: &str) -> Finding {
    Finding::of(
        FindingKind::ClockSet,
        "this machine's clock was set",
        vec![how.to_owned()],
        Fix::text("restart a program that rejects certificates it has seen before"),
    )
}

/// Why the certificate that our listener shows is not accepted.
fn refusal(facts: &Facts, fault: CertificateFault, reason: &str) -> Finding {
    let name = facts.name.as_str();
    if let Some(how) = &facts.machine.clock_off {
        return Finding {
            evidence: vec![how.clone(), reason.to_owned()],
            ..clock_off(how)
        };
    }
    let Some(pair) = &facts.pair else {
        return Finding::certificate_refused(name, reason);
    };
    let take_out = || {
        Fix::action(
            format!(
                "replace {} with a renewed certificate, or remove this one, so that an issued \
                 one is used",
                pair.file
            ),
            Action::RemoveCert {
                name: pair.name.to_string(),
            },
        )
    };
    let times = format!("valid from {} to {}", pair.not_before, pair.not_after);
    match fault {
        CertificateFault::Expired => Finding::of(
            FindingKind::PairExpired,
            format!("the imported certificate {} has expired", pair.name),
            vec![times],
            take_out(),
        ),
        CertificateFault::Early => Finding::of(
            FindingKind::PairEarly,
            format!("the imported certificate {} is not valid yet", pair.name),
            vec![times],
            take_out(),
        ),
        CertificateFault::OtherName => Finding::of(
            FindingKind::PairNotCovering,
            format!(
                "the imported certificate {} does not cover {name}",
                pair.name
            ),
            vec![
                format!("it is for {}", pair.names.join(", ")),
                "a wildcard matches exactly one label".to_owned(),
            ],
            match pair.pinned {
                true => Fix::set(
                    "use an issued certificate for the route",
                    &facts.address(),
                    "cert",
                    "issued",
                ),
                false => take_out(),
            },
        ),
        CertificateFault::Untrusted => Finding::certificate_refused(name, reason),
    }
}

/// What is to be known of an imported certificate that is accepted.
fn pair_in_use(facts: &Facts, pair: &PairFacts) -> Option<Finding> {
    if let Some((kind, why)) = &pair.fault {
        let summary = match pair.shown {
            true => "the files of the imported certificate {} cannot be used as they are now",
            false => "one of our own certificates is shown instead of the imported {}",
        };
        let until = format!("the previous certificate is used until {}", pair.not_after);
        let mut evidence = vec![why.clone()];
        evidence.extend(pair.shown.then_some(until));
        return Some(Finding {
            severity: Severity::Warning,
            ..Finding::of(
                *kind,
                summary.replace("{}", &pair.name),
                evidence,
                Fix::command(
                    format!(
                        "put a certificate that is valid, and its key, into {} and the key file \
                         beside: they are taken up by themselves",
                        pair.file
                    ),
                    shell(&["bentlane", "cert", "show", &pair.name]),
                ),
            )
        });
    }
    let left = pair.not_after - facts.now;
    (left.whole_days() < SOON_DAYS).then(|| {
        Finding::of(
            FindingKind::PairEndsSoon,
            format!(
                "the imported certificate {} expires in {} days",
                pair.name,
                left.whole_days()
            ),
            vec![format!("until {}", pair.not_after)],
            Fix::text(format!(
                "renew it in {}: it is reloaded automatically",
                pair.file
            )),
        )
    })
}

/// What trust stores say of our root.
fn stores(facts: &Facts) -> Vec<Finding> {
    let with = |wanted: StoreTrust| {
        let stores = facts.machine.stores.iter();
        let stores = stores.filter(|it| it.trust_for(&facts.name) == wanted);
        stores.map(|it| it.store.clone()).collect::<Vec<_>>()
    };
    let mut findings = Vec::new();
    let older = with(StoreTrust::Older);
    if let Some(first) = older.first() {
        findings.push(Finding::of(
            FindingKind::OlderRootTrusted,
            format!("{first} trusts an earlier root of Bent Lane's, not the current one"),
            older,
            Fix::attach("replace it with the current root", Part::Trust),
        ));
    }
    let without = with(StoreTrust::Distrusted);
    if let Some(first) = without.first() {
        let attached = facts.machine.trust_attached;
        let summary = match without.len() {
            1 => format!("{first} does not trust Bent Lane's root"),
            others => format!("{others} trust stores do not trust Bent Lane's root"),
        };
        findings.push(Finding {
            severity: if attached {
                Severity::Warning
            } else {
                Severity::Hint
            },
            ..Finding::of(
                FindingKind::RootDistrusted,
                summary,
                without,
                Fix::attach("add the root to the trust stores", Part::Trust),
            )
        });
    }
    findings
}

/// Another program where we are to listen for the route.
fn listener_held(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let (holder, address) = (seen.listener_holder.as_ref()?, facts.address());
    let leave = shell(&["bentlane", "route", "edit", &address, "--listen=false"]);
    Some(Finding::of(
        FindingKind::ListenerHeld,
        format!(
            "{} listens on {}, which Bent Lane needs for {address}",
            holder.command, facts.listener,
        ),
        vec![
            format!(
                "{} is the own address of {}",
                facts.listener.ip(),
                facts.name
            ),
            format!("port {} there has {holder}", facts.listener.port()),
        ],
        Fix::command(
            format!(
                "stop that program; or, if it is the one that clients want there, leave the port to it: {leave}"
            ),
            format!("kill {}", holder.pid),
        ),
    ))
}
