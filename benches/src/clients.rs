//! What clients that are not ours measure: h2load for requests, dnsperf for names. CPU time is that of
//! the whole serving process.

use std::fmt::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use crate::measure::{Aim, Report, Scale, micros};
use crate::process::{Server, cpu_time, wake_ups};
use crate::subject::{ROUTES, Subject};

/// Connections of h2load.
const CONNECTIONS: &str = "8";
/// Questions of dnsperf that wait for their answers at a time.
const OUTSTANDING: &str = "50";
/// How long after a change of the configuration requests and questions are counted.
const SETTLED: Duration = Duration::from_secs(90);

/// CPU time per request and per answer, of the bare servers and ours in turn.
pub(crate) fn compare(
    relay: &Server,
    responder: &Server,
    subject: &Subject,
    folder: &Path,
    scale: Scale,
    report: &mut Report,
) {
    let names = folder.join("names");
    let mut list = String::new();
    for number in 0..ROUTES {
        // Writing into memory does not fail.
        let _ = writeln!(list, "n{number}.moor.test A");
    }
    std::fs::write(&names, list).unwrap();
    if scale.rounds > 3 {
        std::thread::sleep(SETTLED);
    }
    for (protocol, flags, bound) in [("http/1.1", &["--h1"][..], 1.2), ("h2", &[][..], 1.05)] {
        let of = |at, pid| per_piece(pid, || requests(at, flags, scale.requests));
        let name = format!("CPU per request by h2load, {protocol}");
        let sides = [
            (relay.address(), relay.pid()),
            (subject.https(), subject.pid()),
        ];
        in_turn(name, sides, of, bound, scale, report);
    }
    let of = |at, pid| per_piece(pid, || questions(at, &names, scale.questions / ROUTES));
    let sides = [
        (responder.address(), responder.pid()),
        (subject.dns(), subject.pid()),
    ];
    in_turn(
        "CPU per answer by dnsperf".to_owned(),
        sides,
        of,
        1.3,
        scale,
        report,
    );
}

fn in_turn(
    name: String,
    sides: [(SocketAddr, u32); 2],
    of: impl Fn(SocketAddr, u32) -> f64,
    bound: f64,
    scale: Scale,
    report: &mut Report,
) {
    let mut rounds = Vec::new();
    for round in 0..=scale.rounds {
        let [bare, ours] = sides.map(|(at, pid)| of(at, pid));
        // The first one warms both up.
        if round > 0 {
            rounds.push((bare, ours));
        }
    }
    report.compare(name, "µs", &rounds, Some(Aim::AtMost(bound)));
}

/// CPU time of a process, divided by the number of pieces of work that it did.
fn per_piece(pid: u32, work: impl FnOnce() -> f64) -> f64 {
    let before = cpu_time(pid);
    let pieces = work();
    micros(cpu_time(pid) - before) / pieces
}

#[allow(clippy::cast_precision_loss, reason = "some thousand requests")]
fn requests(at: SocketAddr, flags: &[&str], count: usize) -> f64 {
    let output = Command::new("h2load")
        .args(flags)
        .args(["-c", CONNECTIONS, "-n", &count.to_string()])
        .args(["--connect-to", &at.to_string()])
        .arg(format!("https://n7.moor.test:{}/", at.port()))
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(said.contains(&format!("{count} succeeded")), "{said}");
    count as f64
}

fn questions(at: SocketAddr, names: &Path, times: usize) -> f64 {
    let output = Command::new("dnsperf")
        .args(["-s", &at.ip().to_string(), "-p", &at.port().to_string()])
        .args(["-q", OUTSTANDING, "-n", &times.to_string(), "-d"])
        .arg(names)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    let line = said
        .lines()
        .find(|line| line.contains("Queries completed:"));
    let completed = line.and_then(|line| line.split_whitespace().nth(2));
    completed
        .unwrap_or_else(|| panic!("{said}"))
        .parse()
        .unwrap()
}

/// What the service costs while nobody looks: right after many routes were added, and later.
pub(crate) fn idle(
    bentlane: &Path,
    folder: &Path,
    (upstream, target): (SocketAddr, &str),
    scale: Scale,
    report: &mut Report,
) {
    for routes in [ROUTES, scale.many] {
        let folder = folder.join(format!("idle-{routes}"));
        let subject = Subject::start(bentlane, &folder, upstream);
        // The start asked for `status`, which counts as reading results for ten seconds.
        std::thread::sleep(Duration::from_secs(11));
        subject.fill(routes, target);
        // The work of the change itself.
        std::thread::sleep(Duration::from_secs(5));
        for when in ["in the first minute", "after that"] {
            let (cpu, wakes) = (cpu_time(subject.pid()), wake_ups(subject.pid()));
            let start = Instant::now();
            std::thread::sleep(scale.background);
            let took = start.elapsed().as_secs_f64();
            let share = (cpu_time(subject.pid()) - cpu).as_secs_f64() / took * 100.0;
            let wakes = (wake_ups(subject.pid()) - wakes) / took;
            let name = format!("of a core, idle with {routes} routes, {when}");
            report.alone(name, "%", vec![share], Aim::AtMost(0.5));
            let name = format!("wake-ups, idle with {routes} routes, {when}");
            report.alone(name, "1/s", vec![wakes], Aim::AtMost(20.0));
        }
    }
}
