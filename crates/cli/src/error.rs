use std::path::PathBuf;
use std::process::ExitCode;

use bentlane_api_types::Problem;
use bentlane_ca::AuthorityError;
use bentlane_service::{ConfigError, ServiceError};
use bentlane_store::DataDirError;
use bentlane_system::{FileError, SystemError};

/// How a command that worked came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Answer {
    /// Done, or yes.
    Yes,
    /// A check failed.
    No,
}

impl Answer {
    pub(crate) fn exit_code(self) -> ExitCode {
        match self {
            Self::Yes => ExitCode::SUCCESS,
            Self::No => ExitCode::from(1),
        }
    }
}

/// Why a command did not work.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CliError {
    /// No service runs on this data folder.
    #[error(
        "no service runs on {data_dir}: start one with `bentlane serve`, or name its folder with --data-dir"
    )]
    NotRunning { data_dir: String },
    /// There is no socket, and cannot be one.
    #[error(
        "no service can be reached on {data_dir}: the disk is read-only, so there is no socket. See `findmnt --target {data_dir}`; a service that runs there serves what it did last"
    )]
    ReadOnly { data_dir: String },
    /// A file that would be written over.
    #[error("{} is there already and is left alone: name another file, or remove it first", .0.display())]
    FileThere(PathBuf),
    /// The service was to start again, and did not.
    #[error(
        "the service has not started again (pid {pid}): see its log, or start it with `bentlane serve`"
    )]
    NoRestart { pid: u32 },
    /// The service is gone, or refuses to answer.
    #[error(
        "the service does not answer at {socket}: see whether it still runs, or start it with `bentlane serve`"
    )]
    Unreachable {
        socket: String,
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The service was started and did not come up.
    #[error("the service did not start: run `bentlane serve` to see why")]
    NotStarted,
    /// The process that listens is not the service of the folder's owner.
    #[error(
        "{socket} belongs to the user {owner}, and a process of the user {found} listens there: nothing was sent to it"
    )]
    Stranger {
        socket: String,
        owner: u32,
        found: u32,
    },
    /// The data folder of another user.
    #[error("{path} belongs to the user {owner}: run this as that user, or as root")]
    Foreign { path: String, owner: u32 },
    /// The service said no.
    #[error("{}", .0.detail)]
    Refused(Problem),
    /// The answer to the call was lost, and it turned out that the change was made.
    #[error(
        "the change was made (revision {revision}), although the database went away while it was saved"
    )]
    MadeBefore { revision: u64 },
    /// The service answered what this client does not understand.
    #[error("the service's answer is not understood; are service and client of one version?")]
    Answer(#[source] serde_json::Error),
    /// A setting.
    #[error(transparent)]
    Config(#[from] ConfigError),
    /// The data folder.
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    /// The service did not start, or ended with an error.
    #[error(transparent)]
    Service(#[from] ServiceError),
    /// Output could not be written, or a file not be made.
    #[error("cannot {verb}")]
    Io {
        verb: String,
        #[source]
        source: std::io::Error,
    },
    /// The system.
    #[error(transparent)]
    System(#[from] SystemError),
    /// A file in a folder that is not ours.
    #[error(transparent)]
    File(#[from] FileError),
    /// A key or a bundle could not be made.
    #[error("no certificate was made")]
    Authority {
        #[source]
        source: AuthorityError,
    },
    /// There is no terminal to ask on.
    #[error(
        "there is no terminal to ask on: add --yes to agree (where there is --dry-run, that shows what would be done)"
    )]
    NotAsked,
    /// A value on the command line.
    #[error("{field}: {reason}")]
    Value { field: &'static str, reason: String },
    /// Lines of a file, each with what is wrong in it.
    #[error("nothing was changed, since not every line is right:\n  {}", .0.join("\n  "))]
    Lines(Vec<String>),
    /// There is no passphrase.
    #[error(
        "a passphrase is needed, and there is no terminal to ask on: name a file with --passphrase-file, or set BENTLANE_PASSPHRASE"
    )]
    NoPassphrase,
    /// There is no place for the data.
    #[error("HOME is not set: name a folder with --data-dir")]
    NoHome,
}

impl CliError {
    pub(crate) fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self {
            Self::MadeBefore { .. } => 0,
            Self::NotRunning { .. }
            | Self::ReadOnly { .. }
            | Self::NoRestart { .. }
            | Self::NotStarted
            | Self::Unreachable { .. }
            | Self::Stranger { .. } => 3,
            Self::Config(_)
            | Self::NoHome
            | Self::NotAsked
            | Self::NoPassphrase
            | Self::Value { .. }
            | Self::Lines(_) => 2,
            Self::Refused(problem) if problem.status == 422 => 2,
            Self::Refused(_)
            | Self::Answer(_)
            | Self::DataDir(_)
            | Self::Service(_)
            | Self::System(_)
            | Self::File(_)
            | Self::FileThere(_)
            | Self::Foreign { .. }
            | Self::Authority { .. }
            | Self::Io { .. } => 1,
        })
    }
}
