//! The standard ports and the system's own lookup, in a network and mount namespace of the test's
//! own: nothing outside it is changed.

use std::fs;

use bentlane_tests::{Namespace, Start, World};

/// What runs inside: the service on ports 53, 80 and 443, and clients that resolve through it.
const SCRIPT: &str = r#"
set -eu
echo "== all"
ip link set lo up
printf 'nameserver 127.0.0.1\noptions timeout:2 attempts:2\n' > "$FOLDER/resolv.conf"
printf 'hosts: files dns\n' > "$FOLDER/nsswitch.conf"
printf '127.0.0.1 localhost\n' > "$FOLDER/hosts"
mount --bind "$FOLDER/resolv.conf" /etc/resolv.conf
mount --bind "$FOLDER/nsswitch.conf" /etc/nsswitch.conf
mount --bind "$FOLDER/hosts" /etc/hosts
export BENTLANE_DATA_DIR="$FOLDER/data"
cd "$FOLDER/site"
python3 -m http.server --bind 127.0.0.1 4310 >"$FOLDER/app.log" 2>&1 &
app=$!
"$BENTLANE" serve >"$FOLDER/service.log" 2>&1 &
service=$!
trap 'kill $app $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test
"$BENTLANE" route add booking.moor.test 4310
"$BENTLANE" route add '*.hut.moor.test' 4310
getent ahosts booking.moor.test | awk '{print "getent", $1}' | sort -u
root="$FOLDER/data/root.pem"
curl -sS --cacert "$root" https://booking.moor.test/
curl -sS --cacert "$root" https://ravenstone.hut.moor.test/
curl -sS --cacert "$root" -L -o /dev/null -w 'landed on %{url_effective}\n' http://booking.moor.test/
dig +short anything.moor.test AAAA | sed 's/^/dig /'
"$BENTLANE" check --routes-only
echo "== strangers"
ip address add 192.0.2.7/32 dev lo
for way in +notcp +tcp; do
  dig -b 192.0.2.7 @127.0.0.1 $way booking.moor.test | grep -E 'status|EDE|ANSWER SECTION' | sed "s/^/$way /" || true
done
dig -b 127.0.0.9 @127.0.0.1 +short booking.moor.test | sed 's/^/ourselves /'
echo "== end"
kill $service
wait $service
echo "ended $?"
"#;

#[test]
fn names_resolve_and_are_served_on_the_standard_ports() {
    let world = World::asleep(Start::default());
    fs::create_dir(world.path("site")).unwrap();
    fs::write(world.path("site").join("index.html"), "the site\n").unwrap();
    let outcome = Namespace::run(&world, SCRIPT);
    outcome.expect(&[
        (
            "all",
            &[
                "https://booking.moor.test/  leads to port 4310",
                "getent 127.0.0.1",
                "getent ::1",
                "the site\nthe site\n",
                "landed on https://booking.moor.test/",
                "dig ::1",
                "2 routes: 2 ready; this machine was left out",
            ],
        ),
        (
            "strangers",
            &[
                "+notcp ;; ->>HEADER<<- opcode: QUERY, status: REFUSED",
                "+notcp ; EDE: 18 (Prohibited): (only this machine is answered)",
                "+tcp ;; ->>HEADER<<- opcode: QUERY, status: REFUSED",
                "+tcp ; EDE: 18 (Prohibited): (only this machine is answered)",
                "ourselves 127.0.0.1",
            ],
        ),
        ("end", &["ended 0"]),
    ]);
}
