//! The service: the API, the wiring of its parts, background checks and the console.
//!
//! [`Service::start`] binds every listener, loads the authority and the last known good
//! configuration, and connects to the database; [`Service::run`] serves until told to stop. What
//! the command line and the console exchange with it is in `bentlane_api_types`.

mod access_log;
mod api;
mod apps;
mod background_checks;
mod bridges;
mod capacity;
mod checker;
mod clock;
mod config;
mod configuration;
mod console;
mod containers;
mod database;
mod disk;
mod error;
mod events;
mod exports;
mod history;
mod inherited;
mod kept_console;
mod last_known_good;
mod listening;
mod low_priority;
mod machine;
mod pki;
mod query_log;
mod relaunch;
mod service;
mod sign_in;
mod sockets;
mod storage;
mod system_files;
mod ticker;
mod traffic;
mod upstreams;
mod users;

pub use bentlane_apps::{LAUNCH_COMMAND, become_app, is_secret, plain};
pub use config::{
    Checks, Config, ConfigError, KeepTraffic, Listen, ListenAt, OneOrMore, SERVICE_SETTINGS,
    ServiceSetting, ServiceSettings, UpstreamChoice, Upstreams, settings_page,
};
pub use error::{ServiceError, bind_error};
pub use inherited::{HANDOVER_VARIABLE, Inherited};
pub use relaunch::{Handover, Relaunch};
pub use service::Service;
pub use sockets::taken_port;
