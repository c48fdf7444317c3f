//! What browsers refuse or remember of a response.

use url::Url;

use crate::cookie;
use crate::finding::Finding;
use crate::fix::Fix;
use crate::kind::FindingKind;
use crate::observation::{Facts, PreflightSeen, Visit};
use crate::page::Page;

pub(super) fn cookies(facts: &Facts, visit: &Visit) -> Option<Finding> {
    let dropped = visit.pages.iter().flat_map(|page| {
        let host = Url::parse(&page.url).ok();
        let host = host
            .as_ref()
            .and_then(|url| url.host_str().map(str::to_owned));
        let host = host.unwrap_or_default();
        let fields = page.values("set-cookie").map(str::to_owned);
        fields
            .filter_map(|field| cookie::dropped(&field, &host))
            .collect::<Vec<_>>()
    });
    let dropped: Vec<cookie::Dropped> = dropped.collect();
    let first = dropped.first()?;
    let summary = format!(
        "browsers reject the app's cookie {}: {}",
        first.name, first.reason
    );
    let fix = match first.foreign {
        true => Fix::text(format!(
            "set the cookie without a domain, so that it belongs to {}",
            facts.name
        )),
        false => Fix::text("correct that attribute in the app's settings for cookies and sessions"),
    };
    let evidence = dropped
        .iter()
        .map(|it| format!("{}: {}", it.name, it.reason))
        .collect();
    Some(Finding::of(
        FindingKind::CookieDropped,
        summary,
        evidence,
        fix,
    ))
}

pub(super) fn preflight(seen: &PreflightSeen) -> Option<Finding> {
    let allowed = seen.allows.as_deref();
    let fine = allowed == Some("*") || allowed == Some(&*seen.origin);
    if fine
        && seen
            .status
            .is_some_and(|status| (200..300).contains(&status))
    {
        return None;
    }
    let status = seen
        .status
        .map_or("no answer".to_owned(), |it| format!("status {it}"));
    let allowed = allowed.map_or("no origin".to_owned(), str::to_owned);
    Some(Finding::of(
        FindingKind::PreflightRefused,
        format!(
            "the page requests {}, and the route {} does not allow its origin",
            seen.url, seen.route
        ),
        vec![format!(
            "OPTIONS with the origin {}: {status}, allows {allowed}",
            seen.origin
        )],
        Fix::add(
            "allow the page's origin on that route",
            &seen.route,
            "allow_origins",
            seen.origin.as_str(),
        ),
    ))
}

/// What the page loads over plain HTTP, except from this machine, which browsers allow.
pub(super) fn mixed_content(facts: &Facts, page: &Page) -> Option<Finding> {
    let blocked = |text: &String| {
        let url = Url::parse(text).ok().filter(|url| url.scheme() == "http")?;
        let host = url.host_str()?.trim_matches(['[', ']']).to_owned();
        let own = matches!(&*host, "localhost" | "::1")
            || host.starts_with("127.")
            || host.ends_with(".localhost");
        (!own).then_some((text.clone(), host))
    };
    let blocked: Vec<(String, String)> = page.markup().loads.iter().filter_map(blocked).collect();
    let (first, host) = blocked.first()?;
    let fix = match facts.snapshot.zone_of(host) {
        Some(_) => Fix::text(
            "write these URLs without `http:`, so that they begin with `//` or `/`: Bent Lane \
             serves them over HTTPS, too",
        ),
        None => Fix::text("load it over HTTPS, or from the app itself"),
    };
    Some(Finding::of(
        FindingKind::MixedContent,
        format!("the page loads {first} over plain HTTP, which browsers block"),
        blocked.iter().map(|(url, _)| url.clone()).collect(),
        fix,
    ))
}

/// A policy of HTTPS alone that reaches further than the route: it is kept by name, whatever the
/// port (RFC 6797 §8.2), and may hold for everything below the name (§6.1.2).
pub(super) fn hsts_too_wide(facts: &Facts, visit: &Visit) -> Option<Finding> {
    let zone = facts.snapshot.zone_of(facts.name.as_str());
    let is_localhost = facts.name.as_str() == "localhost";
    let is_apex = zone.is_some_and(|zone| zone.name == facts.name);
    let field = visit.first().values("strict-transport-security").next()?;
    let directives = || {
        field
            .split(';')
            .map(|part| part.trim().to_ascii_lowercase())
    };
    let with_subdomains = directives().any(|part| part == "includesubdomains");
    let is_kept = directives().any(|part| {
        let age = part
            .strip_prefix("max-age=")
            .map(|age| age.trim_matches('"').to_owned());
        age.is_some_and(|age| age != "0")
    });
    if !is_kept || !(is_localhost || (is_apex && with_subdomains)) {
        return None;
    }
    let (name, address) = (&facts.name, facts.address());
    let reach = match is_localhost {
        true => "every port of localhost".to_owned(),
        false => format!("{name} and every name below it"),
    };
    Some(Finding::of(
        FindingKind::HstsTooWide,
        format!("the app sets an HSTS policy for {reach}"),
        vec![format!("strict-transport-security: {field}")],
        Fix::set(
            "remove the header on this route, or send it in production only",
            &address,
            "drop_hsts",
            true,
        ),
    ))
}
