//! Apps: how much later a visit gets its first byte than the app alone would give it, what a flood of
//! output costs, and what apps cost that do not run.

use std::fs;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::json;

use crate::measure::{Aim, Report, Scale};
use crate::process::cpu_time;
use crate::subject::Subject;

/// Apps that do not run.
const STOPPED: usize = 100;
/// Bytes that an app prints ten times a second.
const PRINTED: usize = 2_000_000;

pub(crate) fn measure(
    bentlane: &Path,
    folder: &Path,
    upstream: SocketAddr,
    scale: Scale,
    report: &mut Report,
) {
    let subject = Subject::start(bentlane, &folder.join("apps"), upstream);
    subject.fill(0, "1");
    starts(&subject, scale, report);
    output(&subject, folder, scale, report);
    drop(subject);
    let subject = Subject::start(bentlane, &folder.join("stopped"), upstream);
    subject.fill(0, "1");
    stopped(&subject, scale, report);
}

fn add(subject: &Subject, name: &str, command: &str, ready: &str) {
    let settings = json!({
        "command": command, "folder": "/tmp", "ready": ready, "terminal": false,
    });
    let route = json!({ "name": format!("{name}.moor.test"), "to": "" });
    let app = json!({ "name": name, "settings": settings, "routes": [route] });
    subject.post("apps", &app.to_string());
}

/// The command of the app that answers at once, on the port in `PORT`.
fn quick() -> String {
    let own = std::env::current_exe().unwrap();
    format!("exec {} app", own.display())
}

/// From a request for a stopped app to its first byte, beyond what the app takes by itself.
fn starts(subject: &Subject, scale: Scale, report: &mut Report) {
    add(subject, "quick", &quick(), "port");
    // The environment of the shell is read once.
    visit(subject);
    let mut beyond = Vec::new();
    for _ in 0..scale.starts {
        subject.act("apps/quick/stop?wait=true");
        let alone = alone();
        let with_us = visit(subject);
        beyond.push(((with_us - alone).as_secs_f64() * 1e3).max(0.0));
    }
    let name = "first byte of a stopped app, beyond its own start";
    report.alone(name, "ms", beyond, Aim::AtMost(50.0));
}

/// From the start of the app to its first byte, without us.
fn alone() -> Duration {
    let free = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let at = free.local_addr().unwrap();
    drop(free);
    let start = Instant::now();
    let mut child = Command::new("sh")
        .args(["-c", &quick()])
        .env("PORT", at.port().to_string())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut stream = loop {
        match TcpStream::connect(at) {
            Ok(stream) => break stream,
            Err(_) => std::thread::sleep(Duration::from_millis(1)),
        }
    };
    write!(stream, "GET / HTTP/1.1\r\nhost: localhost\r\n\r\n").unwrap();
    stream.read_exact(&mut [0]).unwrap();
    let took = start.elapsed();
    child.kill().unwrap();
    child.wait().unwrap();
    took
}

/// From a request over TLS to its first byte.
fn visit(subject: &Subject) -> Duration {
    let https = subject.address("https");
    let asked = Command::new("curl")
        .args([
            "-sk",
            "-o",
            "/dev/null",
            "-w",
            "%{http_code} %{time_starttransfer}",
        ])
        .args(["--connect-to", &format!("::127.0.0.1:{}", https.port())])
        .arg("https://quick.moor.test/")
        .output()
        .unwrap();
    let said = String::from_utf8(asked.stdout).unwrap();
    let seconds = said.strip_prefix("200 ").expect(&said);
    Duration::from_secs_f64(seconds.parse().unwrap())
}

/// The share of a core that 20 MB/s of output take.
fn output(subject: &Subject, folder: &Path, scale: Scale, report: &mut Report) {
    let file = folder.join("printed");
    let line = format!("\u{1b}[32m{}\u{1b}[0m\n", "a line of output ".repeat(5));
    fs::write(&file, line.repeat(PRINTED / line.len())).unwrap();
    let command = format!("while :; do cat {}; sleep 0.1; done", file.display());
    add(subject, "loud", &command, "output:line");
    subject.act("apps/loud/start");
    std::thread::sleep(Duration::from_secs(1));
    let (before, start) = (cpu_time(subject.pid()), Instant::now());
    std::thread::sleep(scale.background / 4);
    let share = (cpu_time(subject.pid()) - before).as_secs_f64() / start.elapsed().as_secs_f64();
    subject.act("apps/loud/stop?wait=true");
    let name = "of a core, an app that prints 20 MB/s";
    report.alone(name, "%", vec![share * 100.0], Aim::AtMost(25.0));
}

/// What apps cost that do not run.
#[allow(clippy::cast_precision_loss, reason = "some thousand KiB")]
fn stopped(subject: &Subject, scale: Scale, report: &mut Report) {
    let fresh = subject.resident_kib();
    for number in 0..STOPPED {
        add(subject, &format!("n{number}"), "true", "port");
    }
    std::thread::sleep(scale.background / 2);
    let each = subject.resident_kib().saturating_sub(fresh) as f64 / STOPPED as f64;
    report.alone(
        "memory of a stopped app",
        "KiB",
        vec![each],
        Aim::AtMost(100.0),
    );
    let (before, start) = (cpu_time(subject.pid()), Instant::now());
    std::thread::sleep(scale.background);
    let share = (cpu_time(subject.pid()) - before).as_secs_f64() / start.elapsed().as_secs_f64();
    let name = "of a core, 100 stopped apps";
    report.alone(name, "%", vec![share * 100.0], Aim::AtMost(1.0));
}
