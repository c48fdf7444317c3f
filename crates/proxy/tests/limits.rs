//! What the proxy does when a peer is too slow, sends too much, or breaks off, with limits so short
//! that a test can wait for them.
#![allow(
    clippy::unwrap_used,
    reason = "a test that panics has failed, as it should"
)]

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_ca::{Authority, Limits as NameLimits, Owner};
use bentlane_model::{Configuration, Plain, Route, Snapshot, Zone};
use bentlane_proxy::{Certificates, Limits, Listeners, Proxy, TargetRoots};
use bentlane_supervisor::Supervisor;
use rstest::rstest;
use time::OffsetDateTime;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::{CancellationToken, DropGuard};

/// A proxy for plain HTTP, and what an app behind it says to every request.
struct Scene {
    at: SocketAddr,
    _end: DropGuard,
}

impl Scene {
    /// An app that reads what one read brings, says `said`, and then keeps still or closes.
    async fn new(said: &'static [u8], closes: bool) -> Self {
        let app = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let target = app.local_addr().unwrap().port();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = app.accept().await {
                tokio::spawn(async move {
                    let _ = stream.read(&mut [0; 4096]).await;
                    let _ = stream.write_all(said).await;
                    while !closes && stream.read(&mut [0; 4096]).await.is_ok_and(|it| it > 0) {}
                });
            }
        });
        let mut zone = Zone::new("moor.test".parse().unwrap());
        zone.settings.plain = Plain::Serve;
        let route = Route::new(
            "a.moor.test".parse().unwrap(),
            target.to_string().parse().unwrap(),
        );
        let snapshot = Arc::new(Snapshot::compile(Configuration {
            revision: 1,
            zones: vec![zone],
            routes: vec![route],
            ..Configuration::default()
        }));
        let owner = Owner {
            host: "fell".into(),
        };
        let now = OffsetDateTime::now_utc();
        let root = Authority::create(&owner, &NameLimits::of_root([]), now).unwrap();
        let issuer = root.issuer_for([], now).unwrap();
        let limit = Duration::from_millis(300);
        let limits = Limits {
            head: limit,
            first_byte: limit * 2,
            request_idle: limit,
            response_idle: limit,
            connections: 2,
            ..Limits::default()
        };
        let proxy = Proxy::new(
            snapshot,
            Arc::new(Certificates::new(issuer)),
            TargetRoots::new("/nowhere".into()),
            limits,
        );
        let listeners = Listeners::plain(&["127.0.0.1:0".parse().unwrap()], |_| None).unwrap();
        let at = listeners.plain_addresses().unwrap()[0];
        let end = CancellationToken::new();
        let (shutdown, guard) = (end.clone(), end.drop_guard());
        let running = proxy
            .start(listeners, &Supervisor::new(shutdown.clone()))
            .unwrap();
        tokio::spawn(async move {
            shutdown.cancelled().await;
            running.drain().await;
        });
        Self { at, _end: guard }
    }

    async fn connect(&self) -> TcpStream {
        TcpStream::connect(self.at).await.unwrap()
    }

    /// What comes back for `sent` until the connection is closed.
    async fn talk(&self, sent: &str) -> String {
        let mut stream = self.connect().await;
        stream.write_all(sent.as_bytes()).await.unwrap();
        let mut said = Vec::new();
        let deadline = Duration::from_secs(20);
        let reading = tokio::time::timeout(deadline, stream.read_to_end(&mut said));
        let _ = reading.await.expect("the connection is closed in the end");
        String::from_utf8_lossy(&said).into_owned()
    }
}

const GET: &str = "GET / HTTP/1.1\r\nhost: a.moor.test\r\nconnection: close\r\n\r\n";
const FINE: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 5\r\n\r\nhello";
const CUT: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 50\r\n\r\nhello";
const CHUNK: &[u8] = b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n5\r\nhello\r\n";

#[rstest]
#[case("a head that does not end", FINE, "GET / HTTP/1.1\r\nhost: a.", "")]
#[case(
    "a body that stands still",
    b"",
    "POST / HTTP/1.1\r\nhost: a.moor.test\r\ncontent-length: 9\r\nconnection: close\r\n\r\nhel",
    "HTTP/1.1 408"
)]
#[case("an app that keeps silent", b"", GET, "HTTP/1.1 504")]
#[tokio::test(flavor = "multi_thread")]
async fn slow_clients_and_targets_time_out(
    #[case] what: &str,
    #[case] said: &'static [u8],
    #[case] sent: &str,
    #[case] wanted: &str,
) {
    let scene = Scene::new(said, false).await;
    let heard = scene.talk(sent).await;
    assert!(heard.starts_with(wanted), "{what}: {heard}");
    assert_eq!(heard.is_empty(), wanted.is_empty(), "{what}: {heard}");
}

#[rstest]
#[case("an app that dies in a body of known length", CUT, true)]
#[case("an app that dies between chunks", CHUNK, true)]
#[case("an app whose body stands still", CUT, false)]
#[case("an app whose chunks stand still", CHUNK, false)]
#[tokio::test(flavor = "multi_thread")]
async fn a_truncated_body_is_never_passed_on_as_complete(
    #[case] what: &str,
    #[case] said: &'static [u8],
    #[case] closes: bool,
) {
    let scene = Scene::new(said, closes).await;
    let heard = scene.talk(GET).await;
    assert!(
        heard.starts_with("HTTP/1.1 200") && heard.contains("hello"),
        "{what}: {heard}"
    );
    // Less than the length that was promised, or no last chunk.
    assert!(!heard.ends_with("0\r\n\r\n"), "{what}: {heard}");
    let length = heard.split_once("\r\n\r\n").unwrap().1.len();
    assert!(length < 50, "{what}: {heard}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_may_take_its_time() {
    let scene = Scene::new(b"", false).await;
    let mut stream = scene.connect().await;
    let head = "POST / HTTP/1.1\r\nhost: a.moor.test\r\ncontent-length: 99\r\n\r\n";
    stream.write_all(head.as_bytes()).await.unwrap();
    let mut said = [0; 100];
    // Longer than an app may be silent, but it is not its turn yet.
    for _ in 0..12 {
        let heard = tokio::time::timeout(Duration::from_millis(100), stream.read(&mut said)).await;
        assert!(heard.is_err(), "{}", String::from_utf8_lossy(&said));
        stream.write_all(b"more").await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_event_stream_may_be_silent_for_longer() {
    const EVENTS: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\n\r\ndata: 1\n\n";
    let scene = Scene::new(EVENTS, false).await;
    let mut stream = scene.connect().await;
    stream.write_all(GET.as_bytes()).await.unwrap();
    let mut said = [0; 4096];
    let mut heard = 0;
    while !said[..heard].windows(7).any(|it| it == b"data: 1") {
        heard += stream.read(&mut said[heard..]).await.unwrap();
    }
    let twice = Duration::from_millis(700);
    let more = tokio::time::timeout(twice, stream.read(&mut said)).await;
    assert!(more.is_err(), "still open: {more:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_over_the_limit_gets_503_and_is_served_later() {
    let scene = Scene::new(FINE, false).await;
    let (mut one, two) = (scene.connect().await, scene.connect().await);
    one.write_all(b"GET / HTTP/1.1\r\nhost: a.moor.test\r\n\r\n")
        .await
        .unwrap();
    let _ = one.read(&mut [0; 4096]).await.unwrap();
    let heard = scene.talk(GET).await;
    assert!(heard.starts_with("HTTP/1.1 503"), "{heard}");
    assert!(heard.contains("too-many-connections"), "{heard}");
    drop((one, two));
    // A place is free as soon as the proxy has seen the end.
    for _ in 0..100 {
        if scene.talk(GET).await.starts_with("HTTP/1.1 200") {
            return;
        }
    }
    panic!("no place is given back");
}
