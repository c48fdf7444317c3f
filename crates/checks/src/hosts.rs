use std::collections::BTreeMap;
use std::net::IpAddr;

use bentlane_model::Name;
use bentlane_model::Snapshot;

/// The lines between which a hosts file is ours.
const BEGIN: &str = "# Bent Lane: what follows is kept up to date by `bentlane system repair`";
/// What begins the block of an earlier version.
const FORMER_BEGIN: &str = "# Bent Lane: what follows is kept up to date by `bentlane serve`";
const END: &str = "# Bent Lane: end";

/// A line of a hosts file that gives a name an address (hosts(5)).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostsEntry {
    /// The line, from 1.
    pub line: usize,
    /// The address.
    pub address: IpAddr,
    /// The name, in lower case.
    pub name: Name,
}

/// A hosts file. It goes before DNS on nearly every system.
#[derive(Clone, Copy, Debug)]
pub struct Hosts<'a>(pub &'a str);

impl Hosts<'_> {
    /// Every name with its address, but for those of our own block. Lines that cannot be parsed
    /// are left out, as the system's own reader does.
    #[must_use]
    pub fn entries(&self) -> Vec<HostsEntry> {
        let mut ours = false;
        let mut entries = Vec::new();
        for (index, line) in self.0.lines().enumerate() {
            ours = (ours || begins(line)) && line != END;
            let line = line.split('#').next().unwrap_or_default();
            let mut words = line.split_whitespace();
            let Some(address) = words.next().and_then(|word| word.parse().ok()) else {
                continue;
            };
            if !ours {
                entries.extend(words.filter_map(|word| {
                    Some(HostsEntry {
                        line: index.saturating_add(1),
                        address,
                        name: word.parse().ok()?,
                    })
                }));
            }
        }
        entries
    }

    /// The entries for names in our zones, which therefore never reach the resolver.
    #[must_use]
    pub fn shadowing(&self, snapshot: &Snapshot) -> Vec<HostsEntry> {
        let ours = |entry: &HostsEntry| snapshot.zone_of(entry.name.as_str()).is_some();
        self.entries().into_iter().filter(ours).collect()
    }

    /// The same file with a block of ours that gives each of `names` its addresses, in order;
    /// without a block when there are none. Everything else stays to the byte.
    #[must_use]
    pub fn with_block(&self, names: &BTreeMap<Name, Vec<IpAddr>>) -> String {
        let mut text = self.without_block();
        if names.values().all(Vec::is_empty) {
            return text;
        }
        if !text.is_empty() && !text.ends_with('\n') {
            text.push('\n');
        }
        text.push_str(BEGIN);
        text.push('\n');
        for (name, addresses) in names {
            for address in addresses {
                text.push_str(&format!("{address} {name}\n"));
            }
        }
        text.push_str(END);
        text.push('\n');
        text
    }

    /// The same file without our block, whole or cut off.
    #[must_use]
    pub fn without_block(&self) -> String {
        let mut ours = false;
        let mut text = String::with_capacity(self.0.len());
        for line in self.0.split_inclusive('\n') {
            let bare = line.trim_end_matches('\n');
            if begins(bare) {
                ours = true;
            } else if ours && bare == END {
                ours = false;
            } else if !ours || !is_block_line(bare) {
                // A line of the user's within a block that lost its end is the user's.
                ours = false;
                text.push_str(line);
            }
        }
        text
    }

    /// Whether the file holds a block of ours.
    #[must_use]
    pub fn has_block(&self) -> bool {
        self.0.lines().any(begins)
    }
}

fn begins(line: &str) -> bool {
    line == BEGIN || line == FORMER_BEGIN
}

/// Whether a line has the form of those within a block: one address, one name.
fn is_block_line(line: &str) -> bool {
    let mut words = line.split(' ');
    let address = words
        .next()
        .is_some_and(|word| word.parse::<IpAddr>().is_ok());
    let name = words
        .next()
        .is_some_and(|word| word.parse::<Name>().is_ok());
    address && name && words.next().is_none()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const FILE: &str = "127.0.0.1 localhost\n# 10.0.0.1 off.moor.test\n\
        10.0.0.2\tBooking.Moor.test  www.example # a comment\nnonsense\n::1 ip6-localhost";

    fn entries(names: &[&str]) -> BTreeMap<Name, Vec<IpAddr>> {
        let addresses = ["127.0.0.1", "::1"].map(|ip| ip.parse().unwrap());
        let entry = |name: &&str| (name.parse().unwrap(), addresses.to_vec());
        names.iter().map(entry).collect()
    }

    fn both() -> BTreeMap<Name, Vec<IpAddr>> {
        entries(&["b.moor.test", "a.moor.test"])
    }

    #[test]
    fn hosts_entries_for_our_zones_are_found_with_their_line() {
        let snapshot = Snapshot::of_zones(["moor.test".parse().unwrap()]);
        let text = Hosts(FILE).with_block(&both());
        let found = Hosts(&text).shadowing(&snapshot);
        assert_eq!(
            found,
            [HostsEntry {
                line: 3,
                address: "10.0.0.2".parse().unwrap(),
                name: "booking.moor.test".parse().unwrap(),
            }]
        );
    }

    #[rstest]
    #[case(FILE, true)]
    #[case("", false)]
    #[case("127.0.0.1 localhost\n", false)]
    fn a_block_is_added_and_removed_without_a_trace(#[case] file: &str, #[case] line_ends: bool) {
        let with = Hosts(file).with_block(&both());
        assert!(Hosts(&with).has_block());
        assert!(with.contains("127.0.0.1 a.moor.test\n::1 a.moor.test\n127.0.0.1 b.moor.test\n"));
        let again = Hosts(&with).with_block(&entries(&["a.moor.test"]));
        assert!(!again.contains("b.moor.test"), "it is replaced: {again}");
        let without = Hosts(&again).without_block();
        // A last line without its end gets one, which is all that ever changes.
        let wanted = if line_ends {
            format!("{file}\n")
        } else {
            file.to_owned()
        };
        assert_eq!(without, wanted);
        assert_eq!(Hosts(&with).with_block(&entries(&[])), wanted);
        let former = with.replace(BEGIN, FORMER_BEGIN);
        assert_eq!(Hosts(&former).with_block(&both()), with);
    }

    #[test]
    fn removing_a_block_without_an_end_keeps_the_rest() {
        let with = Hosts("").with_block(&both());
        let torn = with.replace(END, "10.9.9.9 printer other-name");
        assert_eq!(
            Hosts(&torn).without_block(),
            "10.9.9.9 printer other-name\n"
        );
    }
}
