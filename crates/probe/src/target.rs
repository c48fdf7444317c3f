use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_core::authority::CertificateInfo;
use bentlane_core::check::{Direct, Facts, TargetLeaf};
use bentlane_core::{Host, Scheme, Target, without_prefix};
use rustls::ClientConfig;
use rustls::client::verify_server_name;
use rustls::pki_types::ServerName;
use rustls::server::ParsedCertificate;
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::client::{Ask, Connection, Failure, fetch};
use crate::shake::{Stream, speaks_h2};

/// The target of a route, asked without the proxy.
pub(crate) struct OfTarget<'a> {
    pub(crate) facts: &'a Facts,
    /// Where it accepts.
    pub(crate) at: SocketAddr,
    /// Takes any certificate: what is judged is the app's answer.
    pub(crate) tls: Arc<ClientConfig>,
    pub(crate) limit: Duration,
}

impl OfTarget<'_> {
    /// Asks for the route's path under the target's own host, or under the route's name as the
    /// proxy does.
    pub(crate) async fn ask(&self, by_name: bool) -> Direct {
        let route = &self.facts.route;
        let prefix = route.address.prefix.as_str();
        let path = match route.settings.strip_prefix {
            true => without_prefix(prefix, prefix),
            false => prefix.into(),
        };
        let own = route.to.authority().unwrap_or_default();
        let name = format!("{}:{}", self.facts.name, self.facts.https_port);
        let scheme = if self.is_tls() { "https" } else { "http" };
        let url = format!("{scheme}://{own}{path}");
        let forwarded: &[(&str, &str)] = &[("host", &name), ("x-forwarded-proto", "https")];
        let ask = Ask {
            fields: if by_name { forwarded } else { &[] },
            ..Ask::get(&url)
        };
        match self.connect().await {
            Err(reason) => Direct::Failed(reason),
            Ok(connection) => match fetch(connection, &ask, self.limit).await {
                Ok((page, _)) => Direct::Page(Box::new(page)),
                Err(Failure::Silent) => Direct::Failed("no answer".to_owned()),
                Err(Failure::Broke(reason)) => Direct::Failed(reason),
            },
        }
    }

    /// A connection on which HTTP is spoken.
    pub(crate) async fn connect(&self) -> Result<Connection, String> {
        if self.is_tls() {
            let stream = self.handshake().await?;
            let h2 = speaks_h2(&stream);
            let stream = Box::new(stream);
            return Ok(Connection { stream, h2 });
        }
        let stream = timeout(self.limit, TcpStream::connect(self.at)).await;
        let stream = stream
            .map_err(|_| "no answer".to_owned())?
            .map_err(|error| error.to_string())?;
        Ok(Connection {
            stream: Box::new(stream),
            h2: self.facts.route.to.scheme() == Some(Scheme::H2c),
        })
    }

    fn is_tls(&self) -> bool {
        self.facts.route.to.scheme().is_some_and(Scheme::is_tls)
    }

    /// The name by which the target's certificate is verified.
    fn server_name(&self) -> String {
        let named = self.facts.route.settings.target_name.as_ref();
        named
            .map(ToString::to_string)
            .unwrap_or_else(|| match &self.facts.route.to {
                Target::Server {
                    host: Host::Ip(ip), ..
                } => ip.to_string(),
                Target::Server {
                    host: Host::Name(name),
                    ..
                } => name.to_string(),
                _ => "localhost".to_owned(),
            })
    }

    async fn handshake(&self) -> Result<Stream, String> {
        let shaking = async {
            let stream = TcpStream::connect(self.at).await?;
            let name = ServerName::try_from(self.server_name()).map_err(std::io::Error::other)?;
            let connector = TlsConnector::from(Arc::clone(&self.tls));
            connector.connect(name, stream).await
        };
        let shaken = timeout(self.limit, shaking).await;
        shaken
            .map_err(|_| "no answer to the hello".to_owned())?
            .map_err(|error| error.to_string())
    }

    /// The certificate that it shows.
    pub(crate) async fn leaf(&self) -> Option<TargetLeaf> {
        let stream = self.handshake().await.ok()?;
        let certificate = stream.get_ref().1.peer_certificates()?.first()?;
        let info = CertificateInfo::read(certificate)?;
        let wanted = self.server_name();
        let parsed = ParsedCertificate::try_from(certificate).ok();
        let name = ServerName::try_from(wanted.clone()).ok();
        let covers = parsed
            .zip(name)
            .is_some_and(|(parsed, name)| verify_server_name(&parsed, &name).is_ok());
        Some(TargetLeaf {
            names: info.names,
            not_before: info.not_before,
            not_after: info.not_after,
            covers,
            wanted,
        })
    }
}
