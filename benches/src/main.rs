//! Bent Lane beside the least that could do its work: a **bare relay** (TLS in, one fixed target,
//! nothing else) and a **bare responder** (one fixed answer), built on the same crates and asked in
//! turn in one run, so that a noisy machine is noisy for both. What is reported are ratios.
//!
//! Each server is its own process, this binary under another subcommand, so that the CPU time
//! it takes can be read from the system. Run it with `scripts/bench`.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::print_stderr,
    clippy::disallowed_methods,
    reason = "a benchmark that meets a fault has no figures to report"
)]

mod app;
mod apps;
mod bare;
mod checks;
mod clients;
mod console;
mod dns;
mod grow;
mod load;
mod measure;
mod picture;
mod process;
mod subject;
mod tls;

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use clap::{Parser, Subcommand, ValueEnum};

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
        /// Draw the ratios beside their bounds into this file, as SVG
        #[arg(long)]
        picture: Option<PathBuf>,
        /// Fewer rounds: shows that everything works, not how fast
        #[arg(long)]
        short: bool,
        /// Measure this part alone; several times for several [default: all of them]
        #[arg(long, value_enum)]
        only: Vec<Part>,
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
    /// Writes the bare relay's certificate into a folder
    #[command(hide = true)]
    Certificate {
        /// The folder
        folder: PathBuf,
    },
    /// Prints how many bytes a route takes in memory
    #[command(hide = true)]
    Memory,
    /// The bare responder
    #[command(hide = true)]
    Responder,
}

/// How long until memory that is no longer used is given back.
const GIVEN_BACK: Duration = Duration::from_secs(15);

/// What can be measured by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Part {
    /// Requests through the proxy
    Requests,
    /// What idle connections take
    Connections,
    /// A steady 10,000 requests a second
    Steady,
    /// Certificates and handshakes
    Handshakes,
    /// Requests and DNS answers, by clients that are not ours
    Clients,
    /// What the service costs while nobody looks
    Idle,
    /// DNS answers
    Names,
    /// Memory, and how fast the service starts
    Starts,
    /// Many routes
    Growth,
    /// Checks
    Checks,
    /// Apps that the service runs
    Apps,
    /// The console in a browser
    Console,
}

fn main() -> ExitCode {
    match Args::parse().command {
        Command::Run {
            bentlane,
            json,
            picture,
            short,
            only,
        } => {
            let scale = if short { Scale::SHORT } else { Scale::FULL };
            let (report, code) = run(&bentlane, scale, &only);
            if let Some(path) = json {
                std::fs::write(path, report.json()).unwrap();
            }
            if let Some(path) = picture {
                std::fs::write(path, report.picture()).unwrap();
            }
            return code;
        }
        Command::App => app::serve(),
        Command::Relay { target, folder } => bare::relay(target, &folder),
        Command::Certificate { folder } => bare::write_certificate(&folder),
        Command::Memory => println!("{}", grow::memory_per_route()),
        Command::Responder => bare::responder(),
    }
    ExitCode::SUCCESS
}

fn run(bentlane: &Path, scale: Scale, only: &[Part]) -> (Report, ExitCode) {
    let wanted = |part| only.is_empty() || only.contains(&part);
    let folder = tempfile::tempdir_in("/tmp").unwrap();
    let dir = folder.path();
    let app = process::Server::start(&["app"]);
    let target = app.address().port().to_string();
    bare::write_certificate(dir);
    let relaying = ["relay", &target, dir.to_str().unwrap()];
    let relay = process::Server::start(&relaying);
    let responder = process::Server::start(&["responder"]);
    let mut subject = subject::Subject::start(bentlane, &dir.join("data"), responder.address());

    let mut report = Report::default();
    let fresh = subject.resident_kib();
    subject.add_routes(subject::ROUTES, &target);
    report.memory("idle, without a route", fresh);
    std::thread::sleep(GIVEN_BACK);
    report.memory("idle, 1,000 routes", subject.resident_kib());

    let ends = load::Ends::new(&relay, &subject, dir);
    if wanted(Part::Requests) {
        requests(&ends, scale, &mut report);
    }
    if wanted(Part::Clients) {
        clients::compare(&relay, &responder, &subject, dir, scale, &mut report);
        // The allocator gives back what is not used for ten seconds.
        std::thread::sleep(GIVEN_BACK);
        report.memory("after the load, 1,000 routes", subject.resident_kib());
    }
    if wanted(Part::Idle) {
        let ends = (responder.address(), &*target);
        clients::idle(bentlane, dir, ends, scale, &mut report);
    }
    if wanted(Part::Connections) {
        connections(bentlane, dir, &responder, &target, scale, &mut report);
    }
    if wanted(Part::Steady) {
        ends.steady(&subject, scale, &mut report);
    }
    if wanted(Part::Handshakes) {
        tls::issuing(scale, &mut report);
        tls::handshakes(&relay, &subject, dir, scale, &mut report);
    }
    if wanted(Part::Names) {
        names(&responder, &subject, &ends, scale, &mut report);
    }
    if wanted(Part::Starts) {
        starts(&mut subject, scale, &mut report);
    }
    if wanted(Part::Growth) {
        growth(
            &relay,
            &responder,
            &mut subject,
            (dir, &target),
            scale,
            &mut report,
        );
    }
    if wanted(Part::Checks) {
        let upstream = responder.address();
        checks::measure(bentlane, dir, upstream, scale, &mut report);
    }
    if wanted(Part::Apps) {
        let upstream = responder.address();
        apps::measure(bentlane, dir, upstream, scale, &mut report);
    }
    if wanted(Part::Console) {
        let upstream = responder.address();
        console::measure(bentlane, dir, upstream, &target, scale, &mut report);
    }

    report.print();
    drop(subject);
    let code = match report.within_aims() {
        true => ExitCode::SUCCESS,
        false => ExitCode::FAILURE,
    };
    (report, code)
}

/// Measures idle connections, at their own relay and service, started again so that neither has
/// memory left from other work.
fn connections(
    bentlane: &Path,
    folder: &Path,
    responder: &process::Server,
    target: &str,
    scale: Scale,
    report: &mut Report,
) {
    let relay = process::Server::start(&["relay", target, folder.to_str().unwrap()]);
    let data = folder.join("connections");
    let mut subject = subject::Subject::start(bentlane, &data, responder.address());
    subject.add_routes(subject::ROUTES, target);
    subject.restart();
    load::Ends::new(&relay, &subject, folder).idle(scale, report);
}

fn names(
    responder: &process::Server,
    subject: &subject::Subject,
    ends: &load::Ends,
    scale: Scale,
    report: &mut Report,
) {
    dns::compare(responder, subject, scale, "", report);
    dns::kept(subject, scale, report);
    dns::garbage(subject, scale, report);
    dns::beside_load(responder, subject, ends, scale, report);
}

fn starts(subject: &mut subject::Subject, scale: Scale, report: &mut Report) {
    let mib = measure::mib(subject.resident_kib());
    report.add("resident memory, after 10,000 more names", "MiB", mib);
    subject.restarts("1,000", scale, report);
    report.memory("after a start, 1,000 routes", subject.resident_kib());
}

fn requests(ends: &load::Ends, scale: Scale, report: &mut Report) {
    for protocol in [load::Protocol::Http1, load::Protocol::Http2] {
        ends.throughput(protocol, scale, report);
        ends.latency(protocol, scale, report);
        ends.transfers(protocol, scale, report);
    }
}

fn growth(
    relay: &process::Server,
    responder: &process::Server,
    subject: &mut subject::Subject,
    (folder, target): (&Path, &str),
    scale: Scale,
    report: &mut Report,
) {
    grow::compare(scale, report);
    subject.add_many(scale.many, target);
    let routes = format!(", {} routes", scale.many);
    dns::compare(responder, subject, scale, &routes, report);
    // It listens elsewhere since it was started again.
    let ends = load::Ends::new(relay, subject, folder);
    grow::serving(subject, &ends, scale, report);
}
