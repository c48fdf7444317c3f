//! Certificates as files for other servers, and the certificate of each name.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use bentlane_tests::{App, World, make_certificate, reserve_port, run, wait_until};

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o777
}

#[test]
fn a_server_gets_its_files() {
    let world = World::with_routes(&[]);
    let folder = world.path("tls");
    let out = folder.to_str().unwrap();
    let issued = world.run(&[
        "cert",
        "issue",
        "store.moor.test",
        "127.0.0.1",
        "--wildcard",
        "--days",
        "30",
        "--out",
        out,
    ]);
    assert_eq!(issued.code, 0, "{issued:?}");
    assert!(
        issued.stderr.contains("not `store.moor.test` itself"),
        "{issued:?}"
    );
    let (chain, key) = (
        folder.join("store.moor.test.pem"),
        folder.join("store.moor.test.key"),
    );
    assert_eq!((mode(&chain), mode(&key)), (0o644, 0o600));

    openssl_serves_with(&world, &chain, &key);

    let again = world.run(&["cert", "issue", "store.moor.test", "--out", out]);
    assert_eq!(again.code, 2, "nothing that is there is lost: {again:?}");
    assert!(again.stderr.contains("is there already"), "{again:?}");
    world.ok(&[
        "cert",
        "issue",
        "store.moor.test",
        "--out",
        out,
        "--overwrite",
    ]);
}

/// Serves with these files, and asks with curl, which trusts the root alone.
fn openssl_serves_with(world: &World, chain: &Path, key: &Path) {
    let port = reserve_port().to_string();
    let (chain, key) = (chain.to_str().unwrap(), key.to_str().unwrap());
    let server = std::process::Command::new("openssl")
        .args([
            "s_server",
            "-quiet",
            "-www",
            "-accept",
            &port,
            "-cert",
            chain,
            "-cert_chain",
            chain,
            "-key",
            key,
        ])
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn();
    let mut server = server.unwrap();
    let root = world.root();
    for (host, code) in [
        ("store.moor.test", 0),
        ("any.store.moor.test", 0),
        ("127.0.0.1", 0),
        ("other.moor.test", 60),
    ] {
        let (url, resolve) = (
            format!("https://{host}:{port}/"),
            format!("{host}:{port}:127.0.0.1"),
        );
        let got = run(
            "curl",
            &[
                "-sS",
                "--retry",
                "20",
                "--retry-connrefused",
                "--retry-delay",
                "1",
                "-o",
                "/dev/null",
                "--cacert",
                root.to_str().unwrap(),
                "--resolve",
                &resolve,
                &url,
            ],
        );
        assert_eq!(got.code, code, "{host}: {got:?}");
    }
    server.kill().unwrap();
    server.wait().unwrap();
}

#[test]
fn files_are_named_and_split_as_asked() {
    let world = World::with_routes(&[]);
    let folder = world.path("tls");
    let out = folder.to_str().unwrap();
    let made = world.json(&[
        "cert",
        "issue",
        "*.hut.moor.test",
        "--out",
        out,
        "--part",
        "certificate=server.crt",
        "--part",
        "both",
        "--part",
        "pkcs12=server.p12",
    ]);
    assert_eq!(made["names"], serde_json::json!(["*.hut.moor.test"]));
    let names: Vec<&str> = made["files"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| it.as_str().unwrap())
        .collect();
    let wanted = [
        "server.crt",
        "wildcard.hut.moor.test.both.pem",
        "server.p12",
    ];
    assert!(
        names
            .iter()
            .zip(wanted)
            .all(|(name, wanted)| name.ends_with(wanted)),
        "{names:?}"
    );
    let both = fs::read_to_string(names[1]).unwrap();
    assert!(both.contains("PRIVATE KEY") && both.matches("BEGIN CERTIFICATE").count() == 2);
    assert_eq!(mode(names[1].as_ref()), 0o600);
    let opened = run(
        "openssl",
        &[
            "pkcs12",
            "-in",
            names[2],
            "-passin",
            "pass:changeit",
            "-nodes",
        ],
    )
    .ok();
    assert!(
        opened.contains("PRIVATE KEY") && opened.contains("BEGIN CERTIFICATE"),
        "{opened}"
    );

    assert_eq!(fs::read_dir(&folder).unwrap().count(), 3);
}

#[test]
fn wrong_requests_for_files_are_refused_and_leave_nothing() {
    let world = World::with_routes(&[]);
    let folder = world.path("tls");
    let out = folder.to_str().unwrap();
    for (args, code, part) in [
        (
            &["www.example.com"][..],
            2,
            "is beyond what this authority can vouch for",
        ),
        (
            &["store.moor.test", "192.0.2.1"],
            2,
            "`192.0.2.1` is beyond",
        ),
        (
            &["store.moor.test", "--days", "4000"],
            2,
            "4000 days are not possible",
        ),
        (&["a b"], 2, "is no name for a certificate"),
        (
            &["store.moor.test", "--part", "secret"],
            2,
            "is none of certificate",
        ),
        (
            &["store.moor.test", "--part", "key=x", "--part", "chain=x"],
            2,
            "is named twice",
        ),
    ] {
        let args = [&["cert", "issue", "--out", out][..], args].concat();
        let refused = world.run(&args);
        assert_eq!(refused.code, code, "{refused:?}");
        assert!(refused.stderr.contains(part), "{refused:?}");
    }
    let left = fs::read_dir(&folder).map_or(0, Iterator::count);
    assert_eq!(left, 0, "nothing half-made is left");
}

#[test]
fn requests_made_elsewhere_are_signed() {
    let world = World::with_routes(&[]);
    let (key, request) = (world.path("a.key"), world.path("a.csr"));
    let (key, request) = (key.to_str().unwrap(), request.to_str().unwrap());
    let make = |names: &str| {
        run(
            "openssl",
            &[
                "req",
                "-new",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-subj",
                "/CN=ignored.example",
                "-addext",
                names,
                "-keyout",
                key,
                "-out",
                request,
            ],
        )
        .ok()
    };
    make("subjectAltName=DNS:a.moor.test,IP:127.0.0.3");
    let signed = world.ok(&["cert", "sign", request]);
    let chain = world.path("a.pem");
    fs::write(&chain, &signed).unwrap();
    let chain = chain.to_str().unwrap();
    let root = world.root();
    run(
        "openssl",
        &[
            "verify",
            "-x509_strict",
            "-CAfile",
            root.to_str().unwrap(),
            "-untrusted",
            chain,
            chain,
        ],
    )
    .ok();
    let text = run("openssl", &["x509", "-in", chain, "-noout", "-text"]).ok();
    assert!(
        text.contains("DNS:a.moor.test, IP Address:127.0.0.3"),
        "{text}"
    );
    assert!(!text.contains("ignored.example"), "{text}");
    make("subjectAltName=DNS:www.example.com");
    let refused = world.run(&["cert", "sign", request]);
    assert_eq!(refused.code, 2, "{refused:?}");
    make("subjectAltName=email:a@moor.test");
    assert!(
        world
            .run(&["cert", "sign", request])
            .stderr
            .contains("DNS names and addresses")
    );
    let none = world.run(&["cert", "sign", key]);
    assert!(none.stderr.contains("no certificate request"), "{none:?}");
}

#[test]
fn the_certificate_of_a_name_is_shown() {
    let app = App::new();
    let world = World::with_routes(&[
        ("a.moor.test", &app.port()),
        ("*.hut.moor.test", &app.port()),
    ]);
    let shown = world.json(&["cert", "show", "x.hut.moor.test"]);
    assert_eq!(shown["names"], serde_json::json!(["x.hut.moor.test"]));
    assert_eq!(shown["reason"], "issued here for the zone moor.test");
    assert_eq!(
        shown["chain"]
            .as_str()
            .unwrap()
            .matches("BEGIN CERTIFICATE")
            .count(),
        2
    );
    assert!(
        shown["issuer"]
            .as_str()
            .unwrap()
            .contains("issuing certificate")
    );
    let listed = world.ok(&["cert", "list"]);
    for part in [
        "a.moor.test",
        "x.hut.moor.test",
        "issued here for the zone moor.test",
    ] {
        assert!(listed.contains(part), "{part}: {listed}");
    }
    let none = world.run(&["cert", "show", "www.example.com"]);
    assert_eq!(none.code, 1);
    assert!(
        none.stderr
            .contains("there is no certificate for www.example.com"),
        "{none:?}"
    );
    assert!(!world.get("/certificates").to_string().contains("PRIVATE"));
}

/// A company's authority, made with `openssl`.
struct Company<'a> {
    world: &'a World,
}

impl Company<'_> {
    fn path(&self, name: &str) -> String {
        self.world.path(name).to_str().unwrap().to_owned()
    }

    fn found(world: &World) -> Company<'_> {
        let company = Company { world };
        let (key, root) = (company.path("company.key"), company.path("company.pem"));
        let subject = ["-days", "300", "-subj", "/CN=Fell Company root"];
        make_certificate(&subject, &root, &key);
        company
    }

    /// Writes `NAME.pem`, its chain behind it in the wrong order, and `NAME.key`.
    fn certify(&self, name: &str, san: &str, days: &str) {
        let (key, root) = (self.path("company.key"), self.path("company.pem"));
        let (leaf_key, leaf) = (
            self.path(&format!("{name}.key")),
            self.path(&format!("{name}.pem")),
        );
        let san = format!("subjectAltName={san}");
        let arguments = [
            &["-days", days, "-subj", "/CN=leaf", "-addext", &san][..],
            &["-addext", "basicConstraints=critical,CA:FALSE"],
            &["-CA", &root, "-CAkey", &key],
        ];
        make_certificate(&arguments.concat(), &leaf, &leaf_key);
        let whole = fs::read_to_string(&root).unwrap() + &fs::read_to_string(&leaf).unwrap();
        fs::write(&leaf, whole).unwrap();
    }

    fn import(&self, certificate: &str, key: &str) -> bentlane_tests::Run {
        let (certificate, key) = (self.path(certificate), self.path(key));
        self.world.run(&["cert", "import", &certificate, &key])
    }

    /// Whether a client that trusts the company alone accepts what is shown under `name`.
    fn accepts(&self, name: &str) -> bool {
        let root = self.world.path("company.pem");
        self.world.fetch(&root, name).code == 0
    }
}

#[test]
fn certificates_from_elsewhere_are_shown_under_their_names() {
    let app = App::new();
    let mut world = World::with_routes(&[("staging.moor.test", &app.port())]);
    let company = Company::found(&world);
    company.certify("staging", "DNS:staging.moor.test,DNS:*.hut.moor.test", "10");
    company.certify("other", "DNS:other.moor.test", "90");
    for (certificate, key, part) in [
        (
            "staging.pem",
            "other.key",
            "key: the key belongs to none of the certificates",
        ),
        (
            "staging.pem",
            "staging.pem",
            "holds no private key that can be read",
        ),
        ("staging.key", "staging.key", "holds no certificate"),
        ("nowhere.pem", "staging.key", "cannot read"),
    ] {
        let refused = company.import(certificate, key);
        assert_ne!(refused.code, 0, "{refused:?}");
        assert!(refused.stderr.contains(part), "{refused:?}");
    }
    assert!(!company.accepts("staging.moor.test"));

    let imported = company.import("staging.pem", "staging.key").ok();
    assert!(
        imported.contains("soon") && imported.contains("\n  staging.moor.test"),
        "{imported}"
    );
    for (name, accepted) in [
        ("staging.moor.test", true),
        ("x.hut.moor.test", true),
        ("x.y.hut.moor.test", false),
        ("other.moor.test", false),
    ] {
        assert_eq!(company.accepts(name), accepted, "{name}");
    }
    world.ok(&["check", "--routes-only"]);
    let listed = world.ok(&["cert", "list"]);
    let line = listed
        .lines()
        .find(|line| line.starts_with("staging.moor.test"))
        .unwrap();
    assert!(line.contains("imported") && line.contains("soon"), "{line}");

    // The files are watched; what cannot be used changes nothing.
    fs::write(world.path("staging.key"), "nonsense").unwrap();
    let before = world.json(&["cert", "show", "staging.moor.test"])["fingerprint_sha256"].clone();
    company.certify("staging", "DNS:staging.moor.test", "90");
    wait_until("the new certificate", || {
        let now = world.json(&["cert", "show", "staging.moor.test"]);
        (now["fingerprint_sha256"] != before && now["ends_soon"] == false).then_some(())
    });
    assert!(company.accepts("staging.moor.test"));

    let shown = world.json(&["cert", "show", "staging.moor.test"]);
    assert!(!shown.to_string().contains("PRIVATE"));
    world.end(rustix::process::Signal::KILL);
    world.wake();
    let company = Company { world: &world };
    assert!(company.accepts("staging.moor.test"), "it is kept");
    world.ok(&["cert", "remove", "staging.moor.test"]);
    assert!(!company.accepts("staging.moor.test"));
    world.ok(&["check", "--routes-only"]);
    let none = world.run(&["cert", "remove", "staging.moor.test"]);
    assert_eq!(none.code, 1, "{none:?}");
}

#[test]
fn sessions_are_resumed_also_after_changes() {
    let app = App::new();
    let mut world = World::with_routes(&[("a.moor.test", &app.port())]);
    let session = world.path("session");
    let session = session.to_str().unwrap().to_owned();
    let shake = |world: &World, version: &str, how: &str| {
        let at = world.address("https").to_string();
        let script = format!(
            "(sleep 1; echo Q) | openssl s_client -connect {at} -servername a.moor.test {version} {how} {session}"
        );
        run("bash", &["-c", &script]).stdout
    };
    for version in ["-tls1_3", "-tls1_2"] {
        assert!(
            shake(&world, version, "-sess_out").contains("New, TLS"),
            "{version}"
        );
        let port = app.port();
        let name = format!(
            "b{}.moor.test",
            version.len() + usize::from(version.ends_with('2'))
        );
        world.ok(&["route", "add", &name, &port]);
        let resumed = shake(&world, version, "-sess_in");
        assert!(
            resumed.contains("Reused, TLS"),
            "{version}, after a change: {resumed}"
        );
    }
    world.end(rustix::process::Signal::TERM);
    world.wake();
    assert!(
        shake(&world, "-tls1_2", "-sess_in").contains("New, TLS"),
        "another process, another key"
    );
}

#[test]
fn exported_files_are_kept_fresh() {
    let world = World::with_routes(&[]);
    let folder = world.path("tls");
    let to = folder.to_str().unwrap();
    let said = world.path("said");
    let then = format!("cat server.crt server.key >> {}", said.display());
    let names = ["cert", "export", "store.moor.test", "127.0.0.1", "--to", to];
    let parts = [
        "--part",
        "chain=server.crt",
        "--part",
        "key=server.key",
        "--then",
        &then,
    ];
    let made = world.ok(&[&names[..], &parts].concat());
    assert!(
        made.contains("server.key") && made.contains("afterwards: cat"),
        "{made}"
    );
    let read = |name: &str| fs::read_to_string(folder.join(name)).unwrap();
    let whole = || format!("{}{}", read("server.crt"), read("server.key"));
    let first = whole();
    assert_eq!(
        fs::read_to_string(&said).unwrap(),
        first,
        "the command ran once"
    );
    let mode = fs::metadata(folder.join("server.key"))
        .unwrap()
        .permissions();
    assert_eq!(mode.mode() & 0o777, 0o600);
    let root = world.root().display().to_string();
    let (chain, key) = (folder.join("server.crt"), folder.join("server.key"));
    let verify = || {
        let chain = chain.to_str().unwrap();
        let verify = ["verify", "-CAfile", &root, "-untrusted", chain, chain];
        run("openssl", &verify).ok()
    };
    verify();
    // What is damaged or gone, and a certificate of a former root, is written again, with its key.
    let renewed = |why: &str, before: String| {
        wait_until(why, || {
            let all = [&chain, &key].iter().all(|path| path.exists());
            (all && whole() != before && fs::read_to_string(&said).unwrap().ends_with(&whole()))
                .then_some(())
        });
        verify();
    };
    fs::remove_file(&key).unwrap();
    renewed("a key that is gone", first.clone());
    let second = whole();
    fs::write(&key, first.split_once("-----BEGIN PRIVATE").unwrap().1).unwrap();
    renewed("a key of another certificate", second);
    let listed = world.json(&["cert", "list"]);
    assert_eq!(listed["exported"][0]["names"][0], "store.moor.test");
    assert!(!listed.to_string().contains("PRIVATE"));
    world.ok(&["cert", "export", "--stop", "--to", to]);
    assert_eq!(
        world.json(&["cert", "list"])["exported"],
        serde_json::Value::Null
    );
    assert!(key.exists(), "the files stay");
}

#[test]
fn wrong_exports_are_refused() {
    let world = World::with_routes(&[]);
    let folder = world.path("tls");
    let to = folder.to_str().unwrap();
    for (args, part) in [
        (
            vec!["cert", "export", "a.example.com", "--to", to],
            "is beyond what this authority",
        ),
        (
            vec!["cert", "export", "a b", "--to", to],
            "is no name for a certificate",
        ),
        (
            vec!["cert", "export", "--stop", "--to", to],
            "no certificate is kept fresh",
        ),
        (
            vec![
                "cert",
                "export",
                "a.moor.test",
                "--to",
                to,
                "--part",
                "key=x",
                "--part",
                "both=x",
            ],
            "two parts would have the name x",
        ),
    ] {
        let refused = world.run(&args);
        assert_ne!(refused.code, 0, "{refused:?}");
        assert!(refused.stderr.contains(part), "{part}: {refused:?}");
    }
}
