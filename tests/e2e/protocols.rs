//! HTTP itself: WebSocket over HTTP/2, messages that are refused, and bodies of any size.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use bentlane_tests::{App, Start, World, figure, rounds, wait_until};
use bytes::Bytes;
use futures_util::{SinkExt, StreamExt};
use http_body_util::{BodyExt, Empty, Full};
use hyper::body::Incoming;
use hyper::client::conn::{http1, http2};
use hyper::ext::Protocol;
use hyper::{Method, Request, Response};
use hyper_util::rt::TokioIo;
use rstest::rstest;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::protocol::Role;

#[tokio::test(flavor = "multi_thread")]
async fn websockets_work_over_http2() {
    let (radio, other) = (App::websocket(), App::new());
    let world = World::with_routes(&[
        ("radio.moor.test", &radio.port()),
        ("radio.moor.test/plain", &other.port()),
    ]);
    let (mut sender, _) = world.http2("radio.moor.test").await;
    let plain = Request::get("https://radio.moor.test/plain").body(Empty::<Bytes>::new());
    assert_eq!(
        sender.send_request(plain.unwrap()).await.unwrap().status(),
        200
    );
    let mut connect = |path: &str| {
        let request = Request::builder()
            .method(Method::CONNECT)
            .uri(format!("https://radio.moor.test{path}"))
            .header("sec-websocket-version", "13")
            .extension(Protocol::from_static("websocket"))
            .body(Empty::<Bytes>::new())
            .unwrap();
        sender.send_request(request)
    };
    let response = connect("/").await.unwrap();
    assert_eq!(response.status(), 200);
    assert!(!response.headers().contains_key("sec-websocket-accept"));
    let upgraded = TokioIo::new(hyper::upgrade::on(response).await.unwrap());
    let mut socket = WebSocketStream::from_raw_socket(upgraded, Role::Client, None).await;
    for message in [Message::text("hello"), Message::binary(vec![7; 300_000])] {
        socket.send(message.clone()).await.unwrap();
        assert_eq!(socket.next().await.unwrap().unwrap(), message);
    }
    socket.close(None).await.unwrap();
    // A success would mean that the protocol was changed.
    let refused = connect("/plain").await.unwrap();
    assert_eq!(refused.status(), 502);
    assert_eq!(refused.headers()["bentlane-finding"], "upgrade-refused");
}

/// What comes back over an unencrypted connection for `sent`, until that is closed.
fn say(world: &World, sent: &str) -> String {
    let mut stream = TcpStream::connect(world.address("http")).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(10)))
        .unwrap();
    stream.write_all(sent.as_bytes()).unwrap();
    let mut said = Vec::new();
    // A reset is an end, too: what was not read is thrown away.
    let _ = stream.read_to_end(&mut said);
    String::from_utf8_lossy(&said).into_owned()
}

/// Ends of heads, each of which two servers could read in two ways.
const TWO_READINGS: [&str; 15] = [
    "content-length: 5\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n",
    "transfer-encoding: chunked\r\ncontent-length: 5\r\n\r\n0\r\n\r\n",
    "x-a: b\nx-b: c\r\n\r\n",
    "x-a: b\r\n\n",
    "content-length: 5\r\ncontent-length: 6\r\n\r\nhello",
    "content-length: +5\r\n\r\nhello",
    "content-length: 5, 5\r\n\r\nhello",
    "transfer-encoding: identity\r\n\r\n",
    "transfer-encoding: chunked, gzip\r\n\r\n0\r\n\r\n",
    "transfer-encoding: chunked\r\n\r\n0x5\r\nhello\r\n0\r\n\r\n",
    "x-a: b\rc\r\n\r\n",
    "x-a: b\0c\r\n\r\n",
    "x a: b\r\n\r\n",
    "x-a : b\r\n\r\n",
    ": b\r\n\r\n",
];

#[test]
fn ambiguous_messages_end_their_connection() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.ok(&["route", "edit", "a.moor.test", "--plain", "serve"]);
    for rest in TWO_READINGS {
        let head = format!("POST / HTTP/1.1\r\nhost: a.moor.test\r\n{rest}");
        // To a reader that ends the first request earlier, what follows is a second one.
        let behind = "GET /smuggled HTTP/1.1\r\nhost: a.moor.test\r\n\r\n";
        let said = say(&world, &format!("{head}{behind}"));
        assert!(said.starts_with("HTTP/1.1 400"), "{rest:?}: {said}");
        assert!(!said.contains("smuggled"), "{rest:?}: {said}");
    }
}

#[rstest]
#[case("GET /a HTTP/1.0\r\nhost: a.moor.test\r\n\r\n", "HTTP/1.0 200")]
#[case(
    "GET http://a.moor.test/a?b HTTP/1.1\r\nhost: b.test\r\nconnection: close\r\n\r\n",
    "HTTP/1.1 200"
)]
#[case(
    "OPTIONS * HTTP/1.1\r\nhost: a.moor.test\r\nconnection: close\r\n\r\n",
    "HTTP/1.1 200"
)]
#[case(
    "HEAD /a HTTP/1.1\r\nhost: a.moor.test\r\nconnection: close\r\n\r\n",
    "HTTP/1.1 200"
)]
#[case(
    "PURGE /a HTTP/1.1\r\nhost: a.moor.test\r\nconnection: close\r\n\r\n",
    "HTTP/1.1 200"
)]
#[case(
    "CONNECT a.moor.test:80 HTTP/1.1\r\nhost: a.moor.test:80\r\n\r\n",
    "HTTP/1.1 400"
)]
#[case("GET /a HTTP/1.1\r\n\r\n", "HTTP/1.1 400")]
#[case("GET /a HTTP/3.0\r\nhost: a.moor.test\r\n\r\n", "HTTP/1.1 400")]
fn every_form_of_a_request_is_understood(#[case] request: &str, #[case] wanted: &str) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.ok(&["route", "edit", "a.moor.test", "--plain", "serve"]);
    let said = say(&world, request);
    assert!(said.starts_with(wanted), "{said}");
    if let Some((_, body)) = said
        .split_once("\r\n\r\n")
        .filter(|_| wanted.contains("200"))
    {
        assert_eq!(body.is_empty(), request.starts_with("HEAD"), "{said}");
        assert!(
            !body.contains("http://a.moor.test/a"),
            "origin form: {said}"
        );
    }
}

#[test]
fn bodies_of_any_size_take_constant_memory() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let peak = || -> u64 {
        let status = format!("/proc/{}/status", world.service().pid());
        let status = std::fs::read_to_string(status).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        line.unwrap()
            .trim()
            .trim_end_matches(" kB")
            .parse()
            .unwrap()
    };
    let small = world.path("small");
    std::fs::write(&small, vec![7; 1_000_000]).unwrap();
    let send = |file: &str| {
        let body = format!("@{file}");
        for version in ["--http1.1", "--http2"] {
            let to = [
                "-T",
                &body[1..],
                "-X",
                "POST",
                "-o",
                "/dev/null",
                "-w",
                "%{size_download}",
            ];
            let said = world.curl(&[&[version, "https://a.moor.test/echo"], &to[..]].concat());
            let length = std::fs::metadata(file).unwrap().len();
            assert_eq!(said.ok(), length.to_string());
        }
    };
    send(small.to_str().unwrap());
    let before = peak();
    let large = world.path("large");
    // A file with a hole: 200 MB to read, and nothing on the disk.
    std::fs::File::create(&large)
        .unwrap()
        .set_len(200_000_000)
        .unwrap();
    send(large.to_str().unwrap());
    let grown = peak().saturating_sub(before);
    assert!(grown < 60_000, "{grown} KiB more for a body of 200 MB");
}

/// A connection of either version that is used again and again.
enum Connection {
    Http1(http1::SendRequest<Full<Bytes>>),
    Http2(http2::SendRequest<Full<Bytes>>),
}

impl Connection {
    async fn send(&mut self, request: Request<Full<Bytes>>) -> hyper::Result<Response<Incoming>> {
        match self {
            Self::Http1(sender) => {
                sender.ready().await?;
                sender.send_request(request).await
            }
            Self::Http2(sender) => sender.send_request(request).await,
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_disturb_no_request() {
    let (app, radio) = (App::new(), App::websocket());
    let world = World::with_routes(&[
        ("a.moor.test", &app.port()),
        ("radio.moor.test", &radio.port()),
        ("b.moor.test", "4310"),
    ]);
    let stream = world.tls("radio.moor.test", "http/1.1").await;
    let (mut socket, _) = tokio_tungstenite::client_async("wss://radio.moor.test/", stream)
        .await
        .unwrap();
    let (end, asked) = (
        Arc::new(AtomicBool::new(false)),
        Arc::new(AtomicUsize::new(0)),
    );
    let io = TokioIo::new(world.tls("a.moor.test", "http/1.1").await);
    let (one, connection) = http1::handshake(io).await.unwrap();
    tokio::spawn(connection);
    let (two, _) = world.http2("a.moor.test").await;
    let mut askers = Vec::new();
    for mut connection in [Connection::Http1(one), Connection::Http2(two)] {
        let (end, asked) = (Arc::clone(&end), Arc::clone(&asked));
        askers.push(tokio::spawn(async move {
            while !end.load(Ordering::Relaxed) {
                let request =
                    Request::post("https://a.moor.test/echo").header("host", "a.moor.test");
                let request = request.body(Full::new(Bytes::from("hello"))).unwrap();
                let response = connection.send(request).await.expect("no request fails");
                assert_eq!(response.status(), 200);
                let body = response
                    .into_body()
                    .collect()
                    .await
                    .expect("no body breaks off");
                assert_eq!(body.to_bytes(), "hello");
                asked.fetch_add(1, Ordering::Relaxed);
            }
        }));
    }
    let api = tokio::net::UnixStream::connect(world.socket())
        .await
        .unwrap();
    let (mut sender, connection) = http1::handshake(TokioIo::new(api)).await.unwrap();
    tokio::spawn(connection);
    let rounds = rounds(100);
    for number in 0..rounds {
        let change = format!(
            r#"{{"to":"{}","server_timing":{}}}"#,
            5000 + number,
            number % 2 == 0
        );
        let request = Request::patch("/api/v1/routes/b.moor.test")
            .header("host", "localhost")
            .header("content-type", "application/json")
            .body(Full::new(Bytes::from(change)))
            .unwrap();
        sender.ready().await.unwrap();
        let response = sender.send_request(request).await.unwrap();
        assert_eq!(response.status(), 200);
        response.into_body().collect().await.unwrap();
    }
    end.store(true, Ordering::Relaxed);
    for asker in askers {
        asker.await.unwrap();
    }
    assert!(
        asked.load(Ordering::Relaxed) > rounds / 2,
        "{asked:?} requests beside the changes"
    );
    figure("changes", rounds);
    figure("requests beside them", asked.load(Ordering::Relaxed));
    figure("failed", 0);
    socket.send(Message::text("still here")).await.unwrap();
    assert_eq!(
        socket.next().await.unwrap().unwrap(),
        Message::text("still here")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn endless_stream_resets_end_only_their_connection() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let (sender, connection) = world.http2("a.moor.test").await;
    let mut opened = 0;
    while !connection.is_finished() && opened < 20_000 {
        let mut sender = sender.clone();
        if sender.ready().await.is_err() {
            break;
        }
        let request = Request::get("https://a.moor.test/ticks").body(Empty::<Bytes>::new());
        // Dropping what waits for the response resets the stream.
        let asking = sender.send_request(request.unwrap());
        let _ = tokio::time::timeout(Duration::from_micros(50), asking).await;
        opened += 1;
    }
    assert!(
        opened < 20_000,
        "{opened} streams were opened and reset on one connection"
    );
    let said = world.curl(&[
        "-o",
        "/dev/null",
        "-w",
        "%{http_code}",
        "https://a.moor.test/",
    ]);
    assert_eq!(said.ok(), "200");
}

#[test]
fn a_service_with_few_descriptors_serves_few_connections_and_everything_else() {
    let app = App::new();
    let start = Start {
        wrapper: ["prlimit", "--nofile=160:160"].map(str::to_owned).to_vec(),
        ..Start::default()
    };
    let world = World::with(start);
    world.ok(&["zone", "add", "moor.test"]);
    world.ok(&["route", "add", "a.moor.test", &app.port()]);
    let at = world.address("https");
    let many: Vec<TcpStream> = (0..300)
        .filter_map(|_| TcpStream::connect(at).ok())
        .collect();
    assert!(many.len() > 200, "they wait in the system's queue");
    // The others get no descriptor that the API, the database or a target needs.
    let status = world.json(&["status"]);
    assert_eq!(status["capacity"]["descriptors"], 160);
    assert_eq!(status["capacity"]["connections"], 40);
    let shown = world.ok(&["status"]);
    assert!(shown.contains("40 connections, 160 open files"), "{shown}");
    world.ok(&["route", "edit", "a.moor.test", "--note", "still here"]);
    drop(many);
    let url = "https://a.moor.test/";
    let status = ["-o", "/dev/null", "-w", "%{http_code}", url];
    // What was dropped counts until the service has noticed.
    wait_until("the page", || {
        (world.curl(&status).stdout == "200").then_some(())
    });
    // One over the limit gets an error. What was dropped may still count for a moment, so
    // connections are added until none is free.
    let mut held = Vec::new();
    wait_until("the page that says so", || {
        held.extend((held.len()..40).map_while(|_| TcpStream::connect(at).ok()));
        held.extend(TcpStream::connect(at).ok());
        let page = world.curl(&[url]).stdout;
        page.contains("too-many-connections").then_some(())
    });
}
