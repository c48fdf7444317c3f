//! Verdicts as a person reads them: a lane for each route, then what is wrong and what mends it.

use bentlane_core::check::{Finding, Hop, HopReport, HopState, Verdict};

use crate::output::{Output, Tone};

/// Characters from one hop's mark to the next.
const STEP: usize = 14;

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
    let hops: String = Hop::ALL
        .iter()
        .map(|hop| format!("{:<STEP$}", hop.as_str()))
        .collect();
    let heading = format!("{:<addresses$}  {hops}TARGET", "ADDRESS");
    let mut lines = vec![output.paint(Tone::Muted, &heading)];
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
        HopState::Passed => ("●", Tone::Passing),
        HopState::Broken => ("✕", Tone::Broken),
        HopState::NotReached => ("○", Tone::Muted),
    };
    let way = match next.map(|next| next.state) {
        _ if report.state != HopState::Passed => "╌",
        Some(HopState::Passed) => "─",
        Some(HopState::Broken) => "╴",
        Some(HopState::NotReached) | None => "╌",
    };
    let time = report.micros.map(duration).unwrap_or_default();
    let room = STEP - 1;
    let text = if last {
        format!(" {time:<width$}", width = room - 1)
    } else if time.is_empty() {
        way.repeat(room)
    } else {
        // A space on each side of the time, and the way around it.
        let line = room - time.chars().count() - 2;
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
        _ => format!("{}.{} s", micros / 1_000_000, micros % 1_000_000 / 100_000),
    }
}

/// What is wrong with each route, and what mends it.
pub(crate) fn findings(output: &Output, verdicts: &[Verdict]) -> String {
    let broken = verdicts.iter().filter(|verdict| !verdict.passed);
    broken
        .flat_map(|verdict| {
            verdict
                .findings
                .iter()
                .map(move |finding| (verdict, finding))
        })
        .map(|(verdict, finding)| describe(output, &verdict.address, finding))
        .collect::<Vec<_>>()
        .join("\n\n")
}

fn describe(output: &Output, address: &str, finding: &Finding) -> String {
    let slug = output.paint(Tone::Muted, &format!("({})", finding.slug.slug()));
    let mark = output.paint(Tone::Broken, "✕");
    let address = output.paint(Tone::Strong, address);
    let mut lines = vec![format!(
        "{mark} {address} · {}: {} {slug}",
        finding.hop, finding.summary
    )];
    lines.extend(
        finding
            .evidence
            .iter()
            .map(|line| output.paint(Tone::Muted, &format!("    {line}"))),
    );
    lines.push(format!(
        "  {} {}",
        output.paint(Tone::Remedy, "→"),
        finding.remedy.text
    ));
    let command = finding.remedy.command.as_ref();
    lines.extend(command.map(|command| output.paint(Tone::Remedy, &format!("      {command}"))));
    lines.join("\n")
}

/// `7 routes: 6 pass, 1 is broken`
pub(crate) fn summary(verdicts: &[Verdict]) -> String {
    let passing = verdicts.iter().filter(|verdict| verdict.passed).count();
    count(verdicts.len(), passing, verdicts.len() - passing)
}

/// How many routes there are, pass, and are broken, in words.
pub(crate) fn count(routes: usize, passing: usize, broken: usize) -> String {
    let noun = if routes == 1 { "route" } else { "routes" };
    let fate = match (passing, broken) {
        (_, 0) if routes == passing => return format!("{routes} {noun}, every hop proved"),
        (passing, 0) => format!("{passing} proved, the others not checked yet"),
        (0, broken) if broken == routes => "none passes".to_owned(),
        (passing, broken) => format!("{passing} proved, {broken} broken"),
    };
    format!("{routes} {noun}: {fate}")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::args::Format;

    fn verdict(address: &str, states: [HopState; 4]) -> Verdict {
        let hops = Hop::ALL
            .iter()
            .zip(states)
            .map(|(hop, state)| HopReport {
                hop: *hop,
                state,
                detail: String::new(),
                micros: (state != HopState::NotReached).then_some(1234),
            })
            .collect();
        Verdict {
            address: address.to_owned(),
            name: "booking.moor.test".parse().unwrap(),
            url: String::new(),
            to: "4310".to_owned(),
            passed: states == [HopState::Passed; 4],
            hops,
            findings: Vec::new(),
            checked_at: time::OffsetDateTime::UNIX_EPOCH,
        }
    }

    #[test]
    fn lanes_stand_under_their_hops() {
        use HopState::{Broken, NotReached, Passed};
        let output = Output::new(Format::Table);
        let verdicts = [
            verdict("booking.moor.test", [Passed; 4]),
            verdict("lost.moor.test", [Passed, Broken, NotReached, NotReached]),
        ];
        let wanted = "\
ADDRESS            resolve       connect       handshake     answer        TARGET
booking.moor.test  ●── 1.2 ms ───●── 1.2 ms ───●── 1.2 ms ───● 1.2 ms      4310
lost.moor.test     ●╴╴ 1.2 ms ╴╴╴✕╌╌ 1.2 ms ╌╌╌○╌╌╌╌╌╌╌╌╌╌╌╌╌○             4310";
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
    fn durations(#[case] micros: u64, #[case] text: &str) {
        assert_eq!(duration(micros), text);
    }

    #[rstest]
    #[case(7, 7, 0, "7 routes, every hop proved")]
    #[case(1, 1, 0, "1 route, every hop proved")]
    #[case(7, 6, 1, "7 routes: 6 proved, 1 broken")]
    #[case(2, 0, 2, "2 routes: none passes")]
    #[case(3, 2, 0, "3 routes: 2 proved, the others not checked yet")]
    #[case(0, 0, 0, "0 routes, every hop proved")]
    fn counts(
        #[case] routes: usize,
        #[case] passing: usize,
        #[case] broken: usize,
        #[case] text: &str,
    ) {
        assert_eq!(count(routes, passing, broken), text);
    }
}
