//! Names for routes, and routes for names that are nearly theirs.

use super::Snapshot;
use crate::address::Pattern;
use crate::name::Name;
use crate::route::Route;

/// Routes that are looked at for the nearest ones, so that a wrong name costs little.
const NEAREST_AMONG: usize = 1_000;
/// How alike a name has to be to count as near (Jaro-Winkler, 1 is the same).
const NEAR: f64 = 0.8;

impl Snapshot {
    /// The addresses of routes whose names come close to `name`, closest first. At most `most`, out
    /// of the first thousands.
    #[must_use]
    pub fn nearest(&self, name: &str, most: usize) -> Vec<String> {
        let routes = self.configuration.routes.iter().take(NEAREST_AMONG);
        let scored = routes
            .filter(|route| route.address.port.is_none())
            .map(|route| {
                let own = route.address.pattern.to_string();
                (strsim::jaro_winkler(name, &own), route)
            });
        let mut scored: Vec<_> = scored.filter(|(score, _)| *score > NEAR).collect();
        scored.sort_by(|(one, _), (other, _)| other.total_cmp(one));
        let nearest = scored.into_iter().take(most);
        nearest
            .map(|(_, route)| route.address.to_string())
            .collect()
    }

    /// A name that `route` answers for when a client asks: the exact name, or one label in front
    /// of a wildcard's base. `None` when more specific routes leave it no such name.
    #[must_use]
    pub fn sample_name(&self, route: &Route) -> Option<Name> {
        let candidates: Vec<Name> = match &route.address.pattern {
            Pattern::Exact(name) => vec![name.clone()],
            Pattern::Wildcard(base) => ["any", "some", "another"]
                .iter()
                .filter_map(|label| base.prepend(label).ok())
                .collect(),
        };
        if route.is_raw() {
            return candidates.into_iter().next();
        }
        let path = route.address.prefix.as_str();
        candidates.into_iter().find(|name| {
            let found = match route.address.port {
                Some(port) => self.route_on_port(name.as_str(), port.get(), path),
                None => self.route_for(name.as_str(), path),
            };
            found.is_some_and(|found| found.route.address == route.address)
        })
    }
}
