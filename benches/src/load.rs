use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

use bytes::Bytes;
use http_body_util::{BodyExt, Empty};
use hyper::client::conn::{http1, http2};
use hyper::{Request, StatusCode};
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio::net::TcpStream;
use tokio::runtime::Runtime;
use tokio_rustls::TlsConnector;

use crate::bare::NAME;
use crate::measure::{AtMost, Report, Scale, micros, quantile};
use crate::process::{Server, cpu_time};
use crate::subject::Subject;
use crate::tls::client_config;

/// Connections of a load.
const CONNECTIONS: usize = 16;
/// Streams that each HTTP/2 connection has open; with them, there are as many requests at work.
const STREAMS: usize = 4;
/// Requests that warm a side up.
const WARM_UP: usize = 2_000;

type Fetch = Empty<Bytes>;

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
        let aim = Some(AtMost(1.3));
        report.compare(format!("CPU per request, {name}"), "µs", &cpu, aim);
        report.compare(format!("requests, {name}"), "per s", &rate, None);
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
        let aim = Some(AtMost(1.2));
        report.compare(format!("one connection, {name}, p50"), "µs", &p50, aim);
        report.compare(format!("one connection, {name}, p99"), "µs", &p99, None);
    }
}

impl End {
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
    /// Asks once and reads the response to its end.
    async fn ask(&mut self) {
        let request = |uri: &'static str| {
            Request::get(uri)
                .header("user-agent", "bench")
                .header("accept", "text/html,application/xhtml+xml;q=0.9,*/*;q=0.8")
                .header("accept-encoding", "gzip, deflate, br")
                .header("accept-language", "en-GB,en;q=0.8")
                .header("cookie", "session=0123456789abcdef0123456789abcdef")
        };
        let response = match self {
            Self::Http1(sender) => {
                let request = request("/huts?day=1").header("host", NAME);
                sender.ready().await.unwrap();
                sender
                    .send_request(request.body(Empty::new()).unwrap())
                    .await
            }
            Self::Http2(sender) => {
                let request = request("https://n500.moor.test/huts?day=1");
                sender.ready().await.unwrap();
                sender
                    .send_request(request.body(Empty::new()).unwrap())
                    .await
            }
        };
        let response = response.unwrap();
        assert_eq!(response.status(), StatusCode::OK);
        let body = response.into_body().collect().await.unwrap().to_bytes();
        assert_eq!(body.len(), 1024);
    }
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
