//! The authority: what it can vouch for, in the eyes of real clients, and how its root changes.

use std::fs;
use std::path::{Path, PathBuf};

use bentlane_tests::{App, Start, World, make_certificate, run, wait_until};
use rstest::rstest;
use rustix::process::Signal;

/// Signs a certificate for `name` with the issuing key, as a thief of that key would; gives
/// the file with the chain and the file with the key.
fn forged(world: &World, name: &str) -> (PathBuf, PathBuf) {
    let issuing = world.data_dir().join("keys/issuing.pem");
    let issuing = issuing.to_str().unwrap();
    let (key, chain) = (world.path("forged.key"), world.path("forged.pem"));
    let text = |path: &PathBuf| path.to_str().unwrap().to_owned();
    let san = format!("subjectAltName={name}");
    let arguments = [
        &["-subj", "/O=Bent Lane", "-days", "1", "-addext", &san][..],
        &["-addext", "extendedKeyUsage=serverAuth"],
        &["-addext", "basicConstraints=critical,CA:FALSE"],
        &["-set_serial", "0x4242", "-CA", issuing, "-CAkey", issuing],
    ];
    make_certificate(&arguments.concat(), &text(&chain), &text(&key));
    let issuing = fs::read_to_string(issuing).unwrap();
    let certificate = issuing.split("-----BEGIN PRIVATE").next().unwrap();
    let whole = fs::read_to_string(&chain).unwrap() + certificate;
    fs::write(&chain, whole).unwrap();
    (chain, key)
}

#[rstest]
#[case("DNS:x.moor.test", true)]
#[case("DNS:bentlane.localhost", true)]
#[case("IP:127.0.0.9", true)]
#[case("DNS:x.fell.test", false)]
#[case("DNS:www.example.com", false)]
#[case("DNS:moor.test.example.com", false)]
#[case("DNS:xmoor.test", false)]
#[case("IP:192.0.2.1", false)]
#[case("DNS:x.moor.test,DNS:www.example.com", false)]
#[case("email:rowan@example.com", false)]
#[case("URI:https://www.example.com/", false)]
fn a_leaked_issuing_key_is_useless_for_other_names(#[case] name: &str, #[case] accepted: bool) {
    let world = World::with_routes(&[]);
    let (chain, _) = forged(&world, name);
    let (root, chain) = (world.root(), chain.to_str().unwrap().to_owned());
    let root = root.to_str().unwrap();
    let openssl = run(
        "openssl",
        &[
            "verify",
            "-x509_strict",
            "-purpose",
            "sslserver",
            "-CAfile",
            root,
            "-untrusted",
            &chain,
            &chain,
        ],
    );
    assert_eq!(openssl.code == 0, accepted, "openssl: {openssl:?}");
    if name.starts_with("URI") {
        return; // GnuTLS passes over them: they name no TLS server
    }
    let gnutls = run(
        "certtool",
        &[
            "--verify",
            "--load-ca-certificate",
            root,
            "--infile",
            &chain,
        ],
    );
    assert_eq!(gnutls.code == 0, accepted, "gnutls: {gnutls:?}");
}

#[test]
fn the_root_is_recognised_and_limited() {
    let world = World::with_routes(&[]);
    let shown = world.json(&["authority", "show"]);
    let subject = shown["subject"].as_str().unwrap();
    assert!(
        subject.contains("Bent Lane root") && subject.contains(" on "),
        "{subject}"
    );
    assert_eq!(shown["limits"], serde_json::json!(["localhost", "test"]));
    assert_eq!(
        shown["covers"],
        serde_json::json!(["localhost", "moor.test"])
    );
    let root = world.root();
    let text = run(
        "openssl",
        &["x509", "-noout", "-text", "-in", root.to_str().unwrap()],
    )
    .ok();
    for part in [
        "X509v3 Name Constraints: critical",
        "CA:TRUE",
        "Certificate Sign, CRL Sign",
        "TLS Web Server Authentication",
        "DNS:test",
        "IP:127.0.0.0/255.0.0.0",
        "URI:localhost",
        "email:localhost",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
}

#[test]
fn an_untrusted_root_is_replaced_for_a_new_zone() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let old = fs::read_to_string(world.root()).unwrap();
    let added = world.run(&["zone", "add", "moor.example", "--anyway"]);
    assert_eq!(added.code, 0, "{added:?}");
    assert!(!added.stderr.contains("root"), "{added:?}");
    assert_ne!(fs::read_to_string(world.root()).unwrap(), old);
    let shown = world.json(&["authority", "show"]);
    assert_eq!(
        shown["limits"],
        serde_json::json!(["localhost", "moor.example", "test"])
    );
    assert_eq!(shown["follows_another"], false);
    world.ok(&["route", "add", "b.moor.example", &app.port()]);
    let current = world.root();
    for name in ["a.moor.test", "b.moor.example"] {
        assert_eq!(world.fetch(&current, name).code, 0, "{name}");
    }

    // A zone that goes leaves a root that could still vouch for it.
    let removed = world.run(&["zone", "remove", "moor.example", "--with-routes"]);
    assert!(
        removed.stderr.contains("can still vouch for moor.example"),
        "{removed:?}"
    );
    world.ok(&["authority", "rotate"]);
    let shown = world.json(&["authority", "show"]);
    assert_eq!(shown["limits"], serde_json::json!(["localhost", "test"]));
}

#[test]
fn a_root_that_may_be_trusted_gets_a_successor() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let former = world.path("former.pem");
    world.ok(&["authority", "export", "--out", former.to_str().unwrap()]);
    let added = world.run(&["zone", "add", "moor.example", "--anyway"]);
    assert_eq!(added.code, 0, "{added:?}");
    assert!(
        added
            .stderr
            .contains("sudo bentlane system attach --only trust"),
        "{added:?}"
    );
    world.ok(&["route", "add", "b.moor.example", &app.port()]);
    world.ok(&["check", "--routes-only"]);
    let current = world.root();
    for (root, name, code) in [
        (&former, "a.moor.test", 0),
        (&current, "a.moor.test", 0),
        (&current, "b.moor.example", 0),
        (&former, "b.moor.example", 60),
    ] {
        let got = world.fetch(root, name);
        assert_eq!(got.code, code, "{}: {name}: {got:?}", root.display());
    }
}

#[test]
fn a_root_with_a_passphrase_is_asked_for_only_when_needed() {
    let app = App::new();
    let mut world = World::with_routes(&[("a.moor.test", &app.port())]);
    let secret = world.path("secret");
    fs::write(&secret, "correct horse\n").unwrap();
    let wrong = world.path("wrong");
    fs::write(&wrong, "battery staple\n").unwrap();
    let (secret, wrong) = (secret.to_str().unwrap(), wrong.to_str().unwrap());
    let short = world.path("short");
    fs::write(&short, "abc").unwrap();
    let refused = world.run(&[
        "authority",
        "protect",
        "--new-passphrase-file",
        short.to_str().unwrap(),
    ]);
    assert_eq!(refused.code, 2, "{refused:?}");
    world.ok(&["authority", "protect", "--new-passphrase-file", secret]);
    let kept = fs::read_to_string(world.data_dir().join("keys/root.pem")).unwrap();
    assert!(
        kept.contains("ENCRYPTED") && !kept.contains("BEGIN PRIVATE KEY"),
        "{kept}"
    );

    // It goes on after a start without the passphrase, and with the same issuing certificate.
    let issuing = fs::read_to_string(world.data_dir().join("keys/issuing.pem")).unwrap();
    world.end(Signal::TERM);
    world.wake();
    world.ok(&["check", "--routes-only"]);
    world.ok(&["zone", "add", "fell.test"]);
    let shown = world.ok(&["authority", "show"]);
    assert!(shown.contains("under a passphrase"), "{shown}");
    assert!(
        shown.contains("no client will accept a certificate for fell.test"),
        "{shown}"
    );
    assert!(shown.contains("→ bentlane authority unlock"), "{shown}");
    world.ok(&["route", "add", "b.fell.test", &app.port()]);
    let check = ["check", "b.fell.test", "--routes-only", "--format", "json"];
    let verdict = world.run(&check).json()["verdicts"][0].clone();
    let found = &verdict["findings"][0];
    assert_eq!(found["slug"], "beyond-the-root", "{verdict:#}");
    assert_eq!(
        fs::read_to_string(world.data_dir().join("keys/issuing.pem")).unwrap(),
        issuing
    );

    let unasked = world.run(&["authority", "unlock"]);
    assert_eq!(unasked.code, 2, "{unasked:?}");
    world.ok(&["authority", "unlock", "--passphrase-file", secret]);
    let shown = world.json(&["authority", "show"]);
    assert_eq!(
        shown["covers"],
        serde_json::json!(["fell.test", "localhost", "moor.test"])
    );
    assert_eq!(shown["locked"], true);
    let tries: Vec<i32> = (0..6)
        .map(|_| {
            let tried = world.run(&["authority", "rotate", "--passphrase-file", wrong]);
            i32::from(tried.stderr.contains("that is not the passphrase"))
        })
        .collect();
    assert_eq!(tries, [1, 1, 1, 1, 1, 0], "the sixth is not even tried");
    let log = fs::read_to_string(world.path("service.log")).unwrap_or_default();
    for secret in ["correct horse", "battery staple", "PRIVATE KEY"] {
        assert!(!log.contains(secret) && !shown.to_string().contains(secret));
    }
}

#[test]
fn a_root_of_an_earlier_version_is_imported() {
    let mut world = World::with_routes(&[]);
    let root = fs::read_to_string(world.root()).unwrap();
    world.end(Signal::TERM);
    let keys = world.data_dir().join("keys");
    let kept = fs::read_to_string(keys.join("root.pem")).unwrap();
    let key = &kept[kept.find("-----BEGIN PRIVATE").unwrap()..];
    let former = world.data_dir().join("root.key");
    fs::write(&former, key).unwrap();
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(&former, fs::Permissions::from_mode(0o600)).unwrap();
    fs::remove_dir_all(&keys).unwrap();
    world.wake();
    assert_eq!(fs::read_to_string(world.root()).unwrap(), root);
    assert!(!former.exists() && keys.join("root.pem").exists());
}

#[test]
fn the_root_comes_in_the_forms_that_stores_take() {
    let world = World::with_routes(&[]);
    let export = |form: &str, name: &str| {
        let path = world.path(name);
        let text = path.to_str().unwrap().to_owned();
        world.ok(&["authority", "export", "--as", form, "--out", &text]);
        text
    };
    let fingerprint = |args: &[&str]| {
        let said = run(
            "openssl",
            &[args, &["-noout", "-fingerprint", "-sha256"]].concat(),
        )
        .ok();
        said.split('=').nth(1).unwrap().trim().to_owned()
    };
    let wanted = world.json(&["authority", "show"])["fingerprint_sha256"].clone();
    let pem = export("pem", "a.pem");
    assert_eq!(fingerprint(&["x509", "-in", &pem]), wanted);
    let der = export("der", "a.cer");
    assert_eq!(
        fingerprint(&["x509", "-inform", "der", "-in", &der]),
        wanted
    );
    let bundle = export("pkcs12", "a.p12");
    let opened = run(
        "openssl",
        &[
            "pkcs12",
            "-in",
            &bundle,
            "-passin",
            "pass:changeit",
            "-nokeys",
        ],
    );
    assert!(opened.ok().contains("BEGIN CERTIFICATE"));
    let profile = fs::read_to_string(export("apple-profile", "a.mobileconfig")).unwrap();
    let check = "import plistlib, sys, hashlib\n\
                 p = plistlib.load(open(sys.argv[1], 'rb'))['PayloadContent'][0]\n\
                 print(p['PayloadType'], hashlib.sha256(p['PayloadContent']).hexdigest())";
    let path = world.path("a.mobileconfig");
    let read = run("python3", &["-c", check, path.to_str().unwrap()]).ok();
    let digits = wanted.as_str().unwrap().replace(':', "").to_lowercase();
    assert_eq!(
        read.trim(),
        format!("com.apple.security.root {digits}"),
        "{profile}"
    );
    let again = world.run(&["authority", "export", "--out", &pem]);
    assert_eq!(again.code, 1, "never over a file that is there: {again:?}");
}

#[test]
fn a_root_is_shared_with_another_machine() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let other = World::with_routes(&[]);
    let former = fs::read_to_string(world.data_dir().join("keys/root.pem")).unwrap();
    let theirs = other.data_dir().join("keys/root.pem");
    let theirs_text = theirs.to_str().unwrap();
    for (certificate, key, part) in [
        (
            theirs_text,
            world.data_dir().join("keys/root.pem"),
            "does not belong to the root certificate",
        ),
        (theirs_text, world.root(), "is not a PKCS#8 PEM key"),
        ("/etc/hostname", theirs.clone(), "is not a PEM certificate"),
    ] {
        let refused = world.run(&["authority", "import", certificate, key.to_str().unwrap()]);
        assert_eq!(refused.code, 2, "{refused:?}");
        assert!(refused.stderr.contains(part), "{part}: {refused:?}");
    }
    let kept = fs::read_to_string(world.data_dir().join("keys/root.pem")).unwrap();
    assert_eq!(kept, former, "what is wrong changes nothing");

    world.ok(&["authority", "import", theirs_text]);
    assert_eq!(
        fs::read_to_string(world.root()).unwrap(),
        fs::read_to_string(other.root()).unwrap()
    );
    world.ok(&["check", "--routes-only"]);
    world.fetch(&other.root(), "a.moor.test").ok();
    let keys = fs::read_dir(world.data_dir().join("keys"))
        .unwrap()
        .flatten();
    let beside = keys
        .map(|entry| entry.path())
        .find(|path| path.display().to_string().contains("former-"));
    assert_eq!(
        fs::read_to_string(beside.unwrap()).unwrap(),
        former,
        "the former root is kept"
    );
}

#[rstest]
#[case("1", "Bent Lane issuing certificate")]
#[case("0", "Company issuing")]
fn certificates_are_issued_through_a_companys_authority(
    #[case] longest: &str,
    #[case] issuer: &str,
) {
    let world = World::with_routes(&[("a.moor.test", "1")]);
    let file = |name: &str| world.path(name).display().to_string();
    let (root, root_key) = (file("company.pem"), file("company.key"));
    let constraint = "basicConstraints=critical,CA:TRUE";
    let usage = "keyUsage=critical,keyCertSign,cRLSign";
    let what = ["-subj", "/CN=Company root", "-days", "90", "-addext", usage];
    make_certificate(&what, &root, &root_key);
    let (issuing, key) = (file("issuing.pem"), file("issuing.key"));
    let constraint = format!("{constraint},pathlen:{longest}");
    let certified = ["-CA", &root, "-CAkey", &root_key, "-addext", &constraint];
    let what = [
        "-subj",
        "/CN=Company issuing",
        "-days",
        "60",
        "-addext",
        usage,
    ];
    make_certificate(&[&what[..], &certified].concat(), &issuing, &key);
    world.ok(&["authority", "import", &issuing, &key, "--unconstrained"]);
    // What trusts the company's root trusts what is shown, without anything else.
    let refused = world.fetch(&world.path("issuing.key"), "a.moor.test");
    assert_ne!(refused.code, 0);
    let shown = world.fetch(&world.path("company.pem"), "a.moor.test");
    assert_eq!(shown.code, 0, "{shown:?}");
    let certificate = world.json(&["cert", "show", "a.moor.test"]);
    let by = certificate["issuer"].as_str().unwrap();
    assert!(by.contains(issuer), "{by}");
    let attach = world.run(&["system", "attach", "--only", "trust"]);
    assert!(attach.stderr.contains("is unconstrained"), "{attach:?}");
    fs::write(world.path("pass"), "correct horse\n").unwrap();
    let pass = file("pass");
    let locked = world.run(&["authority", "protect", "--new-passphrase-file", &pass]);
    assert_eq!(locked.code == 0, longest == "1", "{locked:?}");
}

/// A world whose clock is `+0d`, or whatever is written to the file that is given as well.
fn world_with_a_clock() -> (World, tempfile::TempPath) {
    let clock = tempfile::NamedTempFile::new().unwrap().into_temp_path();
    fs::write(&clock, "+0d").unwrap();
    let library = ["x86_64", "aarch64"]
        .map(|machine| format!("/usr/lib/{machine}-linux-gnu/faketime/libfaketime.so.1"))
        .into_iter()
        .find(|path| Path::new(path).exists())
        .unwrap();
    let variables = [
        format!("LD_PRELOAD={library}"),
        format!("FAKETIME_TIMESTAMP_FILE={}", clock.display()),
        "FAKETIME_NO_CACHE=1".to_owned(),
        "DONT_FAKE_MONOTONIC=1".to_owned(),
    ];
    let wrapper = ["env".to_owned()].into_iter().chain(variables).collect();
    let world = World::with(Start {
        wrapper,
        shared_database: true,
        ..Start::default()
    });
    (world, clock)
}

#[rstest]
#[case::a_leaf("+61d", false)]
#[case::the_issuing_certificate("+300d", false)]
#[case::over_a_restart("+300d", true)]
fn certificates_are_made_again_when_the_clock_is_set(#[case] ahead: &str, #[case] restart: bool) {
    let app = App::new();
    let (world, clock) = world_with_a_clock();
    let mut world = world.add_routes(&[("a.moor.test", &app.port())]);
    let opens = |world: &World| world.curl(&["https://a.moor.test/"]).code == 0;
    assert!(opens(&world));
    fs::write(&clock, ahead).unwrap();
    // To a client whose clock is right, what is made now is not valid yet.
    wait_until("another certificate", || (!opens(&world)).then_some(()));
    wait_until("the service to notice", || {
        let log = world.service().output();
        log.contains("the clock was set ahead by").then_some(())
    });
    if restart {
        world.end(Signal::KILL);
    }
    fs::write(&clock, "+0d").unwrap();
    if restart {
        world.wake();
    }
    wait_until("a valid certificate", || opens(&world).then_some(()));
    if !restart {
        wait_until("a finding of the clock", || {
            let found = world.run(&["check", "--routes-only", "--format", "json"]);
            let both = ["clock-set", "it was set back by"];
            let are_there = both.iter().all(|part| found.stdout.contains(part));
            are_there.then_some(())
        });
    }
}
