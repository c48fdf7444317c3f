//! Attaching this machine's lookups and detaching them, in namespaces with files of the test's own.

use std::fs;

use bentlane_tests::{Namespace, Start, World};

/// Runs inside a mount and network namespace whose `/etc` and `/var/lib` are copies.
const INSIDE: &str = r#"
set -eu
private_machine
nameservers 127.0.0.9
printf 'nameserver 127.0.0.9\noptions timeout:2 attempts:1\n' > /etc/resolv.conf
chmod 640 /etc/resolv.conf
printf '127.0.0.1 localhost # h\374tte\n10.0.0.7 old.moor.test' > /etc/hosts
stat_all() { stat -c '%n %a %u %g %F' /etc/resolv.conf /etc/hosts; md5sum /etc/resolv.conf /etc/hosts; }
stat_all > "$FOLDER/before"
python3 "$FOLDER/upstream.py" & upstream=$!
"$BENTLANE" serve >"$FOLDER/service.log" 2>&1 & service=$!
trap 'kill $upstream $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test
"$BENTLANE" route add booking.moor.test 4310 >/dev/null
look() { getent ahosts "$1" | awk '{print $1}' | sort -u | tr '\n' ' '; }

step before; "$BENTLANE" system show || echo "exit $?"
step unasked; "$BENTLANE" system attach --only lookups </dev/null || echo "exit $?"
step dry; "$BENTLANE" system attach --only lookups --dry-run; stat_all | cmp - "$FOLDER/before" && echo untouched
step attach; "$BENTLANE" system attach --only lookups --yes
step again; "$BENTLANE" system attach --only lookups --yes 2>&1
step names
echo "wildcard $(look any.thing.moor.test)"
echo "outside $(look www.outside.example)"
echo "shadowed $(look old.moor.test)"
step browser
cd "$FOLDER/site"
python3 -m http.server --bind 127.0.0.1 4311 >"$FOLDER/app.log" 2>&1 & app=$!
"$BENTLANE" route add '*.thing.moor.test' 4311 >/dev/null
mkdir -p "$HOME/.pki/nssdb"
certutil -d "sql:$HOME/.pki/nssdb" -N --empty-password
certutil -d "sql:$HOME/.pki/nssdb" -A -n root -t C,, -i "$FOLDER/data/root.pem"
for _ in $(seq 100); do (exec 3<>/dev/tcp/127.0.0.1/4311) 2>/dev/null && break; sleep 0.1; done
chromium --headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run \
  --disable-dev-shm-usage --disable-background-networking --disable-component-update \
  --user-data-dir="$FOLDER/profile" --timeout=20000 --dump-dom https://any.thing.moor.test/ 2>"$FOLDER/chromium.log"
kill $app
cd /
step rewritten; printf 'nameserver 127.0.0.8\n' > /etc/resolv.conf
for _ in $(seq 300); do "$BENTLANE" status | grep -A1 'not as it should be' && break; sleep 0.1; done
"$BENTLANE" system repair 2>&1
cat /etc/resolv.conf
step immutable; chattr +i /etc/hosts
"$BENTLANE" system attach --only hosts --yes 2>&1 || echo "exit $?"
chattr -i /etc/hosts
step read-only; mount -o remount,bind,ro /etc
"$BENTLANE" system attach --only hosts --yes 2>&1 || echo "exit $?"
mount -o remount,bind,rw /etc
echo "files: $(ls -A /etc /var/lib/bentlane/system | grep -E '^[.]hosts|^hosts$' | xargs)"
step hosts; "$BENTLANE" system attach --only hosts --yes
"$BENTLANE" route add late.moor.test 4310 >/dev/null
for _ in $(seq 100); do grep -q 'late.moor.test' "$FOLDER/data/names.json" && break; sleep 0.1; done
"$BENTLANE" system repair
cat /etc/hosts
step detach; "$BENTLANE" system detach --yes
cat /etc/resolv.conf
printf 'nameserver 127.0.0.9\noptions timeout:2 attempts:1\n' > /etc/resolv.conf
step after; stat_all | diff "$FOLDER/before" - && echo identical
step gone; "$BENTLANE" system detach --yes
ls -d "$FOLDER"/etc/*bentlane* "$FOLDER"/etc/.*bentlane* 2>/dev/null || echo "no leftovers"
"#;

/// An upstream resolver on port 53, for names outside the zones.
const UPSTREAM: &str = r"
import socket
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.bind(('127.0.0.9', 53))
while True:
    q, peer = s.recvfrom(2048)
    end = q.index(b'\0', 12) + 5
    a = q[end - 4:end - 2] == b'\0\1'
    s.sendto(q[:2] + b'\x81\x80\0\1' + (b'\0\1' if a else b'\0\0') + b'\0\0\0\0' + q[12:end]
             + (b'\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4\xc0\0\2\7' if a else b''), peer)
";

#[test]
fn lookups_are_attached_and_detached_without_a_trace() {
    let world = World::asleep(Start::default());
    fs::write(world.path("upstream.py"), UPSTREAM).unwrap();
    fs::create_dir(world.path("site")).unwrap();
    let page = "<h1>the site of every thing</h1>";
    fs::write(world.path("site").join("index.html"), page).unwrap();
    let outcome = Namespace::run(&world, INSIDE);
    outcome.expect(&[
        (
            "before",
            &[
                "✕ lookups  moor.test",
                "lookups   /etc/resolv.conf  not attached",
                "/etc/hosts:2 gives old.moor.test the address 10.0.0.7",
                "sudo bentlane system attach\n",
                "exit 1",
            ],
        ),
        ("unasked", &["exit 2"]),
        (
            "dry",
            &[
                "names in moor.test may be changed on this machine from now on, and no others",
                "  - nameserver 127.0.0.9",
                "  + nameserver 127.0.0.1",
                "untouched",
            ],
        ),
        (
            "attach",
            &[
                "● lookups  moor.test ",
                "names resolve to Bent Lane",
            ],
        ),
        ("again", &["nothing to do: it is attached already"]),
        (
            "names",
            &[
                "wildcard 127.0.0.1",
                "outside 192.0.2.7",
                "shadowed 10.0.0.7",
            ],
        ),
        ("browser", &["the site of every thing"]),
        (
            "rewritten",
            &[
                "✕ /etc/resolv.conf is not as it should be for our names\n  → sudo bentlane system repair",
                "/etc/resolv.conf is up to date again",
                "# Bent Lane answers",
                "nameserver 127.0.0.1",
            ],
        ),
        (
            "immutable",
            &[
                "/etc/hosts is immutable (chattr +i), so nothing was changed",
                "run `sudo chattr -i /etc/hosts`",
                "exit 1",
            ],
        ),
        ("read-only", &["is mounted read-only", "exit 1", "files: hosts\n"]),
        (
            "hosts",
            &[
                "old.moor.test\n# Bent Lane",
                "127.0.0.1 booking.moor.test",
                "127.0.0.1 late.moor.test",
            ],
        ),
        ("detach", &["nameserver 127.0.0.8"]),
        ("gone", &["no leftovers"]),
    ]);
}
