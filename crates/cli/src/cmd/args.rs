use std::path::PathBuf;

use clap::{Args as ClapArgs, CommandFactory, Parser, Subcommand};

use super::{
    app, authority, backup, cert, check, console, container, from_container, journal, port,
    project, record, restart, restore, route, serve, setup, status, system, trace, traffic, undo,
    zone,
};
use crate::format::Format;

/// Real names with real HTTPS for what runs on this machine, proved hop by hop.
#[derive(Debug, Parser)]
#[command(
    name = "bentlane",
    version,
    max_term_width = 100,
    after_help = "Examples:
  bentlane                                 what runs, and what to do next
  sudo bentlane setup                      set this machine up, guided
  bentlane route add booking.moor.test 4310
  bentlane check                           prove every hop of every route

Exit codes: 0 done, 1 the answer is no (a check failed), 2 wrong usage, 3 the service is not reachable."
)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
}

/// Options of every command.
#[derive(Debug, ClapArgs)]
pub(crate) struct Global {
    /// Output format: `table` or `json`; `junit` for `check`, `har` for `traffic`
    #[arg(
        long,
        global = true,
        value_enum,
        default_value_t,
        hide_possible_values = true,
        hide_short_help = true,
        help_heading = "Global options"
    )]
    pub(crate) format: Format,
    /// The service's folder [default: ~/.local/share/bentlane, /var/lib/bentlane for root]
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        env = "BENTLANE_DATA_DIR",
        hide_env_values = true,
        hide_short_help = true,
        help_heading = "Global options"
    )]
    pub(crate) data_dir: Option<PathBuf>,
    /// The settings [default: ~/.config/bentlane/config.toml]
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        env = "BENTLANE_CONFIG",
        hide_env_values = true,
        hide_short_help = true,
        help_heading = "Global options"
    )]
    pub(crate) config: Option<PathBuf>,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Set this machine up: a zone, lookups, trust, and routes to what runs already
    Setup(setup::Setup),
    /// Run the service in the foreground
    Serve(Box<serve::Serve>),
    /// Show what runs, where it listens and what is wrong
    Status(status::Status),
    /// Check this machine and every route, hop by hop
    Check(check::Check),
    /// For `bentlane check --from`: looks from the network that it runs in
    #[command(hide = true)]
    LookFromHere(from_container::LookFromHere),
    /// Trace one request: each decision, and the time that it takes
    Trace(trace::Trace),
    /// Add, list, show, edit and remove zones: the suffixes that resolve to this machine
    #[command(subcommand)]
    Zone(zone::Zone),
    /// Add, list and remove DNS records in a zone
    #[command(subcommand)]
    Record(record::Record),
    /// Add, list, show, edit and remove routes: which name leads to which port
    #[command(subcommand)]
    Route(route::Route),
    /// Add, list, start, stop and run apps: commands that the first visit starts
    #[command(subcommand)]
    App(app::App),
    /// Containers, and the routes to them: list, show, start, stop; open a network to names
    #[command(subcommand)]
    Container(container::Container),
    /// Load what a project's file says: routes, apps, records; write such a file
    #[command(subcommand)]
    Project(project::Project),
    /// List what listens on this machine, and suggest free ports
    #[command(subcommand)]
    Port(port::Port),
    /// Show, export, import and rotate the certificate authority, and protect its key
    #[command(subcommand)]
    Authority(authority::Authority),
    /// List, issue, sign, import and export certificates
    #[command(subcommand)]
    Cert(cert::Cert),
    /// Check, attach and detach this machine's lookups, trust stores and systemd unit
    #[command(subcommand)]
    System(system::System),
    /// List requests with their responses, newest last
    Traffic(traffic::Traffic),
    /// Show what changed, when and by whom
    Journal(journal::Journal),
    /// Start the service again in place, without refusing a connection
    Restart(restart::Restart),
    /// Copy zones, routes, the journal and, under a passphrase, the keys to a file
    Backup(backup::Backup),
    /// Restore a backup, or the configuration when the database was lost or replaced
    Restore(restore::Restore),
    /// Undo the last change, or one of the journal by its number
    Undo(undo::Undo),
    /// Open the console in a browser, signed in
    Console(console::Console),
}

/// The grammar, with the options of every command in a line of the short help.
pub(crate) fn grammar() -> clap::Command {
    with_folded_options(Args::command())
}

fn with_folded_options(command: clap::Command) -> clap::Command {
    let formats = match command.get_name() {
        "check" => "table|json|junit",
        "traffic" => "table|json|har",
        _ => "table|json",
    };
    let examples = command.get_after_help().map(ToString::to_string);
    let folded = format!(
        "Every command: --format {formats}, --data-dir DIR, --config FILE. More with --help."
    );
    let short = match &examples {
        Some(examples) => format!("{folded}\n\n{examples}"),
        None => folded,
    };
    let command = command
        .after_help(short)
        .after_long_help(examples.unwrap_or_default());
    command.mut_subcommands(with_folded_options)
}

#[cfg(test)]
mod tests {
    use clap::Command;

    use super::*;

    fn each(command: &Command, visit: &mut impl FnMut(&Command)) {
        visit(command);
        for sub in command
            .get_subcommands()
            .filter(|sub| sub.get_name() != "help")
        {
            each(sub, visit);
        }
    }

    #[test]
    fn the_grammar_is_consistent() {
        grammar().debug_assert();
    }

    /// Lines of the short help that fit on a screen.
    const SCREEN: usize = 50;

    #[test]
    fn short_help_fits_on_a_screen() {
        let mut grammar = grammar();
        grammar.build();
        each(&grammar, &mut |command| {
            let help = command.clone().render_help().to_string();
            let lines = help.lines().count();
            assert!(lines <= SCREEN, "{}: {lines}\n{help}", command.get_name());
            assert!(!help.contains("[possible values: table"), "{help}");
        });
    }

    #[test]
    fn every_command_has_a_description_and_an_example() {
        each(&grammar(), &mut |command| {
            assert!(command.get_about().is_some(), "{}", command.get_name());
            if !command.has_subcommands() || command.get_name() == "bentlane" {
                let help = command
                    .get_after_long_help()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                let help = help.replace("  sudo bentlane", "  bentlane");
                let shows = help.contains("Examples:\n  bentlane");
                assert!(shows, "{}", command.get_name());
            }
        });
    }
}
