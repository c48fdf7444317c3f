use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use bentlane_traffic::Ending;
use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};

use crate::file_body::FileBody;
use crate::pool::Lease;
use crate::record::ExchangeBuilder;
use crate::request_body::{BodyError, Progress, TimedBody, octets_of};
use crate::site::SiteBody;

/// A response's body: the target's, passed on as it arrives, a file, or a page of ours.
#[derive(Debug)]
pub(crate) struct ResponseBody {
    kind: Kind,
    /// The record, until the body ends.
    exchange: Option<Box<ExchangeBuilder>>,
    /// The request's body, of which something may be unread: kept until the response is on its way.
    request: Option<Progress>,
    /// Why it ends early, until that is returned.
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
    /// A body that puts its connection back into the pool when the last byte has been read. A
    /// body that ends early closes the connection, since the rest of the body may follow.
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

    /// A text of ours.
    pub(crate) fn own(octets: impl Into<Bytes>) -> Self {
        Self::of(Kind::Own(Some(octets.into())))
    }

    /// An empty body.
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
        // An empty one is not polled.
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
                let frame = ready!(match lease {
                    Some(lease) => watched.poll_with(context, |incoming, context| {
                        lease.poll_frame(incoming, context)
                    }),
                    None => watched.poll(context),
                });
                match &frame {
                    Some(Err(_)) => drop(lease.take()),
                    Some(Ok(_)) if !watched.is_over() => {}
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
            Self::Passing { watched, .. } => watched.is_over(),
        }
    }
}

#[cfg(test)]
mod tests {
    use http::{Method, Version};
    use http_body_util::BodyExt;

    use super::*;
    use crate::record::Recorder;

    fn exchange(recorder: &Recorder) -> Box<ExchangeBuilder> {
        let client = [127, 0, 0, 1].into();
        let mut exchange = ExchangeBuilder::begin(client, true, Version::HTTP_2, Method::GET);
        exchange.recorder = Some(recorder.clone());
        Box::new(exchange)
    }

    #[tokio::test]
    async fn an_exchange_is_recorded_when_its_body_has_been_read() {
        let recorder = Recorder::default();
        let mut body = ResponseBody::own("larkfell");
        assert_eq!(body.size_hint().exact(), Some(8));
        body.record_to(exchange(&recorder));
        assert!(recorder.is_empty());
        assert_eq!(body.collect().await.unwrap().to_bytes(), "larkfell");
        let (recorded, _) = recorder.take().next().unwrap();
        let recorded = recorded.exchange(1);
        assert_eq!((recorded.ending, recorded.sent), (Ending::Whole, 8));
    }

    #[tokio::test]
    async fn a_body_dropped_early_is_recorded_as_aborted_by_the_client() {
        let recorder = Recorder::default();
        let mut body = ResponseBody::own("larkfell");
        body.record_to(exchange(&recorder));
        drop(body);
        let (recorded, _) = recorder.take().next().unwrap();
        assert_eq!(recorded.exchange(1).ending, Ending::ClientLeft);
        assert!(ResponseBody::empty().is_end_stream());
    }
}
