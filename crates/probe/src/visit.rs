use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use std::time::Duration;

use bentlane_checks::{
    Answer, End, EventsSeen, FINDING_HEADER, Facts, Finding, Markup, Observations, Page,
    PreflightSeen, UpgradeSeen, Visit,
};
use http_body_util::BodyExt;
use hyper::Method;
use rustls::ClientConfig;
use tokio::time::{Instant, timeout};
use url::Url;

use crate::client::over;
use crate::client::{Connection, Failure, PlainRequest, ask, fetch};
use crate::handshake::{Stream, secure};
use crate::target::TargetClient;

/// Redirects that are followed at most.
const MOST_REDIRECTS: usize = 10;
/// How long an event stream is listened to.
const LISTENED: Duration = Duration::from_millis(2_500);
/// Scripts, and things that they ask, that are looked at for one page.
const MOST_OF_A_PAGE: usize = 5;

/// Asks through our own listener, as a client does.
pub(crate) struct ListenerClient<'a> {
    pub(crate) facts: &'a Facts,
    pub(crate) tls: &'a Arc<ClientConfig>,
    /// The same, for HTTP/1.1 alone: what is upgraded.
    pub(crate) tls_http1: &'a Arc<ClientConfig>,
    pub(crate) hop: Duration,
    pub(crate) limit: Duration,
}

impl ListenerClient<'_> {
    /// Asks for the route's URL on `stream` and follows redirects as long as they lead to us.
    pub(crate) async fn visit(&self, stream: Stream) -> Answer {
        let mut url = self.facts.url.clone();
        let mut been = HashSet::from([url.clone()]);
        let mut pages: Vec<Page> = Vec::new();
        let mut first_byte = None;
        let mut connection = Some(over(stream));
        loop {
            let connected = match connection.take() {
                Some(connection) => Ok(connection),
                None => self.connect(&url, self.tls).await,
            };
            let fetched = match connected {
                Ok(connection) => fetch(connection, &PlainRequest::get(&url), self.limit).await,
                Err(reason) => Err(Failure::Broke(reason)),
            };
            let (page, took) = match fetched {
                Ok(fetched) => fetched,
                Err(Failure::Silent) => return Answer::Silent,
                Err(Failure::Broke(reason)) => return Answer::Failed(reason),
            };
            if let Some(answer) = own_page(&page) {
                return answer;
            }
            first_byte.get_or_insert(took);
            let location = page.location();
            pages.push(page);
            let end = match location {
                None => End::Answered,
                Some(to) => match self.facts.ours(&to) {
                    None => End::Leaves(to.into()),
                    Some(next) if !been.insert(next.to_string()) => End::Turns(next.into()),
                    Some(_) if pages.len() > MOST_REDIRECTS => End::TooMany,
                    Some(next) => {
                        url = next.into();
                        continue;
                    }
                },
            };
            return Answer::Visit(Box::new(Visit {
                pages,
                end,
                first_byte: first_byte.unwrap_or_default(),
            }));
        }
    }

    /// Asks for the URL once on `stream`.
    pub(crate) async fn once(&self, stream: Stream) -> Answer {
        let request = PlainRequest::get(&self.facts.url);
        match fetch(over(stream), &request, self.limit).await {
            Err(Failure::Silent) => Answer::Silent,
            Err(Failure::Broke(reason)) => Answer::Failed(reason),
            Ok((page, first_byte)) => own_page(&page).unwrap_or_else(|| {
                Answer::Visit(Box::new(Visit {
                    first_byte,
                    ..Visit::of(page)
                }))
            }),
        }
    }

    async fn connect(&self, url: &str, tls: &Arc<ClientConfig>) -> Result<Connection, String> {
        let url = Url::parse(url).map_err(|error| error.to_string())?;
        let name = url.host_str().unwrap_or_default();
        let listener = self.facts.listener_for(&url);
        let stream = secure(tls, listener, name, self.hop).await;
        stream
            .map(over)
            .map_err(|reason| format!("{name}: {reason}"))
    }

    /// How long the head of another answer to the same takes.
    pub(crate) async fn again(&self) -> Option<Duration> {
        let connection = self.connect(&self.facts.url, self.tls).await.ok()?;
        let fetched = fetch(connection, &PlainRequest::get(&self.facts.url), self.limit).await;
        fetched.ok().map(|(_, took)| took)
    }

    /// Looks at what the route declares beside the page and, when the check is to be deep, at what
    /// the page uses.
    pub(crate) async fn look_further(
        &self,
        visit: &Visit,
        target: Option<&TargetClient<'_>>,
        seen: &mut Observations,
    ) {
        let expect = &self.facts.route.settings.expect;
        let mut markup = Markup::default();
        if self.facts.deep {
            markup = visit.last().markup();
            let named = |markup: &Markup| markup.asked().cloned().collect::<BTreeSet<_>>();
            let before = named(&markup);
            self.read_scripts(&mut markup).await;
            seen.named_by_scripts = &named(&markup) - &before;
        }
        let base = &visit.last().url;
        let upgrades = places(base, &markup.websockets, expect.websocket.as_deref());
        for url in upgrades.iter().filter(|url| self.is_here(url)) {
            seen.upgrades.push(self.upgrade(url, target).await);
        }
        let events = places(base, &markup.events, expect.events.as_deref());
        for url in events.iter().filter(|url| self.is_here(url)) {
            seen.events.push(self.events(url).await);
        }
        for url in places(base, &markup.fetches, None) {
            seen.preflights.extend(self.preflight(base, &url).await);
        }
    }

    /// Whether a URL leads to this very route.
    fn is_here(&self, url: &Url) -> bool {
        let routed = self.facts.routed(url);
        routed.is_some_and(|routed| routed.route.address == self.facts.route.address)
    }

    /// Reads what the page's own scripts ask.
    async fn read_scripts(&self, markup: &mut Markup) {
        let own = places(
            &self.facts.url,
            &markup.scripts.iter().cloned().collect(),
            None,
        );
        let own = own.into_iter().filter(|url| self.is_here(url));
        for url in own.take(MOST_OF_A_PAGE) {
            let Ok(connection) = self.connect(url.as_str(), self.tls).await else {
                continue;
            };
            let request = PlainRequest::get(url.as_str());
            if let Ok((page, _)) = fetch(connection, &request, self.limit).await {
                markup.add_script(&page.body);
            }
        }
    }

    /// Requests an upgrade to WebSocket (RFC 6455 §4.1), and closes it again.
    async fn upgrade(&self, url: &Url, target: Option<&TargetClient<'_>>) -> UpgradeSeen {
        let path = url[url::Position::BeforePath..].to_owned();
        let origin = origin(url);
        let connection = self.connect(url.as_str(), self.tls_http1).await;
        let status = self.upgraded(connection, url.as_str(), &origin).await;
        let mut with_own_origin = None;
        if status != Some(101)
            && let Some(target) = target
            && let Some(own) = self.facts.server().authority()
        {
            // As the proxy sends it when the app is to get its own host.
            let (url, origin) = (format!("http://{own}{path}"), format!("https://{own}"));
            let connection = target.connect().await;
            with_own_origin = self.upgraded(connection, &url, &origin).await;
        }
        UpgradeSeen {
            path,
            status,
            with_own_origin,
        }
    }

    async fn upgraded(
        &self,
        connection: Result<Connection, String>,
        url: &str,
        origin: &str,
    ) -> Option<u16> {
        let request = PlainRequest {
            fields: &[
                ("connection", "Upgrade"),
                ("upgrade", "websocket"),
                ("sec-websocket-version", "13"),
                ("sec-websocket-key", "YmVudGxhbmUtY2hlY2shIQ=="),
                ("origin", origin),
            ],
            ..PlainRequest::get(url)
        };
        let asked = timeout(self.limit, ask(connection.ok()?, &request)).await;
        Some(asked.ok()?.ok()?.response.status().as_u16())
    }

    /// Listens to a stream of events for a while.
    async fn events(&self, url: &Url) -> EventsSeen {
        let mut seen = self.listen(url, "gzip").await;
        let nothing = seen.lumps.is_empty() && seen.head.is_some();
        if nothing && seen.encoding.is_some() {
            let plain = self.listen(url, "identity").await;
            seen.flows_uncompressed = !plain.lumps.is_empty();
        }
        seen
    }

    async fn listen(&self, url: &Url, encoding: &str) -> EventsSeen {
        let mut seen = EventsSeen {
            path: url.path().to_owned(),
            head: None,
            encoding: None,
            lumps: Vec::new(),
            flows_uncompressed: false,
        };
        let request = PlainRequest {
            fields: &[
                ("accept", "text/event-stream"),
                ("accept-encoding", encoding),
            ],
            ..PlainRequest::get(url.as_str())
        };
        let Ok(connection) = self.connect(url.as_str(), self.tls).await else {
            return seen;
        };
        let Ok(Ok(mut reply)) = timeout(self.limit, ask(connection, &request)).await else {
            return seen;
        };
        let field = |name: &str| {
            let value = reply.response.headers().get(name)?;
            value.to_str().ok().map(str::to_owned)
        };
        let status = reply.response.status().as_u16();
        seen.head = Some((status, field("content-type").unwrap_or_default()));
        seen.encoding = field("content-encoding").filter(|it| it != "identity");
        let compressed = seen.encoding.is_some();
        let start = Instant::now();
        let listening = async {
            while let Some(Ok(frame)) = reply.response.body_mut().frame().await {
                let data = frame.into_data().unwrap_or_default();
                // An event ends with an empty line; what is compressed cannot be counted.
                let text = String::from_utf8_lossy(&data);
                let ends = text.matches("\n\n").count() + text.matches("\r\n\r\n").count();
                let events = if compressed { 1 } else { ends };
                if !data.is_empty() {
                    seen.lumps.push((start.elapsed(), events));
                }
                // The first one is enough.
                if events > 0 {
                    break;
                }
            }
        };
        // Streams do not end: what came by then is what there is.
        let _ = timeout(LISTENED, listening).await;
        seen
    }

    /// Asks another route whether a page of this one may (the Fetch standard's CORS preflight).
    async fn preflight(&self, page: &str, url: &Url) -> Option<PreflightSeen> {
        let to = self.facts.routed(url)?;
        let origin = origin(&Url::parse(page).ok()?);
        if url.origin().ascii_serialization() == origin {
            return None;
        }
        let route = to.route.address.to_string();
        let request = PlainRequest {
            method: Method::OPTIONS,
            url: url.as_str(),
            fields: &[
                ("origin", &origin),
                ("access-control-request-method", "GET"),
                ("access-control-request-headers", "content-type"),
            ],
        };
        let mut seen = PreflightSeen {
            url: url.to_string(),
            route,
            origin: origin.clone(),
            status: None,
            allows: None,
        };
        let connection = self.connect(url.as_str(), self.tls).await.ok()?;
        if let Ok((page, _)) = fetch(connection, &request, self.limit).await {
            seen.status = Some(page.status);
            seen.allows = page.value("access-control-allow-origin").map(str::to_owned);
        }
        Some(seen)
    }
}

fn origin(url: &Url) -> String {
    url.origin().ascii_serialization()
}

/// What a page names, and what the route declares, as whole URLs.
fn places(base: &str, named: &BTreeSet<String>, declared: Option<&str>) -> Vec<Url> {
    let Ok(base) = Url::parse(base) else {
        return Vec::new();
    };
    let named = named.iter().map(String::as_str);
    let mut urls: Vec<Url> = Vec::new();
    for text in declared.into_iter().chain(named) {
        // WebSocket goes over HTTPS here.
        let url = base.join(&text.replacen("wss://", "https://", 1)).ok();
        let url = url.filter(|url| url.scheme() == "https" && !urls.contains(url));
        urls.extend(url);
    }
    urls.truncate(MOST_OF_A_PAGE);
    urls
}

/// A page of the proxy's own, with the finding that it shows.
fn own_page(page: &Page) -> Option<Answer> {
    page.value(FINDING_HEADER)?;
    let mut problem: serde_json::Value = serde_json::from_str(&page.body).ok()?;
    let finding: Finding = serde_json::from_value(problem["finding"].take()).ok()?;
    Some(Answer::OwnPage {
        status: page.status,
        finding: Box::new(finding),
    })
}
