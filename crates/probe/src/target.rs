use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_ca::CertificateInfo;
use bentlane_checks::{Direct, Facts, TargetLeaf};
use bentlane_model::{Scheme, without_prefix};
use rustls::ClientConfig;
use rustls::client::verify_server_name;
use rustls::pki_types::ServerName;
use rustls::server::ParsedCertificate;

use crate::client::over;
use crate::client::{Connection, Failure, PlainRequest, fetch};
use crate::handshake::{Stream, reach, secure};

/// The target of a route, asked without the proxy.
pub(crate) struct TargetClient<'a> {
    pub(crate) facts: &'a Facts,
    /// Where it accepts.
    pub(crate) at: SocketAddr,
    /// Takes any certificate: what is judged is the app's answer.
    pub(crate) tls: Arc<ClientConfig>,
    pub(crate) limit: Duration,
}

impl TargetClient<'_> {
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
        let ask = PlainRequest {
            fields: if by_name { forwarded } else { &[] },
            ..PlainRequest::get(&url)
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
            return self.handshake().await.map(over);
        }
        Ok(Connection {
            stream: Box::new(reach(self.at, self.limit).await?),
            h2: self.facts.route.to.scheme() == Some(Scheme::H2c),
        })
    }

    fn is_tls(&self) -> bool {
        self.facts.route.to.scheme().is_some_and(Scheme::is_tls)
    }

    /// The name that the target's certificate is verified for.
    fn server_name(&self) -> String {
        let route = &self.facts.route;
        route.to.server_name(route.settings.target_name.as_ref())
    }

    async fn handshake(&self) -> Result<Stream, String> {
        secure(&self.tls, self.at, &self.server_name(), self.limit).await
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
