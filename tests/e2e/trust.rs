//! The trust stores of the system, a browser and Java: our root comes, is believed, and goes, in a
//! namespace whose stores are the test's own.

use bentlane_tests::{Namespace, Start, World};

const INSIDE: &str = r#"
set -eu
private_machine
mkdir -p "$HOME/.pki/nssdb" "$HOME/.mozilla/firefox/a.default" /etc/firefox/policies
printf '{"policies": {"DisableTelemetry": true}}' > /etc/firefox/policies/policies.json
for database in "$HOME/.pki/nssdb" "$HOME/.mozilla/firefox/a.default"; do
  certutil -d "sql:$database" -N --empty-password
done
state() {
  md5sum /etc/firefox/policies/*; ls -R /etc/chromium/policies 2>/dev/null || true
  md5sum /etc/ssl/certs/ca-certificates.crt
  ls /etc/ssl/certs /usr/local/share/ca-certificates
  keytool -list -keystore /etc/ssl/certs/java/cacerts -storepass changeit 2>/dev/null | grep -o 'SHA-256.*' | sort
  for database in "$HOME/.pki/nssdb" "$HOME/.mozilla/firefox/a.default"; do certutil -L -d "sql:$database"; done
}
state > "$FOLDER/before"
"$BENTLANE" serve --high-ports --upstream none >"$FOLDER/service.log" 2>&1 & service=$!
trap 'kill $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test >/dev/null
port=17443
ask() { "$@" >"$FOLDER/out" 2>&1 && echo "yes" || echo "no"; }
everybody() {
  echo "openssl $(ask openssl s_client -verify_return_error -servername x.moor.test -connect 127.0.0.1:$port -verify_hostname x.moor.test </dev/null)"
  echo "gnutls $(ask gnutls-cli --port $port --sni-hostname x.moor.test --verify-hostname x.moor.test 127.0.0.1 </dev/null)"
  echo "curl $(ask curl -sS -o /dev/null --resolve x.moor.test:$port:127.0.0.1 https://x.moor.test:$port/)"
  echo "python $(ask python3 -c "
import socket, ssl
c = ssl.create_default_context()
c.wrap_socket(socket.create_connection(('127.0.0.1', $port)), server_hostname='x.moor.test')")"
}
"$BENTLANE" route add hut.moor.test 4310 >/dev/null
found() { "$BENTLANE" check --only handshake --deep hut.moor.test | grep -o '[·▲].*(.*root.*)\|sudo bentlane.*' || echo "no finding"; }
trust() { "$BENTLANE" system check | grep ' trust ' || true; }
step before; trust; everybody; found
step unasked; "$BENTLANE" system attach --only trust </dev/null || echo "exit $?"
step dry; "$BENTLANE" system attach --only trust --dry-run 2>&1; state | cmp - "$FOLDER/before" && echo untouched
step attach; "$BENTLANE" system attach --only trust --yes
cat /etc/firefox/policies/policies.json
step again; "$BENTLANE" system attach --only trust --yes 2>&1
step attached; everybody; found

step browser
chromium --headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-dev-shm-usage   --disable-background-networking --disable-component-update --user-data-dir="$FOLDER/profile" --timeout=20000   --host-resolver-rules='MAP *.moor.test 127.0.0.1' --dump-dom https://x.moor.test:$port/ 2>"$FOLDER/chromium.log"
step forged
forge() {
  issuing="$FOLDER/data/keys/issuing.pem"
  openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/O=Bent Lane' -days 1 \
    -addext "subjectAltName=DNS:$1" -addext extendedKeyUsage=serverAuth \
    -addext basicConstraints=critical,CA:FALSE -CA "$issuing" -CAkey "$issuing" \
    -keyout "$FOLDER/forged.key" -out "$FOLDER/forged.pem" 2>/dev/null
  openssl x509 -in "$issuing" >> "$FOLDER/forged.pem"
}
see() {
  forge "$1"
  openssl s_server -quiet -www -accept 4443 -cert "$FOLDER/forged.pem" -cert_chain "$FOLDER/forged.pem" \
    -key "$FOLDER/forged.key" >/dev/null 2>&1 & server=$!
  for _ in $(seq 100); do (exec 3<>/dev/tcp/127.0.0.1/4443) 2>/dev/null && break; sleep 0.1; done
  chromium --headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-dev-shm-usage \
    --disable-background-networking --disable-component-update --user-data-dir="$FOLDER/profile" --timeout=20000 \
    --host-resolver-rules='MAP * 127.0.0.1' --dump-dom "https://$1:4443/" >"$FOLDER/seen" 2>"$FOLDER/chromium.log" || true
  if grep -q 'Secure Renegotiation IS' "$FOLDER/seen"; then echo "$1 is shown"; else echo "$1 is refused"; fi
  kill $server; wait $server 2>/dev/null || true
}
see x.moor.test
see www.example.com
step env
eval "$("$BENTLANE" system env)"
echo "node $(ask node -e "
require('https').get({host: '127.0.0.1', port: $port, servername: 'x.moor.test'}, r => process.exit(0)).on('error', () => process.exit(1))")"
grep -c 'BEGIN CERT' "$SSL_CERT_FILE"
grep -c 'BEGIN CERT' /etc/ssl/certs/ca-certificates.crt
for name in $(env | grep -o '^[A-Z_]*\(CA\|CERT\)[A-Z_]*='); do unset "${name%=}"; done
step rotated; "$BENTLANE" authority rotate >/dev/null; everybody
"$BENTLANE" system attach --only trust --yes
step firefox
# A profile that is made now, by the policy alone, comes to hold the root.
mkdir -p "$HOME/.mozilla/firefox/b.new"
timeout 60 firefox --headless --no-remote --profile "$HOME/.mozilla/firefox/b.new" --screenshot "$FOLDER/shot.png" \
  about:blank >"$FOLDER/firefox.log" 2>&1 || true
certutil -L -d "sql:$HOME/.mozilla/firefox/b.new" | grep 'Bent Lane'
step detach; "$BENTLANE" system detach --only trust --yes; everybody
certutil -L -d "sql:$HOME/.mozilla/firefox/b.new" | grep 'Bent Lane' || echo "gone from the profile"
rm -r "$HOME/.mozilla/firefox/b.new"
step after; state | diff "$FOLDER/before" - && echo identical
step older
"$BENTLANE" system attach --only trust --yes >/dev/null
kill $service; wait $service
rm -r "$FOLDER/data/keys" "$FOLDER/data/root.pem"
"$BENTLANE" serve --high-ports --upstream none >>"$FOLDER/service.log" 2>&1 & service=$!
await_service
found
"$BENTLANE" check --only handshake --deep --fix --yes hut.moor.test 2>&1 | grep 'older-root-trusted'
step fixed; found
"#;

#[test]
fn the_root_is_added_to_and_removed_from_every_store() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, INSIDE);
    let nobody = "openssl no\ngnutls no\ncurl no\npython no\n";
    let all = "openssl yes\ngnutls yes\ncurl yes\npython yes\n";
    outcome.expect(&[
        (
            "before",
            &[
                "✕ trust    the system",
                "does not trust the root (database /tmp/",
                "does not trust the root (/etc/ssl/certs/java/cacerts)",
                nobody,
                "trust stores do not trust Bent Lane's root (root-distrusted)",
                "sudo bentlane system attach --only trust",
            ],
        ),
        ("unasked", &["exit 2"]),
        (
            "dry",
            &[
                "ca-certificates.crt  the system's trust store, for every user\n  + Bent Lane root",
                "managed/bentlane.json  Chromium's policy, for every user; the browser then says",
                "untouched",
            ],
        ),
        (
            "attach",
            &[
                "● trust    the system",
                "trusts the root (policy /etc/chromium/policies/managed/bentlane.json)",
                "trusts the root (policy /etc/firefox/policies/policies.json)",
                "trusts the root (/etc/ssl/certs/java/cacerts)",
                "\"DisableTelemetry\": true",
            ],
        ),
        ("again", &["nothing to do: it is attached already"]),
        ("attached", &[all, "no finding"]),
        ("browser", &["No route covers x.moor.test"]),
        (
            "forged",
            &["x.moor.test is shown", "www.example.com is refused"],
        ),
        ("env", &["node yes"]),
        ("rotated", &[all, "trusts the root (policy"]),
        ("firefox", &["Bent Lane root"]),
        ("detach", &[nobody, "gone from the profile"]),
        ("after", &["identical"]),
        (
            "older",
            &["trusts an earlier root of Bent Lane's, not the current one (older-root-trusted)"],
        ),
        ("fixed", &["no finding"]),
    ]);
}
