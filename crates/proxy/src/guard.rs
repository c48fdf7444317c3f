//! What the HTTP/1.1 engine reads generously, told before it does: a head whose lines end in LF alone,
//! and one with both `Content-Length` and `Transfer-Encoding` (RFC 9112 §2.2 and §6.1). The engine
//! drops one of the two lengths, so that a request no longer shows that it had both.

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Sleep, sleep};

/// Octets at the start of a line that tell the two fields apart from all others.
const LONGEST_NAME: usize = "transfer-encoding:".len();

/// What was seen in the head that was read last. Cloning gives another handle to the same.
#[derive(Clone, Debug, Default)]
pub(crate) struct Seen(Arc<AtomicU8>);

const BARE_LF: u8 = 1;
const LENGTH: u8 = 2;
const CODING: u8 = 4;
/// A body is on its way: what is read is no head.
const BODY: u8 = 8;
/// Nobody reads the body to its end: where the next head begins is not known.
const LEFT: u8 = 16;

/// How long a client that still sends a body which nobody reads may take to read the answer.
pub(crate) const LINGERS: Duration = Duration::from_secs(2);

impl Seen {
    /// What is to be said against the request whose head was read, and has come to its handler.
    pub(crate) fn objection(&self, has_body: bool) -> Option<&'static str> {
        let seen = self
            .0
            .swap(if has_body { BODY } else { 0 }, Ordering::Relaxed);
        if seen & BARE_LF != 0 {
            return Some("a line ends in LF without CR");
        }
        (seen & (LENGTH | CODING) == LENGTH | CODING)
            .then_some("there are both Content-Length and Transfer-Encoding")
    }

    /// The body will not be read to its end: nothing that comes is read any more.
    pub(crate) fn body_is_left(&self) {
        self.0.fetch_or(LEFT, Ordering::Relaxed);
    }

    fn is_left(&self) -> bool {
        self.0.load(Ordering::Relaxed) & LEFT != 0
    }

    /// The body has been read: what comes is a head again.
    pub(crate) fn body_is_over(&self) {
        self.0.fetch_and(!BODY, Ordering::Relaxed);
    }
}

/// A connection on which heads are looked at as they come in.
#[derive(Debug)]
pub(crate) struct Guard<S> {
    stream: S,
    seen: Seen,
    /// The start of the line at which the last read ended, and the octet before what comes next.
    line: Vec<u8>,
    last: u8,
    /// How long it is still read after we have said all.
    lingers: Option<Pin<Box<Sleep>>>,
}

impl<S> Guard<S> {
    pub(crate) fn new(stream: S) -> (Self, Seen) {
        let seen = Seen::default();
        let guard = Self {
            stream,
            seen: seen.clone(),
            line: Vec::new(),
            last: 0,
            lingers: None,
        };
        (guard, seen)
    }

    /// Looks at octets that were just read, up to the end of the head among them.
    fn look(&mut self, octets: &[u8]) {
        let Some(last) = octets.last() else {
            return;
        };
        if self.seen.0.load(Ordering::Relaxed) & BODY != 0 {
            self.line.clear();
            self.last = *last;
            return;
        }
        let mut found = 0;
        let mut before = self.last;
        let mut rest = octets;
        while let Some(at) = memchr::memchr(b'\n', rest) {
            let (line, behind) = rest.split_at(at);
            if line.last().copied().unwrap_or(before) != b'\r' {
                found |= BARE_LF;
            }
            let empty = self.line.is_empty() && matches!(line, [] | [b'\r']);
            found |= self.field(line);
            self.line.clear();
            before = b'\n';
            rest = behind.get(1..).unwrap_or_default();
            if empty {
                // What comes behind is a body, or a request of its own.
                rest = &[];
            }
        }
        let room = LONGEST_NAME.saturating_sub(self.line.len());
        self.line
            .extend_from_slice(rest.get(..room.min(rest.len())).unwrap_or_default());
        self.last = *last;
        if found != 0 {
            self.seen.0.fetch_or(found, Ordering::Relaxed);
        }
    }

    /// Which of the two fields a line is, of which some may have come before.
    fn field(&mut self, line: &[u8]) -> u8 {
        let is = |line: &[u8]| {
            let starts = |name: &[u8]| {
                line.get(..name.len())
                    .is_some_and(|start| start.eq_ignore_ascii_case(name))
            };
            match line.first().map(u8::to_ascii_lowercase) {
                Some(b'c') if starts(b"content-length:") => LENGTH,
                Some(b't') if starts(b"transfer-encoding:") => CODING,
                _ => 0,
            }
        };
        if self.line.is_empty() {
            return is(line);
        }
        let room = LONGEST_NAME.saturating_sub(self.line.len());
        self.line
            .extend_from_slice(line.get(..room.min(line.len())).unwrap_or_default());
        is(&self.line)
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Guard<S> {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        if this.seen.is_left() {
            // For the engine the client has finished.
            return Poll::Ready(Ok(()));
        }
        let before = buffer.filled().len();
        let outcome = Pin::new(&mut this.stream).poll_read(context, buffer);
        let read = buffer.filled().get(before..).unwrap_or_default();
        this.look(read);
        outcome
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Guard<S> {
    fn poll_write(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.get_mut().stream).poll_write(context, octets)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.get_mut().stream).poll_write_vectored(context, octets)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().stream).poll_flush(context)
    }

    /// Says that nothing more comes. A socket that is closed while octets wait in it resets the
    /// connection, and the client may lose the answer by that: so what a client still sends of a body
    /// that nobody wants is read and dropped, for a while.
    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        if this.lingers.is_none() {
            ready!(Pin::new(&mut this.stream).poll_shutdown(context))?;
            if !this.seen.is_left() {
                return Poll::Ready(Ok(()));
            }
        }
        let end = this.lingers.get_or_insert_with(|| Box::pin(sleep(LINGERS)));
        loop {
            if end.as_mut().poll(context).is_ready() {
                return Poll::Ready(Ok(()));
            }
            let mut octets = [0; 8 * 1024];
            let mut buffer = ReadBuf::new(&mut octets);
            let read = ready!(Pin::new(&mut this.stream).poll_read(context, &mut buffer));
            if read.is_err() || buffer.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("GET / HTTP/1.1\r\nhost: a\r\n\r\n", None)]
    #[case("POST / HTTP/1.1\r\ncontent-length: 5\r\n\r\nhello", None)]
    #[case("POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n5\r\n", None)]
    #[case("GET / HTTP/1.1\nhost: a\r\n\r\n", Some("LF without CR"))]
    #[case("GET / HTTP/1.1\r\nhost: a\n\r\n", Some("LF without CR"))]
    #[case("GET / HTTP/1.1\r\nhost: a\r\n\n", Some("LF without CR"))]
    #[case(
        "POST / HTTP/1.1\r\nContent-Length: 5\r\nTransfer-Encoding: chunked\r\n\r\n",
        Some("both")
    )]
    #[case(
        "POST / HTTP/1.1\r\nTRANSFER-ENCODING: x\r\ncontent-length:5\r\n\r\n",
        Some("both")
    )]
    #[case(
        "POST / HTTP/1.1\r\ncontent-length: 5\r\nx-transfer-encoding: x\r\n\r\n",
        None
    )]
    #[case(
        "POST / HTTP/1.1\r\ncontent-length: 26\r\n\r\ntransfer-encoding: a\nb: c",
        None
    )]
    fn heads(#[case] head: &str, #[case] wanted: Option<&str>) {
        // However the octets come in, cut once at every place.
        for cut in 0..=head.len() {
            let (mut guard, seen) = Guard::new(());
            let (one, two) = head.as_bytes().split_at(cut);
            let end = head.find("\r\n\r\n").map_or(head.len(), |at| at + 4);
            guard.look(one);
            if cut <= end {
                guard.look(two.get(..end - cut).unwrap_or_default());
            }
            let found = seen.objection(false);
            assert_eq!(found.is_some(), wanted.is_some(), "{head:?} at {cut}");
            assert!(
                wanted.is_none_or(|part| found.unwrap().contains(part)),
                "{found:?}"
            );
        }
    }

    #[test]
    fn bodies_are_left_alone_and_the_next_head_is_not() {
        let (mut guard, seen) = Guard::new(());
        guard.look(b"POST / HTTP/1.1\r\ncontent-length: 40\r\n\r\n");
        assert_eq!(seen.objection(true), None);
        guard.look(b"a\nb\ncontent-length: 1\ntransfer-encoding: x\n");
        seen.body_is_over();
        guard.look(b"GET / HTTP/1.1\r\nhost: a\r\n\r\n");
        assert_eq!(seen.objection(false), None);
        guard.look(b"GET / HTTP/1.1\nhost: a\r\n\r\n");
        assert!(seen.objection(false).is_some());
        assert_eq!(seen.objection(false), None, "said of one request alone");
    }
}
