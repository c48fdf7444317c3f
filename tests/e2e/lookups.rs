//! Faults of the machine's own lookups, trust and clock, set up in namespaces with files of the
//! test's own: what a check finds, and that its fix removes it.

use std::fs;

use bentlane_tests::{Namespace, Start, World};

const INSIDE: &str = r#"
set -eu
private_machine
mkdir -p "$HOME/.config/chromium" "$FOLDER/site"
printf '127.0.0.1 localhost\n' > /etc/hosts
service=
serve() {
  "$BENTLANE" serve --upstream none "$@" >>"$FOLDER/service.log" 2>&1 & service=$!
  await_service
}
stop() { kill $service; wait $service || true; }
# Waits until something answers questions at this address.
answers_at() { for _ in $(seq 100); do dig +time=1 +tries=1 "@$1" x.example >/dev/null 2>&1 && return; sleep 0.1; done; }
others=
trap 'kill $service $others 2>/dev/null || true; wait' EXIT
nameservers 127.0.0.9
serve
"$BENTLANE" zone add moor.test
cd "$FOLDER/site"; python3 -m http.server --bind 127.0.0.1 4310 >"$FOLDER/app.log" 2>&1 & others="$others $!"
for _ in $(seq 100); do (exec 3<>/dev/tcp/127.0.0.1/4310) 2>/dev/null && break; sleep 0.1; done
cd /
"$BENTLANE" route add a.moor.test 4310 >/dev/null
# The finding of a kind: its hop and severity, and the command that is its fix.
found() {
  "$BENTLANE" check ${3:-} --format json a.moor.test > "$FOLDER/check.json" || true
  python3 - "$FOLDER/check.json" "$1" "$2" <<'PYTHON'
import json, sys
verdict = json.load(open(sys.argv[1]))["verdicts"][0]
for finding in verdict["findings"]:
    if finding["slug"] == sys.argv[2]:
        open(sys.argv[1] + ".command", "w").write(finding["fix"].get("command", "true"))
        print(sys.argv[3], finding["slug"], finding["hop"], finding["severity"], verdict["passed"], "|", finding["summary"])
        break
else:
    print(sys.argv[3], "no", sys.argv[2], verdict["passed"])
PYTHON
}
repair() {
  command=$(sed -e 's/^sudo //' -e 's/| sudo /| /' -e "s#^bentlane \(system attach.*\)#$BENTLANE \1 --yes#" "$FOLDER/check.json.command")
  bash -c "$command" >/dev/null
}

step asking
found system-not-asking before
repair
found system-not-asking after
"$BENTLANE" check a.moor.test >/dev/null && echo proved

step hosts
printf '192.0.2.7 a.moor.test other.example\n' >> /etc/hosts
found hosts-override before
repair
found hosts-override after
grep -c 'other.example' /etc/hosts
printf '127.0.0.1 a.moor.test\n' >> /etc/hosts
found hosts-one-family before
repair
found hosts-one-family after
sed -i '/a.moor.test/d' /etc/hosts

step held
stop
python3 "$FOLDER/nameserver.py" 127.0.0.1 everything & held=$!; others="$others $held"
answers_at 127.0.0.1
serve --dns 127.0.0.1:5353
found dns-port-held before
kill $held; wait $held 2>/dev/null || true
stop; serve
found dns-port-held after
"$BENTLANE" check a.moor.test >/dev/null && echo proved

step first
"$BENTLANE" system detach --only lookups --yes >/dev/null
python3 "$FOLDER/nameserver.py" 127.0.0.9 everything & others="$others $!"
answers_at 127.0.0.9
nameservers 127.0.0.9 127.0.0.1
found nameserver-first before
repair
found nameserver-first after
"$BENTLANE" check a.moor.test >/dev/null && echo proved

step negative
"$BENTLANE" system detach --only lookups --yes >/dev/null
python3 "$FOLDER/nameserver.py" 127.0.0.10 negative & others="$others $!"
answers_at 127.0.0.10
nameservers 127.0.0.10 127.0.0.1
found negative-cached before
sleep 6
found negative-cached after
"$BENTLANE" check a.moor.test >/dev/null && echo proved
nameservers 127.0.0.1

step browser
echo '{"dns_over_https":{"mode":"secure","templates":"https://dns.example/dns-query"}}' > "$HOME/.config/chromium/Local State"
found browser-asks-elsewhere before
echo '{"dns_over_https":{"mode":"secure","templates":"https://bentlane.localhost/dns-query"}}' > "$HOME/.config/chromium/Local State"
found browser-asks-elsewhere after
mv /etc/firefox/policies/policies.json "$FOLDER/"
echo '{"policies":{"DNSOverHTTPS":{"Enabled":true,"Fallback":false}}}' > /etc/firefox/policies/policies.json
found browser-asks-elsewhere policy
sed -i 's/false}/false,"ExcludedDomains":["moor.test"]}/' /etc/firefox/policies/policies.json
found browser-asks-elsewhere except
mv "$FOLDER/policies.json" /etc/firefox/policies/

step remembered
mkdir -p "$HOME/.config/chromium/Default"
entry='"host":"0WPcNkaJTsHuOMQmbmivPlPsH2ntx1NLDavsotca4K8=","mode":"force-https","sts_include_subdomains":false'
echo "{\"sts\":[{\"expiry\":$(date -d '1 year' +%s).5,$entry}],\"version\":2}" > "$HOME/.config/chromium/Default/TransportSecurity"
found browser-forces-https redirected
"$BENTLANE" route edit a.moor.test --plain serve >/dev/null
found browser-forces-https served
rm "$HOME/.config/chromium/Default/TransportSecurity"
found browser-forces-https after
"$BENTLANE" route edit a.moor.test --unset plain >/dev/null

step clock
stop
LD_PRELOAD=$(echo /usr/lib/*/faketime/libfaketime.so.1) FAKETIME=-400d "$BENTLANE" serve --upstream none >>"$FOLDER/service.log" 2>&1 & service=$!
await_service
found clock-off before
stop
serve
found clock-off after

step wait
"$BENTLANE" route edit a.moor.test --to 4399 >/dev/null
(sleep 2; cd "$FOLDER/site"; exec python3 -m http.server --bind 127.0.0.1 4399 >/dev/null 2>&1) & others="$others $!"
"$BENTLANE" check --wait 30s 2>&1
"$BENTLANE" check --wait 1s missing.moor.test >/dev/null 2>&1 || echo "exit $?"
"#;

/// A name server that answers everything with another machine's address, or for three seconds that
/// the name does not exist, as it has kept it from ours, and the right address from then on.
const NAMESERVER: &str = r"
import socket, sys, time
at, mode = sys.argv[1:3]
start = time.time()
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.bind((at, 53))
def name(text):
    return b''.join(bytes([len(l)]) + l.encode() for l in text.split('.')) + b'\0'
while True:
    q, peer = s.recvfrom(2048)
    end = q.index(b'\0', 12) + 5
    a = q[end - 4:end - 2] == b'\0\1'
    left = int(start + 4 - time.time()) + 1
    if mode == 'negative' and left > 0:
        soa = name('ns.moor.test') + name('root.moor.test') + b'\0\0\0\1' * 4 + left.to_bytes(4, 'big')
        s.sendto(q[:2] + b'\x81\x83\0\1\0\0\0\1\0\0' + q[12:end] + name('moor.test')
                 + b'\0\6\0\1' + left.to_bytes(4, 'big') + len(soa).to_bytes(2, 'big') + soa, peer)
        continue
    ip = b'\x7f\0\0\1' if mode == 'negative' else b'\xc0\0\2\7'
    s.sendto(q[:2] + b'\x81\x80\0\1' + (b'\0\1' if a else b'\0\0') + b'\0\0\0\0' + q[12:end]
             + (b'\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4' + ip if a else b''), peer)
";

#[test]
fn faults_of_the_machine_are_found_and_fixed() {
    let world = World::asleep(Start::default());
    fs::write(world.path("nameserver.py"), NAMESERVER).unwrap();
    let outcome = Namespace::run(&world, INSIDE);
    outcome.expect(&[
        (
            "asking",
            &[
                "before system-not-asking resolve hint True",
                "after no system-not-asking True",
                "proved",
            ],
        ),
        (
            "hosts",
            &[
                "before hosts-override resolve error False | the hosts file maps a.moor.test to 192.0.2.7",
                "after no hosts-override True\n1\n",
                "before hosts-one-family resolve hint True",
                "after no hosts-one-family True",
            ],
        ),
        (
            "held",
            &[
                "before dns-port-held resolve error False | python3 listens on 127.0.0.1:53",
                "after no dns-port-held True",
                "proved",
            ],
        ),
        (
            "first",
            &[
                "before nameserver-first resolve error False | the name server 127.0.0.9:53 comes before",
                "after no nameserver-first True",
                "proved",
            ],
        ),
        (
            "negative",
            &[
                "before negative-cached resolve error False | 127.0.0.10:53 has cached that a.moor.test does not exist, until ",
                "after no negative-cached True",
                "proved",
            ],
        ),
        (
            "browser",
            &[
                "before browser-asks-elsewhere resolve warning True",
                "after no browser-asks-elsewhere True",
                "policy browser-asks-elsewhere resolve warning True | Firefox uses its own DNS server",
                "except no browser-asks-elsewhere True",
            ],
        ),
        (
            "remembered",
            &[
                "redirected no browser-forces-https True",
                "served browser-forces-https handshake warning True | Chromium opens a.moor.test over HTTPS alone",
                "after no browser-forces-https True",
            ],
        ),
        (
            "clock",
            &[
                "before clock-off handshake error False",
                "after no clock-off True",
            ],
        ),
        (
            "wait",
            &["waiting for a.moor.test …", "1 route, every hop proved", "exit 1"],
        ),
    ]);
}
