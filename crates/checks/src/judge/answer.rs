use std::net::IpAddr;
use std::time::Duration;

use serde_json::Value;
use url::Url;

use super::{HopResult, browser, expect, in_words, micros, streams, trials};
use crate::finding::Finding;
use crate::fix::{Action, Fix, shell};
use crate::hop::Severity;
use crate::kind::FindingKind;
use crate::observation::{Answer, Direct, End, Facts, Observations, TargetLeaf, Timed, Visit};
use crate::page::Page;
use bentlane_model::{Address, Pattern, Plain, Protocol, Target, TlsEnd};

/// A first answer that takes longer is slow.
const SLOW: Duration = Duration::from_secs(3);
/// Bytes of headers from which clients of HTTP/2 end the connection.
const HEADERS_OF_MANY_CLIENTS: usize = 120 * 1024;
/// What a line of a header has beside its name and value: a colon, a space and the end.
const LINE: usize = 4;
/// How much faster the next has to be for the first to be slow at first.
const FASTER: u32 = 4;
pub(super) fn judge(facts: &Facts, seen: &Observations, answer: &Timed<Answer>) -> HopResult {
    let target = facts.server();
    let mut judged = match &answer.outcome {
        Answer::Accepted => HopResult::new("accepted").with(other_protocol(facts)),
        Answer::OwnPage { status, finding } => own_page(facts, seen, *status, finding),
        Answer::Silent if answer.took < facts.first_byte => {
            let mut judged = HopResult::new("no answer yet");
            judged.undeclared = true;
            judged.with([still_starting(facts, answer.took)])
        }
        Answer::Silent => {
            let limit = in_words(answer.took);
            HopResult::new("no answer").with([Finding::answer_late(target, &limit)])
        }
        Answer::Failed(reason) => {
            HopResult::new("broke off").with([Finding::answer_missing(target, reason)])
        }
        Answer::Visit(visit) => judge_visit(facts, seen, visit),
    };
    judged.micros = Some(micros(answer.took));
    judged.findings.extend(sources(facts, seen));
    judged
}

/// What clients of raw TCP begin with belongs on another kind of route.
fn other_protocol(facts: &Facts) -> Option<Finding> {
    let address = facts.address();
    if facts.clients.ask_for_tls {
        return Some(Finding::of(
            FindingKind::PostgresRefused,
            format!("a PostgreSQL client asked {address} for TLS and was refused"),
            vec!["the route expects a handshake at once".to_owned()],
            Fix::set(
                "answer such requests",
                &address,
                "tls",
                TlsEnd::Postgres.as_str(),
            ),
        ));
    }
    if !facts.clients.speak_http {
        return None;
    }
    let http = ("protocol", Protocol::Http.as_str().into());
    // Clients that use plaintext keep working.
    let action = match facts.route.settings.tls {
        Some(TlsEnd::Here) => Action::edit(&address, [http]),
        _ => Action::edit(&address, [http, ("plain", Plain::Serve.as_str().into())]),
    };
    Some(Finding::of(
        FindingKind::RawCarriesHttp,
        format!("clients send HTTP requests to {address}, which passes bytes as they are"),
        Vec::new(),
        Fix::action(
            "give the port HTTPS and all that routes for HTTP have",
            action,
        ),
    ))
}

/// Files of the folder that are not served, since they are to be run.
fn sources(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let Target::Folder(folder) = &facts.route.to else {
        return None;
    };
    let settings = &facts.route.settings;
    if settings.serve_sources || settings.r#else.is_some() {
        return None;
    }
    let first = seen.sources.first()?;
    Some(Finding::sources_not_served(
        &facts.address(),
        folder.path(),
        first,
        &seen.sources,
    ))
}

/// No response yet, and the proxy would still wait.
fn still_starting(facts: &Facts, waited: Duration) -> Finding {
    let place = facts.server().describe();
    let words = shell(&["bentlane", "check", &facts.address(), "--wait", "2m"]);
    Finding::of(
        FindingKind::StillStarting,
        format!(
            "{place} accepted the request, and has not responded for {}",
            in_words(waited)
        ),
        vec![format!(
            "a client waits for up to {}",
            in_words(facts.first_byte)
        )],
        Fix::command(
            "wait until it has compiled, or read its output if it hangs",
            words,
        ),
    )
}

fn own_page(facts: &Facts, seen: &Observations, status: u16, finding: &Finding) -> HopResult {
    if facts.route.settings.paused && finding.slug == FindingKind::RoutePaused {
        return HopResult::new("paused");
    }
    let leaf = seen
        .target_leaf
        .as_ref()
        .filter(|_| finding.slug == FindingKind::TargetUntrusted);
    let finding = leaf
        .and_then(|leaf| target_certificate(facts, leaf, finding))
        .unwrap_or_else(|| finding.clone());
    let mut judged = HopResult::new(format!("status {status}, ours"));
    judged.evidence = finding.evidence.clone();
    judged.with([finding])
}

/// Distinguishes why the certificate of the target is not accepted.
fn target_certificate(facts: &Facts, leaf: &TargetLeaf, reported: &Finding) -> Option<Finding> {
    let (kind, words) = if facts.now < leaf.not_before {
        (FindingKind::TargetExpired, "is not valid yet")
    } else if leaf.not_after < facts.now {
        (FindingKind::TargetExpired, "has expired")
    } else if !leaf.covers {
        (FindingKind::TargetOtherName, "is for another name")
    } else {
        return None;
    };
    let address = facts.address();
    let names = match leaf.names.as_slice() {
        [] => "no name (it has no subjectAltName)".to_owned(),
        names => names.join(", "),
    };
    let fix = match leaf.names.iter().find(|name| !name.contains('*')) {
        Some(name) if kind == FindingKind::TargetOtherName => Fix::set(
            format!(
                "verify it for the name that it covers; the app then sees {name} as the server name"
            ),
            &address,
            "target_name",
            name.as_str(),
        ),
        _ => Fix::set(
            "renew the app's certificate, or skip verification",
            &address,
            "target_tls",
            "none",
        ),
    };
    let mut evidence = vec![
        format!("it covers {names}, and is verified for {}", leaf.wanted),
        format!("valid from {} to {}", leaf.not_before, leaf.not_after),
    ];
    evidence.extend(reported.evidence.first().cloned());
    let place = facts.server().describe();
    let summary = format!("the certificate of {place} {words}");
    Some(Finding::of(kind, summary, evidence, fix))
}

fn judge_visit(facts: &Facts, seen: &Observations, visit: &Visit) -> HopResult {
    let target = facts.server();
    let last = visit.last();
    let mut judged = HopResult::new(format!("status {}", last.status));
    judged.evidence = evidence(seen, visit);
    let refused = trials::refused(facts, seen, visit);
    if (500..600).contains(&last.status) {
        let cause = refused.unwrap_or_else(|| Finding::app_fails(target, last.status));
        let severity = Severity::Error;
        judged.findings.push(Finding { severity, ..cause });
        judged.findings.extend(replicas(facts, seen));
        return judged;
    }
    let broken = [
        refused,
        redirects(facts, seen, visit),
        last.cut.as_ref().map(|reason| cut(target, last, reason)),
    ];
    judged.findings.extend(broken.into_iter().flatten());
    judged.findings.extend(
        seen.upgrades
            .iter()
            .filter_map(|it| streams::upgrade(facts, it)),
    );
    judged.findings.extend(
        seen.events
            .iter()
            .filter_map(|it| streams::events(facts, it)),
    );
    judged.findings.extend(browser::cookies(facts, visit));
    judged.findings.extend(browser::hsts_too_wide(facts, visit));
    judged.findings.extend(oversized(target, visit));
    judged.findings.extend(log_unwritable(facts));
    judged
        .findings
        .extend(seen.preflights.iter().filter_map(browser::preflight));
    judged.findings.extend(browser::mixed_content(facts, last));
    judged.findings.extend(browser::bypasses(facts, seen, last));
    judged.findings.extend(slow_at_first(target, seen, visit));
    judged.findings.extend(shadowed(facts));
    judged.findings.extend(replicas(facts, seen));
    judged
}

/// Containers of the route that do not answer as they should.
fn replicas(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let answers = &seen.replica_answers;
    let faults = answers.iter().filter_map(|(name, answer)| {
        let fault = match answer {
            Direct::Failed(reason) => reason.clone(),
            Direct::Page(page) if page.status >= 500 => format!("status {}", page.status),
            Direct::Page(page) => {
                let answer = Timed {
                    outcome: Answer::Visit(Box::new(Visit::of(Page::clone(page)))),
                    took: Duration::ZERO,
                };
                let judged = expect::judge(facts, &answer);
                judged.findings.first()?.summary.clone()
            }
        };
        Some((name.as_str(), fault))
    });
    let of = answers.len() + seen.replicas_down.len();
    Finding::replicas_failing(&faults.collect::<Vec<_>>(), of)
}

fn evidence(seen: &Observations, visit: &Visit) -> Vec<String> {
    let mut lines: Vec<String> = visit
        .pages
        .iter()
        .map(|page| format!("{}: {}", page.url, in_short(page)))
        .collect();
    lines.push(format!(
        "the first byte after {}",
        in_words(visit.first_byte)
    ));
    if let End::Leaves(url) = &visit.end {
        lines.push(format!("it redirects to {url}, which was not followed"));
    }
    lines.extend(seen.trials.iter().map(|(trial, answer)| {
        let said = match &answer.outcome {
            Direct::Page(page) => in_short(page),
            Direct::Failed(reason) => reason.clone(),
        };
        let took = in_words(answer.took);
        format!("the app, asked {trial}: {said}, after {took}")
    }));
    lines
}

fn in_short(page: &Page) -> String {
    let mut parts = vec![format!("status {}", page.status)];
    parts.extend(page.value("content-type").map(str::to_owned));
    parts.extend(
        page.value("content-encoding")
            .map(|how| format!("compressed with {how}")),
    );
    parts.push(format!("{} bytes", page.length));
    parts.join(", ")
}

/// Redirect loops, and redirects out of the route.
fn redirects(facts: &Facts, seen: &Observations, visit: &Visit) -> Option<Finding> {
    let chain: Vec<String> = visit.pages.iter().map(|page| page.url.clone()).collect();
    // A check sends no cookies, so that it is not followed where they are what is waited for.
    let waits_for_cookie = visit
        .pages
        .iter()
        .any(|page| page.value("set-cookie").is_some());
    match &visit.end {
        End::Turns(to) => {
            if let Some(finding) = trials::own_address_only(facts, seen) {
                return Some(finding);
            }
            if waits_for_cookie {
                return None;
            }
            let mut evidence = chain;
            evidence.push(to.clone());
            let from = Url::parse(&visit.last().url).ok()?;
            let given = visit.last().location()?;
            // The same place over again: but for the scheme that it was asked with.
            let itself = given.host_str() == from.host_str() && given.path() == from.path();
            if itself {
                return Some(Finding::of(
                    FindingKind::SchemeLoop,
                    "the app redirects to HTTPS in a loop, although the request uses HTTPS",
                    evidence,
                    Fix::text(
                        "configure the app to use `X-Forwarded-Proto` (trust the proxy on loopback): in \
                         Django `SECURE_PROXY_SSL_HEADER = (\"HTTP_X_FORWARDED_PROTO\", \
                         \"https\")`, in Express `app.set('trust proxy', 'loopback')`; or switch \
                         off its own redirect to HTTPS",
                    ),
                ));
            }
            Some(Finding::of(
                FindingKind::RedirectLoop,
                format!("the app redirects in a loop, back to {to}"),
                evidence,
                Fix::text("find out what the app waits for there: often a cookie or a sign-in"),
            ))
        }
        End::TooMany if waits_for_cookie => None,
        End::TooMany => Some(Finding::of(
            FindingKind::RedirectLoop,
            format!("the app redirects more than {} times", chain.len() - 1),
            chain,
            Fix::text("find out what the app waits for there: often a cookie or a sign-in"),
        )),
        End::Leaves(to) => leaked(facts, seen, visit, to),
        End::Answered => downgraded(visit),
    }
}

/// A redirect to the address of the app itself.
fn leaked(facts: &Facts, seen: &Observations, visit: &Visit, to: &str) -> Option<Finding> {
    let url = Url::parse(to).ok()?;
    let port = url.port_or_known_default()?;
    let host = url.host_str()?.trim_matches(['[', ']']);
    let same_port = target_port(facts.server()) == Some(port);
    let own_host = match facts.server() {
        Target::Server { host: own, .. } => own.to_string().trim_matches(['[', ']']) == host,
        _ => false,
    };
    let this_machine =
        host == "localhost" || host.parse::<IpAddr>().is_ok() || host == facts.name.as_str();
    if !same_port && is_loopback(host) {
        return Some(redirected_past(facts, seen, visit, (to, port)));
    }
    if !same_port || !(own_host || this_machine) {
        // Under names of ours the client is lost where we do not listen.
        facts.snapshot.zone_of(host)?;
        return Some(Finding::of(
            FindingKind::PortLost,
            format!("the app redirects to port {port} of {host}, where Bent Lane does not listen"),
            vec![format!("{} leads to {to}", visit.last().url)],
            Fix::text(format!(
                "configure the app to build URLs from the whole `Host`, or from `X-Forwarded-Host` and \
                 `X-Forwarded-Port`: the port is {}",
                facts.https_port()
            )),
        ));
    }
    let fix = Fix::text(format!(
        "configure the app to build URLs from `X-Forwarded-Host` and `X-Forwarded-Port`, or give it \
         {} as its own base URL",
        facts.url
    ));
    Some(Finding::of(
        FindingKind::OriginLeaked,
        format!("the app redirects to its own address {to}, past the route"),
        vec![format!("{} leads to {to}", visit.last().url)],
        fix,
    ))
}

/// A redirect to another port of this machine, where no name leads.
fn redirected_past(
    facts: &Facts,
    seen: &Observations,
    visit: &Visit,
    (to, port): (&str, u16),
) -> Finding {
    let accepts = seen.redirected_to_open != Some(false);
    let fix = match url_of_port(facts, port) {
        Some(url) => Fix::text(format!(
            "configure the app to use {url} instead of that address: this route leads there"
        )),
        None => Fix::text(
            "configure the app to use the public URL of what it redirects to; add a route if it has none",
        ),
    };
    let summary = match accepts {
        true => format!("the app redirects to {to}, past every route"),
        false => format!("the app redirects to {to}, where nothing listens"),
    };
    let evidence = vec![format!("{} leads to {to}", visit.last().url)];
    let finding = Finding::of(FindingKind::RedirectLeaves, summary, evidence, fix);
    let severity = if accepts {
        Severity::Warning
    } else {
        Severity::Error
    };
    Finding {
        severity,
        ..finding
    }
}

/// Whether a URL's host is this machine, whichever way it is written.
pub(super) fn is_loopback(host: &str) -> bool {
    let host = host.trim_matches(['[', ']']);
    let ip = host.parse::<IpAddr>();
    host == "localhost" || host.ends_with(".localhost") || ip.is_ok_and(|ip| ip.is_loopback())
}

/// The URL of the route that leads to a port of this machine, if there is one.
pub(super) fn url_of_port(facts: &Facts, port: u16) -> Option<String> {
    let mut routes = facts.snapshot.configuration().routes.iter();
    let route =
        routes.find(|route| !route.is_raw() && target_port(route.server()) == Some(port))?;
    let Address {
        pattern, prefix, ..
    } = &route.address;
    let prefix = prefix.as_str();
    Some(match route.https_port(facts.usual_port) {
        443 => format!("https://{pattern}{prefix}"),
        port => format!("https://{pattern}:{port}{prefix}"),
    })
}

fn target_port(target: &Target) -> Option<u16> {
    match target {
        Target::Port(port) | Target::Server { port, .. } => Some(port.get()),
        Target::Container(container) => container.port.map(std::num::NonZeroU16::get),
        Target::App(_) | Target::ByName(_) | Target::Folder(_) | Target::Redirect(_) => None,
    }
}

/// A redirect to plain HTTP under a name of ours.
fn downgraded(visit: &Visit) -> Option<Finding> {
    let is_plain = |page: &&Page| page.location().is_some_and(|to| to.scheme() == "http");
    let page = visit.pages.iter().find(is_plain)?;
    let to = page.location()?;
    Some(Finding::of(
        FindingKind::RedirectDowngrades,
        format!("the app redirects to plain HTTP: {to}"),
        vec![format!("{} leads to {to}", page.url)],
        Fix::text("configure the app to use `X-Forwarded-Proto` when it builds URLs"),
    ))
}

fn cut(target: &Target, page: &Page, reason: &str) -> Finding {
    Finding::of(
        FindingKind::AnswerCut,
        format!(
            "{} closes the connection before the end of its response",
            target.describe()
        ),
        vec![
            format!("{} bytes of {} came", page.length, page.url),
            reason.to_owned(),
        ],
        Fix::text("read the app's own output: it may have crashed while it answered"),
    )
}

/// Headers that end the connection at many clients, though the proxy passes them.
fn oversized(target: &Target, visit: &Visit) -> Option<Finding> {
    let size = |page: &Page| -> usize {
        let octets = |(name, value): &(String, String)| name.len() + value.len() + LINE;
        page.fields.iter().map(octets).sum()
    };
    let page = visit.pages.iter().max_by_key(|page| size(page))?;
    let kib = size(page) / 1024;
    (size(page) > HEADERS_OF_MANY_CLIENTS).then(|| {
        let limits = "curl takes some 128 KiB over HTTP/2, browsers 256 KiB, Node.js 16 KiB over HTTP/1.1";
        let mut finding = Finding::answer_oversized(target, &format!("{kib} KiB at {}", page.url));
        finding.evidence.push(limits.to_owned());
        Finding {
            severity: Severity::Warning,
            summary: format!(
                "the response of {} has {kib} KiB of headers, at which many clients end the connection",
                target.describe()
            ),
            ..finding
        }
    })
}

/// An access log that gets no lines.
fn log_unwritable(facts: &Facts) -> Option<Finding> {
    let (fault, address) = (facts.log_fault.as_ref()?, facts.address());
    Some(Finding::of(
        FindingKind::AccessLogUnwritable,
        format!("the access log cannot be written: {fault}"),
        Vec::new(),
        Fix::set(
            "create its folder, or turn the log off",
            &address,
            "access_log",
            Value::Null,
        ),
    ))
}

fn slow_at_first(target: &Target, seen: &Observations, visit: &Visit) -> Option<Finding> {
    let again = seen.again?;
    let first = visit.first_byte;
    let slow = first > SLOW && again < first / FASTER;
    slow.then(|| {
        Finding::of(
            FindingKind::SlowAtFirst,
            format!(
                "the first response of the app on {} took {}, the next one {}",
                target.describe(),
                in_words(first),
                in_words(again)
            ),
            Vec::new(),
            Fix::text(
                "nothing to do: it compiles or connects on the first request; \
                 `bentlane check --wait 60s` waits until it is ready",
            ),
        )
    })
}

/// The names of a wildcard that other routes take, whatever the path.
fn shadowed(facts: &Facts) -> Option<Finding> {
    let address = &facts.route.address;
    let Pattern::Wildcard(base) = &address.pattern else {
        return None;
    };
    if address.prefix.is_root() || address.port.is_some() {
        return None;
    }
    let routes = &facts.snapshot.configuration().routes;
    let covers = |pattern: &Pattern| {
        let mut others = routes.iter().map(|route| &route.address);
        others.any(|other| other.pattern == *pattern && other.prefix == address.prefix)
    };
    let shadows = routes.iter().map(|route| &route.address).filter(|other| {
        other.port.is_none()
            && other.prefix.is_root()
            && other.pattern.base().is_within(base)
            && other.pattern != address.pattern
            && !covers(&other.pattern)
    });
    let shadows: Vec<String> = shadows.map(|other| other.pattern.to_string()).collect();
    let first = shadows.first()?;
    let prefix = &address.prefix;
    Some(Finding::of(
        FindingKind::RouteShadowed,
        format!("{first} has its own route, so this route gets no requests for {first}{prefix}"),
        shadows
            .iter()
            .map(|name| format!("{name} has its own route"))
            .collect(),
        Fix::action(
            "add a route for that name's path, too",
            Action::AddRoute {
                address: format!("{first}{prefix}"),
                to: facts.route.to.to_string(),
            },
        ),
    ))
}
