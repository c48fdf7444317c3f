use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

use bentlane_ca::AuthorityError;
use bentlane_probe::{port_holder, port_owner, unit_of};
use bentlane_store::{ClusterError, DataDirError, StoreError};

use crate::users::user_name;

/// Why the service could not start, or ended.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The data folder.
    #[error(transparent)]
    DataDir(#[from] DataDirError),
    /// A listener's address cannot be bound.
    #[error("cannot listen for {purpose} on {address}: {reason}; {advice}")]
    Bind {
        /// What the listener is for.
        purpose: &'static str,
        /// The address.
        address: SocketAddr,
        /// Why, and who has the port.
        reason: String,
        /// The next step.
        advice: String,
    },
    /// The authority's files.
    #[error("the authority in the data folder cannot be used")]
    Authority(#[from] AuthorityError),
    /// Only one of the authority's two files exists.
    #[error(
        "{found} exists but {missing} does not: restore it from a copy, or move {found} away for a new authority, which then has to be trusted again"
    )]
    HalfAnAuthority {
        /// The file that exists.
        found: String,
        /// The file that is missing.
        missing: String,
    },
    /// The private database server.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The connection to the given database would not be safe.
    #[error("cannot use the database of --database-url")]
    DatabaseUrl {
        /// Why, and what to write instead.
        source: StoreError,
    },
    /// The database, at the first start, when there is no last known good configuration.
    #[error("cannot use the database at {place}")]
    Store {
        /// Where the database is, without its password.
        place: String,
        /// Why.
        source: StoreError,
    },
    /// A task that everything depends on ended.
    #[error("{task} ended: {reason}; start the service again, and report this if it comes back")]
    Task {
        /// The task's name.
        task: Arc<str>,
        /// Why it ended.
        reason: String,
    },
    /// The database is not the one that the configuration in force came from.
    #[error(
        "it is not the one that was in use ({reason}): run `bentlane restore --from last-known-good` to store again what is in force, `bentlane restore FILE` for a backup, or `--from database` to go by what it has"
    )]
    OtherDatabase {
        /// What is different.
        reason: String,
    },
    /// A system call.
    #[error("cannot {verb}")]
    Io {
        /// What was tried.
        verb: &'static str,
        /// The system's reason.
        source: io::Error,
    },
}

pub(crate) fn io_error(verb: &'static str) -> impl FnOnce(io::Error) -> ServiceError {
    move |source| ServiceError::Io { verb, source }
}

/// Why an address cannot be bound, who has it, and the next step.
#[must_use]
pub fn bind_error(
    purpose: &'static str,
    flag: &str,
    address: SocketAddr,
    source: &io::Error,
) -> ServiceError {
    let (reason, advice) = match source.kind() {
        io::ErrorKind::AddrInUse => {
            let advice = format!(
                "stop it, or choose another port with {flag} PORT (--high-ports chooses four that \
                 are mostly free)"
            );
            (format!("{} has the port", holder_name(address)), advice)
        }
        // The missing right is reported only when the port is free.
        io::ErrorKind::PermissionDenied if port_owner(address).is_some() => (
            format!("{} has the port", holder_name(address)),
            format!("start with --high-ports, or choose another port with {flag} PORT"),
        ),
        io::ErrorKind::PermissionDenied => (
            "ports below 1024 need root or the capability CAP_NET_BIND_SERVICE".to_owned(),
            "start with --high-ports to do without".to_owned(),
        ),
        _ => (
            source.to_string(),
            format!("choose another place with {flag} ADDRESS:PORT"),
        ),
    };
    ServiceError::Bind {
        purpose,
        address,
        reason,
        advice,
    }
}

/// The process that has an address, or only its user where that is another one's.
fn holder_name(address: SocketAddr) -> String {
    let own = rustix::process::geteuid().as_raw();
    let owner = port_owner(address);
    let user = owner.map(|uid| user_name(Some(uid)));
    let holder = port_holder(address).map(|holder| match unit_of(holder.pid) {
        Some(unit) => format!("{holder} of the unit {unit}"),
        None => holder.to_string(),
    });
    match (holder, user) {
        (Some(holder), Some(user)) if owner != Some(own) => format!("{holder}, of {user},"),
        (Some(holder), _) => holder,
        (None, Some(user)) => format!("a process of {user}"),
        (None, None) => "another program".to_owned(),
    }
}
