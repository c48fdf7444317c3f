use std::error::Error;
use std::net::SocketAddr;

use bentlane_service::RunFile;
use bentlane_service::api::Problem;
use bentlane_store::DataDir;
use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::client::conn::http1;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HOST};
use hyper::{Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use tokio::net::TcpStream;

use crate::error::CliError;

/// What a path segment may hold as it is (RFC 3986 §3.3), slash and percent sign aside.
const SEGMENT: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');

/// A client of the service's API.
#[derive(Debug)]
pub(crate) struct Client {
    address: SocketAddr,
    token: String,
}

/// A text as one segment of a path.
pub(crate) fn segment(text: &str) -> String {
    utf8_percent_encode(text, SEGMENT).to_string()
}

impl Client {
    /// A client of the service that runs on this data folder.
    pub(crate) fn open(data_dir: &std::path::Path) -> Result<Self, CliError> {
        let not_running = || CliError::NotRunning {
            data_dir: data_dir.display().to_string(),
        };
        if !data_dir.is_dir() {
            return Err(not_running());
        }
        let data_dir = DataDir::open(data_dir)?;
        let run_file = RunFile::read(&data_dir)?.ok_or_else(not_running)?;
        let token = data_dir.read_secret("token")?.ok_or_else(not_running)?;
        let address = *run_file.api.first().ok_or_else(not_running)?;
        Ok(Self {
            address,
            token: token.trim().to_owned(),
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

    /// What is not JSON, as it comes.
    pub(crate) async fn octets(&self, path: &str) -> Result<Bytes, CliError> {
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
        let octets = self.send(method, path, body.unwrap_or_default()).await?;
        let octets: &[u8] = if octets.is_empty() { b"null" } else { &octets };
        serde_json::from_slice(octets).map_err(CliError::Answer)
    }

    async fn send(&self, method: Method, path: &str, body: Vec<u8>) -> Result<Bytes, CliError> {
        let (status, octets) =
            self.exchange(method, path, body)
                .await
                .map_err(|source| CliError::Unreachable {
                    address: self.address,
                    source,
                })?;
        if status.is_success() {
            return Ok(octets);
        }
        Err(CliError::Refused(
            serde_json::from_slice::<Problem>(&octets).map_err(CliError::Answer)?,
        ))
    }

    async fn exchange(
        &self,
        method: Method,
        path: &str,
        body: Vec<u8>,
    ) -> Result<(StatusCode, Bytes), Box<dyn Error + Send + Sync>> {
        let stream = TcpStream::connect(self.address).await?;
        let (mut sender, connection) = http1::handshake(TokioIo::new(stream)).await?;
        let driving = tokio::spawn(connection);
        let request = Request::builder()
            .method(method)
            .uri(format!("/api/v1{path}"))
            .header(HOST, self.address.to_string())
            .header(AUTHORIZATION, format!("Bearer {}", self.token))
            .header(CONTENT_TYPE, "application/json")
            .body(Full::new(Bytes::from(body)))?;
        let response = sender.send_request(request).await?;
        let status = response.status();
        let octets = response.into_body().collect().await?.to_bytes();
        driving.abort();
        Ok((status, octets))
    }
}
