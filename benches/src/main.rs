//! Bent Lane beside the least that could do its work: a **bare relay** (TLS in, one fixed target,
//! nothing else) and a **bare responder** (one fixed answer), built on the same crates and asked in
//! turn in one run, so that a noisy machine is noisy for both. What is reported are ratios.
//!
//! Each server is a process of its own, this binary under another subcommand, so that the CPU time
//! it takes can be read from the system. Run it with `scripts/bench`.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::print_stderr,
    clippy::disallowed_methods,
    reason = "a benchmark that meets a fault has no figures to report"
)]

mod app;
mod bare;
mod checks;
mod dns;
mod grow;
mod load;
mod measure;
mod process;
mod subject;
mod tls;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Parser, Subcommand};

use crate::measure::{Report, Scale};

#[derive(Debug, Parser)]
#[command(about = "Bent Lane beside a bare relay and a bare responder, in one run")]
struct Args {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Measure, print the ratios, and exit 1 when one is beyond its aim
    Run {
        /// The `bentlane` to measure: a release build
        #[arg(long)]
        bentlane: PathBuf,
        /// Write the figures as JSON to this file, too
        #[arg(long)]
        json: Option<PathBuf>,
        /// Fewer rounds: shows that everything works, not how fast
        #[arg(long)]
        short: bool,
    },
    /// The target of both relays: answers every request with the same 1 KiB
    #[command(hide = true)]
    App,
    /// The bare relay in front of a target on this port
    #[command(hide = true)]
    Relay {
        /// The port
        target: u16,
        /// The folder with `cert.der` and `key.der`
        folder: PathBuf,
    },
    /// The bare responder
    #[command(hide = true)]
    Responder,
}

fn main() -> ExitCode {
    match Args::parse().command {
        Command::Run {
            bentlane,
            json,
            short,
        } => {
            return run(
                &bentlane,
                json,
                if short { Scale::SHORT } else { Scale::FULL },
            );
        }
        Command::App => app::serve(),
        Command::Relay { target, folder } => bare::relay(target, &folder),
        Command::Responder => bare::responder(),
    }
    ExitCode::SUCCESS
}

fn run(bentlane: &Path, json: Option<PathBuf>, scale: Scale) -> ExitCode {
    let folder = tempfile::tempdir_in("/tmp").unwrap();
    let app = process::Server::start(&["app"]);
    let target = app.address().port().to_string();
    bare::write_certificate(folder.path());
    let relay = process::Server::start(&["relay", &target, folder.path().to_str().unwrap()]);
    let responder = process::Server::start(&["responder"]);
    let mut subject =
        subject::Subject::start(bentlane, &folder.path().join("data"), responder.address());

    let mut report = Report::default();
    let fresh = subject.resident_kib();
    subject.add_routes(subject::ROUTES, &target);
    report.memory("idle, without a route", fresh);
    report.memory("idle, 1,000 routes", subject.resident_kib());

    let ends = load::Ends::new(&relay, &subject, folder.path());
    for protocol in [load::Protocol::Http1, load::Protocol::Http2] {
        ends.throughput(protocol, scale, &mut report);
        ends.latency(protocol, scale, &mut report);
    }
    tls::issuing(scale, &mut report);
    tls::handshakes(&relay, &subject, folder.path(), scale, &mut report);
    dns::compare(&responder, &subject, scale, "", &mut report);
    dns::kept(&subject, scale, &mut report);
    dns::garbage(&subject, scale, &mut report);
    dns::beside_load(&responder, &subject, &ends, scale, &mut report);
    report.memory(
        "after the load, 1,000 routes and 10,000 certificates",
        subject.resident_kib(),
    );
    subject.restarts(scale, &mut report);
    grow::compare(scale, &mut report);
    subject.add_many(scale.many, &target);
    let routes = format!(", {} routes", scale.many);
    dns::compare(&responder, &subject, scale, &routes, &mut report);

    checks::measure(
        bentlane,
        folder.path(),
        responder.address(),
        scale,
        &mut report,
    );

    report.print();
    if let Some(path) = json {
        std::fs::write(path, report.json()).unwrap();
    }
    drop(subject);
    if report.within_aims() {
        ExitCode::SUCCESS
    } else {
        ExitCode::FAILURE
    }
}
