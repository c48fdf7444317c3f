//! Certificates as files, for servers that want them, and what is shown under which name.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use bentlane_tests::{App, World, run};

fn mode(path: &std::path::Path) -> u32 {
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

    let port = App::free_port().to_string();
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

#[test]
fn files_are_named_and_parted_as_one_likes() {
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
    assert_eq!(
        fs::read_dir(&folder).unwrap().count(),
        3,
        "nothing half-made is left"
    );
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
fn what_is_shown_under_a_name_is_told() {
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
