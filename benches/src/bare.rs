use std::fs;
use std::net::Ipv4Addr;
use std::path::Path;
use std::sync::Arc;

use hyper::service::service_fn;
use hyper::{Request, Uri};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto;
use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio::net::{TcpListener, UdpSocket};
use tokio_rustls::TlsAcceptor;

/// The name that both relays are asked under.
pub(crate) const NAME: &str = "n500.moor.test";

/// A certificate of one's own for the bare relay, P-256 like those of Bent Lane.
pub(crate) fn write_certificate(folder: &Path) {
    let made = rcgen::generate_simple_self_signed([NAME.to_owned()]).unwrap();
    fs::write(folder.join("cert.der"), made.cert.der()).unwrap();
    fs::write(folder.join("key.der"), made.signing_key.serialize_der()).unwrap();
}

/// Accepts TLS and passes every request on to one target with the general pooled client: no
/// routes, no headers of its own, no limits, no log.
pub(crate) fn relay(target: u16, folder: &Path) {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let certificate = CertificateDer::from(fs::read(folder.join("cert.der")).unwrap());
        let key = PrivatePkcs8KeyDer::from(fs::read(folder.join("key.der")).unwrap());
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_no_client_auth()
            .with_single_cert(vec![certificate], PrivateKeyDer::from(key))
            .unwrap();
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let client = Client::builder(TokioExecutor::new()).build(connector);
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
        println!("{}", listener.local_addr().unwrap());
        while let Ok((stream, _)) = listener.accept().await {
            stream.set_nodelay(true).unwrap();
            let (acceptor, client) = (acceptor.clone(), client.clone());
            tokio::spawn(async move {
                let Ok(stream) = acceptor.accept(stream).await else {
                    return;
                };
                let service = service_fn(move |mut request: Request<hyper::body::Incoming>| {
                    let path = request
                        .uri()
                        .path_and_query()
                        .map_or("/", |path| path.as_str());
                    *request.uri_mut() = Uri::builder()
                        .scheme("http")
                        .authority(format!("127.0.0.1:{target}"))
                        .path_and_query(path)
                        .build()
                        .unwrap();
                    *request.version_mut() = hyper::Version::HTTP_11;
                    client.request(request)
                });
                // A client that hangs up ends its own connection only.
                let _ = auto::Builder::new(TokioExecutor::new())
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
}

/// Answers every question with the same address record under its own id, on a runtime of one
/// thread.
pub(crate) fn responder() {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    runtime.block_on(async {
        let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
        println!("{}", socket.local_addr().unwrap());
        let answer = b"\xc0\x0c\0\x01\0\x01\0\0\x0e\x10\0\x04\x7f\0\0\x01";
        let mut buffer = [0; 2048];
        while let Ok((length, peer)) = socket.recv_from(&mut buffer).await {
            let end = question_end(&buffer[..length]);
            // What follows the question, an OPT record, moves behind the answer.
            buffer.copy_within(end..length, end + answer.len());
            buffer[end..end + answer.len()].copy_from_slice(answer);
            buffer[2] = 0x85; // a response, with authority, recursion as desired
            buffer[7] = 1;
            let _ = socket.send_to(&buffer[..length + answer.len()], peer).await;
        }
    });
}

/// Where the first question of a message ends.
fn question_end(message: &[u8]) -> usize {
    let mut place = 12;
    while message[place] != 0 {
        place += 1 + usize::from(message[place]);
    }
    place + 5
}
