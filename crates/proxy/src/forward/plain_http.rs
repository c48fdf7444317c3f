//! Requests over plain HTTP: redirected to HTTPS, or refused.

use bentlane_checks::Finding;
use bentlane_model::Plain;
use http::{Response, StatusCode, Uri, request};
use std::sync::Arc;

use super::Client;
use crate::error_page::{ErrorPage, PageFormat};
use crate::redirect;
use crate::response_body::ResponseBody;
use crate::routing_table::{Found, RoutingTable};
use crate::uri::{host_of, name_of, path_of};

impl Client {
    /// Redirects a request for plain HTTP on the HTTPS listener to the same URL over HTTPS.
    pub(crate) fn send_to_https(&self, parts: &request::Parts) -> Response<ResponseBody> {
        let table = self.shared.routing_table();
        let method = parts.method.clone();
        let mut exchange = self.begin_exchange(parts.version, method);
        let path = path_of(&parts.uri);
        let mut response = match host_of(parts) {
            Ok(host) => {
                let name = name_of(host.as_bytes());
                exchange.asks(&name, path);
                let found = self.find(&table, &name, parts.uri.path());
                if let Some(found) = found {
                    exchange.set_route(found.routed.position, found.logs(), &parts.headers);
                }
                redirect::to_https(&name, self.https_port_here(), path)
            }
            Err(reason) => {
                exchange.asks("", path);
                ErrorPage::bad_request(reason).response_for(PageFormat::Text, &parts.method)
            }
        };
        exchange.answered(response.status(), Arc::clone(&table.snapshot));
        response.body_mut().record_to(exchange);
        response
    }

    /// The port for clients of HTTPS where this connection came to.
    fn https_port_here(&self) -> u16 {
        self.only_port.unwrap_or(self.https_port)
    }

    /// The answer to a request over plain HTTP; `None` where it is served.
    #[inline(never)]
    pub(super) fn answer_to_plain_http(
        &self,
        uri: &Uri,
        name: &str,
        found: Option<Found<'_>>,
        table: &RoutingTable,
    ) -> Option<Result<Response<ResponseBody>, Box<ErrorPage>>> {
        let route = found.map(|found| found.routed.route);
        let here = self.https_port_here();
        let https_port = route.map_or(here, |route| route.https_port(here));
        match table.snapshot.plain_for(name, route) {
            Plain::Serve => None,
            Plain::Redirect => {
                let path = path_of(uri);
                Some(Ok(redirect::to_https(name, https_port, path)))
            }
            Plain::Refuse => {
                let address = route.map_or(name.to_owned(), |route| route.address.to_string());
                let url = redirect::location(name, https_port, uri.path());
                let finding = Finding::plain_refused(&address, &url);
                let status = StatusCode::FORBIDDEN;
                Some(Err(ErrorPage::finding(
                    status, name, &address, None, finding,
                )))
            }
        }
    }
}
