//! From root to an ordinary user: `sudo bentlane serve` binds its ports as root, becomes the user
//! who called sudo, and executes itself with the sockets.

use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::fd::OwnedFd;
use std::path::Path;

use bentlane_service::{Listen, bind_error};
use nix::unistd::{seteuid, setfsuid, setgroups, setresgid, setresuid};
use rustix::thread::{
    CapabilitySet, CapabilitySets, capabilities, clear_ambient_capability_set,
    configure_capability_in_ambient_set, set_capabilities, set_keep_capabilities,
};

use super::execute;
use crate::account::Account;
use crate::error::CliError;

/// Ports below this need root, unless the system is configured otherwise (ip(7)).
const FIRST_FREE_PORT: u16 = 1024;
/// What belongs to root's session, and is not the user's.
const OF_ROOT: [&str; 8] = [
    "XDG_CONFIG_HOME",
    "XDG_DATA_HOME",
    "XDG_RUNTIME_DIR",
    "SUDO_COMMAND",
    "SUDO_USER",
    "SUDO_UID",
    "SUDO_GID",
    "MAIL",
];

fn failed(verb: &str) -> impl FnOnce(io::Error) -> CliError {
    let verb = verb.to_owned();
    move |source| CliError::Io { verb, source }
}

/// Takes the groups of `account`, as root, for good.
pub(super) fn take_groups(account: &Account) -> Result<(), CliError> {
    let become_it = || {
        setgroups(&account.groups())?;
        setresgid(account.gid, account.gid, account.gid)
    };
    let verb = format!("take the groups of {}", account.name);
    become_it().map_err(|errno| failed(&verb)(errno.into()))
}

/// Does `work` as `account`, of which root has the groups already: what it reads there is what the
/// user could read, whatever links say.
pub(super) fn as_user<T>(
    account: &Account,
    work: impl FnOnce() -> Result<T, CliError>,
) -> Result<T, CliError> {
    let verb = format!("become {}", account.name);
    seteuid(account.uid).map_err(|errno| failed(&verb)(errno.into()))?;
    let outcome = work();
    seteuid(nix::unistd::Uid::from_raw(0))
        .map_err(|errno| failed("become root again")(errno.into()))?;
    outcome
}

/// Binds the places of `listen` that take root. The sockets are `account`'s, so that who finds a
/// port in use is named with its process.
pub(super) fn bind(account: &Account, listen: &Listen) -> Result<Vec<OwnedFd>, CliError> {
    setfsuid(account.uid);
    let bound = bind_all(listen);
    setfsuid(nix::unistd::geteuid());
    bound
}

fn bind_all(listen: &Listen) -> Result<Vec<OwnedFd>, CliError> {
    let takes_root = |at: &SocketAddr| (1..FIRST_FREE_PORT).contains(&at.port());
    let mut sockets = Vec::new();
    for (purpose, flag, addresses) in listen.each() {
        for address in addresses.into_iter().filter(takes_root) {
            let refused = |source: io::Error| bind_error(purpose, flag, address, &source);
            if purpose == "DNS" {
                sockets.push(UdpSocket::bind(address).map_err(refused)?.into());
            }
            sockets.push(TcpListener::bind(address).map_err(refused)?.into());
        }
    }
    Ok(sockets)
}

/// Becomes `account`, whose groups were taken before, and executes this program again with `sockets`. Of root's rights it keeps one:
/// to bind ports below 1024, for the loopback addresses that names get later. Comes back only when
/// that fails.
pub(super) fn become_user(account: &Account, sockets: Vec<OwnedFd>) -> CliError {
    let verb = format!("become {}", account.name);
    // Without the one right the service does without ports below 1024 on further addresses.
    let kept = set_keep_capabilities(true).is_ok();
    let uid = account.uid;
    if let Err(errno) = setresuid(uid, uid, uid) {
        return failed(&verb)(errno.into());
    }
    if kept {
        keep_right_to_bind();
    }
    let mut command = execute::command(Path::new(execute::RUNNING), std::env::args_os().skip(1));
    command
        .env("HOME", &account.home)
        .envs([("USER", &account.name), ("LOGNAME", &account.name)]);
    for name in OF_ROOT {
        command.env_remove(name);
    }
    execute::execute(command, sockets)
}

/// Keeps the right to bind ports below 1024 through the execution that follows (capabilities(7)).
pub(super) fn keep_right_to_bind() {
    let bind = CapabilitySet::NET_BIND_SERVICE;
    let sets = CapabilitySets {
        effective: bind,
        permitted: bind,
        inheritable: bind,
    };
    // A container may not have the right at all: the service says so when it needs it.
    let _ =
        set_capabilities(None, sets).and_then(|()| configure_capability_in_ambient_set(bind, true));
}

/// Makes sure that programs that the service starts inherit none of its rights.
pub(super) fn keep_rights_to_ourselves() -> Result<(), CliError> {
    let close = || {
        clear_ambient_capability_set()?;
        let now = capabilities(None)?;
        set_capabilities(
            None,
            CapabilitySets {
                inheritable: CapabilitySet::empty(),
                ..now
            },
        )
    };
    close().map_err(|errno| failed("give up the rights that programs would inherit")(errno.into()))
}
