//! Clients of raw TCP.

use std::net::{IpAddr, Ipv4Addr};

use tokio::time::timeout;
use tracing::debug;

use super::{Accepted, Serving};
use crate::postgres::{self, Opening};
use crate::raw;
use crate::routing_table::{Raw, TlsBeginning};

impl Serving {
    /// Waits for the app that a route for raw TCP leads to, and starts it where it has to be started.
    async fn ready_raw(&self, raw: Raw, ip: Ipv4Addr, port: u16) -> Option<Raw> {
        let Some(app) = raw.pool.awaited_app() else {
            return Some(raw);
        };
        let host = self.shared.apps.get()?;
        match host.ready(app).await {
            None => self.shared.routing_table().raw(ip, port).cloned(),
            Some(_) => None,
        }
    }

    /// Passes bytes on as they come, for the route that has the address to itself.
    pub(super) async fn serve_raw(self, accepted: Accepted) {
        let IpAddr::V4(ip) = accepted.at.ip() else {
            return;
        };
        let Some(raw) = self
            .shared
            .routing_table()
            .raw(ip, accepted.at.port())
            .cloned()
        else {
            return;
        };
        if accepted.refused {
            return;
        }
        let Some(raw) = self.ready_raw(raw, ip, accepted.at.port()).await else {
            return debug!(peer = %accepted.peer, "the app is not ready");
        };
        let (limits, peer) = (&self.shared.limits, accepted.peer);
        let mut stream = accepted.stream;
        match raw.tls {
            None => return raw::pass(stream, &raw, limits).await,
            Some(TlsBeginning::AtOnce) => {
                let asking = timeout(limits.head, postgres::asks_for_tls(&stream));
                if asking.await.unwrap_or(false) {
                    raw.heard.postgres();
                    return debug!(%peer, "a PostgreSQL client asks for TLS, which begins at once here");
                }
            }
            Some(TlsBeginning::AsAsked) => {
                match timeout(limits.head, postgres::open(&mut stream)).await {
                    Ok(Ok(Opening::Handshake)) => {}
                    Ok(Ok(Opening::Clear)) => return raw::pass(stream, &raw, limits).await,
                    Ok(Ok(Opening::Refused(reason))) => {
                        return debug!(%peer, reason, "a PostgreSQL client is refused");
                    }
                    Ok(Err(cause)) => return debug!(%peer, %cause, "a connection ended early"),
                    Err(_) => return debug!(%peer, "a request for TLS took too long"),
                }
            }
        }
        let accepting = self.raw_acceptor.accept(stream);
        match timeout(self.shared.limits.head, accepting).await {
            Ok(Ok(stream)) => raw::pass(stream, &raw, &self.shared.limits).await,
            Ok(Err(cause)) => debug!(%peer, %cause, "a handshake failed"),
            Err(_) => debug!(%peer, "a handshake took too long"),
        }
    }
}
