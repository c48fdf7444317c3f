//! How long messages may be, and how they are written.

use hickory_proto::op::{Edns, Message};

/// Length in bytes of the shortest record: a root owner name, and the fixed fields (RFC 1035 §4.1.3).
pub(super) const SHORTEST_RECORD: usize = 11;

/// The largest UDP answer for a client without EDNS (RFC 1035 §2.3.4).
pub(super) const PLAIN_UDP_LIMIT: u16 = 512;

/// The largest UDP answer we send at all, so that none is fragmented (RFC 9715 §3.1).
pub(super) const UDP_LIMIT: u16 = 1232;

/// How a query came, which decides how long its answer may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Transport {
    /// Datagrams: answers that are too long are truncated.
    Udp,
    /// A stream: answers of up to 65,535 octets.
    Tcp,
}

/// The longest answer, in bytes, for a client that accepts `payload` bytes over UDP.
pub(super) fn limit_of(transport: Transport, payload: Option<u16>) -> usize {
    usize::from(match (transport, payload) {
        (Transport::Tcp, _) => u16::MAX,
        (Transport::Udp, None) => PLAIN_UDP_LIMIT,
        (Transport::Udp, Some(payload)) => payload.clamp(PLAIN_UDP_LIMIT, UDP_LIMIT),
    })
}

/// Writes `response` out, cut down to the question when it is longer than the client takes
/// (RFC 1035 §4.2.1, RFC 6891 §6.2.5).
pub(super) fn encode(response: &Message, transport: Transport) -> Option<Vec<u8>> {
    let limit = limit_of(transport, response.edns.as_ref().map(Edns::max_payload));
    let mut response = response.clone();
    if let Some(edns) = &mut response.edns {
        edns.set_max_payload(UDP_LIMIT);
    }
    let octets = response.to_vec().ok()?;
    if octets.len() <= limit {
        return Some(octets);
    }
    response.truncate().to_vec().ok()
}
