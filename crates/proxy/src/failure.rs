//! Requests that were not passed on, and the pages that say why.

use std::io;

use bentlane_checks::Finding;
use bentlane_model::{Route, Target, WaitLimit, chain};
use http::StatusCode;

use crate::error_page::ErrorPage;
use crate::files::FileError;
use crate::pool::{Boxed, ConnectError, Pool};
use crate::request_body::{ClientBodyError, StallError};
use crate::routing_table::Limits;
use crate::target_connection::EndlessInterim;

/// Why a request was not passed on.
pub(crate) enum Failure {
    /// No connection to the target.
    Connect(ConnectError),
    /// The target did not answer in time.
    Late,
    /// The client did not send the body in time.
    Stalled,
    /// The client sent something that is no body.
    ClientBody,
    /// The target sends interim responses and no final one.
    EndlessInterim,
    /// The exchange broke off.
    Exchange(hyper::Error),
    /// The target uses TLS, and got plain HTTP.
    SpeaksTls,
    /// The fields of the response take so many bytes.
    Oversized(usize),
    /// The target answers so instead of changing its protocol.
    NoUpgrade(StatusCode),
}

/// Why a request has no response of the target's.
pub(crate) enum Refusal {
    ErrorPage(Box<ErrorPage>),
    Failure(Failure),
}

impl From<Box<ErrorPage>> for Refusal {
    fn from(page: Box<ErrorPage>) -> Self {
        Self::ErrorPage(page)
    }
}

impl From<Failure> for Refusal {
    fn from(failure: Failure) -> Self {
        Self::Failure(failure)
    }
}

impl Failure {
    /// The page that says why, with the finding and its fix.
    #[cold]
    pub(crate) fn explain(self, limits: &Limits, name: &str, route: &Route) -> Box<ErrorPage> {
        let (address, target) = (route.address.to_string(), route.server());
        let bad = StatusCode::BAD_GATEWAY;
        let (status, finding) = match self {
            Self::Connect(error) => (bad, connect_finding(&address, route, error)),
            Self::Late => {
                let limit = route.settings.first_byte_timeout;
                let limit = limit.map_or(limits.first_byte, WaitLimit::duration);
                let limit = humantime::format_duration(limit).to_string();
                let finding = Finding::answer_late(target, &limit);
                (StatusCode::GATEWAY_TIMEOUT, finding)
            }
            Self::Stalled => {
                let limit = limits.request_idle;
                return Box::new(ErrorPage::request_stalled(limit));
            }
            Self::NoUpgrade(status) => (bad, Finding::upgrade_refused(target, status.as_u16())),
            Self::ClientBody => {
                return Box::new(ErrorPage::bad_request(
                    "the body of the request cannot be read",
                ));
            }
            Self::SpeaksTls => (bad, Finding::target_speaks_tls(&address, target)),
            Self::Oversized(octets) => {
                let limit = limits.response_head_octets;
                let reason = format!("{octets} bytes, and the limit is {limit}");
                (bad, Finding::answer_oversized(target, &reason))
            }
            Self::EndlessInterim => (bad, Finding::answer_interim(target)),
            Self::Exchange(error) if error.is_parse_too_large() => {
                (bad, Finding::answer_oversized(target, &chain(&error)))
            }
            Self::Exchange(error) if error.is_parse() => {
                (bad, Finding::answer_malformed(target, &chain(&error)))
            }
            Self::Exchange(error) => (bad, Finding::answer_missing(target, &chain(&error))),
        };
        let finding = match route.settings.r#else {
            Some(_) => finding.of_app_behind_folder(),
            None => finding,
        };
        ErrorPage::finding(status, name, &address, Some(target), finding)
    }

    /// The same, unless the target turns out to speak TLS: asked on a fresh connection alone, since
    /// one that has served before spoke HTTP.
    #[cold]
    pub(crate) fn or_tls(self, pool: &Pool, fresh: bool) -> Boxed<'_, Self> {
        Box::pin(async move {
            let unread = matches!(&self, Self::Exchange(error) if !error.is_parse_too_large());
            if fresh && unread && pool.speaks_tls().await {
                return Self::SpeaksTls;
            }
            self
        })
    }

    pub(crate) fn of(error: hyper::Error) -> Self {
        let mut cause: Option<&dyn std::error::Error> = Some(&error);
        while let Some(some) = cause {
            if some.is::<StallError>() {
                return Self::Stalled;
            }
            if some.is::<ClientBodyError>() {
                return Self::ClientBody;
            }
            let of_system = some.downcast_ref::<io::Error>();
            if of_system.is_some_and(is_endless_interim) {
                return Self::EndlessInterim;
            }
            cause = some.source();
        }
        Self::Exchange(error)
    }
}

fn is_endless_interim(error: &io::Error) -> bool {
    error.get_ref().is_some_and(|it| it.is::<EndlessInterim>())
}

#[cold]
fn connect_finding(address: &str, route: &Route, error: ConnectError) -> Finding {
    let target = route.server();
    match error {
        ConnectError::Closed {
            attempts,
            elsewhere: Some(elsewhere),
        } => Finding::target_other_family(address, target, &attempts, elsewhere),
        ConnectError::Closed { attempts, .. } => Finding::target_closed(address, target, &attempts),
        ConnectError::Container(place) => Finding::container(address, target, &place)
            .unwrap_or_else(|| Finding::target_closed(address, target, &[])),
        ConnectError::AppNotReady => Finding::app_not_ready_yet(target),
        ConnectError::UnknownHost(reason) => Finding::target_unknown(address, target, &reason),
        ConnectError::Untrusted(reason) => Finding::target_untrusted(address, target, &reason),
        ConnectError::SpeaksPlain => Finding::target_speaks_plain(address, target),
        ConnectError::Tls(reason) => Finding::target_tls_failed(target, &reason),
        ConnectError::Broken(reason) => Finding::answer_missing(target, &reason),
    }
}

#[cold]
pub(crate) fn paused(name: &str, route: &Route) -> Box<ErrorPage> {
    let address = route.address.to_string();
    let finding = Finding::route_paused(&address, route.settings.note.as_deref());
    let status = StatusCode::SERVICE_UNAVAILABLE;
    ErrorPage::finding(status, name, &address, Some(&route.to), finding)
}

#[cold]
pub(crate) fn looped(route: &Route, circle: &[String]) -> Box<ErrorPage> {
    let address = route.address.to_string();
    let finding = Finding::route_loop(&address, circle);
    let status = StatusCode::LOOP_DETECTED;
    ErrorPage::finding(status, &address, &address, Some(&route.to), finding)
}

#[cold]
pub(crate) fn file_failure(
    name: &str,
    route: &Route,
    path: &str,
    error: &FileError,
) -> Box<ErrorPage> {
    let (address, target) = (route.address.to_string(), &route.to);
    let own = route.address.prefix.as_str();
    let is_index = path.trim_end_matches('/') == own.trim_end_matches('/');
    let (status, finding) = match error {
        FileError::Missing if is_index && route.settings.fallback.is_none() => (
            StatusCode::NOT_FOUND,
            Finding::index_missing(&address, target),
        ),
        FileError::Missing => (
            StatusCode::NOT_FOUND,
            Finding::file_missing(&address, target, path, None),
        ),
        FileError::Outside => {
            let reason = "the path leads out of the folder, where nothing is served from";
            let finding = Finding::file_missing(&address, target, path, Some(reason));
            (StatusCode::NOT_FOUND, finding)
        }
        FileError::Source(file) => {
            let file = file.display().to_string();
            let Target::Folder(folder) = target else {
                return ErrorPage::route_missing(name, path, &[]);
            };
            let all = [file.clone()];
            let finding = Finding::sources_not_served(&address, folder.path(), &file, &all);
            (StatusCode::FORBIDDEN, finding)
        }
        FileError::Unreadable(cause) => (
            StatusCode::BAD_GATEWAY,
            Finding::folder_unreadable(&address, target, &cause.to_string()),
        ),
    };
    ErrorPage::finding(status, name, &address, Some(target), finding)
}
