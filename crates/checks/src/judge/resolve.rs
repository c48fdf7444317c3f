use std::net::IpAddr;
use std::time::Duration;

use time::OffsetDateTime;
use time::macros::format_description;

use super::{HopResult, in_words, list, micros};
use crate::advice::AdviceKind;
use crate::finding::Finding;
use crate::fix::{Fix, Part, shell};
use crate::hop::Severity;
use crate::hosts::HostsEntry;
use crate::kind::FindingKind;
use crate::machine::{BrowserDns, LookupResult, NameserverResult};
use crate::observation::{Facts, Observations, Resolve, SystemLookup, Timed};
use bentlane_model::Pattern;
use bentlane_model::is_at_or_below;

pub(super) fn judge(facts: &Facts, seen: &Observations) -> HopResult {
    let ours = &seen.resolve;
    let mut judged = match &ours.outcome {
        Resolve::Addresses(found) => HopResult::new(list(found)).with(elsewhere(facts, found)),
        Resolve::Code(code) => {
            HopResult::new(code).with([Finding::resolver_refuses(facts.name.as_str(), code)])
        }
        Resolve::Silent => HopResult::new("no answer").with([silent(facts, "no answer over UDP")]),
        Resolve::Failed(reason) => HopResult::new("failed").with([silent(facts, reason)]),
    };
    judged.micros = Some(micros(ours.took));
    judged.evidence.push(format!(
        "our resolver at {}, over UDP: {}",
        facts.resolver,
        answer_text(ours)
    ));
    if let Some(over_tcp) = &seen.resolve_over_tcp {
        judged
            .evidence
            .push(format!("the same over TCP: {}", answer_text(over_tcp)));
        if over_tcp.outcome != ours.outcome && judged.findings.is_empty() {
            let evidence = format!("over TCP: {}", answer_text(over_tcp));
            judged.findings.push(silent(facts, &evidence));
        }
    }
    let hosts: Vec<&HostsEntry> = facts.machine.hosts_of(&facts.name).collect();
    for entry in &hosts {
        judged.evidence.push(format!(
            "the hosts file, line {}: {}",
            entry.line, entry.address
        ));
    }
    judged.findings.extend(stale_entries(facts, &hosts));
    judge_system(facts, seen, &hosts, &mut judged);
    judged.findings.extend(browsers(facts));
    judged.findings.extend(name_advice(facts));
    judged
}

fn answer_text(lookup: &Timed<Resolve>) -> String {
    let said = match &lookup.outcome {
        Resolve::Addresses(found) if found.is_empty() => "no address".to_owned(),
        Resolve::Addresses(found) => list(found),
        Resolve::Code(code) => code.clone(),
        Resolve::Silent => "no answer".to_owned(),
        Resolve::Failed(reason) => reason.clone(),
    };
    format!("{said}, after {}", in_words(lookup.took))
}

fn silent(facts: &Facts, evidence: &str) -> Finding {
    let resolver = facts.resolver.to_string();
    Finding::resolver_silent(facts.name.as_str(), &resolver, evidence.to_owned())
}

fn elsewhere(facts: &Facts, found: &[IpAddr]) -> Option<Finding> {
    let listening = |ip: &IpAddr| facts.listening_on.contains(ip);
    if !found.is_empty() && found.iter().all(listening) {
        return None;
    }
    let texts = |all: &[IpAddr]| all.iter().map(ToString::to_string).collect::<Vec<_>>();
    Some(Finding::resolves_elsewhere(
        facts.name.as_str(),
        &texts(found),
        &texts(&facts.listening_on),
    ))
}

/// Entries of the hosts file for other addresses, or for one address family only.
fn stale_entries(facts: &Facts, hosts: &[&HostsEntry]) -> Option<Finding> {
    let name = &facts.name;
    let ours = |ip: &IpAddr| facts.listening_on.contains(ip);
    let line =
        |entry: &&&HostsEntry| format!("/etc/hosts, line {}: {} {name}", entry.line, entry.address);
    let stale: Vec<&&HostsEntry> = hosts.iter().filter(|it| !ours(&it.address)).collect();
    if let Some(first) = stale.first() {
        let numbers: Vec<String> = stale.iter().map(|entry| entry.line.to_string()).collect();
        let pattern = name.as_str().replace('.', "\\.");
        let edits: Vec<String> = numbers
            .iter()
            .map(|number| format!("{number}s/[[:blank:]]{pattern}\\([[:blank:]]\\|$\\)/\\1/"))
            .collect();
        return Some(Finding::of(
            FindingKind::HostsOverride,
            format!(
                "the hosts file maps {name} to {}, where Bent Lane does not listen",
                first.address
            ),
            stale.iter().map(line).collect(),
            Fix::command(
                format!("remove the name from line {}", numbers.join(" and line ")),
                format!("sudo sed -i '{}' /etc/hosts", edits.join("; ")),
            ),
        ));
    }
    let both = facts.listening_on.iter().any(IpAddr::is_ipv4)
        && facts.listening_on.iter().any(IpAddr::is_ipv6);
    let one = hosts.iter().all(|entry| entry.address.is_ipv4())
        || hosts.iter().all(|entry| entry.address.is_ipv6());
    let entry = hosts.first().filter(|_| both && one)?;
    let other = facts
        .listening_on
        .iter()
        .find(|ip| ip.is_ipv4() != entry.address.is_ipv4())?;
    Some(Finding::of(
        FindingKind::HostsOneFamily,
        format!(
            "the hosts file maps {name} to {} only, and Bent Lane also listens on {other}",
            entry.address
        ),
        hosts.iter().map(|entry| line(&entry)).collect(),
        Fix::command(
            "add the other address, or remove the line once the machine is attached",
            format!("echo '{other} {name}' | sudo tee -a /etc/hosts"),
        ),
    ))
}

/// Holds the system's own lookup against ours.
fn judge_system(facts: &Facts, seen: &Observations, hosts: &[&HostsEntry], judged: &mut HopResult) {
    let by_hosts = judged
        .findings
        .iter()
        .any(|finding| finding.slug == FindingKind::HostsOverride);
    let Some(system) = &seen.system else {
        if hosts.is_empty() {
            judged
                .evidence
                .push("the system has no reason to ask us, so it was not asked".to_owned());
            judged.findings.push(not_asking(facts, Vec::new()));
        }
        return;
    };
    let said = match &system.outcome {
        SystemLookup::Addresses(found) => list(found),
        SystemLookup::NotFound(reason) => reason.clone(),
        SystemLookup::Silent => "no answer".to_owned(),
    };
    let evidence = format!(
        "the system's own lookup: {said}, after {}",
        in_words(system.took)
    );
    judged.evidence.push(evidence.clone());
    for NameserverResult { server, said } in &seen.nameservers {
        judged
            .evidence
            .push(format!("name server {server}: {}", in_short(said)));
    }
    let fine = matches!(&system.outcome, SystemLookup::Addresses(found)
        if !found.is_empty() && found.iter().all(|ip| facts.listening_on.contains(ip)));
    if fine || by_hosts {
        return;
    }
    let cause = held(facts, &evidence).or_else(|| answered_first(facts, seen, &evidence));
    let cause = cause.unwrap_or_else(|| not_asking(facts, vec![evidence]));
    judged.findings.push(cause);
}

fn in_short(said: &LookupResult) -> String {
    match said {
        LookupResult::Addresses(found) => list(found),
        LookupResult::Negative { code, zone, ttl } => {
            let zone = zone.as_ref().map(|zone| format!(", says the zone {zone}"));
            let ttl = ttl.map(|ttl| format!(", for {ttl} s"));
            format!(
                "{code}{}{}",
                zone.unwrap_or_default(),
                ttl.unwrap_or_default()
            )
        }
        LookupResult::Nothing => "no answer".to_owned(),
    }
}

fn not_asking(facts: &Facts, mut evidence: Vec<String>) -> Finding {
    let machine = &facts.machine;
    let zone = facts.snapshot.zone_of(facts.name.as_str());
    let zone = zone.map_or_else(|| facts.name.to_string(), |zone| zone.name.to_string());
    if machine.nameservers.is_empty() {
        evidence.push("the system has no name server".to_owned());
    } else {
        evidence.push(format!("it asks {}", list(&machine.nameservers)));
    }
    let finding = Finding::of(
        FindingKind::SystemNotAsking,
        format!("the system does not ask Bent Lane for names in {zone}"),
        evidence,
        Fix::attach("attach this machine", None),
    );
    match machine.names_attached {
        true => Finding {
            severity: Severity::Error,
            ..finding
        },
        false => finding,
    }
}

/// A name server on this machine that should be us, and is another program.
fn held(facts: &Facts, evidence: &str) -> Option<Finding> {
    let (at, holder) = facts.machine.dns_holder.as_ref()?;
    Some(Finding::of(
        FindingKind::DnsPortHeld,
        format!(
            "{} listens on {at}, where the system sends its queries",
            holder.command
        ),
        vec![holder.to_string(), evidence.to_owned()],
        Fix::command(
            "stop that program, then restart the service, which binds the port",
            format!("sudo kill {}", holder.pid),
        ),
    ))
}

/// A name server that answers before ours is asked, or in our place from what it has kept.
fn answered_first(facts: &Facts, seen: &Observations, evidence: &str) -> Option<Finding> {
    let first = seen
        .nameservers
        .iter()
        .find(|it| it.said != LookupResult::Nothing)
        .filter(|it| !facts.machine.ours.contains(&it.server))?;
    let evidence = vec![
        format!("name server {}: {}", first.server, in_short(&first.said)),
        evidence.to_owned(),
    ];
    let own_zone = |zone: &String| {
        let is_it = |own: &bentlane_model::Zone| own.name.as_str() == zone;
        facts
            .snapshot
            .zone_of(facts.name.as_str())
            .is_some_and(is_it)
    };
    if let LookupResult::Negative {
        zone: Some(zone),
        ttl: Some(ttl),
        ..
    } = &first.said
        && own_zone(zone)
    {
        let until = facts.now + Duration::from_secs(u64::from(*ttl));
        return Some(Finding::of(
            FindingKind::NegativeCached,
            format!(
                "{} has cached that {} does not exist, until {}",
                first.server,
                facts.name,
                clock(until)
            ),
            evidence,
            Fix::command(
                format!(
                    "wait {ttl} s, or flush that server's cache; the command is for systemd's \
                     resolver"
                ),
                "resolvectl flush-caches",
            ),
        ));
    }
    Some(Finding::of(
        FindingKind::NameserverFirst,
        format!(
            "the name server {} comes before Bent Lane's resolver",
            first.server
        ),
        evidence,
        Fix::attach(
            "put Bent Lane's resolver first; it forwards everything else to the others",
            Part::Lookups,
        ),
    ))
}

fn clock(at: OffsetDateTime) -> String {
    let format = format_description!("[hour]:[minute]:[second] UTC");
    let utc = at.to_offset(time::UtcOffset::UTC);
    utc.format(format).unwrap_or_else(|_| at.to_string())
}

fn browsers(facts: &Facts) -> Option<Finding> {
    // Browsers answer for names below localhost themselves (RFC 6761 §6.3).
    if is_at_or_below(facts.name.as_str(), "localhost") {
        return None;
    }
    let asks_elsewhere = |it: &&BrowserDns| {
        let mut except = it.except.iter();
        !except.any(|domain| is_at_or_below(facts.name.as_str(), domain))
    };
    let browsers = facts.machine.browsers.iter().filter(asks_elsewhere);
    let browsers: Vec<&BrowserDns> = browsers.collect();
    let first = browsers.first()?;
    let line = |it: &BrowserDns| {
        let server = it.server.as_deref().unwrap_or("another server");
        format!("{} asks {server}: {}", it.browser, it.file)
    };
    let url = format!("https://bentlane.localhost:{}/dns-query", facts.usual_port);
    Some(Finding::of(
        FindingKind::BrowserAsksElsewhere,
        format!(
            "{} uses its own DNS server, which does not know your zones",
            first.browser
        ),
        browsers.iter().map(|it| line(it)).collect(),
        Fix::text(match first.by_policy {
            true => format!(
                "a policy says so: turn DNS over HTTPS off in {}, or set its server to {url}",
                first.file
            ),
            false => format!(
                "in the browser's settings, turn secure DNS (DNS over HTTPS) off, or set it to {url}"
            ),
        }),
    ))
}

/// What is questionable about the name itself.
fn name_advice(facts: &Facts) -> Vec<Finding> {
    let zone = facts.snapshot.zone_of(facts.name.as_str());
    let zone = zone.map(|zone| zone.name.to_string()).unwrap_or_default();
    let finding = |advice: &crate::advice::Advice| {
        let wildcard = matches!(facts.route.address.pattern, Pattern::Wildcard(_));
        let kind = match advice.slug {
            AdviceKind::MulticastDns => FindingKind::MulticastName,
            AdviceKind::PublicSuffix | AdviceKind::RealDomain => FindingKind::PublicName,
            AdviceKind::ForcedHttps => FindingKind::ForcedHttps,
            AdviceKind::Unreserved => FindingKind::UnreservedSuffix,
            AdviceKind::SingleLabel if wildcard => FindingKind::WildcardSingleLabel,
            AdviceKind::SingleLabel => return None,
        };
        let fix = match &advice.better {
            Some(better) => Fix::command(
                format!("use a zone such as `{better}`, and add the routes there"),
                shell(&["bentlane", "zone", "add", better]),
            ),
            None => Fix::text("nothing has to be done, as long as you know"),
        };
        let evidence = vec![format!("the zone {zone}")];
        Some(Finding::of(kind, advice.reason.clone(), evidence, fix))
    };
    let mut found: Vec<Finding> = facts.advice.iter().filter_map(finding).collect();
    found.dedup_by_key(|finding| finding.slug);
    found
}
