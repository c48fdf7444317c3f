//! Apps that the service runs, as seen from a request for one: it may have to be started first.

use std::collections::HashMap;
use std::fmt::Debug;
use std::future::Future;
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use bentlane_checks::{AppStatus, FINDING_HEADER, FindingKind};
use bentlane_model::{AppName, ContainerTarget};
use http::header::{CACHE_CONTROL, CONTENT_TYPE, X_CONTENT_TYPE_OPTIONS};
use http::{HeaderMap, HeaderValue, Method, Response, StatusCode, request};
use serde_json::json;
use time::OffsetDateTime;

use crate::response_body::ResponseBody;
use crate::site::SocketPair;

/// Where the page of an app that is not ready asks for news, below the path prefix of its route.
pub(crate) const NEWS_PATH: &str = "/.well-known/bentlane/app";
/// What carries the token of a page that asks for a restart.
const TOKEN_HEADER: &str = "bentlane-token";
/// How long a token can be used, and how many are remembered.
const TOKEN_LIFE: Duration = Duration::from_secs(3600);
const MOST_TOKENS: usize = 256;
/// How long a request for news is held when there are none.
const NEWS_LIMIT: Duration = Duration::from_secs(15);

/// What is to come.
pub type Coming<T> = Pin<Box<dyn Future<Output = T> + Send>>;

/// What runs the apps.
pub trait AppHost: Debug + Send + Sync {
    /// Starts an app for a visitor, unless it runs already, and waits until requests for it can be passed on;
    /// otherwise gives how it is.
    fn ready(&self, app: &AppName) -> Coming<Option<Box<AppStatus>>>;

    /// How an app is.
    fn status(&self, app: &AppName) -> Option<AppStatus>;

    /// How an app is once something has changed, and what it has printed behind the line with the number
    /// `after`, with the number of its last line.
    fn news(&self, app: &AppName, after: u64) -> Coming<Option<AppNews>>;

    /// Whether the client at the other end of a connection is the service's own user, who may see what apps
    /// print. It is looked up once for each connection.
    fn may_see(&self, pair: &SocketPair) -> bool;

    /// Waits until the containers that `target` names can be connected to, once one that is stopped has
    /// been started where `start` says so; otherwise gives why it was not.
    fn container_ready(&self, target: &ContainerTarget, start: bool) -> Coming<Option<String>>;

    /// Why names may not lead to a port of this machine; `None` when they may: a process of the service's user
    /// speaks HTTP there, and it is not the service itself.
    fn refuses_port(&self, port: u16) -> Coming<Option<String>>;

    /// Starts an app again.
    fn restart(&self, app: &AppName);
}

/// What has changed of an app.
#[derive(Debug)]
pub struct AppNews {
    /// How it is.
    pub status: AppStatus,
    /// What it has printed, without colours.
    pub lines: Vec<String>,
    /// The number of its last line.
    pub last: u64,
}

/// Tokens of pages that may ask for a restart, each once.
#[derive(Debug, Default)]
pub(crate) struct RestartTokens(Mutex<HashMap<String, (AppName, Instant)>>);

impl RestartTokens {
    /// A new token; `None` when there are no random numbers.
    pub(crate) fn issue(&self, app: &AppName) -> Option<String> {
        let mut random = [0; 16];
        aws_lc_rs::rand::fill(&mut random).ok()?;
        let token = data_encoding::HEXLOWER.encode(&random);
        let mut tokens = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        tokens.retain(|_, (_, at)| at.elapsed() < TOKEN_LIFE);
        if tokens.len() >= MOST_TOKENS
            && let Some(oldest) = tokens.iter().min_by_key(|(_, (_, at))| *at)
        {
            let oldest = oldest.0.clone();
            tokens.remove(&oldest);
        }
        tokens.insert(token.clone(), (app.clone(), Instant::now()));
        Some(token)
    }

    /// Whether a request may restart `app`: by a page of ours, once. Browsers say which site a request
    /// comes from (Fetch Metadata), and no page can say that for them.
    fn take(&self, app: &AppName, headers: &HeaderMap) -> bool {
        let of_page = headers
            .get("sec-fetch-site")
            .is_some_and(|site| site == "same-origin");
        let token = headers
            .get(TOKEN_HEADER)
            .and_then(|token| token.to_str().ok());
        let Some(token) = token.filter(|_| of_page) else {
            return false;
        };
        let mut tokens = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match tokens.get(token) {
            Some((own, at)) if own == app && at.elapsed() < TOKEN_LIFE => {
                tokens.remove(token);
                true
            }
            _ => false,
        }
    }
}

/// Whether a browser asks for a page to show.
pub(crate) fn is_navigation(parts: &request::Parts) -> bool {
    if parts.method != Method::GET {
        return false;
    }
    let headers = &parts.headers;
    match headers.get("sec-fetch-mode") {
        Some(mode) => mode == "navigate",
        // Browsers without Fetch Metadata ask for HTML first.
        None => headers
            .get(http::header::ACCEPT)
            .is_some_and(|accept| accept.as_bytes().starts_with(b"text/html")),
    }
}

/// Answers what the page of an app asks for: news of it, or a restart.
pub(crate) async fn answer_page(
    host: &dyn AppHost,
    tokens: &RestartTokens,
    app: &AppName,
    parts: &request::Parts,
) -> Response<ResponseBody> {
    if parts.method == Method::POST {
        if !tokens.take(app, &parts.headers) {
            return answer(
                StatusCode::FORBIDDEN,
                None,
                "the page is out of date: reload it",
            );
        }
        host.restart(app);
        let finding = host.status(app).map(|status| finding_of(&status));
        return answer(StatusCode::ACCEPTED, finding, "{}");
    }
    let after = parts
        .uri
        .query()
        .and_then(|query| query.strip_prefix("after="));
    let after = after
        .and_then(|number| number.parse().ok())
        .unwrap_or(u64::MAX);
    let news = tokio::time::timeout(NEWS_LIMIT, host.news(app, after)).await;
    let shown = |status: &AppStatus, lines: &[String], last: u64| {
        let finding = finding_of(status);
        let body = json!({ "finding": finding, "lines": lines, "last": last });
        answer(StatusCode::OK, Some(finding), &body.to_string())
    };
    match news {
        Ok(Some(AppNews {
            status,
            lines,
            last,
        })) => shown(&status, &lines, last),
        // Nothing new.
        _ => match host.status(app) {
            Some(status) => shown(&status, &[], after),
            None => answer(StatusCode::NOT_FOUND, None, "the app is gone"),
        },
    }
}

fn finding_of(status: &AppStatus) -> FindingKind {
    status.finding(OffsetDateTime::now_utc(), false).slug
}

fn answer(code: StatusCode, finding: Option<FindingKind>, body: &str) -> Response<ResponseBody> {
    let mut response = Response::new(ResponseBody::own(body.to_owned()));
    *response.status_mut() = code;
    let headers = response.headers_mut();
    let media = match body.starts_with('{') {
        true => "application/json",
        false => "text/plain; charset=utf-8",
    };
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(media));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    if let Some(finding) = finding {
        headers.insert(FINDING_HEADER, HeaderValue::from_static(finding.slug()));
    }
    response
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("GET", &[("sec-fetch-mode", "navigate")], true)]
    #[case("POST", &[("sec-fetch-mode", "navigate")], false)]
    #[case("GET", &[("sec-fetch-mode", "cors"), ("accept", "text/html")], false)]
    #[case("GET", &[("accept", "text/html,*/*")], true)]
    #[case("GET", &[("accept", "*/*")], false)]
    #[case("GET", &[], false)]
    fn only_a_browser_that_shows_a_page_navigates(
        #[case] method: &str,
        #[case] headers: &[(&'static str, &'static str)],
        #[case] navigates: bool,
    ) {
        let mut request = http::Request::builder().method(method);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let (parts, ()) = request.body(()).unwrap().into_parts();
        assert_eq!(is_navigation(&parts), navigates);
    }

    #[test]
    fn a_token_restarts_its_app_once_from_its_own_page() {
        let tokens = RestartTokens::default();
        let (app, other): (AppName, AppName) = ("huts".parse().unwrap(), "shop".parse().unwrap());
        let token = tokens.issue(&app).unwrap();
        let headers = |site: Option<&'static str>, token: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(TOKEN_HEADER, token.parse().unwrap());
            if let Some(site) = site {
                headers.insert("sec-fetch-site", HeaderValue::from_static(site));
            }
            headers
        };
        let own = headers(Some("same-origin"), &token);
        assert!(!tokens.take(&app, &headers(None, &token)), "no browser");
        for site in ["same-site", "cross-site", "none"] {
            assert!(!tokens.take(&app, &headers(Some(site), &token)), "{site}");
        }
        assert!(!tokens.take(&app, &headers(Some("same-origin"), "0")));
        assert!(!tokens.take(&other, &own), "another app's");
        assert!(tokens.take(&app, &own));
        assert!(!tokens.take(&app, &own), "it was used");
    }
}
