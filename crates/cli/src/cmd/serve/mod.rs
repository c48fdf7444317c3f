mod execute;
mod flags;
mod log;
mod unprivileged;

use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_service::{
    Config, ConfigError, Handover, Inherited, Listen, Relaunch, Service, ServiceSettings,
    taken_port,
};
use clap::Args;
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use tracing::warn;

use crate::account::Account;
use crate::error::{Answer, CliError};
use crate::output::Output;
use flags::ServeFlags;

/// How long threads may take to end before the process executes itself again.
const LAST_THREADS: Duration = Duration::from_secs(1);
/// Where a service that ran as root kept its data.
const FORMER_OF_ROOT: &str = "/var/lib/bentlane";

/// `bentlane serve`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane serve                           ports 53, 80 and 443: as root, or with the right to bind them
  bentlane serve --high-ports              ports 17053, 17080 and 17443: as any user
  bentlane serve --https 8443 --dns 127.0.0.1:5300
  bentlane serve --upstream 192.0.2.53 --upstream 192.0.2.54:5353
  bentlane serve --wait                    start once another program has left the ports
  bentlane serve --check                   only check config.toml
  bentlane serve --database-url postgres://me@127.0.0.1/lanes
  sudo bentlane serve                      binds the ports as root, and runs as you

The console listens on port 17070. Without --database-url a private PostgreSQL server is started in
the data folder. Names outside the zones are looked up where the system did before. Set
BENTLANE_LOG=debug to read more.")]
pub(crate) struct Serve {
    #[command(flatten)]
    flags: ServeFlags,
    /// The user to run as, when root starts the service [default: the user who called sudo]
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Wait for ports that other programs have, and start once they are free
    #[arg(long)]
    wait: bool,
    /// Check the flags and the settings file, and start nothing
    #[arg(long)]
    check: bool,
}

impl Serve {
    /// The user to become first, when root runs this.
    pub(crate) fn account(&self) -> Result<Option<Account>, CliError> {
        let own = nix::unistd::geteuid();
        let Some(name) = &self.user else {
            return Ok(Account::behind_sudo());
        };
        let unknown = || CliError::Value {
            field: "user",
            reason: format!("there is no user {name} on this machine"),
        };
        let account = Account::named(name).ok_or_else(unknown)?;
        if account.uid == own {
            return Ok(None);
        }
        if own.is_root() {
            return Ok(Some(account));
        }
        Err(CliError::Value {
            field: "user",
            reason: format!("only root can start the service as {name}: use sudo"),
        })
    }

    /// Binds the ports as root and goes on as `account`; comes back when that fails, or when there was only
    /// something to check.
    pub(crate) fn run_as(
        self,
        account: &Account,
        settings: impl FnOnce() -> Result<ServiceSettings, CliError>,
        data_dir: Option<&Path>,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let (waits, only_checks) = (self.wait, self.check);
        unprivileged::take_groups(account)?;
        let settings = unprivileged::as_user(account, settings)?;
        let named = data_dir.is_some() || settings.data_dir.is_some();
        let config = self.config(PathBuf::new(), settings)?;
        if only_checks {
            return Ok(checked(output));
        }
        if waits {
            wait_for_ports(&config.listen, output);
        }
        let sockets = unprivileged::bind(account, &config.listen)?;
        output.say(&format!(
            "running as {} (uid {})",
            account.name, account.uid
        ));
        let own = account.home.join(".local/share/bentlane");
        if !named && Path::new(FORMER_OF_ROOT).join("keys").is_dir() && !own.exists() {
            let (name, own) = (&account.name, own.display());
            output.say(&format!(
                "the data of a service that ran as root is in {FORMER_OF_ROOT}, and is not used; to \
                 go on with it, stop this and run\n  \
                 sudo cp -a {FORMER_OF_ROOT} {own} && sudo chown -R {name}: {own}"
            ));
        }
        Err(unprivileged::become_user(account, sockets))
    }

    pub(crate) fn run(
        self,
        data_dir: PathBuf,
        settings: ServiceSettings,
        output: &Output,
    ) -> Result<Answer, CliError> {
        if self.check {
            self.config(data_dir, settings)?;
            return Ok(checked(output));
        }
        log::start(output.words_in_colour());
        // Started over through /proc/self/exe, it would be called "exe".
        if let Err(error) = rustix::thread::set_name(c"bentlane") {
            warn!("cannot name the process: {error}");
        }
        if nix::unistd::geteuid().is_root() {
            warn!(
                "the service runs as root: start it with `sudo` as the user whose it is, or with \
                 --user NAME"
            );
        } else {
            unprivileged::keep_rights_to_ourselves()?;
        }
        // Sockets that are passed on have their ports already.
        let waits = self.wait && std::env::var_os("LISTEN_FDS").is_none();
        let config = self.config(data_dir, settings)?;
        let failed = |verb: &str| {
            let verb = verb.to_owned();
            move |source| CliError::Io { verb, source }
        };
        let relaunch = Relaunch::of_this_process();
        let relaunch = relaunch.map_err(failed("find the file of this program"))?;
        let inherited = Inherited::take();
        let inherited = inherited.map_err(failed("use the sockets that were passed on"))?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .enable_all()
            .build()
            .map_err(failed("start the runtime"))?;
        if waits {
            wait_for_ports(&config.listen, output);
        }
        let ended = runtime.block_on(serve(config, inherited, relaunch.clone(), output))?;
        let Some(handover) = ended else {
            return Ok(Answer::Yes);
        };
        // The sockets are about to get other numbers, under which no thread may use anything any more.
        runtime.shutdown_timeout(LAST_THREADS);
        Err(execute::relaunch(&relaunch, handover))
    }

    /// Flags take precedence over the file, and the file over the defaults.
    fn config(self, data_dir: PathBuf, settings: ServiceSettings) -> Result<Config, ConfigError> {
        Config::new(data_dir, self.flags.0.or(settings))
    }
}

fn checked(output: &Output) -> Answer {
    output.say("the flags and the settings file are fine");
    Answer::Yes
}

/// Waits until no other program has a port of `listen`, and says which one has.
#[allow(
    clippy::disallowed_methods,
    reason = "nothing else is done before there are ports"
)]
fn wait_for_ports(listen: &Listen, output: &Output) {
    let mut shown = String::new();
    while let Some(taken) = taken_port(listen) {
        let words = taken.to_string();
        if words != shown {
            output.say(&format!("waiting: {words}"));
            shown = words;
        }
        std::thread::sleep(Duration::from_secs(1));
    }
}

async fn serve(
    config: Config,
    inherited: Inherited,
    relaunch: Relaunch,
    output: &Output,
) -> Result<Option<Handover>, CliError> {
    let shutdown = CancellationToken::new();
    let hasten = CancellationToken::new();
    stop_on_signal(&shutdown, &hasten)?;
    let service = Service::start(config, inherited, relaunch, shutdown).await?;
    let ready = || output.say("Bent Lane is ready. `bentlane console` opens the console.");
    Ok(service.run(hasten, ready).await?)
}

/// Cancels `shutdown` at the first SIGINT, SIGTERM, SIGQUIT or SIGHUP (the terminal is closed), and
/// `hasten` at the next one.
fn stop_on_signal(
    shutdown: &CancellationToken,
    hasten: &CancellationToken,
) -> Result<(), CliError> {
    let kinds = [
        SignalKind::interrupt(),
        SignalKind::terminate(),
        SignalKind::quit(),
        SignalKind::hangup(),
    ];
    for kind in kinds {
        let mut signals = signal(kind).map_err(|source| CliError::Io {
            verb: "listen for signals".to_owned(),
            source,
        })?;
        let (shutdown, hasten) = (shutdown.clone(), hasten.clone());
        tokio::spawn(async move {
            while signals.recv().await.is_some() {
                match shutdown.is_cancelled() {
                    true => hasten.cancel(),
                    false => shutdown.cancel(),
                }
            }
        });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use bentlane_service::{ListenAt, ServiceSettings};
    use clap::Parser;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&["--https", "0"], "not an address to listen on")]
    #[case(&["--https", "0.0.0.0:443"], "not a loopback address")]
    #[case(&["--check-every", "0"], "--check-every")]
    #[case(&["--check-days", "5000000000"], "--check-days")]
    #[case(&["--rebind-protection", "some"], "--rebind-protection")]
    #[case(&["--upstream", "here"], "not an upstream resolver")]
    fn wrong_values_are_named(#[case] flags: &[&str], #[case] reason: &str) {
        let flags = ["serve"].iter().chain(flags);
        let error = Alone::try_parse_from(flags).err().unwrap().to_string();
        assert!(error.contains(reason), "{error}");
    }

    #[derive(Parser)]
    struct Alone {
        #[command(flatten)]
        serve: Serve,
    }

    fn config(flags: &[&str], file: &str) -> Config {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.toml");
        std::fs::write(&path, file).unwrap();
        let settings = ServiceSettings::read(&path, true).unwrap();
        let flags = ["serve"].iter().chain(flags);
        Alone::parse_from(flags)
            .serve
            .config(PathBuf::from("/data"), settings)
            .unwrap()
    }

    #[rstest]
    #[case(&[], "", ListenAt::Port(443))]
    #[case(&["--high-ports"], "", ListenAt::Port(17443))]
    #[case(&[], "high_ports = true", ListenAt::Port(17443))]
    #[case(&[], "[listen]\nhttps = 8443", ListenAt::Port(8443))]
    #[case(&["--https", "9443"], "[listen]\nhttps = 8443", ListenAt::Port(9443))]
    fn flags_take_precedence_over_the_file(
        #[case] flags: &[&str],
        #[case] file: &str,
        #[case] https: ListenAt,
    ) {
        assert_eq!(config(flags, file).listen.https, [https]);
    }
}
