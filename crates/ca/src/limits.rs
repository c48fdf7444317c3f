use std::net::Ipv6Addr;

use rcgen::CustomExtension;
use x509_parser::extensions::{GeneralName, NameConstraints};

use bentlane_model::Name;

/// The name-constraints extension (RFC 5280 §4.2.1.10).
const NAME_CONSTRAINTS: [u64; 4] = [2, 5, 29, 30];
/// Tags of the general names that servers are known by, and of those that they are not
/// (RFC 5280 §4.2.1.6).
const MAILBOX: u8 = 0x81;
const DNS_NAME: u8 = 0x82;
const URI: u8 = 0x86;
const IP_ADDRESS: u8 = 0x87;
const SEQUENCE: u8 = 0x30;
const PERMITTED: u8 = 0xa0;

/// What a certificate authority can vouch for: names at or below some suffixes, and the loopback
/// addresses.
///
/// As an extension it is critical, so that a client that cannot check it refuses. A name type of
/// which nothing is said would be unconstrained, so mailboxes and URIs are permitted at `localhost`
/// alone, which names none that anybody would believe. Directory names are left out: clients take
/// no server's name from them, and some refuse every certificate whose directory names are
/// constrained. The extended key usage, TLS servers alone, closes what is left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limits {
    names: Vec<Name>,
}

impl Limits {
    /// Limits to `localhost` and `names`, and what is below them.
    #[must_use]
    pub fn new(names: impl IntoIterator<Item = Name>) -> Self {
        let mut names: Vec<Name> = names.into_iter().chain("localhost".parse()).collect();
        names.sort();
        names.dedup();
        let covered = |name: &Name| {
            let others = names.iter().filter(|other| *other != name);
            others.into_iter().any(|other| name.is_within(other))
        };
        let kept: Vec<Name> = names
            .iter()
            .filter(|name| !covered(name))
            .cloned()
            .collect();
        Self { names: kept }
    }

    /// The limits of a new root: `localhost` and `test` (RFC 6761 §6.2 and §6.3), where users cannot
    /// own a name, and `zones`.
    #[must_use]
    pub fn of_root(zones: impl IntoIterator<Item = Name>) -> Self {
        let reserved = "test".parse().ok();
        Self::new(reserved.into_iter().chain(zones))
    }

    /// Whether an extension leaves no way to vouch for what is not meant: it is critical, and
    /// permits names of each type that a server or a mailbox can be known by, loopback addresses
    /// alone among them. A type of which nothing is said would be unlimited (RFC 5280 §4.2.1.10).
    pub(super) fn are_complete(constraints: &NameConstraints<'_>, is_critical: bool) -> bool {
        let permitted = || constraints.permitted_subtrees.iter().flatten();
        let has = |of_type: fn(&GeneralName<'_>) -> bool| permitted().any(|it| of_type(&it.base));
        let is_loopback = |base: &GeneralName<'_>| match base {
            GeneralName::IPAddress([127, _, _, _, 255, _, _, _]) => true,
            GeneralName::IPAddress(range) => {
                let own = [Ipv6Addr::LOCALHOST.octets(), [0xff; 16]].concat();
                **range == own
            }
            _ => true,
        };
        is_critical
            && has(|it| matches!(it, GeneralName::DNSName(name) if !name.is_empty()))
            && has(|it| matches!(it, GeneralName::IPAddress(_)))
            && has(|it| matches!(it, GeneralName::RFC822Name(_)))
            && has(|it| matches!(it, GeneralName::URI(_)))
            && permitted().all(|it| is_loopback(&it.base))
            && permitted().all(|it| {
                !matches!(
                    it.base,
                    GeneralName::DNSName("") | GeneralName::DNSName(".")
                )
            })
    }

    /// The suffixes, in order; none lies below another.
    #[must_use]
    pub fn names(&self) -> &[Name] {
        &self.names
    }

    /// Whether a certificate for `name` is within the limits.
    #[must_use]
    pub fn covers(&self, name: &Name) -> bool {
        self.names.iter().any(|suffix| name.is_within(suffix))
    }

    pub(super) fn extension(&self) -> CustomExtension {
        let names = self
            .names
            .iter()
            .map(|name| subtree(DNS_NAME, name.as_str().as_bytes()));
        let mut permitted: Vec<u8> = names.flatten().collect();
        // Address and mask (RFC 5280 §4.2.1.10): 127.0.0.0/8, and ::1 alone.
        let loopback = [Ipv6Addr::LOCALHOST.octets(), [0xff; 16]].concat();
        permitted.extend(subtree(IP_ADDRESS, &[127, 0, 0, 0, 255, 0, 0, 0]));
        permitted.extend(subtree(IP_ADDRESS, &loopback));
        permitted.extend(subtree(MAILBOX, b"localhost"));
        permitted.extend(subtree(URI, b"localhost"));
        let content = der(SEQUENCE, &der(PERMITTED, &permitted));
        let mut extension = CustomExtension::from_oid_content(&NAME_CONSTRAINTS, content);
        extension.set_criticality(true);
        extension
    }

    /// The limits in an extension.
    pub(super) fn read(constraints: &NameConstraints<'_>) -> Self {
        let permitted = constraints.permitted_subtrees.iter().flatten();
        Self::new(permitted.filter_map(|subtree| match subtree.base {
            GeneralName::DNSName(name) => name.trim_start_matches('.').parse().ok(),
            _ => None,
        }))
    }
}

fn subtree(tag: u8, base: &[u8]) -> Vec<u8> {
    der(SEQUENCE, &der(tag, base))
}

/// A value in its encoding: tag, length, content (X.690 §8.1).
fn der(tag: u8, content: &[u8]) -> Vec<u8> {
    let length = content.len();
    let octets = length.to_be_bytes();
    let octets = &octets[octets.iter().take_while(|octet| **octet == 0).count()..];
    let mut out = vec![tag];
    match (u8::try_from(length), u8::try_from(octets.len())) {
        (Ok(length), _) if length < 0x80 => out.push(length),
        (_, Ok(count)) => {
            out.push(0x80 | count);
            out.extend_from_slice(octets);
        }
        // A length has eight bytes at most.
        (_, Err(_)) => {}
    }
    out.extend_from_slice(content);
    out
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn limits(names: &[&str]) -> Limits {
        Limits::new(names.iter().map(|name| name.parse().unwrap()))
    }

    #[rstest]
    #[case(&["moor.test", "a.moor.test", "fell.test"], &["fell.test", "localhost", "moor.test"])]
    #[case(&["moor.test", "test"], &["localhost", "test"])]
    #[case(&["bentlane.localhost"], &["localhost"])]
    fn no_suffix_is_within_another(#[case] names: &[&str], #[case] wanted: &[&str]) {
        let limits = limits(names);
        let found: Vec<&str> = limits.names().iter().map(Name::as_str).collect();
        assert_eq!(found, wanted);
    }

    #[rstest]
    #[case(0, &[0x30, 0])]
    #[case(127, &[0x30, 127])]
    #[case(128, &[0x30, 0x81, 128])]
    #[case(300, &[0x30, 0x82, 1, 44])]
    fn lengths(#[case] length: usize, #[case] head: &[u8]) {
        let encoded = der(SEQUENCE, &vec![7; length]);
        assert!(encoded.starts_with(head) && encoded.len() == head.len() + length);
    }

    #[test]
    fn roots_cover_reserved_names_and_the_zones() {
        let limits = Limits::of_root(["moor.example".parse().unwrap()]);
        for (name, covered) in [
            ("a.b.test", true),
            ("nas.home.arpa", false),
            ("x.internal", false),
            ("localhost", true),
            ("x.moor.example", true),
            ("example", false),
            ("notest", false),
        ] {
            assert_eq!(limits.covers(&name.parse().unwrap()), covered, "{name}");
        }
    }
}
