use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use hyper::body::{Body, Frame, Incoming, SizeHint};

use crate::pool::Lease;

/// A response's body: the target's, passed on as it comes, or a page of our own.
#[derive(Debug)]
pub(crate) enum ResponseBody {
    /// The target's, with the connection it comes over.
    Passing {
        incoming: Incoming,
        lease: Option<Lease>,
    },
    /// Our own; `None` once it has been sent.
    Own(Option<Bytes>),
}

impl ResponseBody {
    /// A body that puts its connection back into the pool when the last octet has been read. A
    /// body that ends early closes the connection: what is left on it belongs to nobody.
    pub(crate) fn passing(incoming: Incoming, lease: Lease) -> Self {
        if incoming.is_end_stream() {
            lease.give_back();
            return Self::Passing {
                incoming,
                lease: None,
            };
        }
        Self::Passing {
            incoming,
            lease: Some(lease),
        }
    }

    /// A body of our own.
    pub(crate) fn own(octets: impl Into<Bytes>) -> Self {
        Self::Own(Some(octets.into()))
    }

    /// No body at all.
    pub(crate) fn empty() -> Self {
        Self::Own(None)
    }
}

impl Body for ResponseBody {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        match self.get_mut() {
            Self::Own(octets) => Poll::Ready(octets.take().map(|octets| Ok(Frame::data(octets)))),
            Self::Passing { incoming, lease } => {
                let frame = ready!(Pin::new(&mut *incoming).poll_frame(context));
                match &frame {
                    Some(Err(_)) => drop(lease.take()),
                    Some(Ok(_)) if !incoming.is_end_stream() => {}
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
        match self {
            Self::Own(octets) => octets.is_none(),
            Self::Passing { incoming, .. } => incoming.is_end_stream(),
        }
    }

    fn size_hint(&self) -> SizeHint {
        match self {
            Self::Own(octets) => SizeHint::with_exact(octets.as_ref().map_or(0, Bytes::len) as u64),
            Self::Passing { incoming, .. } => incoming.size_hint(),
        }
    }
}
