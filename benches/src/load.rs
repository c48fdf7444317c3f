use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use bytes::Bytes;
use http_body_util::{BodyExt, Either, Empty};
use hyper::body::Incoming;
use hyper::client::conn::{http1, http2};
use hyper::http::request::Builder;
use hyper::{Request, Response, StatusCode};
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio::net::TcpStream;
use tokio::runtime::Runtime;
use tokio_rustls::TlsConnector;

use crate::app::{MUCH, Much};
use crate::bare::NAME;
use crate::measure::{Aim, Report, Scale, mib, micros, quantile};
use crate::process::{Server, cpu_time, resident_kib};
use crate::subject::Subject;
use crate::tls::client_config;

/// Connections of a load.
const CONNECTIONS: usize = 16;
/// Streams that each HTTP/2 connection has open; with them, there are as many requests at work.
const STREAMS: usize = 4;
/// Requests that warm a side up.
const WARM_UP: usize = 2_000;
/// Requests a second at a steady rate.
const RATE: u32 = 10_000;
/// How long until a side that was just measured is idle, with its connections to the target closed.
const SETTLED: Duration = Duration::from_secs(6);
/// When what waited for the database is written.
const WRITTEN: Duration = Duration::from_secs(25);
/// When memory is to be given back.
const GIVEN_BACK: Duration = Duration::from_secs(10);

type Fetch = Either<Empty<Bytes>, Much>;

/// The protocol that a client asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Protocol {
    Http1,
    Http2,
}

impl Protocol {
    fn name(self) -> &'static str {
        match self {
            Self::Http1 => "http/1.1",
            Self::Http2 => "h2",
        }
    }
}

/// One of the two relays.
#[derive(Debug)]
struct End {
    address: SocketAddr,
    pid: u32,
    root: CertificateDer<'static>,
}

/// Both relays, bare and ours, and a client for them.
#[derive(Debug)]
pub(crate) struct Ends {
    bare: End,
    ours: End,
    runtime: Runtime,
}

impl Ends {
    pub(crate) fn new(relay: &Server, subject: &Subject, folder: &Path) -> Self {
        let bare = End {
            address: relay.address(),
            pid: relay.pid(),
            root: CertificateDer::from(std::fs::read(folder.join("cert.der")).unwrap()),
        };
        let ours = End {
            address: subject.https(),
            pid: subject.pid(),
            root: CertificateDer::from_pem_file(subject.root()).unwrap(),
        };
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .unwrap();
        Self {
            bare,
            ours,
            runtime,
        }
    }

    /// CPU time per request, and requests per second, over connections that are kept.
    pub(crate) fn throughput(&self, protocol: Protocol, scale: Scale, report: &mut Report) {
        let (mut cpu, mut rate) = (Vec::new(), Vec::new());
        self.runtime.block_on(async {
            let mut bare = self.bare.connections(protocol).await;
            let mut ours = self.ours.connections(protocol).await;
            run(&mut bare, WARM_UP).await;
            run(&mut ours, WARM_UP).await;
            for _ in 0..scale.rounds {
                let bare = self.bare.round(&mut bare, scale.requests).await;
                let ours = self.ours.round(&mut ours, scale.requests).await;
                cpu.push((bare.0, ours.0));
                rate.push((bare.1, ours.1));
            }
        });
        let name = protocol.name();
        let aim = Some(Aim::AtMost(1.1));
        report.compare(format!("CPU per request, {name}"), "µs", &cpu, aim);
        let aim = Some(Aim::AtLeast(0.92));
        report.compare(format!("requests, {name}"), "per s", &rate, aim);
    }

    /// Keeps our relay as busy as it can be until `end`.
    pub(crate) fn load_ours(&self, end: &AtomicBool) {
        self.runtime.block_on(async {
            let mut ours = self.ours.connections(Protocol::Http1).await;
            while !end.load(Ordering::Relaxed) {
                run(&mut ours, 1_000).await;
            }
        });
    }

    /// The times of requests over one of our connections, one after the other, for at least so long and
    /// until `over`, in µs.
    pub(crate) fn until(&self, over: &AtomicBool, least: Duration) -> Vec<f64> {
        self.runtime.block_on(async {
            let mut ours = self.ours.connect(Protocol::Http1).await;
            let (start, mut times) = (Instant::now(), Vec::new());
            while start.elapsed() < least || !over.load(Ordering::Relaxed) {
                times.extend(block(&mut ours).await);
            }
            times
        })
    }

    /// The time of single requests over one connection, in blocks of a hundred in turn.
    pub(crate) fn latency(&self, protocol: Protocol, scale: Scale, report: &mut Report) {
        let (mut p50, mut p99) = (Vec::new(), Vec::new());
        self.runtime.block_on(async {
            let mut bare = self.bare.connect(protocol).await;
            let mut ours = self.ours.connect(protocol).await;
            block(&mut bare).await;
            block(&mut ours).await;
            for _ in 0..scale.rounds {
                let (mut slow, mut fast) = (Vec::new(), Vec::new());
                for _ in 0..scale.blocks.div_ceil(scale.rounds) {
                    slow.extend(block(&mut bare).await);
                    fast.extend(block(&mut ours).await);
                }
                p50.push((quantile(&slow, 0.5), quantile(&fast, 0.5)));
                p99.push((quantile(&slow, 0.99), quantile(&fast, 0.99)));
            }
        });
        let name = protocol.name();
        let aim = Some(Aim::AtMost(1.08));
        report.compare(format!("one connection, {name}, p50"), "µs", &p50, aim);
        let aim = Some(Aim::AtMost(1.15));
        report.compare(format!("one connection, {name}, p99"), "µs", &p99, aim);
    }

    /// Megabytes a second of one long transfer, down and up.
    pub(crate) fn transfers(&self, protocol: Protocol, scale: Scale, report: &mut Report) {
        let (mut down, mut up) = (Vec::new(), Vec::new());
        let megabytes = scale.megabytes;
        self.runtime.block_on(async {
            let mut bare = self.bare.connect(protocol).await;
            let mut ours = self.ours.connect(protocol).await;
            for _ in 0..scale.rounds {
                let (slow, fast) = (
                    bare.download(megabytes).await,
                    ours.download(megabytes).await,
                );
                down.push((slow, fast));
                up.push((bare.upload(megabytes).await, ours.upload(megabytes).await));
            }
        });
        for (way, rate) in [("down", down), ("up", up)] {
            let name = format!("{megabytes} MB {way}, {}", protocol.name());
            report.compare(name, "MB/s", &rate, Some(Aim::AtLeast(1.0)));
        }
    }

    /// What idle TLS connections take of memory, and what is left of that ten seconds after they
    /// closed. Both sides were just started.
    pub(crate) fn idle(&self, scale: Scale, report: &mut Report) {
        let count = scale.idle;
        let resident = |end: &End| mib(resident_kib(end.pid));
        self.runtime.block_on(async {
            let (mut grown, mut fresh, mut after) = ([0.0; 2], 0.0, 0.0);
            for (place, end) in [&self.bare, &self.ours].into_iter().enumerate() {
                // The first connection has what all share made.
                end.connect(Protocol::Http1).await.ask().await;
                tokio::time::sleep(SETTLED).await;
                fresh = resident(end);
                let mut connections = Vec::new();
                for _ in 0..count {
                    let mut connection = end.connect(Protocol::Http1).await;
                    connection.ask().await;
                    connections.push(connection);
                }
                tokio::time::sleep(SETTLED).await;
                grown[place] = resident(end) - fresh;
                drop(connections);
                tokio::time::sleep(GIVEN_BACK).await;
                after = resident(end);
            }
            let name = format!("memory of {count} idle TLS connections");
            let [bare, ours] = grown;
            report.compare(name, "MiB", &[(bare, ours)], Some(Aim::AtMost(1.0)));
            let name = "memory 10 s after they closed, beside fresh";
            report.compare(name, "MiB", &[(fresh, after)], Some(Aim::AtMost(1.5)));
        });
    }

    /// Requests at a steady 10,000 a second: their time beside the bare relay's, and our memory.
    pub(crate) fn steady(&self, subject: &Subject, scale: Scale, report: &mut Report) {
        let before = resident_kib(self.ours.pid);
        let lost_before = subject.lost();
        let (slow, fast) = self.runtime.block_on(async {
            let bare = self.bare.at_a_rate(scale.steady / 6).await;
            let ours = self.ours.at_a_rate(scale.steady).await;
            (bare, ours)
        });
        let seconds = scale.steady.as_secs();
        let name = format!("p50 at {RATE} requests a second for {seconds} s");
        let p50 = (quantile(&slow, 0.5), quantile(&fast, 0.5));
        report.compare(name, "µs", &[p50], Some(Aim::AtMost(1.15)));
        // What still waits is given time.
        std::thread::sleep(WRITTEN);
        let lost = subject.lost();
        #[allow(
            clippy::cast_precision_loss,
            reason = "some hundred thousand exchanges"
        )]
        let percent = |count: f64| count / fast.len() as f64 * 100.0;
        let unrecorded = percent(lost.0 - lost_before.0);
        let unkept = percent(lost.1 - lost_before.1);
        let kept = 100.0 - unrecorded - unkept;
        report.add("of them in the database, the others counted", "%", kept);
        report.add("of them not even recorded", "%", unrecorded);
        let grown = mib(resident_kib(self.ours.pid)) - mib(before);
        let name = "memory that they added";
        report.alone(name, "MiB", vec![grown], Aim::AtMost(20.0));
    }
}

impl End {
    /// The times of requests that begin at a steady rate, over many connections, in µs.
    async fn at_a_rate(&self, time: Duration) -> Vec<f64> {
        let connections = self.connections(Protocol::Http1).await;
        let each = f64::from(RATE) / f64::from(u32::try_from(connections.len()).unwrap());
        let pause = Duration::from_secs_f64(1.0 / each);
        let end = Instant::now() + time;
        let tasks = connections
            .into_iter()
            .enumerate()
            .map(|(number, mut connection)| {
                tokio::spawn(async move {
                    let mut times = Vec::new();
                    let offset = pause * u32::try_from(number).unwrap() / 16;
                    let mut next = Instant::now() + offset;
                    while next < end {
                        tokio::time::sleep_until(next.into()).await;
                        let start = Instant::now();
                        connection.ask().await;
                        times.push(micros(start.elapsed()));
                        next += pause;
                    }
                    times
                })
            });
        let tasks: Vec<_> = tasks.collect();
        let mut times = Vec::new();
        for task in tasks {
            times.extend(task.await.unwrap());
        }
        times
    }

    async fn connections(&self, protocol: Protocol) -> Vec<Connection> {
        let mut connections = Vec::new();
        let (count, streams) = match protocol {
            Protocol::Http1 => (CONNECTIONS, 1),
            Protocol::Http2 => (CONNECTIONS / STREAMS, STREAMS),
        };
        for _ in 0..count {
            let connection = self.connect(protocol).await;
            match connection {
                Connection::Http1(_) => connections.push(connection),
                Connection::Http2(ref sender) => {
                    connections.extend((0..streams).map(|_| Connection::Http2(sender.clone())))
                }
            }
        }
        connections
    }

    async fn connect(&self, protocol: Protocol) -> Connection {
        let name: &[u8] = match protocol {
            Protocol::Http1 => b"http/1.1",
            Protocol::Http2 => b"h2",
        };
        let config = client_config(self.root.clone(), name);
        let stream = TcpStream::connect(self.address).await.unwrap();
        stream.set_nodelay(true).unwrap();
        let stream = TlsConnector::from(Arc::new(config))
            .connect(ServerName::try_from(NAME).unwrap(), stream)
            .await
            .unwrap();
        let io = TokioIo::new(stream);
        match protocol {
            Protocol::Http1 => {
                let (sender, connection) = http1::handshake(io).await.unwrap();
                tokio::spawn(connection);
                Connection::Http1(sender)
            }
            Protocol::Http2 => {
                let handshake = http2::handshake(TokioExecutor::new(), io);
                let (sender, connection) = handshake.await.unwrap();
                tokio::spawn(connection);
                Connection::Http2(sender)
            }
        }
    }

    /// CPU time per request in µs, and requests per second.
    #[allow(clippy::cast_precision_loss, reason = "some thousand requests")]
    async fn round(&self, connections: &mut Vec<Connection>, requests: usize) -> (f64, f64) {
        let (cpu, start) = (cpu_time(self.pid), Instant::now());
        let asked = run(connections, requests).await as f64;
        let (elapsed, cpu) = (start.elapsed(), cpu_time(self.pid) - cpu);
        (micros(cpu) / asked, asked / elapsed.as_secs_f64())
    }
}

#[derive(Debug)]
enum Connection {
    Http1(http1::SendRequest<Fetch>),
    Http2(http2::SendRequest<Fetch>),
}

impl Connection {
    async fn send(&mut self, request: Request<Fetch>) -> Response<Incoming> {
        let sent = match self {
            Self::Http1(sender) => {
                sender.ready().await.unwrap();
                sender.send_request(request).await
            }
            Self::Http2(sender) => {
                sender.ready().await.unwrap();
                sender.send_request(request).await
            }
        };
        sent.unwrap()
    }

    fn request(&self, path: &str) -> Builder {
        match self {
            Self::Http1(_) => Request::builder().uri(path).header("host", NAME),
            Self::Http2(_) => Request::builder().uri(format!("https://{NAME}{path}")),
        }
    }

    /// Megabytes a second of a response of so many.
    async fn download(&mut self, megabytes: usize) -> f64 {
        let octets = megabytes * 1_000_000;
        let request = self.request(&format!("{MUCH}{octets}"));
        let start = Instant::now();
        let nothing = Either::Left(Empty::new());
        let response = self.send(request.body(nothing).unwrap()).await;
        assert_eq!(read(response).await, octets);
        rate(megabytes, start)
    }

    /// Megabytes a second of a request of so many.
    async fn upload(&mut self, megabytes: usize) -> f64 {
        let request = self.request("/").method("POST");
        let start = Instant::now();
        let much = Either::Right(Much(megabytes * 1_000_000));
        let response = self.send(request.body(much).unwrap()).await;
        assert_eq!(read(response).await, 1024);
        rate(megabytes, start)
    }

    /// Asks once and reads the response to its end.
    async fn ask(&mut self) {
        let request = self
            .request("/huts?day=1")
            .header("user-agent", "bench")
            .header("accept", "text/html,application/xhtml+xml;q=0.9,*/*;q=0.8")
            .header("accept-encoding", "gzip, deflate, br")
            .header("accept-language", "en-GB,en;q=0.8")
            .header("cookie", "session=0123456789abcdef0123456789abcdef");
        let nothing = Either::Left(Empty::new());
        let response = self.send(request.body(nothing).unwrap()).await;
        assert_eq!(response.status(), StatusCode::OK);
        assert_eq!(read(response).await, 1024);
    }
}

/// Reads a response to its end; returns its length in bytes.
async fn read(response: Response<Incoming>) -> usize {
    let (mut body, mut octets) = (response.into_body(), 0);
    while let Some(frame) = body.frame().await {
        octets += frame.unwrap().data_ref().map_or(0, Bytes::len);
    }
    octets
}

#[allow(clippy::cast_precision_loss, reason = "some hundred megabytes")]
fn rate(megabytes: usize, start: Instant) -> f64 {
    megabytes as f64 / start.elapsed().as_secs_f64()
}

/// Asks `requests` times over all connections at once; gives how often exactly.
async fn run(connections: &mut Vec<Connection>, requests: usize) -> usize {
    let each = requests / connections.len();
    let tasks = connections.drain(..).map(|mut connection| {
        tokio::spawn(async move {
            for _ in 0..each {
                connection.ask().await;
            }
            connection
        })
    });
    let tasks: Vec<_> = tasks.collect();
    for task in tasks {
        connections.push(task.await.unwrap());
    }
    each * connections.len()
}

/// The times of a hundred requests, one after the other, in µs.
async fn block(connection: &mut Connection) -> Vec<f64> {
    let mut times = Vec::with_capacity(100);
    for _ in 0..100 {
        let start = Instant::now();
        connection.ask().await;
        times.push(micros(start.elapsed()));
    }
    times
}
