//! The service is not root, and root takes nothing from it that was not approved.

use bentlane_tests::{Namespace, Start, World};

/// Runs inside a mount and network namespace with users of its own, one of whom may call sudo.
const SETUP: &str = r#"
set -eu
ip link set lo up
mkdir -p "$FOLDER/etc" "$FOLDER/state" "$FOLDER/libexec" "$FOLDER/bin" "$FOLDER/home" "$FOLDER/eve"
cp -a /etc/. "$FOLDER/etc"
mount --bind "$FOLDER/etc" /etc
mkdir -p /var/lib/bentlane /usr/local/libexec
mount --bind "$FOLDER/state" /var/lib/bentlane
mount --bind "$FOLDER/libexec" /usr/local/libexec
mount -t tmpfs tmpfs /run
mkdir -p /run/systemd/system
cp "$BENTLANE" "$FOLDER/bin/bentlane"; chmod 755 "$FOLDER/bin/bentlane"
printf '#!/bin/sh\nexit 0\n' > "$FOLDER/bin/systemctl"; chmod 755 "$FOLDER/bin/systemctl"
B="$FOLDER/bin/bentlane"
printf 'rowan:x:1500:1500::%s:/bin/sh\neve:x:1501:1501::%s:/bin/sh\n' "$FOLDER/home" "$FOLDER/eve" >> /etc/passwd
printf 'rowan:x:1500:\neve:x:1501:\n' >> /etc/group
printf 'rowan:*:19000:0:99999:7:::\neve:*:19000:0:99999:7:::\n' >> /etc/shadow
printf 'rowan ALL=(ALL) NOPASSWD: ALL\n' > /etc/sudoers.d/rowan; chmod 440 /etc/sudoers.d/rowan
printf '127.0.0.1 localhost %s\n' "$(uname -n)" > /etc/hosts
chown 1500:1500 "$FOLDER/home"; chown 1501:1501 "$FOLDER/eve"
as() { user=$1; home=$2; shift 2; setpriv --reuid="$user" --regid="$user" --init-groups env -i HOME="$home" USER=x PATH="$PATH" "$@"; }
rowan() { as 1500 "$FOLDER/home" "$@"; }
eve() { as 1501 "$FOLDER/eve" "$@"; }
data="$FOLDER/home/.local/share/bentlane"
wait_for() { for _ in $(seq 300); do rowan "$B" status --format json >/dev/null 2>&1 && return; sleep 0.1; done; echo "not ready"; }
trap 'pkill -f "$FOLDER/bin/bentlane serve" || true; pkill -x bentlane -u 1500,1501 || true; wait' EXIT
cd /
"#;

const SUDO: &str = r#"
step link
printf 'high_ports = s3cr3t\n' > "$FOLDER/secret"; chmod 600 "$FOLDER/secret"
rowan mkdir -p "$FOLDER/home/.config/bentlane"
rowan ln -s "$FOLDER/secret" "$FOLDER/home/.config/bentlane/config.toml"
rowan sudo "$B" serve --upstream none 2>&1 || echo "exit $?"
rowan rm "$FOLDER/home/.config/bentlane/config.toml"

rowan sudo "$B" serve --upstream none >"$FOLDER/service.log" 2>&1 &
wait_for
step identity
pid=$(rowan "$B" status --format json | python3 -c 'import json,sys; print(json.load(sys.stdin)["pid"])')
grep -E '^(Uid|Gid|Groups|CapInh|CapPrm|CapEff|CapAmb|NoNewPrivs):' /proc/$pid/status
rowan "$B" status --format json | python3 -c 'import json,sys; s=json.load(sys.stdin); print(s["runs_as"]["user"], s["data_dir"] == "'"$data"'", *s["listeners"]["https"])'
stat -c '%u %a' "$data" "$data/api.sock" "$data/postgres" "$data/keys/root.pem"
step children
database=$(head -1 "$data/postgres/postmaster.pid")
grep -E '^(Uid|CapInh|CapPrm|CapEff|CapAmb):' /proc/$database/status

step serves
rowan "$B" zone add moor.test >/dev/null
rowan "$B" route add own.moor.test 4310 --address own >/dev/null
dig +short @127.0.0.1 x.moor.test
own=$(dig +short @127.0.0.1 own.moor.test | head -1)
curl -sS -o /dev/null -w '%{http_code}\n' --cacert "$data/root.pem" --resolve own.moor.test:443:$own https://own.moor.test/
rowan sudo "$B" journal | grep -c 'rowan (uid 1500), route add'

step second
eve "$B" serve --upstream none 2>&1 || echo "exit $?"
step stranger
eve "$B" --data-dir "$data" status 2>&1 || echo "exit $?"

step ends
rowan kill $pid
for _ in $(seq 300); do [ -e /proc/$pid ] || break; sleep 0.1; done
"$B" --data-dir "$FOLDER/roots" serve --high-ports --upstream none >"$FOLDER/root.log" 2>&1 & roots=$!
for _ in $(seq 300); do "$B" --data-dir "$FOLDER/roots" status --format json >/dev/null 2>&1 && break; sleep 0.1; done
"$B" --data-dir "$FOLDER/roots" status | grep -o 'root: start.*'
grep -o 'the service runs as root' "$FOLDER/root.log"
kill $roots; wait $roots || true
"$B" serve --user nobody-there 2>&1 || echo "exit $?"
eve "$B" serve --user rowan 2>&1 || echo "exit $?"
"$B" serve --user rowan --upstream none >>"$FOLDER/service.log" 2>&1 &
wait_for
rowan "$B" status | grep -o 'rowan (uid 1500)'
"#;

#[test]
fn a_service_started_by_sudo_runs_as_the_calling_user() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{SETUP}{SUDO}"));
    outcome.expect(&[
        ("link", &["cannot read", "config.toml", "exit 2"]),
        (
            "identity",
            &[
                "Uid:\t1500\t1500\t1500\t1500",
                "Gid:\t1500\t1500\t1500\t1500",
                "Groups:\t1500",
                "CapInh:\t0000000000000000",
                "CapPrm:\t0000000000000400",
                "CapEff:\t0000000000000400",
                "CapAmb:\t0000000000000000",
                "NoNewPrivs:\t0",
                "rowan True 127.0.0.1:443",
                "1500 700\n1500 600\n1500 700\n1500 600",
            ],
        ),
        (
            "children",
            &[
                "Uid:\t1500\t1500\t1500\t1500",
                "CapPrm:\t0000000000000000",
                "CapEff:\t0000000000000000",
                "CapAmb:\t0000000000000000",
            ],
        ),
        ("serves", &["127.0.0.1\n502\n1\n"]),
        (
            "second",
            &["rowan (uid 1500)", "has the port", "--high-ports", "exit 1"],
        ),
        ("stranger", &["exit"]),
        (
            "ends",
            &[
                "root: start the service",
                "the service runs as root",
                "there is no user nobody-there",
                "only root can start the service as rowan",
                "rowan (uid 1500)",
            ],
        ),
    ]);
    assert!(
        !outcome.step("link").contains("s3cr3t"),
        "{}",
        outcome.step("link")
    );
}

const ATTACHED: &str = r#"
printf 'nameserver 127.0.0.9\n' > /etc/resolv.conf
rowan "$B" serve --dns 127.0.0.1:5353 --http 127.0.0.1:8080 --https 127.0.0.1:8443 --console 127.0.0.1:0 --upstream none >"$FOLDER/service.log" 2>&1 &
wait_for
rowan "$B" zone add moor.test >/dev/null
rowan "$B" route add a.moor.test 4310 >/dev/null
export SUDO_UID=1500 SUDO_USER=rowan PATH="$FOLDER/bin:$PATH"
"$B" system attach --only hosts --yes >/dev/null 2>&1
step unit; "$B" system attach --only unit --yes 2>&1 | grep -v '^  '
unset SUDO_UID SUDO_USER
systemd-analyze verify /etc/systemd/system/bentlane* 2>&1 | grep bentlane || echo "no objection"
grep -h ExecStart /etc/systemd/system/bentlane*.service
stat -c '%u %a' /etc/bentlane/attached.toml
repair=$(sed -n 's/^ExecStart=//p' /etc/systemd/system/bentlane-repair.service)
step evil-program
rowan cp "$B" /usr/local/libexec/bentlane/bentlane 2>&1 || echo refused
rowan sh -c 'echo x >> /etc/bentlane/attached.toml' 2>&1 || echo refused

# The service is the attacker's from here on: it says what it likes.
pkill -x bentlane -u 1500; sleep 1
hosts() { grep -v '^#' /etc/hosts | tr '\n' ';'; echo; }
step wanted
rowan sh -c "cat > $data/names.json" <<'JSON'
{"dns":["127.0.0.1:53","192.0.2.66:53"],"zones":["moor.test","bank.example"],
 "names":{"a.moor.test":["127.0.0.1"],"b.moor.test":["192.0.2.66"],"www.bank.example":["127.0.0.1"]}}
JSON
eval "$repair" 2>&1; hosts
step new
sed -i 's/^127.0.0.1 a.moor.test/127.0.0.1 old.moor.test/' /etc/hosts
eval "$repair" 2>&1; hosts
hold() { cp /etc/hosts "$FOLDER/kept"; eval "timeout 10 $repair" 2>&1 || echo "exit $?"; cmp /etc/hosts "$FOLDER/kept" && echo untouched; }
step to-a-link
rowan ln -sf /etc/shadow "$data/names.json"; hold
step to-a-pipe
rowan rm "$data/names.json"; rowan mkfifo "$data/names.json"; hold
step to-anothers
rowan rm "$data/names.json"; rowan mv "$data" "$data.gone"
eve mkdir -p "$FOLDER/eve/data"; eve sh -c "echo '{\"dns\":[],\"zones\":[],\"names\":{}}' > $FOLDER/eve/data/names.json"
rowan ln -s "$FOLDER/eve/data" "$data"; hold
step open
chmod 666 /etc/bentlane/attached.toml; hold
"#;

#[test]
fn root_repairs_names_in_approved_zones_and_nothing_else() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{SETUP}{ATTACHED}"));
    outcome.expect(&[
        (
            "unit",
            &[
                "libexec/bentlane/bentlane  a copy of this program that only root can change",
                "no objection",
                "ExecStart=\"/usr/local/libexec/bentlane/bentlane\" system repair",
                "ExecStart=\"/usr/local/libexec/bentlane/bentlane\" serve",
                "0 644",
            ],
        ),
        ("evil-program", &["refused\n", "Permission denied"]),
        (
            "wanted",
            &[
                "the zone bank.example was not approved",
                "b.moor.test leads to another machine",
                "127.0.0.1 a.moor.test;\n",
            ],
        ),
        ("new", &["127.0.0.1 a.moor.test;\n"]),
        ("to-a-link", &["symbolic link", "exit 1", "untouched"]),
        ("to-a-pipe", &["is a pipe", "exit 1", "untouched"]),
        (
            "to-anothers",
            &["symbolic link of the user 1500", "exit 1", "untouched"],
        ),
        ("open", &["can write to it", "exit 1", "untouched"]),
    ]);
    let root = outcome.step("to-a-link");
    assert!(
        !root.contains("root:"),
        "nothing of the file is shown: {root}"
    );
}

/// Only the owner of an engine looks into its containers.
const FROM: &str = r#"
printf '#!/bin/sh\nexit 1\n' > "$FOLDER/bin/nsenter"; chmod 755 "$FOLDER/bin/nsenter"
rowan "$B" serve --dns 127.0.0.1:5353 --http 127.0.0.1:8080 --https 127.0.0.1:8443 --console 127.0.0.1:0 --upstream none >"$FOLDER/service.log" 2>&1 &
wait_for
rowan "$B" zone add moor.test >/dev/null
rowan "$B" route add a.moor.test 4310 >/dev/null
cat > "$FOLDER/engine.py" <<'PYTHON'
import http.server, json, os, socketserver, sys
class Engine(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = json.dumps({"Id": "x", "Name": "/x", "State": {"Running": True, "Pid": 1}}).encode()
        self.send_response(200)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)
    def address_string(self): return "x"
    def log_message(self, *args): pass
class Server(socketserver.UnixStreamServer): pass
Server(sys.argv[1], Engine).serve_forever()
PYTHON
rowan /usr/bin/python3 "$FOLDER/engine.py" "$FOLDER/home/engine.sock" >/dev/null 2>&1 &
for _ in $(seq 100); do [ -S "$FOLDER/home/engine.sock" ] && break; sleep 0.1; done
step anothers-engine
SUDO_UID=1500 "$B" check --from container:x --engine "$FOLDER/home/engine.sock" 2>&1 || echo "exit $?"
step by-the-user
rowan "$B" check --from container:x --engine "$FOLDER/home/engine.sock" 2>&1 || echo "exit $?"
pkill -f "$FOLDER/engine.py" || true
"#;

#[test]
fn root_does_not_enter_a_process_named_by_another_users_engine() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{SETUP}{FROM}"));
    outcome.expect(&[
        ("anothers-engine", &["another user's", "exit 2"]),
        (
            "by-the-user",
            &["sudo bentlane check --from container:x", "exit 2"],
        ),
    ]);
}

/// A service in place of the real one, which asks root to stop a process of root's.
const FAKE: &str = r#"
sleep 600 & victim=$!
rowan "$B" setup --yes --only zone --zone moor.test >/dev/null 2>&1 || true
rowan "$B" status --format json > "$FOLDER/home/status.json"
grep -c '"started": true' "$data/setup.json"
pkill -u 1500 -x bentlane
for _ in $(seq 100); do pgrep -u 1500 -x bentlane >/dev/null || break; sleep 0.1; done
sed -i "s/\"pid\": [0-9]*/\"pid\": $victim/" "$FOLDER/home/status.json"
cat > "$FOLDER/home/fake.py" <<'PYTHON'
import os, socket, sys
path, answer = sys.argv[1], open(sys.argv[2]).read()
if os.path.exists(path): os.remove(path)
s = socket.socket(socket.AF_UNIX); s.bind(path); s.listen()
while True:
    peer, _ = s.accept()
    if peer.recv(65536):
        peer.sendall(f'HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: {len(answer.encode())}\r\nconnection: close\r\n\r\n{answer}'.encode())
    peer.close()
PYTHON
rowan /usr/bin/python3 "$FOLDER/home/fake.py" "$data/api.sock" "$FOLDER/home/status.json" & fake=$!
for _ in $(seq 100); do [ -S "$data/api.sock" ] && break; sleep 0.1; done
step fake
rowan sudo "$B" setup --undo --yes 2>&1 || echo "exit $?"
kill -0 $victim && echo "the process lives"
kill $victim $fake
"#;

#[test]
fn root_stops_no_process_named_by_a_service() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, &format!("{SETUP}{FAKE}"));
    outcome.expect(&[(
        "fake",
        &[
            "it is not a process of the service's user",
            "exit 1",
            "the process lives",
        ],
    )]);
}
