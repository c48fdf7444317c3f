//! What more routes cost: the snapshot by itself, in this process.

use std::fmt::Write;
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bentlane_dns::{Outcome, Settings, Transport, answer};
use bentlane_model::{Configuration, Route, Snapshot, Zone};

use crate::load::Ends;
use crate::measure::{Aim, Report, Scale, micros, quantile};
use crate::process::resident_kib;
use crate::subject::Subject;

/// How many routes there are, and how many zones.
const ROUTES: [usize; 3] = [10, 1_000, 100_000];
const ZONES: [usize; 3] = [1, 10, 1_000];
/// Few, and many.
const SIZES: [(usize, usize); 2] = [(10, 1), (100_000, 1_000)];
/// Names looked up in turn: as many as there are at the least, spread over all of them.
const NAMES: usize = 10;
/// Look-ups timed together.
const LOOK_UPS: usize = 200_000;
/// How long requests are looked at, at the least.
const LOOKED_AT: Duration = Duration::from_secs(5);
/// Swaps of the snapshot while requests come in.
const SWAPS: usize = 20;

/// The time to compile each size, the memory of many routes, and the time of a look-up with few and
/// with many.
pub(crate) fn compare(scale: Scale, report: &mut Report) {
    for (routes, zones) in ROUTES
        .iter()
        .flat_map(|routes| ZONES.map(|zones| (*routes, zones)))
    {
        let configuration = configuration(routes, zones);
        let compiled = (0..scale.starts).map(|_| {
            let start = Instant::now();
            let snapshot = Snapshot::compile(configuration.clone());
            let took = start.elapsed().as_secs_f64() * 1e3;
            drop(snapshot);
            took
        });
        let name = format!("compiling {routes} routes in {zones} zones");
        report.alone(name, "ms", compiled.collect(), Aim::AtMost(1_000.0));
    }
    reload(scale, report);
    // In its own process, which reuses nothing of an earlier run.
    let own = std::env::current_exe().unwrap();
    let told = Command::new(own).arg("memory").output().unwrap();
    let bytes = String::from_utf8(told.stdout)
        .unwrap()
        .trim()
        .parse()
        .unwrap();
    report.alone(
        "memory of a route, of 100,000",
        "B",
        vec![bytes],
        Aim::AtMost(1_024.0),
    );

    let [few, many] = SIZES.map(|(routes, zones)| configuration(routes, zones));
    let snapshots = [few, many].map(|it| Snapshot::compile(it.clone()));
    let sizes = SIZES;
    let (mut answers, mut routes) = (Vec::new(), Vec::new());
    for _ in 0..scale.rounds {
        let [few, many] = [0, 1].map(|it| answer_time(&snapshots[it], sizes[it]));
        answers.push((few, many));
        let [few, many] = [0, 1].map(|it| route_time(&snapshots[it], sizes[it]));
        routes.push((few, many));
    }
    let name = "of 100,000 routes beside 10";
    report.compare(
        format!("an answer out {name}"),
        "µs",
        &answers,
        Some(Aim::AtMost(1.1)),
    );
    report.compare(format!("a route's look-up out {name}"), "µs", &routes, None);
    let most = routes.iter().map(|(_, many)| *many).collect();
    report.alone(
        "a route's look-up, 100,000 routes",
        "µs",
        most,
        Aim::AtMost(1.0),
    );
}

/// The time to read and compile what was in force last, as a start does before all else.
fn reload(scale: Scale, report: &mut Report) {
    let (routes, zones) = SIZES[1];
    let kept = serde_json::to_string(&configuration(routes, zones)).unwrap();
    let reloaded = (0..scale.starts).map(|_| {
        let start = Instant::now();
        let configuration: Configuration = serde_json::from_str(&kept).unwrap();
        let snapshot = Snapshot::compile(configuration);
        let took = start.elapsed().as_secs_f64() * 1e3;
        assert_eq!(snapshot.configuration().routes.len(), routes);
        took
    });
    let name = format!("reloading {routes} routes that were in force last");
    report.alone(name, "ms", reloaded.collect(), Aim::AtMost(500.0));
}

/// What a route takes in a compiled snapshot, beside what it was compiled from.
#[allow(clippy::cast_precision_loss, reason = "memory is far below 2^52 KiB")]
pub(crate) fn memory_per_route() -> f64 {
    let (routes, zones) = SIZES[1];
    let own = std::process::id();
    let configuration = configuration(routes, zones);
    let before = resident_kib(own);
    let snapshot = Snapshot::compile(configuration);
    let grown = resident_kib(own).saturating_sub(before);
    drop(snapshot);
    grown as f64 * 1024.0 / routes as f64
}

/// The service with many routes: how fast it is there again, lists them, and whether requests feel
/// that a snapshot is swapped.
pub(crate) fn serving(subject: &mut Subject, ends: &Ends, scale: Scale, report: &mut Report) {
    let ((first, last), _) = subject.get("routes");
    report.add("first byte of the list of all routes", "ms", first);
    report.add("the whole list of all routes", "ms", last);
    let ((_, page), _) = subject.get("routes?limit=100");
    report.add("a page of 100 routes", "ms", page);

    let quiet = ends.until(&AtomicBool::new(true), LOOKED_AT);
    let over = AtomicBool::new(false);
    let swapped = std::thread::scope(|scope| {
        let editing = scope.spawn(|| {
            for number in 0..SWAPS.min(scale.rounds * 2) {
                subject.edit(number);
            }
            over.store(true, Ordering::Relaxed);
        });
        let times = ends.until(&over, LOOKED_AT);
        editing.join().unwrap();
        times
    });
    let p99 = (quantile(&quiet, 0.99), quantile(&swapped, 0.99));
    let name = format!("p99 of requests while {} routes are swapped", scale.many);
    report.compare(name, "µs", &[p99], None);
    let longest = |times: &[f64]| times.iter().copied().fold(0.0, f64::max) / 1e3;
    report.compare(
        "the longest request then, beside quiet",
        "ms",
        &[(longest(&quiet), longest(&swapped))],
        None,
    );
    subject.restarts(&scale.many.to_string(), scale, report);
}

/// The name of route `number`, one of `sizes.0` in `sizes.1` zones.
fn name(number: usize, (_, zones): (usize, usize)) -> String {
    format!("n{number:05}.z{:03}.test", number % zones)
}

fn configuration(routes: usize, zones: usize) -> Configuration {
    let zone = |number: usize| Zone::new(format!("z{number:03}.test").parse().unwrap());
    let route = |number: usize| {
        let address = name(number, (routes, zones)).parse().unwrap();
        let port = 1024 + number % 60_000;
        Route::new(address, port.to_string().parse().unwrap())
    };
    Configuration {
        revision: 1,
        zones: (0..zones).map(zone).collect(),
        routes: (0..routes).map(route).collect(),
        ..Configuration::default()
    }
}

/// Some of the names, the same number whatever the size, so that both fit the cache alike: what is
/// compared is the look-up, not the memory behind it.
fn names(size: (usize, usize)) -> Vec<String> {
    (0..NAMES)
        .map(|step| name(step * size.0 / NAMES, size))
        .collect()
}

fn answer_time(snapshot: &Snapshot, size: (usize, usize)) -> f64 {
    let queries: Vec<Vec<u8>> = names(size).iter().map(|name| query(name)).collect();
    let (settings, mut out) = (Settings::default(), Vec::new());
    let start = Instant::now();
    for query in queries.iter().cycle().take(LOOK_UPS) {
        let outcome = answer(query, snapshot, &settings, Transport::Udp, &mut out);
        assert!(matches!(outcome, Outcome::Answer));
    }
    micros(start.elapsed()) / count(LOOK_UPS)
}

fn route_time(snapshot: &Snapshot, size: (usize, usize)) -> f64 {
    let names = names(size);
    let start = Instant::now();
    for name in names.iter().cycle().take(LOOK_UPS) {
        assert!(snapshot.route_for(name, "/a/path").is_some());
    }
    micros(start.elapsed()) / count(LOOK_UPS)
}

fn count(number: usize) -> f64 {
    f64::from(u32::try_from(number).unwrap())
}

fn query(name: &str) -> Vec<u8> {
    let mut message = b"\0\x01\x01\0\0\x01\0\0\0\0\0\0".to_vec();
    for label in name.split('.') {
        message.push(u8::try_from(label.len()).unwrap());
        message.extend(label.bytes());
    }
    message.extend(b"\0\0\x01\0\x01");
    message
}

/// The request body that adds routes `n{first}` and so on, all at once.
pub(crate) fn many(first: usize, count: usize, target: &str) -> String {
    let mut body = r#"{"routes":["#.to_owned();
    for number in first..first + count {
        let comma = if number == first { "" } else { "," };
        let _ = write!(
            body,
            r#"{comma}{{"name":"n{number}.moor.test","to":"{target}"}}"#
        );
    }
    body.push_str("]}");
    body
}
