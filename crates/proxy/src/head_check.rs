//! What the HTTP/1.1 engine reads generously, found before it does: a head whose lines end in LF
//! alone, one with both `Content-Length` and `Transfer-Encoding`, and a length that two readers could
//! take for different ones (RFC 9112 §2.2, §6.1 and §6.3). The engine drops one of two lengths, so
//! that a request no longer shows that it had both.
//!
//! The guard follows the framing of bodies, so that it knows where each head begins, also when a
//! client sends several requests at once.

#![warn(clippy::indexing_slicing, clippy::arithmetic_side_effects)]

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Sleep, sleep};

/// Bytes at the start of a line that are looked at: the name of a field, and a length.
const LONGEST_LINE: usize = 128;

/// How long a client that still sends an unread body may take to read the answer.
pub(crate) const LINGERS: Duration = Duration::from_secs(2);

/// What is wrong with a head.
const NOTHING: u64 = 0;
const BARE_LF: u64 = 1;
const BOTH_LENGTHS: u64 = 2;
const UNCLEAR_LENGTH: u64 = 3;

/// What was found in the heads that were read and whose requests have not been answered. Cloning
/// gives another handle to the same.
#[derive(Clone, Debug, Default)]
pub(crate) struct HeadFindings(Arc<Shared>);

#[derive(Debug, Default)]
struct Shared {
    /// Two bits for each head, the oldest lowest, and one bit above the newest. This and the handler
    /// belong to one task, so that nothing changes between reading and writing it.
    heads: AtomicU64,
    /// The body is not read to its end, so it is unknown where the next request begins.
    left: AtomicBool,
    /// The connection has changed its protocol: what comes is no head.
    raw: AtomicBool,
}

/// Heads that may wait at a time.
const MOST_HEADS: u32 = 31;

impl HeadFindings {
    /// What is wrong with the request whose head came first of those that were not asked about yet.
    /// To be asked once for each request.
    pub(crate) fn objection(&self) -> Option<&'static str> {
        let heads = self.0.heads.load(Ordering::Relaxed);
        // Without the bit above there is none: what came before could not be followed.
        if heads <= 1 {
            return Some("the end of the request before it is not clear");
        }
        self.0.heads.store(heads >> 2, Ordering::Relaxed);
        match heads & 3 {
            NOTHING => None,
            BARE_LF => Some("a line ends in LF without CR"),
            BOTH_LENGTHS => Some("there are both Content-Length and Transfer-Encoding"),
            _ => Some("the length of the body is not clear, or too many requests came at once"),
        }
    }

    /// A head has ended, with this wrong.
    fn push(&self, found: u64) {
        let heads = self.0.heads.load(Ordering::Relaxed).max(1);
        let waiting = heads.ilog2() >> 1;
        let next = if waiting >= MOST_HEADS {
            // The newest there is room for is refused, which ends the connection.
            heads | (UNCLEAR_LENGTH << 60)
        } else {
            let at = waiting << 1;
            let kept = heads ^ (1 << at);
            kept | (found << at) | (1_u64 << at << 2)
        };
        self.0.heads.store(next, Ordering::Relaxed);
    }

    /// The body will not be read to its end: nothing that comes is read any more.
    pub(crate) fn body_is_left(&self) {
        self.0.left.store(true, Ordering::Relaxed);
    }

    /// The connection has changed its protocol.
    pub(crate) fn is_raw_now(&self) {
        self.0.raw.store(true, Ordering::Relaxed);
    }

    fn is_left(&self) -> bool {
        self.0.left.load(Ordering::Relaxed)
    }
}

/// Where in the stream of requests the next byte is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// In a head, or before one.
    Head,
    /// In a body, with so many bytes left.
    Body(u64),
    /// In the line that gives the length of a chunk (RFC 9112 §7.1).
    ChunkLength,
    /// In a chunk or in the end of its line, with so many bytes left.
    Chunk(u64),
    /// In the lines behind the last chunk.
    Trailers,
    /// Where the next head begins cannot be known.
    Lost,
}

/// What was found in the head that is being read.
#[derive(Clone, Copy, Debug, Default)]
struct Head {
    /// Whether its first line has come; empty lines before it are skipped (RFC 9112 §2.2).
    begun: bool,
    bare_lf: bool,
    unclear: bool,
    length: Option<u64>,
    is_coded: bool,
}

impl Head {
    fn found(self) -> u64 {
        match self {
            Self { bare_lf: true, .. } => BARE_LF,
            Self {
                length: Some(_),
                is_coded: true,
                ..
            } => BOTH_LENGTHS,
            Self { unclear: true, .. } => UNCLEAR_LENGTH,
            _ => NOTHING,
        }
    }

    /// Takes a line of the head in, without its end.
    fn line(&mut self, line: &[u8], is_whole: bool) {
        if !self.begun {
            self.begun = true;
            return;
        }
        if let Some(value) = after_name(line, b"content-length") {
            let length = is_whole.then(|| number(value, 10)).flatten();
            self.unclear |= length.is_none() || self.length.is_some_and(|it| Some(it) != length);
            self.length = Some(length.unwrap_or(0));
        } else if after_name(line, b"transfer-encoding").is_some() {
            self.is_coded = true;
        }
    }
}

/// What stands behind a field's name and its colon.
fn after_name<'a>(line: &'a [u8], name: &[u8]) -> Option<&'a [u8]> {
    let (start, rest) = line.split_at_checked(name.len())?;
    let value = rest.strip_prefix(b":")?;
    start.eq_ignore_ascii_case(name).then_some(value)
}

/// A number of digits alone, with blanks around it.
fn number(text: &[u8], radix: u32) -> Option<u64> {
    let digits = text.trim_ascii();
    if digits.is_empty() || !digits.iter().all(|byte| char::from(*byte).is_digit(radix)) {
        return None;
    }
    u64::from_str_radix(std::str::from_utf8(digits).ok()?, radix).ok()
}

/// A connection on which heads are looked at as they come in.
#[derive(Debug)]
pub(crate) struct HeadCheck<S> {
    stream: S,
    seen: HeadFindings,
    state: State,
    head: Head,
    /// The start of the line at which the last read ended.
    line: Vec<u8>,
    /// Whether that line is longer than the part that is kept, and its last byte.
    is_cut: bool,
    last: u8,
    /// How long it is still read after we have said all.
    lingers: Option<Pin<Box<Sleep>>>,
}

impl<S> HeadCheck<S> {
    pub(crate) fn new(stream: S) -> (Self, HeadFindings) {
        let seen = HeadFindings::default();
        let guard = Self {
            stream,
            seen: seen.clone(),
            state: State::Head,
            head: Head::default(),
            line: Vec::new(),
            is_cut: false,
            last: 0,
            lingers: None,
        };
        (guard, seen)
    }

    /// Looks at bytes that were just read.
    fn look(&mut self, bytes: &[u8]) {
        if self.seen.0.raw.load(Ordering::Relaxed) {
            return;
        }
        let mut rest = bytes;
        while !rest.is_empty() {
            rest = match self.state {
                State::Lost => return,
                State::Body(left) => {
                    let (left, rest) = skip(left, rest);
                    self.state = if left == 0 {
                        State::Head
                    } else {
                        State::Body(left)
                    };
                    rest
                }
                State::Chunk(left) => {
                    let (left, rest) = skip(left, rest);
                    self.state = if left == 0 {
                        State::ChunkLength
                    } else {
                        State::Chunk(left)
                    };
                    rest
                }
                State::Head | State::ChunkLength | State::Trailers => self.look_at_line(rest),
            };
        }
    }

    /// Takes in the rest of a line, or all there is of it; gives what is behind.
    fn look_at_line<'a>(&mut self, bytes: &'a [u8]) -> &'a [u8] {
        let Some(at) = memchr::memchr(b'\n', bytes) else {
            self.keep(bytes);
            return &[];
        };
        let (line, behind) = bytes.split_at_checked(at).unwrap_or((bytes, &[]));
        let behind = behind.get(1..).unwrap_or_default();
        if self.line.is_empty() && !self.is_cut && line.len() <= LONGEST_LINE {
            // A line usually comes in one piece.
            self.end_line(line, true, line.last().copied());
        } else {
            self.keep(line);
            let kept = std::mem::take(&mut self.line);
            let (is_whole, last) = (!self.is_cut, self.last);
            self.is_cut = false;
            self.end_line(&kept, is_whole, Some(last));
            self.line = kept;
            self.line.clear();
        }
        behind
    }

    /// Keeps the start of a line.
    fn keep(&mut self, bytes: &[u8]) {
        let room = LONGEST_LINE.saturating_sub(self.line.len());
        let fitting = bytes.get(..room.min(bytes.len())).unwrap_or_default();
        self.line.extend_from_slice(fitting);
        self.is_cut |= fitting.len() < bytes.len();
        self.last = bytes.last().copied().unwrap_or(self.last);
    }

    /// A line has ended in LF; `last` is the byte before that.
    fn end_line(&mut self, line: &[u8], is_whole: bool, last: Option<u8>) {
        let has_cr = last == Some(b'\r');
        let line = match line.split_last() {
            Some((b'\r', line)) if is_whole => line,
            _ => line,
        };
        let is_empty = line.is_empty() && is_whole;
        match self.state {
            State::Head => {
                self.head.bare_lf |= !has_cr;
                if !is_empty {
                    self.head.line(line, is_whole);
                } else if self.head.begun {
                    self.end_head();
                }
            }
            State::ChunkLength => {
                let digits = line.split(|byte| *byte == b';').next().unwrap_or_default();
                self.state = match number(digits, 16) {
                    Some(0) if has_cr => State::Trailers,
                    // The chunk, and the end of its line.
                    Some(length) if has_cr => State::Chunk(length.saturating_add(2)),
                    _ => State::Lost,
                };
            }
            State::Trailers if !has_cr => self.state = State::Lost,
            State::Trailers if is_empty => self.state = State::Head,
            State::Trailers | State::Body(_) | State::Chunk(_) | State::Lost => {}
        }
    }

    fn end_head(&mut self) {
        let head = std::mem::take(&mut self.head);
        let found = head.found();
        self.seen.push(found);
        self.state = match head {
            // It is refused, and the connection ends.
            _ if found != NOTHING => State::Lost,
            Head { is_coded: true, .. } => State::ChunkLength,
            Head {
                length: Some(length @ 1..),
                ..
            } => State::Body(length),
            _ => State::Head,
        };
    }
}

/// Leaves out `left` bytes, or as many as there are.
fn skip(left: u64, bytes: &[u8]) -> (u64, &[u8]) {
    let step = usize::try_from(left).unwrap_or(usize::MAX).min(bytes.len());
    let rest = bytes.get(step..).unwrap_or_default();
    (left.saturating_sub(step as u64), rest)
}

impl<S: AsyncRead + Unpin> AsyncRead for HeadCheck<S> {
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

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for HeadCheck<S> {
    fn poll_write(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.get_mut().stream).poll_write(context, bytes)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.get_mut().stream).poll_write_vectored(context, bytes)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().stream).poll_flush(context)
    }

    /// Says that nothing more comes. A socket that is closed while bytes wait in it resets the
    /// connection, and the client may lose the answer by that: so what a client still sends of a body
    /// that is not needed is read and dropped, for a while.
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
            let mut bytes = [0; 8 * 1024];
            let mut buffer = ReadBuf::new(&mut bytes);
            let read = ready!(Pin::new(&mut this.stream).poll_read(context, &mut buffer));
            if read.is_err() || buffer.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
        }
    }
}

#[cfg(test)]
#[allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "a test that panics has failed, as it should"
)]
mod tests {
    use rstest::rstest;

    use super::*;

    const GOOD: &str = "GET / HTTP/1.1\r\nhost: a\r\n\r\n";
    const BARE: &str = "GET / HTTP/1.1\nhost: a\r\n\r\n";
    const UPGRADE: &str = "GET / HTTP/1.1\r\nhost: a\r\nconnection: upgrade\r\nupgrade: x\r\n\r\n";

    /// What is said against each request of a stream.
    fn objections(
        guard: HeadCheck<()>,
        seen: &HeadFindings,
        requests: usize,
    ) -> Vec<Option<&'static str>> {
        drop(guard);
        (0..requests).map(|_| seen.objection()).collect()
    }

    #[rstest]
    #[case(GOOD, None)]
    #[case("\r\nGET / HTTP/1.1\r\nhost: a\r\n\r\n", None)]
    #[case("POST / HTTP/1.1\r\ncontent-length: 5\r\n\r\nhello", None)]
    #[case(
        "POST / HTTP/1.1\r\ncontent-length: 5\r\ncontent-length:5\r\n\r\nhello",
        None
    )]
    #[case("POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n", None)]
    #[case(BARE, Some("LF without CR"))]
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
    #[case("POST / HTTP/1.1\r\ncontent-length: 5, 5\r\n\r\n", Some("not clear"))]
    #[case("POST / HTTP/1.1\r\ncontent-length: +5\r\n\r\n", Some("not clear"))]
    #[case(
        "POST / HTTP/1.1\r\ncontent-length: 5\r\ncontent-length: 6\r\n\r\n",
        Some("not clear")
    )]
    #[case("POST / HTTP/1.1\r\nx-transfer-encoding: x\r\n\r\n", None)]
    fn heads(#[case] stream: &str, #[case] wanted: Option<&str>) {
        // However the bytes come in, cut once at every place.
        for cut in 0..=stream.len() {
            let (mut guard, seen) = HeadCheck::new(());
            let (one, two) = stream.as_bytes().split_at(cut);
            guard.look(one);
            guard.look(two);
            let found = objections(guard, &seen, 1)[0];
            assert_eq!(
                found.is_some(),
                wanted.is_some(),
                "{stream:?} at {cut}: {found:?}"
            );
            assert!(
                wanted.is_none_or(|part| found.unwrap().contains(part)),
                "{found:?}"
            );
        }
    }

    #[rstest]
    #[case::pipelined(&[GOOD, GOOD])]
    #[case::behind_a_length(&["POST / HTTP/1.1\r\ncontent-length: 26\r\n\r\ntransfer-encoding: a\nb: c"])]
    #[case::behind_chunks(&["POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n5;x=y\r\na\nb\r\n\r\nA\r\n0123456789\r\n0\r\nx: y\r\n\r\n"])]
    #[case::behind_an_upgrade(&[UPGRADE])]
    #[case::behind_a_late_line_end(&["POST / HTTP/1.1\r\ncontent-length: 1\r\n\r\nx", "\r\n"])]
    fn the_second_head_is_checked(#[case] before: &[&str]) {
        let count = before.iter().filter(|it| it.contains("HTTP")).count();
        for (last, bad) in [(GOOD, false), (BARE, true)] {
            let stream = [&before.concat(), last].concat();
            for cut in 0..=stream.len() {
                let (mut guard, seen) = HeadCheck::new(());
                let (one, two) = stream.as_bytes().split_at(cut);
                guard.look(one);
                guard.look(two);
                let found = objections(guard, &seen, count + 1);
                assert!(
                    found[..count].iter().all(Option::is_none),
                    "{stream:?} {found:?}"
                );
                assert_eq!(
                    found[count].is_some(),
                    bad,
                    "{stream:?} at {cut}: {found:?}"
                );
            }
        }
    }

    #[test]
    fn many_requests_at_once_are_refused_at_the_limit() {
        let most = MOST_HEADS as usize;
        let (mut guard, seen) = HeadCheck::new(());
        guard.look(GOOD.repeat(most + 5).as_bytes());
        let found = objections(guard, &seen, most);
        assert!(found[..most - 1].iter().all(Option::is_none), "{found:?}");
        assert!(found[most - 1].is_some());
    }

    #[rstest]
    #[case("POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\nzz\r\n")]
    #[case("POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n5\nhello\r\n0\r\n\r\n")]
    #[case("POST / HTTP/1.1\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\n")]
    fn bytes_that_cannot_be_parsed_are_refused(#[case] stream: &str) {
        let (mut guard, seen) = HeadCheck::new(());
        guard.look(stream.as_bytes());
        guard.look(GOOD.as_bytes());
        assert_eq!(seen.objection(), None);
        assert!(seen.objection().is_some());
    }

    #[test]
    fn another_protocol_is_left_alone() {
        let (mut guard, seen) = HeadCheck::new(());
        guard.look(UPGRADE.as_bytes());
        assert_eq!(seen.objection(), None);
        seen.is_raw_now();
        guard.look(&[b'\n'; 1000]);
        assert!(guard.line.is_empty() && guard.state == State::Head);
    }
}
