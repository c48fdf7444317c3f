use std::collections::BTreeMap;
use std::path::PathBuf;

use axum::http::StatusCode;
use bentlane_model::{Expectation, Invalid, RouteSettings};
use bentlane_system::Folder;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

use super::problem::Problem;

/// How a route leads to its target, key by key; what is left out stays, or is as usual.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct RouteKeys {
    /// What its name resolves to: an address, `own` for a free loopback address of its own, or
    /// `zone` for what the zone says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// Whether the target gets paths without the route's prefix.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub strip_prefix: Option<bool>,
    /// Which Host the target gets: `keep` or `target`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// How the target's certificate is verified: `verify`, `none`, or the file of the one to accept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target_tls: Option<String>,
    /// The name that the target's certificate is for; `none` is the target's host.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target_name: Option<String>,
    /// The origins whose pages may read responses, `https://*.moor.test` among them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub allow_origins: Option<Vec<String>>,
    /// Fields to set: `request NAME: VALUE` or `response NAME: VALUE`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub set_headers: Option<Vec<String>>,
    /// Fields to remove: `request NAME` or `response NAME`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remove_headers: Option<Vec<String>>,
    /// What becomes of plain HTTP: `redirect`, `serve` or `refuse`; `zone` is what the zone
    /// says.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plain: Option<String>,
    /// The certificate to show: the first name of an imported one, or `issued`; `none` is the best
    /// that covers the name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cert: Option<String>,
    /// Who opens TLS: `here` or `passthrough`; `none` is as usual.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tls: Option<String>,
    /// A file of a target folder for paths that have none; `none` for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fallback: Option<String>,
    /// The status of a redirect: 301, 302, 307 or 308.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub redirect_status: Option<u16>,
    /// Whether a redirect keeps path and query.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keep_path: Option<bool>,
    /// Whether what clients say of proxies before us is believed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trust_forwarded: Option<bool>,
    /// Whether the route covers every name below its own, too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subdomains: Option<bool>,
    /// Whether responses tell in `Server-Timing` where the time went.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub server_timing: Option<bool>,
    /// Whether `Strict-Transport-Security` is taken out of responses.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drop_hsts: Option<bool>,
    /// Whether the route rests.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paused: Option<bool>,
    /// The whole path of a file for its access log, in the combined format; `none` for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub access_log: Option<String>,
    /// What the route is for; `none` for nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What its answers have to be like.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expect: Option<ExpectKeys>,
    /// Keys that there are not.
    #[serde(flatten, skip_serializing)]
    #[schema(ignore)]
    pub unknown: BTreeMap<String, Value>,
}

/// What a route's answers have to be like, key by key; what is left out stays.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ExpectKeys {
    /// The status, after redirects; 0 for any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// A text in the answer; `none` for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The title of the page; `none` for any.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// Fields that it has: `NAME: VALUE`, or `NAME` for any value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<Vec<String>>,
    /// Values in its JSON: `POINTER=VALUE`, with a pointer of RFC 6901.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub json: Option<Vec<String>>,
    /// A path at which the app speaks WebSocket; `none` for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub websocket: Option<String>,
    /// A path at which the app sends server-sent events; `none` for none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub events: Option<String>,
}

impl ExpectKeys {
    fn choose(&self, expect: &mut Expectation) -> Vec<Result<(), Invalid>> {
        let text = |text: &str| Ok(text.to_owned());
        if let Some(status) = self.status {
            expect.status = Some(status).filter(|status| *status != 0);
        }
        vec![
            choose(&mut expect.text, self.text.as_ref(), NONE, text),
            choose(&mut expect.title, self.title.as_ref(), NONE, text),
            choose(&mut expect.websocket, self.websocket.as_ref(), NONE, text),
            choose(&mut expect.events, self.events.as_ref(), NONE, text),
            put(&mut expect.header, self.header.as_deref().map(all)),
            put(&mut expect.json, self.json.as_deref().map(all)),
        ]
    }
}

/// The word that takes a choice back.
const NONE: &str = "none";

/// Puts what was given in its place; a word that takes the choice back empties it.
fn choose<T>(
    place: &mut Option<T>,
    given: Option<&String>,
    back: &str,
    read: impl FnOnce(&str) -> Result<T, Invalid>,
) -> Result<(), Invalid> {
    match given.map(|text| text.trim()) {
        None => {}
        Some(text) if text == back => *place = None,
        Some(text) => *place = Some(read(text)?),
    }
    Ok(())
}

/// Puts what was given in its place.
fn put<T>(place: &mut T, given: Option<Result<T, Invalid>>) -> Result<(), Invalid> {
    if let Some(value) = given {
        *place = value?;
    }
    Ok(())
}

fn all<T: std::str::FromStr<Err = Invalid>>(given: &[String]) -> Result<Vec<T>, Invalid> {
    given.iter().map(|text| text.trim().parse()).collect()
}

impl RouteKeys {
    /// What the keys are called.
    const NAMES: [&str; 22] = [
        "address",
        "strip_prefix",
        "host",
        "target_tls",
        "target_name",
        "allow_origins",
        "set_headers",
        "remove_headers",
        "plain",
        "cert",
        "tls",
        "fallback",
        "redirect_status",
        "keep_path",
        "trust_forwarded",
        "subdomains",
        "server_timing",
        "drop_hsts",
        "paused",
        "access_log",
        "note",
        "expect",
    ];

    /// Whether every key is one that there is.
    pub(super) fn check_names(&self) -> Result<(), Problem> {
        let Some(key) = self.unknown.keys().next() else {
            return Ok(());
        };
        let detail = format!(
            "a route has no key `{key}`; there are: {}",
            Self::NAMES.join(", ")
        );
        Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail))
    }

    /// Has `settings` go by every key but `address`, and says all that is wrong.
    pub(super) fn choose(&self, settings: &mut RouteSettings) -> Result<(), Vec<Invalid>> {
        let Self {
            target_name,
            plain,
            cert,
            tls,
            fallback,
            access_log,
            note,
            ..
        } = self;
        let name = |text: &str| {
            let parsed = text.parse();
            parsed.map_err(|error| Invalid::new("target_name", error))
        };
        let file = |text: &str| Ok(text.trim_start_matches('/').to_owned());
        let mut outcomes = vec![
            put(&mut settings.host, self.host.as_deref().map(str::parse)),
            put(
                &mut settings.target_tls,
                self.target_tls.as_deref().map(str::parse),
            ),
            choose(&mut settings.target_name, target_name.as_ref(), NONE, name),
            put(
                &mut settings.allow_origins,
                self.allow_origins.as_deref().map(all),
            ),
            put(
                &mut settings.set_headers,
                self.set_headers.as_deref().map(all),
            ),
            put(
                &mut settings.remove_headers,
                self.remove_headers.as_deref().map(all),
            ),
            choose(&mut settings.plain, plain.as_ref(), "zone", str::parse),
            choose(&mut settings.cert, cert.as_ref(), NONE, str::parse),
            choose(&mut settings.tls, tls.as_ref(), NONE, str::parse),
            choose(&mut settings.fallback, fallback.as_ref(), NONE, file),
            choose(
                &mut settings.access_log,
                access_log.as_ref(),
                NONE,
                log_file,
            ),
            choose(&mut settings.note, note.as_ref(), NONE, |text| {
                Ok(text.to_owned())
            }),
        ];
        if let Some(expect) = &self.expect {
            outcomes.extend(expect.choose(&mut settings.expect));
        }
        if let Some(status) = self.redirect_status {
            settings.redirect_status = Some(status);
        }
        if let Some(keep) = self.keep_path {
            settings.keep_path = Some(keep);
        }
        for (place, given) in [
            (&mut settings.strip_prefix, self.strip_prefix),
            (&mut settings.trust_forwarded, self.trust_forwarded),
            (&mut settings.subdomains, self.subdomains),
            (&mut settings.server_timing, self.server_timing),
            (&mut settings.drop_hsts, self.drop_hsts),
            (&mut settings.paused, self.paused),
        ] {
            *place = given.unwrap_or(*place);
        }
        let wrong: Vec<Invalid> = outcomes.into_iter().filter_map(Result::err).collect();
        if wrong.is_empty() { Ok(()) } else { Err(wrong) }
    }
}

/// A file that the service can name as its user does: the service has a folder of its own.
fn log_file(text: &str) -> Result<PathBuf, Invalid> {
    let path = PathBuf::from(text);
    if !path.is_absolute() || path.file_name().is_none() {
        let reason = format!("`{text}` is not the whole path of a file");
        return Err(Invalid::new("access_log", reason));
    }
    // Opened later, each time anew: only that it could be is of interest here.
    match Folder::of(&path) {
        Ok(_) => Ok(path),
        Err(error) if error.is_missing() => {
            let folder = path.parent().unwrap_or(&path).display();
            let reason = format!("the folder {folder} is not there: make it first");
            Err(Invalid::new("access_log", reason))
        }
        Err(error) => Err(Invalid::new("access_log", error)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_is_named_and_taken_and_taken_back() {
        let keys = |json: serde_json::Value| serde_json::from_value::<RouteKeys>(json).unwrap();
        let given = keys(serde_json::json!({
            "address": "own", "strip_prefix": true, "host": "target", "target_tls": "none",
            "target_name": "a.test", "allow_origins": ["https://a.test"],
            "set_headers": ["request a: b"], "remove_headers": ["response b"],
            "plain": "serve", "cert": "issued", "tls": "here", "fallback": "/index.html",
            "redirect_status": 301, "keep_path": true, "trust_forwarded": true,
            "subdomains": true, "server_timing": true, "drop_hsts": true, "paused": true,
            "access_log": "/var/log/shop.log", "note": "the shop",
            "expect": { "status": 200, "text": "a", "title": "b", "header": ["x-a: b"],
                "json": ["/a=1"], "websocket": "/live", "events": "/news" },
        }));
        let written = serde_json::to_value(&given).unwrap();
        let mut names: Vec<&str> = written
            .as_object()
            .unwrap()
            .keys()
            .map(|key| &**key)
            .collect();
        let mut known = RouteKeys::NAMES.to_vec();
        names.sort_unstable();
        known.sort_unstable();
        assert_eq!(names, known);
        let mut settings = RouteSettings::default();
        given.choose(&mut settings).unwrap();
        let taken = serde_json::to_value(&settings).unwrap();
        assert_eq!(taken.as_object().unwrap().len(), RouteKeys::NAMES.len() - 1);
        let back = keys(serde_json::json!({
            "strip_prefix": false, "host": "keep", "target_tls": "verify", "target_name": "none",
            "allow_origins": [], "set_headers": [], "remove_headers": [], "plain": "zone",
            "cert": "none", "tls": "none", "fallback": "none", "trust_forwarded": false,
            "subdomains": false, "server_timing": false, "drop_hsts": false, "paused": false, "access_log": "none", "note": "none",
            "expect": { "status": 0, "text": "none", "title": "none", "header": [], "json": [],
                "websocket": "none", "events": "none" },
        }));
        back.choose(&mut settings).unwrap();
        let left = serde_json::to_value(&settings).unwrap();
        assert_eq!(
            left,
            serde_json::json!({ "redirect_status": 301, "keep_path": true })
        );
    }

    #[test]
    fn all_that_is_wrong_is_said() {
        let keys = RouteKeys {
            host: Some("mine".to_owned()),
            plain: Some("maybe".to_owned()),
            set_headers: Some(vec!["a".to_owned()]),
            ..RouteKeys::default()
        };
        let wrong = keys.choose(&mut RouteSettings::default()).unwrap_err();
        let fields: Vec<&str> = wrong.iter().map(|invalid| invalid.field).collect();
        assert_eq!(fields, ["host", "set_headers", "plain"]);
    }
}
