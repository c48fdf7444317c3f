use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use crate::address::Address;
use crate::name::Name;
use crate::target::Target;

/// The way it should go: what a check holds its observations against.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Facts {
    /// The route's address.
    pub address: Address,
    /// The name that was asked for: the route's own, or one below its wildcard.
    pub name: Name,
    /// The URL that was asked for.
    pub url: String,
    /// Where the route leads.
    pub target: Target,
    /// Whether the route rests.
    pub paused: bool,
    /// Whether certificates are issued for the name; not beyond what the root can vouch for.
    pub certified: bool,
    /// The resolver that was asked.
    pub resolver: SocketAddr,
    /// The TLS listener that was asked.
    pub listener: SocketAddr,
    /// The addresses on which our listeners are, so that a name may resolve to them.
    pub listening_on: Vec<IpAddr>,
}

/// An outcome, and how long it took to come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Timed<T> {
    /// What was seen.
    pub outcome: T,
    /// From the first octet sent to the outcome.
    pub took: Duration,
}

/// The way it went, hop by hop.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Observations {
    /// The name asked of the resolver.
    pub resolve: Timed<Resolve>,
    /// A connection to the target.
    pub connect: Timed<Connect>,
    /// A TLS handshake with our listener.
    pub handshake: Timed<Handshake>,
    /// A request through our listener; `None` when an earlier hop left it no chance.
    pub answer: Option<Timed<Answer>>,
}

/// What the resolver said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Resolve {
    /// These addresses.
    Addresses(Vec<IpAddr>),
    /// An error, by its name in the registry of response codes.
    Code(String),
    /// Nothing, for as long as we waited.
    Silent,
    /// The question could not be sent, or its answer not be read.
    Failed(String),
}

/// What came of connecting to the target.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Connect {
    /// It accepted at this address.
    Open(SocketAddr),
    /// There is nothing to connect to: we answer ourselves.
    NotNeeded,
    /// It accepted at none of these.
    Closed {
        /// What came back from each.
        attempts: Vec<Attempt>,
        /// Where it does accept: the same port on the other family of loopback.
        elsewhere: Option<SocketAddr>,
    },
    /// The target's host has no address.
    UnknownHost {
        /// The system's reason.
        reason: String,
    },
}

/// One address that did not accept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// The address tried.
    pub address: SocketAddr,
    /// What came back.
    pub refusal: Refusal,
}

/// Why an address did not accept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// A reset: nothing listens there.
    Refused,
    /// Nothing came back in time.
    Silent,
    /// Anything else, in the system's words.
    Other(String),
}

/// What came of the TLS handshake with our listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Handshake {
    /// The certificate is trusted and covers the name.
    Verified {
        /// The TLS version, such as `TLS 1.3`.
        version: String,
        /// The protocol agreed on, such as `h2`.
        protocol: String,
    },
    /// A route for raw TCP has none.
    NotNeeded,
    /// Our listener accepts no connection.
    Unreachable(String),
    /// The certificate does not verify against our root, or is not the name's.
    Untrusted(String),
    /// The handshake broke off.
    Failed(String),
}

/// What came of a request through our listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The app's response.
    Response {
        /// Its status code.
        status: u16,
    },
    /// Our listener for raw TCP accepted: what the app says is its own matter.
    Accepted,
    /// A page of our own, since the request could not be passed on.
    OwnPage {
        /// Its status code.
        status: u16,
        /// The slug of the finding it shows.
        finding: String,
    },
    /// No response, for as long as we waited.
    Silent,
    /// The exchange broke off.
    Failed(String),
}

impl fmt::Display for Refusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused => f.write_str("connection refused"),
            Self::Silent => f.write_str("no answer"),
            Self::Other(reason) => f.write_str(reason),
        }
    }
}

impl fmt::Display for Attempt {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.address, self.refusal)
    }
}
