use std::net::{IpAddr, SocketAddr};

use aws_lc_rs::digest::{SHA256, digest};
use base64::Engine;
use base64::prelude::BASE64_STANDARD as BASE64;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use crate::hosts::HostsEntry;
use bentlane_model::Name;

/// What holds for this machine as a whole, whatever the route.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Machine {
    /// Whether the system was attached so that it asks us for names.
    pub names_attached: bool,
    /// Whether our root was put into trust stores.
    pub trust_attached: bool,
    /// Whether what the system asks can be us: a name server of its is ours, or leads to us for our
    /// zones.
    pub asks_us: bool,
    /// Whether the exact names of routes are in the hosts file by us.
    pub in_hosts: bool,
    /// The system's name servers, in the order in which they are asked.
    pub nameservers: Vec<SocketAddr>,
    /// Our own resolver's addresses.
    pub ours: Vec<SocketAddr>,
    /// Entries of the hosts file for names in our zones, except our own block.
    pub hosts: Vec<HostsEntry>,
    /// Who has the port of a name server on this machine that is not ours.
    pub dns_holder: Option<(SocketAddr, Holder)>,
    /// Browsers that use another DNS server than the system.
    pub browsers: Vec<BrowserDns>,
    /// Hosts that browsers open over HTTPS alone.
    pub forced_https: Vec<ForcedHttps>,
    /// What trust stores say of our root.
    pub stores: Vec<StoreSeen>,
    /// How the clock is known to be off, in a sentence.
    pub clock_off: Option<String>,
    /// That the clock was set lately, in a sentence.
    pub clock_set: Option<String>,
}

impl Machine {
    /// The addresses that the hosts file gives `name`, with the entries.
    pub fn hosts_of<'a>(&'a self, name: &'a Name) -> impl Iterator<Item = &'a HostsEntry> {
        self.hosts.iter().filter(move |entry| entry.name == *name)
    }

    /// Whether the system has a reason to come to us for the name of a route.
    #[must_use]
    pub fn may_ask_for(&self, name: &Name, is_exact: bool) -> bool {
        self.asks_us || (self.in_hosts && is_exact) || self.hosts_of(name).next().is_some()
    }
}

/// A process that has a port.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Holder {
    /// Its id.
    pub pid: u32,
    /// Its program's name.
    pub command: String,
    /// Its command line, if it is known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub line: String,
    /// Its working folder, if it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// When it was started, to the second, if it is known.
    #[serde(
        default,
        with = "time::serde::rfc3339::option",
        skip_serializing_if = "Option::is_none"
    )]
    pub started: Option<OffsetDateTime>,
}

/// A file, and when it was last written.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct WrittenFile {
    /// Its name, below the folder of which is spoken, or its whole path.
    pub name: String,
    /// When.
    pub written: OffsetDateTime,
}

impl Holder {
    /// Whether `other` is the very same process: its number, and its start, which is known to the second and
    /// moves a little with the clock.
    #[must_use]
    pub fn is_same_process(&self, other: &Self) -> bool {
        const INEXACT: time::Duration = time::Duration::seconds(2);
        let started = match (self.started, other.started) {
            (Some(own), Some(other)) => (own - other).abs() <= INEXACT,
            (own, other) => own == other,
        };
        self.pid == other.pid && started
    }

    /// Whether `other` is the same app, perhaps restarted: it works in the same folder, or what
    /// it was started with is the same where the folder is unknown.
    #[must_use]
    pub fn is_same_app(&self, other: &Self) -> bool {
        match (&self.folder, &other.folder) {
            (Some(own), Some(folder)) => own == folder,
            _ => self.command == other.command && self.line == other.line,
        }
    }
}

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} (process {}", self.command, self.pid)?;
        match &self.folder {
            Some(folder) => write!(f, " in {folder})"),
            None => f.write_str(")"),
        }
    }
}

/// A browser that uses another DNS server than the system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BrowserDns {
    /// The browser, and where its setting stands.
    pub browser: String,
    /// The file with the setting.
    pub file: String,
    /// The server that it asks, as far as it is written there.
    pub server: Option<String>,
    /// The domains that it asks the system for.
    pub except: Vec<String>,
    /// Whether an administrator has set it.
    pub by_policy: bool,
}

/// A host that a browser opens over HTTPS alone, since a response of its said so (RFC 6797).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ForcedHttps {
    /// The browser.
    pub browser: String,
    /// The file in which it remembers that.
    pub file: String,
    /// The host.
    pub host: ForcedHost,
    /// Whether that holds for every name below it, too.
    pub subdomains: bool,
    /// Until when.
    pub until: OffsetDateTime,
}

/// A host as a browser remembers it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ForcedHost {
    /// By its name.
    Name(String),
    /// By the hash of its name, as Chromium does: SHA-256 of its form in DNS messages (RFC 1035 §3.1), in
    /// Base64.
    Hash(String),
}

impl ForcedHost {
    /// Whether it is the host of this name.
    #[must_use]
    pub fn is(&self, name: &str) -> bool {
        match self {
            Self::Name(own) => own == name,
            Self::Hash(own) => {
                let mut form = Vec::with_capacity(name.len() + 2);
                for label in name.split('.') {
                    form.extend(u8::try_from(label.len()));
                    form.extend(label.as_bytes());
                }
                form.push(0);
                *own == BASE64.encode(digest(&SHA256, &form))
            }
        }
    }
}

/// What a trust store says of our root.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoreSeen {
    /// The store, in words.
    pub store: String,
    /// What it says.
    pub trust: StoreTrust,
    /// The names, and those below them, that it accepts from us; `None` for all that our root can
    /// vouch for.
    pub reach: Option<Vec<Name>>,
}

impl StoreSeen {
    /// What it says of certificates for `name`.
    #[must_use]
    pub fn trust_for(&self, name: &Name) -> StoreTrust {
        let within = |names: &Vec<Name>| names.iter().any(|suffix| name.is_within(suffix));
        match (self.trust, &self.reach) {
            (StoreTrust::Trusted, Some(reach)) if !within(reach) => StoreTrust::Older,
            (trust, _) => trust,
        }
    }
}

/// Whether a store trusts our root.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StoreTrust {
    /// It does.
    Trusted,
    /// It holds another root of ours, and refuses what we show.
    Older,
    /// It does not.
    Distrusted,
    /// It is unknown.
    Unknown,
}

/// What one of the system's name servers says of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameserverResult {
    /// The server.
    pub server: SocketAddr,
    /// What it says.
    pub said: LookupResult,
}

/// An answer as a stub resolver takes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LookupResult {
    /// These addresses.
    Addresses(Vec<IpAddr>),
    /// The name has none, which is final.
    Negative {
        /// The response code, by its name in the registry.
        code: String,
        /// The zone that says so, from the SOA record beside (RFC 2308 §3).
        zone: Option<String>,
        /// For how long it may be kept, in seconds.
        ttl: Option<u32>,
    },
    /// Nothing that ends the search: no answer, or a refusal.
    Nothing,
}
