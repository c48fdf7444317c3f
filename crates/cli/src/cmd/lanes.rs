//! Verdicts as a person reads them: a lane for each route, then what is wrong and what fixes it.

use bentlane_checks::{
    Finding, Hop, HopReport, HopState, MachineVerdict, Severity, Standing, Verdict, lane,
};

use crate::output::{Output, Style};

/// Characters from one hop's mark to the next.
const STEP: usize = 13;
/// Characters of the last hop.
const LAST: usize = 15;

/// Verdicts as lanes under one heading.
pub(crate) fn lanes(output: &Output, verdicts: &[Verdict]) -> String {
    let longest = |text: fn(&Verdict) -> &str| {
        verdicts
            .iter()
            .map(|verdict| text(verdict).chars().count())
            .max()
            .unwrap_or_default()
    };
    let addresses = longest(|verdict| &verdict.address).max("ADDRESS".len());
    let names: Vec<Hop> = match verdicts.first() {
        Some(verdict) => verdict.hops.iter().map(|report| report.hop).collect(),
        None => Hop::ALL.to_vec(),
    };
    let width = |position| {
        if position + 1 == names.len() {
            LAST
        } else {
            STEP
        }
    };
    let hops: String = names
        .iter()
        .enumerate()
        .map(|(position, hop)| format!("{:<width$}", hop.as_str(), width = width(position)))
        .collect();
    let heading = format!("{:<addresses$}  {hops}TARGET", "ADDRESS");
    let mut lines = vec![output.paint(Style::Muted, &heading)];
    for verdict in verdicts {
        let lane: String = verdict
            .hops
            .iter()
            .enumerate()
            .map(|(position, report)| {
                let last = position + 1 == verdict.hops.len();
                cell(output, report, verdict.hops.get(position + 1), last)
            })
            .collect();
        lines.push(format!(
            "{:<addresses$}  {lane}{}",
            verdict.address, verdict.to
        ));
    }
    lines.join("\n")
}

/// A hop's mark, its time, and the way to the next hop.
fn cell(output: &Output, report: &HopReport, next: Option<&HopReport>, last: bool) -> String {
    let (mark, tone) = match report.state {
        HopState::Passed => ("●", Style::Passing),
        HopState::Broken => ("✕", Style::Broken),
        HopState::NotReached => ("○", Style::Muted),
        HopState::NotDeclared | HopState::NotTried => ("◌", Style::Muted),
    };
    let way = match next.map(|next| next.state) {
        _ if report.state != HopState::Passed => "╌",
        Some(HopState::Passed) => "─",
        Some(HopState::Broken) => "╴",
        Some(HopState::NotReached | HopState::NotDeclared | HopState::NotTried) | None => "╌",
    };
    let time = match report.state {
        HopState::NotDeclared if last => "not declared".to_owned(),
        _ => report.micros.map(duration).unwrap_or_default(),
    };
    let room = if last { LAST - 1 } else { STEP - 1 };
    let text = if last {
        format!(" {time:<width$}", width = room - 1)
    } else if time.is_empty() {
        way.repeat(room)
    } else {
        // A space on each side of the time, and the way around it.
        let line = room.saturating_sub(time.chars().count() + 2);
        format!(
            "{} {time} {}",
            way.repeat(line / 2),
            way.repeat(line - line / 2)
        )
    };
    output.paint(tone, &format!("{mark}{text}"))
}

/// Microseconds as a person reads them, in at most 8 characters.
pub(crate) fn duration(micros: u64) -> String {
    match micros {
        0..1_000 => format!("{micros} µs"),
        1_000..10_000 => format!("{}.{} ms", micros / 1_000, micros % 1_000 / 100),
        10_000..1_000_000 => format!("{} ms", micros / 1_000),
        1_000_000..60_000_000 => {
            format!("{}.{} s", micros / 1_000_000, micros % 1_000_000 / 100_000)
        }
        _ => format!("{} min", micros / 60_000_000),
    }
}

/// What was found, the worst first, and what fixes it. What is the same for several routes is said
/// once.
pub(crate) fn findings<'a>(
    output: &Output,
    verdicts: &'a [Verdict],
    wanted: impl Fn(&Finding) -> bool,
) -> String {
    let mut groups: Vec<(&'a Finding, Vec<&'a Verdict>)> = Vec::new();
    for verdict in verdicts {
        for finding in verdict.findings.iter().filter(|it| wanted(it)) {
            let same = |(other, _): &&mut (&Finding, Vec<&Verdict>)| {
                other.slug == finding.slug && other.summary == finding.summary
            };
            match groups.iter_mut().find(same) {
                Some((_, those)) => those.push(verdict),
                None => groups.push((finding, vec![verdict])),
            }
        }
    }
    groups.sort_by_key(|(finding, _)| std::cmp::Reverse(finding.severity));
    groups
        .into_iter()
        .map(|(finding, those)| match those.as_slice() {
            [verdict] => {
                let is_cause = verdict
                    .worst()
                    .is_some_and(|worst| worst.slug == finding.slug);
                let since = verdict.since.as_ref().filter(|_| is_cause);
                let since = since.map(|since| since.in_words(verdict.checked_at));
                describe(
                    output,
                    &verdict.address,
                    finding,
                    &since.unwrap_or_default(),
                )
            }
            those => describe(output, &format!("{} routes", those.len()), finding, &[]),
        })
        .collect::<Vec<_>>()
        .join("\n\n")
}

/// A finding of a route, or of several; `since` says until when it was proved.
fn describe(output: &Output, who: &str, finding: &Finding, since: &[String]) -> String {
    let slug = output.paint(Style::Muted, &format!("({})", finding.slug.slug()));
    let mark = match finding.severity {
        Severity::Error => output.paint(Style::Broken, "✕"),
        Severity::Warning => output.paint(Style::Fix, "▲ warning:"),
        Severity::Hint => output.paint(Style::Muted, "· hint:"),
    };
    let who = output.paint(Style::Strong, who);
    let mut lines = vec![format!(
        "{mark} {who} · {}: {} {slug}",
        finding.hop, finding.summary
    )];
    if finding.severity == Severity::Hint {
        // What works already is said in two lines.
        let command = finding.fix.command.iter();
        let command = command.map(|command| format!(": {}", output.paint(Style::Fix, command)));
        let arrow = output.paint(Style::Fix, "→");
        let command: String = command.collect();
        lines.push(format!("  {arrow} {}{command}", finding.fix.text));
        return lines.join("\n");
    }
    lines.extend(
        finding
            .evidence
            .iter()
            .chain(since)
            .map(|line| output.paint(Style::Muted, &format!("    {line}"))),
    );
    lines.push(format!(
        "  {} {}",
        output.paint(Style::Fix, "→"),
        finding.fix.text
    ));
    let command = finding.fix.command.as_ref();
    lines.extend(command.map(|command| output.paint(Style::Fix, &format!("      {command}"))));
    lines.join("\n")
}

/// A lane as it stands in a line: marks alone.
pub(crate) fn small(output: &Output, verdict: &Verdict) -> String {
    let tone = match verdict.passed {
        true => Style::Passing,
        false => Style::Broken,
    };
    output.paint(tone, &lane(&verdict.states()))
}

/// How many routes there are, and how they stand.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Count {
    pub(crate) routes: usize,
    pub(crate) proved: usize,
    /// Whole, while this machine does not reach them.
    pub(crate) ready: usize,
    pub(crate) broken: usize,
    /// Without an answer so far.
    pub(crate) starting: usize,
    /// Of apps that a visit starts.
    pub(crate) stopped: usize,
}

impl Count {
    /// Counts these, as they stand on this machine; without it they are as good as their lanes.
    pub(crate) fn of(verdicts: &[Verdict], machine: Option<&MachineVerdict>) -> Self {
        let mut count = Self {
            routes: verdicts.len(),
            ..Self::default()
        };
        for verdict in verdicts {
            let standing = machine.map(|machine| machine.standing(verdict));
            match standing {
                _ if !verdict.passed => count.broken += 1,
                _ if verdict.is_starting() => count.starting += 1,
                _ if verdict.is_stopped() => count.stopped += 1,
                Some(Standing::Proved) => count.proved += 1,
                _ => count.ready += 1,
            }
        }
        count
    }

    pub(crate) fn in_words(self) -> String {
        let Self {
            routes,
            proved,
            ready,
            broken,
            starting,
            stopped,
        } = self;
        let noun = if routes == 1 { "route" } else { "routes" };
        if proved == routes {
            return format!("{routes} {noun}, every hop proved");
        }
        let counts = [
            (proved, "proved"),
            (ready, "ready"),
            (broken, "broken"),
            (starting, "still starting"),
            (stopped, "stopped until a visit"),
            (
                routes.saturating_sub(proved + ready + broken + starting + stopped),
                "not checked yet",
            ),
        ];
        let counts = counts.into_iter().filter(|(count, _)| *count > 0);
        let counts: Vec<String> = counts
            .map(|(count, word)| format!("{count} {word}"))
            .collect();
        format!("{routes} {noun}: {}", counts.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::format::Format;

    fn verdict(address: &str, states: [HopState; 5]) -> Verdict {
        let hops = Hop::ALL
            .iter()
            .zip(states)
            .map(|(hop, state)| HopReport {
                hop: *hop,
                state,
                detail: String::new(),
                evidence: Vec::new(),
                micros: (state != HopState::NotReached).then_some(1234),
            })
            .collect();
        Verdict {
            address: address.to_owned(),
            name: "booking.moor.test".parse().unwrap(),
            url: String::new(),
            to: "4310".to_owned(),
            passed: states == [HopState::Passed; 5],
            flapping: false,
            title: None,
            since: None,
            hops,
            findings: Vec::new(),
            checked_at: time::OffsetDateTime::UNIX_EPOCH,
        }
    }

    #[test]
    fn lanes_are_aligned_with_their_hops() {
        use HopState::{Broken, NotDeclared, NotReached, Passed};
        let output = Output::new(Format::Table);
        let verdicts = [
            verdict("booking.moor.test", [Passed; 5]),
            verdict(
                "lost.moor.test",
                [Passed, Broken, NotReached, NotReached, NotReached],
            ),
            verdict(
                "docs.moor.test",
                [Passed, Passed, Passed, Passed, NotDeclared],
            ),
        ];
        let wanted = "\
ADDRESS            resolve      handshake    connect      answer       expect         TARGET
booking.moor.test  ●── 1.2 ms ──●── 1.2 ms ──●── 1.2 ms ──●── 1.2 ms ──● 1.2 ms       4310
lost.moor.test     ●╴╴ 1.2 ms ╴╴✕╌╌ 1.2 ms ╌╌○╌╌╌╌╌╌╌╌╌╌╌╌○╌╌╌╌╌╌╌╌╌╌╌╌○              4310
docs.moor.test     ●── 1.2 ms ──●── 1.2 ms ──●── 1.2 ms ──●╌╌ 1.2 ms ╌╌◌ not declared 4310";
        assert_eq!(lanes(&output, &verdicts), wanted);
    }

    #[rstest]
    #[case(0, "0 µs")]
    #[case(999, "999 µs")]
    #[case(1_000, "1.0 ms")]
    #[case(9_999, "9.9 ms")]
    #[case(10_000, "10 ms")]
    #[case(999_999, "999 ms")]
    #[case(2_340_000, "2.3 s")]
    #[case(1_500, "1.5 ms")]
    #[case(45_000, "45 ms")]
    #[case(2_500_000, "2.5 s")]
    #[case(600_000_000, "10 min")]
    fn durations(#[case] micros: u64, #[case] text: &str) {
        assert_eq!(duration(micros), text);
    }

    #[rstest]
    #[case(7, 7, 0, 0, "7 routes, every hop proved")]
    #[case(1, 1, 0, 0, "1 route, every hop proved")]
    #[case(7, 6, 0, 1, "7 routes: 6 proved, 1 broken")]
    #[case(9, 0, 6, 3, "9 routes: 6 ready, 3 broken")]
    #[case(2, 0, 0, 2, "2 routes: 2 broken")]
    #[case(3, 2, 0, 0, "3 routes: 2 proved, 1 not checked yet")]
    #[case(0, 0, 0, 0, "0 routes, every hop proved")]
    fn counts(
        #[case] routes: usize,
        #[case] proved: usize,
        #[case] ready: usize,
        #[case] broken: usize,
        #[case] text: &str,
    ) {
        let count = Count {
            routes,
            proved,
            ready,
            broken,
            ..Count::default()
        };
        assert_eq!(count.in_words(), text);
    }
}
