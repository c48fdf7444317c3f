//! Unusable targets, and what places other than a check say of them.

use bentlane_tests::{App, World};

use super::certificates::{DAY, write_pair};
use super::{check, field, finding, has, leads_to, page};

/// A listener that accepts nothing: its queue is full, so that further connections wait.
fn full_listener() -> (std::net::TcpListener, Vec<std::net::TcpStream>) {
    use rustix::net::{AddressFamily, SocketType, bind, listen, socket};
    let socket = socket(AddressFamily::INET, SocketType::STREAM, None).unwrap();
    bind(
        &socket,
        &std::net::SocketAddrV4::new([127, 0, 0, 1].into(), 0),
    )
    .unwrap();
    listen(&socket, 0).unwrap();
    let listener = std::net::TcpListener::from(socket);
    let at = listener.local_addr().unwrap();
    let limit = std::time::Duration::from_millis(300);
    let connect = || std::net::TcpStream::connect_timeout(&at, limit);
    let mut waiting = Vec::new();
    while let Ok(stream) = connect() {
        waiting.push(stream);
        assert!(waiting.len() < 100, "its queue has no end");
    }
    (listener, waiting)
}

#[test]
fn unusable_targets_are_distinguished() {
    let world = World::with_routes(&[]);
    let (silent, _waiting) = full_listener();
    let silent = format!("127.0.0.1:{}", silent.local_addr().unwrap().port());
    // An alert (RFC 8446 §6): handshake_failure.
    let refusing = App::raw(b"\x15\x03\x03\x00\x02\x02\x28");
    let refusing = format!("https://127.0.0.1:{}", refusing.port());
    let own = format!("https://{}", world.address("https"));
    let downgrading = leads_to(0, |request| {
        let host = field(request, "host").split(':').next().unwrap_or_default();
        format!("http://{host}:{}/in", field(request, "x-test-port"))
    });
    let http = format!("request x-test-port: {}", world.address("http").port());
    std::fs::create_dir(world.path("site")).unwrap();
    let folder = format!("folder:{}", world.path("site").display());
    let rows: [(&str, &str, &str, &str, &[&str]); 5] = [
        ("a.moor.test", &silent, "target-silent", "connect", &[]),
        (
            "b.moor.test",
            &refusing,
            "target-tls-failed",
            "connect",
            &["--target-tls", "none"],
        ),
        (
            "c.moor.test",
            &own,
            "route-loop",
            "answer",
            &["--target-tls", "none"],
        ),
        (
            "d.moor.test",
            &downgrading.port(),
            "redirect-downgrades",
            "answer",
            &["--set-headers", &http],
        ),
        ("e.moor.test", &folder, "file-missing", "answer", &[]),
    ];
    for (name, to, slug, hop, flags) in rows {
        world.ok(&[&["route", "add", name, to], flags].concat());
        let verdict = check(&world, name);
        let found = finding(&verdict, slug);
        assert_eq!(found["hop"], hop, "{verdict:#}");
        // A folder may be for its files alone.
        if slug == "file-missing" {
            assert_eq!(found["severity"], "hint", "{verdict:#}");
            assert_eq!(verdict["passed"], true, "{verdict:#}");
        }
    }
}

#[test]
fn refused_requests_and_certificates_about_to_expire_are_reported() {
    let app = page(0);
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.ok(&["zone", "edit", "moor.test", "--plain", "refuse"]);

    let url = format!("http://{}/", world.address("http"));
    let said = bentlane_tests::run("curl", &["-sS", "-i", "-H", "host: a.moor.test", &url]).ok();
    assert!(said.contains("bentlane-finding: plain-refused"), "{said}");

    let [certificate, key] = write_pair(&world, "a", "a.moor.test", -60, 10 * DAY);
    world.ok(&["cert", "import", &certificate, &key]);
    let verdict = check(&world, "a.moor.test");
    assert!(has(&verdict, "pair-ends-soon"), "{verdict:#}");
}
