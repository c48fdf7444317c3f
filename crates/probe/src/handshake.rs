use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_checks::{CertificateFault, Handshake};
use rustls::pki_types::ServerName;
use rustls::{CertificateError, ClientConfig, ProtocolVersion};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

/// A connection on which the handshake is done.
pub(crate) type Stream = TlsStream<TcpStream>;

/// Shakes hands with `listener` for `name`.
pub(crate) async fn shake(
    tls: Arc<ClientConfig>,
    listener: SocketAddr,
    name: &str,
    limit: Duration,
) -> (Handshake, Option<Stream>) {
    match reach(listener, limit).await {
        Ok(stream) => shake_on(tls, stream, name, limit).await,
        Err(reason) => (Handshake::Unreachable(reason), None),
    }
}

/// Connects to `listener`.
pub(crate) async fn reach(listener: SocketAddr, limit: Duration) -> Result<TcpStream, String> {
    match timeout(limit, TcpStream::connect(listener)).await {
        Ok(connected) => connected.map_err(|error| error.to_string()),
        Err(_) => Err("no answer".to_owned()),
    }
}

/// Shakes hands on a connection for `name`.
pub(crate) async fn shake_on(
    tls: Arc<ClientConfig>,
    stream: TcpStream,
    name: &str,
    limit: Duration,
) -> (Handshake, Option<Stream>) {
    let server = match ServerName::try_from(name.to_owned()) {
        Ok(server) => server,
        Err(error) => return (Handshake::Failed(error.to_string()), None),
    };
    match timeout(limit, TlsConnector::from(tls).connect(server, stream)).await {
        Ok(Ok(stream)) => (agreed(&stream), Some(stream)),
        Ok(Err(error)) => (refused(&error), None),
        Err(_) => (Handshake::Failed("no answer to the hello".to_owned()), None),
    }
}

/// A connection to `at` on which the handshake for `name` is done, or why there is none.
pub(crate) async fn secure(
    tls: &Arc<ClientConfig>,
    at: SocketAddr,
    name: &str,
    limit: Duration,
) -> Result<Stream, String> {
    match shake(Arc::clone(tls), at, name, limit).await {
        (_, Some(stream)) => Ok(stream),
        (
            Handshake::Untrusted { reason, .. }
            | Handshake::Failed(reason)
            | Handshake::Unreachable(reason),
            None,
        ) => Err(reason),
        (Handshake::Verified { .. } | Handshake::NotNeeded, None) => {
            Err("no connection".to_owned())
        }
    }
}

/// Whether HTTP/2 was agreed on.
pub(crate) fn speaks_h2(stream: &Stream) -> bool {
    stream.get_ref().1.alpn_protocol() == Some(b"h2")
}

fn agreed(stream: &Stream) -> Handshake {
    let session = stream.get_ref().1;
    let version = match session.protocol_version() {
        Some(ProtocolVersion::TLSv1_3) => "TLS 1.3".to_owned(),
        Some(ProtocolVersion::TLSv1_2) => "TLS 1.2".to_owned(),
        other => format!("{other:?}"),
    };
    let protocol = session.alpn_protocol().unwrap_or(b"http/1.1");
    Handshake::Verified {
        version,
        protocol: String::from_utf8_lossy(protocol).into_owned(),
    }
}

fn refused(error: &io::Error) -> Handshake {
    let cause = error
        .get_ref()
        .and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match cause {
        Some(rustls::Error::InvalidCertificate(reason)) => Handshake::Untrusted {
            fault: fault(reason),
            reason: reason.to_string(),
        },
        Some(other) => Handshake::Failed(other.to_string()),
        None => Handshake::Failed(error.to_string()),
    }
}

fn fault(reason: &CertificateError) -> CertificateFault {
    match reason {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            CertificateFault::Expired
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            CertificateFault::Early
        }
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            CertificateFault::OtherName
        }
        _ => CertificateFault::Untrusted,
    }
}
