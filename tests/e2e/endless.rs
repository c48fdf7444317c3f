//! Peers that never stop sending, on every reader: another route keeps answering beside them.

use std::io::{Read, Write};
use std::iter;
use std::net::{Shutdown, SocketAddr, TcpStream};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use bentlane_tests::{App, Background, World, figure, pause, rounds};
use bytes::Bytes;
use http_body_util::Empty;
use hyper::Request;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rstest::rstest;
use rustix::net::sockopt::set_socket_linger;
use tokio::io::AsyncWriteExt;
use tokio::runtime::Handle;
use tokio::task::{JoinSet, spawn_blocking};
use tokio::time::{sleep, timeout};

/// How long one answer may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// More than there are threads that serve.
const PEERS: usize = 4;

/// How fast peers send.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pace {
    /// As fast as they can.
    Full,
    /// 1 MB and 5 requests a second each, so that the answers of others do not wait for one of this machine's
    /// two cores, which the peers and their targets take at full speed whatever the service does.
    Bounded,
}

impl Pace {
    fn curl_options(self) -> &'static [&'static str] {
        match self {
            Self::Full => &[],
            Self::Bounded => &["--rate", "5/s"],
        }
    }

    /// How many milliseconds a peer waits after each 8 KiB.
    fn pause(self) -> u64 {
        match self {
            Self::Full => 0,
            Self::Bounded => 8,
        }
    }
}

/// A healthy route answers beside the peers, which run until they are dropped. The longer form also
/// compares its times with those that it has alone.
fn a_healthy_route_answers<P>(world: &World, peers: impl Fn(Pace) -> P) {
    let count = rounds(20);
    let mut times = Vec::new();
    if rounds(0) > 0 {
        answers(world, count);
        times.push(("alone", p99(&answers(world, count))));
        let running = peers(Pace::Bounded);
        // Buffers are filled first, as fast as it goes.
        pause(Duration::from_secs(1));
        times.push(("beside bounded peers", p99(&answers(world, count))));
        drop(running);
    }
    let running = peers(Pace::Full);
    times.push(("beside peers at full speed", p99(&answers(world, count))));
    drop(running);
    for (name, time) in &times {
        let millis = format!("{:.1}", time.as_secs_f64() * 1000.0);
        figure(&format!("p99 of a healthy route {name}, ms"), millis);
    }
    if let [(_, alone), (_, beside), _] = times.as_slice() {
        let ratio = beside.as_secs_f64() / alone.as_secs_f64();
        let name = "largest ratio of beside bounded peers to alone, times";
        figure(name, format!("{ratio:.2}"));
    }
}

/// How long each of so many answers takes, over a connection of its own.
fn answers(world: &World, count: usize) -> Vec<Duration> {
    let ask = async || {
        let start = Instant::now();
        let stream = world.tls("healthy.moor.test", "http/1.1").await;
        let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await.unwrap();
        tokio::spawn(connection);
        let request = Request::get("/").header("host", "healthy.moor.test");
        let request = request.body(Empty::<Bytes>::new()).unwrap();
        let response = timeout(PATIENCE, sender.send_request(request)).await;
        assert_eq!(response.unwrap().unwrap().status(), 200);
        start.elapsed()
    };
    let asking = async {
        let mut times = Vec::new();
        for _ in 0..count {
            times.push(ask().await);
        }
        times
    };
    let runtime = tokio::runtime::Builder::new_current_thread();
    let runtime = { runtime }.enable_all().build().unwrap();
    runtime.block_on(asking)
}

/// The 99th percentile.
fn p99(times: &[Duration]) -> Duration {
    let mut times = times.to_vec();
    times.sort();
    times[(times.len() * 99).div_ceil(100).max(1) - 1]
}

#[rstest]
#[case::interim("", "HTTP/1.1 103 Early Hints\r\nlink: </a>\r\n\r\n", Some("502"))]
#[case::short_interim("", "HTTP/1.1 100 \r\n\r\n", Some("502"))]
#[case::head("HTTP/1.1 200 OK\r\n", "x-a: b\r\n", Some("502"))]
#[case::long_field("HTTP/1.1 200 OK\r\nx-a: ", "bbbbbbbb", Some("502"))]
#[case::body("HTTP/1.1 200 OK\r\n\r\n", "hut and ", None)]
#[case::chunks(
    "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n",
    "1\r\na\r\n",
    None
)]
#[case::chunk_extensions(
    "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n1",
    ";a=b",
    Some("200")
)]
#[case::trailers(
    "HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n0\r\n",
    "x-a: b\r\n",
    Some("200")
)]
fn an_endless_target_does_not_starve_other_routes(
    #[case] first: &'static str,
    #[case] again: &'static str,
    #[case] status: Option<&str>,
) {
    let waits = Arc::new(AtomicU64::new(0));
    let (app, endless) = (App::new(), App::endless(first, again, Arc::clone(&waits)));
    let routes = [
        ("healthy.moor.test", &*app.port()),
        ("endless.moor.test", &*endless.port()),
    ];
    let world = World::with_routes(&routes);
    let url = "https://endless.moor.test/";
    if let Some(status) = status {
        // It ends by itself.
        let ended = world.curl(&["-o", "/dev/null", "-w", "%{http_code}", url]);
        assert!(ended.stdout.ends_with(status), "{ended:?}");
        assert!(!ended.stderr.contains("timed out"), "{ended:?}");
    }
    let again = format!("{url}[1-1000]");
    a_healthy_route_answers(&world, |pace| {
        waits.store(pace.pause(), Ordering::Relaxed);
        let peer = |number| {
            let curl = world.curl_command(&["-o", "/dev/null", "--max-time", "60", &again]);
            let mut command = Command::new("nice");
            command.args(["-n", "19"]).arg(curl.get_program());
            command.args(curl.get_args()).args(pace.curl_options());
            Background::start(&mut command, world.path(&format!("peer-{number}.log")))
        };
        (0..PEERS).map(peer).collect::<Vec<Background>>()
    });
}

#[rstest]
#[case::head("GET / HTTP/1.1\r\nhost: healthy.moor.test\r\n", "x-a: b\r\n")]
#[case::body(
    "POST / HTTP/1.1\r\nhost: healthy.moor.test\r\ncontent-length: 99999999999\r\n\r\n",
    "hut and "
)]
#[case::chunks(
    "POST / HTTP/1.1\r\nhost: healthy.moor.test\r\ntransfer-encoding: chunked\r\n\r\n",
    "1\r\na\r\n"
)]
#[case::chunk_extensions(
    "POST / HTTP/1.1\r\nhost: healthy.moor.test\r\ntransfer-encoding: chunked\r\n\r\n1",
    ";a=b"
)]
#[case::trailers(
    "POST / HTTP/1.1\r\nhost: healthy.moor.test\r\ntransfer-encoding: chunked\r\n\r\n0\r\n",
    "x-a: b\r\n"
)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_endless_client_does_not_starve_others(
    #[case] first: &'static str,
    #[case] again: &str,
) {
    let app = App::new();
    let world = World::with_routes(&[("healthy.moor.test", &app.port())]);
    let many = again.repeat(8 * 1024 / again.len());
    let runtime = Handle::current();
    let peers = move |world: &World, pace: Pace| {
        let mut peers = JoinSet::new();
        for _ in 0..PEERS {
            let mut stream = runtime.block_on(world.tls("healthy.moor.test", "http/1.1"));
            let (first, many) = (first.to_owned(), many.clone());
            let send = async move {
                let mut sent = stream.write_all(first.as_bytes()).await;
                while sent.is_ok() {
                    sent = stream.write_all(many.as_bytes()).await;
                    sleep(Duration::from_millis(pace.pause())).await;
                }
            };
            peers.spawn_on(send, &runtime);
        }
        peers
    };
    let asking = move || a_healthy_route_answers(&world, |pace| peers(&world, pace));
    spawn_blocking(asking).await.unwrap();
}

#[test]
fn endless_queries_over_tcp_do_not_starve_others() {
    let app = App::new();
    let world = World::with_routes(&[("healthy.moor.test", &app.port())]);
    let at: SocketAddr = world.address("dns");
    // `healthy.moor.test A IN`, behind its length.
    let name = b"\x07healthy\x04moor\x04test\0\0\x01\0\x01";
    let header = b"\0\x01\x01\0\0\x01\0\0\0\0\0\0";
    let length = u16::try_from(header.len() + name.len())
        .unwrap()
        .to_be_bytes();
    let many = [&length[..], header, name].concat().repeat(1000);
    thread::scope(|scope| {
        a_healthy_route_answers(&world, |_| {
            let peers = || TcpStream::connect(at).unwrap();
            let peers: Vec<ClosedAtTheEnd> = iter::repeat_with(peers)
                .take(PEERS)
                .map(ClosedAtTheEnd)
                .collect();
            for ClosedAtTheEnd(peer) in &peers {
                let (mut peer, many) = (peer.try_clone().unwrap(), &many);
                // It reads no answer.
                scope.spawn(move || while peer.write_all(many).is_ok() {});
            }
            let answer = world.dig(&["healthy.moor.test", "+short"]);
            assert_eq!(answer.trim(), "127.0.0.1");
            peers
        });
    });
}

struct ClosedAtTheEnd(TcpStream);

impl Drop for ClosedAtTheEnd {
    fn drop(&mut self) {
        let _ = self.0.shutdown(Shutdown::Both);
    }
}

/// More clients than there is room for, each of which has asked once and stays.
#[test]
fn idle_clients_of_dns_give_way_to_others() {
    let world = World::with_routes(&[]);
    let at = world.address("dns");
    let query = b"\0\x1b\0\x01\x01\0\0\x01\0\0\0\0\0\0\x04moor\x04test\0\0\x01\0\x01";
    let ask = || {
        let mut stream = TcpStream::connect(at).unwrap();
        stream.write_all(query).unwrap();
        let limit = Some(Duration::from_secs(5));
        stream.set_read_timeout(limit).unwrap();
        stream.read_exact(&mut [0; 2]).unwrap();
        stream
    };
    let clients: Vec<TcpStream> = (0..300).map(|_| ask()).collect();
    assert_eq!(clients.len(), 300);
}

#[test]
fn connections_that_are_reset_at_once_do_not_fill_the_log() {
    let world = World::with_routes(&[]);
    let before = world.service().output().lines().count();
    for listener in ["http", "https", "dns", "console"] {
        let at = world.address(listener);
        for number in 0..rounds(100) {
            let mut stream = TcpStream::connect(at).unwrap();
            if number % 2 == 0 {
                // What is no TLS, no HTTP and no DNS either.
                let _ = stream.write_all(b"\x16\x03\xff\xff");
            }
            set_socket_linger(&stream, Some(Duration::ZERO)).unwrap();
        }
    }
    let answer = world.run(&["status"]);
    assert_eq!(answer.code, 0, "{answer:?}");
    let log = world.service().output();
    assert!(log.lines().count() <= before + 20, "{log}");
}
