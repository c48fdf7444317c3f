//! What we are the authority for, and the data of each name in it.

use hickory_proto::rr::rdata::svcb::{Alpn, SVCB, SvcParamKey, SvcParamValue};
use hickory_proto::rr::rdata::{A, AAAA, CNAME, HTTPS, MX, NS, PTR, SOA, SRV, TXT};
use hickory_proto::rr::{Name as WireName, RData, RecordType};

use super::settings::Settings;
use bentlane_model::Snapshot;
use bentlane_model::is_at_or_below;
use bentlane_model::{Answers, Zone};
use bentlane_model::{Record, RecordData, RecordName};

/// The reverse zones of loopback, which every resolver serves itself (RFC 6303 §4.2, §4.3).
const REVERSE: [&str; 2] = ["127.in-addr.arpa", LOOPBACK_V6];
/// The name of 127.0.0.1 there.
const LOOPBACK_V4: &str = "1.0.0.127.in-addr.arpa";
const LOOPBACK_V6: &str =
    "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.ip6.arpa";
/// The port that HTTPS has when nothing else is said.
const HTTPS_PORT: u16 = 443;

/// Links of a chain of aliases within our zones that are followed.
const LONGEST_CHAIN: usize = 8;

/// A part of the tree of names that is ours to answer for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LocalZone<'a> {
    /// A zone of the user's.
    Zone(&'a Zone),
    /// `localhost`, which is this machine's always (RFC 6761 §6.3).
    Localhost,
    /// Loopback addresses.
    Reverse(&'static str),
}

/// Data for an answer.
#[derive(Debug)]
pub(super) struct AnswerData {
    /// Whose data it is; `None` is the name that was asked for, as it was written.
    pub(super) name: Option<WireName>,
    pub(super) ttl: u32,
    pub(super) data: RData,
}

/// What there is for a name that exists.
#[derive(Debug, Default)]
pub(super) struct NameData {
    pub(super) data: Vec<AnswerData>,
    /// Whether the answer has no record of the type asked for: then the SOA says how long that may
    /// be cached (RFC 2308 §2.2).
    pub(super) is_negative: bool,
    /// Whether the last name of a chain of aliases does not exist: the response code says so (RFC 6604 §3).
    pub(super) is_missing: bool,
    /// The name outside the zones that an alias leads to.
    pub(super) leads_to: Option<WireName>,
}

impl NameData {
    fn of(data: impl IntoIterator<Item = RData>, ttl: u32) -> Self {
        let datum = |data| AnswerData {
            name: None,
            ttl,
            data,
        };
        let data: Vec<AnswerData> = data.into_iter().map(datum).collect();
        Self {
            is_missing: false,
            is_negative: data.is_empty(),
            data,
            leads_to: None,
        }
    }
}

impl<'a> LocalZone<'a> {
    /// The realm of `name`, in lower case without a final dot.
    pub(super) fn of(snapshot: &'a Snapshot, name: &str) -> Option<Self> {
        if let Some(zone) = snapshot.zone_of(name) {
            return Some(Self::Zone(zone));
        }
        if is_at_or_below(name, "localhost") {
            return Some(Self::Localhost);
        }
        let mut reverse = REVERSE.iter();
        let found = reverse.find(|zone| is_at_or_below(name, zone));
        found.map(|zone| Self::Reverse(zone))
    }

    fn apex(self) -> &'a str {
        match self {
            Self::Zone(zone) => zone.name.as_str(),
            Self::Localhost => "localhost",
            Self::Reverse(name) => name,
        }
    }

    /// The apex in the form of the wire.
    pub(super) fn apex_name(self) -> Option<WireName> {
        wire_name(self.apex())
    }

    /// The settings that hold here.
    pub(super) fn settings(self, settings: &Settings) -> Settings {
        match self {
            Self::Zone(zone) => settings.of(&zone.settings),
            Self::Localhost | Self::Reverse(_) => *settings,
        }
    }

    /// What there is at `name` of what `kind` asks for; `None` when there is no such name. For ANY
    /// it is one kind, not all (RFC 8482 §4.1).
    pub(super) fn data(
        self,
        snapshot: &Snapshot,
        name: &str,
        kind: RecordType,
        settings: &Settings,
    ) -> Option<NameData> {
        let at_apex = name == self.apex();
        let serial = snapshot.configuration().revision;
        if at_apex && matches!(kind, RecordType::SOA | RecordType::NS) {
            let apex = self.apex_name()?;
            let data = match kind {
                RecordType::SOA => soa(&apex, serial, settings.ttl),
                _ => below(&apex, "ns").map(|name| RData::NS(NS(name))),
            };
            return Some(NameData::of(data, settings.ttl));
        }
        match self {
            Self::Zone(zone) => in_zone(zone, snapshot, name, kind, settings, LONGEST_CHAIN),
            Self::Localhost => Some(NameData::of(addresses(kind, settings), settings.ttl)),
            Self::Reverse(_) => {
                let asked = matches!(kind, RecordType::PTR | RecordType::ANY);
                let data = match pointed_at(snapshot, name)? {
                    Pointer::To(owner) if asked => wire_name(owner),
                    Pointer::To(_) | Pointer::Below => None,
                };
                Some(NameData::of(
                    data.map(|owner| RData::PTR(PTR(owner))),
                    settings.ttl,
                ))
            }
        }
    }

    /// The SOA for answers that hold no data.
    pub(super) fn soa(self, settings: &Settings, serial: u64) -> Option<RData> {
        soa(&self.apex_name()?, serial, settings.ttl)
    }
}

/// The user's own records go before what every name has: an address of one's own takes the place
/// of this machine's, in both families.
fn in_zone(
    zone: &Zone,
    snapshot: &Snapshot,
    name: &str,
    kind: RecordType,
    settings: &Settings,
    links: usize,
) -> Option<NameData> {
    let own = snapshot.records_for(name, zone);
    let alias = own.iter().find_map(|record| match &record.data {
        RecordData::Cname(target) => Some((*record, target)),
        _ => None,
    });
    if let Some((record, target)) = alias {
        let ttl = record.ttl.unwrap_or(settings.ttl);
        let mut found = NameData::of(wire_data(&record.data), ttl);
        if kind != RecordType::CNAME && kind != RecordType::ANY {
            follow(&mut found, snapshot, target, kind, settings, links);
        }
        return Some(found);
    }
    let type_name = kind.to_string();
    let asked = |record: &&&Record| kind == RecordType::ANY || record.data.kind() == type_name;
    let mut data: Vec<AnswerData> = own
        .iter()
        .filter(asked)
        .filter_map(|record| {
            Some(AnswerData {
                name: None,
                ttl: record.ttl.unwrap_or(settings.ttl),
                data: wire_data(&record.data)?,
            })
        })
        .collect();
    if kind == RecordType::ANY {
        let first = data.first().map(|datum| datum.data.record_type());
        data.retain(|datum| Some(datum.data.record_type()) == first);
    }
    if !data.is_empty() {
        return Some(NameData {
            is_missing: false,
            data,
            is_negative: false,
            leads_to: None,
        });
    }
    let every = zone.settings.answers == Answers::EveryName;
    let routed = every || snapshot.is_routed(name);
    let has_own_address = own
        .iter()
        .any(|record| matches!(record.data, RecordData::A(_) | RecordData::Aaaa(_)));
    if routed && !has_own_address {
        let chosen = snapshot.resolution(name);
        let alias = chosen.and_then(|resolution| resolution.alias.as_ref());
        if let Some(alias) = alias.filter(|_| own.is_empty() && name != zone.name.as_str()) {
            let target = RecordName::from(alias);
            let data = wire_data(&RecordData::Cname(target.clone()));
            let mut found = NameData::of(data, settings.ttl);
            if kind != RecordType::CNAME && kind != RecordType::ANY {
                follow(&mut found, snapshot, &target, kind, settings, links);
            }
            return Some(found);
        }
        let address = chosen.and_then(|resolution| resolution.address);
        let settings = &settings.at(address);
        let by_zone = zone.settings.addresses().is_empty();
        let served_here = address.map_or(by_zone, |ip| ip.is_loopback());
        if kind == RecordType::HTTPS && served_here {
            return Some(NameData::of([https(settings.https_port)], settings.ttl));
        }
        return Some(NameData::of(addresses(kind, settings), settings.ttl));
    }
    let exists = routed || !own.is_empty() || snapshot.has_node(name) || name == zone.name.as_str();
    exists.then(|| NameData::of(None, settings.ttl))
}

/// Adds what an alias leads to, as long as that is in our zones.
fn follow(
    found: &mut NameData,
    snapshot: &Snapshot,
    target: &RecordName,
    kind: RecordType,
    settings: &Settings,
    links: usize,
) {
    let Some(zone) = snapshot.zone_of(target.as_str()) else {
        found.leads_to = wire_name(target.as_str());
        return;
    };
    let Some(links) = links.checked_sub(1) else {
        return;
    };
    let settings = settings.of(&zone.settings);
    let Some(next) = in_zone(zone, snapshot, target.as_str(), kind, &settings, links) else {
        found.is_negative = true;
        found.is_missing = true;
        return;
    };
    found.is_negative = next.is_negative;
    found.is_missing = next.is_missing;
    found.leads_to = next.leads_to;
    let name = wire_name(target.as_str());
    found.data.extend(next.data.into_iter().map(|mut datum| {
        datum.name = datum.name.or_else(|| name.clone());
        datum
    }));
}

/// This machine's addresses; for ANY of one family.
fn addresses(kind: RecordType, settings: &Settings) -> Option<RData> {
    let v4 = || settings.ipv4.map(|ip| RData::A(A(ip)));
    let v6 = || settings.ipv6.map(|ip| RData::AAAA(AAAA(ip)));
    match kind {
        RecordType::A => v4(),
        RecordType::AAAA => v6(),
        RecordType::ANY => v4().or_else(v6),
        _ => None,
    }
}

fn wire_name(name: &str) -> Option<WireName> {
    let mut name = WireName::from_ascii(name).ok()?;
    name.set_fqdn(true);
    Some(name)
}

fn wire_data(data: &RecordData) -> Option<RData> {
    Some(match data {
        RecordData::A(ip) => RData::A(A(*ip)),
        RecordData::Aaaa(ip) => RData::AAAA(AAAA(*ip)),
        RecordData::Cname(target) => RData::CNAME(CNAME(wire_name(target.as_str())?)),
        RecordData::Txt(strings) => {
            let strings = strings.iter().map(Vec::as_slice).collect();
            RData::TXT(TXT::from_bytes(strings))
        }
        RecordData::Mx {
            preference,
            exchange,
        } => RData::MX(MX::new(*preference, wire_name(exchange.as_str())?)),
        RecordData::Srv {
            priority,
            weight,
            port,
            target,
        } => RData::SRV(SRV::new(
            *priority,
            *weight,
            *port,
            wire_name(target.as_str())?,
        )),
    })
}

/// How the name is served: by ourselves, over h2 or http/1.1, and on which port when that is not
/// the usual one (RFC 9460 §7.1, §7.2).
fn https(port: u16) -> RData {
    let protocols = Alpn(vec!["h2".to_owned(), "http/1.1".to_owned()]);
    let mut params = vec![(SvcParamKey::Alpn, SvcParamValue::Alpn(protocols))];
    if port != HTTPS_PORT {
        params.push((SvcParamKey::Port, SvcParamValue::Port(port)));
    }
    RData::HTTPS(HTTPS(SVCB::new(1, WireName::root(), params)))
}

/// What is at a reverse name.
enum Pointer<'a> {
    /// A pointer to this name.
    To(&'a str),
    /// Nothing, but a pointer below it (RFC 4592 §2.2.2).
    Below,
}

/// What is at the reverse name `name`; `None` when there is no such name.
fn pointed_at<'a>(snapshot: &'a Snapshot, name: &str) -> Option<Pointer<'a>> {
    let everybodys = [LOOPBACK_V4, LOOPBACK_V6].map(|name| (name.to_owned(), "localhost"));
    let own = snapshot.own_addresses().map(|(ip, pattern)| {
        let [a, b, c, d] = ip.octets();
        let reverse = format!("{d}.{c}.{b}.{a}.in-addr.arpa");
        (reverse, pattern.base().as_str())
    });
    let mut above = false;
    for (reverse, owner) in everybodys.into_iter().chain(own) {
        if reverse == name {
            return Some(Pointer::To(owner));
        }
        above |= is_at_or_below(&reverse, name);
    }
    above.then_some(Pointer::Below)
}

fn below(apex: &WireName, label: &str) -> Option<WireName> {
    // A zone of 253 octets has no room for a label in front: its apex then names itself.
    apex.prepend_label(label)
        .ok()
        .or_else(|| Some(apex.clone()))
}

/// The zone's SOA. Its serial is the configuration's revision, and all its times are short since
/// no secondary server exists; `minimum` bounds negative answers (RFC 2308 §4).
fn soa(apex: &WireName, revision: u64, ttl: u32) -> Option<RData> {
    let serial = u32::try_from(revision & u64::from(u32::MAX)).unwrap_or_default();
    let (server, mailbox) = (below(apex, "ns")?, below(apex, "hostmaster")?);
    Some(RData::SOA(SOA::new(
        server, mailbox, serial, 3600, 600, 86_400, ttl,
    )))
}
