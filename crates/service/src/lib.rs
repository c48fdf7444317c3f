//! The service: the API, the wiring of its parts, background checks and the console.
//!
//! [`Service::start`] binds every listener, takes up the authority and the last known good
//! configuration, and connects to the database; [`Service::run`] serves until told to stop. What
//! the command line and the console exchange with it is in `bentlane_api_types`.

mod api;

mod attached;
mod board;
mod capacity;
mod config;
mod console;
mod containers;
mod events;
mod exports;
mod history;
mod imports;
mod inherited;
mod machine;
mod priority;
mod queries;
mod schedule;
mod service;
mod sign_in;
mod state;
mod traffic;
mod trust;
mod turns;
mod upstreams;
mod wiring;

pub use config::{
    Checks, ChecksFile, Config, ConfigError, ConfigFile, KeepTraffic, Listen, ListenAt,
    TrafficFile, UpstreamChoice, Upstreams,
};
pub use inherited::Inherited;
pub use service::{Service, ServiceError, bind_error};
