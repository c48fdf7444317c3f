//! What routes take: addresses, ports and places that two of them cannot share.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr};
use std::num::NonZeroU16;

use crate::address::{Address, Pattern};
use crate::app::{App, AppName};
use crate::by_name::ByName;
use crate::change::Rejection;
use crate::configuration::Configuration;
use crate::invalid::Invalid;
use crate::name::{Name, suffixes};
use crate::route::Route;
use crate::settings::{Protocol, REDIRECT_STATUSES, StartContainer, TargetTls, TlsEnd};
use crate::target::{Scheme, Target};
use crate::zone::{Zone, suggested_zone};

/// What the rules for a new route look at, so that checking many of them costs no more for each.
pub(crate) struct RouteIndex<'a> {
    zones: HashSet<&'a str>,
    apps: HashMap<&'a AppName, &'a App>,
    routes: HashMap<&'a Address, &'a Route>,
    /// A route for each port of a name: all of them have the same protocol.
    ports: HashMap<(&'a Pattern, NonZeroU16), &'a Route>,
    /// The addresses that names resolve to by their routes' choice.
    pub(crate) addresses: HashMap<&'a Pattern, IpAddr>,
    /// Who has a loopback address for its own.
    pub(crate) owners: HashMap<IpAddr, &'a Pattern>,
}

impl<'a> RouteIndex<'a> {
    pub(crate) fn of(configuration: &'a Configuration) -> Self {
        let Configuration {
            zones,
            routes,
            apps,
            ..
        } = configuration;
        Self::new(zones, apps, routes)
    }

    pub(crate) fn new(
        zones: &'a [Zone],
        apps: &'a [App],
        routes: impl IntoIterator<Item = &'a Route>,
    ) -> Self {
        let routes = routes.into_iter();
        let mut index = Self {
            zones: zones.iter().map(|zone| zone.name.as_str()).collect(),
            apps: apps.iter().map(|app| (&app.name, app)).collect(),
            routes: HashMap::with_capacity(routes.size_hint().0),
            ports: HashMap::new(),
            addresses: HashMap::new(),
            owners: HashMap::new(),
        };
        routes.for_each(|route| index.insert(route));
        index
    }

    fn insert(&mut self, route: &'a Route) {
        self.routes.insert(&route.address, route);
        if let Some(port) = route.address.port {
            self.ports.insert((&route.address.pattern, port), route);
        }
        if let Some(ip) = route.settings.address {
            let pattern = &route.address.pattern;
            self.addresses.insert(pattern, ip);
            if is_own(ip) {
                self.owners.insert(ip, pattern);
            }
        }
    }

    /// The route that has this address.
    pub(crate) fn taken_by(&self, address: &Address) -> Option<&'a Route> {
        self.routes.get(address).copied()
    }

    /// Checks and adds each of `routes`.
    pub(crate) fn add_all(&mut self, routes: &'a [Route]) -> Result<(), Rejection> {
        routes.iter().try_for_each(|route| self.add(route))
    }

    /// Checks `route` against the rules and the other routes, and adds it.
    pub(crate) fn add(&mut self, route: &'a Route) -> Result<(), Rejection> {
        let address = &route.address;
        let base = address.pattern.base();
        if !suffixes(base.as_str()).any(|suffix| self.zones.contains(suffix)) {
            let zone = suggested_zone(base);
            return Err(Rejection::Invalid(Invalid::new(
                "name",
                format!("`{base}` is in no zone: add one first with `bentlane zone add {zone}`"),
            )));
        }
        if let Some(known) = self.routes.get(address) {
            return Err(Rejection::Taken(Invalid::new(
                "name",
                format!(
                    "the route `{address}` is there already and leads to {to}: change it with \
                     `bentlane route edit {address} --to {new}`",
                    to = known.to,
                    new = route.to,
                ),
            )));
        }
        if let Some(ip) = route.settings.address {
            self.check_address(&address.pattern, ip)?;
        }
        self.check_settings(route).map_err(Rejection::Invalid)?;
        self.check_app(route).map_err(Rejection::Invalid)?;
        let other = address
            .port
            .and_then(|port| self.ports.get(&(&address.pattern, port)));
        if let Some(other) = other.filter(|other| other.is_raw() != route.is_raw()) {
            let reason = format!("`{}` uses another protocol on that port", other.address);
            return Err(Rejection::Taken(Invalid::new("protocol", reason)));
        }
        self.insert(route);
        Ok(())
    }

    /// Whether there is the app that `route` leads to, with that port.
    pub(crate) fn check_app(&self, route: &Route) -> Result<(), Invalid> {
        let Target::App(target) = route.server() else {
            return Ok(());
        };
        let name = &target.name;
        let Some(app) = self.apps.get(name) else {
            let reason = format!(
                "there is no app `{name}`: add it first with `bentlane app add {name}`, or see \
                 `bentlane app list`"
            );
            return Err(Invalid::new("to", reason));
        };
        let Some(port) = &target.port else {
            return Ok(());
        };
        if app.port_names().any(|own| own == port.as_str()) {
            return Ok(());
        }
        let ports: Vec<&str> = app.port_names().filter(|it| !it.is_empty()).collect();
        let there = match ports.as_slice() {
            [] => format!("write `app:{name}`, since it has one port"),
            ports => format!("it has {}", ports.join(", ")),
        };
        let reason = format!(
            "`{}` leads to `{target}`, and the app `{name}` has no port `{port}`: {there}",
            route.address
        );
        Err(Invalid::new("to", reason))
    }

    /// Whether what was chosen for a route goes with its address and target.
    fn check_settings(&self, route: &Route) -> Result<(), Invalid> {
        let Route {
            address,
            to,
            settings,
        } = route;
        if let Some(problem) = settings.expect.problems().into_iter().next() {
            return Err(problem);
        }
        let refuse = |field, reason: String| Err(Invalid::new(field, reason));
        check_raw(route)?;
        let is_one = matches!(address.pattern, Pattern::Exact(_)) && !route.is_raw();
        if settings.subdomains && !is_one {
            let reason =
                format!("only a route for one name over HTTP has subdomains, not `{address}`");
            return refuse("subdomains", reason);
        }
        if settings.strip_prefix && address.prefix.is_root() {
            let reason = format!("the route `{address}` has no path prefix to strip");
            return refuse("strip_prefix", reason);
        }
        if let Some(app) = &settings.r#else {
            check_else(to, app, settings.fallback.is_some())?;
        }
        let server = route.server();
        refuse_without_use(
            server.scheme() == Some(Scheme::Https),
            &[
                ("target_tls", settings.target_tls != TargetTls::default()),
                ("target_name", settings.target_name.is_some()),
            ],
            &format!("`{server}` is not asked over TLS (`https://HOST:PORT` is)"),
        )?;
        let is_below = matches!(address.pattern, Pattern::Wildcard(_)) && address.port.is_none();
        if matches!(to, Target::ByName(_)) && !is_below {
            let reason = format!("`{to}` is for a wildcard such as `*.at.moor.test`");
            return refuse("to", reason);
        }
        refuse_without_use(
            matches!(to, Target::ByName(ByName::Port)),
            &[("ports", settings.ports.is_some())],
            &format!("`{to}` is not `port-from-name`"),
        )?;
        refuse_without_use(
            matches!(server, Target::Container(_)),
            &[("start", settings.start != StartContainer::default())],
            &format!("`{server}` is no container"),
        )?;
        refuse_without_use(
            matches!(to, Target::Folder(_)),
            &[("fallback", settings.fallback.is_some())],
            &format!("`{to}` is no folder"),
        )?;
        refuse_without_use(
            matches!(to, Target::Redirect(_)),
            &[
                ("redirect_status", settings.redirect_status.is_some()),
                ("keep_path", settings.keep_path.is_some()),
            ],
            &format!("`{to}` is no redirect"),
        )?;
        if let Some(status) = settings.redirect_status
            && !REDIRECT_STATUSES.contains(&status)
        {
            let reason = format!("{status} is none of 301, 302, 307 and 308");
            return refuse("redirect_status", reason);
        }
        for origin in &settings.allow_origins {
            let covered = |base: &Name| suffixes(base.as_str()).any(|at| self.zones.contains(at));
            if origin.wildcard().is_some_and(|base| !covered(base)) {
                let reason = format!("`{origin}` stands for names outside the zones");
                return refuse("allow_origins", reason);
            }
        }
        Ok(())
    }

    fn check_address(&self, pattern: &Pattern, ip: IpAddr) -> Result<(), Rejection> {
        if ip.is_unspecified() || ip.is_multicast() || ip == IpAddr::V4(Ipv4Addr::BROADCAST) {
            let reason = format!("`{ip}` is no address that a client could connect to");
            return Err(Rejection::Invalid(Invalid::new("address", reason)));
        }
        let taken = |reason| Err(Rejection::Taken(Invalid::new("address", reason)));
        match (self.addresses.get(pattern), self.owners.get(&ip)) {
            (Some(known), _) if *known != ip => taken(format!(
                "another route of `{pattern}` gives it the address {known}, and a name has one"
            )),
            (_, Some(owner)) if *owner != pattern => taken(format!(
                "{ip} is the own address of `{owner}`: give another, or `own` for one that is free"
            )),
            _ => Ok(()),
        }
    }
}

/// Checks what a route for raw TCP, or one that does not open TLS, cannot have.
fn check_raw(route: &Route) -> Result<(), Invalid> {
    let Route {
        address,
        to,
        settings,
    } = route;
    let refuse = |field, reason: String| Err(Invalid::new(field, reason));
    if address.port.is_none() && settings.protocol == Some(Protocol::Tcp) {
        let reason = "raw TCP needs a port: give the route one, such as `NAME:5432`";
        return refuse("protocol", reason.to_owned());
    }
    if settings.listen.is_some() && !settings.address.is_some_and(is_own) {
        let reason = "only a loopback address of the name's own can be left to another program: give it one with \
                      `--address`";
        return refuse("listen", reason.to_owned());
    }
    if route.is_raw() {
        if !address.prefix.is_root() {
            let reason =
                "a route for raw TCP has no path prefix: HTTP on a port takes `--protocol http`";
            return refuse("prefix", reason.to_owned());
        }
        if !to.is_bare() {
            let reason = format!(
                "bytes of raw TCP go to a port such as `54021` or to `HOST:PORT`, not to `{to}`"
            );
            return refuse("to", reason);
        }
        if settings.access_log.is_some() {
            let reason = "raw TCP has no requests that could be logged";
            return refuse("access_log", reason.to_owned());
        }
    } else if settings.tls == Some(TlsEnd::Postgres) {
        let reason = "PostgreSQL clients connect to a port of raw TCP: give the route one, such as `NAME:5432`";
        return refuse("tls", reason.to_owned());
    } else if settings.tls == Some(TlsEnd::Passthrough) && address.port.is_some() {
        let reason = "TLS that is not opened on a port is raw TCP: leave out `protocol`";
        return refuse("tls", reason.to_owned());
    } else if settings.tls == Some(TlsEnd::Passthrough) {
        let bare = to.is_bare() || to.scheme() == Some(Scheme::Https);
        if !bare || !address.prefix.is_root() {
            let reason = "TLS passes unopened to a server alone, and for every path: what is \
                          inside is not seen";
            return refuse("tls", reason.to_owned());
        }
    }
    if address.port.is_some() && !settings.address.is_some_and(is_own) {
        let reason = "a route with a port listens on a loopback address of the name's own: give `own`, or one \
                      such as `127.0.0.5`";
        return refuse("address", reason.to_owned());
    }
    Ok(())
}

/// Whether a folder at `to` can have `app` behind it.
fn check_else(to: &Target, app: &Target, has_fallback: bool) -> Result<(), Invalid> {
    let reason = if !matches!(to, Target::Folder(_)) {
        format!("`{to}` is no folder, which alone has something behind it")
    } else if app.scheme().is_none() {
        format!(
            "`{app}` is no app: give a port such as `4310`, `https://HOST:PORT` or `container:NAME`"
        )
    } else if has_fallback {
        "either an app or a fallback file answers for what the folder has no file for, not both"
            .to_owned()
    } else {
        return Ok(());
    };
    Err(Invalid::new("else", reason))
}

/// Refuses settings that have no effect for the target; `why` is the reason.
fn refuse_without_use(
    have_use: bool,
    settings: &[(&'static str, bool)],
    why: &str,
) -> Result<(), Invalid> {
    let set = settings.iter().filter(|(_, is_set)| *is_set && !have_use);
    let keys: Vec<&'static str> = set.map(|(key, _)| *key).collect();
    let Some(first) = keys.first() else {
        return Ok(());
    };
    let unset: Vec<String> = keys.iter().map(|key| format!("--unset {key}")).collect();
    let (keys, unset) = (keys.join("` and `"), unset.join(" "));
    let reason = format!("{why}, so `{keys}` cannot be set: `{unset}` unsets it");
    Err(Invalid::new(first, reason))
}

/// The first of the loopback addresses that names get for their own, and how many there are:
/// 127.64.0.0/10, where nothing else is known to listen.
pub(crate) const FIRST_OWN_ADDRESS: u32 = u32::from_be_bytes([127, 64, 0, 0]);
pub(crate) const OWN_ADDRESSES: u32 = 1 << 22;

/// Whether a name that resolves to `ip` has it for its own: a loopback address that is not
/// everybody's.
#[must_use]
pub fn is_own(ip: IpAddr) -> bool {
    ip.is_loopback() && ip != IpAddr::V4(Ipv4Addr::LOCALHOST) && ip.is_ipv4()
}
