//! The systemd units of the service.

use std::fmt::Write;
use std::net::SocketAddr;
use std::path::Path;

/// The service, as systemd runs it.
#[derive(Clone, Copy, Debug)]
pub struct Unit<'a> {
    /// The program.
    pub program: &'a Path,
    /// The service's data folder.
    pub data_dir: &'a Path,
    /// Whose the data folder is: as this user the service runs.
    pub uid: u32,
    /// The user's group.
    pub gid: u32,
}

impl Unit<'_> {
    /// The service unit (systemd.service(5)).
    #[must_use]
    pub fn service(&self) -> String {
        let Self {
            program,
            data_dir,
            uid,
            gid,
        } = self;
        let (program, data_dir) = (quoted(program), quoted(data_dir));
        format!(
            "[Unit]\n\
             Description=Bent Lane: names and HTTPS for what runs on this machine\n\
             Requires=bentlane.socket\n\
             After=bentlane.socket\n\
             \n\
             [Service]\n\
             Type=exec\n\
             ExecStart={program} serve --data-dir {data_dir}\n\
             User={uid}\n\
             Group={gid}\n\
             # For the addresses that names have for their own; the ports are opened by systemd. The\n\
             # service keeps this right to itself: programs that it starts do not have it.\n\
             AmbientCapabilities=CAP_NET_BIND_SERVICE\n\
             # For the resolver's threads, which go before the proxy's.\n\
             LimitNICE=-10\n\
             LimitNOFILE=32768\n\
             Restart=on-failure\n\
             RestartSec=2\n\
             TimeoutStopSec=30\n\
             \n\
             [Install]\n\
             WantedBy=multi-user.target\n"
        )
    }
}

/// The socket unit (systemd.socket(5)) for a resolver at `dns`, UDP and TCP, and listeners at `tcp`.
#[must_use]
pub fn socket_unit(dns: &[SocketAddr], tcp: &[SocketAddr]) -> String {
    let mut text = "[Unit]\nDescription=The ports of Bent Lane\n\n[Socket]\n".to_owned();
    let datagrams = dns.iter().map(|at| format!("ListenDatagram={at}"));
    let streams = dns.iter().chain(tcp);
    let streams = streams.map(|at| format!("ListenStream={at}"));
    for line in datagrams.chain(streams) {
        let _ = writeln!(text, "{line}"); // writing to a string does not fail
    }
    text.push_str("\n[Install]\nWantedBy=sockets.target\n");
    text
}

/// What systemd watches (systemd.path(5)): the name servers of the machine, which network managers
/// rewrite, and what the service in `data_dir` wants the system to know.
#[must_use]
pub fn watch_unit(resolv_conf: &Path, wanted: &Path) -> String {
    format!(
        "[Unit]\nDescription=Bent Lane: lookups of this machine that have to be repaired\n\
         \n\
         [Path]\n\
         PathChanged={}\n\
         PathChanged={}\n\
         Unit=bentlane-repair.service\n\
         \n\
         [Install]\nWantedBy=multi-user.target\n",
        specifiers_taken_literally(resolv_conf),
        specifiers_taken_literally(wanted),
    )
}

/// The command that repairs what was attached, which runs as root for a moment: a copy of `program`
/// that only root can write to.
#[must_use]
pub fn repair_unit(program: &Path) -> String {
    format!(
        "[Unit]\nDescription=Bent Lane: repair the lookups of this machine\n\
         \n\
         [Service]\n\
         Type=oneshot\n\
         ExecStart={} system repair\n\
         NoNewPrivileges=yes\n\
         PrivateTmp=yes\n\
         ProtectHome=read-only\n\
         ProtectSystem=full\n\
         ReadWritePaths=/etc /var/lib/bentlane\n",
        quoted(program)
    )
}

fn specifiers_taken_literally(path: &Path) -> String {
    path.display().to_string().replace('%', "%%")
}

/// A path as one word of a command line: quoted, with specifiers and variables taken literally
/// (systemd.service(5), \"Command lines\").
fn quoted(path: &Path) -> String {
    let mut text = String::from('"');
    for c in path.display().to_string().chars() {
        match c {
            '"' | '\\' => text.extend(['\\', c]),
            '%' | '$' => text.extend([c, c]),
            '\n' => text.push_str("\\n"),
            c => text.push(c),
        }
    }
    text.push('"');
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unusual_paths_are_quoted() {
        let unit = Unit {
            program: Path::new("/opt/bent lane/bentlane"),
            data_dir: Path::new("/home/rowan/100% \"of\" $it"),
            uid: 1000,
            gid: 100,
        };
        let text = unit.service();
        let command = "ExecStart=\"/opt/bent lane/bentlane\" serve --data-dir \
                       \"/home/rowan/100%% \\\"of\\\" $$it\"\n";
        assert!(text.contains(command), "{text}");
        assert!(text.contains("User=1000\nGroup=100\n"), "{text}");
    }

    #[test]
    fn every_socket_is_listed() {
        let at = |text: &str| text.parse().unwrap();
        let text = socket_unit(
            &[at("127.0.0.1:53"), at("[::1]:53")],
            &[at("127.0.0.1:443")],
        );
        let wanted = "ListenDatagram=127.0.0.1:53\nListenDatagram=[::1]:53\n\
                      ListenStream=127.0.0.1:53\nListenStream=[::1]:53\n\
                      ListenStream=127.0.0.1:443\n";
        assert!(text.contains(wanted), "{text}");
    }
}
