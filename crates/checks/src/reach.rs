use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;

use super::fix::{Action, Fix, Part};
use super::verdict::Verdict;
use bentlane_model::Name;

/// Whether programs on this machine reach what routes serve: the part of a proof that is the same for
/// every route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineVerdict {
    /// Whether nothing failed.
    pub passed: bool,
    /// What was looked at: lookups, then trust, then ports.
    pub items: Vec<MachineItem>,
    /// When it was looked at.
    #[serde(with = "time::serde::rfc3339")]
    pub checked_at: OffsetDateTime,
}

/// One thing that was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct MachineItem {
    /// What it belongs to.
    pub part: MachinePart,
    /// What was looked at: a zone, a browser, a variable, a port.
    pub subject: String,
    /// How it came out.
    pub state: ItemState,
    /// What was observed, in a sentence.
    pub summary: String,
    /// What fixes it.
    #[serde(default, rename = "fix", skip_serializing_if = "Option::is_none")]
    pub fix: Option<Fix>,
    /// The names that this is about, each with all names below it; empty for every name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub names: Vec<Name>,
}

/// The parts of a machine that a request passes before it comes to us.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, utoipa::ToSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum MachinePart {
    /// How the system resolves names.
    Lookups,
    /// What trusts our root.
    Trust,
    /// The standard ports.
    Ports,
    /// A browser that was started.
    Browser,
}

impl MachinePart {
    /// Its name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Lookups => "lookups",
            Self::Trust => "trust",
            Self::Ports => "ports",
            Self::Browser => "browser",
        }
    }
}

/// How a thing came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ItemState {
    /// As it should.
    Passed,
    /// It works, and could be better.
    Hint,
    /// Names are not reached.
    Failed,
}

impl ItemState {
    /// Whether names are not reached.
    #[must_use]
    pub fn fails(self) -> bool {
        self == Self::Failed
    }
}

/// The names that show whether a zone's names are found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ZoneNames {
    /// The zone.
    #[schema(value_type = String)]
    pub zone: Name,
    /// The names to look up.
    pub names: Vec<NameToReach>,
}

/// A name to look up as programs do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct NameToReach {
    /// The name.
    #[schema(value_type = String)]
    pub name: Name,
    /// What it stands for: itself, a wildcard's parent, or the whole zone.
    #[schema(value_type = String)]
    pub stands_for: Name,
    /// Its addresses when it leads to us.
    #[schema(value_type = Vec<String>)]
    pub addresses: Vec<IpAddr>,
}

/// What a machine has to reach.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ToReach {
    /// Names of each zone.
    pub zones: Vec<ZoneNames>,
    /// Where we listen for HTTPS.
    #[schema(value_type = Vec<String>)]
    pub https: Vec<SocketAddr>,
    /// Where our resolver listens.
    #[schema(value_type = Vec<String>)]
    pub dns: Vec<SocketAddr>,
}

/// What the system said of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameFound {
    /// The name.
    pub name: NameToReach,
    /// Its addresses, or why there are none.
    pub found: Result<Vec<IpAddr>, String>,
}

impl NameFound {
    /// Whether the name leads to us.
    #[must_use]
    pub fn reaches(&self) -> bool {
        let ours = |found: &Vec<IpAddr>| {
            !found.is_empty() && found.iter().all(|ip| self.name.addresses.contains(ip))
        };
        self.found.as_ref().is_ok_and(ours)
    }
}

/// Whether a program trusts our root.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClientSeen {
    /// The program, with its version where that is known.
    pub client: String,
    /// Whether it does.
    pub trust: ClientTrustSeen,
    /// By what it trusts us, or what stands in its way.
    pub by: String,
    /// The names that it accepts from us; `None` for all that our root can vouch for.
    pub reach: Option<Vec<Name>>,
    /// What has it trust us: a command of ours, or words.
    pub fix: Fix,
}

/// What a program says of our root.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ClientTrustSeen {
    /// It trusts it.
    Trusted,
    /// It trusts a root of ours from before.
    Former,
    /// It does not trust it.
    Refused,
    /// It is unknown, for this reason.
    Unknown(String),
}

/// What was observed of a machine.
#[derive(Clone, Debug, Default)]
pub struct MachineSeen {
    /// The names that were looked up.
    pub zones: Vec<(Name, Vec<NameFound>)>,
    /// Programs that trust us or do not.
    pub clients: Vec<ClientSeen>,
    /// Where we listen for HTTPS.
    pub https: Vec<SocketAddr>,
    /// What has the system's lookups come to us.
    pub lookups: Lookups,
    /// Who has port 443, when that is another program.
    pub port_443: Option<String>,
}

/// In which way lookups can be made to come to us.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Lookups {
    /// The system can be made to ask our resolver.
    #[default]
    Resolver,
    /// The resolver is not where the system asks, so only the hosts file is left.
    HostsAlone,
}

/// The verdict on a machine: what works, what does not, and the fixes.
#[must_use]
pub fn judge_machine(seen: &MachineSeen, now: OffsetDateTime) -> MachineVerdict {
    let mut items: Vec<MachineItem> = Vec::new();
    for (zone, names) in &seen.zones {
        items.extend(lookup_of(zone, names, seen));
    }
    items.extend(seen.clients.iter().map(|it| trust_of(it, &seen.zones)));
    items.extend(ports(seen));
    // One command for both, where both are missing.
    let both = [Part::Lookups, Part::Trust];
    let attaches = |item: &MachineItem| match item.fix.as_ref()?.action {
        Some(Action::SystemAttach { only }) => only,
        _ => None,
    };
    let fails = |part: &Part| {
        let mut failed = items.iter().filter(|item| item.state == ItemState::Failed);
        failed.any(|item| attaches(item) == Some(*part))
    };
    if both.iter().all(fails) {
        for item in &mut items {
            if attaches(item).is_some_and(|part| both.contains(&part)) {
                item.fix = Some(Fix::attach("attach this machine", None));
            }
        }
    }
    MachineVerdict {
        passed: items.iter().all(|item| item.state != ItemState::Failed),
        items,
        checked_at: now,
    }
}

/// A label that no route has: it resolves when the zone itself is asked of us.
pub const PROBE_LABEL: &str = "bentlane-lookup";

fn lookup_of(zone: &Name, names: &[NameFound], seen: &MachineSeen) -> Option<MachineItem> {
    let lost: Vec<&NameFound> = names.iter().filter(|name| !name.reaches()).collect();
    names.first()?;
    let item = |state, summary: String, fix, names| MachineItem {
        part: MachinePart::Lookups,
        subject: zone.to_string(),
        state,
        summary,
        fix,
        names,
    };
    let Some(first) = lost.first() else {
        return Some(item(
            ItemState::Passed,
            "names resolve to Bent Lane".to_owned(),
            None,
            Vec::new(),
        ));
    };
    let what = match (&first.found, first.name.stands_for == *zone) {
        (Ok(found), _) if !found.is_empty() => {
            let found: Vec<String> = found.iter().map(ToString::to_string).collect();
            format!(
                "{} resolves to {}, which is not this machine",
                first.name.name,
                found.join(", ")
            )
        }
        (Err(reason), true) => format!("names are not found: {reason}"),
        (Err(reason), false) => format!("{} is not found: {reason}", first.name.name),
        (Ok(_), true) => "names are not found".to_owned(),
        (Ok(_), false) => format!("{} is not found", first.name.name),
    };
    let summary = match lost.len() {
        1 => what,
        lost => format!("{what}; and {} more", lost - 1),
    };
    let exact = lost.iter().any(|it| it.name.name == it.name.stands_for);
    let fix = match seen.lookups {
        Lookups::Resolver => Fix::attach("point lookups at Bent Lane", Part::Lookups),
        // What the hosts file can do is done already.
        Lookups::HostsAlone if names.len() > lost.len() && !exact => Fix::text(
            "the hosts file has no wildcards: run the service on port 53 (`sudo bentlane serve`)",
        ),
        Lookups::HostsAlone => Fix::attach(
            "the resolver is not on port 53, where lookups go: start it with `sudo bentlane serve`, \
             or put the exact names into the hosts file",
            Part::Hosts,
        ),
    };
    let names = lost.iter().map(|it| it.name.stands_for.clone()).collect();
    Some(item(ItemState::Failed, summary, Some(fix), names))
}

fn trust_of(client: &ClientSeen, zones: &[(Name, Vec<NameFound>)]) -> MachineItem {
    let ClientSeen {
        client: subject,
        trust,
        by,
        reach,
        fix,
    } = client;
    let within = |zone: &&Name| {
        let reach = reach.as_ref();
        reach.is_some_and(|reach| !reach.iter().any(|suffix| zone.is_within(suffix)))
    };
    let beyond: BTreeSet<Name> = zones
        .iter()
        .map(|(zone, _)| zone)
        .filter(within)
        .cloned()
        .collect();
    let (state, summary) = match trust {
        ClientTrustSeen::Trusted if !beyond.is_empty() => (
            ItemState::Failed,
            format!("trusts a former root, which cannot vouch for every zone ({by})"),
        ),
        ClientTrustSeen::Trusted => (ItemState::Passed, format!("trusts the root ({by})")),
        ClientTrustSeen::Former => (
            ItemState::Failed,
            format!("trusts a former root and not this one ({by})"),
        ),
        ClientTrustSeen::Refused => (ItemState::Failed, format!("does not trust the root ({by})")),
        ClientTrustSeen::Unknown(reason) => (
            ItemState::Failed,
            format!("cannot be asked: {reason} ({by})"),
        ),
    };
    MachineItem {
        part: MachinePart::Trust,
        subject: subject.clone(),
        state,
        summary,
        fix: (state == ItemState::Failed).then(|| fix.clone()),
        names: match trust {
            ClientTrustSeen::Trusted => beyond.into_iter().collect(),
            _ => Vec::new(),
        },
    }
}

fn ports(seen: &MachineSeen) -> Option<MachineItem> {
    let first = seen.https.first()?;
    let serves = seen.https.iter().any(|at| at.port() == 443);
    let holder = seen.port_443.as_ref();
    let fix = match holder {
        Some(holder) => Fix::text(format!("stop {holder}, then start the service with sudo")),
        None => Fix::command(
            "start the service with its standard ports",
            "sudo bentlane serve",
        ),
    };
    Some(MachineItem {
        part: MachinePart::Ports,
        subject: "443".to_owned(),
        state: if serves {
            ItemState::Passed
        } else {
            ItemState::Hint
        },
        summary: match (serves, holder) {
            (true, _) => "URLs need no port".to_owned(),
            (false, None) => format!("URLs carry the port {}", first.port()),
            (false, Some(holder)) => {
                format!("URLs carry the port {}: {holder} has 443", first.port())
            }
        },
        fix: (!serves).then_some(fix),
        names: Vec::new(),
    })
}

impl MachineVerdict {
    /// What failed.
    pub fn failed(&self) -> impl Iterator<Item = &MachineItem> {
        self.items.iter().filter(|item| item.state.fails())
    }

    /// Whether programs on this machine reach what is behind `name`.
    #[must_use]
    pub fn reaches(&self, name: &Name) -> bool {
        !self.failed().any(|item| {
            item.names.is_empty() || item.names.iter().any(|suffix| name.is_within(suffix))
        })
    }

    /// The state of a route on this machine.
    #[must_use]
    pub fn standing(&self, verdict: &Verdict) -> Standing {
        match (verdict.passed, self.reaches(&verdict.name)) {
            (false, _) => Standing::Broken,
            (true, true) => Standing::Proved,
            (true, false) => Standing::Ready,
        }
    }
}

/// How a route stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Opened in a browser on this machine, it works.
    Proved,
    /// Its lane is whole, and this machine does not reach it.
    Ready,
    /// A hop is broken.
    Broken,
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::OffsetDateTime;

    use super::*;

    use ClientTrustSeen::{Former, Refused, Trusted, Unknown};

    const HOME: IpAddr = IpAddr::V4(std::net::Ipv4Addr::LOCALHOST);

    fn name(text: &str) -> Name {
        text.parse().unwrap()
    }

    fn looked_up(text: &str, stands_for: &str, found: Result<&[&str], &str>) -> NameFound {
        NameFound {
            name: NameToReach {
                name: name(text),
                stands_for: name(stands_for),
                addresses: vec![HOME],
            },
            found: found
                .map(|all| all.iter().map(|ip| ip.parse().unwrap()).collect())
                .map_err(str::to_owned),
        }
    }

    fn client(trust: ClientTrustSeen, reach: Option<&[&str]>) -> ClientSeen {
        ClientSeen {
            client: "Chromium".to_owned(),
            trust,
            by: "its policy".to_owned(),
            reach: reach.map(|all| all.iter().map(|text| name(text)).collect()),
            fix: Fix::attach("add the root to the trust stores", Part::Trust),
        }
    }

    /// Everything as it should be.
    fn fine() -> MachineSeen {
        let found = looked_up("x.moor.test", "moor.test", Ok(&["127.0.0.1"]));
        MachineSeen {
            zones: vec![(name("moor.test"), vec![found])],
            clients: vec![client(Trusted, None)],
            https: vec![SocketAddr::new(HOME, 443)],
            lookups: Lookups::Resolver,
            port_443: None,
        }
    }

    fn with(change: impl FnOnce(&mut MachineSeen)) -> MachineSeen {
        let mut seen = fine();
        change(&mut seen);
        seen
    }

    fn lost(seen: &mut MachineSeen) {
        seen.zones[0].1[0].found = Err("no such name".to_owned());
    }

    fn hosts_alone(seen: &mut MachineSeen, wildcard: Result<&[&str], &str>) {
        seen.lookups = Lookups::HostsAlone;
        seen.zones[0].1 = vec![
            looked_up("a.moor.test", "a.moor.test", Ok(&["127.0.0.1"])),
            looked_up("x.hut.moor.test", "hut.moor.test", wildcard),
        ];
    }

    #[rstest]
    #[case(fine(), &[], true, true)]
    #[case(with(|seen| seen.https[0].set_port(17443)), &["ports ~ URLs carry the port 17443 → sudo bentlane serve"], true, true)]
    #[case(with(|seen| { seen.https[0].set_port(17443); seen.port_443 = Some("nginx (process 7)".into()) }), &["ports ~ URLs carry the port 17443: nginx (process 7) has 443 → "], true, true)]
    #[case(with(lost), &["lookups ✕ names are not found: no such name → sudo bentlane system attach --only lookups"], false, false)]
    #[case(with(|seen| seen.zones[0].1[0].found = Ok(vec!["192.0.2.1".parse().unwrap()])), &["lookups ✕ x.moor.test resolves to 192.0.2.1, which is not this machine → sudo bentlane system attach --only lookups"], false, false)]
    #[case(with(|seen| { lost(seen); seen.lookups = Lookups::HostsAlone }), &["lookups ✕ names are not found: no such name → sudo bentlane system attach --only hosts"], false, false)]
    #[case(with(|seen| hosts_alone(seen, Ok(&["127.0.0.1"]))), &[], true, true)]
    #[case(with(|seen| hosts_alone(seen, Err("no such name"))), &["lookups ✕ x.hut.moor.test is not found: no such name → "], true, false)]
    #[case(with(|seen| seen.clients[0].trust = Refused), &["trust ✕ does not trust the root (its policy) → sudo bentlane system attach --only trust"], false, false)]
    #[case(with(|seen| seen.clients[0].trust = Former), &["trust ✕ trusts a former root and not this one (its policy) → sudo bentlane system attach --only trust"], false, false)]
    #[case(with(|seen| seen.clients[0].trust = Unknown("`certutil` is missing".into())), &["trust ✕ cannot be asked: `certutil` is missing (its policy) → sudo bentlane system attach --only trust"], false, false)]
    #[case(with(|seen| seen.clients[0] = client(Trusted, Some(&["fell.test"]))), &["trust ✕ trusts a former root, which cannot vouch for every zone (its policy) → sudo bentlane system attach --only trust"], false, false)]
    #[case(with(|seen| seen.clients[0] = client(Trusted, Some(&["moor.test"]))), &[], true, true)]
    #[case(with(|seen| { lost(seen); seen.clients[0].trust = Refused }), &["lookups ✕ names are not found: no such name → sudo bentlane system attach", "trust ✕ does not trust the root (its policy) → sudo bentlane system attach"], false, false)]
    fn each_part_is_reported_with_its_fix(
        #[case] seen: MachineSeen,
        #[case] wanted: &[&str],
        #[case] exact: bool,
        #[case] wildcard: bool,
    ) {
        let verdict = judge_machine(&seen, OffsetDateTime::UNIX_EPOCH);
        let named = verdict.items.iter().filter_map(|item| {
            let mark = match item.state {
                ItemState::Passed => return None,
                ItemState::Hint => '~',
                ItemState::Failed => '✕',
            };
            let command = item.fix.as_ref().and_then(|it| it.command.clone());
            let part = item.part.as_str();
            Some(format!(
                "{part} {mark} {} → {}",
                item.summary,
                command.unwrap_or_default()
            ))
        });
        assert_eq!(named.collect::<Vec<_>>(), wanted);
        assert_eq!(verdict.reaches(&name("a.moor.test")), exact);
        assert_eq!(verdict.reaches(&name("b.hut.moor.test")), wildcard);
        assert_eq!(verdict.passed, exact && wildcard);
    }
}
