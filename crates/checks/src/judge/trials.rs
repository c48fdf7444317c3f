//! Why a page fails through the proxy: what the app itself says to the same request, with one thing
//! changed at a time.

use bentlane_model::Pattern;

use url::Url;

use crate::finding::Finding;
use crate::fix::{Action, Fix};
use crate::kind::FindingKind;
use crate::observation::{Facts, Observations, Visit};
use crate::page::Page;
use crate::trial::{FORWARDING, Trial};

/// What the app refuses, when its last page is an error and a change of the request helps.
pub(super) fn refused(facts: &Facts, seen: &Observations, visit: &Visit) -> Option<Finding> {
    let page = visit.last();
    if page.status < 400 || facts.route.settings.expect.status == Some(page.status) {
        return None;
    }
    // Behind a wildcard there may be no such tenant.
    let many = matches!(facts.route.address.pattern, Pattern::Wildcard(_));
    if page.status == 404 && many {
        return None;
    }
    let trials = &seen.trials;
    let helps = |trial| trials.success(trial).is_some();
    if trials.page(Trial::AsProxied)?.status != page.status {
        return None;
    }
    let evidence = || evidence(seen, page);
    if helps(Trial::OverHttp1) {
        return Some(better_directly(facts, page, Trial::OverHttp1, evidence()));
    }
    if helps(Trial::WithoutForwarding) {
        return Some(forwarding_refused(facts, seen, page));
    }
    host_refused(facts, seen, page).or_else(|| {
        helps(Trial::Direct).then(|| better_directly(facts, page, Trial::Direct, evidence()))
    })
}

fn forwarding_refused(facts: &Facts, seen: &Observations, page: &Page) -> Finding {
    let helps = |field: &&'static str| seen.trials.success(Trial::Without(field)).is_some();
    let fields: Vec<&str> = match FORWARDING.into_iter().find(helps) {
        Some(field) => vec![field],
        None => FORWARDING.to_vec(),
    };
    let what = match fields.as_slice() {
        [field] => (*field).to_owned(),
        _ => "forwarding headers".to_owned(),
    };
    let text = "configure the app to trust the proxy on loopback";
    let entries = fields.iter().map(|field| format!("request {field}"));
    // By `Via`, the proxy notices loops.
    let fix = match fields.contains(&"via") {
        true => Fix::text(format!("{text}, and to accept requests with {what}")),
        false => Fix::action(
            format!("{text}; or remove {what} on this route"),
            Action::add(&facts.address(), "remove_headers", entries),
        ),
    };
    let summary = format!(
        "the app responds with {} as soon as a request has {what}",
        page.status
    );
    let kind = FindingKind::ForwardingRefused;
    Finding::of(kind, summary, evidence(seen, page), fix)
}

fn host_refused(facts: &Facts, seen: &Observations, page: &Page) -> Option<Finding> {
    let (name, host) = (&facts.name, facts.server().authority().unwrap_or_default());
    let (summary, fix) = if seen.trials.success(Trial::WithoutPort).is_some() {
        let port = facts.https_port();
        let summary = format!(
            "the app accepts the host {name}, and responds with {} to {name}:{port}",
            page.status
        );
        let fix = Fix::text(format!(
            "allow {name}:{port} in the app's list of hosts, or its own base URL; on port 443, the host has no port"
        ));
        (summary, fix)
    } else {
        let own = seen.trials.success(Trial::OwnHost)?.status;
        let summary = format!(
            "the app responds with {own} to its own host {host}, and with {} to {name}",
            page.status
        );
        let fix = Fix::set(
            format!("allow {name} in the app's list of hosts; or send the app its own host"),
            &facts.address(),
            "host",
            "target",
        );
        (summary, fix)
    };
    Some(Finding::of(
        FindingKind::HostRefused,
        summary,
        evidence(seen, page),
        fix,
    ))
}

/// An app that sends every client to its own address: as the proxy rewrites that, the redirects never end.
pub(super) fn own_address_only(facts: &Facts, seen: &Observations) -> Option<Finding> {
    let page = seen.trials.page(Trial::AsProxied)?;
    // A path alone is one of the host that was asked.
    let given = page
        .value("location")
        .and_then(|value| Url::parse(value).ok());
    let to = given.filter(|_| page.location().is_some())?;
    let own = facts.server().authority()?;
    let port = own.rsplit_once(':').and_then(|(_, port)| port.parse().ok());
    let is_own =
        |host: &str| host == "localhost" || own.rsplit_once(':').is_some_and(|it| it.0 == host);
    if !to.host_str().is_some_and(is_own) || to.port_or_known_default() != port {
        return None;
    }
    let text = "configure the public URL in the app, not its own address";
    let content = seen.trials.page(Trial::OwnHost);
    let fix = match content.is_some_and(|page| page.location().is_none() && page.status < 400) {
        true => Fix::set(
            format!("{text}; or send the app its own host, which it does not redirect"),
            &facts.address(),
            "host",
            "target",
        ),
        false => Fix::text(text),
    };
    Some(Finding::of(
        FindingKind::OwnAddressOnly,
        format!("the app redirects every other host to its own address {to}, and so back here"),
        vec![format!("asked for {}, it leads to {to}", facts.name)],
        fix,
    ))
}

fn better_directly(facts: &Facts, page: &Page, trial: Trial, evidence: Vec<String>) -> Finding {
    let place = facts.server().describe();
    Finding::of(
        FindingKind::BetterDirectly,
        format!(
            "{} is {} through the route, and works when {place} is asked {trial}",
            page.url, page.status
        ),
        evidence,
        Fix::command(
            "compare what the app logs for the two requests",
            format!(
                "curl -si http://{}/",
                facts.server().authority().unwrap_or_default()
            ),
        ),
    )
}

fn evidence(seen: &Observations, page: &Page) -> Vec<String> {
    let said = seen.trials.iter().filter_map(|(trial, answer)| {
        let page = answer.outcome.page()?;
        Some(format!("asked {trial}: status {}", page.status))
    });
    let start = beginning(&page.body);
    let start = (!start.is_empty()).then(|| format!("the page begins with: {start}"));
    said.chain(start).collect()
}

fn beginning(body: &str) -> String {
    const SHOWN: usize = 160;
    let start: String = body.chars().take(SHOWN).collect();
    start.split_whitespace().collect::<Vec<_>>().join(" ")
}
