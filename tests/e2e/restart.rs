//! Starting again in place: what listens stays open, and what is at work gets its time.

use std::fs;
use std::net::UdpSocket;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use bentlane_tests::{
    App, Background, Start, World, figure, pause, reply, rounds, run, signal, wait_until,
};
use bytes::Bytes;
use futures_util::{SinkExt, StreamExt};
use http_body_util::{BodyExt, Empty};
use hyper::Request;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rustix::process::Signal;
use tokio::time::{interval, timeout};
use tokio_tungstenite::tungstenite::Message;

/// What came of asking.
#[derive(Debug, Default)]
struct Asked {
    end: AtomicBool,
    answered: AtomicUsize,
    failed: AtomicUsize,
}

impl Asked {
    fn note(&self, answered: bool) {
        let count = if answered {
            &self.answered
        } else {
            &self.failed
        };
        count.fetch_add(1, Ordering::Relaxed);
    }

    fn is_over(&self) -> bool {
        self.end.load(Ordering::Relaxed)
    }
}

/// One request over a new connection.
async fn ask_over_tls(world: &World) -> bool {
    let stream = world.tls("a.moor.test", "http/1.1").await;
    let Ok((mut sender, connection)) = http1::handshake(TokioIo::new(stream)).await else {
        return false;
    };
    tokio::spawn(connection);
    let request = Request::get("/").header("host", "a.moor.test");
    let request = request.header("connection", "close");
    match sender
        .send_request(request.body(Empty::<Bytes>::new()).unwrap())
        .await
    {
        Ok(response) => response.status() == 200 && response.collect().await.is_ok(),
        Err(_) => false,
    }
}

/// Asks over new connections, as many a second as a test may, until it is over.
async fn keep_asking(world: Arc<World>, asked: Arc<Asked>) {
    let mut turns = interval(Duration::from_millis(20));
    let mut asking = tokio::task::JoinSet::new();
    while !asked.is_over() {
        turns.tick().await;
        let (world, asked) = (Arc::clone(&world), Arc::clone(&asked));
        asking.spawn(async move { asked.note(ask_over_tls(&world).await) });
    }
    let outcomes = asking.join_all().await;
    assert!(!outcomes.is_empty());
}

/// The same with questions for an address, each of which has to be answered within five seconds, as a
/// system's resolver waits for.
fn keep_looking_up(at: std::net::SocketAddr, asked: &Asked) {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(at).unwrap();
    socket
        .set_read_timeout(Some(Duration::from_secs(5)))
        .unwrap();
    let mut answer = [0; 512];
    while !asked.is_over() {
        let question = b"\0\x07\x01\0\0\x01\0\0\0\0\0\0\x01a\x04moor\x04test\0\0\x01\0\x01";
        socket.send(question).unwrap();
        asked.note(
            socket
                .recv(&mut answer)
                .is_ok_and(|length| length > question.len()),
        );
    }
}

/// Restarts the service once, beside a WebSocket and a request at work.
async fn restart(world: &Arc<World>) {
    let stream = world.tls("radio.moor.test", "http/1.1").await;
    let opened = tokio_tungstenite::client_async("wss://radio.moor.test/", stream).await;
    let (mut socket, _) = opened.unwrap();
    socket.send(Message::text("hello")).await.unwrap();
    assert_eq!(
        socket.next().await.unwrap().unwrap(),
        Message::text("hello")
    );
    let mut at_work = world.curl_command(&["https://slow.moor.test/"]);
    let mut at_work = Background::start(&mut at_work, world.path("slow.log"));
    tokio::time::sleep(Duration::from_millis(300)).await;

    let said = tokio::task::spawn_blocking({
        let world = Arc::clone(world);
        move || world.ok(&["restart"])
    });
    let closed = timeout(Duration::from_secs(10), socket.next())
        .await
        .unwrap();
    let Some(Ok(Message::Close(Some(frame)))) = closed else {
        panic!("it is closed in another way: {closed:?}");
    };
    assert_eq!(u16::from(frame.code), 1012);
    let said = said.await.unwrap();
    assert!(said.contains("restarted in"), "{said}");
    wait_until("the answer to what was at work", || at_work.ended());
    assert!(at_work.output().contains("done"), "{}", at_work.output());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_restart_refuses_nobody() {
    let (app, radio) = (App::new(), App::websocket());
    let slow = App::answering(0, |_| {
        #[allow(clippy::disallowed_methods, reason = "an app that takes its time")]
        std::thread::sleep(Duration::from_secs(1));
        reply(200, &[], "done")
    });
    let world = World::with(Start::on_kept_ports()).add_routes(&[
        ("a.moor.test", &app.port()),
        ("radio.moor.test", &radio.port()),
        ("slow.moor.test", &slow.port()),
    ]);
    world.ok(&[
        "route",
        "add",
        "own.moor.test",
        &app.port(),
        "--address",
        "own",
    ]);
    let world = Arc::new(world);
    let (pages, names) = (Arc::new(Asked::default()), Arc::new(Asked::default()));
    let asking = tokio::spawn(keep_asking(Arc::clone(&world), Arc::clone(&pages)));
    let looking_up = std::thread::spawn({
        let (at, names) = (world.address("dns"), Arc::clone(&names));
        move || keep_looking_up(at, &names)
    });
    let before = world.json(&["status"]);
    let database = world.database_pid();

    let rounds = rounds(2);
    for _ in 0..rounds {
        restart(&world).await;
    }

    for asked in [&pages, &names] {
        asked.end.store(true, Ordering::Relaxed);
    }
    asking.await.unwrap();
    looking_up.join().unwrap();
    for asked in [&pages, &names] {
        assert_eq!(asked.failed.load(Ordering::Relaxed), 0, "{asked:?}");
        assert!(asked.answered.load(Ordering::Relaxed) > rounds, "{asked:?}");
    }
    figure("restarts", rounds);
    figure(
        "pages over new connections",
        pages.answered.load(Ordering::Relaxed),
    );
    figure("DNS questions", names.answered.load(Ordering::Relaxed));
    figure("refused or unanswered", 0);
    let after = world.json(&["status"]);
    assert_ne!(after["started_at"], before["started_at"]);
    for same in ["pid", "listeners", "revision", "routes"] {
        assert_eq!(after[same], before[same], "{same}");
    }
    let own = world.dig(&["+short", "own.moor.test"]);
    let to = format!("::{}:{}", own.trim(), world.address("https").port());
    let page = world.curl(&[
        "--connect-to",
        &to,
        "https://own.moor.test/status/204",
        "-w",
        "%{http_code}",
    ]);
    assert!(page.ok().ends_with("204"));
    assert!(!world.service().output().contains("cannot listen"));

    // The database server went on, still ours to use and to stop.
    assert_eq!(world.database_pid(), database);
    world.ok(&["route", "add", "late.moor.test", "4311"]);
    let mut world = Arc::into_inner(world).unwrap();
    assert_eq!(world.end(Signal::TERM), 0);
    assert_eq!(world.database_pid(), None);
}

#[test]
fn nothing_is_stopped_when_the_service_would_not_start_again() {
    let world = World::with(Start::on_kept_ports());
    let before = world.json(&["status"]);
    let file = world.path("config/bentlane/config.toml");
    fs::create_dir_all(file.parent().unwrap()).unwrap();
    fs::write(&file, "[checks]\nevery_seconds = \"never\"\n").unwrap();
    // The client has settings of its own.
    let none = world.path("none.toml");
    fs::write(&none, "").unwrap();
    let refused = world.run(&["restart", "--config", none.to_str().unwrap()]);
    assert_eq!(refused.code, 1, "{refused:?}");
    assert!(refused.stderr.contains("goes on"), "{refused:?}");
    assert!(refused.stderr.contains("config.toml"), "{refused:?}");
    fs::write(&file, "").unwrap();
    assert_eq!(world.json(&["status"])["started_at"], before["started_at"]);

    fs::write(&file, "[checks]\nevery_seconds = 120\n").unwrap();
    world.ok(&["restart"]);
    let mut world = world;
    assert_eq!(world.end(Signal::INT), 0);
    assert_eq!(world.database_pid(), None);
    let checked = run(
        bentlane_tests::binary(),
        &["serve", "--check", "--https", "nowhere"],
    );
    assert_eq!(checked.code, 2, "{checked:?}");
}

#[test]
fn a_stop_refuses_new_connections_while_it_waits_for_others() {
    let at_work = Arc::new(AtomicBool::new(false));
    let asked = Arc::clone(&at_work);
    let slow = App::answering(0, move |request| {
        if request.uri().path() == "/held" {
            asked.store(true, Ordering::SeqCst);
            pause(Duration::from_secs(3));
        }
        reply(200, &[], "done")
    });
    let mut world =
        World::with(Start::on_kept_ports()).add_routes(&[("slow.moor.test", &slow.port())]);
    let https = world.address("https");
    let mut command = world.curl_command(&["https://slow.moor.test/held"]);
    let mut client = Background::start(&mut command, world.path("curl.log"));
    wait_until("the request to be at work", || {
        at_work.load(Ordering::SeqCst).then_some(())
    });
    signal(world.service().pid(), Signal::TERM);
    wait_until("new connections to be refused", || {
        std::net::TcpStream::connect(https).is_err().then_some(())
    });
    assert_eq!(client.ended(), None, "it is still answered");
    wait_until("the answer", || client.ended());
    assert!(client.output().contains("done"), "{}", client.output());
    wait_until("the end", || world.service_mut().ended());
}
