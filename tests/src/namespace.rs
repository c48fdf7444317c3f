use std::fs;

use crate::process::{Run, binary, run};
use crate::world::World;

/// What every script has.
const PRELUDE: &str = r#"
unset SUDO_USER SUDO_UID JAVA_HOME XDG_DATA_HOME XDG_CONFIG_HOME
for name in NODE_EXTRA_CA_CERTS SSL_CERT_FILE REQUESTS_CA_BUNDLE CURL_CA_BUNDLE GIT_SSL_CAINFO PIP_CERT \
  CARGO_HTTP_CAINFO AWS_CA_BUNDLE; do unset $name; done
step() { echo "== $1"; }
await_service() { for _ in $(seq 300); do "$BENTLANE" status --format json >/dev/null 2>&1 && return; sleep 0.1; done; }
# A machine with files of its own: its settings, where roots are put, what was replaced, and a home.
private_machine() {
  ip link set lo up
  mkdir -p "$FOLDER/etc" "$FOLDER/local" "$FOLDER/state" "$FOLDER/home"
  cp -a /etc/. "$FOLDER/etc"
  mount --bind "$FOLDER/etc" /etc
  mkdir -p /usr/local/share/ca-certificates /var/lib/bentlane
  mount --bind "$FOLDER/local" /usr/local/share/ca-certificates
  mount --bind "$FOLDER/state" /var/lib/bentlane
  rm -rf /etc/chromium/policies /etc/firefox/policies
  find /etc/ssl/certs -xtype l -delete
  update-ca-certificates >/dev/null 2>&1
  export BENTLANE_DATA_DIR="$FOLDER/data" HOME="$FOLDER/home"
}
# Names are looked up in the hosts file and by these servers.
nameservers() {
  printf 'hosts: files dns\n' > /etc/nsswitch.conf
  rm -f /etc/resolv.conf
  printf 'options timeout:1 attempts:1\n' > /etc/resolv.conf
  for at in "$@"; do echo "nameserver $at" >> /etc/resolv.conf; done
}
"#;

/// What a script did in its own network and mount namespace, where it is root.
#[derive(Debug)]
pub struct Namespace {
    outcome: Run,
    log: String,
}

impl Namespace {
    /// Runs `script` with `bash`. It finds the world's folder in `FOLDER` and the program in
    /// `BENTLANE`, writes what the service says to `service.log` in the folder, and begins each step
    /// with `step NAME`. `private_machine` gives it its own `/etc`, trust stores and home folder.
    ///
    /// # Panics
    /// When the script fails.
    #[must_use]
    pub fn run(world: &World, script: &str) -> Self {
        let script = format!("{PRELUDE}{script}");
        let folder = world.path("").display().to_string();
        let folder = format!("FOLDER={}", folder.trim_end_matches('/'));
        let program = format!("BENTLANE={}", binary().display());
        let map_root: &[&str] = if rustix::process::geteuid().is_root() {
            &[]
        } else {
            &["--map-root-user"]
        };
        let inside = ["--", "env", &folder, &program, "bash", "-c", &script];
        let own = [
            "--net",
            "--mount",
            "--pid",
            "--fork",
            "--kill-child",
            "--mount-proc",
        ];
        let args = [&own[..], map_root, &inside].concat();
        let outcome = run("unshare", &args);
        let log = fs::read_to_string(world.path("service.log")).unwrap_or_default();
        assert_eq!(outcome.code, 0, "{outcome:#?}\n{log}");
        Self { outcome, log }
    }

    /// What a step printed; all of it for a script without steps.
    ///
    /// # Panics
    /// When there was no such step.
    #[must_use]
    pub fn step(&self, name: &str) -> &str {
        let steps = self.outcome.stdout.split("== ");
        let mut steps = steps.filter_map(|step| step.split_once('\n'));
        let found = steps.find(|(step, _)| *step == name);
        let Self { outcome, log } = self;
        let (_, said) = found.unwrap_or_else(|| panic!("{name}: {outcome:#?}\n{log}"));
        said
    }

    /// Expects each step to have printed each of its parts.
    ///
    /// # Panics
    /// When one is missing.
    pub fn expect(&self, wanted: &[(&str, &[&str])]) {
        for (name, parts) in wanted {
            let said = self.step(name);
            for part in *parts {
                let Self { outcome, log } = self;
                assert!(
                    said.contains(part),
                    "{name}: {part}: {said}\n{outcome:#?}\n{log}"
                );
            }
        }
    }
}
