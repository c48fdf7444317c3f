//! Requests for an app that is not ready.

use std::sync::Arc;
use std::time::Duration;

use bentlane_checks::Finding;
use bentlane_model::{AppName, AppPlace, ContainerPlace, Route, StartContainer, Target};
use http::{Response, StatusCode};
use time::OffsetDateTime;
use tokio::time::timeout;

use super::Client;
use crate::apps::{self, AppHost, NEWS_PATH};
use crate::error_page::ErrorPage;
use crate::outgoing::OutgoingRequest;
use crate::pool::{Boxed, Pool};
use crate::response_body::ResponseBody;
use crate::routing_table::{Backend, Found};

/// How long a browser waits for an app before it gets a page that shows what is going on.
const BEFORE_A_PAGE: Duration = Duration::from_millis(400);

/// What came of waiting for an app.
pub(super) enum Awaited {
    /// It is ready, and this leads to it.
    Ready(Arc<Pool>),
    /// The page of the app asked for something.
    Here(Box<Response<ResponseBody>>),
}

/// Where the page of an app behind `route` asks for news.
fn news_path(route: &Route) -> String {
    let prefix = route.address.prefix.as_str().trim_end_matches('/');
    format!("{prefix}{NEWS_PATH}")
}

impl Pool {
    /// The app that is to be waited for before anything can be sent.
    pub(crate) fn awaited_app(&self) -> Option<&AppName> {
        match (&self.destination().app, &self.destination().to) {
            (Some(AppPlace::NotReady), Target::App(app)) => Some(&app.name),
            _ => None,
        }
    }
}

impl Pool {
    /// Whether it leads to a container that is on its way, or that the route has started by a request.
    pub(crate) fn waits_for_container(&self, start: StartContainer) -> bool {
        match self.destination().place {
            Some(ContainerPlace::Starting) => true,
            Some(ContainerPlace::Stopped) => start == StartContainer::Visit,
            _ => false,
        }
    }
}

impl Client {
    /// Starts `app`, and waits until it is ready: a browser sees a page meanwhile, other clients wait.
    #[cold]
    #[inline(never)]
    pub(super) fn when_ready<'a>(
        &'a self,
        ask: &'a OutgoingRequest,
        name: &'a str,
        found: Found<'a>,
        app: &'a AppName,
    ) -> Boxed<'a, Result<Awaited, Box<ErrorPage>>> {
        Box::pin(async move {
            let Some(host) = self.shared.apps.get() else {
                return Err(ErrorPage::route_missing(name, ask.parts.uri.path(), &[]));
            };
            let news = news_path(found.routed.route);
            if ask.parts.uri.path() == news && self.may_see(&**host) {
                let tokens = &self.shared.restart_tokens;
                let answer = apps::answer_page(&**host, tokens, app, &ask.parts).await;
                return Ok(Awaited::Here(Box::new(answer)));
            }
            if ask.flags.is_check {
                return Err(self.page_of(&**host, name, found, app));
            }
            let outcome = match apps::is_navigation(&ask.parts) {
                true => match timeout(BEFORE_A_PAGE, host.ready(app)).await {
                    Ok(outcome) => outcome,
                    Err(_) => return Err(self.page_of(&**host, name, found, app)),
                },
                false => host.ready(app).await,
            };
            if outcome.is_some() {
                return Err(self.page_of(&**host, name, found, app));
            }
            match self.pool_now(name, ask.parts.uri.path()) {
                Some(pool) => Ok(Awaited::Ready(pool)),
                None => Err(self.page_of(&**host, name, found, app)),
            }
        })
    }

    /// Whether the client may see what apps print: it is of this machine, and the service's own user.
    fn may_see(&self, host: &dyn AppHost) -> bool {
        self.local && host.may_see(self.pair())
    }

    /// Waits until a container can be connected to, once it is started where the route says so.
    #[cold]
    #[inline(never)]
    pub(super) fn when_container_is_ready<'a>(
        &'a self,
        ask: &'a OutgoingRequest,
        name: &'a str,
        found: Found<'a>,
        pool: &'a Arc<Pool>,
    ) -> Boxed<'a, Result<Arc<Pool>, Box<ErrorPage>>> {
        Box::pin(async move {
            let path = ask.parts.uri.path();
            if let Some(host) = self.shared.apps.get()
                && !ask.flags.is_check
                && let Target::Container(container) = &pool.destination().to
            {
                let is_stopped = pool.destination().place == Some(ContainerPlace::Stopped);
                let refusal = host.container_ready(container, is_stopped).await;
                if let Some(reason) = refusal {
                    let route = found.routed.route;
                    let finding = Finding::container_not_started(&container.name, &reason);
                    let (address, code) = (route.address.to_string(), StatusCode::BAD_GATEWAY);
                    return Err(ErrorPage::finding(
                        code,
                        name,
                        &address,
                        Some(&route.to),
                        finding,
                    ));
                }
            }
            // Whatever it is now, the page of a container that cannot be connected to says it.
            let pool = self
                .pool_now(name, path)
                .unwrap_or_else(|| Arc::clone(pool));
            Ok(pool)
        })
    }

    /// Where the same request leads by the routes of now.
    fn pool_now(&self, name: &str, path: &str) -> Option<Arc<Pool>> {
        let table = self.shared.routing_table();
        let found = self.find(&table, name, path)?;
        match found.backend {
            Backend::Pool(pool) => Some(Arc::clone(pool)),
            Backend::Folder(_) => found.rules?.behind_folder.clone(),
            Backend::ByName(by) => {
                let route = found.routed.route;
                let target = by.target(name, route.address.pattern.base())?;
                Some(self.shared.named.pool(&table, route, &target))
            }
            Backend::Redirect { .. } | Backend::Site => None,
        }
    }

    /// The page that says how the app is.
    fn page_of(
        &self,
        host: &dyn AppHost,
        name: &str,
        found: Found<'_>,
        app: &AppName,
    ) -> Box<ErrorPage> {
        let route = found.routed.route;
        let Some(status) = host.status(app) else {
            return ErrorPage::route_missing(name, "/", &[]);
        };
        let finding = status.finding(OffsetDateTime::now_utc(), false);
        let address = route.address.to_string();
        let code = StatusCode::SERVICE_UNAVAILABLE;
        let mut page = ErrorPage::finding(code, name, &address, Some(route.server()), finding);
        if !self.may_see(host) {
            return page;
        }
        let token = self.shared.restart_tokens.issue(app);
        page.add_app(status, news_path(route), token);
        page
    }
}
