//! The proxy: messages that two parties could read differently, and what an app says of other names.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use bentlane_tests::{App, World, reply};
use bytes::Bytes;
use http_body_util::Full;
use hyper::Request;
use hyper::ext::Protocol;
use rstest::rstest;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// A server that answers each request with its path, once it has come with its body. What it got of
/// each connection is kept.
struct Simple {
    address: String,
    seen: Arc<Mutex<Vec<String>>>,
}

impl Simple {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap().port().to_string();
        let seen: Arc<Mutex<Vec<String>>> = Arc::default();
        let keep = Arc::clone(&seen);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let keep = Arc::clone(&keep);
                std::thread::spawn(move || converse(stream, &keep));
            }
        });
        Self { address, seen }
    }

    fn seen(&self) -> Vec<String> {
        self.seen.lock().unwrap().clone()
    }
}

fn converse(mut stream: TcpStream, seen: &Mutex<Vec<String>>) {
    let place = {
        let mut seen = seen.lock().unwrap();
        seen.push(String::new());
        seen.len() - 1
    };
    let (mut text, mut buffer) = (String::new(), [0; 4096]);
    while let Ok(length @ 1..) = stream.read(&mut buffer) {
        let more = String::from_utf8_lossy(&buffer[..length]).into_owned();
        seen.lock().unwrap()[place].push_str(&more);
        text.push_str(&more);
        while let Some((path, rest)) = next_request(&text) {
            text = rest;
            let answer = format!(
                "HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{path}",
                path.len()
            );
            if stream.write_all(answer.as_bytes()).is_err() {
                return;
            }
        }
    }
}

/// The path of the first request, once it is there with its body, and what comes behind.
fn next_request(text: &str) -> Option<(String, String)> {
    let (head, rest) = text.split_once("\r\n\r\n")?;
    let lower = head.to_lowercase();
    let rest = if lower.contains("transfer-encoding: chunked") {
        rest.split_once("0\r\n\r\n")?.1
    } else {
        let length = lower
            .lines()
            .find_map(|line| line.strip_prefix("content-length: "));
        rest.get(length.map_or(0, |length| length.trim().parse().unwrap())..)?
    };
    Some((head.split(' ').nth(1)?.to_owned(), rest.to_owned()))
}

const SMUGGLED: &str = "GET /smuggled HTTP/1.1\r\nhost: b.moor.test\r\nx: y\r\n\r\n";

/// Sends these bytes over one connection of HTTP/1.1; gives all that comes until it is silent.
async fn send(world: &World, parts: &[&str]) -> String {
    let mut stream = world.tls("a.moor.test", "http/1.1").await;
    let mut said = Vec::new();
    for part in parts {
        if stream.write_all(part.as_bytes()).await.is_err() {
            break;
        }
        let mut buffer = [0; 8192];
        let mut patience = Duration::from_secs(2);
        while let Ok(Ok(length @ 1..)) =
            tokio::time::timeout(patience, stream.read(&mut buffer)).await
        {
            said.extend_from_slice(&buffer[..length]);
            patience = Duration::from_millis(200);
        }
    }
    String::from_utf8_lossy(&said).into_owned()
}

/// An upgrade with a body is a plain request: the target gets the body with it, and nothing of it
/// becomes another client's request.
#[rstest]
#[case::length(&format!("content-length: {}\r\n\r\n{SMUGGLED}", SMUGGLED.len()))]
#[case::chunks(&format!("transfer-encoding: chunked\r\n\r\n{:x}\r\n{SMUGGLED}\r\n0\r\n\r\n", SMUGGLED.len()))]
#[tokio::test(flavor = "multi_thread")]
async fn the_body_of_an_upgrade_is_no_request(#[case] body: &str) {
    let target = Simple::start();
    let world = World::with_routes(&[("a.moor.test", &target.address)]);
    for round in 0..20 {
        let head = format!(
            "GET /first HTTP/1.1\r\nhost: a.moor.test\r\nconnection: upgrade\r\nupgrade: x{round}\r\n"
        );
        send(&world, &[&format!("{head}{body}")]).await;
        let next = world.curl(&["--http1.1", "https://a.moor.test/next"]).ok();
        assert_eq!(next, "/next", "round {round}");
        let next = world.curl(&["https://a.moor.test/next"]).ok();
        assert_eq!(next, "/next", "round {round}");
    }
    for seen in target.seen() {
        if let Some((head, _)) = seen
            .split_once("\r\n\r\n")
            .filter(|_| seen.contains("/first"))
        {
            assert!(!head.to_lowercase().contains("upgrade:"), "{head}");
        }
    }
}

/// An extended CONNECT of HTTP/2 may claim a length: the target's request has none.
#[tokio::test(flavor = "multi_thread")]
async fn the_length_of_an_extended_connect_is_not_passed_on() {
    let target = Simple::start();
    let world = World::with_routes(&[("a.moor.test", &target.address)]);
    let (mut sender, driving) = world.http2::<Full<Bytes>>("a.moor.test").await;
    let request = Request::connect("https://a.moor.test/first")
        .extension(Protocol::from_static("websocket"))
        .header("content-length", SMUGGLED.len())
        .header("sec-websocket-version", "13")
        .body(Full::new(Bytes::from_static(SMUGGLED.as_bytes())))
        .unwrap();
    sender.ready().await.unwrap();
    // What comes of it is the client's own affair; what matters is what the target got.
    let _ = tokio::time::timeout(Duration::from_secs(2), sender.send_request(request)).await;
    assert_eq!(world.curl(&["https://a.moor.test/next"]).ok(), "/next");
    for seen in target.seen() {
        assert!(!seen.contains("/smuggled"), "{seen}");
        assert!(!seen.to_lowercase().contains("content-length"), "{seen}");
        assert!(
            !(seen.contains("/first") && seen.contains("/next")),
            "a connection on which a change was offered is used once: {seen}"
        );
    }
    driving.abort();
}

/// However many heads came before, and in however many pieces, the next is looked at.
#[rstest]
#[case::both_lengths("content-length: 5\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n")]
#[case::bare_line_feed("x: y\n\r\n")]
#[case::two_lengths("content-length: 5\r\ncontent-length: 6\r\n\r\nhello")]
#[case::length_list("content-length: 5, 5\r\n\r\nhello")]
#[tokio::test(flavor = "multi_thread")]
async fn every_head_of_a_connection_is_checked(#[case] bad: &str) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let bad = format!("POST /bad HTTP/1.1\r\nhost: a.moor.test\r\n{bad}");
    let plain = "GET /good HTTP/1.1\r\nhost: a.moor.test\r\n\r\n";
    let upgrade =
        "GET /good HTTP/1.1\r\nhost: a.moor.test\r\nconnection: upgrade\r\nupgrade: x\r\n\r\n";
    let body = "POST /echo HTTP/1.1\r\nhost: a.moor.test\r\ncontent-length: 2\r\n\r\nhi";
    let chunked = "POST /echo HTTP/1.1\r\nhost: a.moor.test\r\ntransfer-encoding: chunked\r\n\r\n2\r\nhi\r\n0\r\n\r\n";
    for before in [plain, upgrade, body, chunked] {
        let at_once = format!("{before}{bad}");
        for parts in [&[before, &bad][..], &[&at_once, ""]] {
            let said = send(&world, parts).await;
            assert!(said.starts_with("HTTP/1.1 200"), "{before:?}: {said}");
            assert!(
                said.contains("HTTP/1.1 400"),
                "{before:?} {parts:?}: {said}"
            );
            assert_eq!(said.matches("HTTP/1.1 ").count(), 2, "{said}");
        }
    }
    assert!(send(&world, &[&bad]).await.starts_with("HTTP/1.1 400"));
}

#[test]
fn an_app_cannot_affect_other_ports_or_names() {
    let fields = [
        ("alt-svc", "h3=\":4310\"; ma=86400"),
        (
            "strict-transport-security",
            "max-age=600; includeSubDomains",
        ),
    ];
    let app = App::answering(0, move |_| reply(200, &fields, "hello"));
    let world = World::with_routes(&[("moor.test", &app.port()), ("a.moor.test", &app.port())]);
    let got = |name: &str| {
        world
            .curl(&["-i", &format!("https://{name}/")])
            .ok()
            .to_lowercase()
    };
    for name in ["moor.test", "a.moor.test"] {
        assert!(!got(name).contains("alt-svc"), "{}", got(name));
        assert!(got(name).contains("strict-transport-security: max-age=600"));
    }
    let found = |name: &str| {
        let verdict = &world.json(&["check", "--routes-only", name])["verdicts"][0];
        let findings = verdict["findings"].as_array().unwrap().clone();
        let found = findings
            .into_iter()
            .find(|it| it["slug"] == "hsts-too-wide");
        assert_eq!(verdict["passed"], true, "{verdict:#}");
        found
    };
    assert!(found("a.moor.test").is_none(), "a name of its own");
    let wide = found("moor.test").unwrap();
    assert_eq!(
        (&wide["hop"], &wide["severity"]),
        (&"answer".into(), &"hint".into())
    );
    let command = wide["fix"]["command"].as_str().unwrap();
    assert_eq!(command, "bentlane route edit moor.test --drop-hsts");
    world.ok(&["route", "edit", "moor.test", "--drop-hsts"]);
    assert!(!got("moor.test").contains("strict-transport-security"));
    assert!(found("moor.test").is_none());
}

#[test]
fn error_pages_run_their_own_script_alone_and_in_no_frame() {
    let world = World::with_routes(&[("a.moor.test", "1")]);
    let page = world
        .curl(&["-i", "-H", "accept: text/html", "https://a.moor.test/"])
        .ok();
    let head = page.to_lowercase();
    for part in [
        "x-content-type-options: nosniff",
        "frame-ancestors 'none'",
        "default-src 'none'",
        "script-src 'sha256-",
    ] {
        assert!(head.contains(part), "{part}: {page}");
    }
    assert!(!head.contains("script-src 'unsafe-inline'"));
}
