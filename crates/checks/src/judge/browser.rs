//! What browsers refuse or remember of a response.

use bentlane_model::{Plain, Target, suffixes};
use url::Url;

use super::answer::{is_loopback, url_of_port};
use super::moment;
use crate::cookie;
use crate::finding::Finding;
use crate::fix::Fix;
use crate::hop::Severity;
use crate::kind::FindingKind;
use crate::machine::ForcedHttps;
use crate::observation::{Facts, Observations, PreflightSeen, Visit};
use crate::page::{Load, Page};

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
    let markup = page.markup();
    let blocked = markup.loads.iter().filter_map(|Load { element, url }| {
        let url = Url::parse(url).ok().filter(|url| url.scheme() == "http")?;
        (!is_loopback(url.host_str()?)).then_some((element, url))
    });
    let blocked: Vec<(&&str, Url)> = blocked.collect();
    let (_, first) = blocked.first()?;
    let name = first.domain().unwrap_or_default();
    let fix = match facts.snapshot.route_for(name, first.path()) {
        Some(_) => {
            let mut url = first.clone();
            let port = (facts.usual_port != 443).then_some(facts.usual_port);
            let served = url.set_scheme("https").is_ok() && url.set_port(port).is_ok();
            debug_assert!(served, "{url}");
            Fix::text(format!("use {url} instead: a route serves that"))
        }
        None if facts.snapshot.zone_of(name).is_some() => Fix::text(format!(
            "no route leads to {name}{}: add one, and load it over HTTPS",
            first.path()
        )),
        None => Fix::text("load it over HTTPS, or from the app itself"),
    };
    Some(Finding::of(
        FindingKind::MixedContent,
        format!("the page loads {first} over plain HTTP, which browsers block"),
        blocked
            .iter()
            .map(|(element, url)| format!("<{element}>: {url}"))
            .collect(),
        fix,
    ))
}

/// What the page names beside the routes: a port of this machine, or a port of a name of ours where we do
/// not listen.
pub(super) fn bypasses(facts: &Facts, seen: &Observations, page: &Page) -> Option<Finding> {
    let markup = page.markup();
    let by_scripts = markup.asked().chain(&seen.named_by_scripts);
    // What a script merely names may never be asked for.
    let elements = markup
        .loads
        .iter()
        .map(|load| (Some(load.element), &load.url));
    let named = elements.chain(by_scripts.map(|url| (None, url)));
    let named: Vec<(Option<&str>, Url)> = named
        .filter_map(|(element, url)| Some((element, past(facts, url)?)))
        .collect();
    let (element, first) = named.first()?;
    let port = first.port_or_known_default()?;
    let is_socket = matches!(first.scheme(), "ws" | "wss");
    let fix = match url_of_port(facts, port) {
        _ if is_socket => live_reload(facts, first, &page.body),
        Some(url) => Fix::text(format!("use {url} instead: this route leads there")),
        None => Fix::text("use a path of the app itself, or add a route for it and use that URL"),
    };
    let place = element.map_or_else(|| "a script".to_owned(), |name| format!("<{name}>"));
    let finding = Finding::of(
        FindingKind::PageBypassesRoutes,
        format!("{place} of the page uses {first}, past the routes"),
        named
            .iter()
            .map(|(element, url)| format!("<{}>: {url}", element.unwrap_or("script")))
            .collect(),
        fix,
    );
    let severity = if element.is_some() {
        Severity::Warning
    } else {
        Severity::Hint
    };
    Some(Finding {
        severity,
        ..finding
    })
}

/// The URL, when it leads past the routes.
fn past(facts: &Facts, url: &str) -> Option<Url> {
    let url = Url::parse(url).ok()?;
    if !matches!(url.scheme(), "http" | "https" | "ws" | "wss") {
        return None;
    }
    let (host, port) = (url.host_str()?, url.port_or_known_default()?);
    let is_ours = facts.snapshot.zone_of(host).is_some();
    // Names of a zone below `localhost` are routes, and the port says whose.
    let served = [facts.https_port(), facts.usual_port, facts.http_port].contains(&port);
    let is_ours = is_ours && !served && facts.routed(&url).is_none();
    (is_ours || (is_loopback(host) && !served)).then_some(url)
}

/// Where the client of a dev server's live reload takes its port from.
fn live_reload(facts: &Facts, url: &Url, page: &str) -> Fix {
    let port = facts.https_port();
    let known = [
        (
            "vite",
            format!("`server.hmr.clientPort: {port}` in Vite's configuration"),
        ),
        (
            "webpack",
            "`devServer.client.webSocketURL: 'auto://0.0.0.0:0/ws'` in webpack's configuration"
                .to_owned(),
        ),
        (
            "livereload",
            format!("the port {port} in the URL of livereload.js"),
        ),
    ];
    let has = |word: &str| page.contains(word) || url.path().contains(word);
    let found = known.iter().find(|(word, _)| has(word));
    let setting = found.map_or_else(
        || format!("the port {port}, or that of the page (`location.host`), in the setting for the client's port"),
        |(_, setting)| setting.clone(),
    );
    Fix::text(format!(
        "live reload connects past the route: set {setting}"
    ))
}

/// A browser that opens the name over HTTPS alone, where that stands in the way.
pub(super) fn forced_https(facts: &Facts) -> Option<Finding> {
    let name = facts.name.as_str();
    let holds = |it: &&ForcedHttps| it.until > facts.now;
    let covering = |it: &ForcedHttps| {
        let mut hosts = suffixes(name).take(if it.subdomains { usize::MAX } else { 1 });
        hosts.find(|host| it.host.is(host)).map(str::to_owned)
    };
    let remembered = facts.machine.forced_https.iter().filter(holds);
    let for_name = remembered.clone().find_map(|it| Some((it, covering(it)?)));
    let plain = facts.snapshot.plain_for(name, Some(&facts.route));
    let by_port = match facts.server() {
        Target::Port(port) => Some(port),
        _ => None,
    };
    let (seen, host, why) = match (for_name, by_port) {
        (Some((seen, host)), _) if plain == Plain::Serve => {
            let why = format!("and not over plain HTTP, which {} serves", facts.address());
            (seen, host, why)
        }
        (Some((seen, host)), _) if facts.usual_port != 443 => {
            let why = "on port 443 where a URL has no port, and Bent Lane does not listen there";
            (seen, host, why.to_owned())
        }
        (_, Some(port)) => {
            let mut all = remembered;
            let seen = all.find(|it| it.host.is("localhost"))?;
            let why = format!("and apps by their ports, too, such as http://localhost:{port}");
            (seen, "localhost".to_owned(), why)
        }
        _ => return None,
    };
    let opened = if host == "localhost" { &*host } else { name };
    let forget = match &*seen.browser {
        "Firefox" => format!(
            "in Firefox's history (Ctrl+Shift+H), choose \"Forget About This Site\" for a page of {host}"
        ),
        browser => format!(
            "open chrome://net-internals/#hsts in {browser}, and enter {host} under \"Delete domain security policies\""
        ),
    };
    let finding = Finding::of(
        FindingKind::BrowserForcesHttps,
        format!("{} opens {opened} over HTTPS alone, {why}", seen.browser),
        vec![format!("until {}: {}", moment(seen.until), seen.file)],
        Fix::text(forget),
    );
    let severity = match plain {
        Plain::Serve => Severity::Warning,
        _ => finding.severity,
    };
    Some(Finding {
        severity,
        ..finding
    })
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
