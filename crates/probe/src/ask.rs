use std::time::Duration;

use bentlane_core::chain;
use bentlane_core::check::{Answer, FINDING_HEADER};
use bytes::Bytes;
use http_body_util::Empty;
use hyper::client::conn::{http1, http2};
use hyper::header::{ACCEPT, HOST, USER_AGENT};
use hyper::{Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::time::timeout;

use crate::shake::Stream;

/// Asks for `url` over `stream` and reads the head of the response.
pub(crate) async fn ask(stream: Stream, url: &str, limit: Duration) -> Answer {
    let h2 = stream.get_ref().1.alpn_protocol() == Some(b"h2");
    let exchange = async {
        if h2 {
            over_http2(stream, url).await
        } else {
            over_http1(stream, url).await
        }
    };
    match timeout(limit, exchange).await {
        Err(_) => Answer::Silent,
        Ok(Err(reason)) => Answer::Failed(reason),
        Ok(Ok(response)) => {
            let status = response.status().as_u16();
            let finding = response.headers().get(FINDING_HEADER);
            match finding.and_then(|value| value.to_str().ok()) {
                Some(finding) => Answer::OwnPage {
                    status,
                    finding: finding.to_owned(),
                },
                None => Answer::Response { status },
            }
        }
    }
}

async fn over_http2(stream: Stream, url: &str) -> Result<Response<()>, String> {
    let (mut sender, connection) = http2::handshake(TokioExecutor::new(), TokioIo::new(stream))
        .await
        .map_err(text)?;
    let driving = tokio::spawn(connection);
    let response = sender.send_request(request(url)?).await.map_err(text);
    driving.abort();
    Ok(response?.map(drop))
}

async fn over_http1(stream: Stream, url: &str) -> Result<Response<()>, String> {
    let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await.map_err(text)?;
    let driving = tokio::spawn(connection);
    let mut request = request(url)?;
    if let Some(host) = request
        .uri()
        .authority()
        .map(|host| host.as_str().to_owned())
    {
        request
            .headers_mut()
            .insert(HOST, host.parse().map_err(text)?);
    }
    let path = request
        .uri()
        .path_and_query()
        .map_or("/", |path| path.as_str());
    *request.uri_mut() = path.parse().map_err(text)?;
    let response = sender.send_request(request).await.map_err(text);
    driving.abort();
    Ok(response?.map(drop))
}

fn request(url: &str) -> Result<Request<Empty<Bytes>>, String> {
    Request::get(url)
        .header(
            USER_AGENT,
            concat!("bentlane-check/", env!("CARGO_PKG_VERSION")),
        )
        .header(ACCEPT, "*/*")
        .body(Empty::new())
        .map_err(text)
}

fn text(error: impl std::error::Error + 'static) -> String {
    chain(&error)
}
