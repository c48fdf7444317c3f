use http::header::HOST;
use http::uri::Authority;
use http::{HeaderValue, Request, Uri, Version, request};
use hyper::body::{Body, Incoming};

use std::time::Duration;

use bentlane_model::Scheme;

use crate::failure::Failure;
use crate::headers::HeadFlags;
use crate::pool::{Lease, Pool};
use crate::request_body::RequestBody;
use crate::target_connection::SendError;
use crate::upgrade::Upgrade;
use crate::uri::origin_form;

/// A request on its way, worked on in place.
pub(crate) struct OutgoingRequest {
    pub(crate) flags: HeadFlags,
    pub(crate) parts: request::Parts,
    /// The change of protocol that it asks for.
    pub(crate) upgrade: Option<Upgrade>,
    /// `None` once it is being read.
    pub(crate) body: Option<Incoming>,
    /// The body as it is sent, until it is.
    pub(crate) sending: RequestBody,
}

impl OutgoingRequest {
    pub(crate) fn new(request: Request<Incoming>) -> Self {
        let (parts, body) = request.into_parts();
        Self {
            flags: HeadFlags::of(&parts.headers),
            upgrade: Upgrade::wanted(&parts, !body.is_end_stream()),
            parts,
            body: Some(body),
            sending: RequestBody::empty(),
        }
    }

    /// The request in the form of the protocol of `lease` (RFC 9112 §3.2, RFC 9113 §8.3.1).
    /// What is left here is of no use until it is put back.
    pub(crate) fn fit(
        &mut self,
        lease: &Lease,
        pool: &Pool,
        wanted: &ConnectionNeeds<'_>,
    ) -> Request<RequestBody> {
        let parts = &mut self.parts;
        let host = wanted.host;
        if lease.is_http2() {
            parts.version = Version::HTTP_2;
            parts.headers.remove(HOST);
            if wanted.trailers {
                let trailers = HeaderValue::from_static("trailers");
                parts.headers.insert(http::header::TE, trailers);
            }
            let tls = pool.destination().to.scheme().is_some_and(Scheme::is_tls);
            let scheme = if tls { "https" } else { "http" };
            let mut uri = std::mem::take(&mut parts.uri).into_parts();
            uri.authority = Authority::try_from(host.as_bytes()).ok();
            if uri.authority.is_some() {
                uri.scheme = scheme.parse().ok();
            }
            parts.uri = Uri::from_parts(uri).unwrap_or_default();
        } else if parts.version == Version::HTTP_2 {
            parts.version = Version::HTTP_11;
            parts.uri = origin_form(std::mem::take(&mut parts.uri));
            parts.headers.insert(HOST, host.clone());
        }
        let (nothing, ()) = Request::new(()).into_parts();
        let body = std::mem::replace(&mut self.sending, RequestBody::empty());
        Request::from_parts(std::mem::replace(parts, nothing), body)
    }

    /// Recovers a request of which nothing was sent, to send it again over a new connection.
    ///
    /// # Errors
    /// Why it was not answered, when it was sent, or over a new connection already.
    #[cold]
    pub(crate) fn recover_unsent(
        &mut self,
        mut error: SendError,
        fresh: bool,
    ) -> Result<(), Failure> {
        match error.take_message().filter(|_| !fresh) {
            Some(unsent) => {
                (self.parts, self.sending) = unsent.into_parts();
                Ok(())
            }
            None => Err(Failure::of(error.into_error())),
        }
    }
}

/// What a request needs of the connection that it goes out on.
pub(crate) struct ConnectionNeeds<'a> {
    pub(crate) host: &'a HeaderValue,
    /// Whether the client reads trailers.
    pub(crate) trailers: bool,
    /// Whether the connection is to change its protocol.
    pub(crate) upgrade: bool,
    /// How long to wait for the first byte of the response, when the route says so.
    pub(crate) first_byte: Option<Duration>,
}
