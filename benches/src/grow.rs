//! What more routes cost: the snapshot by itself, in this process.

use std::fmt::Write;
use std::time::Instant;

use bentlane_core::dns::{Outcome, Settings, Transport, answer};
use bentlane_core::{Configuration, Route, Snapshot, Zone};

use crate::measure::{AtMost, Report, Scale, micros};

/// Routes and zones, from few to many.
const SIZES: [(usize, usize); 3] = [(10, 1), (1_000, 10), (100_000, 1_000)];
/// Names looked up in turn: as many as there are at the least, spread over all of them.
const NAMES: usize = 10;
/// Look-ups timed together.
const LOOK_UPS: usize = 200_000;

/// The time of a look-up with few routes and with many, and of compiling many.
pub(crate) fn compare(scale: Scale, report: &mut Report) {
    let configurations = SIZES.map(|(routes, zones)| configuration(routes, zones));
    let [few, _, many] = &configurations;
    let compiled = (0..scale.starts).map(|_| {
        let start = Instant::now();
        let snapshot = Snapshot::compile(many.clone());
        let took = start.elapsed().as_secs_f64() * 1e3;
        drop(snapshot);
        took
    });
    let compiled = compiled.collect();
    report.alone("compiling 100,000 routes", "ms", compiled, AtMost(1_000.0));

    let snapshots = [few, many].map(|it| Snapshot::compile(it.clone()));
    let sizes = [SIZES[0], SIZES[2]];
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
        Some(AtMost(1.1)),
    );
    report.compare(format!("a route's look-up out {name}"), "µs", &routes, None);
    let most = routes.iter().map(|(_, many)| *many).collect();
    report.alone("a route's look-up, 100,000 routes", "µs", most, AtMost(1.0));
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

/// The body by which the API adds routes `n{first}` and so on, all at once.
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
