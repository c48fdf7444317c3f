use std::cmp::Reverse;

use super::finding::{Finding, printable};
use super::hop::Hop;
use super::judge::judge;
use super::observation::{Facts, Observations};
use super::verdict::{HopReport, HopState, Verdict};

/// Says what the observations of one route mean.
///
/// The first broken hop gives the finding that counts; what lies beyond it is not reached, since its
/// own outcome would only repeat the cause as a symptom. Warnings and hints before it stay.
#[must_use]
pub fn diagnose(facts: &Facts, seen: &Observations) -> Verdict {
    let mut findings: Vec<Finding> = Vec::new();
    let mut hops: Vec<HopReport> = Vec::with_capacity(Hop::ALL.len());
    let (mut broken, mut untried) = (false, false);
    let mut title = None;
    for hop in Hop::ALL {
        if facts.only.is_some_and(|only| only != hop) {
            continue;
        }
        let mut report = HopReport {
            hop,
            state: HopState::NotReached,
            detail: String::new(),
            evidence: Vec::new(),
            micros: None,
        };
        if untried {
            report.state = HopState::NotTried;
            "not tried".clone_into(&mut report.detail);
        } else if let Some(judged) = judge(hop, facts, seen).filter(|_| !broken) {
            untried = judged.untried;
            report.state = match judged.breaks_at() {
                None if untried => HopState::NotTried,
                None if judged.undeclared => HopState::NotDeclared,
                None => HopState::Passed,
                Some(at) => {
                    broken = true;
                    break_at(&mut hops, at, hop)
                }
            };
            if report.state != HopState::NotReached {
                report.detail = printable(judged.detail);
                report.evidence = judged.evidence.into_iter().map(printable).collect();
                report.micros = judged.micros;
            }
            findings.extend(judged.findings);
            title = title.or(judged.title);
        }
        hops.push(report);
    }
    if facts.route.settings.r#else.is_some() {
        let own = findings.into_iter();
        findings = own.map(Finding::of_app_behind_folder).collect();
    }
    // The most severe first, and equally severe ones in the order of the hops.
    findings.sort_by_key(|finding| (Reverse(finding.severity), finding.hop));
    Verdict {
        address: facts.address(),
        name: facts.name.clone(),
        url: facts.url.clone(),
        to: facts.route.to.to_string(),
        passed: hops.iter().all(|report| report.state.is_good()),
        flapping: false,
        title,
        since: None,
        hops,
        findings,
        checked_at: facts.now,
    }
}

/// The state of `hop`, at which a fault showed that lies at the hop `at`: what is between that and this
/// was not reached, whatever it looked like on the way.
fn break_at(before: &mut [HopReport], at: Hop, hop: Hop) -> HopState {
    let Some(cause) = before.iter().position(|report| report.hop == at) else {
        return HopState::Broken;
    };
    if at == hop {
        return HopState::Broken;
    }
    for (position, report) in before.iter_mut().enumerate().skip(cause) {
        report.state = if position == cause {
            HopState::Broken
        } else {
            HopState::NotReached
        };
        if position > cause {
            (report.detail, report.micros) = (String::new(), None);
            report.evidence.clear();
        }
    }
    HopState::NotReached
}

#[cfg(test)]
mod tests {
    use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
    use std::sync::Arc;
    use std::time::Duration;

    use rstest::rstest;
    use serde_json::{Value, json};
    use time::OffsetDateTime;
    use time::macros::datetime;

    use super::*;
    use crate::fix::Action;
    use crate::hosts::HostsEntry;
    use crate::observation::RawClients;
    use crate::{
        Answer, AppProblem, AppState, AppStatus, Attempt, BrowserDns, CertificateFault, Connect,
        Direct, End, EventsSeen, FindingKind, ForcedHost, ForcedHttps, Handshake, Holder,
        LookupResult, Machine, NameserverResult, Page, PairFacts, PreflightSeen, Refusal, Resolve,
        Severity, StoreSeen, StoreTrust, SystemLookup, TargetLeaf, Timed, Trial, UpgradeSeen,
        Visit, WrittenFile, lane,
    };
    use crate::{advice_for_route, advice_for_zone};
    use bentlane_model::{
        Configuration, ContainerPlace, ContainerSeen, Containers, Health, Observed, Plain, Route,
        RouteSettings, SilentEngine, Snapshot, StartContainer, Zone, add_to_lists,
    };

    const NOW: OffsetDateTime = datetime!(2026-05-04 12:00 UTC);
    const HOME: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);
    const HOME_V6: IpAddr = IpAddr::V6(Ipv6Addr::LOCALHOST);
    const URL: &str = "https://booking.moor.test:17443/";

    /// The way of one route, as it should go and as it went.
    struct Case {
        facts: Facts,
        seen: Observations,
    }

    /// A browser opens `host` over HTTPS alone.
    fn remembered(case: Case, host: &str, subdomains: bool) -> Case {
        case.machine(|machine| {
            machine.forced_https.push(ForcedHttps {
                browser: "Firefox".into(),
                file: "SiteSecurityServiceState.bin".into(),
                host: ForcedHost::Name(host.into()),
                subdomains,
                until: OffsetDateTime::UNIX_EPOCH + time::Duration::days(36_500),
            });
        })
    }

    /// Everything as it should be; each row of the tables changes one thing.
    fn healthy() -> Case {
        of("moor.test", "booking.moor.test", "4310")
    }

    fn of(zone: &str, address: &str, to: &str) -> Case {
        let route = Route::new(address.parse().unwrap(), to.parse().unwrap());
        let zone: bentlane_model::Name = zone.parse().unwrap();
        let api = Route::new("api.moor.test".parse().unwrap(), "4311".parse().unwrap());
        let snapshot = Snapshot::compile(Configuration {
            revision: 1,
            zones: vec![Zone::new(zone.clone())],
            routes: vec![route.clone(), api],
            ..Configuration::default()
        });
        let mut advice = advice_for_zone(&zone);
        advice.extend(advice_for_route(&route.address.pattern));
        let facts = Facts {
            name: snapshot.sample_name(&route).unwrap(),
            route,
            url: URL.to_owned(),
            only: None,
            certified: true,
            advice,
            before: None,
            before_title: None,
            app: None,
            project_missing: None,
            pair: None,
            log_fault: None,
            resolver: SocketAddr::new(HOME, 53),
            listener: SocketAddr::new(HOME, 17443),
            clients: RawClients::default(),
            left_to: None,
            usual_port: 17443,
            http_port: 17080,
            deep: false,
            patience: Duration::from_secs(10),
            first_byte: Duration::from_secs(120),
            listening_on: vec![HOME, HOME_V6],
            machine: Arc::new(Machine {
                names_attached: true,
                asks_us: true,
                nameservers: vec![SocketAddr::new(HOME, 53)],
                ours: vec![SocketAddr::new(HOME, 53)],
                ..Machine::default()
            }),
            snapshot: Arc::new(snapshot),
            now: NOW,
        };
        let mut seen = Observations::new(
            took(Resolve::Addresses(vec![HOME])),
            took(Connect::Open(SocketAddr::new(HOME, 4310))),
            took(Handshake::Verified {
                version: "TLS 1.3".to_owned(),
                protocol: "h2".to_owned(),
            }),
        );
        seen.system = Some(took(SystemLookup::Addresses(vec![HOME])));
        seen.answer = Some(took(visit(page(200))));
        Case { facts, seen }
    }

    fn app(state: AppState, problem: Option<AppProblem>) -> AppStatus {
        AppStatus {
            name: "huts".parse().unwrap(),
            state,
            since: Some(NOW),
            starts_on_visit: true,
            problem,
            crashes: 1,
            again_at: None,
            command: "node server.mjs".to_owned(),
            folder: "/srv/huts".to_owned(),
            pid: None,
            port: Some(28_176),
            listens: Vec::new(),
            by_hand: false,
            output: vec!["Error: no huts".to_owned()],
            logs_missing: Vec::new(),
            changed: Vec::new(),
        }
    }

    fn elsewhere() -> AppStatus {
        AppStatus {
            listens: vec![SocketAddr::new(HOME, 4310)],
            ..app(AppState::Running, None)
        }
    }

    /// A route whose requests start its container.
    fn visited_container() -> Case {
        let case = of("moor.test", "a.moor.test", "container:web");
        case.facts(|facts| facts.route.settings.start = StartContainer::Visit)
            .connect(Connect::Container(ContainerPlace::Stopped))
    }

    /// A route to a container that is as `change` says, while the engine at `/run/silent` does not answer.
    fn of_containers(change: impl FnOnce(&mut ContainerSeen)) -> Case {
        let mut seen = ContainerSeen {
            name: "web".to_owned(),
            running: true,
            ..ContainerSeen::default()
        };
        change(&mut seen);
        let silent = SilentEngine {
            socket: "/run/silent".to_owned(),
            reason: "it does not answer".to_owned(),
        };
        let containers = Containers {
            seen: vec![seen],
            silent: vec![silent],
        };
        of("moor.test", "a.moor.test", "container:web").facts(|facts| {
            let observed = Observed {
                containers: Arc::new(containers),
                ..Observed::default()
            };
            let configuration = facts.snapshot.configuration().clone();
            facts.snapshot = Arc::new(Snapshot::compile_with(configuration, observed));
        })
    }

    /// An app that does not run as it should.
    fn of_app(state: AppState, problem: Option<AppProblem>) -> Case {
        let app = app(state, problem);
        let case = of("moor.test", "booking.moor.test", "app:huts");
        case.facts(|facts| facts.app = Some(app.clone()))
            .connect(Connect::App(Box::new(app)))
    }

    #[test]
    fn an_app_that_waits_for_a_visit_is_not_broken_and_not_proved() {
        let Case { facts, seen } = of_app(AppState::Stopped, None);
        let verdict = diagnose(&facts, &seen);
        assert!(verdict.passed && verdict.is_stopped());
        let states = verdict.states();
        assert_eq!(states[2..], [HopState::NotTried; 3]);
        let manual = |facts: &mut Facts| {
            if let Some(app) = &mut facts.app {
                app.starts_on_visit = false;
            }
        };
        let Case { facts, mut seen } = of_app(AppState::Stopped, None).facts(manual);
        seen.connect.outcome = Connect::App(Box::new(facts.app.clone().unwrap()));
        assert!(!diagnose(&facts, &seen).passed, "nobody starts it");
    }

    fn took<T>(outcome: T) -> Timed<T> {
        Timed {
            outcome,
            took: Duration::from_micros(1500),
        }
    }

    fn page(status: u16) -> Page {
        Page {
            url: URL.to_owned(),
            status,
            ..Page::default()
        }
    }

    fn with(status: u16, fields: &[(&str, &str)], body: &str) -> Page {
        let text = |(name, value): &(&str, &str)| ((*name).to_owned(), (*value).to_owned());
        Page {
            fields: fields.iter().map(text).collect(),
            body: body.to_owned(),
            ..page(status)
        }
    }

    fn html(body: &str) -> Page {
        with(200, &[("content-type", "text/html; charset=utf-8")], body)
    }

    fn visit(page: Page) -> Answer {
        Answer::Visit(Box::new(Visit::of(page)))
    }

    impl Case {
        fn facts(mut self, change: impl FnOnce(&mut Facts)) -> Self {
            change(&mut self.facts);
            self
        }

        fn machine(self, change: impl FnOnce(&mut Machine)) -> Self {
            self.facts(|facts| change(Arc::get_mut(&mut facts.machine).unwrap()))
        }

        fn seen(mut self, change: impl FnOnce(&mut Observations)) -> Self {
            change(&mut self.seen);
            self
        }

        fn resolve(self, outcome: Resolve) -> Self {
            self.seen(|seen| seen.resolve = took(outcome))
        }

        fn connect(self, outcome: Connect) -> Self {
            self.seen(|seen| (seen.connect, seen.answer) = (took(outcome), None))
        }

        fn closed(self, refusals: &[Refusal]) -> Self {
            let attempt = |refusal: &Refusal| Attempt {
                address: SocketAddr::new(HOME, 4310),
                refusal: refusal.clone(),
            };
            let attempts = refusals.iter().map(attempt).collect();
            let elsewhere = None;
            self.connect(Connect::Closed {
                attempts,
                elsewhere,
            })
        }

        fn shake(self, outcome: Handshake) -> Self {
            self.seen(|seen| (seen.handshake, seen.answer) = (took(outcome), None))
        }

        fn untrusted(self, fault: CertificateFault) -> Self {
            let reason = "reason".to_owned();
            self.shake(Handshake::Untrusted { fault, reason })
        }

        fn answer(self, outcome: Answer) -> Self {
            self.seen(|seen| seen.answer = Some(took(outcome)))
        }

        fn page(self, page: Page) -> Self {
            self.answer(visit(page))
        }

        /// A page that redirects to `to`, which is not followed for `end`.
        fn redirect(self, to: &str, end: fn(String) -> End) -> Self {
            self.answer(Answer::Visit(Box::new(Visit {
                end: end(to.to_owned()),
                ..Visit::of(with(302, &[("location", to)], ""))
            })))
        }

        fn own_page(self, kind: FindingKind) -> Self {
            let fix = crate::Fix::text("do something");
            let finding = Finding::of(kind, "something is wrong", Vec::new(), fix);
            let finding = Box::new(finding);
            self.answer(Answer::OwnPage {
                status: 502,
                finding,
            })
        }

        /// The target itself answers these trials so.
        fn tried(self, trials: &[(Trial, u16)]) -> Self {
            self.seen(|seen| {
                for (trial, status) in trials {
                    let answer = Direct::Page(Box::new(page(*status)));
                    seen.trials.add(*trial, took(answer));
                }
            })
        }

        fn hosts(self, address: &str) -> Self {
            let entry = HostsEntry {
                line: 7,
                address: address.parse().unwrap(),
                name: self.facts.name.clone(),
            };
            self.machine(|machine| machine.hosts.push(entry))
        }

        /// The system finds nothing, and its name servers say this.
        fn lost(self, server: &str, said: LookupResult) -> Self {
            let said = NameserverResult {
                server: server.parse().unwrap(),
                said,
            };
            self.seen(|seen| {
                seen.system = Some(took(SystemLookup::NotFound("no such name".to_owned())));
                seen.nameservers.push(said);
            })
        }

        fn store(self, trust: StoreTrust, attached: bool) -> Self {
            let store = "the system's store".to_owned();
            self.machine(|machine| {
                machine.stores.push(StoreSeen {
                    store,
                    trust,
                    reach: None,
                });
                machine.trust_attached = attached;
            })
        }

        fn pair(self, change: impl FnOnce(&mut PairFacts)) -> Self {
            let mut pair = PairFacts {
                name: "*.moor.test".to_owned(),
                names: vec!["*.moor.test".to_owned()],
                not_before: NOW - time::Duration::days(60),
                not_after: NOW + time::Duration::days(30),
                pinned: false,
                file: "/home/rowan/moor.pem".to_owned(),
                shown: true,
                fault: None,
            };
            change(&mut pair);
            self.facts(|facts| facts.pair = Some(pair))
        }

        fn expects(self, key: &str, value: Value) -> Self {
            let expect = serde_json::json!({ key: value });
            let expect = serde_json::from_value(expect).unwrap();
            self.facts(|facts| facts.route.settings.expect = expect)
        }

        fn events(self, lumps: &[(u64, usize)], encoding: Option<&str>) -> Self {
            let lump = |(after, events): &(u64, usize)| (Duration::from_millis(*after), *events);
            let seen = EventsSeen {
                path: "/events".to_owned(),
                head: Some((200, "text/event-stream".to_owned())),
                encoding: encoding.map(str::to_owned),
                lumps: lumps.iter().map(lump).collect(),
                flows_uncompressed: encoding.is_some(),
            };
            self.seen(|all| all.events.push(seen))
        }
    }

    fn negative(zone: &str) -> LookupResult {
        LookupResult::Negative {
            code: "NXDOMAIN".to_owned(),
            zone: Some(zone.to_owned()),
            ttl: Some(30),
        }
    }

    fn holder(folder: &str) -> Holder {
        Holder {
            pid: 42,
            command: "node".to_owned(),
            line: "node server.js".to_owned(),
            folder: Some(folder.to_owned()),
            started: None,
        }
    }

    fn leaf(until: OffsetDateTime, covers: bool) -> TargetLeaf {
        TargetLeaf {
            names: vec!["vm.example".to_owned()],
            not_before: NOW - time::Duration::days(9),
            not_after: until,
            covers,
            wanted: "127.0.0.1".to_owned(),
        }
    }

    fn untrusted_target(leaf: TargetLeaf) -> Case {
        let case = healthy().own_page(FindingKind::TargetUntrusted);
        case.seen(|seen| seen.target_leaf = Some(leaf))
    }

    fn preflight(status: u16, allows: Option<&str>) -> PreflightSeen {
        PreflightSeen {
            url: "https://api.moor.test:17443/huts".to_owned(),
            route: "api.moor.test".to_owned(),
            origin: "https://booking.moor.test:17443".to_owned(),
            status: Some(status),
            allows: allows.map(str::to_owned),
        }
    }

    fn upgrade(status: u16) -> UpgradeSeen {
        UpgradeSeen {
            path: "/live".to_owned(),
            status: Some(status),
            with_own_origin: None,
        }
    }

    fn host_refused() -> Case {
        let case = healthy().page(with(403, &[], "host not allowed"));
        case.tried(&[(Trial::AsProxied, 403), (Trial::OwnHost, 200)])
    }

    /// A page with this status, and what the target itself says.
    fn failing(status: u16, trials: &[(Trial, u16)]) -> Case {
        healthy().page(page(status)).tried(trials)
    }

    /// An app that was started before its files were written.
    fn outdated() -> Case {
        let started = NOW - time::Duration::hours(2);
        healthy().seen(|seen| {
            seen.holder = Some(Holder {
                started: Some(started),
                ..holder("/a")
            });
            seen.written_since_start.push(WrittenFile {
                name: ".env".to_owned(),
                written: NOW - time::Duration::minutes(5),
            });
        })
    }

    fn folder_of_sources() -> Case {
        let case = of("moor.test", "docs.moor.test", "folder:/srv/docs");
        case.seen(|seen| {
            seen.connect = took(Connect::NotNeeded);
            seen.sources = vec!["index.php".to_owned()];
        })
    }

    fn own_address_only() -> Case {
        let case = healthy().redirect(URL, End::Turns);
        case.seen(|seen| {
            let to = with(302, &[("location", "http://localhost:4310/")], "");
            for (trial, page) in [(Trial::AsProxied, to), (Trial::OwnHost, page(200))] {
                let answer = took(Direct::Page(Box::new(page)));
                seen.trials.add(trial, answer);
            }
        })
    }

    fn slow(first: u64, again: u64) -> Case {
        let visit = Visit {
            first_byte: Duration::from_millis(first),
            ..Visit::of(page(200))
        };
        let case = healthy().answer(Answer::Visit(Box::new(visit)));
        case.seen(|seen| seen.again = Some(Duration::from_millis(again)))
    }

    use FindingKind as Kind;
    use Severity::{Error, Hint, Warning};

    #[rstest]
    // resolve
    #[case(healthy().resolve(Resolve::Silent), Kind::ResolverSilent, Error)]
    #[case(healthy().resolve(Resolve::Failed("reset".into())), Kind::ResolverSilent, Error)]
    #[case(healthy().seen(|seen| seen.resolve_over_tcp = Some(took(Resolve::Silent))), Kind::ResolverSilent, Error)]
    #[case(healthy().resolve(Resolve::Code("REFUSED".into())), Kind::ResolverRefuses, Error)]
    #[case(healthy().resolve(Resolve::Addresses(vec![])), Kind::ResolvesElsewhere, Error)]
    #[case(healthy().resolve(Resolve::Addresses(vec![HOME, [10, 0, 0, 1].into()])), Kind::ResolvesElsewhere, Error)]
    #[case(healthy().hosts("192.0.2.7"), Kind::HostsOverride, Error)]
    #[case(healthy().hosts("127.0.0.1"), Kind::HostsOneFamily, Hint)]
    #[case(healthy().seen(|seen| seen.system = None).machine(|machine| machine.names_attached = false), Kind::SystemNotAsking, Hint)]
    #[case(healthy().seen(|seen| seen.system = None), Kind::SystemNotAsking, Error)]
    #[case(healthy().lost("127.0.0.1:53", LookupResult::Nothing), Kind::SystemNotAsking, Error)]
    #[case(healthy().lost("192.0.2.53:53", negative("")), Kind::NameserverFirst, Error)]
    #[case(healthy().lost("192.0.2.53:53", negative("moor.test")), Kind::NegativeCached, Error)]
    #[case(healthy().lost("127.0.0.1:53", LookupResult::Nothing).machine(|machine| machine.dns_holder = Some(("127.0.0.1:53".parse().unwrap(), holder("/")))), Kind::DnsPortHeld, Error)]
    #[case(healthy().machine(|machine| machine.browsers.push(BrowserDns { browser: "Firefox".into(), file: "prefs.js".into(), server: None, except: Vec::new(), by_policy: false })), Kind::BrowserAsksElsewhere, Warning)]
    #[case(remembered(healthy().facts(|facts| facts.route.settings.plain = Some(Plain::Serve)), "booking.moor.test", false), Kind::BrowserForcesHttps, Warning)]
    #[case(
        remembered(healthy(), "moor.test", true),
        Kind::BrowserForcesHttps,
        Hint
    )]
    #[case(
        remembered(healthy(), "localhost", false),
        Kind::BrowserForcesHttps,
        Hint
    )]
    #[case(of("moor.local", "a.moor.local", "1"), Kind::MulticastName, Warning)]
    #[case(of("moor.dev", "a.moor.dev", "1").facts(|facts| facts.advice.truncate(1)), Kind::PublicName, Warning)]
    #[case(of("moor.dev", "a.moor.dev", "1").facts(|facts| drop(facts.advice.remove(0))), Kind::ForcedHttps, Hint)]
    #[case(of("moor.lan", "a.moor.lan", "1"), Kind::UnreservedSuffix, Hint)]
    #[case(of("test", "*.test", "1"), Kind::WildcardSingleLabel, Warning)]
    #[case(healthy().own_page(Kind::RouteMissing), Kind::RouteMissing, Error)]
    // connect
    #[case(healthy().closed(&[Refusal::Refused, Refusal::Refused]), Kind::TargetRefuses, Error)]
    #[case(healthy().closed(&[Refusal::Refused, Refusal::Silent]), Kind::TargetSilent, Error)]
    #[case(healthy().closed(&[Refusal::Other("no way".into())]), Kind::TargetUnreachable, Error)]
    #[case(healthy().connect(Connect::UnknownHost { reason: "none".into() }), Kind::TargetUnknown, Error)]
    #[case(of_app(AppState::Stopped, None), Kind::AppStopped, Hint)]
    #[case(of_app(AppState::Starting, None), Kind::AppStarting, Warning)]
    #[case(of_app(AppState::Crashed, Some(AppProblem::Exited { code: 1 })), Kind::AppCrashed, Error)]
    #[case(of_app(AppState::Crashed, Some(AppProblem::Killed { signal: "SIGSEGV".into() })), Kind::AppCrashed, Error)]
    #[case(
        of_app(AppState::Crashed, Some(AppProblem::CommandMissing)),
        Kind::AppCommandMissing,
        Error
    )]
    #[case(
        of_app(AppState::Crashed, Some(AppProblem::FolderMissing)),
        Kind::AppFolderMissing,
        Error
    )]
    #[case(of_app(AppState::Crashed, Some(AppProblem::PortHeld { port: 1, holder: None, since: None, app: None })), Kind::AppPortHeld, Error)]
    #[case(of_app(AppState::Crashed, Some(AppProblem::NotReady { limit: "2 min".into(), waited_for: "x".into() })), Kind::AppNotReady, Error)]
    #[case(of_app(AppState::CrashLoop, Some(AppProblem::Exited { code: 1 })), Kind::AppCrashLoop, Error)]
    #[case(healthy().facts(|it| it.app = Some(elsewhere())), Kind::AppListensElsewhere, Hint)]
    #[case(healthy().facts(|it| it.app = Some(AppStatus { logs_missing: vec!["/srv/huts/log".into()], ..app(AppState::Running, None) })), Kind::AppLogMissing, Hint)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::Stopped)), Kind::ContainerStopped, Error)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::Gone(vec![]))), Kind::ContainerGone, Error)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::Starting)), Kind::ContainerStarting, Warning)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::PortUnclear(vec![80, 81]))), Kind::ContainerPortUnclear, Error)]
    #[case(visited_container(), Kind::ContainerStopped, Hint)]
    #[case(of_containers(|seen| seen.health = Some(Health::Unhealthy)), Kind::ContainerUnhealthy, Warning)]
    #[case(of_containers(|_| {}).seen(|seen| seen.replicas_down = vec![("web-2".into(), vec![])]), Kind::ReplicaUnreachable, Warning)]
    #[case(of_containers(|_| {}).seen(|seen| seen.replica_answers = vec![("web-2".into(), Direct::Failed("reset".into()))]), Kind::ReplicaFailing, Warning)]
    #[case(of_containers(|_| {}).seen(|seen| seen.replica_answers = vec![("web-2".into(), Direct::Page(Box::new(page(503))))]), Kind::ReplicaFailing, Warning)]
    #[case(of_containers(|seen| seen.engine = "/run/silent".into()), Kind::EngineSilent, Warning)]
    #[case(healthy().facts(|it| it.project_missing = Some("/gone/bentlane.toml".into())), Kind::ProjectFileMissing, Hint)]
    #[case(of_containers(|seen| seen.label = Some("a.moor.test 80".into())), Kind::LabelNameTaken, Hint)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::Unpublished(vec![80]))), Kind::ContainerUnpublished, Error)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::Elsewhere(vec![]))), Kind::ContainerElsewhere, Error)]
    #[case(of("moor.test", "a.moor.test", "container:web").connect(Connect::Container(ContainerPlace::EngineSilent("none".into()))), Kind::EngineSilent, Error)]
    #[case(healthy().connect(Connect::Closed { attempts: vec![], elsewhere: Some("[::1]:4310".parse().unwrap()) }), Kind::TargetOtherFamily, Error)]
    #[case(healthy().closed(&[Refusal::Refused]).seen(|seen| seen.moved_to = Some(("127.0.0.1:4311".parse().unwrap(), holder("/")))), Kind::TargetMoved, Error)]
    #[case(healthy().facts(|facts| facts.before = Some(holder("/a"))).seen(|seen| seen.holder = Some(holder("/b"))), Kind::TargetChangedHands, Warning)]
    #[case(healthy().seen(|seen| seen.listener_holder = Some(holder("/"))), Kind::ListenerHeld, Error)]
    // handshake
    #[case(healthy().shake(Handshake::Unreachable("refused".into())), Kind::ListenerUnreachable, Error)]
    #[case(healthy().shake(Handshake::Failed("closed".into())), Kind::HandshakeFailed, Error)]
    #[case(healthy().untrusted(CertificateFault::Untrusted), Kind::CertificateRefused, Error)]
    #[case(healthy().untrusted(CertificateFault::Expired).facts(|facts| facts.certified = false), Kind::BeyondTheRoot, Error)]
    #[case(healthy().untrusted(CertificateFault::Expired).pair(|_| {}), Kind::PairExpired, Error)]
    #[case(healthy().untrusted(CertificateFault::Early).pair(|_| {}), Kind::PairEarly, Error)]
    #[case(healthy().untrusted(CertificateFault::OtherName).pair(|pair| pair.pinned = true), Kind::PairNotCovering, Error)]
    #[case(healthy().pair(|pair| pair.fault = Some((Kind::PairKeyMismatch, "the key is another's".into()))), Kind::PairKeyMismatch, Warning)]
    #[case(healthy().pair(|pair| pair.not_after = NOW + time::Duration::days(3)), Kind::PairEndsSoon, Hint)]
    #[case(healthy().untrusted(CertificateFault::Early).machine(|machine| machine.clock_off = Some("it says 1970".into())), Kind::ClockOff, Error)]
    #[case(healthy().machine(|machine| machine.clock_off = Some("it says 1970".into())), Kind::ClockOff, Error)]
    #[case(healthy().machine(|machine| machine.clock_set = Some("2 min ago it was set back by 3 h".into())), Kind::ClockSet, Hint)]
    #[case(healthy().store(StoreTrust::Distrusted, false), Kind::RootDistrusted, Hint)]
    #[case(healthy().store(StoreTrust::Distrusted, true), Kind::RootDistrusted, Warning)]
    #[case(healthy().store(StoreTrust::Older, true), Kind::OlderRootTrusted, Warning)]
    #[case(healthy().own_page(Kind::TargetSpeaksTls), Kind::TargetSpeaksTls, Error)]
    #[case(healthy().own_page(Kind::TargetUntrusted), Kind::TargetUntrusted, Error)]
    #[case(untrusted_target(leaf(NOW + time::Duration::days(1), true)), Kind::TargetUntrusted, Error)]
    #[case(untrusted_target(leaf(NOW - time::Duration::days(1), true)), Kind::TargetExpired, Error)]
    #[case(untrusted_target(leaf(NOW + time::Duration::days(1), false)), Kind::TargetOtherName, Error)]
    // answer
    #[case(healthy().answer(Answer::Silent), Kind::StillStarting, Warning)]
    #[case(
        healthy().answer(Answer::Silent).facts(|facts| facts.first_byte = Duration::ZERO),
        Kind::AnswerLate,
        Error
    )]
    #[case(healthy().answer(Answer::Failed("reset".into())), Kind::AnswerMissing, Error)]
    #[case(healthy().page(page(500)), Kind::AppFails, Error)]
    #[case(healthy().own_page(Kind::AnswerMalformed), Kind::AnswerMalformed, Error)]
    #[case(healthy().own_page(Kind::RouteLoop), Kind::RouteLoop, Error)]
    #[case(host_refused(), Kind::HostRefused, Error)]
    #[case(healthy().redirect(URL, End::Turns), Kind::SchemeLoop, Error)]
    #[case(healthy().redirect("https://booking.moor.test:17443/x", End::Turns), Kind::RedirectLoop, Error)]
    #[case(healthy().redirect("/x", |_| End::TooMany), Kind::RedirectLoop, Error)]
    #[case(healthy().redirect("http://localhost:4310/x", End::Leaves), Kind::OriginLeaked, Error)]
    #[case(healthy().redirect("http://booking.moor.test:4310/x", End::Leaves), Kind::OriginLeaked, Error)]
    #[case(healthy().redirect("https://booking.moor.test/x", End::Leaves), Kind::PortLost, Error)]
    #[case(healthy().redirect("http://booking.moor.test:17080/x", |_| End::Answered), Kind::RedirectDowngrades, Hint)]
    #[case(healthy().redirect("http://localhost:4399/x", End::Leaves), Kind::RedirectLeaves, Warning)]
    #[case(
        healthy().redirect("http://[::1]:4399/x", End::Leaves).seen(|seen| seen.redirected_to_open = Some(false)),
        Kind::RedirectLeaves,
        Error
    )]
    #[case(own_address_only(), Kind::OwnAddressOnly, Error)]
    #[case(outdated(), Kind::OldConfiguration, Hint)]
    #[case(folder_of_sources(), Kind::SourcesNotServed, Warning)]
    #[case(healthy().page(with(200, &[("x-a", &"a".repeat(130_000))], "")), Kind::AnswerOversized, Warning)]
    #[case(failing(400, &[(Trial::AsProxied, 400), (Trial::WithoutForwarding, 200)]), Kind::ForwardingRefused, Error)]
    #[case(failing(500, &[(Trial::AsProxied, 500), (Trial::WithoutForwarding, 200)]), Kind::ForwardingRefused, Error)]
    #[case(failing(500, &[(Trial::AsProxied, 500), (Trial::Direct, 200)]), Kind::BetterDirectly, Error)]
    #[case(failing(403, &[(Trial::AsProxied, 403), (Trial::WithoutPort, 302)]), Kind::HostRefused, Error)]
    #[case(failing(404, &[(Trial::AsProxied, 404), (Trial::Direct, 200)]), Kind::BetterDirectly, Warning)]
    #[case(failing(500, &[(Trial::AsProxied, 500), (Trial::Direct, 500)]), Kind::AppFails, Error)]
    #[case(healthy().page(html("<script src=http://localhost:4399/a.js></script>")), Kind::PageBypassesRoutes, Warning)]
    #[case(
        healthy().page(html("<script>new WebSocket('wss://booking.moor.test:5010/hmr')</script>")),
        Kind::PageBypassesRoutes,
        Hint
    )]
    #[case(
        healthy().seen(|seen| seen.named_by_scripts.extend(["http://127.0.0.1:4399/x".to_owned()])),
        Kind::PageBypassesRoutes,
        Hint
    )]
    #[case(healthy().page(Page { cut: Some("reset".into()), ..page(200) }), Kind::AnswerCut, Error)]
    #[case(healthy().expects("websocket", "live".into()).seen(|seen| seen.upgrades.push(upgrade(403))), Kind::UpgradeRefused, Error)]
    #[case(healthy().seen(|seen| seen.upgrades.push(upgrade(403))), Kind::UpgradeRefused, Hint)]
    #[case(healthy().expects("websocket", "/other".into()).seen(|seen| seen.upgrades.push(upgrade(403))), Kind::UpgradeRefused, Hint)]
    #[case(healthy().expects("events", "/e?since=0".into()).seen(|seen| seen.events.push(EventsSeen { path: "/e".into(), head: Some((404, "text/html".into())), encoding: None, lumps: vec![], flows_uncompressed: false })), Kind::EventsMissing, Error)]
    #[case(healthy().seen(|seen| seen.events.push(EventsSeen { path: "/e".into(), head: Some((404, "text/html".into())), encoding: None, lumps: vec![], flows_uncompressed: false })), Kind::EventsMissing, Hint)]
    #[case(healthy().expects("events", "events".into()).events(&[(2000, 5)], None), Kind::EventsBuffered, Warning)]
    #[case(healthy().expects("events", "/events".into()).events(&[], Some("gzip")), Kind::EventsBuffered, Warning)]
    #[case(healthy().events(&[(2000, 5)], None), Kind::EventsBuffered, Hint)]
    #[case(healthy().page(with(200, &[("set-cookie", "a=1; Domain=localhost")], "")), Kind::CookieDropped, Warning)]
    #[case(healthy().seen(|seen| seen.preflights.push(preflight(405, None))), Kind::PreflightRefused, Warning)]
    #[case(of("moor.test", "vm.moor.test", "http://192.0.2.10:80").page(html("<title>Shop</title>")).facts(|facts| facts.before_title = Some("Highmoor".into())), Kind::TargetChangedHands, Hint)]
    #[case(healthy().page(html("<script src=http://cdn.example/a.js></script>")), Kind::MixedContent, Warning)]
    #[case(slow(5000, 20), Kind::SlowAtFirst, Hint)]
    #[case(of("moor.test", "*.moor.test/huts", "1"), Kind::RouteShadowed, Hint)]
    // expect
    #[case(healthy().expects("status", 201.into()), Kind::StatusDiffers, Error)]
    #[case(healthy().page(html("<title>Shop</title>")).expects("title", "Highmoor".into()), Kind::OtherApp, Error)]
    #[case(healthy().page(html("<title>Shop</title>")).expects("text", "Highmoor".into()), Kind::OtherApp, Error)]
    #[case(healthy().page(with(200, &[], "tarn")).expects("text", "Highmoor".into()), Kind::TextDiffers, Error)]
    #[case(healthy().page(with(200, &[("x-app", "b")], "")).expects("header", serde_json::json!(["x-app: a"])), Kind::HeaderDiffers, Error)]
    #[case(healthy().page(with(200, &[], "{\"ok\":false}")).expects("json", serde_json::json!(["/ok=true"])), Kind::ValueDiffers, Error)]
    #[case(healthy().page(with(200, &[], "tarn")).expects("json", serde_json::json!(["/ok=true"])), Kind::ValueDiffers, Error)]
    fn each_fault_has_its_finding(
        #[case] case: Case,
        #[case] kind: FindingKind,
        #[case] severity: Severity,
    ) {
        let verdict = diagnose(&case.facts, &case.seen);
        let [finding] = verdict.findings.as_slice() else {
            panic!("one cause, one finding: {verdict:#?}")
        };
        assert_eq!(
            (finding.slug, finding.severity),
            (kind, severity),
            "{finding:?}"
        );
        assert_eq!(finding.hop, kind.hop());
        assert!(!finding.summary.is_empty() && !finding.fix.text.is_empty());
        if let Some(action) = &finding.fix.action {
            assert_eq!(finding.fix.command, Some(action.command()));
            keeps_what_a_person_set(&case.facts.route, action);
        }
        assert_eq!(verdict.passed, severity != Error, "{verdict:#?}");
        let states = verdict.states();
        let broken = states.iter().position(|state| *state == HopState::Broken);
        if severity != Error {
            // What was not asked for the sake of the case is not judged.
            assert_eq!(broken, None);
            return;
        }
        let broken = broken.unwrap();
        assert_eq!(verdict.hops[broken].hop, kind.hop(), "{verdict:#?}");
        let (before, after) = (&states[..broken], &states[broken + 1..]);
        assert!(before.iter().all(|state| state.is_good()));
        assert!(after.iter().all(|state| *state == HopState::NotReached));
    }

    /// Whether an action keeps every setting that it is not about, and does nothing more when it is carried
    /// out again.
    fn keeps_what_a_person_set(route: &Route, action: &Action) {
        let Action::EditRoute { patch, add, .. } = action else {
            return;
        };
        let others = json!({
            "note": "the shop", "server_timing": true, "first_byte_timeout": "5m", "trust_forwarded": true,
            "allow_origins": ["https://a.moor.test"], "set_headers": ["request x-env: dev"],
            "remove_headers": ["response server"], "expect": { "text": "huts", "header": ["x-app: huts"] },
        });
        let mut others = others.as_object().unwrap().clone();
        // What the case is about stays as it is.
        let own = serde_json::to_value(&route.settings).unwrap();
        others.retain(|key, _| own.get(key).is_none());
        let before = route.settings.merged(&others).unwrap();
        let carried_out = |settings: &RouteSettings| {
            let mut patch = patch.clone();
            patch.remove("to");
            add_to_lists(&mut patch, add, settings);
            settings.merged(&patch).unwrap()
        };
        let after = carried_out(&before);
        assert_eq!(carried_out(&after), after, "{action:?}");
        let is_named = |key: &String| patch.contains_key(key);
        kept(&json!(before), &json!(after), &is_named);
    }

    /// Lists have what they had, and values that are not named stay.
    fn kept(before: &Value, after: &Value, is_named: &dyn Fn(&String) -> bool) {
        for (key, value) in before.as_object().unwrap() {
            match value {
                Value::Array(entries) => {
                    let list = after[key].as_array().unwrap();
                    assert!(entries.iter().all(|it| list.contains(it)), "{key}: {after}");
                }
                Value::Object(_) => kept(value, &after[key], &|_| false),
                _ if is_named(key) => assert!(!after[key].is_null(), "{key} is gone"),
                _ => assert_eq!(value, &after[key], "{key}"),
            }
        }
    }

    #[rstest]
    #[case(healthy())]
    #[case(healthy().page(page(204)))]
    #[case(healthy().page(with(200, &[("x-a", &"a".repeat(100_000))], "")))]
    #[case(healthy().page(page(404)))]
    #[case(healthy().page(page(404)).expects("status", 404.into()).tried(&[(Trial::AsProxied, 404), (Trial::Direct, 200)]))]
    #[case(folder_of_sources().facts(|facts| facts.route.settings.serve_sources = true))]
    #[case(healthy().page(with(401, &[("www-authenticate", "Basic")], "")))]
    #[case(healthy().redirect("https://shop.example/", End::Leaves))]
    #[case(healthy().hosts("127.0.0.1").hosts("::1"))]
    #[case(healthy().store(StoreTrust::Trusted, true).store(StoreTrust::Unknown, true))]
    #[case(healthy().pair(|_| {}))]
    #[case(healthy().facts(|facts| facts.before = Some(holder("/a"))).seen(|seen| seen.holder = Some(holder("/a"))))]
    #[case(healthy().events(&[(10, 1), (900, 1)], None))]
    #[case(healthy().events(&[], None))]
    #[case(healthy().seen(|seen| seen.upgrades.push(upgrade(101))))]
    #[case(healthy().seen(|seen| seen.preflights.push(preflight(204, Some("https://booking.moor.test:17443")))))]
    #[case(healthy().page(html("<script src=/a.js></script><script src=https://cdn.example/b.js></script>")))]
    #[case(healthy().page(with(200, &[("set-cookie", "a=1; Path=/; Secure; HttpOnly")], "")))]
    #[case(healthy().page(html("<title>Highmoor</title>")).expects("title", "Highmoor".into()))]
    #[case(healthy().page(with(200, &[("x-app", "a")], "{\"a\":[7]}")).expects("json", serde_json::json!(["/a/0=7"])))]
    #[case(slow(5000, 4000))]
    #[case(of("moor.test", "*.moor.test", "1"))]
    fn healthy_routes_have_no_finding(#[case] case: Case) {
        let verdict = diagnose(&case.facts, &case.seen);
        assert!(
            verdict.passed && verdict.findings.is_empty(),
            "{verdict:#?}"
        );
        let expects = !case.facts.route.settings.expect.is_empty();
        let wanted = if expects {
            "●──●──●──●──●"
        } else {
            "●──●──●──●╌╌◌"
        };
        assert_eq!(lane(&verdict.states()), wanted);
    }

    #[test]
    fn a_paused_route_has_no_finding() {
        let case = healthy().own_page(Kind::RoutePaused).facts(|facts| {
            facts.route.settings.paused = true;
        });
        let case = case.seen(|seen| seen.connect = took(Connect::NotNeeded));
        let verdict = diagnose(&case.facts, &case.seen);
        assert!(verdict.passed, "{verdict:#?}");
        assert_eq!(verdict.hops[3].detail, "paused");
        assert_eq!(verdict.findings[0].slug, Kind::RoutePaused);
    }

    #[test]
    fn a_broken_first_hop_hides_the_later_ones() {
        let case = healthy().resolve(Resolve::Silent);
        let case = case.closed(&[Refusal::Refused]);
        let verdict = diagnose(&case.facts, &case.seen);
        assert_eq!(verdict.findings.len(), 1);
        assert_eq!(lane(&verdict.states()), "✕╌╌○╌╌○╌╌○╌╌○");
    }

    #[test]
    fn a_check_of_one_hop_judges_only_that_hop() {
        let case = healthy().resolve(Resolve::Silent);
        let case = case.closed(&[Refusal::Refused]).facts(|facts| {
            facts.only = Some(Hop::Connect);
        });
        let verdict = diagnose(&case.facts, &case.seen);
        assert_eq!(verdict.hops.len(), 1);
        assert_eq!(verdict.findings[0].slug, Kind::TargetRefuses);
    }

    #[test]
    fn a_fault_is_shown_at_the_hop_that_caused_it() {
        let case = healthy().own_page(Kind::TargetSpeaksPlain);
        let verdict = diagnose(&case.facts, &case.seen);
        assert_eq!(lane(&verdict.states()), "●──●╴ ✕╌╌○╌╌○");
    }

    #[test]
    fn slugs_are_unique_and_identify_their_finding() {
        for kind in FindingKind::ALL {
            assert_eq!(FindingKind::from_slug(kind.slug()), Some(*kind));
            let json = serde_json::to_string(kind).unwrap();
            assert_eq!(json, format!("\"{}\"", kind.slug()));
        }
        assert!(FindingKind::ALL.iter().is_sorted_by_key(|kind| kind.hop()));
    }

    #[test]
    fn the_fix_for_a_silent_port_names_the_port() {
        let case = healthy().closed(&[Refusal::Refused]);
        let verdict = diagnose(&case.facts, &case.seen);
        let fix = &verdict.findings[0].fix;
        assert!(fix.text.contains("port 4310"), "{}", fix.text);
        let command = fix.command.as_deref();
        assert_eq!(
            command,
            Some("bentlane route edit booking.moor.test --to PORT")
        );
    }
}
