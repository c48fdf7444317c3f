//! End-to-end tests: the real binary through its commands, its API and its listeners, with real
//! clients. Run `cargo build --workspace` first, as `scripts/test` does.
#![allow(
    clippy::unwrap_used,
    reason = "a test that panics has failed, as it should"
)]

mod api;
mod apps;
mod attacks;
mod authority;
mod backup;
mod bad_input;
mod certificates;
mod changes;
mod checks;
mod console;
mod container_labels;
mod containers;
mod database;
mod dns;
mod endless;
mod findings;
mod folders;
mod forwarding;
mod frameworks;
mod healthy;
mod kills;
mod lifecycle;
mod lookups;
mod manners;
mod namespace;
mod port_commands;
mod ports;
mod projects;
mod protocols;
mod proxy;
mod raw_tcp;
mod records;
mod restart;
mod routes;
mod servers;
mod setup;
mod system;
mod targets;
mod tasks;
mod traffic;
mod trust;
mod unit;
mod upgrade;
mod vite;
