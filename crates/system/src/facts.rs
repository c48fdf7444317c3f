use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use bentlane_model::Name;

/// What has to be known of the service to attach to it.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// The service's data folder: of several services on a machine one is attached to.
    pub owner: PathBuf,
    /// Where the resolver listens.
    pub dns: Vec<SocketAddr>,
    /// The names of exact routes, with what they resolve to.
    pub names: BTreeMap<Name, Vec<IpAddr>>,
    /// The zones.
    pub zones: Vec<Name>,
    /// The program of the service, of which root runs a copy.
    pub program: PathBuf,
}
