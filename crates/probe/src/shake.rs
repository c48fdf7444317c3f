use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_core::Name;
use bentlane_core::check::Handshake;
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, ProtocolVersion};
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
    name: &Name,
    limit: Duration,
) -> (Handshake, Option<Stream>) {
    let stream = match timeout(limit, TcpStream::connect(listener)).await {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => return (Handshake::Unreachable(error.to_string()), None),
        Err(_) => return (Handshake::Unreachable("no answer".to_owned()), None),
    };
    let server = match ServerName::try_from(name.to_string()) {
        Ok(server) => server,
        Err(error) => return (Handshake::Failed(error.to_string()), None),
    };
    match timeout(limit, TlsConnector::from(tls).connect(server, stream)).await {
        Ok(Ok(stream)) => (agreed(&stream), Some(stream)),
        Ok(Err(error)) => (refused(&error), None),
        Err(_) => (Handshake::Failed("no answer to the hello".to_owned()), None),
    }
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
        Some(rustls::Error::InvalidCertificate(reason)) => Handshake::Untrusted(reason.to_string()),
        Some(other) => Handshake::Failed(other.to_string()),
        None => Handshake::Failed(error.to_string()),
    }
}
