use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use url::Url;

use super::app::AppStatus;
use super::attempt::Attempt;
use super::finding::Finding;
use super::hop::Hop;
use super::kind::FindingKind;
use super::machine::{Holder, Machine, NameserverResult, WrittenFile};
use super::page::Page;
use super::trial::Trials;
use crate::advice::Advice;
use bentlane_model::ContainerPlace;
use bentlane_model::Name;
use bentlane_model::Plain;
use bentlane_model::Snapshot;
use bentlane_model::Target;
use bentlane_model::{Route, Routed, is_own};

/// The way it should go: what a check holds its observations against.
#[derive(Clone, Debug)]
pub struct Facts {
    /// The route.
    pub route: Route,
    /// The name that was asked for: the route's own, or one below its wildcard.
    pub name: Name,
    /// The URL that was asked for.
    pub url: String,
    /// The one hop to look at; `None` for the whole way.
    pub only: Option<Hop>,
    /// Whether certificates are issued for the name; not beyond what the root can vouch for.
    pub certified: bool,
    /// What is questionable about the name.
    pub advice: Vec<Advice>,
    /// The file of the project that the route came from, when it is not there any more.
    pub project_missing: Option<PathBuf>,
    /// Who had the target's port when the route was last proved.
    pub before: Option<Holder>,
    /// The title of the page when the route was last proved.
    pub before_title: Option<String>,
    /// The app that the route leads to, when it leads to one.
    pub app: Option<AppStatus>,
    /// The imported certificate for the name.
    pub pair: Option<PairFacts>,
    /// What clients of the route, for raw TCP, have begun with.
    pub clients: RawClients,
    /// Why the route's access log cannot be written, when it has one and that is so.
    pub log_fault: Option<String>,
    /// Our resolver.
    pub resolver: SocketAddr,
    /// What listens in our place, when that is left to another program.
    pub left_to: Option<Target>,
    /// The TLS listener, or that of the route's own address.
    pub listener: SocketAddr,
    /// The port of the TLS listeners.
    pub usual_port: u16,
    /// The port of the plain HTTP listener.
    pub http_port: u16,
    /// Whether to look further than the page itself: at what it asks, and at the app without us.
    pub deep: bool,
    /// How long the check waits for the first byte of a response.
    pub patience: Duration,
    /// How long the proxy does.
    pub first_byte: Duration,
    /// The addresses on which our listeners are, so that a name may resolve to them.
    pub listening_on: Vec<IpAddr>,
    /// What holds for the machine.
    pub machine: Arc<Machine>,
    /// All routes and zones.
    pub snapshot: Arc<Snapshot>,
    /// When the check is made.
    pub now: OffsetDateTime,
}

/// What clients of a route for raw TCP have begun with since it was last changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RawClients {
    /// With a request of HTTP, all of them.
    pub speak_http: bool,
    /// With the request for TLS that PostgreSQL clients send before a handshake.
    pub ask_for_tls: bool,
}

impl Facts {
    /// Where we listen for a URL of ours, given where we listen by default.
    #[must_use]
    pub fn listener_for(&self, url: &Url) -> SocketAddr {
        let name = url.host_str().unwrap_or_default();
        let port = url.port_or_known_default().unwrap_or(self.usual_port);
        let at = self.snapshot.addresses_of(name, &self.listening_on);
        match at.first().filter(|ip| is_own(**ip)) {
            Some(own) => (*own, port).into(),
            None => (self.listener.ip(), port).into(),
        }
    }

    /// The port for clients of the route over TLS: its own, or that of the TLS listeners.
    #[must_use]
    pub fn https_port(&self) -> u16 {
        self.route.https_port(self.usual_port)
    }

    /// What the check proves: where the route leads, or what listens in our place.
    #[must_use]
    pub fn server(&self) -> &Target {
        let left = self.left_to.as_ref();
        left.unwrap_or_else(|| self.route.server())
    }

    /// The route that a URL over TLS leads to.
    #[must_use]
    pub fn routed(&self, url: &Url) -> Option<Routed<'_>> {
        let (name, port) = (url.domain()?, url.port_or_known_default()?);
        let own = self.snapshot.route_on_port(name, port, url.path());
        own.or_else(|| {
            let is_usual = port == self.usual_port;
            is_usual.then(|| self.snapshot.route_for(name, url.path()))?
        })
    }

    /// Where a check follows a redirect to: a URL that leads to a route through our own listener.
    /// Where plain HTTP is redirected to HTTPS, that is where it leads.
    #[must_use]
    pub fn ours(&self, url: &Url) -> Option<Url> {
        let name = url.domain()?;
        let port = url.port_or_known_default()?;
        let mut url = url.clone();
        if url.scheme() == "https" {
            return self.routed(&url).is_some().then_some(url);
        }
        let routed = self.snapshot.route_for(name, url.path())?;
        // On the port for HTTPS, plain HTTP is always redirected.
        let redirects = || {
            let plain = self.snapshot.plain_for(name, Some(routed.route));
            port == self.http_port && plain == Plain::Redirect
        };
        if port != self.usual_port && !redirects() {
            return None;
        }
        url.set_scheme("https").ok()?;
        url.set_port(Some(self.usual_port)).ok()?;
        Some(url)
    }

    /// The route's address, as commands take it.
    #[must_use]
    pub fn address(&self) -> String {
        self.route.address.to_string()
    }
}

/// An imported certificate for the name, as far as a check is concerned.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PairFacts {
    /// Its first name, which commands use for it.
    pub name: String,
    /// All its names.
    pub names: Vec<String>,
    /// From when it is valid.
    pub not_before: OffsetDateTime,
    /// Until when.
    pub not_after: OffsetDateTime,
    /// Whether the route insists on it.
    pub pinned: bool,
    /// The file that it came from.
    pub file: String,
    /// Whether it is shown; one that could not be used when the service started is not.
    pub shown: bool,
    /// What is in its files now that cannot be used, and why.
    pub fault: Option<(FindingKind, String)>,
}

/// An outcome, and how long it took to come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Timed<T> {
    /// What was observed.
    pub outcome: T,
    /// From the first byte sent to the outcome.
    pub took: Duration,
}

/// The way it went, hop by hop.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Observations {
    /// The name asked of our resolver over UDP.
    pub resolve: Timed<Resolve>,
    /// The same over TCP, when it was asked.
    pub resolve_over_tcp: Option<Timed<Resolve>>,
    /// The system's own look-up; `None` when it has no reason to come to us.
    pub system: Option<Timed<SystemLookup>>,
    /// What the system's name servers say, in their order; asked when the system is at odds with us.
    pub nameservers: Vec<NameserverResult>,
    /// A connection to the target.
    pub connect: Timed<Connect>,
    /// Of several containers, those that accept no connection.
    pub replicas_down: Vec<(String, Vec<Attempt>)>,
    /// Of several containers, what those that accept one answer to the URL of the last page.
    pub replica_answers: Vec<(String, Direct)>,
    /// Of a container with several ports, those on which it speaks HTTP.
    pub http_ports: Vec<u16>,
    /// Who has the target's port.
    pub holder: Option<Holder>,
    /// Files that it reads when it starts, written since then.
    pub written_since_start: Vec<WrittenFile>,
    /// Files in the target's folder that need an interpreter.
    pub sources: Vec<String>,
    /// Where the app seems to have moved to.
    pub moved_to: Option<(SocketAddr, Holder)>,
    /// Another program on our own listener's port.
    pub listener_holder: Option<Holder>,
    /// A TLS handshake with our listener.
    pub handshake: Timed<Handshake>,
    /// What certificate the target shows, when the proxy did not accept it.
    pub target_leaf: Option<TargetLeaf>,
    /// A request through our listener; `None` when an earlier hop left it no chance.
    pub answer: Option<Timed<Answer>>,
    /// What the target itself says to the URL of the last page, when that fails or the check is deep.
    pub trials: Trials,
    /// A listener of this machine that a redirect leads to, past the route: whether it accepts.
    pub redirected_to_open: Option<bool>,
    /// URLs that the page's external scripts name, when they were read.
    pub named_by_scripts: BTreeSet<String>,
    /// The second answer through our listener, after a slow first.
    pub again: Option<Duration>,
    /// WebSocket requests, by path.
    pub upgrades: Vec<UpgradeSeen>,
    /// Event streams, by path.
    pub events: Vec<EventsSeen>,
    /// Preflights to other routes.
    pub preflights: Vec<PreflightSeen>,
}

impl Observations {
    /// The first three hops, with nothing seen beyond.
    #[must_use]
    pub fn new(
        resolve: Timed<Resolve>,
        connect: Timed<Connect>,
        handshake: Timed<Handshake>,
    ) -> Self {
        Self {
            resolve,
            resolve_over_tcp: None,
            system: None,
            nameservers: Vec::new(),
            connect,
            replicas_down: Vec::new(),
            replica_answers: Vec::new(),
            http_ports: Vec::new(),
            holder: None,
            written_since_start: Vec::new(),
            sources: Vec::new(),
            moved_to: None,
            listener_holder: None,
            handshake,
            target_leaf: None,
            answer: None,
            trials: Trials::default(),
            redirected_to_open: None,
            named_by_scripts: BTreeSet::new(),
            again: None,
            upgrades: Vec::new(),
            events: Vec::new(),
            preflights: Vec::new(),
        }
    }
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

/// What the system's own lookup gave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SystemLookup {
    /// These addresses.
    Addresses(Vec<IpAddr>),
    /// No address, in the system's words.
    NotFound(String),
    /// Nothing, for as long as we waited.
    Silent,
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
    /// The container cannot be connected to.
    Container(ContainerPlace),
    /// The app cannot be connected to.
    App(Box<AppStatus>),
    /// The target's host has no address.
    UnknownHost {
        /// The system's reason.
        reason: String,
    },
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
    Untrusted {
        /// What is wrong with it.
        fault: CertificateFault,
        /// The same in the TLS engine's words.
        reason: String,
    },
    /// The handshake broke off.
    Failed(String),
}

/// What is wrong with a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CertificateFault {
    /// It has expired.
    Expired,
    /// Its time has not begun.
    Early,
    /// It is for other names.
    OtherName,
    /// It leads to no root that is trusted, or anything else.
    Untrusted,
}

/// The certificate that a target shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TargetLeaf {
    /// Its names.
    pub names: Vec<String>,
    /// From when it is valid.
    pub not_before: OffsetDateTime,
    /// Until when.
    pub not_after: OffsetDateTime,
    /// Whether it is for the name that it is verified for.
    pub covers: bool,
    /// That name.
    pub wanted: String,
}

/// What came of a request through our listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// The app's responses.
    Visit(Box<Visit>),
    /// Our listener for raw TCP accepted: what the app says is its own matter.
    Accepted,
    /// An error page of ours, since the request could not be passed on.
    OwnPage {
        /// Its status code.
        status: u16,
        /// The finding that it shows.
        finding: Box<Finding>,
    },
    /// No response, for as long as we waited.
    Silent,
    /// The exchange broke off.
    Failed(String),
}

/// The responses that following redirects led to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Visit {
    /// The first, and those that were followed.
    pub pages: Vec<Page>,
    /// Why it ends with the last.
    pub end: End,
    /// From the request to the first response's head.
    pub first_byte: Duration,
}

impl Visit {
    /// A visit that ends with its first page.
    #[must_use]
    pub fn of(page: Page) -> Self {
        Self {
            pages: vec![page],
            end: End::Answered,
            first_byte: Duration::ZERO,
        }
    }

    /// The first response.
    ///
    /// # Panics
    /// Never: a visit has one.
    #[must_use]
    pub fn first(&self) -> &Page {
        self.pages.first().expect("a visit has a page")
    }

    /// The last response.
    ///
    /// # Panics
    /// Never: a visit has one.
    #[must_use]
    pub fn last(&self) -> &Page {
        self.pages.last().expect("a visit has a page")
    }
}

/// Why no more redirects were followed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    /// The last response is no redirect.
    Answered,
    /// It leads to where a check does not go.
    Leaves(String),
    /// It leads to where the check has been.
    Turns(String),
    /// There were too many.
    TooMany,
}

/// What the target itself answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Direct {
    /// This.
    Page(Box<Page>),
    /// Nothing that can be compared.
    Failed(String),
}

impl Direct {
    /// The answer, if there is one.
    #[must_use]
    pub fn page(&self) -> Option<&Page> {
        match self {
            Self::Page(page) => Some(page),
            Self::Failed(_) => None,
        }
    }
}

/// A WebSocket request through our listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UpgradeSeen {
    /// Where.
    pub path: String,
    /// The status, 101 for a change of protocol; `None` when there was no answer.
    pub status: Option<u16>,
    /// The status when the app is asked with its own origin.
    pub with_own_origin: Option<u16>,
}

/// A request for an event stream through our listener.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EventsSeen {
    /// Where.
    pub path: String,
    /// The status and media type of the answer.
    pub head: Option<(u16, String)>,
    /// How it was compressed, if it was.
    pub encoding: Option<String>,
    /// When bytes came after the head, and how many events had ended by then.
    pub lumps: Vec<(Duration, usize)>,
    /// Whether bytes came at once when the answer was asked for without compression.
    pub flows_uncompressed: bool,
}

/// A preflight to another route, for a page of this one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PreflightSeen {
    /// The URL that the page fetches.
    pub url: String,
    /// The address of the route there.
    pub route: String,
    /// The page's origin.
    pub origin: String,
    /// The status of the answer.
    pub status: Option<u16>,
    /// The origin that it allows.
    pub allows: Option<String>,
}
