//! The TLS and HTTP listeners: what comes in under a route's name goes out to its target.
//!
//! [`Proxy`] owns what all connections share: the current routes with a pool of idle connections
//! for each target, and the certificates. [`Proxy::start`] runs the listeners. The way of a request
//! is in `forward`; what it may not carry across is in `headers`; what a person sees when it cannot
//! pass is in `page`.
//!
//! What the proxy leaves to others: which routes there are (it is given snapshots), and which
//! certificates may be made (it is given an issuer).

mod activity;
mod apps;
mod certificates;
mod error_page;
mod failure;
mod file_body;
mod files;
mod forward;
mod frames;
mod head_check;
mod headers;
mod heard;
mod listener;
mod outgoing;
mod pool;
mod postgres;
mod raw;
mod record;
mod redirect;
mod replicas;
mod request_body;
mod response_body;
mod route_rules;
mod routing_table;
mod server;
mod shared;
mod site;
mod stopping;
mod target_connection;
mod target_tls;
mod upgrade;
mod uri;
mod workers;

pub use apps::{AppHost, AppNews, Coming};
pub use certificates::{Certificates, Shown};
pub use listener::{BindError, Listeners};
pub use record::{RecordedExchange, Recorder};
pub use routing_table::Limits;
pub use server::{Proxy, Replaced, Running};
pub use site::{OwnSite, SiteAnswer, SiteBody, SiteRequest, SocketPair, site_body};
pub use target_tls::TargetRoots;
