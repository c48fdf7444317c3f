//! The first minute: a clean machine is set up by one command, its browser opens the names, each part
//! that goes missing is named and fixed, and all of it is undone.

use std::fs;

use bentlane_tests::{Namespace, Start, World};

/// A machine with an app, and nothing of ours yet.
const CLEAN: &str = r#"
set -eu
private_machine
nameservers 127.0.0.9
printf '127.0.0.1 localhost\n' > /etc/hosts
mkdir -p "$FOLDER/huts"
echo '<title>Highmoor</title><h1>the huts</h1>' > "$FOLDER/huts/index.html"
(cd "$FOLDER/huts"; exec python3 -m http.server --bind 127.0.0.1 4310 >/dev/null 2>&1) & app=$!
for _ in $(seq 100); do (exec 3<>/dev/tcp/127.0.0.1/4310) 2>/dev/null && break; sleep 0.1; done
service() { pkill -x bentlane 2>/dev/null || true; }
trap 'kill $app; service; wait' EXIT
"#;

const INSIDE: &str = r#"
state() {
  cat /etc/resolv.conf /etc/hosts; ls -R /etc/chromium /etc/firefox /usr/local/share/ca-certificates 2>/dev/null || true
  md5sum /etc/ssl/certs/ca-certificates.crt
  keytool -list -keystore /etc/ssl/certs/java/cacerts -storepass changeit 2>/dev/null | grep -o 'SHA-256.*' | sort
}
# Java's store may be older than the system's; what is done below brings it up to date.
update-ca-certificates --fresh >/dev/null 2>&1
state > "$FOLDER/before"
step plan; "$BENTLANE" setup --dry-run --zone moor.test
state | diff "$FOLDER/before" - && echo untouched
step asked; printf 'fell.test\nn\n' | script -qec "$BENTLANE setup --only zone,routes" /dev/null
printf 'fell.test\n2\n' | script -qec "$BENTLANE setup --only zone,routes" /dev/null >/dev/null || echo "exit $?"
"$BENTLANE" zone list; "$BENTLANE" route list 2>&1
"$BENTLANE" setup --undo --yes >/dev/null 2>&1
step setup; "$BENTLANE" setup --yes --zone moor.test 2>&1 || echo "exit $?"
"$BENTLANE" route add '*.at.moor.test' 4310 >/dev/null
step check; "$BENTLANE" check; echo "exit $?"
step browser
chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-dev-shm-usage --disable-background-networking \
  --user-data-dir="$FOLDER/profile" --dump-dom https://larkfell.at.moor.test/ 2>"$FOLDER/chromium.log"
"$BENTLANE" system check --browser 2>&1 | grep 'opens https'
failing() {
  "$BENTLANE" check >"$FOLDER/out" && echo "exit 0" || echo "exit $?"
  grep '✕' "$FOLDER/out" || true
  # What it says fixes it, word by word.
  sed -n 's/^ *sudo bentlane/bentlane/p' "$FOLDER/out" | sort -u | while read -r _ words; do "$BENTLANE" $words --yes >/dev/null 2>&1; done
  "$BENTLANE" check >"$FOLDER/out" && echo "fixed" || cat "$FOLDER/out"
}
step lookups; "$BENTLANE" system detach --only lookups --yes >/dev/null 2>&1
"$BENTLANE" system check --browser 2>/dev/null | grep -o 'ERR_[A-Z_]*' || true
failing
step system; rm /usr/local/share/ca-certificates/*; update-ca-certificates --fresh >/dev/null 2>&1
failing
step chromium; rm -r /etc/chromium/policies "$HOME/.local/share/pki"
"$BENTLANE" system check --browser 2>/dev/null | grep -o 'ERR_[A-Z_]*' || true
failing
step java
keytool -list -keystore /etc/ssl/certs/java/cacerts -storepass changeit 2>/dev/null | sed -n 's/^\(.*bent[^,]*\),.*/\1/p' |
  while read -r name; do keytool -delete -alias "$name" -keystore /etc/ssl/certs/java/cacerts -storepass changeit >/dev/null 2>&1; done
failing
step offered; "$BENTLANE" system detach --only lookups --yes >/dev/null 2>&1
"$BENTLANE" check --fix --yes 2>&1 | grep 'sudo bentlane\|every hop'
step shell; SSL_CERT_FILE=/etc/hosts "$BENTLANE" system check || echo "exit $?"
step again; "$BENTLANE" setup --yes 2>&1; "$BENTLANE" route list | grep -c 4310
step target; "$BENTLANE" route add other.moor.test 2>&1 || echo "exit $?"
step undo; "$BENTLANE" setup --undo --yes 2>&1
pgrep -x bentlane >/dev/null || echo "no service"
step after; state | diff "$FOLDER/before" - && echo identical
"#;

#[test]
fn setup_does_everything_and_each_missing_part_is_reported() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{CLEAN}{INSIDE}"));
    let fixed = |part: &'static str| vec!["exit 1", part, "fixed"];
    outcome.expect(&[
        (
            "plan",
            &[
                "zone     moor.test",
                "lookups  /etc/resolv.conf is pointed at Bent Lane",
                "/etc/chromium/policies/managed/bentlane.json",
                "huts.moor.test → 4310  “Highmoor”",
                "untouched",
            ],
        ),
        (
            "asked",
            &[
                "reserved for this (RFC 6761)",
                "passkeys",
                "zone     fell.test",
                "or the numbers to leave out",
                "nothing was changed",
                "fell.test  0 ",
                "there is no route yet",
            ],
        ),
        (
            "setup",
            &["1 route, every hop proved", "https://huts.moor.test/"],
        ),
        ("check", &["2 routes, every hop proved", "exit 0"]),
        ("browser", &["the huts", "opens https://"]),
        ("lookups", &fixed("✕ lookups  moor.test")),
        ("lookups", &["ERR_"]),
        ("system", &fixed("✕ trust    the system")),
        ("chromium", &fixed("✕ trust    Chromium")),
        ("chromium", &["ERR_CERT_AUTHORITY_INVALID"]),
        ("java", &fixed("✕ trust    Java")),
        (
            "offered",
            &[
                "sudo bentlane system attach --only lookups",
                "every hop proved",
            ],
        ),
        (
            "shell",
            &[
                "this shell",
                "SSL_CERT_FILE=/etc/hosts",
                "bentlane system env",
                "exit 1",
            ],
        ),
        (
            "again",
            &["nothing is missing", "2 routes, every hop proved"],
        ),
        (
            "target",
            &[
                "say where other.moor.test leads to",
                "4310",
                "“Highmoor”",
                "exit 2",
            ],
        ),
        ("undo", &["everything is restored", "no service"]),
        ("after", &["identical"]),
    ]);
}

/// An ordinary user: what works without root is done, and the rest is named.
const USER: &str = r#"
useradd --home-dir "$FOLDER/home" --uid 1500 rowan
chmod 711 "$FOLDER"; chown -R 1500 "$FOLDER/home" "$FOLDER/huts"
unset BENTLANE_DATA_DIR
kill $app; wait $app || true
rowan() { setpriv --reuid=1500 --regid=1500 --clear-groups env USER=rowan "$@"; }
(cd "$FOLDER/huts"; exec setpriv --reuid=1500 --regid=1500 --clear-groups /usr/bin/python3 -m http.server --bind 127.0.0.1 4310 >/dev/null 2>&1) & app=$!
for _ in $(seq 100); do (exec 3<>/dev/tcp/127.0.0.1/4310) 2>/dev/null && break; sleep 0.1; done
step user
rowan "$BENTLANE" setup --yes 2>&1 || echo "exit $?"
certutil -L -d "sql:$HOME/.local/share/pki/nssdb" | grep 'Bent Lane'
step refused
rowan "$BENTLANE" system attach --only trust --yes 2>&1 || echo "exit $?"
step root
export SUDO_USER=rowan SUDO_UID=1500 SUDO_GID=1500
"$BENTLANE" setup --yes 2>&1; echo "exit $?"
stat -c 'run by %U' /proc/$(pgrep -x bentlane | head -1)
stat -c '%U %a' "$HOME/.local/share/bentlane/setup.json"
step undo
"$BENTLANE" setup --undo --yes >/dev/null 2>&1
pgrep -x bentlane >/dev/null || echo "no service"
"#;

#[test]
fn setup_without_root_does_what_it_can_and_names_the_rest() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{CLEAN}{USER}"));
    outcome.expect(&[
        (
            "user",
            &[
                "zone     rowan.test",
                "left out, since it needs root: lookups, trust",
                "1 ready; this machine does not find or trust them yet",
                "https://huts.rowan.test:17443/",
                "sudo bentlane setup --yes",
                "exit 1",
                "Bent Lane root",
            ],
        ),
        ("refused", &["run it with sudo", "exit 1"]),
        (
            "root",
            &[
                "starts again, on ports 53, 80 and 443",
                "1 route, every hop proved",
                "https://huts.rowan.test/\nexit 0",
                "run by rowan",
                "rowan 600",
            ],
        ),
        ("undo", &["no service"]),
    ]);
}

/// The commands of the README's first minute, word for word.
#[test]
fn the_first_minute_of_the_readme_works() {
    let readme = concat!(env!("CARGO_MANIFEST_DIR"), "/../README.md");
    let readme = fs::read_to_string(readme).unwrap();
    let (_, minute) = readme.split_once("## The first minute").unwrap();
    let (_, block) = minute.split_once("```sh\n").unwrap();
    let (commands, _) = block.split_once("```").unwrap();
    assert!(commands.contains("bentlane setup"), "{commands}");
    let world = World::asleep(Start::default());
    let bin = world.path("bin");
    fs::create_dir(&bin).unwrap();
    // Nobody is there to type `y`.
    let sudo = "#!/bin/sh\n[ \"$2\" = setup ] && exec \"$@\" --yes\nexec \"$@\"\n";
    fs::write(bin.join("sudo"), sudo).unwrap();
    let script = format!(
        "{CLEAN}ln -s \"$BENTLANE\" \"$FOLDER/bin/bentlane\"; chmod +x \"$FOLDER/bin/sudo\"\n\
         export PATH=\"$FOLDER/bin:$PATH\"\nstep minute\n{commands}echo \"exit $?\"\n"
    );
    let outcome = Namespace::run(&world, &script);
    outcome.expect(&[("minute", &["every hop proved", "the huts", "exit 0"])]);
}

/// A machine is set up for a project: with its zone, and all that its file says.
const PROJECT: &str = r#"
cat > "$FOLDER/huts/bentlane.toml" <<'END'
zone = "hut.test"
[routes]
"larkfell.hut.test" = { to = 4310, expect = { text = "huts" } }
[requires]
lookups = true
trust = true
standard_ports = true
END
step plan; "$BENTLANE" setup --dry-run --project "$FOLDER/huts"
step project; "$BENTLANE" setup --yes --project "$FOLDER/huts" 2>&1; echo "exit $?"
"$BENTLANE" setup --undo --yes >/dev/null 2>&1
"#;

#[test]
fn a_machine_is_set_up_for_a_project() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{CLEAN}{PROJECT}"));
    outcome.expect(&[
        ("plan", &["zone     hut.test"]),
        (
            "project",
            &[
                "new      route   larkfell.hut.test",
                "1 route, every hop proved",
                "https://larkfell.hut.test/\nexit 0",
            ],
        ),
    ]);
}
