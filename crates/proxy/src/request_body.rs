use std::error::Error;
use std::fmt;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use hyper::body::{Body, Frame, Incoming, SizeHint};
use tokio::runtime::Handle;
use tokio::task::yield_now;
use tokio::time::{Sleep, sleep, timeout};

use crate::head_check::{HeadFindings, LINGERS};

/// What ends a body early.
pub(crate) type BodyError = Box<dyn Error + Send + Sync>;

/// A side that sends nothing more, though its body is not at its end.
#[derive(Debug)]
pub(crate) struct StallError(Duration);

impl fmt::Display for StallError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "nothing came for {} s", self.0.as_secs())
    }
}

impl Error for StallError {}

/// A client whose body cannot be read on: what it sends is no body, or it is gone.
#[derive(Debug)]
pub(crate) struct ClientBodyError(BodyError);

impl fmt::Display for ClientBodyError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the body of the request breaks off")
    }
}

impl Error for ClientBodyError {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.0)
    }
}

/// Bytes below which a frame is small.
const SMALL: usize = 1024;
/// Small frames that are joined at most.
const JOINED: usize = 256;

/// What polling a body for its next frame gives.
type PollFrame<E> = Poll<Option<Result<Frame<Bytes>, E>>>;

/// Has this task go on once others of its thread had their turn, those included for which something has come
/// from the network meanwhile: a task that only wakes itself is run before that is looked at, dozens of times.
pub(crate) fn after_others<T>(context: &mut Context<'_>) -> Poll<T> {
    let mut turn = std::pin::pin!(yield_now());
    let began = turn.as_mut().poll(context);
    debug_assert!(began.is_pending(), "it is ready when it is polled again");
    Poll::Pending
}

/// A body with limits on how long it may stall, and last. Time counts only while it is polled.
#[derive(Debug)]
pub(crate) struct TimedBody {
    pub(crate) incoming: Incoming,
    /// How long it may stall, and last in all; `None` for no limits.
    pub(crate) limit: Option<(Duration, Duration)>,
    /// When it was first polled.
    pub(crate) since: Option<Instant>,
    pub(crate) clock: Option<Pin<Box<Sleep>>>,
    /// Whether the last frame was small.
    small: bool,
    /// Whether others have their turn before the next frame.
    others_first: bool,
    /// What came behind small frames that were joined.
    behind: Option<Behind>,
}

/// What was read behind frames that were joined.
#[derive(Debug)]
enum Behind {
    /// Another frame, or what ends the body early.
    Next(Result<Frame<Bytes>, BodyError>),
    /// Its end.
    End,
}

impl TimedBody {
    pub(crate) fn new(incoming: Incoming, limit: Option<(Duration, Duration)>) -> Self {
        Self {
            incoming,
            limit,
            since: None,
            clock: None,
            small: false,
            others_first: false,
            behind: None,
        }
    }

    /// Whether nothing more comes.
    pub(crate) fn is_over(&self) -> bool {
        match &self.behind {
            None => self.incoming.is_end_stream(),
            Some(behind) => matches!(behind, Behind::End),
        }
    }

    /// The next frame.
    pub(crate) fn poll(&mut self, context: &mut Context<'_>) -> PollFrame<BodyError> {
        self.poll_with(context, |incoming, context| {
            Pin::new(incoming).poll_frame(context)
        })
    }

    /// The next frame, as `poll` gets it. Small frames that are there already are joined: a client's
    /// connection may have hundreds of thousands of them waiting, and write them all in one turn.
    pub(crate) fn poll_with(
        &mut self,
        context: &mut Context<'_>,
        mut poll: impl FnMut(&mut Incoming, &mut Context<'_>) -> PollFrame<hyper::Error>,
    ) -> PollFrame<BodyError> {
        match self.behind.take() {
            None => {}
            Some(Behind::Next(frame)) => return Poll::Ready(Some(frame)),
            Some(Behind::End) => return Poll::Ready(None),
        }
        if std::mem::take(&mut self.others_first) {
            return after_others(context);
        }
        let first = match ready!(self.poll_one(context, &mut poll)) {
            Some(Ok(frame)) if self.small && !self.incoming.is_end_stream() => frame,
            other => return Poll::Ready(other),
        };
        let first = match first.into_data() {
            Ok(data) => data,
            Err(trailers) => return Poll::Ready(Some(Ok(trailers))),
        };
        let mut joined = BytesMut::new();
        // One read may have brought thousands, each of which costs as much as a large one: others have their
        // turn after a few.
        self.others_first = true;
        for _ in 1..JOINED {
            if self.incoming.is_end_stream() {
                self.others_first = false;
                break;
            }
            match self.poll_one(context, &mut poll) {
                Poll::Ready(Some(Ok(frame))) if frame.is_data() && self.small => {
                    if joined.is_empty() {
                        joined.extend_from_slice(&first);
                    }
                    joined.extend_from_slice(frame.data_ref().map_or(&[], |data| data));
                    continue;
                }
                Poll::Ready(other) => self.behind = Some(other.map_or(Behind::End, Behind::Next)),
                Poll::Pending => {}
            }
            self.others_first = false;
            break;
        }
        let data = if joined.is_empty() {
            first
        } else {
            joined.freeze()
        };
        Poll::Ready(Some(Ok(Frame::data(data))))
    }

    /// The next frame by itself.
    fn poll_one(
        &mut self,
        context: &mut Context<'_>,
        poll: &mut impl FnMut(&mut Incoming, &mut Context<'_>) -> PollFrame<hyper::Error>,
    ) -> PollFrame<BodyError> {
        if let Poll::Ready(frame) = poll(&mut self.incoming, context) {
            self.small = octets_of(frame.as_ref()) < SMALL;
            self.clock = None;
            return Poll::Ready(frame.map(|frame| frame.map_err(Into::into)));
        }
        let Some((idle, total)) = self.limit else {
            return Poll::Pending;
        };
        if self.clock.is_none() {
            let since = self.since.get_or_insert_with(Instant::now);
            let left = total.saturating_sub(since.elapsed()).min(idle);
            self.clock = Some(Box::pin(sleep(left)));
        }
        if let Some(clock) = &mut self.clock {
            ready!(clock.as_mut().poll(context));
        }
        Poll::Ready(Some(Err(Box::new(StallError(idle)))))
    }
}

/// A request's body on its way to the target; nothing for most, which so are smaller to move.
#[derive(Debug)]
pub(crate) struct RequestBody(Option<Box<Sending>>);

#[derive(Debug)]
struct Sending {
    watched: TimedBody,
    progress: Progress,
    /// Notified when it is not read to its end.
    heads: Option<HeadFindings>,
}

/// When a body last got on. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub(crate) struct Progress(Arc<Since>);

#[derive(Debug)]
struct Since {
    start: Instant,
    /// Milliseconds from the start to when it got on.
    last: AtomicU64,
    octets: AtomicU64,
    /// What was not read of it, kept until the response is on its way: a client learns at once
    /// that the rest is not wanted, and may take that for the end of the response.
    unread: Mutex<Option<DiscardedBody>>,
}

/// A body that is not needed any more.
#[derive(Debug)]
struct DiscardedBody {
    incoming: Incoming,
    /// Whether it is one of many streams of its connection.
    is_stream: bool,
}

impl Drop for Since {
    fn drop(&mut self) {
        let unread = self
            .unread
            .get_mut()
            .map_or_else(|it| it.into_inner().take(), Option::take);
        if let Some(unread) = unread.filter(|unread| unread.is_stream)
            && let Ok(runtime) = Handle::try_current()
        {
            // Some clients give up a response when their upload is refused, although that is complete
            // (RFC 9113 §8.1). So it is read and dropped, for a while.
            let mut incoming = unread.incoming;
            let read = async move { while let Some(Ok(_)) = incoming.frame().await {} };
            runtime.spawn(timeout(LINGERS, read));
        }
    }
}

impl Progress {
    fn new() -> Self {
        Self(Arc::new(Since {
            start: Instant::now(),
            last: AtomicU64::new(0),
            octets: AtomicU64::new(0),
            unread: Mutex::default(),
        }))
    }

    /// Counts bytes that passed.
    fn advance(&self, octets: usize) {
        self.0.octets.fetch_add(octets as u64, Ordering::Relaxed);
        let millis = self.0.start.elapsed().as_millis();
        let millis = u64::try_from(millis).unwrap_or(u64::MAX);
        self.0.last.store(millis, Ordering::Relaxed);
    }

    /// Keeps what was not read.
    fn keep_unread(&self, incoming: Incoming, heads: Option<&HeadFindings>) {
        if !incoming.is_end_stream() {
            heads.into_iter().for_each(HeadFindings::body_is_left);
            let mut unread = self.0.unread.lock().unwrap_or_else(PoisonError::into_inner);
            *unread = Some(DiscardedBody {
                incoming,
                is_stream: heads.is_none(),
            });
        }
    }

    /// For a body of which nothing was read.
    pub(crate) fn of_unread(incoming: Incoming, heads: Option<&HeadFindings>) -> Self {
        let progress = Self::new();
        progress.keep_unread(incoming, heads);
        progress
    }

    /// How many bytes have passed.
    pub(crate) fn octets(&self) -> u64 {
        self.0.octets.load(Ordering::Relaxed)
    }

    /// How long it has been.
    pub(crate) fn since(&self) -> Duration {
        let last = Duration::from_millis(self.0.last.load(Ordering::Relaxed));
        self.0.start.elapsed().saturating_sub(last)
    }
}

impl RequestBody {
    pub(crate) fn new(
        incoming: Incoming,
        idle: Duration,
        total: Duration,
        heads: Option<HeadFindings>,
    ) -> Self {
        if incoming.is_end_stream() {
            return Self::empty();
        }
        Self(Some(Box::new(Sending {
            watched: TimedBody::new(incoming, Some((idle, total))),
            progress: Progress::new(),
            heads,
        })))
    }

    /// How it gets on, when there is anything to send.
    pub(crate) fn progress(&self) -> Option<Progress> {
        self.0.as_ref().map(|sending| sending.progress.clone())
    }

    pub(crate) fn empty() -> Self {
        Self(None)
    }
}

impl Drop for RequestBody {
    fn drop(&mut self) {
        if let Some(sending) = self.0.take() {
            let Sending {
                watched,
                progress,
                heads,
            } = *sending;
            progress.keep_unread(watched.incoming, heads.as_ref());
        }
    }
}

impl Body for RequestBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let Some(sending) = &mut self.get_mut().0 else {
            return Poll::Ready(None);
        };
        let frame = ready!(sending.watched.poll(context));
        sending.progress.advance(octets_of(frame.as_ref()));
        if frame.is_none() || sending.watched.is_over() {
            sending.heads = None;
        }
        Poll::Ready(frame.map(|frame| {
            frame.map_err(|error| match error.is::<StallError>() {
                true => error,
                false => Box::new(ClientBodyError(error)),
            })
        }))
    }

    fn is_end_stream(&self) -> bool {
        self.0
            .as_ref()
            .is_none_or(|sending| sending.watched.is_over())
    }

    fn size_hint(&self) -> SizeHint {
        match &self.0 {
            Some(sending) => sending.watched.incoming.size_hint(),
            None => SizeHint::with_exact(0),
        }
    }
}

/// The bytes of data in what a body gave.
pub(crate) fn octets_of<E>(frame: Option<&Result<Frame<Bytes>, E>>) -> usize {
    let data = frame.and_then(|frame| frame.as_ref().ok()?.data_ref());
    data.map_or(0, Bytes::len)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_empty_body_has_ended_without_progress() {
        let body = RequestBody::empty();
        assert!(body.is_end_stream());
        assert_eq!(body.size_hint().exact(), Some(0));
        assert!(body.progress().is_none());
    }

    #[test]
    fn progress_counts_bytes_and_forgets_the_time_before() {
        let progress = Progress::new();
        progress.advance(3);
        progress.advance(4);
        assert_eq!(progress.octets(), 7);
        assert!(progress.since() < Duration::from_secs(20));
    }

    #[test]
    fn a_stall_has_its_duration() {
        let stalled = StallError(Duration::from_secs(30));
        assert_eq!(stalled.to_string(), "nothing came for 30 s");
    }
}
