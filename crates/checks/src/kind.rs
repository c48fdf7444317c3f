use serde::{Deserialize, Serialize};
use utoipa::openapi::RefOr;
use utoipa::openapi::schema::{ObjectBuilder, Schema, Type};

use super::hop::{Hop, Severity};

/// The response header that carries a finding's slug, on the proxy's own pages only.
pub const FINDING_HEADER: &str = "bentlane-finding";

/// The prefix of the user agent of our checks, whose requests are not recorded as traffic.
pub const CHECK_AGENT: &[u8] = b"bentlane-check/";

macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident = $slug:literal, $severity:ident at $hop:ident: $about:literal;)*) => {
        /// The kinds of findings.
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
        )]
        pub enum FindingKind {
            $($(#[$doc])* #[serde(rename = $slug)] $kind,)*
        }

        impl FindingKind {
            /// Every kind, in the order of the hops.
            pub const ALL: &[Self] = &[$(Self::$kind),*];

            /// The stable name.
            #[must_use]
            pub fn slug(self) -> &'static str {
                match self { $(Self::$kind => $slug,)* }
            }

            /// The hop that it belongs to.
            #[must_use]
            pub fn hop(self) -> Hop {
                match self { $(Self::$kind => Hop::$hop,)* }
            }

            /// The usual severity; a finding may have another.
            #[must_use]
            pub fn severity(self) -> Severity {
                match self { $(Self::$kind => Severity::$severity,)* }
            }

            /// What it means, what causes it, and what to do.
            #[must_use]
            pub fn about(self) -> &'static str {
                match self { $(Self::$kind => $about,)* }
            }

            /// The kind with this stable name.
            #[must_use]
            pub fn from_slug(slug: &str) -> Option<Self> {
                match slug { $($slug => Some(Self::$kind),)* _ => None }
            }
        }
    };
}

// Derived, it would not have the names that the macro is given.
impl utoipa::PartialSchema for FindingKind {
    fn schema() -> RefOr<Schema> {
        let slugs = Self::ALL.iter().map(|kind| kind.slug());
        ObjectBuilder::new()
            .schema_type(Type::String)
            .description(Some("The kinds of findings."))
            .enum_values(Some(slugs))
            .into()
    }
}

impl utoipa::ToSchema for FindingKind {}

kinds! {
    /// Our resolver does not answer.
    ResolverSilent = "resolver-silent", Error at Resolve:
        "Bent Lane's own resolver gave no answer over UDP or TCP. It has stopped, listens on another address, or a packet filter blocks it.";
    /// Our resolver answers with an error.
    ResolverRefuses = "resolver-refuses", Error at Resolve:
        "Bent Lane's own resolver answers the name with an error code. The usual cause is a zone that answers routed names only, and a name that no route covers.";
    /// The name leads to an address where we do not listen.
    ResolvesElsewhere = "resolves-elsewhere", Error at Resolve:
        "The name resolves to addresses on which Bent Lane does not listen: from a custom record, an address set for the zone or route, or a listener that moved. Requests go to whatever runs there.";
    /// No zone covers the name.
    NameOutsideZones = "name-outside-zones", Error at Resolve:
        "No zone covers the name, so Bent Lane's resolver does not answer for it, and public DNS decides. Add the zone, or use a name in an existing zone.";
    /// The hosts file overrides the name.
    HostsOverride = "hosts-override", Error at Resolve:
        "The hosts file takes precedence over DNS, and a line in it maps the name to an address on which Bent Lane does not listen. Such lines are usually left over from an earlier setup.";
    /// Another program has port 53.
    DnsPortHeld = "dns-port-held", Error at Resolve:
        "The system sends queries to port 53 of this machine, where another program answers. Stop that program, or attach Bent Lane another way.";
    /// The system asks a name server before ours, which answers first.
    NameserverFirst = "nameserver-first", Error at Resolve:
        "The system asks its name servers in order, and NXDOMAIN is final: the servers after it are not asked. A server listed before Bent Lane's resolver answers for the name.";
    /// A negative answer is still cached.
    NegativeCached = "negative-cached", Error at Resolve:
        "A cache between the system and Bent Lane's resolver still holds a negative answer for the name. It expires by itself (RFC 2308), or at once when the cache is flushed.";
    /// The system does not ask us.
    SystemNotAsking = "system-not-asking", Hint at Resolve:
        "Bent Lane's resolver answers for the name, but this machine's lookups do not reach it, so browsers and programs here do not find the name. This is a hint until lookups are attached, and an error afterwards.";
    /// The hosts file has an address of one family only.
    HostsOneFamily = "hosts-one-family", Hint at Resolve:
        "The hosts file maps the name to an address of one family (IPv4 or IPv6), and Bent Lane listens on both. It works, except for programs that only look up the other family.";
    /// A browser bypasses the system's resolver.
    BrowserAsksElsewhere = "browser-asks-elsewhere", Warning at Resolve:
        "A browser on this machine uses a DNS-over-HTTPS server instead of the system's resolver, and that server does not know your zones. Point it to Bent Lane, or turn DNS over HTTPS off.";
    /// A container does not find the name.
    ContainerAsksElsewhere = "container-asks-elsewhere", Error at Resolve:
        "Inside the container (`bentlane check --from container:NAME`), the name does not resolve: the container's name servers do not know the zone.";
    /// Inside a container the name resolves to the container itself.
    ContainerLoopback = "container-loopback", Error at Resolve:
        "Inside the container, the name resolves to a loopback address, which is the container itself there, not this machine.";
    /// The name belongs to multicast DNS.
    MulticastName = "multicast-name", Warning at Resolve:
        "Names under `.local` are reserved for multicast DNS (RFC 6762). Some systems never send them to a resolver; others wait several seconds first.";
    /// The zone is a public suffix, or may be a registered domain.
    PublicName = "public-name", Warning at Resolve:
        "The zone is a public suffix or may be a registered domain. This machine can no longer reach the real one, and browsers restrict public suffixes: no shared cookies, no wildcard certificates.";
    /// Browsers use HTTPS only for the suffix.
    ForcedHttps = "forced-https", Hint at Resolve:
        "The suffix is on the browsers' HSTS preload list, so they use HTTPS only. That works with Bent Lane's certificates; the browser never sends plain HTTP.";
    /// The suffix is not reserved.
    UnreservedSuffix = "unreserved-suffix", Hint at Resolve:
        "The suffix is not reserved for private use (RFC 6761), so it may be delegated in public DNS one day.";
    /// A wildcard right under a single label.
    WildcardSingleLabel = "wildcard-single-label", Warning at Resolve:
        "Directly under a single label, many clients reject wildcard certificates, and browsers do not share cookies between the names. A zone with two labels has neither problem.";

    /// Another program has our port.
    ListenerHeld = "listener-held", Error at Handshake:
        "Bent Lane cannot listen on the address of the name, because another program has the port. It retries every few seconds, so stopping the other program is enough.";
    /// A container cannot connect to the listener.
    ContainerCutOff = "container-cut-off", Error at Handshake:
        "Inside the container, nothing accepts connections on the name's address: Bent Lane listens on this machine's loopback only.";
    /// Our own TLS listener does not accept.
    ListenerUnreachable = "listener-unreachable", Error at Handshake:
        "Bent Lane's own HTTPS listener does not accept connections.";
    /// The certificate does not verify against our root, or is not the name's.
    CertificateRefused = "certificate-refused", Error at Handshake:
        "The certificate that Bent Lane shows for the name does not verify against its own root.";
    /// The imported pair has expired.
    PairExpired = "pair-expired", Error at Handshake:
        "The imported certificate for the name has expired. When its files are renewed, Bent Lane reloads them; until then, it can be removed.";
    /// The imported pair is not valid yet.
    PairEarly = "pair-early", Error at Handshake:
        "The imported certificate for the name is not valid yet. The usual cause is a wrong clock, on this machine or on the one that issued it.";
    /// The imported pair does not cover the name.
    PairNotCovering = "pair-not-covering", Error at Handshake:
        "The certificate that is set for the route does not cover this name. A wildcard matches exactly one label (RFC 6125 §6.4.3), so `*.moor.test` does not cover `a.b.moor.test`.";
    /// The key in the files does not belong to the certificate.
    PairKeyMismatch = "pair-key-mismatch", Warning at Handshake:
        "The files of an imported certificate have changed and cannot be used. The usual cause is a key that does not match, because only one of the two files was replaced. The previous certificate stays in use until it expires.";
    /// The imported pair expires soon.
    PairEndsSoon = "pair-ends-soon", Hint at Handshake:
        "An imported certificate expires within 21 days.";
    /// The clock is wrong.
    ClockOff = "clock-off", Error at Handshake:
        "This machine's clock is wrong: it is earlier than an event that has already happened. Certificates are checked against the clock, so verification fails everywhere.";
    /// The clock was set a short time ago.
    ClockSet = "clock-set", Hint at Handshake:
        "This machine's clock was set within the last ten minutes, by more than a minute. What depends on the time was renewed at once; a program that took up a certificate before may reject it until it connects again.";
    /// The root's constraints exclude the name.
    BeyondTheRoot = "beyond-the-root", Error at Handshake:
        "The name constraints of the root do not include the name, so there is no certificate for it yet.";
    /// The handshake failed.
    HandshakeFailed = "handshake-failed", Error at Handshake:
        "The TLS handshake with Bent Lane's listener failed before a certificate was verified.";
    /// A store does not trust our root.
    RootDistrusted = "root-distrusted", Hint at Handshake:
        "Clients that use this trust store do not trust Bent Lane's root and report that the page is not secure. This is a hint until trust is attached, and a warning afterwards.";
    /// A store trusts an earlier root of ours.
    OlderRootTrusted = "older-root-trusted", Warning at Handshake:
        "The store has an earlier root of Bent Lane's, with the same name and another key. Current certificates are rejected, although the list of trusted roots looks right.";
    /// Plain HTTP is refused.
    PlainRefused = "plain-refused", Error at Handshake:
        "The route, or its zone, refuses plain HTTP.";
    /// A browser opens the name over HTTPS alone.
    BrowserForcesHttps = "browser-forces-https", Hint at Handshake:
        "A browser remembers from an earlier response (HSTS, RFC 6797) that it opens a name over HTTPS alone. It is reported where that stands in the way: the route serves plain HTTP (then it is a warning), URLs without a port lead to port 443 where Bent Lane does not listen, or the name is `localhost`, whose apps are opened by their ports over plain HTTP. The fix says where the browser forgets it.";

    /// No route covers the name and path.
    RouteMissing = "route-missing", Error at Connect:
        "A zone covers the name, so it resolves to this machine, but no route says which app it belongs to. The error page lists similar addresses.";
    /// Nothing listens at the target.
    TargetRefuses = "target-refuses", Error at Connect:
        "The connection was refused (a TCP reset): nothing listens on the port. The app is not running, has crashed, or listens on another port.";
    /// The target does not respond to a connection.
    TargetSilent = "target-silent", Error at Connect:
        "The target did not respond to the connection at all. The machine is off, the address is wrong, or a packet filter drops the packets.";
    /// The target's host has no address.
    TargetUnknown = "target-unknown", Error at Connect:
        "The host name of the target does not resolve.";
    /// The target cannot be reached for another reason.
    TargetUnreachable = "target-unreachable", Error at Connect:
        "There is no network route to the target's address.";
    /// The target listens on the other family of loopback only.
    TargetOtherFamily = "target-other-family", Error at Connect:
        "The app listens on 127.0.0.1 and the route names ::1, or the other way round. A bare port means both.";
    /// The app listens on the next port.
    TargetMoved = "target-moved", Error at Connect:
        "Nothing listens on the route's port, but what looks like the same app listens on a port nearby: dev servers take the next free port when theirs is in use.";
    /// Another process than before has the port.
    TargetChangedHands = "target-changed-hands", Warning at Connect:
        "The process on the port runs in another folder than when the route was last proved: another project may have taken the port. For an app of another machine it is a hint that the page has another title than then. An expected title or text identifies the right app.";
    /// The app was started before its configuration was last written.
    OldConfiguration = "old-configuration", Hint at Connect:
        "The process behind the port was started before files were written that programs of its kind read when they start: `.env`, a framework's configuration, a lock file, its own program. It may run with the old ones until it is restarted.";
    /// The name stands for nothing that the route leads to.
    NameLeadsNowhere = "name-leads-nowhere", Error at Connect:
        "The route leads where the name says: to a port, an app or a container. This name says none, or one that the route does not lead to: a port on which no process of the service's user speaks HTTP, one outside the route's `ports`, or one of the service itself.";
    /// The app of the route is stopped.
    AppStopped = "app-stopped", Error at Connect:
        "The app of the route does not run, since it was stopped or has not been started yet. It is a hint where the first request starts it; a check does not.";
    /// The app is not ready yet.
    AppStarting = "app-starting", Warning at Connect:
        "The app of the route was started, and is not ready yet. Requests wait for it; a browser shows what it prints meanwhile.";
    /// The app ended.
    AppCrashed = "app-crashed", Error at Connect:
        "The app of the route ended by itself or by a signal. One that was ready is started again after 1 s, 2 s, 4 s and 8 s, unless it ended with code 0. Its last output shows why.";
    /// The app ends again and again.
    AppCrashLoop = "app-crash-loop", Error at Connect:
        "The app of the route crashed five times, each time within a minute of being ready, so it is not started again by itself.";
    /// The app does not become ready.
    AppNotReady = "app-not-ready", Error at Connect:
        "The app of the route was started and did not listen, answer or print what shows that it is ready within its limit (`start_timeout`), so it was stopped. It may wait for input, which `bentlane app run` can give it.";
    /// The app has another port than it got.
    AppListensElsewhere = "app-listens-elsewhere", Hint at Connect:
        "The app listens on another port than the one that it got in `PORT`. The route follows it there; but the port may be another one each time, or another app's.";
    /// A folder of the app's log files is not there.
    AppLogMissing = "app-log-missing", Hint at Connect:
        "The folder in which the app has its log files (`log`) is not there, so they are not shown with its output. Many frameworks do not make it by themselves.";
    /// There is no such command.
    AppCommandMissing = "app-command-missing", Error at Connect:
        "The shell does not find the command of the app. Its environment is that of your login shell: `bentlane app show NAME --env` shows it, `bentlane app edit NAME --refresh-environment` reads it again.";
    /// The app's folder is not there.
    AppFolderMissing = "app-folder-missing", Error at Connect:
        "The folder in which the app runs is not there: it was moved or deleted.";
    /// Something else has the app's port.
    AppPortHeld = "app-port-held", Error at Connect:
        "Another program listens on the port that was chosen for the app, so it was not started.";
    /// The container is stopped.
    ContainerStopped = "container-stopped", Error at Connect:
        "The container of the route is not running.";
    /// There is no such container.
    ContainerGone = "container-gone", Error at Connect:
        "The container engine has no container with this name: it was removed or renamed.";
    /// The container publishes no such port.
    ContainerUnpublished = "container-unpublished", Error at Connect:
        "The container runs, but does not publish the port to this machine, and its own address cannot be reached from here.";
    /// The container is on a network that cannot be reached from here.
    ContainerElsewhere = "container-elsewhere", Error at Connect:
        "The container's network is not connected to this machine (no network, an internal one, or another container's), so it cannot be reached.";
    /// The container's health check has not passed yet.
    ContainerStarting = "container-starting", Warning at Connect:
        "The container of the route runs, and its health check has not passed yet. Requests wait for it.";
    /// The container's health check fails.
    ContainerUnhealthy = "container-unhealthy", Warning at Connect:
        "The health check of the route's container fails. Requests still go to it, since no other container of its service is better.";
    /// The container has several ports, and none was chosen.
    ContainerPortUnclear = "container-port-unclear", Error at Connect:
        "The container has several ports, and neither the route nor a label says which one is meant.";
    /// Some containers of the service cannot be connected to.
    ReplicaUnreachable = "replica-unreachable", Warning at Connect:
        "The route leads to several containers of a service, and some of them accept no connection. Requests go to the others.";
    /// A label asks for a route that it cannot have.
    LabelInvalid = "label-invalid", Warning at Connect:
        "A line of the label `bentlane.routes` of a container is not understood, or asks for what a label cannot have, so there is no route for it. A label names an address, a port inside its own container, and settings that name no file, certificate or address of this machine. One that came with an image counts for nothing.";
    /// A label asks for an address that is taken.
    LabelNameTaken = "label-name-taken", Hint at Connect:
        "A container asks in its label for an address that a route of yours, or another container, has. The label takes nothing away.";
    /// No container engine answers.
    EngineSilent = "engine-silent", Error at Connect:
        "The route needs a container engine, and none answers on the usual sockets, or on the configured one.";
    /// The file of the route's project is not there any more.
    ProjectFileMissing = "project-file-missing", Hint at Connect:
        "The route came from a project file that is not at its place any more: the folder was moved or deleted. `bentlane project unload FILE` takes out what came from it; loading it at its new place moves it there.";
    /// The route is paused.
    RoutePaused = "route-paused", Hint at Connect:
        "The route is paused. Requests get a page that says so, and nothing reaches the target.";
    /// The connection limit is reached.
    TooManyConnections = "too-many-connections", Error at Connect:
        "The service has reached its limit of open connections. Further connections get an error page and are closed.";
    /// The target expects TLS, and the route uses plain HTTP.
    TargetSpeaksTls = "target-speaks-tls", Error at Connect:
        "The app accepts TLS and does not answer plain HTTP, which the route uses.";
    /// The target uses plain HTTP, and the route uses TLS.
    TargetSpeaksPlain = "target-speaks-plain", Error at Connect:
        "The app does not answer a TLS ClientHello with TLS: it uses plain HTTP.";
    /// The target's certificate has expired, or is not valid yet.
    TargetExpired = "target-expired", Error at Connect:
        "The app's certificate has expired or is not valid yet.";
    /// The target's certificate is for another name.
    TargetOtherName = "target-other-name", Error at Connect:
        "The app's certificate does not cover the name that the route verifies it for.";
    /// The target's certificate is not trusted.
    TargetUntrusted = "target-untrusted", Error at Connect:
        "The app's certificate does not chain to a root that is trusted here. It is usually self-signed.";
    /// The TLS handshake with the target failed.
    TargetTlsFailed = "target-tls-failed", Error at Connect:
        "The TLS handshake with the app fails before its certificate is verified.";

    /// Some containers of the service do not answer as they should.
    ReplicaFailing = "replica-failing", Warning at Answer:
        "The route leads to several containers of a service. Each of them is asked for the route's page, and some answer with a server error, not at all, or not as the route expects. Requests still go to them.";
    /// The route loops back to the proxy.
    RouteLoop = "route-loop", Error at Answer:
        "The route's target is Bent Lane itself, so requests loop. They are answered with 508 and the routes of the loop.";
    /// The app refuses requests with forwarding headers.
    ForwardingRefused = "forwarding-refused", Error at Answer:
        "The app responds with an error as soon as a request has `Forwarded` or `X-Forwarded-` headers: it does not trust the proxy, or rejects their values. Configure it to trust the proxy on loopback, or remove the header on this route.";
    /// The app answers better when it is asked directly.
    BetterDirectly = "better-directly", Warning at Answer:
        "The app responds with an error through the route, and not when it is asked directly. The evidence says what it answered to which request.";
    /// The app redirects everything to its own address.
    OwnAddressOnly = "own-address-only", Error at Answer:
        "The app redirects every host but its own to its own address, such as `http://localhost:4310`. Bent Lane rewrites such redirects to the route's URL, so they lead back and never end.";
    /// The app redirects to another port of this machine.
    RedirectLeaves = "redirect-leaves", Warning at Answer:
        "The app redirects to a port of this machine that is not its own, past every route: the client loses the name and HTTPS. It is an error where nothing listens on that port.";
    /// The app accepts no other Host than its own.
    HostRefused = "host-refused", Error at Answer:
        "The app rejects the route's name in the Host header: dev servers and frameworks have a list of allowed hosts. Add the name to that list, or let the route send the app's own host.";
    /// The app redirects to HTTPS in a loop.
    SchemeLoop = "scheme-loop", Error at Answer:
        "The app redirects to HTTPS although the client uses HTTPS: it ignores `X-Forwarded-Proto` and `Forwarded`, and sees plain HTTP. The redirects never end.";
    /// The app redirects in a loop.
    RedirectLoop = "redirect-loop", Error at Answer:
        "The app's redirects return to a URL that was already requested, or exceed the limit.";
    /// A redirect leads to the app's own origin.
    OriginLeaked = "origin-leaked", Error at Answer:
        "The app redirects to its own address, past the route, so the client loses the name, HTTPS and its cookies. The usual cause is that the app builds absolute URLs from its own host and port.";
    /// A redirect leads to a port where we do not listen.
    PortLost = "port-lost", Error at Answer:
        "The app redirects to the right name on the wrong port: it builds URLs without the port of `Host` or `X-Forwarded-Port`. With port 443 this goes unnoticed, since URLs omit it.";
    /// A redirect leaves HTTPS.
    RedirectDowngrades = "redirect-downgrades", Hint at Answer:
        "The app redirects to plain HTTP under one of Bent Lane's names. That costs an extra redirect, or leaves the client on plain HTTP where that is served.";
    /// The target closes the connection without an answer.
    AnswerMissing = "answer-missing", Error at Answer:
        "The app accepts the connection and the request, and closes without a response: it crashed on the request, or uses a protocol other than HTTP.";
    /// The response is truncated.
    AnswerCut = "answer-cut", Error at Answer:
        "The app closes the connection before the end of the response that it announced, by its length or by chunks.";
    /// The target's answer is not HTTP.
    AnswerMalformed = "answer-malformed", Error at Answer:
        "The response is not valid HTTP (RFC 9112).";
    /// The target's answer has more header fields than we take.
    AnswerOversized = "answer-oversized", Error at Answer:
        "The headers of the response exceed the limit of 256 KiB. The usual cause is a cookie that grows with every request. From 120 KiB on it is a warning: many clients of HTTP/2 end the connection there.";
    /// Clients of a raw TCP route speak HTTP.
    RawCarriesHttp = "raw-carries-http", Hint at Answer:
        "Clients send HTTP requests to a route for raw TCP, which passes bytes as they are: without HTTPS, forwarding headers, traffic and checks of the response. `--protocol http` on the same port has all of these.";
    /// PostgreSQL clients ask for TLS where it begins at once.
    PostgresRefused = "postgres-refused", Warning at Answer:
        "A PostgreSQL client asked for TLS with a plaintext request, as its protocol requires, and the route expects a handshake at once (`--tls here`): the client was refused. `--tls postgres` answers such requests.";
    /// The app has not answered yet.
    StillStarting = "still-starting", Warning at Answer:
        "The app accepted the request and has not responded within the time of a check, while a client would still wait: the app compiles or connects on the first request. `bentlane check --wait 2m` waits as long as clients do, and reports an app that hangs as `answer-late`.";
    /// No response within the time limit.
    AnswerLate = "answer-late", Error at Answer:
        "The app accepted the request and did not respond in time: it compiles, waits for a database, or hangs.";
    /// The folder has no such file.
    FileMissing = "file-missing", Error at Answer:
        "The folder of the route has no file for the path. Single-page apps need a fallback file for such paths. It is a hint where the folder has no index.html: its files may be asked for by their names alone.";
    /// The folder, or a file in it, cannot be read.
    FolderUnreadable = "folder-unreadable", Error at Answer:
        "The folder of the route does not exist, or the service has no permission to read it.";
    /// Files of the folder need an interpreter.
    SourcesNotServed = "sources-not-served", Warning at Answer:
        "The folder has files that need an interpreter, such as `.php`, `.py` or `.rb`. Bent Lane does not run them, and does not serve their source, which may hold passwords, unless the route has `serve_sources`. Run them as an app, and let the route lead to its port.";
    /// The app responds with a server error.
    AppFails = "app-fails", Error at Answer:
        "The request reached the app, and the app responded with a server error (5xx).";
    /// The app refuses the WebSocket upgrade.
    UpgradeRefused = "upgrade-refused", Error at Answer:
        "The app does not answer a WebSocket request with 101: the path is wrong, it does not allow the origin, or it has no WebSocket there.";
    /// An event stream is buffered.
    EventsBuffered = "events-buffered", Warning at Answer:
        "Server-sent events arrive in batches, or not at all while the response is compressed: the app buffers its output. It has to be flushed after each event.";
    /// There is no event stream where one is expected.
    EventsMissing = "events-missing", Error at Answer:
        "The response at the path for server-sent events is not `text/event-stream`.";
    /// A browser drops a cookie.
    CookieDropped = "cookie-dropped", Warning at Answer:
        "Browsers reject a cookie of the response, by the rules of RFC 6265 and its successor: it has another site's domain, `SameSite=None` without `Secure`, a `__Host-` name with a domain, or is too large. What depends on it, such as signing in, silently fails.";
    /// The access log of the route cannot be written.
    AccessLogUnwritable = "access-log-unwritable", Warning at Answer:
        "The access log of the route cannot be written: its folder is missing or not writable, or it is not a regular file of the right owner. Requests are served, but not logged.";
    /// The app's HSTS policy covers other projects.
    HstsTooWide = "hsts-too-wide", Hint at Answer:
        "The app sets `Strict-Transport-Security` (RFC 6797) for `localhost`, or for a zone's own name and every name below it. Browsers remember that even when the route is gone, and apply it to the names and ports of other projects.";
    /// A cross-origin request is refused.
    PreflightRefused = "preflight-refused", Warning at Answer:
        "A page of this route sends a request to another route, whose response to the preflight (the OPTIONS request of the Fetch standard) does not allow it. The browser then blocks the request.";
    /// The page names ports instead of routes.
    PageBypassesRoutes = "page-bypasses-routes", Warning at Answer:
        "The page loads, fetches or listens to a URL with a port of this machine, such as `http://localhost:4310` or `wss://NAME:5010`, past the routes. It works at most in a browser on this machine. It is a hint where only a script names the URL.";
    /// A page loads resources over plain HTTP.
    MixedContent = "mixed-content", Warning at Answer:
        "The page is loaded over HTTPS and loads scripts, styles or frames over plain HTTP, which browsers block.";
    /// More specific routes take some of this one's names.
    RouteShadowed = "route-shadowed", Hint at Answer:
        "The most specific name takes precedence over the longest path. A wildcard route with a path therefore gets no requests for names that have their own routes.";
    /// The first answer is slow, the next is not.
    SlowAtFirst = "slow-at-first", Hint at Answer:
        "The first response took seconds, the next one did not: the app compiles, connects or fills a cache on the first request.";

    /// Another app answers.
    OtherApp = "other-app", Error at Expect:
        "An app responds, but not the expected one: its title or text is different. The usual cause is that another project has taken the port.";
    /// The status is not the expected one.
    StatusDiffers = "status-differs", Error at Expect:
        "The status of the response is not the expected one.";
    /// The expected text is missing.
    TextDiffers = "text-differs", Error at Expect:
        "The expected text is not in the first mebibyte of the response.";
    /// A header is missing, or has another value.
    HeaderDiffers = "header-differs", Error at Expect:
        "An expected header is missing, or has another value.";
    /// A value in the JSON is missing or different.
    ValueDiffers = "value-differs", Error at Expect:
        "The response is not JSON, or has another value at the given JSON pointer (RFC 6901).";
}
