use std::path::Path;

use bentlane_service::api::{ExpectKeys, RouteKeys};
use clap::Args;

use crate::error::CliError;
use crate::input::whole_path;

/// How a route leads to its target; what is left out stays, or is as usual.
#[derive(Debug, Args)]
#[command(next_help_heading = "Routing")]
pub(crate) struct Keys {
    /// What the name resolves to: an address, `own` for a free loopback address of its own, or
    /// `zone` for what the zone says
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// Remove the prefix from the path; X-Forwarded-Prefix has it
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    strip_prefix: Option<bool>,
    /// Which Host the app gets: keep (the client's) or target (the app's own)
    #[arg(long, value_name = "WHICH")]
    host: Option<String>,
    /// How the app's certificate is verified: verify, none, or the file of the one to accept
    #[arg(long, value_name = "HOW")]
    target_tls: Option<String>,
    /// The name that the app's certificate is for; `none` is the target's host
    #[arg(long, hide_short_help = true, value_name = "NAME")]
    target_name: Option<String>,
    /// Origins whose pages may read responses, such as `https://*.moor.test`; `none` for none
    #[arg(
        long,
        hide_short_help = true,
        value_name = "ORIGIN",
        value_delimiter = ','
    )]
    allow_origins: Vec<String>,
    /// A field to set: 'request NAME: VALUE' or 'response NAME: VALUE'; `none` for none
    #[arg(long, hide_short_help = true, value_name = "FIELD")]
    set_headers: Vec<String>,
    /// A field to remove: 'request NAME' or 'response NAME'; `none` for none
    #[arg(long, hide_short_help = true, value_name = "FIELD")]
    remove_headers: Vec<String>,
    /// Plain HTTP: redirect (to HTTPS), serve or refuse; `zone` for the zone's setting
    #[arg(long, hide_short_help = true, value_name = "WHAT")]
    plain: Option<String>,
    /// The certificate to show: the first name of an imported one, or `issued`; `none` is the best
    #[arg(long, hide_short_help = true, value_name = "NAME")]
    cert: Option<String>,
    /// Who opens TLS: here or passthrough; `none` is as usual
    #[arg(long, hide_short_help = true, value_name = "WHERE")]
    tls: Option<String>,
    /// A file of the folder for paths that have none, for single-page apps; `none` for none
    #[arg(long, hide_short_help = true, value_name = "FILE")]
    fallback: Option<String>,
    /// The status of a redirect: 301, 302, 307 or 308
    #[arg(long, hide_short_help = true, value_name = "STATUS")]
    redirect_status: Option<u16>,
    /// Whether a redirect keeps path and query
    #[arg(long, hide_short_help = true, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    keep_path: Option<bool>,
    /// Believe what clients say of proxies before us
    #[arg(long, hide_short_help = true, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    trust_forwarded: Option<bool>,
    /// Cover every name below its own, too
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    subdomains: Option<bool>,
    /// Add a Server-Timing header with the times to connect and to the first byte
    #[arg(long, hide_short_help = true, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    server_timing: Option<bool>,
    /// Take Strict-Transport-Security out of responses
    #[arg(long, hide_short_help = true, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    drop_hsts: Option<bool>,
    /// Pause the route: requests get a page that says so
    #[arg(long, value_name = "BOOL", num_args = 0..=1, require_equals = true, default_missing_value = "true")]
    paused: Option<bool>,
    /// A file to which a line is added for each request, in the combined format; `none` for none
    #[arg(long, hide_short_help = true, value_name = "FILE")]
    access_log: Option<String>,
    /// A note about the route; `none` removes it
    #[arg(long, hide_short_help = true, value_name = "TEXT")]
    note: Option<String>,
    #[command(flatten)]
    expect: Expect,
}

/// What the route's answers have to be like, for checks: the right app, not just an app.
#[derive(Debug, Args)]
#[command(next_help_heading = "Expected responses, for checks")]
struct Expect {
    /// The status, after redirects; 0 for any
    #[arg(long, value_name = "STATUS")]
    expect_status: Option<u16>,
    /// A text in the answer; `none` for none
    #[arg(long, value_name = "TEXT")]
    expect_text: Option<String>,
    /// The title of the page; `none` for any
    #[arg(long, value_name = "TITLE")]
    expect_title: Option<String>,
    /// A field that it has: 'NAME: VALUE', or NAME for any value; `none` for none
    #[arg(long, hide_short_help = true, value_name = "FIELD")]
    expect_header: Vec<String>,
    /// A value in its JSON, such as '/status=ok'; `none` for none
    #[arg(long, hide_short_help = true, value_name = "POINTER=VALUE")]
    expect_json: Vec<String>,
    /// A path at which the app speaks WebSocket; `none` for none
    #[arg(long, hide_short_help = true, value_name = "PATH")]
    expect_websocket: Option<String>,
    /// A path at which the app sends server-sent events; `none` for none
    #[arg(long, hide_short_help = true, value_name = "PATH")]
    expect_events: Option<String>,
}

impl Expect {
    /// Nothing when nothing was given.
    fn keys(self) -> Option<ExpectKeys> {
        let keys = ExpectKeys {
            status: self.expect_status,
            text: self.expect_text,
            title: self.expect_title,
            header: list(self.expect_header),
            json: list(self.expect_json),
            websocket: self.expect_websocket,
            events: self.expect_events,
        };
        (keys != ExpectKeys::default()).then_some(keys)
    }
}

impl Keys {
    pub(crate) fn keys(self) -> Result<RouteKeys, CliError> {
        let target_tls = match self.target_tls {
            Some(file) if !matches!(&*file, "verify" | "none") => {
                Some(whole_path(Path::new(&file))?.display().to_string())
            }
            other => other,
        };
        let access_log = match self.access_log {
            Some(file) if file != "none" => {
                let path = std::path::absolute(&file).map_err(|source| CliError::Io {
                    verb: format!("find {file}"),
                    source,
                })?;
                Some(path.display().to_string())
            }
            other => other,
        };
        Ok(RouteKeys {
            address: self.address,
            strip_prefix: self.strip_prefix,
            host: self.host,
            target_tls,
            target_name: self.target_name,
            allow_origins: list(self.allow_origins),
            set_headers: list(self.set_headers),
            remove_headers: list(self.remove_headers),
            plain: self.plain,
            cert: self.cert,
            tls: self.tls,
            fallback: self.fallback,
            redirect_status: self.redirect_status,
            keep_path: self.keep_path,
            trust_forwarded: self.trust_forwarded,
            subdomains: self.subdomains,
            server_timing: self.server_timing,
            drop_hsts: self.drop_hsts,
            paused: self.paused,
            access_log,
            note: self.note,
            expect: self.expect.keys(),
            ..RouteKeys::default()
        })
    }
}

/// Nothing when nothing was given, and an empty list for `none`.
fn list(given: Vec<String>) -> Option<Vec<String>> {
    match given.as_slice() {
        [] => None,
        [none] if none == "none" => Some(Vec::new()),
        _ => Some(given),
    }
}
