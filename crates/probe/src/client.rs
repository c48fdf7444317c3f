use crate::handshake::{Stream, speaks_h2};
use std::time::Duration;

use bentlane_checks::Page;
use bentlane_model::chain;
use bytes::Bytes;
use http_body_util::{BodyExt, Empty};
use hyper::body::Incoming;
use hyper::client::conn::{http1, http2};
use hyper::header::{ACCEPT, HOST, HeaderMap, USER_AGENT};
use hyper::{Method, Request, Response};
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::task::AbortHandle;
use tokio::time::{Instant, timeout};

/// Bytes of an answer's content that are read at most.
const LARGEST: usize = 1 << 20;
/// What a check says that it is.
const AGENT: &str = concat!("bentlane-check/", env!("CARGO_PKG_VERSION"));
/// A browser's wish for a page; our own pages come as data.
const WISH: &str = "application/problem+json, text/html;q=0.9, */*;q=0.8";

/// A stream to a server, with or without TLS.
pub(crate) trait Io: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Io for T {}

/// A connection on which one request is made.
pub(crate) struct Connection {
    pub(crate) stream: Box<dyn Io>,
    /// Whether HTTP/2 is spoken on it.
    pub(crate) h2: bool,
}

/// A request without content.
#[derive(Clone, Debug)]
pub(crate) struct PlainRequest<'a> {
    pub(crate) method: Method,
    /// The URL, whose host is the `Host`.
    pub(crate) url: &'a str,
    /// Fields beyond those of every check.
    pub(crate) fields: &'a [(&'a str, &'a str)],
}

impl<'a> PlainRequest<'a> {
    pub(crate) fn get(url: &'a str) -> Self {
        Self {
            method: Method::GET,
            url,
            fields: &[],
        }
    }

    fn request(&self) -> Result<Request<Empty<Bytes>>, String> {
        let mut request = Request::builder()
            .method(self.method.clone())
            .uri(self.url)
            .header(USER_AGENT, AGENT);
        let names = || self.fields.iter().map(|(name, _)| *name);
        if !names().any(|name| name == ACCEPT.as_str()) {
            request = request.header(ACCEPT, WISH);
        }
        for (name, value) in self.fields {
            request = request.header(*name, *value);
        }
        request.body(Empty::new()).map_err(text)
    }
}

/// Bytes of a response's fields, with 32 for each (RFC 9113 §6.5.2): more than the proxy passes, so that
/// what a check finds is what a client gets.
const LARGEST_HEAD: u32 = 1024 * 1024;

/// A response whose content is still to come.
pub(crate) struct Reply {
    pub(crate) response: Response<Incoming>,
    driving: AbortHandle,
}

impl Drop for Reply {
    fn drop(&mut self) {
        self.driving.abort();
    }
}

/// Asks on a connection, and gives the head of the answer.
pub(crate) async fn ask(connection: Connection, ask: &PlainRequest<'_>) -> Result<Reply, String> {
    let mut request = ask.request()?;
    let io = TokioIo::new(connection.stream);
    if connection.h2 {
        let (mut sender, connection) = http2::Builder::new(TokioExecutor::new())
            .max_header_list_size(LARGEST_HEAD)
            .handshake(io)
            .await
            .map_err(text)?;
        let driving = tokio::spawn(connection).abort_handle();
        let response = sender.send_request(request).await;
        return reply(response, driving);
    }
    let (mut sender, connection) = http1::handshake(io).await.map_err(text)?;
    let driving = tokio::spawn(connection.with_upgrades()).abort_handle();
    let host = request
        .uri()
        .authority()
        .map(|host| host.as_str().to_owned());
    let path = request.uri().path_and_query();
    let path = path.map_or("/", |path| path.as_str()).to_owned();
    if let Some(host) = host {
        let host = host.parse().map_err(text)?;
        request.headers_mut().entry(HOST).or_insert(host);
    }
    *request.uri_mut() = path.parse().map_err(text)?;
    reply(sender.send_request(request).await, driving)
}

fn reply(
    response: Result<Response<Incoming>, hyper::Error>,
    driving: AbortHandle,
) -> Result<Reply, String> {
    match response {
        Ok(response) => Ok(Reply { response, driving }),
        Err(error) => {
            driving.abort();
            Err(text(error))
        }
    }
}

/// Asks and reads the answer; gives with it how long its head took. Content that does not end
/// within `limit`, as of a stream of events, is taken as far as it came.
pub(crate) async fn fetch(
    connection: Connection,
    request: &PlainRequest<'_>,
    limit: Duration,
) -> Result<(Page, Duration), Failure> {
    let start = Instant::now();
    let reply = timeout(limit, ask(connection, request)).await;
    let mut reply = match reply {
        Err(_) => return Err(Failure::Silent),
        Ok(reply) => reply.map_err(Failure::Broke)?,
    };
    let first_byte = start.elapsed();
    let mut page = Page {
        url: request.url.to_owned(),
        status: reply.response.status().as_u16(),
        fields: fields(reply.response.headers()),
        ..Page::default()
    };
    let endless = page.is("text/event-stream");
    let mut body: Vec<u8> = Vec::new();
    let reading = async {
        while body.len() < LARGEST
            && let Some(frame) = reply.response.body_mut().frame().await
        {
            match frame {
                Ok(frame) => {
                    let data = frame.into_data().unwrap_or_default();
                    body.extend_from_slice(&data);
                }
                Err(error) => return Some(text(error)),
            }
        }
        None
    };
    if !endless {
        let left = limit.saturating_sub(first_byte);
        page.cut = timeout(left, reading).await.unwrap_or_default();
    }
    page.length = body.len() as u64;
    body.truncate(LARGEST);
    page.body = String::from_utf8_lossy(&body).into_owned();
    Ok((page, first_byte))
}

/// Why there is no answer.
#[derive(Debug)]
pub(crate) enum Failure {
    /// None came in time.
    Silent,
    /// The exchange broke off.
    Broke(String),
}

fn fields(headers: &HeaderMap) -> Vec<(String, String)> {
    let text = |octets: &[u8]| String::from_utf8_lossy(octets).into_owned();
    headers
        .iter()
        .map(|(name, value)| (name.to_string(), text(value.as_bytes())))
        .collect()
}

pub(crate) fn text(error: impl std::error::Error + 'static) -> String {
    chain(&error)
}

pub(crate) fn over(stream: Stream) -> Connection {
    Connection {
        h2: speaks_h2(&stream),
        stream: Box::new(stream),
    }
}

#[cfg(test)]
mod tests {
    use bentlane_checks::CHECK_AGENT;

    use super::*;

    #[test]
    fn our_checks_are_distinguished_from_traffic() {
        assert!(AGENT.as_bytes().starts_with(CHECK_AGENT));
    }
}
