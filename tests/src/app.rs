use std::convert::Infallible;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use bytes::Bytes;
use futures_util::stream::{self, StreamExt};
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Full, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper::header::{HeaderMap, HeaderValue};
use hyper::server::conn::{http1, http2};
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde_json::json;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use tokio::time::sleep;
use tokio_rustls::TlsAcceptor;

use crate::process::wait_until;

/// Bytes that an endless app sends at a time.
const ENDLESS_LUMP: usize = 8 * 1024;

/// The content of an app's answer.
pub type AppBody = UnsyncBoxBody<Bytes, hyper::Error>;
type Body = AppBody;

/// An answer for [`App::answering`].
///
/// # Panics
/// When a field is none.
#[must_use]
pub fn reply(status: u16, fields: &[(&str, &str)], body: &str) -> Response<AppBody> {
    let mut response = Response::builder().status(status);
    for (name, value) in fields {
        response = response.header(*name, *value);
    }
    response.body(full(body.to_owned())).unwrap()
}

/// A stream of events for [`App::answering`]: pauses in milliseconds, each with the number of events
/// that come together after it; then silence.
///
/// # Panics
/// Never.
#[must_use]
pub fn events(fields: &[(&str, &str)], lumps: &'static [(u64, usize)]) -> Response<AppBody> {
    let lump = |(pause, count): &'static (u64, usize)| async move {
        sleep(Duration::from_millis(*pause)).await;
        Ok(Frame::data(Bytes::from("data: 1\n\n".repeat(*count))))
    };
    let lumps = stream::iter(lumps).then(lump).chain(stream::pending());
    let mut response = Response::builder().header("content-type", "text/event-stream");
    for (name, value) in fields {
        response = response.header(*name, *value);
    }
    response
        .body(BodyExt::boxed_unsync(StreamBody::new(lumps)))
        .unwrap()
}

/// A server for a route to lead to, on a free port of 127.0.0.1, until it is dropped.
#[derive(Debug)]
pub struct App {
    address: SocketAddr,
    runtime: Option<Runtime>,
}

impl App {
    /// An app that does something different at each path:
    ///
    /// - `/echo` sends the body back as it comes,
    /// - `/ticks` sends a line every 200 ms as server-sent events, without end,
    /// - `/status/N` answers with that status,
    /// - `/fields?NAME=VALUE&…` answers with these fields, `%20` in them a space,
    /// - `/trailers` answers as gRPC does: with a trailer behind the body,
    /// - `/connection` answers with fields that concern one connection alone,
    /// - any other returns the method, path and headers of the request as JSON.
    #[must_use]
    pub fn new() -> Self {
        Self::on(0)
    }

    /// The same on a port of one's choice.
    #[must_use]
    pub fn on(port: u16) -> Self {
        Self::serve(port, |stream| async move {
            let service =
                service_fn(|request| async { Ok::<_, Infallible>(answer(request).await) });
            let _ = http1::Builder::new()
                .serve_connection(TokioIo::new(stream), service)
                .await;
        })
    }

    /// An app on a port of one's choice that answers as `answer` says, once it has read the request.
    #[must_use]
    pub fn answering(
        port: u16,
        answer: impl Fn(&Request<Incoming>) -> Response<AppBody> + Clone + Send + Sync + 'static,
    ) -> Self {
        Self::answering_after(port, true, answer)
    }

    /// The same on a free port, but it reads nothing of the request's body.
    #[must_use]
    pub fn hasty(
        answer: impl Fn(&Request<Incoming>) -> Response<AppBody> + Clone + Send + Sync + 'static,
    ) -> Self {
        Self::answering_after(0, false, answer)
    }

    fn answering_after(
        port: u16,
        body: bool,
        answer: impl Fn(&Request<Incoming>) -> Response<AppBody> + Clone + Send + Sync + 'static,
    ) -> Self {
        Self::serve(port, move |stream| {
            let answer = answer.clone();
            async move {
                let service = service_fn(|mut request| {
                    let response = answer(&request);
                    async move {
                        while body && let Some(Ok(_)) = request.frame().await {}
                        Ok::<_, Infallible>(response)
                    }
                });
                let _ = http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            }
        })
    }

    /// An app that reads a request's head and then sends `octets` and closes.
    #[must_use]
    pub fn raw(octets: &'static [u8]) -> Self {
        Self::raw_on(0, octets)
    }

    /// The same on a port of one's choice.
    #[must_use]
    pub fn raw_on(port: u16, octets: &'static [u8]) -> Self {
        Self::serve(port, move |mut stream| async move {
            let mut head = [0; 4096];
            let _ = stream.read(&mut head).await;
            let _ = stream.write_all(octets).await;
        })
    }

    /// An app that reads a request's head, and then sends `first` and `again` without end. It waits so many
    /// milliseconds after each 8 KiB.
    #[must_use]
    pub fn endless(first: &'static str, again: &'static str, waits: Arc<AtomicU64>) -> Self {
        Self::serve(0, move |mut stream| {
            let waits = Arc::clone(&waits);
            async move {
                let _ = stream.read(&mut [0; 4096]).await;
                let many = again.repeat(ENDLESS_LUMP / again.len());
                let mut sent = stream.write_all(first.as_bytes()).await;
                while sent.is_ok() {
                    sent = stream.write_all(many.as_bytes()).await;
                    match waits.load(Ordering::Relaxed) {
                        0 => {}
                        millis => sleep(Duration::from_millis(millis)).await,
                    }
                }
            }
        })
    }

    /// An app that speaks WebSocket and repeats what it hears.
    #[must_use]
    pub fn websocket() -> Self {
        Self::serve(0, |stream| async move {
            let Ok(mut socket) = tokio_tungstenite::accept_async(stream).await else {
                return;
            };
            while let Some(Ok(message)) = socket.next().await {
                if message.is_close()
                    || futures_util::SinkExt::send(&mut socket, message)
                        .await
                        .is_err()
                {
                    return;
                }
            }
        })
    }

    /// The same over TLS, as HTTP/2 or HTTP/1.1, with these PEM files.
    #[must_use]
    pub fn tls(certificate: &Path, key: &Path) -> Self {
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_no_client_auth()
            .with_single_cert(
                vec![CertificateDer::from_pem_file(certificate).unwrap()],
                PrivateKeyDer::from_pem_file(key).unwrap(),
            )
            .unwrap();
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        let acceptor = TlsAcceptor::from(Arc::new(config));
        Self::serve(0, move |stream| {
            let acceptor = acceptor.clone();
            async move {
                let Ok(stream) = acceptor.accept(stream).await else {
                    return;
                };
                let h2 = stream.get_ref().1.alpn_protocol() == Some(b"h2");
                speak(stream, h2).await;
            }
        })
    }

    /// The same as HTTP/2 without TLS.
    #[must_use]
    pub fn h2c() -> Self {
        Self::serve(0, |stream| speak(stream, true))
    }

    /// A server that repeats every byte it gets, and reports when its client has finished.
    #[must_use]
    pub fn echo() -> Self {
        Self::serve(0, |mut stream| async move {
            let (mut from, mut to) = stream.split();
            let _ = tokio::io::copy(&mut from, &mut to).await;
            let _ = to.write_all(b"bye").await;
        })
    }

    fn serve<F>(port: u16, serve: impl Fn(TcpStream) -> F + Send + 'static) -> Self
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(1)
            .enable_all()
            .build()
            .unwrap();
        // Not through the runtime: a test may be asynchronous itself, and then must not wait so.
        // One that was dropped just now may still hold its port for a moment.
        let listener = wait_until("the app's port", || {
            std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, port)).ok()
        });
        listener.set_nonblocking(true).unwrap();
        let address = listener.local_addr().unwrap();
        runtime.spawn(async move {
            let listener = TcpListener::from_std(listener).unwrap();
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(serve(stream));
            }
        });
        Self {
            address,
            runtime: Some(runtime),
        }
    }

    /// Its port, as a route's target.
    #[must_use]
    pub fn port(&self) -> String {
        self.address.port().to_string()
    }
}

impl Drop for App {
    fn drop(&mut self) {
        // Also within an asynchronous test, where waiting for the runtime is not allowed.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

impl Default for App {
    fn default() -> Self {
        Self::new()
    }
}

async fn speak<S>(stream: S, h2: bool)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let service = service_fn(|request| async { Ok::<_, Infallible>(answer(request).await) });
    let io = TokioIo::new(stream);
    let _ = if h2 {
        let builder = http2::Builder::new(TokioExecutor::new());
        builder.serve_connection(io, service).await
    } else {
        http1::Builder::new().serve_connection(io, service).await
    };
}

async fn answer(request: Request<Incoming>) -> Response<Body> {
    let path = request.uri().path().to_owned();
    if let Some(status) = path.strip_prefix("/status/") {
        return Response::builder()
            .status(status)
            .body(full(status.to_owned()))
            .unwrap();
    }
    match &*path {
        "/echo" => Response::new(request.into_body().boxed_unsync()),
        "/ticks" => Response::builder()
            .header("content-type", "text/event-stream")
            .body(ticks())
            .unwrap(),
        "/fields" => {
            let mut response = Response::builder();
            for pair in request.uri().query().unwrap_or_default().split('&') {
                let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
                response = response.header(name, value.replace("%20", " "));
            }
            response.body(full("fields")).unwrap()
        }
        "/trailers" => {
            let te = request.headers().get("te").cloned();
            let mut trailers = HeaderMap::new();
            trailers.insert("grpc-status", HeaderValue::from_static("0"));
            let frames = [Frame::data(Bytes::from("body")), Frame::trailers(trailers)];
            let body = StreamBody::new(stream::iter(frames.map(Ok)));
            let mut response = Response::new(BodyExt::boxed_unsync(body));
            let said = te.unwrap_or_else(|| HeaderValue::from_static("none"));
            response.headers_mut().insert("x-te", said);
            response
        }
        "/connection" => Response::builder()
            .header("keep-alive", "timeout=5")
            .header("connection", "keep-alive, x-private")
            .header("x-private", "1")
            .header("x-public", "1")
            .body(full("private"))
            .unwrap(),
        _ => {
            let fields: serde_json::Map<_, _> = request
                .headers()
                .keys()
                .map(|name| {
                    let values = request.headers().get_all(name).iter();
                    let values: Vec<_> = values
                        .map(|value| String::from_utf8_lossy(value.as_bytes()))
                        .collect();
                    (name.to_string(), json!(values.join(", ")))
                })
                .collect();
            let uri = request.uri().to_string();
            let told = json!({ "method": request.method().as_str(), "uri": uri, "fields": fields });
            Response::new(full(told.to_string()))
        }
    }
}

fn full(text: impl Into<Bytes>) -> Body {
    Full::new(text.into())
        .map_err(|never| match never {})
        .boxed_unsync()
}

fn ticks() -> Body {
    let ticks = stream::unfold(0, |tick| async move {
        sleep(Duration::from_millis(if tick == 0 { 0 } else { 200 })).await;
        Some((
            Ok(Frame::data(Bytes::from(format!("data: {tick}\n\n")))),
            tick + 1,
        ))
    });
    BodyExt::boxed_unsync(StreamBody::new(ticks))
}
