use std::convert::Infallible;
use std::net::Ipv4Addr;
use std::pin::Pin;
use std::task::{Context, Poll};

use bytes::Bytes;
use http_body_util::{BodyExt, Either, Full};
use hyper::body::{Body, Frame, Incoming, SizeHint};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

static BODY: [u8; 1024] = [b'x'; 1024];
static LUMP: [u8; 64 * 1024] = [b'x'; 64 * 1024];

/// The path of large responses: `/much/BYTES`.
pub(crate) const MUCH: &str = "/much/";

/// A body of so many bytes, made as it is read.
#[derive(Debug)]
pub(crate) struct Much(pub(crate) usize);

impl Body for Much {
    type Data = Bytes;
    type Error = Infallible;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        _: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, Infallible>>> {
        let length = self.0.min(LUMP.len());
        if length == 0 {
            return Poll::Ready(None);
        }
        self.0 -= length;
        Poll::Ready(Some(Ok(Frame::data(Bytes::from_static(&LUMP[..length])))))
    }

    fn is_end_stream(&self) -> bool {
        self.0 == 0
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.0 as u64)
    }
}

/// The target of both relays, on one thread: the same small page for every request; much where it is
/// asked for, and much is taken.
pub(crate) fn serve() {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    runtime.block_on(async {
        let port = std::env::var("PORT").map_or(0, |port| port.parse().unwrap());
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port))
            .await
            .unwrap();
        println!("{}", listener.local_addr().unwrap());
        while let Ok((stream, _)) = listener.accept().await {
            stream.set_nodelay(true).unwrap();
            tokio::spawn(async move {
                // A client that hangs up ends its own connection only.
                let _ = http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service_fn(answer))
                    .await;
            });
        }
    });
}

async fn answer(
    request: Request<Incoming>,
) -> Result<Response<Either<Full<Bytes>, Much>>, hyper::Error> {
    let much = request.uri().path().strip_prefix(MUCH);
    let much = much.and_then(|octets| octets.parse().ok());
    let body = match much {
        Some(octets) => Either::Right(Much(octets)),
        None => Either::Left(Full::new(Bytes::from_static(&BODY))),
    };
    if request.method() == Method::POST {
        let mut incoming = request.into_body();
        while let Some(frame) = incoming.frame().await {
            frame?;
        }
    }
    let page = Response::builder()
        .header("content-type", "text/html; charset=utf-8")
        .header("cache-control", "no-cache")
        .body(body);
    Ok(page.unwrap())
}
