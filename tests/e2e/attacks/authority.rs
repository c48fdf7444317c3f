//! The authority: keys that got into wrong hands, and roots that are not ours.

use std::path::PathBuf;

use bentlane_tests::{Namespace, Start, World, make_certificate, run};
use rstest::rstest;

/// Signs a server's certificate for `name` with the root's own key; gives the file.
fn forged_with_the_root(world: &World, name: &str) -> PathBuf {
    let root = world.data_dir().join("keys/root.pem");
    let (root, key, chain) = (
        root.to_str().unwrap().to_owned(),
        world.path("forged.key").display().to_string(),
        world.path("forged.pem"),
    );
    let san = format!("subjectAltName={name}");
    let arguments = [
        &["-subj", "/O=Bent Lane", "-days", "1", "-addext", &san][..],
        &["-addext", "extendedKeyUsage=serverAuth"],
        &["-addext", "basicConstraints=critical,CA:FALSE"],
        &["-set_serial", "0x4243", "-CA", &root, "-CAkey", &root],
    ];
    make_certificate(&arguments.concat(), chain.to_str().unwrap(), &key);
    chain
}

#[rstest]
#[case("DNS:x.moor.test", true)]
#[case("DNS:x.fell.test", true)]
#[case("DNS:app.localhost", true)]
#[case("IP:127.0.0.9", true)]
#[case("DNS:nas.home.arpa", false)]
#[case("DNS:db.internal", false)]
#[case("DNS:www.example.com", false)]
#[case("DNS:moor.test.example.com", false)]
#[case("DNS:x.moor.test,DNS:www.example.com", false)]
#[case("IP:192.0.2.1", false)]
#[case("email:rowan@example.com", false)]
fn a_leaked_root_key_is_useless_for_other_names(#[case] name: &str, #[case] accepted: bool) {
    let world = World::with_routes(&[]);
    let leaf = forged_with_the_root(&world, name);
    let (root, leaf) = (world.root(), leaf.display().to_string());
    let root = root.to_str().unwrap();
    let strict = [
        "verify",
        "-x509_strict",
        "-purpose",
        "sslserver",
        "-CAfile",
        root,
        &leaf,
    ];
    let openssl = run("openssl", &strict);
    assert_eq!(openssl.code == 0, accepted, "openssl: {openssl:?}");
    let gnutls = ["--verify", "--load-ca-certificate", root, "--infile", &leaf];
    let gnutls = run("certtool", &gnutls);
    assert_eq!(gnutls.code == 0, accepted, "gnutls: {gnutls:?}");
}

/// A root that somebody else made, with these further arguments.
fn foreign_root(world: &World, arguments: &[&str]) -> [String; 2] {
    let files = ["foreign.pem", "foreign.key"].map(|name| world.path(name).display().to_string());
    let usual = ["-days", "10", "-subj", "/CN=Bent Lane root 123456 on fell"];
    make_certificate(&[&usual, arguments].concat(), &files[0], &files[1]);
    files
}

#[test]
fn an_unconstrained_root_is_accepted_only_by_flag_and_marked() {
    let world = World::with_routes(&[]);
    let [certificate, key] = foreign_root(&world, &[]);
    let refused = world.run(&["authority", "import", &certificate, &key]);
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(refused.stderr.contains("--unconstrained"), "{refused:?}");

    // Constraints that leave a type of name open are none.
    let some = "nameConstraints=critical,permitted;DNS:moor.test";
    let [certificate, key] = foreign_root(&world, &["-addext", some]);
    assert_eq!(
        world.run(&["authority", "import", &certificate, &key]).code,
        2
    );

    let taken = ["authority", "import", &certificate, &key, "--unconstrained"];
    world.ok(&taken);
    assert_eq!(world.json(&["authority", "show"])["unconstrained"], true);
    let shown = world.ok(&["authority", "show"]);
    assert!(shown.contains("unconstrained"), "{shown}");
    let attach = ["system", "attach", "--only", "trust", "--dry-run"];
    let refused = world.run(&attach);
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(refused.stderr.contains("unconstrained"), "{refused:?}");
}

/// A root that only has a name like ours is left alone, in a store of the test's own.
const NAMED: &str = r#"
set -eu
private_machine
mkdir -p "$HOME/.pki/nssdb"
database="sql:$HOME/.pki/nssdb"
certutil -d "$database" -N --empty-password
"$BENTLANE" serve --high-ports --upstream none >"$FOLDER/service.log" 2>&1 & service=$!
trap 'kill $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test >/dev/null
name=$(openssl x509 -in "$FOLDER/data/root.pem" -noout -subject -nameopt multiline | sed -n 's/.*commonName *= Bent Lane root ......//p')
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj "/O=Bent Lane/CN=Bent Lane root ffffff$name" -days 10 \
  -keyout "$FOLDER/evil.key" -out "$FOLDER/evil.pem" 2>/dev/null
certutil -d "$database" -A -n "Bent Lane root evil" -t C,, -i "$FOLDER/evil.pem"
nssdb() { "$BENTLANE" system check | grep nssdb; }
step seen
nssdb
step renamed
certutil -d "$database" -A -n mine -t C,, -i "$FOLDER/data/root.pem"
nssdb
step attach
"$BENTLANE" system attach --only trust --yes 2>&1 | grep -c 'Bent Lane root' || true
cat /etc/bentlane/attached.toml
step detach
"$BENTLANE" system detach --only trust --yes >/dev/null 2>&1
certutil -d "$database" -L | grep 'Bent Lane\|mine'
ls /etc/bentlane 2>/dev/null || echo "no leftovers"
"#;

#[test]
fn a_root_is_known_by_its_key_and_not_by_its_name() {
    let world = World::asleep(Start::default());
    let outcome = Namespace::run(&world, NAMED);
    outcome.expect(&[
        ("seen", &["does not trust the root (database"]),
        ("renamed", &["trusts the root (database"]),
        ("attach", &["roots = ["]),
        ("detach", &["Bent Lane root evil", "no leftovers"]),
    ]);
    let left = outcome.step("detach");
    assert_eq!(left.matches("Bent Lane root").count(), 1, "{left}");
    assert!(!left.contains("mine"), "{left}");
}
