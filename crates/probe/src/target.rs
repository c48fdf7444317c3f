use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use bentlane_ca::CertificateInfo;
use bentlane_checks::{Direct, FORWARDING, Facts, TargetLeaf, Trial, Trials};
use bentlane_model::{HostField, Scheme, without_prefix};
use rustls::ClientConfig;
use rustls::client::verify_server_name;
use rustls::pki_types::ServerName;
use rustls::server::ParsedCertificate;
use url::Url;

use crate::client::over;
use crate::client::{Connection, Failure, PlainRequest, fetch};
use crate::handshake::{Stream, reach, secure};
use crate::observe::timed;

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
    /// Asks for the path and query of `url`, one of the route's, with one thing changed.
    pub(crate) async fn ask(&self, url: &Url, trial: Trial) -> Direct {
        let Facts { route, name, .. } = self.facts;
        let https_port = self.facts.https_port();
        let path = match route.settings.strip_prefix {
            true => without_prefix(url.path(), route.address.prefix.as_str()),
            false => url.path().into(),
        };
        let query = url.query().map(|query| format!("?{query}"));
        let own = self.facts.server().authority().unwrap_or_default();
        let scheme = if self.is_tls() { "https" } else { "http" };
        let asked = format!("{scheme}://{own}{path}{}", query.unwrap_or_default());
        let public = match https_port {
            443 => name.to_string(),
            port => format!("{name}:{port}"),
        };
        let by_own_host = route.settings.host == HostField::Target;
        let host = match trial {
            Trial::OwnHost | Trial::Direct => None,
            Trial::WithoutPort => Some(name.to_string()),
            _ => (!by_own_host).then(|| public.clone()),
        };
        let port = https_port.to_string();
        let forwarded = format!("for=127.0.0.1;host=\"{public}\";proto=https");
        let values = [
            "1.1 bentlane",
            &forwarded,
            "127.0.0.1",
            &public,
            "https",
            &port,
        ];
        let forwarding = FORWARDING.into_iter().zip(values);
        let mut fields: Vec<(&str, &str)> = match trial {
            Trial::Direct | Trial::WithoutForwarding => Vec::new(),
            Trial::Without(left_out) => {
                forwarding.filter(|(field, _)| *field != left_out).collect()
            }
            _ => forwarding.collect(),
        };
        fields.extend(host.as_deref().map(|host| ("host", host)));
        let ask = PlainRequest {
            fields: &fields,
            ..PlainRequest::get(&asked)
        };
        let connection = match trial {
            Trial::OverHttp1 => self.connect_over_http1().await,
            _ => self.connect().await,
        };
        match connection {
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
            h2: self.facts.server().scheme() == Some(Scheme::H2c),
        })
    }

    async fn connect_over_http1(&self) -> Result<Connection, String> {
        let mut tls = ClientConfig::clone(&self.tls);
        tls.alpn_protocols = vec![b"http/1.1".to_vec()];
        let name = self.server_name();
        let stream = secure(&Arc::new(tls), self.at, &name, self.limit).await?;
        Ok(over(stream))
    }

    /// Asks for the URL of a page that failed, until a change helps that names the cause.
    pub(crate) async fn try_what_helps(&self, url: &Url, trials: &mut Trials) {
        let try_ = async |trial, trials: &mut Trials| {
            trials.add(trial, timed(self.ask(url, trial)).await);
            trials.success(trial).is_some()
        };
        let directly = try_(Trial::Direct, trials).await;
        let forwarding = try_(Trial::WithoutForwarding, trials).await;
        let without_port = self.facts.https_port() != 443 && try_(Trial::WithoutPort, trials).await;
        if !(directly || forwarding || without_port) {
            return;
        }
        if try_(Trial::AsProxied, trials).await {
            return;
        }
        if forwarding {
            for field in FORWARDING {
                if try_(Trial::Without(field), trials).await {
                    return;
                }
            }
        } else if !try_(Trial::OwnHost, trials).await && self.is_tls() {
            try_(Trial::OverHttp1, trials).await;
        }
    }

    fn is_tls(&self) -> bool {
        self.facts.server().scheme().is_some_and(Scheme::is_tls)
    }

    /// The name that the target's certificate is verified for.
    fn server_name(&self) -> String {
        let route = &self.facts.route;
        self.facts
            .server()
            .server_name(route.settings.target_name.as_ref())
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
