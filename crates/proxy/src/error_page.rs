//! What a person sees when a request cannot pass: the lane, the reason and the fix.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::fmt::Write as _;
use std::sync::LazyLock;
use std::time::Duration;

use bentlane_checks::{
    AppState, AppStatus, FINDING_HEADER, Finding, FindingKind, Hop, HopState, Since, lane,
};
use bentlane_model::Target;
use data_encoding::BASE64;
use http::header::{
    CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS,
};
use http::{HeaderValue, Method, Response, StatusCode};
use serde_json::json;
use time::OffsetDateTime;

use crate::response_body::ResponseBody;

/// The way off the lane, to its open end.
const BEND: &str = r#"<svg viewBox="0 0 52 48" aria-hidden="true"><path d="M12 0v6q0 18 18 18h12M46 15v18"/></svg>"#;
/// The page of a finding, to be filled in.
const TEMPLATE: &str = include_str!("page.html");

/// What a page of ours may do: its own script, which asks for the same page again, its own style, and
/// nothing else; and no other page may show it in a frame (CSP Level 3).
static POLICY: LazyLock<HeaderValue> = LazyLock::new(|| {
    let script = TEMPLATE.split_once("<script>").map_or("", |(_, rest)| rest);
    let script = script
        .split_once("</script>")
        .map_or("", |(script, _)| script);
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, script.as_bytes());
    let policy = format!(
        "default-src 'none'; script-src 'sha256-{}'; style-src 'unsafe-inline'; \
         connect-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'",
        BASE64.encode(digest.as_ref())
    );
    HeaderValue::from_str(&policy)
        .unwrap_or_else(|_| HeaderValue::from_static("default-src 'none'; frame-ancestors 'none'"))
});

/// How a client wants to read a page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PageFormat {
    /// A browser.
    Html,
    /// A program: `application/problem+json` (RFC 9457).
    Json,
    /// A terminal.
    Text,
}

impl PageFormat {
    /// The first of our formats that `Accept` names; a client that takes anything is no browser.
    pub(crate) fn by(accept: Option<&HeaderValue>) -> Self {
        let accept = accept
            .and_then(|value| value.to_str().ok())
            .unwrap_or_default();
        accept
            .split(',')
            .find_map(
                |range| match range.split(';').next().unwrap_or_default().trim() {
                    "text/html" | "application/xhtml+xml" => Some(Self::Html),
                    "application/json" | "application/problem+json" => Some(Self::Json),
                    _ => None,
                },
            )
            .unwrap_or(Self::Text)
    }
}

/// An error page.
#[derive(Debug)]
pub(crate) struct ErrorPage {
    status: StatusCode,
    kind: Kind,
}

#[derive(Debug)]
enum Kind {
    /// The client broke the protocol: a line is enough.
    Refusal(Cow<'static, str>),
    Finding(FindingPage),
}

/// The page of a finding.
#[derive(Debug)]
struct FindingPage {
    name: String,
    address: String,
    target: Option<String>,
    finding: Box<Finding>,
    /// Until when the route was proved, and what is different since then.
    since: Option<Since>,
    /// Whether the reader may know how this machine is set up.
    detailed: bool,
    /// The app that it is about.
    app: Option<AppOnPage>,
}

/// What the page of an app shows beside the finding.
#[derive(Debug)]
struct AppOnPage {
    /// What it printed last.
    output: Vec<String>,
    /// Where the page asks for news.
    news_path: String,
    /// With what it may ask for a restart, once the app has ended.
    token: Option<String>,
}

impl ErrorPage {
    fn refusal(status: StatusCode, reason: impl Into<Cow<'static, str>>) -> Self {
        Self {
            status,
            kind: Kind::Refusal(reason.into()),
        }
    }

    /// For a request that breaks a rule of HTTP.
    #[cold]
    pub(crate) fn bad_request(reason: &'static str) -> Self {
        Self::refusal(StatusCode::BAD_REQUEST, reason)
    }

    /// For a request whose fields take more bytes than the limit (RFC 6585 §5).
    #[cold]
    pub(crate) fn fields_too_large() -> Self {
        Self::refusal(
            StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE,
            "the header fields are too large: clear this site's cookies",
        )
    }

    /// For a request on a connection that was made for another name (RFC 9110 §15.5.20): the client
    /// asks again on its own connection.
    #[cold]
    pub(crate) fn misdirected(connection: &str, name: &str) -> Self {
        let reason = format!("this connection is for {connection}, not for {name}: open another");
        Self::refusal(StatusCode::MISDIRECTED_REQUEST, reason)
    }

    /// For a request whose body stops coming (RFC 9110 §15.5.9).
    #[cold]
    pub(crate) fn request_stalled(limit: Duration) -> Self {
        let reason = format!("no more of the body came for {} s", limit.as_secs());
        Self::refusal(StatusCode::REQUEST_TIMEOUT, reason)
    }

    /// For a name and path that no route covers.
    #[cold]
    pub(crate) fn route_missing(name: &str, path: &str, nearest: &[String]) -> Box<Self> {
        let finding = Finding::route_missing(name, path, nearest);
        Self::finding(StatusCode::NOT_FOUND, name, name, None, finding)
    }

    /// For a connection too many.
    #[cold]
    pub(crate) fn too_many_connections(name: &str, limit: usize) -> Box<Self> {
        let finding = Finding::too_many_connections(limit);
        Self::finding(StatusCode::SERVICE_UNAVAILABLE, name, name, None, finding)
    }

    /// For a request that a route covers and a fault keeps from its answer.
    #[cold]
    pub(crate) fn finding(
        status: StatusCode,
        name: &str,
        address: &str,
        target: Option<&Target>,
        finding: Finding,
    ) -> Box<Self> {
        let page = FindingPage {
            name: name.to_owned(),
            address: address.to_owned(),
            target: target.map(Target::describe),
            finding: Box::new(finding),
            since: None,
            detailed: true,
            app: None,
        };
        Box::new(Self {
            status,
            kind: Kind::Finding(page),
        })
    }

    /// What it says is wrong; `None` when the client broke the protocol.
    pub(crate) fn slug(&self) -> Option<FindingKind> {
        match &self.kind {
            Kind::Refusal(_) => None,
            Kind::Finding(page) => Some(page.finding.slug),
        }
    }

    /// Adds until when the route was proved, where that is known.
    pub(crate) fn add_since(&mut self, since: impl FnOnce(&str) -> Option<Since>) {
        if let Kind::Finding(page) = &mut self.kind {
            page.since = since(&page.address);
        }
    }

    /// Adds the app that it is about: what it printed, and how the page asks for more.
    pub(crate) fn add_app(&mut self, status: AppStatus, news_path: String, token: Option<String>) {
        let has_ended = matches!(
            status.state,
            AppState::Stopped | AppState::Crashed | AppState::CrashLoop
        );
        if let Kind::Finding(page) = &mut self.kind {
            page.app = Some(AppOnPage {
                output: status.output,
                news_path,
                token: token.filter(|_| has_ended),
            });
        }
    }

    /// Says nothing of how this machine is set up, unless it is `local` who reads it.
    pub(crate) fn hide_details_unless(&mut self, local: bool) {
        if let Kind::Finding(page) = &mut self.kind
            && !local
        {
            page.detailed = false;
            page.target = None;
            page.since = None;
            page.app = None;
            let finding = &mut page.finding;
            finding.evidence.clear();
            finding.summary = "this cannot be shown at the moment".to_owned();
            finding.fix.text = "ask the owner of this machine".to_owned();
            finding.fix.command = None;
        }
    }

    pub(crate) fn response_for(
        &self,
        wanted: PageFormat,
        method: &Method,
    ) -> Response<ResponseBody> {
        let (media, body) = self.content(wanted);
        // HEAD has the fields of GET and no content (RFC 9110 §9.3.2); the page's script asks so.
        let body = if *method == Method::HEAD {
            ResponseBody::empty()
        } else {
            ResponseBody::own(body)
        };
        let mut response = Response::new(body);
        *response.status_mut() = self.status;
        let headers = response.headers_mut();
        headers.insert(CONTENT_TYPE, HeaderValue::from_static(media));
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
        headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
        headers.insert(REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
        headers.insert(CONTENT_SECURITY_POLICY, POLICY.clone());
        if let Some(slug) = self.slug() {
            headers.insert(FINDING_HEADER, HeaderValue::from_static(slug.slug()));
        }
        response
    }

    /// The media type and the text.
    fn content(&self, wanted: PageFormat) -> (&'static str, String) {
        match (wanted, &self.kind) {
            (_, Kind::Refusal(reason)) => ("text/plain; charset=utf-8", format!("{reason}\n")),
            (PageFormat::Html, Kind::Finding(page)) => {
                ("text/html; charset=utf-8", page.html(self.status))
            }
            (PageFormat::Json, Kind::Finding(page)) => {
                ("application/problem+json", page.json(self.status))
            }
            (PageFormat::Text, Kind::Finding(page)) => ("text/plain; charset=utf-8", page.text()),
        }
    }
}

impl FindingPage {
    fn text(&self) -> String {
        let finding = &self.finding;
        let mut page = match self.detailed {
            true => format!("{}  {}", lane(&states(finding)), self.name),
            false => self.name.clone(),
        };
        if let Some(target) = &self.target {
            let _ = write!(page, " -> {target}"); // a String takes every write
        }
        let _ = write!(page, "\n\n{} ({})\n", finding.summary, finding.slug.slug());
        for line in &finding.evidence {
            let _ = writeln!(page, "  {line}");
        }
        for line in self.app.iter().flat_map(|app| &app.output) {
            let _ = writeln!(page, "  | {line}");
        }
        let _ = writeln!(page, "\n{}", finding.fix.text);
        if let Some(command) = &finding.fix.command {
            let _ = writeln!(page, "  {command}");
        }
        for (number, line) in self.since_in_words().iter().enumerate() {
            let _ = writeln!(page, "{}{line}", if number == 0 { "\n" } else { "" });
        }
        page
    }

    fn since_in_words(&self) -> Vec<String> {
        let since = self.since.as_ref();
        since.map_or_else(Vec::new, |since| since.in_words(OffsetDateTime::now_utc()))
    }

    fn json(&self, status: StatusCode) -> String {
        let problem = json!({
            "type": format!("urn:bentlane:finding:{}", self.finding.slug.slug()),
            "title": self.finding.summary,
            "status": status.as_u16(),
            "name": self.name,
            "address": self.address,
            "to": self.target,
            "finding": self.finding,
            "since": self.since,
            "output": self.app.as_ref().map(|app| &app.output),
        });
        format!("{problem:#}\n")
    }

    fn html(&self, status: StatusCode) -> String {
        let finding = &self.finding;
        let goes_to = self.target.as_ref().map_or_else(String::new, |target| {
            format!(r#" <span class="to">leads to {}</span>"#, escape(target))
        });
        let evidence: String = finding
            .evidence
            .iter()
            .map(|line| format!("<li>{}</li>", escape(line)))
            .collect();
        let command = finding.fix.command.as_ref().map_or_else(String::new, |command| {
            format!(
                r#"<p class="command"><code id="command">{}</code> <button id="copy">Copy</button></p>"#,
                escape(command)
            )
        });
        let since = match self.since_in_words().split_first() {
            None => String::new(),
            Some((first, changes)) => {
                let changes = changes
                    .iter()
                    .map(|line| format!("<li>{}</li>", escape(line.trim())));
                let first = sentence(first);
                format!(
                    r#"<section class="since" aria-label="Since when"><p>{}</p><ul>{}</ul></section>"#,
                    escape(
                        first
                            .strip_suffix('.')
                            .filter(|it| it.ends_with(':'))
                            .unwrap_or(&first)
                    ),
                    changes.collect::<String>()
                )
            }
        };
        let slug = finding.slug.slug();
        let app = self
            .app
            .as_ref()
            .map_or_else(String::new, |app| app.html(slug));
        let what = format!(
            r#"<h1>{}</h1>{app}<ul>{evidence}</ul><section class="fix" aria-label="Fix"><p>{}</p>{command}</section>{since}"#,
            escape(&sentence(&finding.summary)),
            escape(&sentence(&finding.fix.text)),
        );
        let lane = match self.detailed {
            true => lane_with(finding, &what),
            false => format!(r#"<li class="alone">{what}</li>"#),
        };
        TEMPLATE
            .replace("{{status}}", status.as_str())
            .replace("{{slug}}", finding.slug.slug())
            .replace("{{name}}", &escape(&self.name))
            .replace("{{to}}", &goes_to)
            .replace("{{lane}}", &lane)
    }
}

impl AppOnPage {
    fn html(&self, slug: &str) -> String {
        let restart = self.token.as_ref().map_or_else(String::new, |token| {
            let token = escape(token);
            format!(
                r#"<p class="restart"><button id="restart" data-token="{token}">Start it again</button> <span id="refused" role="status"></span></p>"#
            )
        });
        let lines: String = self
            .output
            .iter()
            .map(|line| format!("{}\n", escape(line)))
            .collect();
        format!(
            r#"<section class="output" aria-label="Output"><pre id="output" data-news="{}" data-finding="{slug}" tabindex="0">{lines}</pre></section>{restart}"#,
            escape(&self.news_path)
        )
    }
}

/// How each hop of the request came out, in its order: it came here, so what lies before the fault
/// passed.
fn states(finding: &Finding) -> [HopState; 5] {
    Hop::ALL.map(|hop| match hop.cmp(&finding.hop) {
        Ordering::Less => HopState::Passed,
        Ordering::Equal => HopState::Broken,
        Ordering::Greater => HopState::NotReached,
    })
}

/// The lane, down the left side: a hop a line, and `finding` at the bend where it breaks.
fn lane_with(finding: &Finding, at_the_bend: &str) -> String {
    let paused = finding.slug == FindingKind::RoutePaused;
    let waits = matches!(
        finding.slug,
        FindingKind::AppStarting | FindingKind::AppStopped
    );
    let mut lane = String::new();
    for (hop, state) in Hop::ALL.into_iter().zip(states(finding)) {
        let (class, word) = match state {
            HopState::Passed => ("passed", "passed"),
            HopState::Broken if paused => ("paused", "paused"),
            HopState::Broken if waits => ("paused", "waiting"),
            HopState::Broken => ("broken", "broken"),
            HopState::NotReached | HopState::NotDeclared | HopState::NotTried => {
                ("beyond", "not reached")
            }
        };
        let heading = format!(r#"<p class="hop"><b>{hop}</b> {word}</p>"#);
        // A String takes every write.
        let _ = if state == HopState::Broken {
            write!(
                lane,
                r#"<li class="{class}">{BEND}{heading}{at_the_bend}</li>"#
            )
        } else {
            write!(lane, r#"<li class="{class}">{heading}</li>"#)
        };
    }
    lane
}

fn sentence(text: &str) -> String {
    let mut characters = text.chars();
    let first = characters.next().map(char::to_uppercase);
    first
        .into_iter()
        .flatten()
        .chain(characters)
        .chain(['.'])
        .collect()
}

fn escape(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str("&quot;"),
            // Braces would be taken for places of the template.
            '{' => escaped.push_str("&#123;"),
            other => escaped.push(other),
        }
    }
    escaped
}

#[cfg(test)]
mod tests {
    use bentlane_checks::{Attempt, Refusal};
    use rstest::rstest;

    use super::*;

    fn down() -> Box<ErrorPage> {
        let target: Target = "4399".parse().unwrap();
        let address = "127.0.0.1:4399".parse().unwrap();
        let attempts = [Attempt {
            address,
            refusal: Refusal::Refused,
        }];
        let finding = Finding::target_closed("lost.moor.test", &target, &attempts);
        ErrorPage::finding(
            StatusCode::BAD_GATEWAY,
            "lost.moor.test",
            "lost.moor.test",
            Some(&target),
            finding,
        )
    }

    #[rstest]
    #[case(None, PageFormat::Text)]
    #[case(Some("*/*"), PageFormat::Text)]
    #[case(
        Some("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"),
        PageFormat::Html
    )]
    #[case(Some("application/json, text/plain, */*"), PageFormat::Json)]
    #[case(Some("application/problem+json"), PageFormat::Json)]
    #[case(Some("text/plain"), PageFormat::Text)]
    fn accept_decides(#[case] accept: Option<&'static str>, #[case] wanted: PageFormat) {
        let accept = accept.map(HeaderValue::from_static);
        assert_eq!(PageFormat::by(accept.as_ref()), wanted);
    }

    #[test]
    fn the_text_page_says_what_happened_where_and_what_to_do() {
        let page = down().content(PageFormat::Text).1;
        assert_eq!(
            page,
            "●──●╴ ✕╌╌○╌╌○  lost.moor.test -> port 4399 of this machine\n\n\
             nothing listens on port 4399 of this machine (target-refuses)\n  \
             127.0.0.1:4399: connection refused\n\n\
             start the app on port 4399 of this machine; if it listens on another port, change the \
             route\n  bentlane route edit lost.moor.test --to PORT\n"
        );
    }

    #[test]
    fn the_html_page_has_no_placeholder_left() {
        let page = down().content(PageFormat::Html).1;
        assert!(page.contains("lost.moor.test") && page.contains("4399"));
        assert!(!page.contains("{{"), "{page}");
    }

    #[test]
    fn names_are_escaped() {
        let page = ErrorPage::route_missing("a.test", "/<script>{{slug}}\"&", &[])
            .content(PageFormat::Html)
            .1;
        assert!(
            page.contains("/&lt;script&gt;&#123;&#123;slug}}&quot;&amp;"),
            "{page}"
        );
    }

    #[test]
    fn head_has_the_fields_and_no_content() {
        let response = down().response_for(PageFormat::Html, &Method::HEAD);
        assert_eq!(response.headers()[FINDING_HEADER], "target-refuses");
        assert!(http_body::Body::is_end_stream(response.body()));
    }

    #[test]
    fn strangers_learn_nothing_about_this_machine() {
        let mut page = down();
        page.hide_details_unless(false);
        for format in [PageFormat::Text, PageFormat::Json, PageFormat::Html] {
            let text = page.content(format).1;
            assert!(text.contains("lost.moor.test"), "{text}");
            assert!(
                !text.contains("4399") && !text.contains("127.0.0.1"),
                "{text}"
            );
        }
    }
}
