//! Connections to targets over HTTP/1.1, which have no task: the task that sends a request over
//! one works for it, in the same task, until the response has been read. So a byte that comes in
//! wakes that task only.
//!
//! In between they wait with the thread that made them. A connection is only ever used by that thread:
//! its socket is registered there, and another thread would have to be woken by it.

use std::cell::RefCell;
use std::collections::HashMap;
use std::fmt;
use std::future::{Future, poll_fn};
use std::io::{self, IoSlice};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::task::{Context, Poll, Waker, ready};
use std::time::{Duration, Instant};

use bytes::Bytes;
use foldhash::fast::RandomState;
use hyper::body::{Body, Frame, Incoming};
use hyper::client::conn::TrySendError;
use hyper::client::conn::http1::{Builder, Connection, SendRequest};
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::task::coop;
use tokio::time::{Sleep, sleep};
use tokio_rustls::client::TlsStream;
use tokio_util::either::Either;
use tracing::debug;

use crate::request_body::{Progress, RequestBody, after_others};

/// Idle connections that a thread keeps for one target.
const KEPT: usize = 64;
/// How long an idle connection is used again: less than the 5 s after which the most common dev
/// servers close theirs, so that a request hardly ever meets a closing connection.
const FRESH: Duration = Duration::from_secs(4);
/// How often old ones are closed, as long as there are any.
const SWEEP: Duration = Duration::from_secs(1);

/// The bytes of a target, unencrypted or out of TLS.
pub(crate) type Stream = Either<TcpStream, TlsStream<TcpStream>>;

/// A stream on which a target may answer and leave before it has read the whole request, as one does
/// for which a body is too large. What can no longer be written is dropped then, and what the target
/// has said is read: an error of writing would end the connection before that.
///
/// It also bounds what is read until the final response begins: a target may send interim responses
/// (1xx, RFC 9110 §15.2) without end, which are skipped one by one.
struct EarlyReader {
    stream: Stream,
    left: bool,
    allowance: Allowance,
    /// Whether others have had their turn since the last read of a head.
    yielded: bool,
    interim: InterimCount,
}

/// Interim responses to one request, at most; a server sends one or two, or one every few seconds.
const MOST_INTERIM: usize = 100;

/// Bytes of a head that are read in one turn, once it did not end with the first read: hundreds of interim
/// responses fit into more.
const LUMP: usize = 2 * 1024;

/// What may still be read before the final response begins.
#[derive(Clone, Debug, Default)]
struct Allowance(Arc<Allowed>);

#[derive(Debug, Default)]
struct Allowed {
    octets: AtomicUsize,
    /// Which request it is for.
    request: AtomicUsize,
}

impl Allowance {
    /// For one more request.
    fn begin(&self, octets: usize) {
        self.set(octets);
        self.0.request.fetch_add(1, Ordering::Relaxed);
    }

    fn set(&self, octets: usize) {
        self.0.octets.store(octets, Ordering::Relaxed);
    }

    fn is_unlimited(&self) -> bool {
        self.0.octets.load(Ordering::Relaxed) == UNLIMITED
    }

    /// Takes what was read from it.
    fn take(&self, octets: usize) -> io::Result<()> {
        match self.0.octets.load(Ordering::Relaxed) {
            UNLIMITED => Ok(()),
            left => match left.checked_sub(octets) {
                Some(left) => {
                    self.set(left);
                    Ok(())
                }
                None => Err(io::Error::other(EndlessInterim)),
            },
        }
    }
}

/// Counts the interim responses before a final one.
#[derive(Debug, Default)]
struct InterimCount {
    /// The request that they answer.
    request: usize,
    responses: usize,
    /// Bytes of the head at hand.
    at: usize,
    line_is_empty: bool,
    /// Whether the final response has begun.
    is_final: bool,
}

impl InterimCount {
    /// Where the first digit of the status is: `HTTP/1.1 103`.
    const STATUS: usize = 9;

    /// Whether something was read for this request.
    fn has_begun(&self, request: usize) -> bool {
        self.request == request && (self.at > 0 || self.responses > 0)
    }

    /// Reads on, and gives how many there were so far.
    fn read(&mut self, octets: &[u8], request: usize) -> usize {
        if self.request != request {
            *self = Self {
                request,
                ..Self::default()
            };
        }
        for octet in octets {
            if self.is_final {
                break;
            }
            let ends_line = *octet == b'\n';
            // Line ends before a head are passed over (RFC 9112 §2.2).
            if self.at == 0 && (ends_line || *octet == b'\r') {
                continue;
            }
            if self.at == Self::STATUS {
                self.is_final = *octet != b'1';
            }
            self.at += 1;
            if ends_line && self.line_is_empty {
                self.responses += 1;
                self.at = 0;
            }
            self.line_is_empty = match octet {
                b'\r' => self.line_is_empty,
                _ => ends_line && self.at > 0,
            };
        }
        self.responses
    }
}

/// Once the final response has begun.
const UNLIMITED: usize = usize::MAX;

/// The target sends interim responses and no final one.
#[derive(Debug, thiserror::Error)]
#[error("interim responses (1xx) without end, and no final one")]
pub(crate) struct EndlessInterim;

impl AsyncRead for EarlyReader {
    fn poll_read(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        if this.allowance.is_unlimited() {
            return Pin::new(&mut this.stream).poll_read(context, buffer);
        }
        let request = this.allowance.0.request.load(Ordering::Relaxed);
        let goes_on = this.interim.has_begun(request);
        if goes_on && !this.yielded {
            this.yielded = true;
            return after_others(context);
        }
        let room = if goes_on { LUMP } else { usize::MAX };
        let before = buffer.filled().len();
        if buffer.remaining() > room {
            let mut lump = ReadBuf::new(buffer.initialize_unfilled_to(room));
            ready!(Pin::new(&mut this.stream).poll_read(context, &mut lump))?;
            let read = lump.filled().len();
            buffer.advance(read);
        } else {
            ready!(Pin::new(&mut this.stream).poll_read(context, buffer))?;
        }
        let read = &buffer.filled()[before..];
        if this.interim.read(read, request) > MOST_INTERIM {
            return Poll::Ready(Err(io::Error::other(EndlessInterim)));
        }
        let read = read.len();
        this.yielded = false;
        Poll::Ready(this.allowance.take(read))
    }
}

impl AsyncWrite for EarlyReader {
    fn poll_write(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[u8],
    ) -> Poll<io::Result<usize>> {
        self.poll_write_vectored(context, &[IoSlice::new(octets)])
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        octets: &[IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        if !this.left {
            match ready!(Pin::new(&mut this.stream).poll_write_vectored(context, octets)) {
                Err(cause) if has_left(&cause) => this.left = true,
                outcome => return Poll::Ready(outcome),
            }
        }
        Poll::Ready(Ok(octets.iter().map(|slice| slice.len()).sum()))
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        match ready!(Pin::new(&mut this.stream).poll_flush(context)) {
            Err(cause) if has_left(&cause) => {
                this.left = true;
                Poll::Ready(Ok(()))
            }
            outcome => Poll::Ready(outcome),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().stream).poll_shutdown(context)
    }
}

fn has_left(cause: &io::Error) -> bool {
    matches!(
        cause.kind(),
        io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset
    )
}

/// What came of a request; one of which no byte went out comes back with the error.
pub(crate) type Sent = Result<Response<Incoming>, SendError>;
pub(crate) type SendError = TrySendError<Request<RequestBody>>;

/// A connection to a target.
pub(crate) struct TargetConnection {
    sender: SendRequest<RequestBody>,
    connection: Connection<TokioIo<EarlyReader>, RequestBody>,
    /// Whether it has come to its end.
    over: bool,
    /// Over when an answer is late.
    late: Pin<Box<Sleep>>,
    pool: u64,
    idle_since: Instant,
    /// Whether another request may go out over it.
    reusable: bool,
    allowance: Allowance,
    /// What may be read before the final response begins: its head and interim ones.
    most_before: usize,
}

/// How long an answer may take: so long from when it is asked for, and for a request whose body gets
/// on from when it last did.
#[derive(Debug)]
pub(crate) struct ResponseDeadline {
    pub(crate) since: Instant,
    pub(crate) limit: Duration,
    pub(crate) progress: Option<Progress>,
}

impl ResponseDeadline {
    /// How much longer to wait once the limit is reached; `None` when the answer is late.
    pub(crate) fn left(&self) -> Option<Duration> {
        let since = self.progress.as_ref()?.since();
        self.limit.checked_sub(since)
    }
}

impl fmt::Debug for TargetConnection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TargetConnection").finish_non_exhaustive()
    }
}

impl TargetConnection {
    /// HTTP/1.1 over `stream`, for the pool with this id.
    pub(crate) async fn new(
        stream: Stream,
        pool: u64,
        head_octets: usize,
    ) -> Result<Self, hyper::Error> {
        let allowance = Allowance::default();
        let reader = EarlyReader {
            stream,
            left: false,
            allowance: allowance.clone(),
            yielded: false,
            interim: InterimCount::default(),
        };
        let (sender, connection) = Builder::new()
            .max_buf_size(head_octets)
            .handshake(TokioIo::new(reader))
            .await?;
        allowance.set(UNLIMITED);
        Ok(Self {
            sender,
            connection,
            over: false,
            late: Box::pin(sleep(Duration::ZERO)),
            pool,
            idle_since: Instant::now(),
            reusable: true,
            allowance,
            most_before: 2 * head_octets,
        })
    }

    /// Sends, and works for the connection until the head of the response is there. `None` when it is
    /// late.
    pub(crate) fn send(
        &mut self,
        request: Request<RequestBody>,
        deadline: ResponseDeadline,
    ) -> impl Future<Output = Option<Sent>> {
        let Self {
            sender,
            connection,
            over,
            late,
            allowance,
            most_before,
            ..
        } = self;
        allowance.begin(*most_before);
        // The deadline of an earlier request is early enough: it is set again when it has passed, and not with
        // every request.
        let due = deadline.since + deadline.limit;
        if late.is_elapsed() || late.deadline().into_std() > due {
            late.as_mut().reset(due.into());
        }
        let mut sending = Box::pin(sender.try_send_request(request));
        poll_fn(move |context| {
            work(connection, over, context);
            // What is waited for comes from the connection alone, which was just looked after.
            if let Poll::Ready(sent) = sending.as_mut().poll(&mut quiet()) {
                allowance.set(UNLIMITED);
                return Poll::Ready(Some(sent));
            }
            return_if_budget_is_spent(context);
            while late.as_mut().poll(context).is_ready() {
                let now = Instant::now();
                let next = match deadline.left() {
                    _ if now < due => due,
                    Some(left) => now + left,
                    None => return Poll::Ready(None),
                };
                late.as_mut().reset(next.into());
            }
            Poll::Pending
        })
    }

    /// The next frame of the response's body.
    pub(crate) fn poll_frame(
        &mut self,
        incoming: &mut Incoming,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        // Polling tells the client's side that there is room for more.
        if let Poll::Ready(frame) = Pin::new(&mut *incoming).poll_frame(&mut quiet()) {
            return Poll::Ready(frame);
        }
        work(&mut self.connection, &mut self.over, context);
        let frame = Pin::new(incoming).poll_frame(&mut quiet());
        if frame.is_pending() {
            return_if_budget_is_spent(context);
        }
        frame
    }

    /// This request is the last one: after an offer to change the protocol, the target may not read
    /// what follows as HTTP.
    pub(crate) fn use_once(&mut self) {
        self.reusable = false;
    }

    /// Keeps the connection for another request. One on which the request is still being sent goes on
    /// with that by itself.
    pub(crate) fn give_back(mut self: Box<Self>) {
        if self.look() && self.reusable {
            IDLE.with_borrow_mut(|idle| idle.put(self));
        } else if !self.over {
            self.go_on();
        }
    }

    /// Continues in its own task.
    #[cold]
    fn go_on(self: Box<Self>) {
        tokio::spawn(self.work());
    }

    /// Works for the connection until it speaks HTTP no more. Gives what is spoken over from then on,
    /// and what was read of that.
    pub(crate) async fn change(mut self: Box<Self>) -> (Stream, Bytes) {
        poll_fn(|context| {
            work(&mut self.connection, &mut self.over, context);
            if self.over {
                Poll::Ready(())
            } else {
                Poll::Pending
            }
        })
        .await;
        let parts = self.connection.into_parts();
        (parts.io.into_inner().stream, parts.read_buf)
    }

    /// Works for the connection until it has ended.
    async fn work(self: Box<Self>) {
        let Self {
            sender,
            connection,
            over,
            ..
        } = *self;
        // Without a sender it ends once there is nothing left to do.
        drop(sender);
        if !over && let Err(cause) = connection.await {
            debug!(%cause, "a connection to a target ended early");
        }
    }

    /// Whether it is open and ready for a request. It wakes no task from then on.
    fn look(&mut self) -> bool {
        work(&mut self.connection, &mut self.over, &mut quiet());
        !self.over && self.sender.is_ready()
    }
}

/// Does what there is to do on a connection.
fn work(
    connection: &mut Connection<TokioIo<EarlyReader>, RequestBody>,
    over: &mut bool,
    context: &mut Context<'_>,
) {
    if *over {
        return;
    }
    if let Poll::Ready(outcome) = Pin::new(connection).poll(context) {
        *over = true;
        if let Err(cause) = outcome {
            debug!(%cause, "a connection to a target ended early");
        }
    }
}

/// For what needs no waking.
fn quiet() -> Context<'static> {
    Context::from_waker(Waker::noop())
}

/// Wakes this task again when its budget is spent: what it reads may be there already, and the read
/// have been put off for that reason alone.
fn return_if_budget_is_spent(context: &Context<'_>) {
    if !coop::has_budget_remaining() {
        context.waker().wake_by_ref();
    }
}

thread_local! {
    static IDLE: RefCell<Idle> = RefCell::default();
}

/// The connections of one thread that wait for a request.
#[derive(Default)]
struct Idle {
    /// By pool, the longest idle first.
    #[allow(clippy::vec_box, reason = "they are used in the same boxes")]
    waiting: HashMap<u64, Vec<Box<TargetConnection>>, RandomState>,
    /// Whether a task closes those that have become old.
    swept: bool,
}

impl Idle {
    fn put(&mut self, mut link: Box<TargetConnection>) {
        link.idle_since = Instant::now();
        let waiting = self.waiting.entry(link.pool).or_default();
        if waiting.len() < KEPT {
            waiting.push(link);
        }
        if !self.swept {
            self.swept = true;
            tokio::spawn(sweep());
        }
    }

    /// Closes those that are old. Gives whether any are left.
    fn close_old(&mut self) -> bool {
        self.waiting.retain(|_, links| {
            let fresh = |link: &TargetConnection| link.idle_since.elapsed() < FRESH;
            let first = links.partition_point(|link| !fresh(link));
            links.drain(..first);
            links.shrink_to(1);
            !links.is_empty()
        });
        self.swept = !self.waiting.is_empty();
        self.swept
    }
}

async fn sweep() {
    loop {
        sleep(SWEEP).await;
        if !IDLE.with_borrow_mut(Idle::close_old) {
            return;
        }
    }
}

/// The connection of a pool that was used last, and can take a request now.
pub(crate) async fn take(pool: u64) -> Option<Box<TargetConnection>> {
    loop {
        let mut link = IDLE.with_borrow_mut(|idle| idle.waiting.get_mut(&pool)?.pop())?;
        if link.idle_since.elapsed() >= FRESH {
            continue;
        }
        // Without a share of the thread left, nothing can be seen.
        coop::consume_budget().await;
        if link.look() {
            return Some(link);
        }
    }
}

/// Closes every connection that waits with this thread.
pub(crate) fn close_all() {
    drop(IDLE.take());
}

#[cfg(test)]
mod tests {
    use http_body_util::BodyExt;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    use super::*;

    #[rstest::rstest]
    #[case(&["HTTP/1.1 200 OK\r\n\r\n\r\n\r\n"], 0)]
    #[case(&["HTTP/1.1 103 Early Hints\r\nlink: <a>\r\n\r\nHTTP/1.1 100 \r\n\r\n"], 2)]
    #[case(&["HTTP/1.1 10", "0 \r", "\n\r", "\n", "\r\nHTTP/1.0 102 a\n\n", "HTTP/1.1 204 x\r\n\r\n"], 2)]
    #[case(&["HTTP/1.1 100 \r\na: b\r\n"], 0)]
    fn interim_responses_are_counted(#[case] parts: &[&str], #[case] wanted: usize) {
        let mut count = InterimCount::default();
        let counted = parts.iter().map(|part| count.read(part.as_bytes(), 1));
        assert_eq!(counted.last(), Some(wanted));
        assert_eq!(
            count.read(b"HTTP/1.1 100 \r\n\r\n", 2),
            1,
            "another request"
        );
    }

    /// A connection to a server that gives this answer to each request; none when it is empty.
    async fn connection(pool: u64, answer: &'static [u8]) -> Box<TargetConnection> {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            while stream.read(&mut [0; 4096]).await.is_ok_and(|read| read > 0) {
                stream.write_all(answer).await.unwrap();
            }
        });
        let stream = Either::Left(TcpStream::connect(at).await.unwrap());
        let connection = TargetConnection::new(stream, pool, 64 * 1024).await;
        Box::new(connection.unwrap())
    }

    fn within(limit: Duration) -> ResponseDeadline {
        ResponseDeadline {
            since: Instant::now(),
            limit,
            progress: None,
        }
    }

    fn request() -> Request<RequestBody> {
        let mut request = Request::new(RequestBody::empty());
        let host = http::HeaderValue::from_static("a.moor.test");
        request.headers_mut().insert(http::header::HOST, host);
        request
    }

    const ANSWER: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 3\r\n\r\nhut";

    /// Sends a request and reads the whole answer.
    async fn ask(connection: &mut TargetConnection) -> Bytes {
        let sent = connection.send(request(), within(Duration::from_secs(20)));
        let mut incoming = sent.await.unwrap().unwrap().into_body();
        let frame = poll_fn(|context| connection.poll_frame(&mut incoming, context)).await;
        let data = frame.unwrap().unwrap().into_data().unwrap();
        assert!(incoming.collect().await.unwrap().to_bytes().is_empty());
        data
    }

    #[tokio::test]
    async fn a_connection_is_reused_until_it_is_closed() {
        let pool = u64::MAX;
        let mut connection = connection(pool, ANSWER).await;
        assert_eq!(ask(&mut connection).await, "hut");
        connection.give_back();
        assert!(take(pool - 1).await.is_none(), "it belongs to another pool");
        let mut connection = take(pool).await.unwrap();
        assert_eq!(ask(&mut connection).await, "hut");
        connection.use_once();
        connection.give_back();
        assert!(take(pool).await.is_none());
    }

    #[tokio::test]
    async fn a_connection_that_the_target_has_closed_is_not_used_again() {
        let pool = u64::MAX - 2;
        let closing = b"HTTP/1.1 200 OK\r\nconnection: close\r\ncontent-length: 3\r\n\r\nhut";
        let mut connection = connection(pool, closing).await;
        assert_eq!(ask(&mut connection).await, "hut");
        connection.give_back();
        assert!(take(pool).await.is_none());
    }

    #[tokio::test]
    async fn a_late_answer_times_out() {
        let mut connection = connection(u64::MAX - 3, b"").await;
        let sent = connection.send(request(), within(Duration::from_millis(30)));
        assert!(sent.await.is_none());
    }
}
