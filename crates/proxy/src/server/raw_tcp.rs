//! Clients of raw TCP.

use std::net::IpAddr;

use tokio::time::timeout;
use tracing::debug;

use super::{Accepted, Serving};
use crate::postgres::{self, Opening};
use crate::raw;
use crate::routing_table::TlsBeginning;

impl Serving {
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
