//! Ports for the apps of a project.

use std::ops::RangeInclusive;

/// The ports that are suggested: above those of well-known services, and below those from which systems
/// take the ports of outgoing connections.
pub const SUGGESTED_PORTS: RangeInclusive<u16> = 20_000..=29_999;

/// Free ports for the `names` of a project: the same each time, as long as none `is_taken`. `None` when
/// there are not enough.
#[must_use]
pub fn suggested_ports(
    project: &str,
    names: &[String],
    is_taken: impl Fn(u16) -> bool,
) -> Option<Vec<u16>> {
    let (first, last) = SUGGESTED_PORTS.into_inner();
    let mut chosen: Vec<u16> = Vec::with_capacity(names.len());
    for name in names {
        let offset = hash(&[project.as_bytes(), b"\0", name.as_bytes()].concat());
        let count = u64::from(last - first) + 1;
        let start = first + u16::try_from(offset % count).ok()?;
        let mut candidates = (start..=last).chain(first..start);
        let free = candidates.find(|port| !chosen.contains(port) && !is_taken(*port))?;
        chosen.push(free);
    }
    Some(chosen)
}

/// FNV-1a with 64 bits, which is the same in every version and on every machine.
fn hash(octets: &[u8]) -> u64 {
    octets.iter().fold(0xcbf2_9ce4_8422_2325, |hash, octet| {
        (hash ^ u64::from(*octet)).wrapping_mul(0x0100_0000_01b3)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn suggested(project: &str, names: &[&str], taken: &[u16]) -> Option<Vec<u16>> {
        let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
        suggested_ports(project, &names, |port| taken.contains(&port))
    }

    #[test]
    fn a_project_gets_the_same_free_ports_each_time() {
        let usual = suggested("/home/rowan/huts", &["web", "db"], &[]).unwrap();
        // Written in files: another version has to give the same.
        assert_eq!(usual, [24_562, 21_414]);
        assert_eq!(
            suggested("/home/rowan/huts", &["web", "db"], &[]),
            Some(usual.clone())
        );
        assert_eq!(
            suggested("/home/rowan/huts", &["db"], &[]),
            Some(vec![usual[1]])
        );
        assert_ne!(
            suggested("/home/rowan/shop", &["web"], &[]).unwrap()[0],
            usual[0]
        );
        let next = suggested("/home/rowan/huts", &["web"], &[usual[0]]).unwrap();
        assert_eq!(next, [usual[0] + 1]);
    }

    #[test]
    fn names_never_share_a_port_and_the_range_is_not_left() {
        let name = vec!["web".to_owned(); 4];
        let last_three = |port| port < 29_997;
        let mut all = suggested_ports("/a", &name[..3], last_three).unwrap();
        all.sort_unstable();
        assert_eq!(all, [29_997, 29_998, 29_999]);
        assert_eq!(suggested_ports("/a", &name, last_three), None);
    }
}
