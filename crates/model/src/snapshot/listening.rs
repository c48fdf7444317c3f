//! Where we listen for routes that have addresses of their own.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};

use super::{RawRoute, Snapshot};
use crate::address::Pattern;
use crate::route_index::is_own;

impl Snapshot {
    /// The routes for raw TCP, with where each is listened for.
    pub fn raw_routes(&self) -> impl Iterator<Item = RawRoute<'_>> {
        self.raw.iter().filter_map(|entry| {
            let route = &self.configuration.routes[entry.route];
            match (route.settings.address?, route.address.port?) {
                (IpAddr::V4(ip), port) if route.listens() => Some(RawRoute {
                    route,
                    ip,
                    port,
                    destination: entry.destination,
                }),
                _ => None,
            }
        })
    }

    /// Where HTTP is listened for on ports of its own.
    pub fn http_ports(&self) -> impl Iterator<Item = (Ipv4Addr, u16)> {
        self.http_ports.iter().copied()
    }

    /// The loopback addresses that names have for their own, with what they are the address of.
    pub fn own_addresses(&self) -> impl Iterator<Item = (Ipv4Addr, &Pattern)> {
        let routes = self.configuration.routes.iter();
        let routes = routes.filter(|_| !self.plain);
        routes.filter_map(|route| match route.settings.address? {
            IpAddr::V4(ip) if is_own(ip.into()) => Some((ip, &route.address.pattern)),
            _ => None,
        })
    }

    /// The same, where we listen for HTTP: where no route leaves that to another program.
    pub fn own_listeners(&self) -> impl Iterator<Item = Ipv4Addr> {
        let routes = self.configuration.routes.iter().filter(|_| !self.plain);
        let left = routes.filter(|route| route.address.port.is_none() && !route.listens());
        let left: HashSet<IpAddr> = left.filter_map(|route| route.settings.address).collect();
        let own = self.own_addresses().map(|(ip, _)| ip);
        own.filter(move |ip| !left.contains(&IpAddr::V4(*ip)))
    }
}
