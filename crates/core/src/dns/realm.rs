//! What we are the authority for, and the data of each name in it.

use hickory_proto::rr::rdata::svcb::{Alpn, SVCB, SvcParamKey, SvcParamValue};
use hickory_proto::rr::rdata::{A, AAAA, HTTPS, NS, PTR, SOA};
use hickory_proto::rr::{Name as WireName, RData, RecordType};

use super::answer::Settings;
use crate::snapshot::Snapshot;

/// The reverse zones of loopback, which every resolver serves itself (RFC 6303 §4.2, §4.3), each
/// with its one name that has a pointer.
const REVERSE: [(&str, &str); 2] = [
    ("127.in-addr.arpa", "1.0.0.127.in-addr.arpa"),
    (LOOPBACK_V6, LOOPBACK_V6),
];
const LOOPBACK_V6: &str =
    "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.ip6.arpa";
/// The port that HTTPS has when nothing else is said.
const HTTPS_PORT: u16 = 443;

/// A part of the tree of names that is ours to answer for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Realm<'a> {
    /// A zone of the user's.
    Zone(&'a str),
    /// `localhost`, which is this machine's always (RFC 6761 §6.3).
    Localhost,
    /// Loopback addresses: the zone, and the name that points back.
    Reverse(&'static str, &'static str),
}

impl<'a> Realm<'a> {
    /// The realm of `name`, in lower case without a final dot.
    pub(super) fn of(snapshot: &'a Snapshot, name: &str) -> Option<Self> {
        if let Some(zone) = snapshot.zone_of(name) {
            return Some(Self::Zone(zone.as_str()));
        }
        if is_at_or_below(name, "localhost") {
            return Some(Self::Localhost);
        }
        let mut reverse = REVERSE.iter();
        let found = reverse.find(|(zone, _)| is_at_or_below(name, zone));
        found.map(|(zone, pointer)| Self::Reverse(zone, pointer))
    }

    fn apex(self) -> &'a str {
        match self {
            Self::Zone(name) => name,
            Self::Localhost => "localhost",
            Self::Reverse(name, _) => name,
        }
    }

    /// The apex in the form of the wire.
    pub(super) fn apex_name(self) -> Option<WireName> {
        let mut name = WireName::from_ascii(self.apex()).ok()?;
        name.set_fqdn(true);
        Some(name)
    }

    /// The data of `name` that `kind` asks for: none, when it has no such data, and `None` when
    /// there is no such name. For ANY it is one kind, not all (RFC 8482 §4.1).
    pub(super) fn data(
        self,
        name: &str,
        kind: RecordType,
        settings: &Settings,
        serial: u64,
    ) -> Option<Vec<RData>> {
        let apex = self.apex_name()?;
        let at_apex = name == self.apex();
        let data = match (self, kind) {
            (_, RecordType::SOA) if at_apex => {
                soa(&apex, serial, settings.ttl).into_iter().collect()
            }
            (_, RecordType::NS) if at_apex => below(&apex, "ns")
                .map(|name| RData::NS(NS(name)))
                .into_iter()
                .collect(),
            (Self::Reverse(_, pointer), _) if name == pointer => match kind {
                RecordType::PTR | RecordType::ANY => pointer_to_localhost(),
                _ => Vec::new(),
            },
            (Self::Reverse(..), _) if !at_apex => return None,
            (Self::Reverse(..), _) => Vec::new(),
            (_, RecordType::A) => settings
                .ipv4
                .map(|ip| RData::A(A(ip)))
                .into_iter()
                .collect(),
            (_, RecordType::AAAA) => settings
                .ipv6
                .map(|ip| RData::AAAA(AAAA(ip)))
                .into_iter()
                .collect(),
            (_, RecordType::ANY) => {
                let v4 = settings.ipv4.map(|ip| RData::A(A(ip)));
                let v6 = || settings.ipv6.map(|ip| RData::AAAA(AAAA(ip)));
                v4.or_else(v6).into_iter().collect()
            }
            (Self::Zone(_), RecordType::HTTPS) => vec![https(settings.https_port)],
            _ => Vec::new(),
        };
        Some(data)
    }

    /// The SOA for answers that hold no data.
    pub(super) fn soa(self, settings: &Settings, serial: u64) -> Option<RData> {
        soa(&self.apex_name()?, serial, settings.ttl)
    }
}

fn is_at_or_below(name: &str, zone: &str) -> bool {
    let above = name.strip_suffix(zone);
    above.is_some_and(|above| above.is_empty() || above.ends_with('.'))
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

fn pointer_to_localhost() -> Vec<RData> {
    let name = WireName::from_ascii("localhost.").map(|name| RData::PTR(PTR(name)));
    name.into_iter().collect()
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
