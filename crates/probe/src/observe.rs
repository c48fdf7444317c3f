use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bentlane_core::check::{Connect, Facts, Handshake, Observations, Resolve, Timed};
use rustls::pki_types::CertificateDer;
use rustls::{ClientConfig, RootCertStore};

use crate::{ask, connect, lookup, shake};

/// How long each hop of a check may take.
#[derive(Clone, Debug)]
pub struct ProbeLimits {
    /// For an answer of our resolver, a connection, or a handshake. Default 2 s.
    pub hop: Duration,
    /// For the response to a request. Default 10 s, since a dev server may compile first.
    pub answer: Duration,
}

impl Default for ProbeLimits {
    fn default() -> Self {
        Self {
            hop: Duration::from_secs(2),
            answer: Duration::from_secs(10),
        }
    }
}

/// Observes routes through one resolver and one TLS listener, trusting one root.
#[derive(Clone, Debug)]
pub struct Prober {
    tls: Arc<ClientConfig>,
    limits: ProbeLimits,
}

impl Prober {
    /// A prober that trusts these `roots` alone.
    ///
    /// # Errors
    /// When the TLS engine refuses one of them.
    pub fn new(
        roots: impl IntoIterator<Item = CertificateDer<'static>>,
        limits: ProbeLimits,
    ) -> io::Result<Self> {
        let mut trusted = RootCertStore::empty();
        for root in roots {
            trusted.add(root).map_err(io::Error::other)?;
        }
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let mut tls = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_root_certificates(trusted)
            .with_no_client_auth();
        tls.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Self {
            tls: Arc::new(tls),
            limits,
        })
    }

    /// Walks the way of one route. The first three hops are tried at once; the request follows
    /// only when they leave it a chance. Takes as long as the limits say, at most.
    pub async fn observe(&self, facts: &Facts) -> Observations {
        if facts.address.port.is_some() {
            return self.observe_raw(facts).await;
        }
        let limit = self.limits.hop;
        let (resolve, connect, (handshake, stream)) = tokio::join!(
            timed(lookup::look_up(facts.resolver, &facts.name, limit)),
            timed(self.connect(facts)),
            self.shake(facts.listener, facts),
        );
        let clear = matches!(resolve.outcome, Resolve::Addresses(_))
            && matches!(connect.outcome, Connect::Open(_) | Connect::NotNeeded)
            && matches!(handshake.outcome, Handshake::Verified { .. });
        let answer = match stream {
            Some(stream) if clear => {
                Some(timed(ask::ask(stream, &facts.url, self.limits.answer)).await)
            }
            _ => None,
        };
        Observations {
            resolve,
            connect,
            handshake,
            answer,
        }
    }

    /// A paused route's target is left alone.
    async fn connect(&self, facts: &Facts) -> Connect {
        if facts.paused {
            return Connect::NotNeeded;
        }
        connect::connect(&facts.target, self.limits.hop).await
    }

    /// The way of a route for raw TCP: what passes there is its own matter.
    async fn observe_raw(&self, facts: &Facts) -> Observations {
        let limit = self.limits.hop;
        let (resolve, connect, answer) = tokio::join!(
            timed(lookup::look_up(facts.resolver, &facts.name, limit)),
            timed(self.connect(facts)),
            timed(connect::accepts(facts.listener, limit)),
        );
        Observations {
            resolve,
            connect,
            handshake: Timed {
                outcome: Handshake::NotNeeded,
                took: Duration::ZERO,
            },
            answer: Some(answer),
        }
    }

    async fn shake(
        &self,
        listener: SocketAddr,
        facts: &Facts,
    ) -> (Timed<Handshake>, Option<shake::Stream>) {
        let shaken = timed(shake::shake(
            Arc::clone(&self.tls),
            listener,
            &facts.name,
            self.limits.hop,
        ));
        let Timed {
            outcome: (outcome, stream),
            took,
        } = shaken.await;
        (Timed { outcome, took }, stream)
    }
}

async fn timed<T>(work: impl Future<Output = T>) -> Timed<T> {
    let start = Instant::now();
    let outcome = work.await;
    Timed {
        outcome,
        took: start.elapsed(),
    }
}
