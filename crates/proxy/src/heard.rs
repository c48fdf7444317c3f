//! What clients of raw TCP begin with, where that belongs on another kind of route.

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll};

use bentlane_checks::RawClients;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// How requests of HTTP begin: the methods of RFC 9110 §9.3 and of RFC 5789, and the preface of HTTP/2
/// (RFC 9113 §3.4).
const REQUESTS: [&[u8]; 8] = [
    b"GET /",
    b"HEAD /",
    b"POST /",
    b"PUT /",
    b"PATCH /",
    b"DELETE /",
    b"OPTIONS ",
    b"PRI * HTTP/2.0",
];

/// What clients of one route have begun with.
#[derive(Debug, Default)]
pub(crate) struct Heard {
    http: AtomicBool,
    /// With anything else.
    other: AtomicBool,
    postgres: AtomicBool,
}

impl Heard {
    pub(crate) fn postgres(&self) {
        self.postgres.store(true, Ordering::Relaxed);
    }

    pub(crate) fn clients(&self) -> RawClients {
        let other = self.other.load(Ordering::Relaxed);
        RawClients {
            // One request on a port of another protocol is a mistake of its client.
            speak_http: !other && self.http.load(Ordering::Relaxed),
            ask_for_tls: self.postgres.load(Ordering::Relaxed),
        }
    }

    fn first(&self, octets: &[u8]) {
        let is_http = REQUESTS.iter().any(|begins| octets.starts_with(begins));
        let kind = if is_http { &self.http } else { &self.other };
        kind.store(true, Ordering::Relaxed);
    }
}

/// A client's connection whose first bytes are looked at as they pass.
#[derive(Debug)]
pub(crate) struct Listening<S> {
    inner: S,
    heard: Option<Arc<Heard>>,
}

impl<S> Listening<S> {
    pub(crate) fn new(inner: S, heard: Arc<Heard>) -> Self {
        let heard = Some(heard);
        Self { inner, heard }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Listening<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        let read = Pin::new(&mut self.inner).poll_read(cx, buf);
        let new = buf.filled().get(before..).unwrap_or_default();
        if !new.is_empty()
            && let Some(heard) = self.heard.take()
        {
            heard.first(new);
        }
        read
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Listening<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        octets: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, octets)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use tokio::io::AsyncReadExt;

    use super::*;

    #[rstest]
    #[case(b"GET / HTTP/1.1\r\n", true)]
    #[case(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", true)]
    #[case(b"GET hut:1\r\n", false)]
    #[case(b"*1\r\n$4\r\nPING\r\n", false)]
    #[case(b"", false)]
    #[tokio::test]
    async fn requests_are_noticed_as_they_pass(
        #[case] octets: &'static [u8],
        #[case] wanted: bool,
    ) {
        let heard = Arc::new(Heard::default());
        let mut passed = Vec::new();
        let mut client = Listening::new(octets, Arc::clone(&heard));
        client.read_to_end(&mut passed).await.unwrap();
        assert_eq!(passed, octets);
        assert_eq!(heard.clients().speak_http, wanted);
        heard.first(b"*1\r\n");
        assert!(!heard.clients().speak_http, "one of many");
    }
}
