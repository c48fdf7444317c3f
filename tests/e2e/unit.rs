//! The service as a unit: attached, checked by systemd's own tool, started with the sockets that
//! it lists as a user who could not open them, and detached, in namespaces of the test's own.

use bentlane_tests::{Namespace, Start, World};

/// Runs inside a mount and network namespace whose `/etc`, `/run` and `/var/lib/bentlane` are the
/// test's own. A stand-in takes the place of `systemctl`, since no systemd runs here.
const INSIDE: &str = r#"
set -eu
ip link set lo up
mkdir "$FOLDER/etc" "$FOLDER/state" "$FOLDER/bin" "$FOLDER/data" "$FOLDER/libexec"
cp -a /etc/. "$FOLDER/etc"
mount --bind "$FOLDER/etc" /etc
mkdir -p /var/lib/bentlane /usr/local/libexec
mount --bind "$FOLDER/state" /var/lib/bentlane
mount --bind "$FOLDER/libexec" /usr/local/libexec
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/system
printf '#!/bin/sh\necho "systemctl $@" >> "$FOLDER/called"\n' > "$FOLDER/bin/systemctl"
chmod +x "$FOLDER/bin/systemctl"
export PATH="$FOLDER/bin:$PATH" HOME="$FOLDER/data" BENTLANE_DATA_DIR="$FOLDER/data"
cd /
wait_for() { for _ in $(seq 300); do "$BENTLANE" status --format json >/dev/null 2>&1 && return; sleep 0.1; done; }
# Whoever the user is, without the right to open ports below 1024.
if chown 65534:65534 "$FOLDER/data" 2>/dev/null; then user='--reuid=65534 --regid=65534 --clear-groups'; else user=; fi
as_user="setpriv $user --bounding-set=-net_bind_service --inh-caps=-net_bind_service --no-new-privs"

$as_user "$BENTLANE" serve --high-ports --upstream none >"$FOLDER/first.log" 2>&1 & service=$!
trap 'kill $service 2>/dev/null || true; wait' EXIT
wait_for
step attach; "$BENTLANE" system attach --only unit --yes 2>&1; cat "$FOLDER/called"
step show; "$BENTLANE" system show || true
"$BENTLANE" zone add moor.test >/dev/null
kill $service; wait $service
step copy; stat -c '%U %a' /usr/local/libexec/bentlane/bentlane; cmp "$BENTLANE" /usr/local/libexec/bentlane/bentlane && echo same
step verify; systemd-analyze verify /etc/systemd/system/bentlane* 2>&1 \
  | grep bentlane || echo "no objection"
step unable; $as_user "$BENTLANE" serve --upstream none 2>&1 || echo "exit $?"

socket=/etc/systemd/system/bentlane.socket
unit=/etc/systemd/system/bentlane.service
datagrams=$(sed -n "s/^ListenDatagram=\(.*\)/-l '\1'/p" $socket | tr '\n' ' ')
streams=$(sed -n "s/^ListenStream=\(.*\)/-l '\1'/p" $socket | tr '\n' ' ')
command=$(sed -n 's/^ExecStart=//p' $unit)
keep='-E BENTLANE_DATA_DIR -E HOME -E PATH'
activate="systemd-socket-activate $keep -d $datagrams systemd-socket-activate $keep $streams"
eval "exec $activate $as_user $command --upstream none" >"$FOLDER/service.log" 2>&1 & service=$!
step activated
for _ in $(seq 100); do dig +short +time=1 +tries=1 @127.0.0.1 first.moor.test 2>/dev/null | grep -q 127 && break; sleep 0.1; done
wait_for
dig +short @127.0.0.1 x.moor.test
dig +short +tcp @127.0.0.1 y.moor.test AAAA
curl -sS -o /dev/null -w 'plain %{http_code}\n' --resolve x.moor.test:80:127.0.0.1 http://x.moor.test/
curl -sS -o /dev/null -w 'secure %{http_code}\n' --cacert "$FOLDER/data/root.pem" --resolve x.moor.test:443:127.0.0.1 https://x.moor.test/
database=$(pgrep -f "^[^ ]*postgres.*$FOLDER" | head -1)
ls -l /proc/$database/fd | grep -c "socket:\[$(awk '$2 ~ /0100007F:01BB/ {print $10; exit}' /proc/net/tcp)\]" || true
kill $service; wait $service || true
"$BENTLANE" status 2>&1 || echo "status $?"
step detach; "$BENTLANE" system detach --yes 2>&1; cat "$FOLDER/called"
ls -d /etc/systemd/system/bentlane* /etc/bentlane /usr/local/libexec/bentlane 2>/dev/null || echo "no leftovers"
"#;

#[test]
fn systemd_opens_the_ports_for_an_ordinary_user() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, INSIDE);
    outcome.expect(&[
        (
            "attach",
            &[
                "have systemd open ports 53, 80 and 443 for the service",
                "  + ListenDatagram=127.0.0.1:53",
                "systemctl daemon-reload\n",
                "systemctl enable --now bentlane.socket bentlane-repair.path\n",
            ],
        ),
        ("show", &["/etc/systemd/system/bentlane.service  attached"]),
        ("copy", &["root 755\nsame"]),
        ("verify", &["no objection"]),
        ("unable", &["ports below 1024 need root", "exit 1"]),
        (
            "activated",
            &["127.0.0.1\n::1\nplain 308\nsecure 404\n0\n", "status 3"],
        ),
        (
            "detach",
            &[
                "systemctl disable --now bentlane.socket bentlane.service bentlane-repair.path",
                "no leftovers",
            ],
        ),
    ]);
}
