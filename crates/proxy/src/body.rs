use std::error::Error;
use std::fmt;
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

use bentlane_traffic::Ending;
use bytes::Bytes;
use http_body_util::BodyExt;
use hyper::body::{Body, Frame, Incoming, SizeHint};
use tokio::runtime::Handle;
use tokio::time::{Sleep, sleep, timeout};

use crate::files::FileBody;
use crate::head_check::{HeadFindings, LINGERS};
use crate::pool::Lease;
use crate::record::ExchangeBuilder;
use crate::site::SiteBody;

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

/// A body that may stand still for a while, not for ever. The clock runs only while it is waited for.
#[derive(Debug)]
struct TimedBody {
    incoming: Incoming,
    /// How long it may stand still, and last in all; `None` for ever.
    limit: Option<(Duration, Duration)>,
    /// When it was first waited for: from then on it lasts.
    since: Option<Instant>,
    clock: Option<Pin<Box<Sleep>>>,
}

impl TimedBody {
    fn new(incoming: Incoming, limit: Option<(Duration, Duration)>) -> Self {
        Self {
            incoming,
            limit,
            since: None,
            clock: None,
        }
    }

    /// The next frame; of what comes over `lease` by working for that.
    fn poll(
        &mut self,
        lease: Option<&mut Lease>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let frame = match lease {
            Some(lease) => lease.poll_frame(&mut self.incoming, context),
            None => Pin::new(&mut self.incoming).poll_frame(context),
        };
        if let Poll::Ready(frame) = frame {
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
    /// Who is told when nobody reads it to its end.
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
    /// What was not read of it, kept until the response is on its way: a client is told at once when
    /// nobody wants the rest, and may take that for the end of the response.
    unread: Mutex<Option<DiscardedBody>>,
}

/// A body of which nobody wants the rest.
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

    /// For a body that nobody has begun to read.
    pub(crate) fn of_unread(incoming: Incoming, heads: Option<&HeadFindings>) -> Self {
        let progress = Self::new();
        progress.keep_unread(incoming, heads);
        progress
    }

    /// How many octets have passed.
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
        let frame = ready!(sending.watched.poll(None, context));
        sending.progress.advance(octets_of(frame.as_ref()));
        if frame.is_none() || sending.watched.incoming.is_end_stream() {
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
            .is_none_or(|sending| sending.watched.incoming.is_end_stream())
    }

    fn size_hint(&self) -> SizeHint {
        match &self.0 {
            Some(sending) => sending.watched.incoming.size_hint(),
            None => SizeHint::with_exact(0),
        }
    }
}

/// The octets of data in what a body gave.
fn octets_of<E>(frame: Option<&Result<Frame<Bytes>, E>>) -> usize {
    let data = frame.and_then(|frame| frame.as_ref().ok()?.data_ref());
    data.map_or(0, Bytes::len)
}

/// A response's body: the target's, passed on as it comes, a file's, or a page of our own.
#[derive(Debug)]
pub(crate) struct ResponseBody {
    kind: Kind,
    /// What is noted of the exchange, until the body is over.
    exchange: Option<Box<ExchangeBuilder>>,
    /// The request's body, of which something may be unread: kept until the response is on its way.
    request: Option<Progress>,
    /// Why it breaks off, until that is told.
    fault: Option<BodyError>,
}

#[derive(Debug)]
enum Kind {
    /// The target's, with the connection it comes over.
    Passing {
        watched: TimedBody,
        lease: Option<Lease>,
    },
    File(Box<FileBody>),
    /// One of our own pages.
    Site(SiteBody),
    /// Our own; `None` once it has been sent.
    Own(Option<Bytes>),
}

impl ResponseBody {
    /// A body that puts its connection back into the pool when the last octet has been read. A
    /// body that ends early closes the connection: what is left on it belongs to nobody.
    pub(crate) fn passing(
        incoming: Incoming,
        lease: Lease,
        limit: Option<(Duration, Duration)>,
    ) -> Self {
        let ended = incoming.is_end_stream();
        let watched = TimedBody::new(incoming, limit);
        let lease = if ended {
            lease.give_back();
            None
        } else {
            Some(lease)
        };
        Self::of(Kind::Passing { watched, lease })
    }

    fn of(kind: Kind) -> Self {
        Self {
            kind,
            exchange: None,
            request: None,
            fault: None,
        }
    }

    /// Completes `exchange` when the body ends.
    pub(crate) fn record_to(&mut self, mut exchange: Box<ExchangeBuilder>) {
        exchange.is_stream =
            matches!(&self.kind, Kind::Passing { watched, .. } if watched.limit.is_none());
        if exchange.is_stream {
            exchange.lasts();
        }
        self.request = exchange.received.take();
        self.exchange = Some(exchange);
    }

    fn end(&mut self, ending: Ending) {
        if let Some(mut exchange) = self.exchange.take() {
            exchange.details.carried = self.request.as_ref().map_or(0, Progress::octets);
            exchange.end(ending);
        }
    }

    /// The content of a file, or a part of it.
    pub(crate) fn file(body: FileBody) -> Self {
        Self::of(Kind::File(Box::new(body)))
    }

    /// The body of one of our own pages.
    pub(crate) fn site(body: SiteBody) -> Self {
        Self::of(Kind::Site(body))
    }

    /// A body of our own.
    pub(crate) fn own(octets: impl Into<Bytes>) -> Self {
        Self::of(Kind::Own(Some(octets.into())))
    }

    /// No body at all.
    pub(crate) fn empty() -> Self {
        Self::of(Kind::Own(None))
    }
}

impl Body for ResponseBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        let this = self.get_mut();
        if let Some(fault) = this.fault.take() {
            this.end(Ending::TargetBrokeOff);
            return Poll::Ready(Some(Err(fault)));
        }
        let frame = match ready!(this.kind.poll(context)) {
            Some(Err(fault)) => {
                // The engine closes at once, with what it has not sent yet: that goes out first.
                this.fault = Some(fault);
                context.waker().wake_by_ref();
                return Poll::Pending;
            }
            frame => frame,
        };
        if let Some(exchange) = &mut this.exchange {
            exchange.details.sent += octets_of(frame.as_ref()) as u64;
        }
        match &frame {
            Some(Ok(_)) if !this.kind.is_over() => {}
            _ => this.end(Ending::Whole),
        }
        Poll::Ready(frame)
    }

    fn is_end_stream(&self) -> bool {
        self.fault.is_none() && self.kind.is_over()
    }

    fn size_hint(&self) -> SizeHint {
        match &self.kind {
            Kind::Own(octets) => SizeHint::with_exact(octets.as_ref().map_or(0, Bytes::len) as u64),
            Kind::File(file) => SizeHint::with_exact(file.left()),
            Kind::Site(body) => body.size_hint(),
            Kind::Passing { watched, .. } => watched.incoming.size_hint(),
        }
    }
}

impl Drop for ResponseBody {
    fn drop(&mut self) {
        // One without octets is not asked for any.
        let ending = match (&self.fault, self.kind.is_over()) {
            (Some(_), _) => Ending::TargetBrokeOff,
            (None, true) => Ending::Whole,
            (None, false) => Ending::ClientLeft,
        };
        self.end(ending);
    }
}

impl Kind {
    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match self {
            Self::Own(octets) => Poll::Ready(octets.take().map(|octets| Ok(Frame::data(octets)))),
            Self::File(file) => {
                let chunk = ready!(file.poll(context));
                let framed = chunk.map(|chunk: io::Result<Bytes>| {
                    chunk.map(Frame::data).map_err(BodyError::from)
                });
                Poll::Ready(framed)
            }
            Self::Site(body) => Pin::new(body).poll_frame(context),
            Self::Passing { watched, lease } => {
                let frame = ready!(watched.poll(lease.as_mut(), context));
                match &frame {
                    Some(Err(_)) => drop(lease.take()),
                    Some(Ok(_)) if !watched.incoming.is_end_stream() => {}
                    Some(Ok(_)) | None => {
                        if let Some(lease) = lease.take() {
                            lease.give_back();
                        }
                    }
                }
                Poll::Ready(frame)
            }
        }
    }

    /// Whether nothing more comes.
    fn is_over(&self) -> bool {
        match self {
            Self::Own(octets) => octets.is_none(),
            Self::File(file) => file.is_over(),
            Self::Site(body) => body.is_end_stream(),
            Self::Passing { watched, .. } => watched.incoming.is_end_stream(),
        }
    }
}
