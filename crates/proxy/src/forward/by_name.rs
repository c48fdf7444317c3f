//! Requests that lead where their name says.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use bentlane_checks::Finding;
use bentlane_model::{ByName, Destination, Route, Snapshot, Target};
use http::StatusCode;

use super::Client;
use crate::error_page::ErrorPage;
use crate::pool::{Boxed, Pool};
use crate::routing_table::{Found, RoutingTable};
use crate::target_tls::TargetRoots;

/// Destinations whose connections are kept.
const MOST: usize = 256;

/// The connections to where names lead.
#[derive(Debug)]
pub(crate) struct NamedPools {
    roots: TargetRoots,
    pools: Mutex<HashMap<Destination, Arc<Pool>>>,
}

impl NamedPools {
    pub(crate) fn new(roots: TargetRoots) -> Self {
        Self {
            roots,
            pools: Mutex::default(),
        }
    }

    /// The pool for where `target` is now.
    pub(crate) fn pool(&self, table: &RoutingTable, route: &Route, target: &Target) -> Arc<Pool> {
        let named = Route::new(route.address.clone(), target.clone());
        let destination = Snapshot::destination_of(&table.snapshot, &named);
        let mut pools = self.pools.lock().unwrap_or_else(PoisonError::into_inner);
        if pools.len() >= MOST && !pools.contains_key(&destination) {
            pools.clear();
        }
        let pool = pools.entry(destination.clone()).or_insert_with(|| {
            let pool = Pool::new(destination, self.roots.clone());
            Arc::new(pool.counted_by(table.activity_of(target)))
        });
        Arc::clone(pool)
    }
}

impl Client {
    /// The connections to where `name` leads.
    #[inline(never)]
    pub(super) fn by_name<'a>(
        &'a self,
        name: &'a str,
        by: ByName,
        found: Found<'a>,
        table: &'a RoutingTable,
    ) -> Boxed<'a, Result<Arc<Pool>, Box<ErrorPage>>> {
        Box::pin(async move {
            let route = found.routed.route;
            let target = by.target(name, route.address.pattern.base());
            let reason = match &target {
                None => Some("its first label is not one".to_owned()),
                Some(Target::Port(port)) => self.refuses(route, port.get()).await,
                Some(Target::App(app)) => {
                    let known = table.snapshot.configuration().app(&app.name).is_some();
                    (!known).then(|| format!("there is no app {}", app.name))
                }
                Some(_) => None,
            };
            match (target, reason) {
                (Some(target), None) => Ok(self.shared.named.pool(table, route, &target)),
                (_, reason) => {
                    let reason = reason.unwrap_or_default();
                    let finding = Finding::name_leads_nowhere(name, by, &reason);
                    let (address, code) = (route.address.to_string(), StatusCode::NOT_FOUND);
                    Err(ErrorPage::finding(
                        code,
                        name,
                        &address,
                        Some(&route.to),
                        finding,
                    ))
                }
            }
        })
    }

    async fn refuses(&self, route: &Route, port: u16) -> Option<String> {
        let range = route.settings.ports;
        if let Some(range) = range.filter(|range| !range.contains(port)) {
            return Some(format!("the route leads to the ports {range} alone"));
        }
        let Some(host) = self.shared.apps.get() else {
            return Some("the service is not ready".to_owned());
        };
        host.refuses_port(port).await
    }
}
