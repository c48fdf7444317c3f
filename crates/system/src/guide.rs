//! What to do on systems that this program does not run on, as words and as a script.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::net::{IpAddr, SocketAddr};

use bentlane_ca::Anchor;

use crate::facts::Facts;

/// A system that this program does not run on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OtherSystem {
    /// macOS.
    Macos,
    /// Windows.
    Windows,
    /// Windows, with the service in its Linux subsystem.
    Wsl,
    /// A phone or tablet.
    Phone,
}

impl OtherSystem {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Macos, Self::Windows, Self::Wsl, Self::Phone];

    /// How it is written.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Macos => "macos",
            Self::Windows => "windows",
            Self::Wsl => "wsl",
            Self::Phone => "phone",
        }
    }

    /// What to call the script's file.
    #[must_use]
    pub fn file_name(self) -> &'static str {
        match self {
            Self::Macos => "bentlane.sh",
            Self::Windows | Self::Wsl => "bentlane.ps1",
            Self::Phone => "bentlane-phone.sh",
        }
    }
}

/// How other systems find the names of one service and trust its root.
#[derive(Debug)]
pub struct Guide {
    zones: Vec<String>,
    dns: SocketAddr,
    /// The root, PEM, and its name.
    root: String,
    root_name: String,
    /// Exact names, for hosts files.
    names: Vec<(IpAddr, String)>,
    /// Loopback addresses that names have for their own.
    aliases: BTreeSet<IpAddr>,
}

impl Guide {
    /// The guide for a service with these `facts`, whose root is `root_pem`, made out to `subject`.
    #[must_use]
    pub fn new(facts: &Facts, root_pem: &str, subject: &str) -> Self {
        let first = facts.names.iter();
        let first = first.filter_map(|(name, ips)| Some((*ips.first()?, name.to_string())));
        let mut names: Vec<(IpAddr, String)> = first.collect();
        names.sort();
        let loopback = IpAddr::from([127, 0, 0, 1]);
        let own = |ip: &IpAddr| ip.is_ipv4() && ip.is_loopback() && *ip != loopback;
        let aliases = names.iter().map(|(ip, _)| *ip).filter(own).collect();
        let dns = facts.dns.iter().find(|at| at.is_ipv4());
        let dns = dns.or(facts.dns.first()).copied();
        let root_name = Anchor::read(root_pem).and_then(|it| it.our_name);
        Self {
            zones: facts.zones.iter().map(ToString::to_string).collect(),
            dns: dns.unwrap_or(SocketAddr::from(([127, 0, 0, 1], 53))),
            root: root_pem.trim().to_owned(),
            root_name: root_name.unwrap_or_else(|| subject.to_owned()),
            names,
            aliases,
        }
    }

    /// The steps, in words.
    #[must_use]
    pub fn words(&self, system: OtherSystem) -> String {
        let (zones, dns) = (self.zones.join(", "), self.dns);
        match system {
            OtherSystem::Macos => format!(
                "On macOS, a file in /etc/resolver for each zone has lookups of {zones} ask {dns},\n\
                 on any port. The root goes into the system's keychain. Names with a loopback address\n\
                 of their own need an alias on lo0.\n\n\
                 bentlane system guide macos --script > bentlane.sh\n\
                 sudo sh bentlane.sh            and to undo it: sudo sh bentlane.sh undo\n"
            ),
            OtherSystem::Windows => format!(
                "On Windows, a rule in the name resolution policy table has lookups of {zones} ask\n\
                 {ip}. Windows asks port 53 alone{hosts}. The root goes into the computer's store.\n\n\
                 bentlane system guide windows --script > bentlane.ps1\n\
                 As administrator: powershell -File bentlane.ps1        and to undo it: … undo\n",
                ip = dns.ip(),
                hosts = match dns.port() {
                    53 => "",
                    _ => ", where this service does not listen: the script writes the hosts file",
                }
            ),
            OtherSystem::Wsl => "With the service in the Linux subsystem, Windows reaches its TCP ports on \
                 localhost, and its\nresolver not at all: exact names go into the hosts file of Windows, \
                 and wildcards are not found.\n\n\
                 bentlane system guide wsl --script > bentlane.ps1\n\
                 As administrator of Windows: powershell -File bentlane.ps1        and to undo it: … undo\n"
                .to_owned(),
            OtherSystem::Phone => "A phone takes the root as a file: a profile on iOS, a certificate on \
                 Android. It finds the names\nonly where it may reach this service, which listens on \
                 this machine alone.\n\n\
                 bentlane system guide phone --script > bentlane-phone.sh\n\
                 sh bentlane-phone.sh            and to undo it: sh bentlane-phone.sh undo\n"
                .to_owned(),
        }
    }

    /// A script that does it, and undoes it.
    #[must_use]
    pub fn script(&self, system: OtherSystem) -> String {
        match system {
            OtherSystem::Macos => self.macos(),
            OtherSystem::Windows => self.windows(self.dns.port() == 53),
            OtherSystem::Wsl => self.windows(false),
            OtherSystem::Phone => PHONE.to_owned(),
        }
    }

    fn macos(&self) -> String {
        let mut attach = String::new();
        let mut undo = String::new();
        // A String takes every write.
        for zone in &self.zones {
            let (ip, port) = (self.dns.ip(), self.dns.port());
            let _ = writeln!(
                attach,
                "  printf 'nameserver {ip}\\nport {port}\\n' > /etc/resolver/{zone}"
            );
            let _ = writeln!(undo, "  rm -f /etc/resolver/{zone}");
        }
        for ip in &self.aliases {
            let _ = writeln!(attach, "  ifconfig lo0 alias {ip} up");
            let _ = writeln!(undo, "  ifconfig lo0 -alias {ip} || true");
        }
        let hosts: String = self.hosts_lines();
        MACOS
            .replace("{{zones}}", &self.zones.join(", "))
            .replace("{{attach}}", attach.trim_end())
            .replace("{{undo}}", undo.trim_end())
            .replace("{{hosts}}", hosts.trim_end())
            .replace("{{name}}", &self.root_name.replace('\'', "'\\''"))
            .replace("{{root}}", &self.root)
    }

    fn windows(&self, by_rule: bool) -> String {
        let rules: String = match by_rule {
            true => self
                .zones
                .iter()
                .map(|zone| {
                    let ip = self.dns.ip();
                    format!("    Add-DnsClientNrptRule -Namespace '.{zone}' -NameServers '{ip}' -Comment $Mark\n")
                })
                .collect(),
            false => String::new(),
        };
        let hosts = if by_rule {
            String::new()
        } else {
            self.hosts_lines()
        };
        WINDOWS
            .replace("{{zones}}", &self.zones.join(", "))
            .replace("{{rules}}", &rules)
            .replace("{{hosts}}", hosts.trim_end())
            .replace("{{name}}", &self.root_name.replace('\'', "''"))
            .replace("{{root}}", &self.root)
    }

    fn hosts_lines(&self) -> String {
        let lines = self.names.iter();
        let lines = lines.map(|(ip, name)| format!("{ip} {name} # bentlane\n"));
        lines.collect()
    }
}

const MACOS: &str = r#"#!/bin/sh
# Has macOS ask Bent Lane for names in {{zones}}, and trust its root.
# Nobody has tried this on macOS yet: read it first.
#
#   sudo sh bentlane.sh          lookups and trust
#   sudo sh bentlane.sh hosts    exact names in /etc/hosts, where a resolver cannot be asked
#   sudo sh bentlane.sh undo     take all of it back
set -eu
keychain=/Library/Keychains/System.keychain
name='{{name}}'

attach() {
  mkdir -p /etc/resolver
{{attach}}
  root=$(mktemp)
  cat > "$root" <<'END'
{{root}}
END
  security add-trusted-cert -d -r trustRoot -k "$keychain" "$root"
  rm -f "$root"
}

hosts() {
  cat >> /etc/hosts <<'END'
{{hosts}}
END
}

undo() {
{{undo}}
  sed -i '' '/ # bentlane$/d' /etc/hosts
  security delete-certificate -c "$name" "$keychain" || true
}

case "${1:-attach}" in
  attach) attach ;;
  hosts) hosts ;;
  undo) undo ;;
  *) echo "usage: sudo sh $0 [attach|hosts|undo]" >&2; exit 2 ;;
esac
"#;

const WINDOWS: &str = r#"# Has Windows find names in {{zones}}, and trust the root of Bent Lane.
# Nobody has tried this on Windows yet: read it first. Run it as administrator:
#
#   powershell -File bentlane.ps1
#   powershell -File bentlane.ps1 undo
param([string]$What = 'attach')
$ErrorActionPreference = 'Stop'
$Mark = '# bentlane'
$Name = '{{name}}'
$Hosts = "$env:SystemRoot\System32\drivers\etc\hosts"
$Names = @'
{{hosts}}
'@
$Root = @'
{{root}}
'@

function Remove-OwnRoot {
    Get-DnsClientNrptRule | Where-Object Comment -eq $Mark | Remove-DnsClientNrptRule -Force
    $Kept = @(Get-Content $Hosts | Where-Object { -not $_.EndsWith($Mark) })
    Set-Content -Path $Hosts -Value $Kept
    Get-ChildItem Cert:\LocalMachine\Root | Where-Object Subject -like "*CN=$Name*" | Remove-Item
}

if ($What -eq 'attach') {
    Remove-OwnRoot
{{rules}}    if ($Names) { Add-Content -Path $Hosts -Value $Names }
    $File = New-TemporaryFile
    Set-Content -Path $File -Value $Root
    Import-Certificate -FilePath $File -CertStoreLocation Cert:\LocalMachine\Root | Out-Null
    Remove-Item $File
} elseif ($What -eq 'undo') {
    Remove-OwnRoot
} else {
    Write-Error 'usage: bentlane.ps1 [attach|undo]'
}
"#;

const PHONE: &str = r#"#!/bin/sh
# Makes the files by which a phone trusts the root of Bent Lane. Nobody has tried them on a phone yet.
#
#   sh bentlane-phone.sh         makes bentlane-root.mobileconfig (iOS) and bentlane-root.crt (Android)
#   sh bentlane-phone.sh undo    removes the files
set -eu
case "${1:-make}" in
  make)
    bentlane authority export --as apple-profile --out bentlane-root.mobileconfig
    bentlane authority export --as der --out bentlane-root.crt
    echo "iOS: open bentlane-root.mobileconfig on the phone, install it in Settings, General, VPN and"
    echo "  Device Management, and trust it in Settings, General, About, Certificate Trust Settings."
    echo "Android: open Settings, Security, Install a certificate, CA certificate: bentlane-root.crt."
    echo "To undo it, remove the profile or the certificate in the same place."
    ;;
  undo) rm -f bentlane-root.mobileconfig bentlane-root.crt ;;
  *) echo "usage: sh $0 [make|undo]" >&2; exit 2 ;;
esac
"#;

#[cfg(test)]
mod tests {
    use std::io::Write as _;
    use std::process::{Command, Stdio};

    use rstest::rstest;

    use super::*;

    fn values(port: u16) -> Guide {
        Guide {
            zones: vec!["moor.test".to_owned(), "fell.test".to_owned()],
            dns: SocketAddr::from(([127, 0, 0, 1], port)),
            root: "-----BEGIN CERTIFICATE-----\nQUFB\n-----END CERTIFICATE-----".to_owned(),
            root_name: "Bent Lane root 1a on rowan's".to_owned(),
            names: vec![
                ([127, 0, 0, 1].into(), "a.moor.test".to_owned()),
                ([127, 77, 0, 2].into(), "db.moor.test".to_owned()),
            ],
            aliases: BTreeSet::from([[127, 77, 0, 2].into()]),
        }
    }

    #[rstest]
    #[case(OtherSystem::Macos)]
    #[case(OtherSystem::Phone)]
    fn shells_accept_the_scripts(#[case] system: OtherSystem) {
        let script = values(17053).script(system);
        for (linter, args) in [("sh", &["-n"][..]), ("shellcheck", &["-s", "sh", "-"])] {
            let mut linting = Command::new(linter)
                .args(args)
                .stdin(Stdio::piped())
                .stdout(Stdio::piped())
                .spawn()
                .unwrap();
            let mut input = linting.stdin.take().unwrap();
            input.write_all(script.as_bytes()).unwrap();
            drop(input);
            let said = linting.wait_with_output().unwrap();
            let words = String::from_utf8_lossy(&said.stdout);
            assert!(said.status.success(), "{linter}: {words}\n{script}");
        }
    }

    #[rstest]
    #[case(OtherSystem::Macos, 17053, &["nameserver 127.0.0.1\\nport 17053\\n' > /etc/resolver/fell.test", "alias 127.77.0.2 up", "-alias 127.77.0.2", "rm -f /etc/resolver/moor.test", "'Bent Lane root 1a on rowan'\\''s'", "127.77.0.2 db.moor.test # bentlane"])]
    #[case(OtherSystem::Windows, 53, &["-Namespace '.moor.test' -NameServers '127.0.0.1'", "'Bent Lane root 1a on rowan''s'", "QUFB"])]
    #[case(OtherSystem::Windows, 17053, &["127.0.0.1 a.moor.test # bentlane"])]
    #[case(OtherSystem::Wsl, 53, &["127.0.0.1 a.moor.test # bentlane"])]
    #[case(OtherSystem::Phone, 53, &["--as apple-profile"])]
    fn scripts_are_filled_in(
        #[case] system: OtherSystem,
        #[case] port: u16,
        #[case] wanted: &[&str],
    ) {
        let script = values(port).script(system);
        for wanted in wanted {
            assert!(script.contains(wanted), "{wanted} is not in\n{script}");
        }
        assert!(!script.contains("{{"), "{script}");
        assert!(script.contains("obody has tried"), "{script}");
        let rules = script.contains("    Add-DnsClientNrptRule");
        assert_eq!(rules, system == OtherSystem::Windows && port == 53);
    }
}
