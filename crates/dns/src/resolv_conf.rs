use std::fmt::Write;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use bentlane_model::Name;

/// The line with which a file of ours begins.
const MARK: &str = "# Bent Lane answers this machine's lookups.";

/// What a `resolv.conf` says, as far as it concerns us (resolv.conf(5)).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ResolvConf {
    /// The name servers, in the order in which they are asked.
    pub nameservers: Vec<IpAddr>,
    /// The other settings as they stand: `search`, `domain`, `options`, `sortlist`.
    pub others: Vec<String>,
    /// Whether the file is one of ours.
    pub ours: bool,
}

/// Where systemd's resolver listens for the machine's lookups (systemd-resolved.service(8)).
const RESOLVED_STUB: IpAddr = IpAddr::V4(Ipv4Addr::new(127, 0, 0, 53));

/// The settings that make systemd's resolver ask us, at the first of `dns`, for names of `zones` and
/// no others (resolved.conf(5)).
#[must_use]
pub fn resolved_drop_in(dns: SocketAddr, zones: &[Name]) -> String {
    let domains: Vec<String> = zones.iter().map(|zone| format!("~{zone}")).collect();
    format!(
        "{MARK}\n# `bentlane system detach` takes this file away again.\n[Resolve]\nDNS={dns}\nDomains={}\n",
        domains.join(" ")
    )
}

impl ResolvConf {
    /// Whether the machine's lookups go to systemd's resolver, which can ask us for our zones alone.
    #[must_use]
    pub fn leads_to_resolved(&self) -> bool {
        self.nameservers.contains(&RESOLVED_STUB)
    }

    /// Reads a file. Unknown lines are ignored, as the system does.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let mut conf = Self {
            ours: text.starts_with(MARK),
            ..Self::default()
        };
        for line in text.lines() {
            let line = line.trim();
            let mut words = line.split_whitespace();
            match words.next() {
                Some("nameserver") => {
                    // A zone behind `%` names a network interface; no resolver of ours is there.
                    let address = words.next().and_then(|word| word.parse().ok());
                    conf.nameservers.extend(address.iter());
                }
                Some("search" | "domain" | "options" | "sortlist") => {
                    conf.others.push(line.to_owned());
                }
                _ => {}
            }
        }
        conf
    }

    /// The name servers that are not us: we listen at `ours`, on port 53 where it matters.
    #[must_use]
    pub fn upstreams(&self, ours: &[SocketAddr]) -> Vec<SocketAddr> {
        let at = |ip: &IpAddr| SocketAddr::new(*ip, 53);
        let others = self.nameservers.iter().map(at);
        others.filter(|at| !ours.contains(at)).collect()
    }

    /// The file that has the system ask us at `addresses`, with the other settings kept.
    #[must_use]
    pub fn pointing_at(&self, addresses: &[IpAddr]) -> String {
        let mut text = format!(
            "{MARK}\n# `bentlane system detach` puts back the file that was here before.\n"
        );
        let lines = addresses.iter().map(|ip| format!("nameserver {ip}"));
        for line in lines.chain(self.others.iter().cloned()) {
            let _ = writeln!(text, "{line}"); // writing to a string does not fail
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const FILE: &str = "# made by hand\n; and this\nnameserver 192.0.2.1\n\
        nameserver 127.0.0.1\nnameserver fe80::1%eth0\n  nameserver   2001:db8::1 \n\
        search moor.example\noptions timeout:1 edns0\nfrobnicate\n";

    #[rstest]
    #[case(&["127.0.0.1:53"], &["192.0.2.1:53", "[2001:db8::1]:53"])]
    #[case(&["127.0.0.1:17053"], &["192.0.2.1:53", "127.0.0.1:53", "[2001:db8::1]:53"])]
    fn other_nameservers_are_upstreams(#[case] ours: &[&str], #[case] wanted: &[&str]) {
        let parse = |all: &[&str]| -> Vec<SocketAddr> {
            all.iter().map(|text| text.parse().unwrap()).collect()
        };
        let found = ResolvConf::parse(FILE).upstreams(&parse(ours));
        assert_eq!(found, parse(wanted));
    }

    #[test]
    fn other_settings_are_preserved() {
        let conf = ResolvConf::parse(FILE);
        assert!(!conf.ours);
        let text = conf.pointing_at(&["127.0.0.1".parse().unwrap()]);
        let again = ResolvConf::parse(&text);
        assert!(again.ours);
        assert_eq!(again.nameservers, ["127.0.0.1".parse::<IpAddr>().unwrap()]);
        assert_eq!(
            again.others,
            ["search moor.example", "options timeout:1 edns0"]
        );
    }
}
