//! How one route passes requests on: its settings, made ready for the hot path.

use std::sync::Arc;
use std::time::Duration;

use bentlane_model::{AllowedOrigin, HostField, Message, Route, RouteSettings, WaitLimit};
use http::header::{
    ACCESS_CONTROL_ALLOW_CREDENTIALS, ACCESS_CONTROL_ALLOW_HEADERS, ACCESS_CONTROL_ALLOW_METHODS,
    ACCESS_CONTROL_ALLOW_ORIGIN, ACCESS_CONTROL_MAX_AGE, ACCESS_CONTROL_REQUEST_HEADERS,
    ACCESS_CONTROL_REQUEST_METHOD, ORIGIN, STRICT_TRANSPORT_SECURITY, VARY,
};
use http::{HeaderMap, HeaderName, HeaderValue, Method, Response, StatusCode};

use crate::pool::Pool;
use crate::response_body::ResponseBody;

/// Seconds for which a browser may remember the answer to a preflight: a route that changes should
/// be noticed.
const PREFLIGHT_KEPT: &str = "60";

/// How a route with settings passes requests on.
#[derive(Debug)]
pub(crate) struct RouteRules {
    /// The prefix that the target does not see.
    pub(crate) stripped: Option<Box<str>>,
    /// The prefix, for the target to know.
    pub(crate) prefix: Option<HeaderValue>,
    /// The target's own Host, when it gets that.
    pub(crate) host: Option<HeaderValue>,
    pub(crate) trusts_forwarded: bool,
    pub(crate) tells_timing: bool,
    drops_hsts: bool,
    pub(crate) paused: bool,
    /// Whether there is an access log.
    pub(crate) logs: bool,
    pub(crate) redirect_status: Option<StatusCode>,
    pub(crate) keep_path: Option<bool>,
    pub(crate) fallback: Option<Box<str>>,
    /// The app for what the route's folder has no file for.
    pub(crate) behind_folder: Option<Arc<Pool>>,
    /// Whether files that need an interpreter are served.
    pub(crate) sources: bool,
    /// How long to wait for the first byte of a response.
    pub(crate) first_byte: Option<Duration>,
    origins: Vec<AllowedOrigin>,
    request: Fields,
    response: Fields,
}

/// Fields to set and to remove.
#[derive(Debug, Default)]
struct Fields {
    set: Vec<(HeaderName, HeaderValue)>,
    remove: Vec<HeaderName>,
}

impl RouteRules {
    /// `None` for a route that passes everything on as it comes; `behind_folder` is the app behind its
    /// folder.
    pub(crate) fn of(route: &Route, behind_folder: Option<Arc<Pool>>) -> Option<Box<Self>> {
        let RouteSettings {
            strip_prefix,
            host,
            allow_origins,
            trust_forwarded,
            server_timing,
            drop_hsts,
            paused,
            access_log,
            redirect_status,
            keep_path,
            fallback,
            first_byte_timeout,
            serve_sources,
            ..
        } = &route.settings;
        if route.settings.is_default() {
            return None;
        }
        let prefix = route.address.prefix.as_str();
        let stripped = strip_prefix.then(|| Box::from(prefix));
        let target = (*host == HostField::Target).then(|| route.server().authority());
        Some(Box::new(Self {
            prefix: HeaderValue::from_str(prefix).ok().filter(|_| *strip_prefix),
            stripped,
            host: target
                .flatten()
                .and_then(|host| HeaderValue::try_from(host).ok()),
            trusts_forwarded: *trust_forwarded,
            tells_timing: *server_timing,
            drops_hsts: *drop_hsts,
            paused: *paused,
            logs: access_log.is_some(),
            redirect_status: redirect_status.and_then(|code| StatusCode::from_u16(code).ok()),
            keep_path: *keep_path,
            fallback: fallback.as_deref().map(Box::from),
            behind_folder,
            sources: *serve_sources,
            first_byte: first_byte_timeout.map(WaitLimit::duration),
            origins: allow_origins.clone(),
            request: Fields::of(&route.settings, Message::Request),
            response: Fields::of(&route.settings, Message::Response),
        }))
    }

    /// Changes the fields that the target gets.
    pub(crate) fn edit_request(&self, headers: &mut HeaderMap) {
        self.request.edit(headers);
    }

    /// Changes the fields that the client gets.
    pub(crate) fn edit_response(&self, headers: &mut HeaderMap) {
        if self.drops_hsts {
            headers.remove(STRICT_TRANSPORT_SECURITY);
        }
        self.response.edit(headers);
    }

    /// The origin of the asking page, when it may read the response.
    pub(crate) fn allowed_origin(
        &self,
        headers: &HeaderMap,
        https_port: u16,
    ) -> Option<HeaderValue> {
        if self.origins.is_empty() {
            return None;
        }
        let origin = headers.get(ORIGIN)?;
        let text = origin.to_str().ok()?;
        let allowed = self.origins.iter().any(|it| it.allows(text, https_port));
        allowed.then(|| origin.clone())
    }
}

impl Fields {
    fn of(settings: &RouteSettings, message: Message) -> Self {
        let name = |text: &str| HeaderName::try_from(text).ok();
        let set = settings.set_headers.iter();
        let remove = settings.remove_headers.iter();
        Self {
            set: set
                .filter(|field| field.message == message)
                .filter_map(|field| {
                    let value = HeaderValue::from_str(&field.value).ok()?;
                    Some((name(&field.name)?, value))
                })
                .collect(),
            remove: remove
                .filter(|field| field.message == message)
                .filter_map(|field| name(&field.name))
                .collect(),
        }
    }

    fn edit(&self, headers: &mut HeaderMap) {
        for name in &self.remove {
            headers.remove(name);
        }
        for (name, value) in &self.set {
            headers.insert(name, value.clone());
        }
    }
}

/// Answers a preflight of a page of `origin` (Fetch Standard §3.2.2): whatever it wants to send is
/// allowed. `None` for a request that is none.
pub(crate) fn preflight(
    method: &Method,
    headers: &HeaderMap,
    origin: &HeaderValue,
) -> Option<Response<ResponseBody>> {
    if *method != Method::OPTIONS {
        return None;
    }
    let wanted = headers.get(ACCESS_CONTROL_REQUEST_METHOD)?.clone();
    let mut response = Response::new(ResponseBody::empty());
    *response.status_mut() = StatusCode::NO_CONTENT;
    let fields = response.headers_mut();
    fields.insert(ACCESS_CONTROL_ALLOW_METHODS, wanted);
    if let Some(names) = headers.get(ACCESS_CONTROL_REQUEST_HEADERS) {
        fields.insert(ACCESS_CONTROL_ALLOW_HEADERS, names.clone());
    }
    let kept = HeaderValue::from_static(PREFLIGHT_KEPT);
    fields.insert(ACCESS_CONTROL_MAX_AGE, kept);
    share(fields, origin.clone());
    Some(response)
}

/// Lets pages of `origin` read a response, unless the app has said so itself: said twice, browsers
/// believe neither.
pub(crate) fn share(headers: &mut HeaderMap, origin: HeaderValue) {
    headers.append(VARY, HeaderValue::from_static("Origin"));
    if headers.contains_key(ACCESS_CONTROL_ALLOW_ORIGIN) {
        return;
    }
    headers.insert(ACCESS_CONTROL_ALLOW_ORIGIN, origin);
    let credentials = HeaderValue::from_static("true");
    headers.insert(ACCESS_CONTROL_ALLOW_CREDENTIALS, credentials);
}
