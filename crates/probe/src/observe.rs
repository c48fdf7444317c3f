use std::collections::HashMap;
use std::future::Future;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::num::NonZeroU16;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use bentlane_ca::OneCertificate;
use bentlane_checks::{
    Answer, Connect, Direct, End, Facts, FindingKind, Handshake, Holder, Hop, Observations,
    Resolve, SystemLookup, Timed, TraceSeen, Trial, Trials, Visit,
};
use bentlane_model::{ContainerPlace, ContainerTarget, Pattern, Route, Target, is_own};
use futures_util::future::join_all;
use rustls::client::Resumption;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::CertificateDer;
use rustls::{ClientConfig, ConfigBuilder, RootCertStore, WantsVerifier};
use tokio::task::{JoinSet, spawn_blocking};
use url::Url;

use crate::handshake::Stream;
use crate::holder::{ListenerIndex, stands_for};
use crate::lookup::LookupTransport;
use crate::ports::{PortSeen, Spoken, ports_of, spoken};
use crate::target::TargetClient;
use crate::visit::ListenerClient;
use crate::{connect, files, handshake, lookup};

/// A first answer that takes longer is asked for again.
const SLOW: Duration = Duration::from_secs(3);
/// How far from its own port an app is looked for that has moved.
const MOVED_BY: u16 = 10;

/// The name of our program.
const SERVICE: &str = "bentlane";
/// Ports of a container that are asked whether they speak HTTP.
const MOST_PORTS: usize = 16;

/// How long each hop of a check may take.
#[derive(Clone, Debug)]
pub struct ProbeLimits {
    /// For an answer of our resolver, a connection, or a handshake. Default 2 s.
    pub hop: Duration,
}

impl Default for ProbeLimits {
    fn default() -> Self {
        Self {
            hop: Duration::from_secs(2),
        }
    }
}

/// Observes routes through one resolver and one TLS listener, trusting one root.
#[derive(Clone, Debug)]
pub struct Prober {
    tls: Arc<ClientConfig>,
    tls_http1: Arc<ClientConfig>,
    takes_any: Arc<ClientConfig>,
    limits: ProbeLimits,
    index: Arc<Mutex<ListenerIndex>>,
}

/// The versions of HTTP that are offered (RFC 7301).
const PROTOCOLS: [&[u8]; 2] = [b"h2", b"http/1.1"];

fn builder(
    provider: &Arc<CryptoProvider>,
) -> io::Result<ConfigBuilder<ClientConfig, WantsVerifier>> {
    ClientConfig::builder_with_provider(Arc::clone(provider))
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)
}

/// A client that takes any certificate.
pub(crate) fn takes_any() -> io::Result<ClientConfig> {
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let verifier = Arc::new(OneCertificate {
        wanted: None,
        provider: Arc::clone(&provider),
    });
    let mut config = builder(&provider)?
        .dangerous()
        .with_custom_certificate_verifier(verifier)
        .with_no_client_auth();
    config.alpn_protocols = PROTOCOLS.map(<[u8]>::to_vec).to_vec();
    Ok(config)
}

impl Prober {
    /// A prober that trusts these `roots` alone.
    ///
    /// # Errors
    /// When the TLS engine refuses one of them.
    pub fn new(
        roots: impl IntoIterator<Item = CertificateDer<'static>>,
        limits: ProbeLimits,
    ) -> io::Result<Self> {
        let mut trusted = RootCertStore::empty();
        for root in roots {
            trusted.add(root).map_err(io::Error::other)?;
        }
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut tls = builder(&provider)?
            .with_root_certificates(trusted)
            .with_no_client_auth();
        // A resumed session shows no certificate, and proves nothing.
        tls.resumption = Resumption::disabled();
        let tls_http1 = tls.clone();
        tls.alpn_protocols = PROTOCOLS.map(<[u8]>::to_vec).to_vec();
        Ok(Self {
            tls: Arc::new(tls),
            tls_http1: Arc::new(tls_http1),
            takes_any: Arc::new(takes_any()?),
            limits,
            index: Arc::default(),
        })
    }

    /// Walks the way of one route. The first three hops are tried at once; the request follows
    /// only when they leave it a chance. Takes as long as the limits say, at most.
    pub async fn observe(&self, facts: &Facts) -> Observations {
        let limit = self.limits.hop;
        let (resolve, connect, (handshake, stream), further) = tokio::join!(
            timed(lookup::look_up(
                facts.resolver,
                &facts.name,
                LookupTransport::Udp,
                limit
            )),
            timed(self.connect(facts)),
            self.shake(facts),
            self.look_up_further(facts),
        );
        let mut seen = Observations::new(resolve, connect, handshake);
        further.add_to(&mut seen);
        if let Some(ContainerPlace::Replicas(replicas)) = facts.snapshot.container_of(&facts.route)
            && matches!(seen.connect.outcome, Connect::Open(_))
        {
            seen.replicas_down = connect::replicas_down(&replicas, self.limits.hop).await;
        }
        if let Connect::Container(ContainerPlace::PortUnclear(ports)) = &seen.connect.outcome {
            seen.http_ports = http_ports(facts, ports, self.limits.hop).await;
        }
        if matches!(facts.only, None | Some(Hop::Handshake | Hop::Connect)) {
            self.look_who_is_there(facts, &mut seen).await;
        }
        let beyond = matches!(facts.only, None | Some(Hop::Answer | Hop::Expect));
        // A connection to our listener would start an app that is stopped.
        let app_waits = matches!(seen.connect.outcome, Connect::App(_));
        if facts.route.is_raw() && app_waits {
            return seen;
        }
        if facts.route.is_raw() {
            seen.answer = Some(timed(connect::accepts(facts.listener, limit)).await);
        } else if let Some(stream) = stream.filter(|_| beyond && leaves_a_chance(&seen)) {
            self.ask(facts, stream, &mut seen).await;
        }
        seen
    }

    /// A paused route's target is left alone.
    async fn connect(&self, facts: &Facts) -> Connect {
        if facts.route.settings.paused {
            return Connect::NotNeeded;
        }
        let place = facts.snapshot.container_of(&facts.route);
        let app = facts.snapshot.app_of(&facts.route).zip(facts.app.clone());
        connect::connect(facts.server(), place, app, self.limits.hop).await
    }

    async fn shake(&self, facts: &Facts) -> (Timed<Handshake>, Option<Stream>) {
        if facts.route.is_raw() {
            let outcome = Handshake::NotNeeded;
            let took = Duration::ZERO;
            return (Timed { outcome, took }, None);
        }
        let Timed {
            outcome: (outcome, stream),
            took,
        } = timed(handshake::shake(
            Arc::clone(&self.tls),
            facts.listener,
            facts.name.as_str(),
            self.limits.hop,
        ))
        .await;
        (Timed { outcome, took }, stream)
    }

    /// What others than our resolver say of the name.
    async fn look_up_further(&self, facts: &Facts) -> DeepObservations {
        let (name, limit) = (&facts.name, self.limits.hop);
        let mut further = DeepObservations::default();
        if !matches!(facts.only, None | Some(Hop::Resolve)) {
            return further;
        }
        if facts.deep {
            let over_tcp = lookup::look_up(facts.resolver, name, LookupTransport::Tcp, limit);
            further.over_tcp = Some(timed(over_tcp).await);
        }
        let exact = matches!(facts.route.address.pattern, Pattern::Exact(_));
        if !facts.machine.may_ask_for(name, exact) {
            return further;
        }
        let system = timed(lookup::ask_system(name, limit)).await;
        let agrees = matches!(&system.outcome, SystemLookup::Addresses(found)
            if found.iter().all(|ip| facts.listening_on.contains(ip)));
        further.system = Some(system);
        if !agrees {
            let servers = &facts.machine.nameservers;
            further.nameservers = lookup::ask_nameservers(servers, name, limit).await;
        }
        further
    }

    /// Which processes have the ports on the way, and where the app may have gone.
    async fn look_who_is_there(&self, facts: &Facts, seen: &mut Observations) {
        let own_listener = is_own(facts.listener.ip()) && facts.left_to.is_none();
        match &seen.connect.outcome {
            Connect::Open(at) if at.ip().is_loopback() => {
                let holders = self.listeners().await;
                seen.holder = holder_of(&holders, *at).cloned();
                if let Some(holder) = seen.holder.clone() {
                    let reading = spawn_blocking(move || files::written_since_start(&holder));
                    seen.written_since_start = reading.await.unwrap_or_default();
                }
            }
            Connect::NotNeeded => {
                if let Target::Folder(folder) = &facts.route.to {
                    let folder = folder.path().to_owned();
                    let reading = spawn_blocking(move || files::sources_in(&folder));
                    seen.sources = reading.await.unwrap_or_default();
                }
            }
            Connect::Closed {
                attempts,
                elsewhere: None,
            } => {
                let first = attempts.first().map(|it| it.address);
                if let Some(at) = first.filter(|at| at.ip().is_loopback()) {
                    let holders = self.listeners().await;
                    seen.moved_to = moved_to(facts, at, &holders);
                }
            }
            _ => {}
        }
        if own_listener {
            let holders = self.listeners().await;
            let holder = holder_of(&holders, facts.listener);
            let other = holder.filter(|holder| holder.pid != std::process::id());
            seen.listener_holder = other.cloned();
        }
    }

    /// The listeners of this machine, with their processes.
    async fn listeners(&self) -> Arc<HashMap<SocketAddr, Holder>> {
        let index = Arc::clone(&self.index);
        let read = move || {
            let mut index = index.lock().unwrap_or_else(PoisonError::into_inner);
            index.listeners(Instant::now())
        };
        spawn_blocking(read).await.unwrap_or_default()
    }

    /// Follows one request, step by step. Redirects are reported, and not followed.
    pub async fn trace(&self, facts: &Facts) -> TraceSeen {
        let limit = self.limits.hop;
        let resolve = lookup::look_up(facts.resolver, &facts.name, LookupTransport::Udp, limit);
        let resolve = timed(resolve).await;
        let reached = timed(handshake::reach(facts.listener, limit)).await;
        let raw = facts.route.is_raw();
        let (listener, stream) = match reached.outcome {
            Ok(stream) => (Ok(()), Some(stream)),
            Err(reason) => (Err(reason), None),
        };
        let listener = Timed {
            outcome: listener,
            took: reached.took,
        };
        let mut handshake = Timed {
            outcome: Handshake::NotNeeded,
            took: Duration::ZERO,
        };
        let mut secured = None;
        if let Some(stream) = stream.filter(|_| !raw) {
            let tls = Arc::clone(&self.tls);
            let shaken = timed(handshake::shake_on(tls, stream, facts.name.as_str(), limit)).await;
            let (outcome, stream) = shaken.outcome;
            let took = shaken.took;
            handshake = Timed { outcome, took };
            secured = stream;
        }
        let target = timed(self.connect(facts)).await;
        let mut seen = TraceSeen {
            resolve,
            listener,
            handshake,
            holder: None,
            target,
            answer: None,
        };
        if let Connect::Open(at) = &seen.target.outcome
            && at.ip().is_loopback()
        {
            seen.holder = holder_of(&*self.listeners().await, *at).cloned();
        }
        if raw {
            seen.answer = Some(timed(connect::accepts(facts.listener, limit)).await);
        } else if let Some(stream) = secured {
            let through = self.through(facts);
            seen.answer = Some(timed(through.once(stream)).await);
        }
        seen
    }

    fn through<'a>(&'a self, facts: &'a Facts) -> ListenerClient<'a> {
        ListenerClient {
            facts,
            tls: &self.tls,
            tls_http1: &self.tls_http1,
            hop: self.limits.hop,
            limit: facts.patience,
        }
    }

    /// What listens on this machine, as [`ports`](crate::ports) gives it, as it was a second ago or less.
    pub async fn ports(&self) -> Vec<PortSeen> {
        let index = Arc::clone(&self.index);
        let read = move || {
            let mut index = index.lock().unwrap_or_else(PoisonError::into_inner);
            ports_of(&index.sockets(Instant::now()))
        };
        spawn_blocking(read).await.unwrap_or_default()
    }

    /// Forgets which processes listen where, so that the next check reads it again.
    pub fn forget_listeners(&self) {
        *self.index.lock().unwrap_or_else(PoisonError::into_inner) = ListenerIndex::default();
    }

    /// Asks for the page, and what there is to be asked beside it.
    async fn ask(&self, facts: &Facts, stream: Stream, seen: &mut Observations) {
        let through = self.through(facts);
        let at = match &seen.connect.outcome {
            Connect::Open(at) => Some(*at),
            _ => None,
        };
        let target = at.map(|at| TargetClient {
            facts,
            at,
            tls: Arc::clone(&self.takes_any),
            limit: facts.patience,
        });
        let answer = timed(through.visit(stream)).await;
        match &answer.outcome {
            Answer::OwnPage { finding, .. } if finding.slug == FindingKind::TargetUntrusted => {
                if let Some(target) = &target {
                    seen.target_leaf = target.leaf().await;
                }
            }
            Answer::Visit(visit) => {
                if visit.first_byte > SLOW {
                    seen.again = through.again().await;
                }
                if let Some(target) = &target {
                    compare(target, visit, &mut seen.trials).await;
                }
                if let End::Leaves(to) = &visit.end {
                    seen.redirected_to_open = accepts_at(to, self.limits.hop).await;
                }
                through.look_further(visit, target.as_ref(), seen).await;
                if visit.end == End::Answered {
                    seen.replica_answers = self.ask_replicas(facts, visit, seen).await;
                }
            }
            _ => {}
        }
        seen.answer = Some(answer);
    }

    /// Asks each of several containers that accepts connections for the page that the visit ended at.
    async fn ask_replicas(
        &self,
        facts: &Facts,
        visit: &Visit,
        seen: &Observations,
    ) -> Vec<(String, Direct)> {
        let Some(ContainerPlace::Replicas(replicas)) = facts.snapshot.container_of(&facts.route)
        else {
            return Vec::new();
        };
        let Ok(url) = Url::parse(&visit.last().url) else {
            return Vec::new();
        };
        let is_down = |name: &str| seen.replicas_down.iter().any(|(down, _)| down == name);
        let asking = replicas
            .iter()
            .filter(|it| !is_down(&it.name))
            .map(async |it| {
                let target = TargetClient {
                    facts,
                    at: *it.at.first()?,
                    tls: Arc::clone(&self.takes_any),
                    limit: facts.patience,
                };
                Some((it.name.clone(), target.ask(&url, Trial::AsProxied).await))
            });
        join_all(asking).await.into_iter().flatten().collect()
    }
}

/// Of a container's `ports`, those on which it speaks HTTP where this machine reaches them.
async fn http_ports(facts: &Facts, ports: &[u16], limit: Duration) -> Vec<u16> {
    let Target::Container(target) = facts.server() else {
        return Vec::new();
    };
    let containers = facts.snapshot.containers();
    let mut asking = JoinSet::new();
    for port in ports.iter().take(MOST_PORTS) {
        let target = ContainerTarget {
            port: NonZeroU16::new(*port),
            ..target.clone()
        };
        if let ContainerPlace::At(at) = containers.place(&target)
            && let Some(at) = at.first().copied()
        {
            let port = *port;
            asking.spawn(async move {
                let speaks_http = matches!(spoken(at, limit).await, Spoken::Http(_));
                speaks_http.then_some(port)
            });
        }
    }
    let mut found: Vec<u16> = asking.join_all().await.into_iter().flatten().collect();
    found.sort_unstable();
    found
}

#[derive(Default)]
struct DeepObservations {
    over_tcp: Option<Timed<Resolve>>,
    system: Option<Timed<SystemLookup>>,
    nameservers: Vec<bentlane_checks::NameserverResult>,
}

impl DeepObservations {
    fn add_to(self, seen: &mut Observations) {
        seen.resolve_over_tcp = self.over_tcp;
        seen.system = self.system;
        seen.nameservers = self.nameservers;
    }
}

/// Whether a request is worth making after what the first hops showed.
fn leaves_a_chance(seen: &Observations) -> bool {
    matches!(seen.resolve.outcome, Resolve::Addresses(_))
        && matches!(seen.connect.outcome, Connect::Open(_) | Connect::NotNeeded)
}

/// Who has `at`, or an address that stands for it.
fn holder_of(holders: &HashMap<SocketAddr, Holder>, at: SocketAddr) -> Option<&Holder> {
    holders.get(&at).or_else(|| {
        let mut holders = holders.iter();
        holders.find_map(|(own, holder)| stands_for(*own, at).then_some(holder))
    })
}

/// Where the app with which a route was proved listens now: close to its port, and where no other route
/// leads.
fn moved_to(
    facts: &Facts,
    at: SocketAddr,
    holders: &HashMap<SocketAddr, Holder>,
) -> Option<(SocketAddr, Holder)> {
    let routes = &facts.snapshot.configuration().routes;
    let taken = |port: u16| {
        let mut targets = routes.iter().map(Route::server);
        targets
            .any(|to| matches!(to.addresses(), Ok(all) if all.iter().any(|at| at.port() == port)))
    };
    let fits = |holder: &Holder| {
        // Another service of this kind is no app either.
        let ours = holder.pid == std::process::id() || holder.command == SERVICE;
        !ours
            && facts
                .before
                .as_ref()
                .is_none_or(|before| before.is_same_app(holder))
    };
    let mut next = at.port().saturating_add(1)..=at.port().saturating_add(MOVED_BY);
    next.find_map(|port| {
        let at = SocketAddr::new(at.ip(), port);
        // Asked last, as it looks at every route.
        let holder = holder_of(holders, at).filter(|it| fits(it) && !taken(port))?;
        Some((at, holder.clone()))
    })
}

/// Asks the target itself for the URL at which a visit failed or came to no end, and in a deep check for
/// any.
async fn compare(target: &TargetClient<'_>, visit: &Visit, trials: &mut Trials) {
    let facts = target.facts;
    let Ok(url) = Url::parse(&visit.last().url) else {
        return;
    };
    let routed = facts.routed(&url);
    if routed.is_none_or(|routed| routed.route.address != facts.route.address) {
        return;
    }
    match &visit.end {
        End::Turns(_) => {
            for trial in [Trial::AsProxied, Trial::OwnHost] {
                trials.add(trial, timed(target.ask(&url, trial)).await);
            }
        }
        _ if visit.last().status >= 400 => target.try_what_helps(&url, trials).await,
        _ if facts.deep => trials.add(Trial::Direct, timed(target.ask(&url, Trial::Direct)).await),
        _ => {}
    }
}

/// Whether the port of this machine that a URL names accepts connections; `None` for another machine's.
async fn accepts_at(url: &str, limit: Duration) -> Option<bool> {
    let url = Url::parse(url).ok()?;
    let port = url.port_or_known_default()?;
    let host = url.host_str()?.trim_matches(['[', ']']);
    let loopback = [Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()];
    let addresses: Vec<IpAddr> = match host.parse() {
        Ok(ip) => vec![ip],
        Err(_) if host == "localhost" => loopback.to_vec(),
        Err(_) => Vec::new(),
    };
    if addresses.is_empty() || !addresses.iter().all(IpAddr::is_loopback) {
        return None;
    }
    for ip in addresses {
        if handshake::reach((ip, port).into(), limit).await.is_ok() {
            return Some(true);
        }
    }
    Some(false)
}

pub(crate) async fn timed<T>(work: impl Future<Output = T>) -> Timed<T> {
    let start = Instant::now();
    let outcome = work.await;
    Timed {
        outcome,
        took: start.elapsed(),
    }
}
