//! What a person sees when a request cannot pass: the lane, the reason and the remedy.

use std::fmt::Write as _;

use bentlane_core::Target;
use bentlane_core::check::{FINDING_HEADER, Finding, Hop, HopState, lane};
use http::header::{CACHE_CONTROL, CONTENT_TYPE};
use http::{HeaderValue, Method, Response, StatusCode};
use serde_json::json;

use crate::body::ResponseBody;

/// How a client wants to read a page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// A browser.
    Html,
    /// A program: `application/problem+json` (RFC 9457).
    Json,
    /// A terminal.
    Text,
}

impl Wanted {
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

/// A page of our own.
#[derive(Debug)]
pub(crate) struct Page {
    status: StatusCode,
    kind: Kind,
}

#[derive(Debug)]
enum Kind {
    /// The client broke the protocol: a line is enough.
    Refusal(&'static str),
    Finding {
        name: String,
        address: String,
        target: Option<String>,
        finding: Box<Finding>,
    },
}

impl Page {
    /// For a request that breaks a rule of HTTP.
    pub(crate) fn bad_request(reason: &'static str) -> Self {
        Self {
            status: StatusCode::BAD_REQUEST,
            kind: Kind::Refusal(reason),
        }
    }

    /// For a request whose fields take more octets than the limit (RFC 6585 §5).
    pub(crate) fn fields_too_large() -> Self {
        Self {
            status: StatusCode::REQUEST_HEADER_FIELDS_TOO_LARGE,
            kind: Kind::Refusal("the header fields are too large: clear this site's cookies"),
        }
    }

    /// For a name and path that no route covers.
    pub(crate) fn route_missing(name: &str, path: &str) -> Self {
        let finding = Finding::route_missing(name, path);
        Self::finding(StatusCode::NOT_FOUND, name, name, None, finding)
    }

    /// For a request that a route covers and a fault keeps from its answer.
    pub(crate) fn finding(
        status: StatusCode,
        name: &str,
        address: &str,
        target: Option<&Target>,
        finding: Finding,
    ) -> Self {
        let kind = Kind::Finding {
            name: name.to_owned(),
            address: address.to_owned(),
            target: target.map(Target::describe),
            finding: Box::new(finding),
        };
        Self { status, kind }
    }

    /// The page as plain text.
    pub(crate) fn response(&self) -> Response<ResponseBody> {
        self.response_for(Wanted::Text, &Method::GET)
    }

    pub(crate) fn response_for(&self, wanted: Wanted, method: &Method) -> Response<ResponseBody> {
        let (media, body) = match (wanted, &self.kind) {
            (_, Kind::Refusal(reason)) => ("text/plain; charset=utf-8", format!("{reason}\n")),
            (Wanted::Html, Kind::Finding { .. }) => ("text/html; charset=utf-8", self.html()),
            (Wanted::Json, Kind::Finding { .. }) => ("application/problem+json", self.json()),
            (Wanted::Text, Kind::Finding { .. }) => ("text/plain; charset=utf-8", self.text()),
        };
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
        if let Kind::Finding { finding, .. } = &self.kind {
            headers.insert(
                FINDING_HEADER,
                HeaderValue::from_static(finding.slug.slug()),
            );
        }
        response
    }

    fn text(&self) -> String {
        let Kind::Finding {
            name,
            target,
            finding,
            ..
        } = &self.kind
        else {
            return String::new();
        };
        let mut page = format!("{}  {name}", lane(&states(finding)));
        if let Some(target) = target {
            let _ = write!(page, " -> {target}"); // a String takes every write
        }
        let _ = write!(page, "\n\n{} ({})\n", finding.summary, finding.slug.slug());
        for line in &finding.evidence {
            let _ = writeln!(page, "  {line}");
        }
        let _ = writeln!(page, "\n{}", finding.remedy.text);
        if let Some(command) = &finding.remedy.command {
            let _ = writeln!(page, "  {command}");
        }
        page
    }

    fn json(&self) -> String {
        let Kind::Finding {
            name,
            address,
            target,
            finding,
        } = &self.kind
        else {
            return String::new();
        };
        let problem = json!({
            "type": format!("urn:bentlane:finding:{}", finding.slug.slug()),
            "title": finding.summary,
            "status": self.status.as_u16(),
            "name": name,
            "address": address,
            "to": target,
            "finding": finding,
        });
        format!("{problem:#}\n")
    }

    fn html(&self) -> String {
        let Kind::Finding {
            name,
            target,
            finding,
            ..
        } = &self.kind
        else {
            return String::new();
        };
        let goes_to = target.as_ref().map_or_else(String::new, |target| {
            format!(r#"<span class="to">leads to {}</span>"#, escape(target))
        });
        let evidence: String = finding
            .evidence
            .iter()
            .map(|line| format!("<li>{}</li>", escape(line)))
            .collect();
        let command = finding.remedy.command.as_ref().map_or_else(String::new, |command| {
            format!(
                r#"<p class="command"><code id="command">{}</code> <button id="copy">Copy</button></p>"#,
                escape(command)
            )
        });
        include_str!("page.html")
            .replace("{{status}}", self.status.as_str())
            .replace("{{lane}}", &drawing(finding))
            .replace("{{slug}}", finding.slug.slug())
            .replace("{{name}}", &escape(name))
            .replace("{{to}}", &goes_to)
            .replace("{{summary}}", &escape(&sentence(&finding.summary)))
            .replace("{{evidence}}", &evidence)
            .replace("{{remedy}}", &escape(&sentence(&finding.remedy.text)))
            .replace("{{command}}", &command)
    }
}

fn states(finding: &Finding) -> Vec<HopState> {
    // The request came in by name and over TLS, so those hops passed; they are drawn in the order
    // in which this request went.
    WAY.iter()
        .map(|hop| match position(*hop).cmp(&position(finding.hop)) {
            std::cmp::Ordering::Less => HopState::Passed,
            std::cmp::Ordering::Equal => HopState::Broken,
            std::cmp::Ordering::Greater => HopState::NotReached,
        })
        .collect()
}

/// The hops in the order of a request that is already here.
const WAY: [Hop; 4] = [Hop::Resolve, Hop::Handshake, Hop::Connect, Hop::Answer];

fn position(hop: Hop) -> Option<usize> {
    WAY.iter().position(|candidate| *candidate == hop)
}

/// The lane as a drawing: it bends down where it breaks.
fn drawing(finding: &Finding) -> String {
    let mut marks = String::new();
    let mut previous: Option<(usize, usize)> = None;
    for (column, (hop, state)) in WAY.iter().zip(states(finding)).enumerate() {
        let (x, y) = (
            60 + column * 170,
            if state == HopState::NotReached {
                72
            } else {
                28
            },
        );
        let class = match state {
            HopState::Passed => "passed",
            HopState::Broken => "broken",
            HopState::NotReached => "not-reached",
        };
        if let Some((px, py)) = previous {
            let way = if py == y {
                format!("M{} {py}H{}", px + 13, x - 13)
            } else {
                format!("M{} {py}H{}L{} {y}H{}", px + 13, px + 60, px + 104, x - 13)
            };
            let _ = write!(marks, r#"<path class="{class}" d="{way}"/>"#);
        }
        let mark = match state {
            HopState::Passed => format!(r#"<circle class="passed" cx="{x}" cy="{y}" r="8"/>"#),
            HopState::Broken => format!(
                r#"<path class="cross" d="M{} {}l16 16m0-16l-16 16"/>"#,
                x - 8,
                y - 8
            ),
            HopState::NotReached => {
                format!(r#"<circle class="not-reached" cx="{x}" cy="{y}" r="8"/>"#)
            }
        };
        let word = class.replace('-', " ");
        let _ = write!(
            marks,
            r#"{mark}<text x="{x}" y="{}">{hop}</text><text class="state" x="{x}" y="{}">{word}</text>"#,
            y + 32,
            y + 50
        );
        previous = Some((x, y));
    }
    marks
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
    use bentlane_core::check::{Attempt, Refusal};
    use rstest::rstest;

    use super::*;

    fn down() -> Page {
        let target: Target = "4399".parse().unwrap();
        let address = "127.0.0.1:4399".parse().unwrap();
        let attempts = [Attempt {
            address,
            refusal: Refusal::Refused,
        }];
        let finding = Finding::target_closed("lost.moor.test", &target, &attempts);
        Page::finding(
            StatusCode::BAD_GATEWAY,
            "lost.moor.test",
            "lost.moor.test",
            Some(&target),
            finding,
        )
    }

    #[rstest]
    #[case(None, Wanted::Text)]
    #[case(Some("*/*"), Wanted::Text)]
    #[case(
        Some("text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8"),
        Wanted::Html
    )]
    #[case(Some("application/json, text/plain, */*"), Wanted::Json)]
    #[case(Some("application/problem+json"), Wanted::Json)]
    #[case(Some("text/plain"), Wanted::Text)]
    fn accept_decides(#[case] accept: Option<&'static str>, #[case] wanted: Wanted) {
        let accept = accept.map(HeaderValue::from_static);
        assert_eq!(Wanted::by(accept.as_ref()), wanted);
    }

    #[test]
    fn the_text_page_says_what_where_and_what_next() {
        let page = down().text();
        assert_eq!(
            page,
            "●──●╴ ✕╌╌○  lost.moor.test -> port 4399 of this machine\n\n\
             nothing listens on port 4399 of this machine (target-refuses)\n  \
             127.0.0.1:4399: connection refused\n\n\
             start the app on port 4399 of this machine; if it listens elsewhere, point the route \
             there\n  bentlane route edit lost.moor.test --to PORT\n"
        );
    }

    #[test]
    fn the_html_page_fills_every_place() {
        let page = down().html();
        assert!(page.contains("lost.moor.test") && page.contains("4399"));
        assert!(!page.contains("{{"), "{page}");
    }

    #[test]
    fn names_are_escaped() {
        let page = Page::route_missing("a.test", "/<script>{{slug}}\"&").html();
        assert!(
            page.contains("/&lt;script&gt;&#123;&#123;slug}}&quot;&amp;"),
            "{page}"
        );
    }

    #[test]
    fn head_has_the_fields_and_no_content() {
        let response = down().response_for(Wanted::Html, &Method::HEAD);
        assert_eq!(response.headers()[FINDING_HEADER], "target-refuses");
        assert!(matches!(response.body(), ResponseBody::Own(None)));
    }
}
