//! `bentlane`: real names with real HTTPS for dev servers, proved hop by hop.
//!
//! One binary: the client commands, which talk to the service's API, and `serve`, which is the
//! service. Each command is a file of `cmd` that holds its arguments and what it does with them.

mod account;
mod client;
mod cmd;
mod error;
mod format;
mod input;
mod output;
mod text_file;

use std::process::ExitCode;

use bentlane_service::{LAUNCH_COMMAND, become_app};
use clap::{ArgMatches, FromArgMatches};
use tikv_jemallocator::Jemalloc;

use crate::cmd::args::{self, Args};
use crate::format::Format;
use crate::output::Output;

/// It gives memory back after a load, and fragments less than the system's (docs/performance.md).
#[global_allocator]
static ALLOCATOR: Jemalloc = Jemalloc;

fn main() -> ExitCode {
    // Before anything else is done, since an app waits for it.
    let mut words = std::env::args_os().skip(1);
    if words.next().is_some_and(|word| word == LAUNCH_COMMAND) {
        let error = become_app(&words.collect::<Vec<_>>());
        Output::new(Format::Table).say(&format!("cannot start the app: {error}"));
        return ExitCode::FAILURE;
    }
    let matches = args::grammar().get_matches();
    let args = Args::from_arg_matches(&matches).unwrap_or_else(|error| error.exit());
    let output = Output::new(args.global.format);
    match cmd::run(args, &typed(&matches), &output) {
        Ok(answer) => answer.exit_code(),
        Err(error) => {
            output.error(&error);
            error.exit_code()
        }
    }
}

/// The words of the command that was typed, such as `route add`.
fn typed(matches: &ArgMatches) -> String {
    let mut words = Vec::new();
    let mut at = matches;
    while let Some((word, below)) = at.subcommand() {
        words.push(word);
        at = below;
    }
    words.join(" ")
}
