mod unprivileged;

use std::path::{Path, PathBuf};

use bentlane_dns::{RebindLevel, RebindProtection};
use bentlane_model::Name;
use bentlane_service::{
    Checks, Config, ConfigError, ConfigFile, Inherited, KeepTraffic, Listen, ListenAt, Service,
    UpstreamChoice, Upstreams,
};
use clap::Args;
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use tracing::warn;
use tracing_subscriber::EnvFilter;

use crate::account::Account;
use crate::error::{Answer, CliError};
use crate::output::Output;

/// Where a service that ran as root kept its data.
const FORMER_OF_ROOT: &str = "/var/lib/bentlane";

/// `bentlane serve`
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  bentlane serve                           ports 53, 80 and 443: as root, or with the right to bind them
  bentlane serve --high-ports              ports 17053, 17080 and 17443: as any user
  bentlane serve --https 8443 --dns 127.0.0.1:5300
  bentlane serve --upstream 192.0.2.53 --upstream 192.0.2.54:5353
  bentlane serve --database-url postgres://me@127.0.0.1/lanes
  sudo bentlane serve                      binds the ports as root, and runs as you

The console listens on port 17070. Without --database-url a private PostgreSQL server is started in
the data folder. Names outside the zones are looked up where the system did before. Set
BENTLANE_LOG=debug to read more.")]
pub(crate) struct Serve {
    /// Use ports that every user may bind: DNS 17053, HTTP 17080, HTTPS 17443
    #[arg(long)]
    high_ports: bool,
    /// Address for DNS queries: a port, or ADDR:PORT [default: 53]
    #[arg(long, value_name = "ADDR:PORT")]
    dns: Vec<ListenAt>,
    /// Address for plain HTTP, which is redirected to HTTPS [default: 80]
    #[arg(long, value_name = "ADDR:PORT")]
    http: Vec<ListenAt>,
    /// Address for HTTPS [default: 443]
    #[arg(long, value_name = "ADDR:PORT")]
    https: Vec<ListenAt>,
    /// Address of the console [default: 17070]
    #[arg(long, value_name = "ADDR:PORT")]
    console: Vec<ListenAt>,
    /// The user to run as, when root starts the service [default: the user who called sudo]
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Upstream resolver for names outside the zones: an address, ADDR:PORT, system, or none [default: system]
    #[arg(long, value_name = "RESOLVER")]
    upstream: Vec<UpstreamChoice>,
    /// Reject upstream answers with addresses of this machine (loopback), or of private networks, too (private) [default: off]
    #[arg(long, value_name = "LEVEL")]
    rebind_protection: Option<RebindLevel>,
    /// A name, with all below it, that is exempt from rebind protection
    #[arg(long, value_name = "NAME")]
    rebind_exception: Vec<Name>,
    /// A PostgreSQL database to use; one on another machine needs sslmode=verify-full
    #[arg(
        long,
        value_name = "URL",
        env = "BENTLANE_DATABASE_URL",
        hide_env_values = true
    )]
    database_url: Option<String>,
    /// The socket of the container engine [default: the usual ones]
    #[arg(long, value_name = "SOCKET")]
    engine: Option<PathBuf>,
    /// Seconds after which a proved route is checked again, at the earliest [default: 30]
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u32).range(1..))]
    check_every: Option<u32>,
    /// Days to keep check results [default: 30]
    #[arg(long, value_name = "DAYS")]
    check_days: Option<u32>,
    /// Days to keep recorded requests [default: 7]
    #[arg(long, value_name = "DAYS")]
    traffic_days: Option<u32>,
    /// Number of recorded requests to keep [default: 200000]
    #[arg(long, value_name = "N")]
    traffic_limit: Option<u64>,
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

    /// Binds the ports as root and goes on as `account`; comes back only when that fails.
    pub(crate) fn run_as(
        self,
        account: &Account,
        settings: impl FnOnce() -> Result<ConfigFile, CliError>,
        data_dir: Option<&Path>,
        output: &Output,
    ) -> CliError {
        let bound = || {
            unprivileged::take_groups(account)?;
            let settings = unprivileged::as_user(account, settings)?;
            let named = data_dir.is_some() || settings.data_dir.is_some();
            let config = self.config(PathBuf::new(), settings)?;
            Ok((unprivileged::bind(account, &config.listen)?, named))
        };
        let (sockets, named) = match bound() {
            Ok(bound) => bound,
            Err(error) => return error,
        };
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
        unprivileged::become_user(account, sockets)
    }

    pub(crate) fn run(
        self,
        data_dir: PathBuf,
        settings: ConfigFile,
        output: &Output,
    ) -> Result<Answer, CliError> {
        let filter = EnvFilter::try_from_env("BENTLANE_LOG")
            .unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn,sea_orm_migration=warn"));
        tracing_subscriber::fmt()
            .with_env_filter(filter)
            .with_writer(std::io::stderr)
            .with_ansi(output.words_in_colour())
            .with_target(false)
            .init();
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
        let config = self.config(data_dir, settings)?;
        let inherited = Inherited::take().map_err(|source| CliError::Io {
            verb: "take over the sockets that this was started with".to_owned(),
            source,
        })?;
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .enable_all()
            .build()
            .map_err(|source| CliError::Io {
                verb: "start the runtime".to_owned(),
                source,
            })?;
        runtime.block_on(serve(config, inherited, output))
    }

    /// Flags go before the file, and the file before the defaults.
    fn config(self, data_dir: PathBuf, settings: ConfigFile) -> Result<Config, ConfigError> {
        let base = match self.high_ports || settings.high_ports {
            true => Listen::high(),
            false => Listen::standard(),
        };
        let choose = |flag: Vec<ListenAt>, file: Option<_>, base| match (flag.is_empty(), file) {
            (false, _) => flag,
            (true, Some(file)) => Vec::from(file),
            (true, None) => base,
        };
        let file = settings.listen;
        let upstreams = match self.upstream.is_empty() {
            true => Upstreams::choose(&settings.upstream)?,
            false => Upstreams::choose(&self.upstream)?,
        };
        let exceptions = match self.rebind_exception.is_empty() {
            true => settings.rebind_exceptions,
            false => self.rebind_exception,
        };
        let checks = settings.checks;
        Ok(Config {
            rebinding: RebindProtection {
                level: self.rebind_protection.unwrap_or(settings.rebind_protection),
                exceptions,
            },
            engine: self.engine.or(settings.engine),
            checks: Checks::new(
                self.check_every.or(checks.every_seconds),
                self.check_days.or(checks.keep_days),
            ),
            traffic: KeepTraffic::new(
                self.traffic_days.or(settings.traffic.keep_days),
                self.traffic_limit.or(settings.traffic.limit),
            ),
            upstreams,
            data_dir,
            database_url: self.database_url.or(settings.database_url),
            listen: Listen {
                dns: choose(self.dns, file.dns, base.dns),
                http: choose(self.http, file.http, base.http),
                https: choose(self.https, file.https, base.https),
                console: choose(self.console, file.console, base.console),
            },
        })
    }
}

async fn serve(config: Config, inherited: Inherited, output: &Output) -> Result<Answer, CliError> {
    let shutdown = CancellationToken::new();
    stop_on_signal(&shutdown)?;
    let starting = Service::start(config, inherited, shutdown.clone());
    let service = tokio::select! {
        started = starting => started?,
        () = shutdown.cancelled() => return Ok(Answer::Yes),
    };
    let ready = || output.say("Bent Lane is ready. `bentlane console` opens the console.");
    service.run(ready).await?;
    Ok(Answer::Yes)
}

/// Cancels `shutdown` at SIGINT or SIGTERM.
fn stop_on_signal(shutdown: &CancellationToken) -> Result<(), CliError> {
    for kind in [SignalKind::interrupt(), SignalKind::terminate()] {
        let mut signals = signal(kind).map_err(|source| CliError::Io {
            verb: "listen for signals".to_owned(),
            source,
        })?;
        let shutdown = shutdown.clone();
        tokio::spawn(async move {
            signals.recv().await;
            shutdown.cancel();
        });
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use bentlane_service::ConfigFile;
    use clap::Parser;
    use rstest::rstest;

    use super::*;

    #[derive(Parser)]
    struct Alone {
        #[command(flatten)]
        serve: Serve,
    }

    fn config(flags: &[&str], file: &str) -> Config {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.toml");
        std::fs::write(&path, file).unwrap();
        let settings = ConfigFile::read(&path, true).unwrap();
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
    fn flags_go_before_the_file(
        #[case] flags: &[&str],
        #[case] file: &str,
        #[case] https: ListenAt,
    ) {
        assert_eq!(config(flags, file).listen.https, [https]);
    }
}
