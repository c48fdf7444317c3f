//! Raw TCP on an address of the name's own, and TLS that passes unopened.

use std::io::{Read, Write};
use std::net::{IpAddr, Shutdown, SocketAddr, TcpStream};
use std::path::Path;
use std::time::Duration;

use bentlane_tests::{App, World, make_certificate, reserve_port, run};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// The place of a route for raw TCP.
pub(crate) fn place(world: &World, address: &str) -> SocketAddr {
    let route = world.json(&["route", "show", address]);
    let ip: IpAddr = route["settings"]["address"]
        .as_str()
        .unwrap()
        .parse()
        .unwrap();
    let port = route["values"]["port"].as_u64().unwrap();
    (ip, u16::try_from(port).unwrap()).into()
}

/// What comes back for `said`, until the other side has finished; with `ends` our side finishes first,
/// which an HTTP server may take for a client that is gone.
fn talk(at: SocketAddr, said: &[u8], ends: bool) -> Vec<u8> {
    let mut stream = TcpStream::connect(at).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    stream.write_all(said).unwrap();
    if ends {
        stream.shutdown(Shutdown::Write).unwrap();
    }
    let mut heard = Vec::new();
    stream.read_to_end(&mut heard).unwrap();
    heard
}

#[test]
fn two_databases_keep_the_same_port() {
    let (one, two) = (App::echo(), App::new());
    let world = World::with_routes(&[]);
    // A port that nothing else has on these addresses.
    let port = reserve_port();
    let (store, maps) = (
        format!("store.moor.test:{port}"),
        format!("maps.moor.test:{port}"),
    );
    world.ok(&["route", "add", &store, &one.port()]);
    world.ok(&["route", "add", &maps, &two.port()]);
    let (store_at, maps_at) = (place(&world, &store), place(&world, &maps));
    assert_ne!(store_at.ip(), maps_at.ip());
    assert!(
        world
            .dig(&["store.moor.test", "+short"])
            .contains(&store_at.ip().to_string())
    );
    // The half that is closed is passed on, and what comes after it still arrives.
    let payload: Vec<u8> = (0..2_000_000_u32).map(|it| (it % 251) as u8).collect();
    let heard = talk(store_at, &payload, true);
    assert_eq!(
        (&heard[..payload.len()], &heard[payload.len()..]),
        (&*payload, &b"bye"[..])
    );
    let request = "GET / HTTP/1.1\r\nhost: maps\r\nconnection: close\r\n\r\n";
    let said = String::from_utf8(talk(maps_at, request.as_bytes(), false)).unwrap();
    assert!(said.starts_with("HTTP/1.1 200"), "{said}");
    assert_eq!(world.run(&["check", "--routes-only"]).code, 0);
    let shown = world.ok(&["route", "show", &store]);
    assert!(
        shown.contains(&format!("tcp://store.moor.test:{port}")),
        "{shown}"
    );
    // Another target from now on, on the same listener; then none.
    world.ok(&["route", "edit", &store, "--to", &two.port()]);
    assert!(
        String::from_utf8(talk(store_at, request.as_bytes(), false))
            .unwrap()
            .contains("200")
    );
    world.ok(&["route", "remove", &store]);
    assert!(TcpStream::connect(store_at).is_err());
    for (args, part) in [
        (
            ["route", "add", &store, "https://x:1"],
            "to: bytes of raw TCP",
        ),
        (["route", "add", "store.moor.test:x", "1"], "`x` is no port"),
        (
            ["route", "add", "store.moor.test:1/x", "1"],
            "has no path prefix",
        ),
    ] {
        let refused = world.run(&args);
        assert_eq!(refused.code, 2, "{refused:?}");
        assert!(refused.stderr.contains(part), "{refused:?}");
    }
}

/// What comes back for a greeting over TLS.
async fn hello_over_tls(world: &World, at: SocketAddr) -> String {
    let mut stream = world.tls_at(at, "store.moor.test", "postgresql").await;
    stream.write_all(b"hello").await.unwrap();
    stream.shutdown().await.unwrap();
    let mut heard = String::new();
    stream.read_to_string(&mut heard).await.unwrap();
    heard
}

#[tokio::test(flavor = "multi_thread")]
async fn tls_is_terminated_where_the_route_says_so() {
    let app = App::echo();
    let world = World::with_routes(&[]);
    let address = format!("store.moor.test:{}", reserve_port());
    world.ok(&["route", "add", &address, &app.port(), "--tls", "here"]);
    let at = place(&world, &address);
    assert_eq!(hello_over_tls(&world, at).await, "hellobye");
}

/// `SSLRequest`, `GSSENCRequest` and `CancelRequest` of PostgreSQL's protocol.
const SSL: &[u8] = b"\0\0\0\x08\x04\xd2\x16\x2f";
const GSS: &[u8] = b"\0\0\0\x08\x04\xd2\x16\x30";
const CANCEL: &[u8] = b"\0\0\0\x10\x04\xd2\x16\x2e\0\0\0\x07\0\0\0\x09";

#[tokio::test(flavor = "multi_thread")]
async fn tls_begins_as_postgresql_clients_ask_for_it() {
    let app = App::echo();
    let world = World::with_routes(&[]);
    let refused = world.run(&["route", "add", "a.moor.test", "1", "--tls", "postgres"]);
    assert!(refused.stderr.contains("give the route one"), "{refused:?}");
    let address = format!("store.moor.test:{}", reserve_port());
    world.ok(&["route", "add", &address, &app.port(), "--tls", "postgres"]);
    let at = place(&world, &address);
    // An independent client asks for TLS, verifies the certificate and gets through.
    let root = world.root().display().to_string();
    let script = format!(
        "printf 'hello\\n' | timeout 10 openssl s_client -quiet -starttls postgres -connect {at} \
         -servername store.moor.test -verify_hostname store.moor.test -verify_return_error -CAfile {root}"
    );
    let heard = run("bash", &["-c", &script]);
    assert!(heard.stdout.starts_with("hello"), "{heard:?}");
    // One that asks for GSSAPI first, and one that begins with TLS.
    let mut stream = TcpStream::connect(at).unwrap();
    stream.write_all(GSS).unwrap();
    let mut answer = [0];
    stream.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"N");
    stream.write_all(SSL).unwrap();
    stream.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"S");
    assert_eq!(hello_over_tls(&world, at).await, "hellobye");
    // A request to cancel comes in the clear, and is passed on; nothing else is.
    assert_eq!(talk(at, CANCEL, true), [CANCEL, b"bye"].concat());
    let start = b"\0\0\0\x08\0\x03\0\0";
    let early = [SSL, b"SELECT 1"].concat();
    for said in [&start[..], &early, b"GET / HTTP/1.1\r\n\r\n"] {
        let mut stream = TcpStream::connect(at).unwrap();
        stream.write_all(said).unwrap();
        let mut heard = Vec::new();
        // It may be reset, since what it said is not read.
        let _ = stream.read_to_end(&mut heard);
        assert!(heard.is_empty(), "{said:?}: {heard:?}");
    }
}

#[test]
fn tls_passes_unopened_by_its_server_name() {
    let world = World::with_routes(&[]);
    let file = |ending: &str| {
        world
            .path(&format!("ledger.{ending}"))
            .display()
            .to_string()
    };
    let (certificate, key) = (file("pem"), file("key"));
    let names = "subjectAltName=DNS:ledger.moor.test";
    make_certificate(
        &["-subj", "/CN=ledger", "-addext", names],
        &certificate,
        &key,
    );
    let (ledger, other) = (
        App::tls(Path::new(&certificate), Path::new(&key)),
        App::new(),
    );
    world.ok(&[
        "route",
        "add",
        "ledger.moor.test",
        &ledger.port(),
        "--tls",
        "passthrough",
    ]);
    world.ok(&["route", "add", "a.moor.test", &other.port()]);
    let https = world.address("https").to_string();
    let fetch = |name: &str, root: &str| {
        let port = https.rsplit(':').next().unwrap();
        let resolve = format!("{name}:{port}:127.0.0.1");
        let url = format!("https://{name}:{port}/");
        run(
            "curl",
            &["-sS", "--cacert", root, "--resolve", &resolve, &url],
        )
    };
    let root = world.root().display().to_string();
    let said = fetch("ledger.moor.test", &certificate).ok();
    assert!(
        !said.contains("x-forwarded"),
        "nobody has opened it: {said}"
    );
    assert!(
        fetch("a.moor.test", &root)
            .ok()
            .contains("x-forwarded-proto")
    );
    assert_ne!(
        fetch("ledger.moor.test", &root).code,
        0,
        "its certificate is not ours"
    );
    world.ok(&["route", "edit", "ledger.moor.test", "--unset", "tls"]);
    let said = fetch("ledger.moor.test", &root);
    assert!(said.stdout.contains("target-speaks-tls"), "{said:?}");
}
