//! Who may call: the command line and programs over the service's Unix socket, and a browser that
//! signed in, from our own pages.

use std::sync::Arc;
use std::time::Instant;

use axum::extract::{FromRequestParts, Request, State};
use axum::http::header::{
    AUTHORIZATION, CONTENT_SECURITY_POLICY, HOST, ORIGIN, REFERRER_POLICY, WWW_AUTHENTICATE,
    X_CONTENT_TYPE_OPTIONS,
};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, request};
use axum::middleware::Next;
use axum::response::{Html, IntoResponse, Response};
use bentlane_api_types::COMMAND_HEADER;
use bentlane_probe::peer_uid;
use bentlane_proxy::SocketPair;

use super::Api;
use super::Problem;
use super::repeats::IDEMPOTENCY_KEY;
use crate::configuration::ChangedBy;
use crate::sign_in::RECENT;
use crate::users::user_name;

/// Characters of that which are kept.
const LONGEST_COMMAND: usize = 60;
/// Where a browser says whether the page that asks is of the same origin (Fetch Metadata §2.3).
const SEC_FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");

/// The connection that a request came over.
#[derive(Clone, Debug)]
pub(crate) enum Connection {
    /// The Unix socket; the process at the other end is this user's.
    Socket {
        /// The user.
        uid: u32,
    },
    /// The console's own TCP listener.
    Console(Arc<SocketPair>),
    /// The proxy, under our own name.
    Site(Arc<SocketPair>),
}

impl Connection {
    /// Its user; `None` when that is unknown.
    pub(crate) fn uid(&self) -> Option<u32> {
        match self {
            Self::Socket { uid } => Some(*uid),
            Self::Console(pair) | Self::Site(pair) => uid_of(pair),
        }
    }
}

/// Whose process is at the other end, looked up once for a connection.
pub(crate) fn uid_of(pair: &SocketPair) -> Option<u32> {
    *pair.uid.get_or_init(|| peer_uid(pair.ours, pair.theirs))
}

/// Who called.
#[derive(Clone, Debug)]
pub(crate) struct Caller {
    /// The user, and the command or the console; and the call's `Idempotency-Key`, or one of ours.
    pub(crate) by: ChangedBy,
    /// Whose connection it is.
    pub(crate) uid: Option<u32>,
    /// The number of the browser's session.
    pub(crate) session: Option<u64>,
    /// Whether calls are accepted that run commands or change keys.
    trusted: bool,
}

/// A caller whose calls may run commands or change keys: over the Unix socket, or signed in a short
/// time ago, so that a browser that was left open does not do.
#[derive(Debug)]
pub(crate) struct Trusted;

impl<S: Sync> FromRequestParts<S> for Trusted {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut request::Parts, _: &S) -> Result<Self, Problem> {
        let caller = parts.extensions.get::<Caller>();
        caller.ok_or_else(not_trusted)?.check_trusted()?;
        Ok(Self)
    }
}

impl Caller {
    /// # Errors
    /// As [`Trusted`] refuses.
    pub(crate) fn check_trusted(&self) -> Result<(), Problem> {
        self.trusted.then_some(()).ok_or_else(not_trusted)
    }
}

fn not_trusted() -> Problem {
    let minutes = RECENT.as_secs() / 60;
    let detail = format!(
        "this needs a sign-in within the last {minutes} minutes: run `bentlane console`, or use \
         the command line"
    );
    Problem::new(StatusCode::FORBIDDEN, detail)
}

/// Refuses requests of browsers for another origin than our own, as after DNS rebinding, and of
/// pages of another origin.
pub(crate) async fn require_own_origin(
    State(api): State<Arc<Api>>,
    request: Request,
    next: Next,
) -> Response {
    let headers = request.headers();
    let listening = &api.info.listening;
    let (host, origin) = match request.extensions().get::<Connection>() {
        Some(Connection::Console(_)) => {
            let host = listening.console_host();
            let origin = format!("http://{host}");
            (Some(host), origin)
        }
        // The proxy leads here by the name alone: a port that is forwarded to ours has another number.
        Some(Connection::Site(_)) => (None, listening.site_origin()),
        Some(Connection::Socket { .. }) | None => return next.run(request).await,
    };
    let asked = text(headers, &HOST).unwrap_or_default();
    if host.is_some_and(|host| !asked.eq_ignore_ascii_case(&host)) {
        let page = Html(include_str!("misdirected.html"));
        return (StatusCode::MISDIRECTED_REQUEST, page).into_response();
    }
    if let Some(asking) = text(headers, &ORIGIN).filter(|asking| *asking != origin) {
        let detail = format!("pages of {asking} may not call this service");
        return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
    }
    let is_call = request.uri().path().starts_with("/api/");
    let site = text(headers, &SEC_FETCH_SITE);
    if is_call && site.is_some_and(|site| !matches!(site, "same-origin" | "none")) {
        let detail = "pages of another origin may not call this service";
        return Problem::new(StatusCode::FORBIDDEN, detail).into_response();
    }
    next.run(request).await
}

/// Refuses callers that neither come over the Unix socket nor signed in.
pub(crate) async fn require_sign_in(
    State(api): State<Arc<Api>>,
    mut request: Request,
    next: Next,
) -> Response {
    let connection = request.extensions().get::<Connection>().cloned();
    let caller = match &connection {
        Some(Connection::Socket { uid }) => Some(of_command(*uid, request.headers())),
        Some(connection) => of_session(&api, connection, request.headers()),
        None => None,
    };
    let Some(caller) = caller else {
        let detail = "not signed in: run `bentlane console`";
        let mut response = Problem::new(StatusCode::UNAUTHORIZED, detail).into_response();
        response
            .headers_mut()
            .insert(WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        return response;
    };
    request.extensions_mut().insert(caller);
    next.run(request).await
}

/// The process at the other end of the Unix socket, with the command that it says it is.
fn of_command(uid: u32, headers: &HeaderMap) -> Caller {
    let stated = headers
        .get(COMMAND_HEADER)
        .and_then(|value| value.to_str().ok());
    let stated: String = stated
        .unwrap_or("API")
        .chars()
        .take(LONGEST_COMMAND)
        .collect();
    Caller {
        by: changed_by(format!("{}, {stated}", user_name(Some(uid))), headers),
        uid: Some(uid),
        session: None,
        trusted: true,
    }
}

fn of_session(api: &Api, connection: &Connection, headers: &HeaderMap) -> Option<Caller> {
    let secret = text(headers, &AUTHORIZATION)?.strip_prefix("Bearer ")?;
    let (uid, now) = (connection.uid(), Instant::now());
    let session = api.sign_in.session(secret, uid, now)?;
    Some(Caller {
        by: changed_by(format!("{}, console", user_name(uid)), headers),
        uid,
        session: Some(session.id),
        trusted: session.is_recent(now),
    })
}

fn changed_by(who: String, headers: &HeaderMap) -> ChangedBy {
    ChangedBy::new(who, text(headers, &IDEMPOTENCY_KEY))
}

/// Fields for every response: no page frames ours, no browser guesses a type, and what is no page of
/// the console runs nothing.
pub(crate) async fn harden(request: Request, next: Next) -> Response {
    const NOTHING: &str = "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; \
                           base-uri 'none'; form-action 'none'";
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    let fields = [
        (X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (REFERRER_POLICY, "no-referrer"),
        (CONTENT_SECURITY_POLICY, NOTHING),
    ];
    for (name, value) in fields {
        if !headers.contains_key(&name) {
            headers.insert(name, HeaderValue::from_static(value));
        }
    }
    response
}

fn text<'a>(headers: &'a HeaderMap, name: &HeaderName) -> Option<&'a str> {
    headers.get(name).and_then(|value| value.to_str().ok())
}
