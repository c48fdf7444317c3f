use std::error::Error;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use bentlane_service::SOCKET;
use bentlane_service::api::{COMMAND_HEADER, Problem};
use bytes::Bytes;
use http_body_util::{BodyExt, Full, Limited};
use hyper::client::conn::http1;
use hyper::header::{CONTENT_TYPE, HOST};
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::net::UnixStream;

use crate::error::CliError;

/// What a path segment may hold as it is (RFC 3986 §3.3), slash and percent sign aside.
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');
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
            return Err(not_running());
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
        self.send(Method::GET, path, Vec::new()).await
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
        let bytes = self.send(method, path, body.unwrap_or_default()).await?;
        let bytes: &[u8] = if bytes.is_empty() { b"null" } else { &bytes };
        serde_json::from_slice(bytes).map_err(CliError::Answer)
    }

    async fn send(&self, method: Method, path: &str, body: Vec<u8>) -> Result<Bytes, CliError> {
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
        let (status, bytes) = self
            .exchange(stream, method, path, body)
            .await
            .map_err(unreachable)?;
        if status.is_success() {
            return Ok(bytes);
        }
        Err(CliError::Refused(
            serde_json::from_slice::<Problem>(&bytes).map_err(CliError::Answer)?,
        ))
    }

    async fn exchange(
        &self,
        stream: UnixStream,
        method: Method,
        path: &str,
        body: Vec<u8>,
    ) -> Result<(StatusCode, Bytes), Box<dyn Error + Send + Sync>> {
        let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await?;
        let driving = tokio::spawn(connection);
        let request = Request::builder()
            .method(method)
            .uri(format!("/api/v1{path}"))
            .header(HOST, "localhost")
            .header(COMMAND_HEADER, &self.command)
            .header(CONTENT_TYPE, "application/json")
            .body(Full::new(Bytes::from(body)))?;
        let response = sender.send_request(request).await?;
        let status = response.status();
        let body = Limited::new(response.into_body(), LARGEST_ANSWER);
        let bytes = body.collect().await?.to_bytes();
        driving.abort();
        Ok((status, bytes))
    }
}
