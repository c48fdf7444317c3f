//! Which addresses the answers of upstream resolvers may lead to.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

use hickory_proto::op::Message;
use hickory_proto::rr::RData;
use hickory_proto::rr::rdata::svcb::SvcParamValue;
use serde::Deserialize;

use bentlane_model::Invalid;
use bentlane_model::Name;

/// Protection against DNS rebinding: a name of a stranger's that first leads to the stranger's
/// server and then to this machine or network, so that a page from there reaches what is local.
///
/// The default blocks nothing, since names of a VPN or of a company lead to private addresses for
/// good reasons. Names in our own zones are not concerned.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RebindProtection {
    /// Which addresses are blocked.
    pub level: RebindLevel,
    /// Names that may lead anywhere, and everything below them.
    pub exceptions: Vec<Name>,
}

/// How much the rebinding protection blocks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RebindLevel {
    /// Nothing.
    #[default]
    Off,
    /// Addresses of this machine: loopback and unspecified ones.
    Loopback,
    /// These, and addresses of private networks (RFC 1918, RFC 4193, RFC 6598) and of the link
    /// (RFC 3927, RFC 4291).
    Private,
}

impl FromStr for RebindLevel {
    type Err = Invalid;

    fn from_str(text: &str) -> Result<Self, Invalid> {
        match text {
            "off" => Ok(Self::Off),
            "loopback" => Ok(Self::Loopback),
            "private" => Ok(Self::Private),
            _ => Err(Invalid::new(
                "rebind_protection",
                format!("`{text}` is not a level: write off, loopback or private"),
            )),
        }
    }
}

impl RebindLevel {
    fn blocks(self, address: IpAddr) -> bool {
        match self {
            Self::Off => false,
            Self::Loopback => is_of_this_machine(plain(address)),
            Self::Private => {
                let address = plain(address);
                is_of_this_machine(address) || is_private(address)
            }
        }
    }
}

impl RebindProtection {
    /// Whether an answer leads where it may not.
    pub(super) fn blocks(&self, message: &Message) -> bool {
        if self.level == RebindLevel::Off || self.excepts(message) {
            return false;
        }
        let records = message.answers.iter().chain(&message.additionals);
        records
            .flat_map(|record| addresses(&record.data))
            .any(|address| self.level.blocks(address))
    }

    fn excepts(&self, message: &Message) -> bool {
        let asked = message.queries.first().map(|query| query.name().to_ascii());
        let name = asked.and_then(|asked| asked.trim_end_matches('.').parse::<Name>().ok());
        name.is_some_and(|name| self.exceptions.iter().any(|other| name.is_within(other)))
    }
}

/// The addresses that a record leads to.
fn addresses(data: &RData) -> Vec<IpAddr> {
    match data {
        RData::A(address) => vec![address.0.into()],
        RData::AAAA(address) => vec![address.0.into()],
        RData::HTTPS(record) => hints(&record.0.svc_params),
        RData::SVCB(record) => hints(&record.svc_params),
        _ => Vec::new(),
    }
}

/// The addresses that a service binding names in advance (RFC 9460 §7.3).
fn hints<K>(parameters: &[(K, SvcParamValue)]) -> Vec<IpAddr> {
    let each = parameters.iter().map(|(_, value)| match value {
        SvcParamValue::Ipv4Hint(hint) => hint.0.iter().map(|it| it.0.into()).collect(),
        SvcParamValue::Ipv6Hint(hint) => hint.0.iter().map(|it| it.0.into()).collect(),
        _ => Vec::new(),
    });
    each.flatten().collect()
}

/// An IPv4 address out of its forms in IPv6: mapped (RFC 4291 §2.5.5.2) and translated (RFC 6052
/// §2.1).
fn plain(address: IpAddr) -> IpAddr {
    const TRANSLATED: [u16; 6] = [0x64, 0xff9b, 0, 0, 0, 0];
    let IpAddr::V6(v6) = address.to_canonical() else {
        return address.to_canonical();
    };
    match (v6.segments().first_chunk(), v6.octets().last_chunk()) {
        (Some(&TRANSLATED), Some(last)) => Ipv4Addr::from(*last).into(),
        _ => v6.into(),
    }
}

fn is_of_this_machine(address: IpAddr) -> bool {
    match address {
        // 0.0.0.0/8 is this host on this network (RFC 1122 §3.2.1.3).
        IpAddr::V4(v4) => v4.is_loopback() || v4.octets().first() == Some(&0),
        IpAddr::V6(v6) => v6.is_loopback() || v6 == Ipv6Addr::UNSPECIFIED,
    }
}

fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => {
            let shared = matches!(v4.octets(), [100, second, ..] if second & 0xc0 == 64);
            v4.is_private() || v4.is_link_local() || shared
        }
        IpAddr::V6(v6) => v6.is_unique_local() || v6.is_unicast_link_local(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("127.0.0.1", true, true)]
    #[case("127.9.9.9", true, true)]
    #[case("0.0.0.0", true, true)]
    #[case("0.1.2.3", true, true)]
    #[case("::1", true, true)]
    #[case("::", true, true)]
    #[case("::ffff:127.0.0.1", true, true)]
    #[case("64:ff9b::7f00:1", true, true)]
    #[case("10.1.2.3", false, true)]
    #[case("172.16.0.1", false, true)]
    #[case("172.32.0.1", false, false)]
    #[case("192.168.7.7", false, true)]
    #[case("169.254.169.254", false, true)]
    #[case("100.64.0.1", false, true)]
    #[case("100.128.0.1", false, false)]
    #[case("fd00::7", false, true)]
    #[case("fe80::7", false, true)]
    #[case("::ffff:192.168.7.7", false, true)]
    #[case("64:ff9b::c0a8:101", false, true)]
    #[case("192.0.2.7", false, false)]
    #[case("2001:db8::7", false, false)]
    fn levels_block_addresses(
        #[case] address: IpAddr,
        #[case] by_loopback: bool,
        #[case] by_private: bool,
    ) {
        assert!(!RebindLevel::Off.blocks(address));
        assert_eq!(RebindLevel::Loopback.blocks(address), by_loopback);
        assert_eq!(RebindLevel::Private.blocks(address), by_private);
    }

    #[rstest]
    #[case("off", Some(RebindLevel::Off))]
    #[case("private", Some(RebindLevel::Private))]
    #[case("Private", None)]
    #[case("", None)]
    fn levels_are_parsed(#[case] text: &str, #[case] level: Option<RebindLevel>) {
        assert_eq!(text.parse().ok(), level);
    }
}
