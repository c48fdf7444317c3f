//! The short way for the question that nearly all are: one name of ours, A or AAAA, with or without
//! an EDNS record that holds no options. It writes the answer octet by octet, without a codec and
//! without allocating; whatever it does not know goes the long way, and both give the same octets.

use crate::snapshot::Snapshot;

use super::answer::{Addresses, UDP_LIMIT};

/// Octets of the longest name in text form, without its final dot.
const LONGEST_NAME: usize = 253;
/// RD, AD and CD, the flags a plain query may carry (RFC 1035 §4.1.1, RFC 4035 §3.2).
const PLAIN_FLAGS: u16 = 0x0130;
const RECURSION_DESIRED: u16 = 0x0100;
/// A response, authoritative.
const ANSWER_FLAGS: u16 = 0x8400;
const TYPE_A: u16 = 1;
const TYPE_AAAA: u16 = 28;
const TYPE_OPT: u16 = 41;
const CLASS_IN: u16 = 1;
const DNSSEC_OK: u16 = 0x8000;
/// A pointer to the question's name, which follows the header of 12 octets (RFC 1035 §4.1.4).
const OWNER: u16 = 0xc00c;

/// Takes big-endian numbers and octets off the front of a message.
struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn octets(&mut self, count: usize) -> Option<&'a [u8]> {
        let (front, rest) = self.0.split_at_checked(count)?;
        self.0 = rest;
        Some(front)
    }

    fn octet(&mut self) -> Option<u8> {
        self.octets(1)?.first().copied()
    }

    fn number(&mut self) -> Option<u16> {
        let (front, rest) = self.0.split_first_chunk()?;
        self.0 = rest;
        Some(u16::from_be_bytes(*front))
    }
}

/// A name in text form and lower case, on the stack.
struct Text {
    octets: [u8; LONGEST_NAME],
    length: usize,
}

impl Text {
    fn push(&mut self, octets: impl IntoIterator<Item = u8>) -> Option<()> {
        for octet in octets {
            *self.octets.get_mut(self.length)? = octet.to_ascii_lowercase();
            self.length = self.length.checked_add(1)?;
        }
        Some(())
    }

    fn as_str(&self) -> Option<&str> {
        std::str::from_utf8(self.octets.get(..self.length)?).ok()
    }
}

/// Reads labels up to the root, of characters that need no escape in text form.
fn read_name(reader: &mut Reader<'_>) -> Option<Text> {
    let mut name = Text {
        octets: [0; LONGEST_NAME],
        length: 0,
    };
    let plain = |octet: &u8| octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'_');
    loop {
        let length = reader.octet()?;
        match length {
            0 if name.length > 0 => return Some(name),
            1..=63 => {
                let label = reader.octets(usize::from(length))?;
                if !label.iter().all(plain) {
                    return None;
                }
                if name.length > 0 {
                    name.push([b'.'])?;
                }
                name.push(label.iter().copied())?;
            }
            _ => return None,
        }
    }
}

/// Writes the answer to `query` into `out`, which is empty, if this is a question for the short
/// way; otherwise leaves `out` as it is and gives `None`.
pub(super) fn answer(
    query: &[u8],
    snapshot: &Snapshot,
    addresses: &Addresses,
    out: &mut Vec<u8>,
) -> Option<()> {
    let mut reader = Reader(query);
    let id = reader.octets(2)?;
    let flags = reader.number()?;
    let counts = [reader.number()?, reader.number()?, reader.number()?];
    let additionals = reader.number()?;
    if flags & !PLAIN_FLAGS != 0 || counts != [1, 0, 0] || additionals > 1 {
        return None;
    }
    let questions = reader.0;
    let name = read_name(&mut reader)?;
    let kind = reader.number()?;
    if reader.number()? != CLASS_IN {
        return None;
    }
    let question = questions.get(..questions.len().checked_sub(reader.0.len())?)?;
    let dnssec_ok = match additionals {
        0 => None,
        _ => Some(read_edns(&mut reader)?),
    };
    if !reader.0.is_empty() {
        return None;
    }
    let (v4, v6);
    let data: &[u8] = match kind {
        TYPE_A => {
            v4 = addresses.ipv4?.octets();
            &v4
        }
        TYPE_AAAA => {
            v6 = addresses.ipv6?.octets();
            &v6
        }
        _ => return None,
    };
    snapshot.zone_of(name.as_str()?)?;

    let mut put = |octets: &[u8]| out.extend_from_slice(octets);
    put(id);
    put(&(ANSWER_FLAGS | (flags & RECURSION_DESIRED)).to_be_bytes());
    put(&[0, 1, 0, 1, 0, 0, 0, u8::from(dnssec_ok.is_some())]);
    put(question);
    put(&OWNER.to_be_bytes());
    put(&kind.to_be_bytes());
    put(&CLASS_IN.to_be_bytes());
    put(&addresses.ttl.to_be_bytes());
    put(&u16::try_from(data.len()).ok()?.to_be_bytes());
    put(data);
    if let Some(dnssec_ok) = dnssec_ok {
        put(&[0]);
        put(&TYPE_OPT.to_be_bytes());
        put(&UDP_LIMIT.to_be_bytes());
        put(&[0, 0]);
        put(&(if dnssec_ok { DNSSEC_OK } else { 0 }).to_be_bytes());
        put(&[0, 0]);
    }
    Some(())
}

/// Reads an OPT record without options, of version 0 (RFC 6891 §6.1.2); gives its DO flag.
fn read_edns(reader: &mut Reader<'_>) -> Option<bool> {
    let (root, kind, _payload) = (reader.octet()?, reader.number()?, reader.number()?);
    let (code_and_version, flags) = (reader.number()?, reader.number()?);
    let length = reader.number()?;
    let plain = root == 0
        && kind == TYPE_OPT
        && code_and_version == 0
        && flags & !DNSSEC_OK == 0
        && length == 0;
    plain.then_some(flags == DNSSEC_OK)
}
