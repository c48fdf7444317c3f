//! What the end-to-end tests are made of: a [`World`] with its own service, apps for it to
//! lead to, and a browser.
//!
//! Each world has its own data folder and free ports, so that tests run side by side, and leaves
//! nothing behind when it is dropped, also after a panic.
#![allow(
    clippy::unwrap_used,
    reason = "a test that panics has failed, as it should"
)]
#![allow(
    clippy::missing_panics_doc,
    reason = "every helper panics when its step fails"
)]

mod app;
mod browser;
mod containers;
mod namespace;
mod ports;
mod postgres;
mod process;
mod simulated_engine;
mod upstream;
mod world;

pub use app::{App, AppBody, events, reply};
pub use browser::Browser;
pub use containers::Containers;
pub use namespace::Namespace;
pub use ports::reserve_port;
pub use postgres::Postgres;
pub use process::{
    Background, Run, binary, figure, json, make_certificate, pause, repository, rounds, run,
    run_command, signal, wait_until,
};
pub use simulated_engine::{EngineManner, SimulatedEngine};
pub use upstream::Upstream;
pub use world::{Start, World};
