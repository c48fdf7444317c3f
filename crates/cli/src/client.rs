use std::error::Error;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bentlane_api_types::{COMMAND_HEADER, IDEMPOTENCY_HEADER, MadeBefore, Problem, SOCKET};
use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::client::conn::http1;
use hyper::header::{CONTENT_TYPE, ETAG, HOST, HeaderMap, HeaderValue, IF_MATCH};
use hyper::http::response::Parts;
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use rustix::fs::{Access, access};
use rustix::io::Errno;
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::net::UnixStream;
use tokio::time::{Instant, sleep};

use crate::error::CliError;

/// What a path segment may hold as it is (RFC 3986 §3.3), except slash and percent sign.
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');
/// How long a change is asked for again whose outcome is not known, and how often.
const ASK_AGAIN_FOR: Duration = Duration::from_secs(30);
const ASK_AGAIN_AFTER: Duration = Duration::from_millis(500);
/// Bytes of an answer: root may ask the service of another user.
const LARGEST_ANSWER: usize = 256 * 1024 * 1024;

/// A client of the service's API, over the Unix socket in its data folder.
#[derive(Debug)]
pub(crate) struct Client {
    socket: PathBuf,
    /// Whose the folder is, and so the service.
    owner: u32,
    /// The command that asks, for the journal.
    command: String,
}

/// A text as one segment of a path.
pub(crate) fn segment(text: &str) -> String {
    utf8_percent_encode(text, SEGMENT).to_string()
}

impl Client {
    /// A client of the service that runs on this data folder, for the command `typed`.
    pub(crate) fn open(data_dir: &Path, typed: &str) -> Result<Self, CliError> {
        let not_running = || CliError::NotRunning {
            data_dir: data_dir.display().to_string(),
        };
        let folder = std::fs::metadata(data_dir).map_err(|_| not_running())?;
        let (owner, own) = (folder.uid(), rustix::process::geteuid());
        if owner != own.as_raw() && !own.is_root() {
            return Err(CliError::Foreign {
                path: data_dir.display().to_string(),
                owner,
            });
        }
        let socket = data_dir.join(SOCKET);
        if !socket.exists() {
            let is_read_only = access(data_dir, Access::WRITE_OK) == Err(Errno::ROFS);
            return Err(match is_read_only {
                true => CliError::ReadOnly {
                    data_dir: data_dir.display().to_string(),
                },
                false => not_running(),
            });
        }
        Ok(Self {
            socket,
            owner,
            command: typed.to_owned(),
        })
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, CliError> {
        self.call(Method::GET, path, None::<&()>).await
    }

    pub(crate) async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, CliError> {
        self.call(Method::POST, path, Some(body)).await
    }

    pub(crate) async fn patch<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, CliError> {
        self.call(Method::PATCH, path, Some(body)).await
    }

    /// What there is at `path`, with the tag of its revision.
    pub(crate) async fn get_tagged<T: DeserializeOwned>(
        &self,
        path: &str,
    ) -> Result<(T, HeaderValue), CliError> {
        let (fields, bytes) = self.send(Method::GET, path, Vec::new(), None).await?;
        let tag = fields.get(ETAG).cloned();
        let tag = tag.unwrap_or_else(|| HeaderValue::from_static("*"));
        Ok((
            serde_json::from_slice(&bytes).map_err(CliError::Answer)?,
            tag,
        ))
    }

    /// A change of the revision that has this tag; `None` when there is another by now.
    pub(crate) async fn patch_tagged<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
        tag: HeaderValue,
    ) -> Result<Option<T>, CliError> {
        let body = serde_json::to_vec(body).map_err(CliError::Answer)?;
        match self.send(Method::PATCH, path, body, Some(tag)).await {
            Ok((_, bytes)) => serde_json::from_slice(&bytes).map_err(CliError::Answer),
            Err(CliError::Refused(problem))
                if problem.status == StatusCode::PRECONDITION_FAILED.as_u16() =>
            {
                Ok(None)
            }
            Err(error) => Err(error),
        }
    }

    pub(crate) async fn put<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T, CliError> {
        self.call(Method::PUT, path, Some(body)).await
    }

    pub(crate) async fn delete(&self, path: &str) -> Result<(), CliError> {
        self.call(Method::DELETE, path, None::<&()>).await
    }

    /// The same where the service says what was removed.
    pub(crate) async fn delete_and_read<T>(&self, path: &str) -> Result<T, CliError>
    where
        T: DeserializeOwned,
    {
        self.call(Method::DELETE, path, None::<&()>).await
    }

    /// What is not JSON, as it comes.
    pub(crate) async fn bytes(&self, path: &str) -> Result<Bytes, CliError> {
        let (_, bytes) = self.send(Method::GET, path, Vec::new(), None).await?;
        Ok(bytes)
    }

    async fn call<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<&impl Serialize>,
    ) -> Result<T, CliError> {
        let body = body
            .map(serde_json::to_vec)
            .transpose()
            .map_err(CliError::Answer)?;
        let body = body.unwrap_or_default();
        let (_, bytes) = self.send(method, path, body, None).await?;
        let bytes: &[u8] = if bytes.is_empty() { b"null" } else { &bytes };
        serde_json::from_slice(bytes).map_err(CliError::Answer)
    }

    /// Sends a call. One whose outcome the service does not know, since its database went away
    /// meanwhile, is repeated until that is known; the service makes a change once for each key.
    async fn send(
        &self,
        method: Method,
        path: &str,
        body: Vec<u8>,
        tag: Option<HeaderValue>,
    ) -> Result<(HeaderMap, Bytes), CliError> {
        let start = Instant::now();
        let key = format!("{:032x}", rand::random::<u128>());
        let mut is_repeated = false;
        loop {
            let sent = self.send_once(&method, path, body.clone(), tag.clone(), &key);
            let sent = sent.await;
            match &sent {
                Err(CliError::Refused(problem))
                    if start.elapsed() < ASK_AGAIN_FOR
                        && (problem.status == StatusCode::GATEWAY_TIMEOUT
                            || is_repeated
                                && problem.status == StatusCode::SERVICE_UNAVAILABLE) =>
                {
                    is_repeated = true;
                    sleep(ASK_AGAIN_AFTER).await;
                }
                Ok((_, bytes)) if is_repeated => {
                    return match serde_json::from_slice(bytes) {
                        Ok(MadeBefore { made_before }) => Err(CliError::MadeBefore {
                            revision: made_before,
                        }),
                        Err(_) => sent,
                    };
                }
                _ => return sent,
            }
        }
    }

    async fn send_once(
        &self,
        method: &Method,
        path: &str,
        body: Vec<u8>,
        tag: Option<HeaderValue>,
        key: &str,
    ) -> Result<(HeaderMap, Bytes), CliError> {
        let unreachable = |source| CliError::Unreachable {
            socket: self.socket.display().to_string(),
            source,
        };
        let stream = UnixStream::connect(&self.socket).await;
        let stream = stream.map_err(|error| unreachable(error.into()))?;
        let found = stream
            .peer_cred()
            .map_err(|error| unreachable(error.into()))?;
        if found.uid() != self.owner {
            return Err(CliError::Stranger {
                socket: self.socket.display().to_string(),
                owner: self.owner,
                found: found.uid(),
            });
        }
        let mut request = Request::builder()
            .method(method)
            .uri(format!("/api/v1{path}"))
            .header(HOST, "localhost")
            .header(COMMAND_HEADER, &self.command)
            .header(CONTENT_TYPE, "application/json");
        if !method.is_safe() {
            request = request.header(IDEMPOTENCY_HEADER, key);
        }
        if let Some(tag) = tag {
            request = request.header(IF_MATCH, tag);
        }
        let request = request.body(Full::new(Bytes::from(body)));
        let request = request.map_err(|error| unreachable(error.into()))?;
        let (head, bytes) = exchange(stream, request).await.map_err(unreachable)?;
        if head.status.is_success() {
            return Ok((head.headers, bytes));
        }
        Err(CliError::Refused(
            serde_json::from_slice::<Problem>(&bytes).map_err(CliError::Answer)?,
        ))
    }
}

async fn exchange(
    stream: UnixStream,
    request: Request<Full<Bytes>>,
) -> Result<(Parts, Bytes), Box<dyn Error + Send + Sync>> {
    let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await?;
    let driving = tokio::spawn(connection);
    let (head, body) = sender.send_request(request).await?.into_parts();
    let bytes = Limited::new(body, LARGEST_ANSWER)
        .collect()
        .await?
        .to_bytes();
    driving.abort();
    Ok((head, bytes))
}
