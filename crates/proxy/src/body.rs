use std::error::Error;
use std::fmt;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::{Context, Poll, ready};
use std::time::{Duration, Instant};

use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};
use tokio::time::{Sleep, sleep};

use crate::files::FileBody;
use crate::guard::Seen;
use crate::pool::Lease;

/// What ends a body early.
pub(crate) type BodyError = Box<dyn Error + Send + Sync>;

/// A side that sends nothing more, though its body is not at its end.
#[derive(Debug)]
pub(crate) struct Stalled(Duration);

impl fmt::Display for Stalled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "nothing came for {} s", self.0.as_secs())
    }
}

impl Error for Stalled {}

/// A client whose body cannot be read on: what it sends is no body, or it is gone.
#[derive(Debug)]
pub(crate) struct Broken(BodyError);

impl fmt::Display for Broken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the body of the request breaks off")
    }
}

impl Error for Broken {
    fn source(&self) -> Option<&(dyn Error + 'static)> {
        Some(&*self.0)
    }
}

/// A body that may stand still for a while, not for ever. The clock runs only while it is waited for.
#[derive(Debug)]
struct Watched {
    incoming: Incoming,
    /// How long it may stand still, and last in all; `None` for ever.
    limit: Option<(Duration, Duration)>,
    /// When it was first waited for: from then on it lasts.
    since: Option<Instant>,
    clock: Option<Pin<Box<Sleep>>>,
}

impl Watched {
    fn new(incoming: Incoming, limit: Option<(Duration, Duration)>) -> Self {
        Self {
            incoming,
            limit,
            since: None,
            clock: None,
        }
    }

    fn poll(&mut self, context: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        if let Poll::Ready(frame) = Pin::new(&mut self.incoming).poll_frame(context) {
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
        Poll::Ready(Some(Err(Box::new(Stalled(idle)))))
    }
}

/// A request's body on its way to the target; nothing for most, which so are smaller to move.
#[derive(Debug)]
pub(crate) struct RequestBody(Option<Box<Sending>>);

#[derive(Debug)]
struct Sending {
    watched: Watched,
    progress: Progress,
    /// Who is told when it is over, and a head may come.
    heads: Option<Seen>,
}

/// When a body last got on. Cloning gives another handle to the same one.
#[derive(Clone, Debug)]
pub(crate) struct Progress(Arc<Since>);

#[derive(Debug)]
struct Since {
    start: Instant,
    /// Milliseconds from the start to when it got on.
    last: AtomicU64,
}

impl Progress {
    fn new() -> Self {
        Self(Arc::new(Since {
            start: Instant::now(),
            last: AtomicU64::new(0),
        }))
    }

    fn note(&self) {
        let millis = self.0.start.elapsed().as_millis();
        let millis = u64::try_from(millis).unwrap_or(u64::MAX);
        self.0.last.store(millis, Ordering::Relaxed);
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
        heads: Option<Seen>,
    ) -> Self {
        if incoming.is_end_stream() {
            return Self::empty();
        }
        Self(Some(Box::new(Sending {
            watched: Watched::new(incoming, Some((idle, total))),
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
        sending.progress.note();
        if frame.is_none() || sending.watched.incoming.is_end_stream() {
            sending.heads.take().iter().for_each(Seen::body_is_over);
        }
        Poll::Ready(frame.map(|frame| {
            frame.map_err(|error| match error.is::<Stalled>() {
                true => error,
                false => Box::new(Broken(error)),
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

/// A response's body: the target's, passed on as it comes, a file's, or a page of our own.
#[derive(Debug)]
pub(crate) struct ResponseBody(Kind);

#[derive(Debug)]
enum Kind {
    /// The target's, with the connection it comes over.
    Passing {
        watched: Watched,
        lease: Option<Lease>,
    },
    File(Box<FileBody>),
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
        let watched = Watched::new(incoming, limit);
        let lease = if ended {
            lease.give_back();
            None
        } else {
            Some(lease)
        };
        Self(Kind::Passing { watched, lease })
    }

    /// The content of a file, or a part of it.
    pub(crate) fn file(body: FileBody) -> Self {
        Self(Kind::File(Box::new(body)))
    }

    /// A body of our own.
    pub(crate) fn own(octets: impl Into<Bytes>) -> Self {
        Self(Kind::Own(Some(octets.into())))
    }

    /// No body at all.
    pub(crate) fn empty() -> Self {
        Self(Kind::Own(None))
    }
}

impl Body for ResponseBody {
    type Data = Bytes;
    type Error = BodyError;

    fn poll_frame(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, BodyError>>> {
        match &mut self.get_mut().0 {
            Kind::Own(octets) => Poll::Ready(octets.take().map(|octets| Ok(Frame::data(octets)))),
            Kind::File(file) => {
                let chunk = ready!(file.poll(context));
                let framed = chunk.map(|chunk: io::Result<Bytes>| {
                    chunk.map(Frame::data).map_err(BodyError::from)
                });
                Poll::Ready(framed)
            }
            Kind::Passing { watched, lease } => {
                let frame = ready!(watched.poll(context));
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

    fn is_end_stream(&self) -> bool {
        match &self.0 {
            Kind::Own(octets) => octets.is_none(),
            Kind::File(file) => file.is_over(),
            Kind::Passing { watched, .. } => watched.incoming.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match &self.0 {
            Kind::Own(octets) => SizeHint::with_exact(octets.as_ref().map_or(0, Bytes::len) as u64),
            Kind::File(file) => SizeHint::with_exact(file.left()),
            Kind::Passing { watched, .. } => watched.incoming.size_hint(),
        }
    }
}
