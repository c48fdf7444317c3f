use serde::{Deserialize, Serialize};

use super::finding::Severity;
use super::verdict::Hop;

/// The response field that carries a finding's slug, on the proxy's own pages and on nothing else.
pub const FINDING_HEADER: &str = "bentlane-finding";

/// How the user agent of our own checks begins: they are no news to whoever watches the traffic.
pub const CHECK_AGENT: &[u8] = b"bentlane-check/";

macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident = $slug:literal, $severity:ident at $hop:ident: $about:literal;)*) => {
        /// The kinds of findings.
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
            utoipa::ToSchema,
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

            /// The hop at which it lies.
            #[must_use]
            pub fn hop(self) -> Hop {
                match self { $(Self::$kind => Hop::$hop,)* }
            }

            /// How bad it is, unless the finding itself says otherwise.
            #[must_use]
            pub fn severity(self) -> Severity {
                match self { $(Self::$kind => Severity::$severity,)* }
            }

            /// What it means, why it comes about, and what there is to do.
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

kinds! {
    /// Our resolver does not answer.
    ResolverSilent = "resolver-silent", Error at Resolve:
        "Bent Lane's own resolver gave no answer over UDP or TCP. It has stopped, listens elsewhere, or a packet filter is between.";
    /// Our resolver answers with an error.
    ResolverRefuses = "resolver-refuses", Error at Resolve:
        "Bent Lane's own resolver answers the name with an error code: mostly a zone that answers routed names only, asked for a name that no route covers.";
    /// The name leads to an address where we do not listen.
    ResolvesElsewhere = "resolves-elsewhere", Error at Resolve:
        "The name has addresses, but Bent Lane listens at none of them: a record of your own, an address set for the zone or the route, or a listener that was moved. Requests go to whatever is there.";
    /// No zone covers the name.
    NameOutsideZones = "name-outside-zones", Error at Resolve:
        "No zone of Bent Lane's covers the name, so its resolver does not answer for it, and everything depends on what DNS elsewhere says. Add the zone, or use a name in one that is there.";
    /// The hosts file sends the name elsewhere.
    HostsOverride = "hosts-override", Error at Resolve:
        "The hosts file goes before DNS. A line in it gives the name another address than the one at which Bent Lane listens: mostly left over from the days before, or for a machine that is gone.";
    /// Another program has port 53.
    DnsPortHeld = "dns-port-held", Error at Resolve:
        "The system asks port 53 of this machine, and another program than Bent Lane answers there. Stop that program, or have Bent Lane attached in another way.";
    /// The system asks a name server before ours, which answers first.
    NameserverFirst = "nameserver-first", Error at Resolve:
        "A system asks its name servers in order, and an answer that a name does not exist is final: the servers further down are not asked. One before Bent Lane's answers for the name.";
    /// A negative answer from before is still kept.
    NegativeCached = "negative-cached", Error at Resolve:
        "A cache between the system and Bent Lane's resolver still holds the answer that the name does not exist. It goes by itself when its time is over (RFC 2308), or at once when the cache is emptied.";
    /// The system does not ask us.
    SystemNotAsking = "system-not-asking", Hint at Resolve:
        "Bent Lane's resolver knows the name, but the system's own look-up never comes to it, so browsers and programs of this machine do not find the name. While Bent Lane is not attached this is advice; once it is attached, it is broken.";
    /// The hosts file has an address of one family alone.
    HostsOneFamily = "hosts-one-family", Hint at Resolve:
        "The hosts file gives the name an address of one family (IPv4 or IPv6), and Bent Lane listens on both. It works, but not for a program that asks for the other family alone.";
    /// A browser asks a server of its own.
    BrowserAsksElsewhere = "browser-asks-elsewhere", Warning at Resolve:
        "A browser of this machine is set to ask a DNS-over-HTTPS server of its own instead of the system, and that server does not know your zones. Have it ask Bent Lane, or switch that off.";
    /// A container does not find the name.
    ContainerAsksElsewhere = "container-asks-elsewhere", Error at Resolve:
        "Asked from inside the container (`bentlane check --from container:NAME`), the name has no address: the container's own name servers do not know the zone.";
    /// Inside a container the name leads to the container itself.
    ContainerLoopback = "container-loopback", Error at Resolve:
        "Asked from inside the container, the name has a loopback address, which there is the container itself and not this machine.";
    /// The name belongs to multicast DNS.
    MulticastName = "multicast-name", Warning at Resolve:
        "Names under `.local` belong to multicast DNS (RFC 6762). Some systems never ask a resolver for them, others wait for seconds first.";
    /// The zone is a public suffix, or somebody's domain.
    PublicName = "public-name", Warning at Resolve:
        "The zone is a public suffix or can be somebody's real domain. What is really there is out of reach for this machine, and browsers treat public suffixes in their own way: no shared cookies, no wildcard certificates.";
    /// Browsers speak HTTPS only there.
    ForcedHttps = "forced-https", Hint at Resolve:
        "Browsers have this suffix on the list of names that they ask for over HTTPS only. It works with Bent Lane's certificates; plain HTTP never leaves the browser.";
    /// The suffix may be somebody's one day.
    UnreservedSuffix = "unreserved-suffix", Hint at Resolve:
        "The suffix is not reserved for private use (RFC 6761), so it may lead elsewhere one day.";
    /// A wildcard right under a single label.
    WildcardSingleLabel = "wildcard-single-label", Warning at Resolve:
        "Right under a single label, many clients refuse a wildcard certificate, and browsers share no cookies between the names. A zone with two labels does not have this.";

    /// Another program has our port.
    ListenerHeld = "listener-held", Error at Handshake:
        "Bent Lane cannot listen where the name leads, because another program has that port. It tries again every few seconds, so that it is enough to stop the other one.";
    /// A container cannot connect to where the name leads.
    ContainerCutOff = "container-cut-off", Error at Handshake:
        "From inside the container, nothing accepts where the name leads: Bent Lane listens on this machine's loopback alone.";
    /// Our own TLS listener does not accept.
    ListenerUnreachable = "listener-unreachable", Error at Handshake:
        "Bent Lane's own HTTPS listener does not accept connections.";
    /// The certificate does not verify against our root, or is not the name's.
    CertificateRefused = "certificate-refused", Error at Handshake:
        "The certificate that Bent Lane shows for the name does not verify against its own root.";
    /// The imported pair has expired.
    PairExpired = "pair-expired", Error at Handshake:
        "An imported certificate is shown for the name, and its time is over. When its files are renewed, Bent Lane takes them up by itself; until then it can be taken out.";
    /// The imported pair is not valid yet.
    PairEarly = "pair-early", Error at Handshake:
        "An imported certificate is shown for the name whose time has not begun. Mostly the clock of the machine that made it, or of this one, is wrong.";
    /// The imported pair does not cover the name.
    PairNotCovering = "pair-not-covering", Error at Handshake:
        "The certificate that the route insists on is not for this name. A wildcard stands for exactly one label (RFC 6125 §6.4.3), so `*.moor.test` is not for `a.b.moor.test`.";
    /// The key in the files does not belong to the certificate.
    PairKeyMismatch = "pair-key-mismatch", Warning at Handshake:
        "The files of an imported certificate have changed, and what is in them cannot be used: mostly the key is that of another certificate, because one of the two files was replaced alone. What was read before is shown until its time is over.";
    /// The imported pair ends soon.
    PairEndsSoon = "pair-ends-soon", Hint at Handshake:
        "An imported certificate ends within 21 days.";
    /// The clock is off.
    ClockOff = "clock-off", Error at Handshake:
        "This machine's clock says a time that cannot be: earlier than something that has happened already. Certificates are judged by the clock, so everything that verifies them goes wrong.";
    /// The root cannot vouch for the name.
    BeyondTheRoot = "beyond-the-root", Error at Handshake:
        "The root's own limits do not take in the name, so there is no certificate for it yet.";
    /// The handshake broke off.
    HandshakeFailed = "handshake-failed", Error at Handshake:
        "The TLS handshake with Bent Lane's listener broke off before a certificate was judged.";
    /// A store does not trust our root.
    RootDistrusted = "root-distrusted", Hint at Handshake:
        "Clients that go by the store do not trust Bent Lane's root, and say that the page is not secure. It is a hint until the root has been put into stores; then, a store without it is a warning.";
    /// A store trusts an older root of ours.
    OlderRootTrusted = "older-root-trusted", Warning at Handshake:
        "The store holds a root of Bent Lane's from before. It has the same name and another key, so certificates of today are refused, and the list of trusted roots looks as if all were well.";
    /// Plain HTTP is refused.
    PlainRefused = "plain-refused", Error at Handshake:
        "The route, or its zone, refuses plain HTTP.";

    /// No route covers the name and path.
    RouteMissing = "route-missing", Error at Connect:
        "A zone covers the name, so it leads to this machine, but no route says which app is meant. The page that you get lists the addresses that come close.";
    /// Nothing listens at the target.
    TargetRefuses = "target-refuses", Error at Connect:
        "The machine answers that nothing listens on the port (a TCP reset). The app is not started, has crashed, or listens on another port.";
    /// The target does not react to a connection.
    TargetSilent = "target-silent", Error at Connect:
        "Nothing came back from the target: no acceptance and no reset. The machine is off, the address is wrong, or a packet filter drops what is sent there.";
    /// The target's host has no address.
    TargetUnknown = "target-unknown", Error at Connect:
        "The target is named by a host name, and the system finds no address for it.";
    /// The target cannot be reached for another reason.
    TargetUnreachable = "target-unreachable", Error at Connect:
        "The system has no way to the target's address: no network, or no route to that one.";
    /// The target listens on the other family of loopback only.
    TargetOtherFamily = "target-other-family", Error at Connect:
        "The app listens on 127.0.0.1 and the route says ::1, or the other way round. A bare port in the route stands for both.";
    /// The app listens on the next port.
    TargetMoved = "target-moved", Error at Connect:
        "Nothing listens on the route's port, but what seems to be the same app listens close by: dev servers take the next free port when theirs is taken.";
    /// Another process than before has the port.
    TargetChangedHands = "target-changed-hands", Warning at Connect:
        "The process behind the port runs in another folder than the one that was there when the route was last proved: perhaps another project has taken the port. An expectation tells the apps apart for good.";
    /// The container is stopped.
    ContainerStopped = "container-stopped", Error at Connect:
        "The route leads to a container that exists and does not run.";
    /// There is no such container.
    ContainerGone = "container-gone", Error at Connect:
        "The route leads to a container that the container engine does not know: it was removed, or has another name.";
    /// The container publishes no such port.
    ContainerUnpublished = "container-unpublished", Error at Connect:
        "The container runs, but publishes no port to this machine that the route could lead to, and its own address cannot be reached from here.";
    /// The container is on a network that cannot be reached from here.
    ContainerElsewhere = "container-elsewhere", Error at Connect:
        "The container runs on a network of its own that does not lead to this machine (no network, an internal one, or another container's), so nothing can be connected to.";
    /// No container engine answers.
    EngineSilent = "engine-silent", Error at Connect:
        "The route leads to a container, and no container engine answers at the sockets that are usual, or at the one that was given.";
    /// The route rests.
    RoutePaused = "route-paused", Hint at Connect:
        "The route was paused by hand. Requests get a page that says so, and nothing reaches the target.";
    /// We serve as many connections as we may.
    TooManyConnections = "too-many-connections", Error at Connect:
        "As many connections are open as the service may have. More are told so and closed.";
    /// The target speaks TLS, and the route says otherwise.
    TargetSpeaksTls = "target-speaks-tls", Error at Connect:
        "The app answers a TLS hello and does not understand plain HTTP, which is what the route speaks to it.";
    /// The target speaks in the clear, and the route says TLS.
    TargetSpeaksPlain = "target-speaks-plain", Error at Connect:
        "The app answers a TLS hello with something that is not TLS: it speaks plain HTTP.";
    /// The target's certificate has expired, or is not valid yet.
    TargetExpired = "target-expired", Error at Connect:
        "The certificate of the app itself is out of its time.";
    /// The target's certificate is for another name.
    TargetOtherName = "target-other-name", Error at Connect:
        "The certificate of the app itself is for other names than the one by which the route verifies it.";
    /// The target's certificate is not accepted.
    TargetUntrusted = "target-untrusted", Error at Connect:
        "The certificate of the app itself leads to no root that is trusted here: mostly it vouches for itself.";
    /// No TLS with the target comes about.
    TargetTlsFailed = "target-tls-failed", Error at Connect:
        "The TLS handshake with the app breaks off before a certificate can be judged.";

    /// The route leads back to us.
    RouteLoop = "route-loop", Error at Answer:
        "The route's target is Bent Lane itself, so that a request comes back to where it was. It is answered with 508 and the circle that it has gone.";
    /// The app accepts no other Host than its own.
    HostRefused = "host-refused", Error at Answer:
        "The app answers under its own host and refuses the route's name: dev servers and frameworks have a list of allowed hosts. Either the name comes into that list, or the route sends the app's own host.";
    /// The app sends clients to HTTPS for ever.
    SchemeLoop = "scheme-loop", Error at Answer:
        "The app redirects to HTTPS although the client came over HTTPS: it ignores `X-Forwarded-Proto` and `Forwarded`, and sees plain HTTP. The client is redirected forever.";
    /// Redirects turn in a circle.
    RedirectLoop = "redirect-loop", Error at Answer:
        "Following the app's redirects leads back to a URL that was asked for before, or never ends.";
    /// A redirect leads to the app's own origin.
    OriginLeaked = "origin-leaked", Error at Answer:
        "The app redirects to its own address, past the route: the client leaves the name, HTTPS and its cookies behind. Mostly the app builds absolute URLs from its own host and port.";
    /// A redirect leads to a port where we do not listen.
    PortLost = "port-lost", Error at Answer:
        "The app redirects to the right name on another port than the one that the client came to: it builds URLs without the port of `Host` or `X-Forwarded-Port`. On port 443 this does not show, since URLs leave it out.";
    /// A redirect leaves HTTPS.
    RedirectDowngrades = "redirect-downgrades", Hint at Answer:
        "The app redirects to plain HTTP under a name of Bent Lane's. That costs a detour, and where plain HTTP is served, the client stays there.";
    /// The target closes the connection without an answer.
    AnswerMissing = "answer-missing", Error at Answer:
        "The app accepts the connection and the request, and closes without an answer: it crashed on the request, or speaks another protocol than HTTP.";
    /// The answer ends before its end.
    AnswerCut = "answer-cut", Error at Answer:
        "The app announces a length, or chunks, and closes before the end of its answer.";
    /// The target's answer is not HTTP.
    AnswerMalformed = "answer-malformed", Error at Answer:
        "What the app answers is not HTTP as RFC 9112 has it.";
    /// The target's answer has more header fields than we take.
    AnswerOversized = "answer-oversized", Error at Answer:
        "The header fields of the app's answer are larger than what is taken. Mostly a cookie has grown with every request.";
    /// No answer within the limit.
    AnswerLate = "answer-late", Error at Answer:
        "The app took the request and did not answer within the limit: it compiles, waits for a database, or hangs.";
    /// The folder has no such file.
    FileMissing = "file-missing", Error at Answer:
        "The route leads to a folder that has no file for the path. Single-page apps want one file for all paths that have none.";
    /// The folder, or a file in it, cannot be read.
    FolderUnreadable = "folder-unreadable", Error at Answer:
        "The route leads to a folder that is not there, or that the service may not read.";
    /// The app answers with a server error of its own.
    AppFails = "app-fails", Error at Answer:
        "The request reached the app, and the app answers with a server error (5xx) of its own.";
    /// The app does not change its protocol.
    UpgradeRefused = "upgrade-refused", Error at Answer:
        "The app answers a WebSocket request with something else than 101: another path, an origin that it does not allow, or no WebSocket at all.";
    /// An event stream comes late, in lumps.
    EventsBuffered = "events-buffered", Warning at Answer:
        "Server-sent events come all together after a while, or not at all while the answer is compressed: something in the app collects the output. It has to be flushed after each event.";
    /// There is no event stream where one is expected.
    EventsMissing = "events-missing", Error at Answer:
        "Where an event stream is expected, the answer is not `text/event-stream`.";
    /// A browser drops a cookie.
    CookieDropped = "cookie-dropped", Warning at Answer:
        "A browser does not keep a cookie of the answer, by the rules of RFC 6265 and its successor: a domain that is not the name's, `SameSite=None` without `Secure`, a `__Host-` name with a domain, or one that is too large. What depends on it, mostly signing in, seems to do nothing.";
    /// The access log of the route cannot be written.
    AccessLogUnwritable = "access-log-unwritable", Warning at Answer:
        "The route has an access log, and no line can be added to it: its folder is gone or not to be written to, or what is there is no regular file of the right owner. Requests pass, and are missing in the log.";
    /// The app has browsers use HTTPS only for names of other projects.
    HstsTooWide = "hsts-too-wide", Hint at Answer:
        "The app tells browsers to use HTTPS only (`Strict-Transport-Security`, RFC 6797), for `localhost` or for a zone's own name and everything below it. Browsers remember that for as long as the app says, also when the route is gone, and it holds for the names and ports of other projects, too.";
    /// Another route's pages may not ask this one.
    PreflightRefused = "preflight-refused", Warning at Answer:
        "A page of this route asks another route, and that route's answer to the preflight (the OPTIONS request of the Fetch standard) does not allow it. The browser then never sends the request.";
    /// A page loads something in the clear.
    MixedContent = "mixed-content", Warning at Answer:
        "The page comes over HTTPS and loads scripts, styles or frames over plain HTTP. Browsers block that.";
    /// More specific routes take some of this one's names.
    RouteShadowed = "route-shadowed", Hint at Answer:
        "The most specific name wins before the longest path. A route for a wildcard with a path is therefore not asked for the names that have routes of their own.";
    /// The first answer is slow, the next is not.
    SlowAtFirst = "slow-at-first", Hint at Answer:
        "The first answer took seconds, the one right after it did not: the app compiles, connects or fills a cache when it is first asked.";

    /// Another app answers.
    OtherApp = "other-app", Error at Expect:
        "An app answers, and it is not the one that the route expects: its title, or the text that was expected, is another's. Mostly another project has taken the port.";
    /// The status is not the expected one.
    StatusDiffers = "status-differs", Error at Expect:
        "The answer's status is not the one that the route expects.";
    /// The expected text is missing.
    TextDiffers = "text-differs", Error at Expect:
        "The text that the route expects is not in the first mebibyte of the answer.";
    /// A field is missing, or has another value.
    HeaderDiffers = "header-differs", Error at Expect:
        "A field that the route expects is missing, or has another value.";
    /// A value in the JSON is missing, or another.
    ValueDiffers = "value-differs", Error at Expect:
        "The answer is no JSON, or has another value where the route expects one (RFC 6901).";
}
