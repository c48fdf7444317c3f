use std::convert::Infallible;

use axum::extract::FromRequestParts;
use axum::http::header::{ETAG, IF_MATCH};
use axum::http::request::Parts;
use axum::http::{HeaderName, StatusCode};
use axum::response::{IntoResponseParts, ResponseParts};

use super::Api;
use super::problem::Problem;

/// The revision that a call is based on: its `If-Match` (RFC 9110 §13.1.1). `*`, or none, is whatever
/// is stored.
#[derive(Clone, Copy, Debug)]
pub(crate) struct BasedOn(Option<u64>);

impl BasedOn {
    pub(crate) fn revision(self) -> Option<u64> {
        self.0
    }
}

impl<S: Sync> FromRequestParts<S> for BasedOn {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Problem> {
        let Some(field) = parts.headers.get(IF_MATCH) else {
            return Ok(Self(None));
        };
        let text = field.to_str().unwrap_or_default().trim();
        if text == "*" {
            return Ok(Self(None));
        }
        let quoted = text
            .strip_prefix('"')
            .and_then(|rest| rest.strip_suffix('"'));
        let revision = quoted.and_then(|tag| tag.parse().ok());
        revision
            .map(|revision| Self(Some(revision)))
            .ok_or_else(|| {
                let detail = format!(
                    "`If-Match: {text}` is no tag of ours: take the `ETag` of an earlier answer"
                );
                Problem::new(StatusCode::PRECONDITION_FAILED, detail)
            })
    }
}

/// The revision that an answer is of, as its `ETag` (RFC 9110 §8.8.3).
#[derive(Clone, Copy, Debug)]
pub(crate) struct RevisionTag(u64);

impl IntoResponseParts for RevisionTag {
    type Error = Infallible;

    fn into_response_parts(self, response: ResponseParts) -> Result<ResponseParts, Infallible> {
        let tag: [(HeaderName, String); 1] = [(ETAG, format!("\"{}\"", self.0))];
        Ok(tag
            .into_response_parts(response)
            .unwrap_or_else(|_| unreachable!("digits are a value")))
    }
}

impl Api {
    /// The tag of what is in force.
    pub(crate) fn revision_tag(&self) -> RevisionTag {
        RevisionTag(self.snapshot().configuration().revision)
    }
}
