//! The short way for the question that nearly all are: one name of ours, A or AAAA, with or without
//! an EDNS record that holds no options. It writes the answer byte by byte, without a codec and
//! without allocating; the codec answers every other query, and both give the same bytes.

use bentlane_model::Answers;
use bentlane_model::Snapshot;

use super::query::{CLASS_IN, DNSSEC_OK, Query, RECURSION_AVAILABLE, RECURSION_DESIRED, TYPE_OPT};
use super::settings::Settings;
use super::wire::UDP_LIMIT;

/// RD, AD and CD, the flags a plain query may carry (RFC 1035 §4.1.1, RFC 4035 §3.2).
const PLAIN_FLAGS: u16 = 0x0130;
/// A response, authoritative.
const ANSWER_FLAGS: u16 = 0x8400;
const TYPE_A: u16 = 1;
const TYPE_AAAA: u16 = 28;
/// A pointer to the question's name, which follows the header of 12 octets (RFC 1035 §4.1.4).
const OWNER: u16 = 0xc00c;

/// Writes the answer to `query` into `out`, which is empty, if this is a question for the short
/// way; otherwise leaves `out` as it is and gives `None`.
pub(super) fn answer(
    query: &Query<'_>,
    snapshot: &Snapshot,
    settings: &Settings,
    out: &mut Vec<u8>,
) -> Option<()> {
    let plain_edns = query
        .edns
        .is_none_or(|edns| edns.version == 0 && edns.flags & !DNSSEC_OK == 0 && !edns.has_options);
    if query.flags & !PLAIN_FLAGS != 0 || query.class != CLASS_IN || !plain_edns {
        return None;
    }
    if !matches!(query.kind, TYPE_A | TYPE_AAAA) {
        return None;
    }
    let zone = snapshot.zone_of(query.name.as_str())?;
    if !zone.records.is_empty() || zone.settings.answers != Answers::EveryName {
        return None;
    }
    let mut settings = settings.of(&zone.settings);
    if let Some(resolution) = snapshot.resolution(query.name.as_str()) {
        if resolution.alias.is_some() {
            return None;
        }
        settings = settings.at(resolution.address);
    }
    let (v4, v6);
    let data: &[u8] = if query.kind == TYPE_A {
        v4 = settings.ipv4?.octets();
        &v4
    } else {
        v6 = settings.ipv6?.octets();
        &v6
    };

    let mut put = |octets: &[u8]| out.extend_from_slice(octets);
    put(query.id);
    let available = if settings.recursion {
        RECURSION_AVAILABLE
    } else {
        0
    };
    let flags = ANSWER_FLAGS | (query.flags & RECURSION_DESIRED) | available;
    put(&flags.to_be_bytes());
    put(&[0, 1, 0, 1, 0, 0, 0, u8::from(query.edns.is_some())]);
    put(query.question);
    put(&OWNER.to_be_bytes());
    put(&query.kind.to_be_bytes());
    put(&CLASS_IN.to_be_bytes());
    put(&settings.ttl.to_be_bytes());
    put(&u16::try_from(data.len()).ok()?.to_be_bytes());
    put(data);
    if let Some(edns) = query.edns {
        put_edns(edns.flags & DNSSEC_OK, out);
    }
    Some(())
}

/// Writes an OPT record of ours without options (RFC 6891 §6.1.2).
pub(super) fn put_edns(flags: u16, out: &mut Vec<u8>) {
    out.push(0);
    for number in [TYPE_OPT, UDP_LIMIT, 0, flags, 0] {
        out.extend_from_slice(&number.to_be_bytes());
    }
}
