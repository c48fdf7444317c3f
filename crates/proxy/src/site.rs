//! The service's own pages, which the proxy serves under their own name without a connection between.

use std::error::Error;
use std::fmt::Debug;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::{Arc, OnceLock};

use bentlane_checks::Since;
use bytes::Bytes;
use http::{Request, Response};
use http_body_util::BodyExt;
use http_body_util::combinators::UnsyncBoxBody;
use hyper::body::Body;

/// The body of a request to our own pages, or of a response.
pub type SiteBody = UnsyncBoxBody<Bytes, Box<dyn Error + Send + Sync>>;
/// A request to our own pages.
pub type SiteRequest = Request<SiteBody>;
/// The response to come.
pub type SiteAnswer = Pin<Box<dyn Future<Output = Response<SiteBody>> + Send>>;

/// What answers requests to our own pages.
pub trait OwnSite: Debug + Send + Sync {
    /// Answers a request that came over the connection between the two ends of `pair`.
    fn answer(&self, request: SiteRequest, pair: Arc<SocketPair>) -> SiteAnswer;

    /// Until when a route was proved that failed its last check, and what is different since then.
    fn since(&self, address: &str) -> Option<Since>;
}

/// The two ends of a client's connection.
#[derive(Debug)]
pub struct SocketPair {
    /// Our end.
    pub ours: SocketAddr,
    /// The client's end.
    pub theirs: SocketAddr,
    /// The user of the process at the client's end, once that was looked up; `None` inside when it is
    /// unknown.
    pub uid: OnceLock<Option<u32>>,
}

impl SocketPair {
    /// A pair of which it is not yet known whose the other end is.
    #[must_use]
    pub fn new(ours: SocketAddr, theirs: SocketAddr) -> Self {
        Self {
            ours,
            theirs,
            uid: OnceLock::new(),
        }
    }
}

/// Any body as one of our own pages.
pub fn site_body<B>(body: B) -> SiteBody
where
    B: Body<Data = Bytes> + Send + 'static,
    B::Error: Into<Box<dyn Error + Send + Sync>>,
{
    body.map_err(Into::into).boxed_unsync()
}
