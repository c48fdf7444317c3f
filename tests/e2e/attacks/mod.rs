//! Attacks by another user, a page, a neighbouring port, a link, a raw socket: each is carried out,
//! and has to fail. `docs/security.md` lists them.

mod authority;
mod console;
mod database;
mod files;
mod privileges;
mod proxy;
mod resolver;

use std::process::Command;

use bentlane_tests::{Run, run_command};

/// The user who attacks: `nobody`, whose uid is the same everywhere.
pub(crate) const OTHER: u32 = 65534;

/// A command that runs as another user than the service.
pub(crate) fn other_user(program: &str) -> Command {
    assert!(
        rustix::process::geteuid().is_root(),
        "an attack by another user needs root to become that user"
    );
    let mut command = Command::new("setpriv");
    command
        .args([format!("--reuid={OTHER}"), format!("--regid={OTHER}")])
        .args(["--clear-groups", program]);
    command
}

/// Runs a command to its end as another user than the service.
pub(crate) fn as_other_user(program: &str, args: &[&str]) -> Run {
    run_command(other_user(program).args(args))
}
