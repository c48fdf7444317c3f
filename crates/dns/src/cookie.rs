//! DNS cookies (RFC 7873): a client knows by them that an answer comes from whom it asked.

use std::hash::{DefaultHasher, Hash, Hasher};

use hickory_proto::op::Edns;
use hickory_proto::rr::rdata::opt::{EdnsCode, EdnsOption};

/// The option's code.
const COOKIE: u16 = 10;
/// Length of a client's cookie in bytes (RFC 7873 §4).
const CLIENT: usize = 8;
/// Lengths in bytes of the server cookies that a client may send back.
const SERVER: std::ops::RangeInclusive<usize> = 8..=32;

/// What a query says of cookies.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Cookie<'a> {
    /// Nothing.
    None,
    /// The client's own.
    Client(&'a [u8]),
    /// A length that none has: FORMERR (RFC 7873 §5.2.2).
    Malformed,
}

impl<'a> Cookie<'a> {
    pub(super) fn of(edns: &'a Edns) -> Self {
        let Some(EdnsOption::Unknown(COOKIE, octets)) = edns.option(EdnsCode::Cookie) else {
            return Self::None;
        };
        match octets.split_at_checked(CLIENT) {
            Some((client, server)) if server.is_empty() || SERVER.contains(&server.len()) => {
                Self::Client(client)
            }
            _ => Self::Malformed,
        }
    }
}

/// The option for the answer to a client with this cookie: its own, and ours, which only we can
/// make. Whether a client sends it back is not asked: whom we answer is on this machine.
pub(super) fn answer(client: &[u8], secret: u64) -> EdnsOption {
    let mut hasher = DefaultHasher::new();
    (secret, client).hash(&mut hasher);
    let server = hasher.finish().to_be_bytes();
    EdnsOption::Unknown(COOKIE, [client, &server].concat())
}
