//! Peers that never stop sending, on every reader: another route keeps answering beside them.

use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpStream};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use bentlane_tests::{App, Background, World, figure, rounds};
use bytes::Bytes;
use http_body_util::Empty;
use hyper::Request;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rstest::rstest;
use rustix::net::sockopt::set_socket_linger;
use tokio::io::AsyncWriteExt;
use tokio::time::timeout;

/// How long one answer may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// More than there are threads that serve.
const PEERS: usize = 4;

fn a_healthy_route_answers(world: &World) {
    let times = answers(world, rounds(20));
    figure("p99 of a healthy route beside it, ms", millis(&times));
}

/// How long a healthy route takes when nothing else is asked, for comparison.
fn a_healthy_route_answers_alone(world: &World) {
    // Only the longer form compares.
    let few = rounds(0);
    if few > 0 {
        figure(
            "p99 of a healthy route alone, ms",
            millis(&answers(world, few)),
        );
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

/// The 99th percentile, in milliseconds.
fn millis(times: &[Duration]) -> String {
    let mut times = times.to_vec();
    times.sort();
    let place = (times.len() * 99).div_ceil(100).max(1) - 1;
    format!("{:.1}", times[place].as_secs_f64() * 1000.0)
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
    let (app, endless) = (App::new(), App::endless(first, again));
    let routes = [
        ("healthy.moor.test", &*app.port()),
        ("endless.moor.test", &*endless.port()),
    ];
    let world = World::with_routes(&routes);
    a_healthy_route_answers_alone(&world);
    let url = "https://endless.moor.test/";
    if let Some(status) = status {
        // It ends by itself.
        let ended = world.curl(&["-o", "/dev/null", "-w", "%{http_code}", url]);
        assert!(ended.stdout.ends_with(status), "{ended:?}");
        assert!(!ended.stderr.contains("timed out"), "{ended:?}");
    }
    let peers: Vec<Background> = (0..PEERS)
        .map(|number| {
            let again = format!("{url}[1-1000]");
            let mut command = world.curl_command(&["-o", "/dev/null", "--max-time", "60", &again]);
            Background::start(&mut command, world.path(&format!("peer-{number}.log")))
        })
        .collect();
    a_healthy_route_answers(&world);
    drop(peers);
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
async fn an_endless_client_does_not_starve_others(#[case] first: &str, #[case] again: &str) {
    let app = App::new();
    let world = World::with_routes(&[("healthy.moor.test", &app.port())]);
    let many = again.repeat(64 * 1024 / again.len());
    for _ in 0..PEERS {
        let mut stream = world.tls("healthy.moor.test", "http/1.1").await;
        let (first, many) = (first.to_owned(), many.clone());
        tokio::spawn(async move {
            let mut sent = stream.write_all(first.as_bytes()).await;
            while sent.is_ok() {
                sent = stream.write_all(many.as_bytes()).await;
            }
        });
    }
    let world = Arc::new(world);
    let asked = Arc::clone(&world);
    let asking = tokio::task::spawn_blocking(move || a_healthy_route_answers(&asked));
    asking.await.unwrap();
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
    let peers: Vec<TcpStream> = (0..PEERS)
        .map(|_| TcpStream::connect(at).unwrap())
        .collect();
    thread::scope(|scope| {
        for peer in &peers {
            // It reads no answer.
            scope.spawn(|| {
                let mut peer: &TcpStream = peer;
                while peer.write_all(&many).is_ok() {}
            });
        }
        a_healthy_route_answers(&world);
        assert_eq!(
            world.dig(&["healthy.moor.test", "+short"]).trim(),
            "127.0.0.1"
        );
        for peer in &peers {
            let _ = peer.shutdown(Shutdown::Both);
        }
    });
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
