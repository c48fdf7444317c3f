use std::convert::Infallible;
use std::net::Ipv4Addr;

use bytes::Bytes;
use http_body_util::Full;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;

static BODY: [u8; 1024] = [b'x'; 1024];

/// The target of both relays, on one thread: the same small page for every request.
pub(crate) fn serve() {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .unwrap();
    runtime.block_on(async {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
        println!("{}", listener.local_addr().unwrap());
        while let Ok((stream, _)) = listener.accept().await {
            stream.set_nodelay(true).unwrap();
            tokio::spawn(async move {
                let service = service_fn(|_: Request<hyper::body::Incoming>| async {
                    let page = Response::builder()
                        .header("content-type", "text/html; charset=utf-8")
                        .header("cache-control", "no-cache")
                        .body(Full::new(Bytes::from_static(&BODY)));
                    Ok::<_, Infallible>(page.unwrap())
                });
                // A client that hangs up ends its own connection only.
                let _ = http1::Builder::new()
                    .serve_connection(TokioIo::new(stream), service)
                    .await;
            });
        }
    });
}
