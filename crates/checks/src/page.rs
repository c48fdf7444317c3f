//! What an answer holds: its head, and what a page in it loads and asks.

use std::collections::BTreeSet;

use html5gum::{DefaultEmitter, StartTag, Token, Tokenizer};
use url::Url;

use crate::finding::printable;

/// Calls in scripts whose first argument is a URL, by what they do.
const CALLS: [(&str, Call); 3] = [
    ("new WebSocket(", Call::WebSocket),
    ("new EventSource(", Call::Events),
    ("fetch(", Call::Fetch),
];
/// Characters of an argument that counts as a URL, at most.
const LONGEST_ARGUMENT: usize = 300;

#[derive(Clone, Copy)]
enum Call {
    WebSocket,
    Events,
    Fetch,
}

/// A response as a client has it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// The URL that it is from.
    pub url: String,
    /// Its status code.
    pub status: u16,
    /// Its fields, names in lower case, in their order.
    pub fields: Vec<(String, String)>,
    /// The first mebibyte of its content.
    pub body: String,
    /// Bytes of content that came.
    pub length: u64,
    /// Why the content broke off, if it did.
    pub cut: Option<String>,
}

impl Page {
    /// The values of a field.
    pub fn values<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        let fields = self.fields.iter();
        fields.filter_map(move |(own, value)| (own == name).then_some(value.as_str()))
    }

    /// The first value of a field.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<&str> {
        self.fields
            .iter()
            .find_map(|(own, value)| (own == name).then_some(value.as_str()))
    }

    /// Whether its media type is this one (RFC 9110 §8.3.1).
    #[must_use]
    pub fn is(&self, media_type: &str) -> bool {
        let own = self.value("content-type").unwrap_or_default();
        let own = own.split(';').next().unwrap_or_default().trim();
        own.eq_ignore_ascii_case(media_type)
    }

    /// Where it sends the client: the absolute URL of a redirect (RFC 9110 §10.2.2).
    #[must_use]
    pub fn location(&self) -> Option<Url> {
        if !matches!(self.status, 301 | 302 | 303 | 307 | 308) {
            return None;
        }
        Url::parse(&self.url)
            .ok()?
            .join(self.value("location")?)
            .ok()
    }

    /// What is in the page, when it is HTML.
    #[must_use]
    pub fn markup(&self) -> Markup {
        if self.is("text/html") || self.is("application/xhtml+xml") {
            Markup::read(&self.body)
        } else {
            Markup::default()
        }
    }
}

/// What a page of HTML loads and asks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Markup {
    /// Its title.
    pub title: Option<String>,
    /// What it loads that browsers block over plain HTTP: scripts, styles, frames.
    pub loads: Vec<Load>,
    /// Where its own scripts are.
    pub scripts: Vec<String>,
    /// URLs at which its scripts open a WebSocket.
    pub websockets: BTreeSet<String>,
    /// URLs from which its scripts take server-sent events.
    pub events: BTreeSet<String>,
    /// URLs that its scripts fetch.
    pub fetches: BTreeSet<String>,
}

/// Something that a page loads.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Load {
    /// The element that names it, such as `script`.
    pub element: &'static str,
    /// Its URL, as the page has it.
    pub url: String,
}

impl Markup {
    /// Reads a page as browsers do (the HTML standard's tokenization); what is cut off in the
    /// middle is left out.
    #[must_use]
    pub fn read(html: &str) -> Self {
        let mut emitter = DefaultEmitter::default();
        emitter.naively_switch_states(true);
        let mut page = Self::default();
        let mut within = String::new();
        for token in Tokenizer::new_with_emitter(html, emitter).flatten() {
            match token {
                Token::StartTag(tag) => {
                    within = text(&tag.name);
                    page.note(&within, &tag);
                }
                Token::EndTag(_) => within.clear(),
                Token::String(content) if within == "title" => {
                    let title = text(&content.value);
                    let title = title.split_whitespace().collect::<Vec<_>>().join(" ");
                    let title = printable(title);
                    page.title.get_or_insert(title);
                }
                Token::String(content) if within == "script" => {
                    page.add_script(&text(&content.value));
                }
                _ => {}
            }
        }
        page
    }

    fn note(&mut self, name: &str, tag: &StartTag<()>) {
        let attribute = |key: &[u8]| tag.attributes.get(key).map(|value| text(&value.value));
        let mut load = |element, url: Option<String>| {
            self.loads.extend(url.map(|url| Load { element, url }));
        };
        match name {
            "script" => {
                let source = attribute(b"src");
                load("script", source.clone());
                self.scripts.extend(source);
            }
            "iframe" => load("iframe", attribute(b"src")),
            "link" => {
                let kinds = attribute(b"rel").unwrap_or_default();
                let mut kinds = kinds.split_ascii_whitespace();
                if kinds.any(|kind| kind.eq_ignore_ascii_case("stylesheet")) {
                    load("link", attribute(b"href"));
                }
            }
            _ => {}
        }
    }

    /// The URLs that its scripts open, fetch or listen to.
    pub fn asked(&self) -> impl Iterator<Item = &String> {
        self.websockets
            .iter()
            .chain(&self.events)
            .chain(&self.fetches)
    }

    /// Notes what a script asks by a URL that stands in it as a text.
    pub fn add_script(&mut self, script: &str) {
        for (words, call) in CALLS {
            for (at, _) in script.match_indices(words) {
                let Some(url) = first_text(&script[at + words.len()..]) else {
                    continue;
                };
                let all = match call {
                    Call::WebSocket => &mut self.websockets,
                    Call::Events => &mut self.events,
                    Call::Fetch => &mut self.fetches,
                };
                all.insert(url);
            }
        }
    }
}

/// The text that a script's source begins with, when nothing is put into it while it runs.
fn first_text(source: &str) -> Option<String> {
    let source = source.trim_start();
    let quote = source
        .chars()
        .next()
        .filter(|mark| matches!(mark, '"' | '\'' | '`'))?;
    let (text, _) = source[1..].split_once(quote)?;
    let plain = text.len() <= LONGEST_ARGUMENT && !text.contains(['$', '\\', '\n']);
    (plain && !text.is_empty()).then(|| text.to_owned())
}

fn text(octets: &[u8]) -> String {
    String::from_utf8_lossy(octets).into_owned()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn a_page_is_read_as_browsers_do() {
        let page = Markup::read(
            "<!doctype html><TITLE>High
             moor</title><!-- <script src=http://no> -->
             <link rel='preload stylesheet' href=/a.css><link rel=icon href=http://icon>
             <script src=\"http://b/b.js\"></script><img src=http://image>
             <script>const a = '<title>no</title>'; new WebSocket('/live'); fetch(`/x/${id}`);
               fetch(\"https://api.moor.test/huts\"); new EventSource(  '/events');</script>",
        );
        let load = |element, url: &str| Load {
            element,
            url: url.to_owned(),
        };
        let set = |urls: &[&str]| urls.iter().map(|url| (*url).to_owned()).collect();
        let wanted = Markup {
            title: Some("High moor".to_owned()),
            loads: vec![load("link", "/a.css"), load("script", "http://b/b.js")],
            scripts: vec!["http://b/b.js".to_owned()],
            websockets: set(&["/live"]),
            events: set(&["/events"]),
            fetches: set(&["https://api.moor.test/huts"]),
        };
        assert_eq!(page, wanted);
    }

    #[test]
    fn a_title_cannot_control_a_terminal() {
        let page = Markup::read("<title>a\u{1b}[2J\u{7}b\u{9b}c</title>");
        assert_eq!(
            page.title.as_deref(),
            Some("a\u{fffd}[2J\u{fffd}b\u{fffd}c")
        );
    }

    #[rstest]
    #[case(302, Some("/in"), Some("https://a.test/in"))]
    #[case(308, Some("http://b.test"), Some("http://b.test/"))]
    #[case(200, Some("/in"), None)]
    #[case(302, None, None)]
    #[case(302, Some("http://["), None)]
    fn locations(#[case] status: u16, #[case] location: Option<&str>, #[case] url: Option<&str>) {
        let field = |value: &str| ("location".to_owned(), value.to_owned());
        let page = Page {
            url: "https://a.test/out".to_owned(),
            status,
            fields: location.map(field).into_iter().collect(),
            ..Page::default()
        };
        assert_eq!(page.location().as_ref().map(Url::as_str), url);
    }
}
