//! Questions that are not ours: what an upstream resolver is asked, what its reply is worth, and
//! what is kept of it. No socket is opened here.

use std::collections::{HashMap, VecDeque};
use std::time::Duration;

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::RecordType;

use super::fast_path::put_edns;
use super::query::{
    CHECKING_DISABLED, DNSSEC_OK, Query, RECURSION_AVAILABLE, RECURSION_DESIRED, Reader, TYPE_OPT,
};
use super::rebind::RebindProtection;
use super::wire::{SHORTEST_RECORD, Transport, UDP_LIMIT, encode, limit_of};

const RESPONSE: u16 = 0x8000;
const TRUNCATED: u16 = 0x0200;
const AUTHENTIC_DATA: u16 = 0x0020;
/// The longest time that an answer is kept, whatever its TTL says (RFC 8767 §4 advises a day; a dev
/// machine changes networks more often).
const KEPT_AT_MOST: u32 = 3600;
/// The longest time that a negative answer is kept (RFC 2308 §5 advises at most three hours).
const DENIED_AT_MOST: u32 = 300;
/// Links of a CNAME chain that are followed.
const LONGEST_CHAIN: usize = 16;

/// Why a question was not answered, for the client to read (RFC 8914 §4).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// No zone covers the name, and nothing is forwarded.
    NotOurs,
    /// It comes from another machine.
    Stranger,
    /// No upstream resolver answered.
    NoReply,
    /// An upstream resolver answered what cannot be used.
    BadReply,
    /// An upstream resolver led to an address of this machine or network.
    Rebinding,
    /// Too many questions are on their way.
    Busy,
    /// The name is for other uses than DNS, or for this machine alone (RFC 6761).
    Special,
}

impl Reason {
    /// The code and the words of the extended error.
    pub(super) fn extended_error(self) -> (u16, &'static str) {
        match self {
            Self::NotOurs => (20, "no zone covers this name"),
            Self::Stranger => (18, "only this machine is answered"),
            Self::NoReply => (22, "upstream did not answer"),
            Self::BadReply => (0, "upstream answered what cannot be used"),
            // Blocked, by our own policy (RFC 8914 §4.16).
            Self::Rebinding => (
                15,
                "the answer leads to a local address (rebind_protection)",
            ),
            Self::Busy => (0, "too many questions are on their way"),
            Self::Special => (
                0,
                "no zone covers this name, which is not looked up elsewhere",
            ),
        }
    }
}

/// A question to forward, read from a client's query.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ForwardedQuestion {
    id: [u8; 2],
    flags: u16,
    /// Name, type and class as the client wrote them.
    question: Box<[u8]>,
    edns: Option<super::query::Edns>,
    key: Key,
}

/// What makes two questions one: the question without regard to case, and whether signatures and
/// unchecked data are wanted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Key {
    question: Box<[u8]>,
    dnssec_ok: bool,
    checking_disabled: bool,
}

impl ForwardedQuestion {
    pub(super) fn new(query: &Query<'_>) -> Option<Self> {
        let flags = query.edns.map_or(0, |edns| edns.flags);
        Some(Self {
            id: query.id.try_into().ok()?,
            flags: query.flags,
            question: query.question.into(),
            edns: query.edns,
            key: Key {
                // The octets of lengths, type and class are no letters, or their case is no matter
                // as long as every question is treated alike.
                question: query.question.to_ascii_lowercase().into(),
                dnssec_ok: flags & DNSSEC_OK != 0,
                checking_disabled: query.flags & CHECKING_DISABLED != 0,
            },
        })
    }

    /// What identical questions share.
    #[must_use]
    pub fn key(&self) -> &Key {
        &self.key
    }

    /// The query for an upstream resolver, under an unpredictable id.
    #[must_use]
    pub fn upstream_query(&self, id: u16) -> Vec<u8> {
        let mut out = id.to_be_bytes().to_vec();
        let flags = RECURSION_DESIRED | (self.flags & CHECKING_DISABLED);
        out.extend_from_slice(&flags.to_be_bytes());
        out.extend_from_slice(&[0, 1, 0, 0, 0, 0, 0, 1]);
        out.extend_from_slice(&self.question);
        put_edns(self.edns.map_or(0, |edns| edns.flags & DNSSEC_OK), &mut out);
        out
    }

    /// The answer to a question of which `ours` says what we know, an alias that leads to what is
    /// asked here, and `theirs` what became of that (RFC 1034 §4.3.2). `None` when one of them is no
    /// message.
    #[must_use]
    pub fn join(&self, ours: &[u8], theirs: &[u8], transport: Transport) -> Option<Vec<u8>> {
        let (mut joined, theirs) = (
            Message::from_vec(ours).ok()?,
            Message::from_vec(theirs).ok()?,
        );
        joined.metadata.response_code = theirs.metadata.response_code;
        joined.metadata.authentic_data = false;
        joined.answers.extend(theirs.answers);
        joined.authorities = theirs.authorities;
        if let (Some(edns), Some(asked)) = (&mut joined.edns, self.edns) {
            // Why there is no answer (RFC 8914), and the client's limit for `encode` to obey.
            let reasons = theirs.edns.iter().flat_map(|edns| edns.options().as_ref());
            for (_, option) in reasons {
                edns.options_mut().insert(option.clone());
            }
            edns.set_max_payload(limit_of(transport, Some(asked.payload)).try_into().ok()?);
        }
        encode(&joined, transport)
    }

    /// What a datagram or message that came back is worth. `query` is what was sent; answers that
    /// lead where `rebinding` allows none are not passed on.
    #[must_use]
    pub fn judge(&self, query: &[u8], reply: &[u8], rebinding: &RebindProtection) -> Reply {
        let mut reader = Reader(reply);
        let sent_id = query.get(..2);
        let (Some(id), Some(flags), Some(counts)) =
            (reader.octets(2), reader.number(), reader.octets(8))
        else {
            return Reply::Unrelated;
        };
        // The question must come back as it was asked, to the letter: with the id and the port
        // it keeps others from answering in the upstream's place (RFC 5452 §9.1).
        let question = reader.octets(self.question.len());
        if Some(id) != sent_id || flags & RESPONSE == 0 || question != Some(&*self.question) {
            return Reply::Unrelated;
        }
        if flags & TRUNCATED != 0 {
            return Reply::Truncated;
        }
        // Checked before the codec reserves memory by what the counts claim.
        let records = counts.chunks(2).skip(1).filter_map(<[u8]>::first_chunk);
        let claimed: usize = records
            .map(|count| usize::from(u16::from_be_bytes(*count)))
            .sum();
        if claimed > reply.len().checked_div(SHORTEST_RECORD).unwrap_or_default() {
            return Reply::Unusable;
        }
        let Ok(message) = Message::from_vec(reply) else {
            return Reply::Unusable;
        };
        match message.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {}
            _ => return Reply::Unusable,
        }
        if chain_loops(&message) {
            return Reply::Unusable;
        }
        if rebinding.blocks(&message) {
            return Reply::Rebinding;
        }
        Stored::new(&message, self.question.len()).map_or(Reply::Unusable, Reply::Usable)
    }

    /// Writes that the question was not answered, and why.
    pub fn write_failure(&self, reason: Reason, out: &mut Vec<u8>) {
        out.clear();
        out.extend_from_slice(&self.id);
        let code = match reason {
            Reason::Special => ResponseCode::NXDomain,
            Reason::NotOurs | Reason::Stranger => ResponseCode::Refused,
            // No data: after a failure programs would ask another resolver.
            Reason::Rebinding => ResponseCode::NoError,
            _ => ResponseCode::ServFail,
        };
        let code = u16::from(code) & 0xf;
        let available = match reason {
            Reason::NotOurs | Reason::Stranger => 0,
            _ => RECURSION_AVAILABLE,
        };
        let flags = RESPONSE | available | (self.flags & RECURSION_DESIRED) | code;
        out.extend_from_slice(&flags.to_be_bytes());
        out.extend_from_slice(&[0, 1, 0, 0, 0, 0, 0, u8::from(self.edns.is_some())]);
        out.extend_from_slice(&self.question);
        if let Some(edns) = self.edns {
            put_extended_error(edns.flags & DNSSEC_OK, reason, out);
        }
    }
}

/// Writes an OPT record of ours that says why (RFC 8914 §2).
fn put_extended_error(flags: u16, reason: Reason, out: &mut Vec<u8>) {
    const EXTENDED_ERROR: u16 = 15;
    let (code, words) = reason.extended_error();
    // The words are short literals.
    let length = u16::try_from(words.len())
        .unwrap_or_default()
        .saturating_add(2);
    out.push(0);
    for number in [TYPE_OPT, UDP_LIMIT, 0, flags, length.saturating_add(4)] {
        out.extend_from_slice(&number.to_be_bytes());
    }
    for number in [EXTENDED_ERROR, length, code] {
        out.extend_from_slice(&number.to_be_bytes());
    }
    out.extend_from_slice(words.as_bytes());
}

/// What a reply is worth.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reply {
    /// Not a reply to the query: the real one may still come.
    Unrelated,
    /// Too long for a datagram: ask again over a stream.
    Truncated,
    /// A reply that says nothing, by its fault or the upstream's: ask another.
    Unusable,
    /// An answer that leads to an address which the rebinding protection blocks.
    Rebinding,
    /// An answer, positive or negative.
    Usable(Stored),
}

/// An answer of an upstream resolver, ready to be written for any client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stored {
    /// The message without its OPT record, with id and flags to be filled in.
    octets: Box<[u8]>,
    /// Where the TTLs are.
    ttls: Box<[usize]>,
    question_length: usize,
    code: u16,
    authentic: bool,
    /// Seconds that it may be kept.
    lifetime: u32,
}

impl Stored {
    fn new(message: &Message, question_length: usize) -> Option<Self> {
        let mut plain = message.clone();
        plain.edns = None;
        plain
            .additionals
            .retain(|record| record.record_type() != RecordType::OPT);
        let octets = plain.to_vec().ok()?;
        let ttls = ttl_places(&octets, question_length)?;
        Some(Self {
            lifetime: lifetime(message),
            octets: octets.into(),
            ttls: ttls.into(),
            question_length,
            code: u16::from(message.metadata.response_code) & 0xf,
            authentic: message.metadata.authentic_data,
        })
    }

    /// Writes the answer to `asked`, `age` seconds after it came.
    pub fn write(
        &self,
        asked: &ForwardedQuestion,
        age: u32,
        transport: Transport,
        out: &mut Vec<u8>,
    ) {
        out.clear();
        let dnssec_ok = asked.key.dnssec_ok;
        // A client that did not ask for signatures gets no AD bit (RFC 6840 §5.7).
        let authentic = if self.authentic && dnssec_ok {
            AUTHENTIC_DATA
        } else {
            0
        };
        let copied = asked.flags & (RECURSION_DESIRED | CHECKING_DISABLED);
        let mut flags = RESPONSE | RECURSION_AVAILABLE | copied | authentic | self.code;
        let limit = limit_of(transport, asked.edns.map(|edns| edns.payload));
        let edns_length = if asked.edns.is_some() { 11 } else { 0 };
        let whole = self.octets.len().saturating_add(edns_length) <= limit;
        out.extend_from_slice(&asked.id);
        if whole {
            out.extend_from_slice(self.octets.get(2..).unwrap_or_default());
        } else {
            flags |= TRUNCATED;
            out.extend_from_slice(&[0, 0, 0, 1, 0, 0, 0, 0, 0, 0]);
            out.extend_from_slice(&asked.question);
        }
        overwrite(out, 2, &flags.to_be_bytes());
        // The client's own spelling: owner names that point to the question follow it.
        if asked.question.len() == self.question_length {
            overwrite(out, 12, &asked.question);
        }
        if whole {
            for place in &self.ttls {
                let ttl = out.get(*place..).and_then(|rest| rest.first_chunk());
                let left = ttl.map_or(0, |ttl| u32::from_be_bytes(*ttl).saturating_sub(age));
                overwrite(out, *place, &left.to_be_bytes());
            }
        }
        if let Some(edns) = asked.edns {
            let [_, count] = out
                .get(10..)
                .and_then(|rest| rest.first_chunk())
                .copied()
                .unwrap_or([0, 0]);
            overwrite(out, 11, &[count.saturating_add(1)]);
            put_edns(edns.flags & DNSSEC_OK, out);
        }
    }
}

fn overwrite(out: &mut [u8], place: usize, octets: &[u8]) {
    let end = place.saturating_add(octets.len());
    if let Some(room) = out.get_mut(place..end) {
        room.copy_from_slice(octets);
    }
}

/// Where the TTL of each record lies in a message without OPT.
fn ttl_places(message: &[u8], question_length: usize) -> Option<Vec<usize>> {
    let mut reader = Reader(message);
    reader.octets(12)?;
    reader.octets(question_length)?;
    let mut places = Vec::new();
    while !reader.0.is_empty() {
        loop {
            match reader.octet()? {
                0 => break,
                length if length & 0xc0 == 0xc0 => {
                    reader.octet()?;
                    break;
                }
                length => {
                    reader.octets(usize::from(length))?;
                }
            }
        }
        reader.octets(4)?;
        places.push(message.len().checked_sub(reader.0.len())?);
        reader.octets(4)?;
        let length = reader.number()?;
        reader.octets(usize::from(length))?;
    }
    Some(places)
}

/// How long an answer may be kept: as long as its shortest record, and a negative one as its SOA
/// says (RFC 2308 §5); without a SOA not at all.
fn lifetime(message: &Message) -> u32 {
    if message.answers.is_empty() {
        let soa = message
            .authorities
            .iter()
            .find_map(|record| match &record.data {
                hickory_proto::rr::RData::SOA(soa) => Some(record.ttl.min(soa.minimum)),
                _ => None,
            });
        return soa.unwrap_or(0).min(DENIED_AT_MOST);
    }
    let records = message.answers.iter().chain(&message.authorities);
    records
        .map(|record| record.ttl)
        .min()
        .unwrap_or(0)
        .min(KEPT_AT_MOST)
}

/// The shortest time in seconds for which a record of a message's answer may be kept, or, when it
/// has none, a negative answer. `None` for what is no message.
#[must_use]
pub fn least_ttl(message: &[u8]) -> Option<u32> {
    Message::from_vec(message).ok().as_ref().map(lifetime)
}

/// Whether the CNAMEs of an answer lead round in a circle, or further than anybody follows.
fn chain_loops(message: &Message) -> bool {
    let Some(question) = message.queries.first() else {
        return false;
    };
    let mut name = question.name();
    for _ in 0..LONGEST_CHAIN {
        let next = message
            .answers
            .iter()
            .find_map(|record| match &record.data {
                hickory_proto::rr::RData::CNAME(target) if record.name == *name => Some(&target.0),
                _ => None,
            });
        match next {
            Some(next) => name = next,
            None => return false,
        }
    }
    true
}

/// Answers that were given before, for as long as their TTLs allow.
#[derive(Debug)]
pub struct Cache {
    entries: HashMap<Key, Entry>,
    /// In the order in which they came, so that the oldest make room.
    order: VecDeque<(Key, Duration)>,
    most: usize,
}

#[derive(Debug)]
struct Entry {
    stored: Stored,
    since: Duration,
}

impl Cache {
    /// A cache for `most` answers.
    #[must_use]
    pub fn new(most: usize) -> Self {
        Self {
            entries: HashMap::new(),
            order: VecDeque::new(),
            most: most.max(1),
        }
    }

    /// An answer that is still good at `now`, a time since any fixed moment, and its age in seconds.
    #[must_use]
    pub fn get(&self, key: &Key, now: Duration) -> Option<(&Stored, u32)> {
        let Entry { stored, since } = self.entries.get(key)?;
        let age = u32::try_from(now.saturating_sub(*since).as_secs()).unwrap_or(u32::MAX);
        (age < stored.lifetime).then_some((stored, age))
    }

    /// Keeps an answer that came at `now`, if it may be kept.
    pub fn put(&mut self, key: Key, stored: Stored, now: Duration) {
        if stored.lifetime == 0 {
            return;
        }
        while self.order.len() >= self.most {
            let Some((oldest, since)) = self.order.pop_front() else {
                break;
            };
            // A newer answer to the same question has its own place in the order.
            if self
                .entries
                .get(&oldest)
                .is_some_and(|entry| entry.since == since)
            {
                self.entries.remove(&oldest);
            }
        }
        self.order.push_back((key.clone(), now));
        self.entries.insert(key, Entry { stored, since: now });
    }

    /// Forgets everything: another network may answer otherwise.
    pub fn clear(&mut self) {
        self.entries.clear();
        self.order.clear();
    }
}

#[cfg(test)]
#[allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "a test that panics has failed, as it should"
)]
mod tests {
    use std::net::Ipv4Addr;

    use hickory_proto::op::{MessageType, OpCode, Query as Question};
    use hickory_proto::rr::rdata::{A, CNAME, SOA};
    use hickory_proto::rr::{Name, RData, Record};
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const ID: u16 = 0x5151;

    fn client_query(name: &str, payload: Option<u16>) -> Vec<u8> {
        let mut message = Message::new(0x1234, MessageType::Query, OpCode::Query);
        message.metadata.recursion_desired = true;
        let name = Name::from_ascii(name).unwrap();
        message.add_query(Question::query(name, RecordType::A));
        if let Some(payload) = payload {
            let mut edns = hickory_proto::op::Edns::new();
            edns.set_max_payload(payload);
            message.set_edns(edns);
        }
        message.to_vec().unwrap()
    }

    fn asked(name: &str, payload: Option<u16>) -> ForwardedQuestion {
        let query = client_query(name, payload);
        ForwardedQuestion::new(&Query::read(&query).unwrap()).unwrap()
    }

    /// The reply of an upstream resolver with these answers.
    fn reply(name: &str, code: ResponseCode, answers: Vec<(u32, &str, RData)>) -> Message {
        let mut message = Message::new(ID, MessageType::Response, OpCode::Query);
        message.metadata.response_code = code;
        message.add_query(Question::query(
            Name::from_ascii(name).unwrap(),
            RecordType::A,
        ));
        message.add_answers(answers.into_iter().map(|(ttl, owner, data)| {
            Record::from_rdata(Name::from_ascii(owner).unwrap(), ttl, data)
        }));
        message
    }

    fn a(last: u8) -> RData {
        RData::A(A(Ipv4Addr::new(192, 0, 2, last)))
    }

    fn cname(to: &str) -> RData {
        RData::CNAME(CNAME(Name::from_ascii(to).unwrap()))
    }

    fn judge(asked: &ForwardedQuestion, reply: &Message) -> Reply {
        asked.judge(
            &asked.upstream_query(ID),
            &reply.to_vec().unwrap(),
            &RebindProtection::default(),
        )
    }

    fn usable(asked: &ForwardedQuestion, reply: &Message) -> Stored {
        match judge(asked, reply) {
            Reply::Usable(stored) => stored,
            other => panic!("{other:?}"),
        }
    }

    fn written(stored: &Stored, asked: &ForwardedQuestion, age: u32) -> Message {
        let mut out = vec![9; 3];
        stored.write(asked, age, Transport::Udp, &mut out);
        Message::from_vec(&out).unwrap()
    }

    #[rstest]
    #[case("off", &[], "10.0.0.7", false)]
    #[case("private", &[], "10.0.0.7", true)]
    #[case("loopback", &[], "10.0.0.7", false)]
    #[case("loopback", &[], "127.0.0.1", true)]
    #[case("private", &["example.org"], "10.0.0.7", false)]
    #[case("private", &["host.example.org"], "10.0.0.7", true)]
    fn answers_with_local_addresses(
        #[case] level: &str,
        #[case] exceptions: &[&str],
        #[case] address: Ipv4Addr,
        #[case] blocked: bool,
    ) {
        let protection = RebindProtection {
            level: level.parse().unwrap(),
            exceptions: exceptions
                .iter()
                .map(|name| name.parse().unwrap())
                .collect(),
        };
        let asked = asked("www.example.org.", None);
        let answers = vec![
            (60, "www.example.org.", cname("host.example.org.")),
            (60, "host.example.org.", RData::A(A(address))),
        ];
        let reply = reply("www.example.org.", ResponseCode::NoError, answers);
        let octets = reply.to_vec().unwrap();
        let judged = asked.judge(&asked.upstream_query(ID), &octets, &protection);
        assert_eq!(judged == Reply::Rebinding, blocked, "{judged:?}");
    }

    #[test]
    fn an_answer_has_the_clients_id_and_case() {
        let upper = asked("WWW.Example.ORG.", Some(1232));
        let answers = vec![
            (60, "www.example.org.", cname("host.example.org.")),
            (30, "host.example.org.", a(1)),
        ];
        let stored = usable(
            &upper,
            &reply("WWW.Example.ORG.", ResponseCode::NoError, answers),
        );

        // A question with other letters is the same question.
        let lower = asked("www.example.org.", None);
        assert_eq!(lower.key(), upper.key());
        let message = written(&stored, &lower, 10);
        assert_eq!(message.metadata.id, 0x1234);
        assert!(message.metadata.recursion_available && !message.metadata.authoritative);
        assert_eq!(message.queries[0].name().to_ascii(), "www.example.org.");
        let ttls: Vec<u32> = message.answers.iter().map(|record| record.ttl).collect();
        assert_eq!(ttls, [50, 20], "older by ten seconds");
        assert!(message.edns.is_none());
        assert!(written(&stored, &upper, 0).edns.is_some());
    }

    #[rstest]
    #[case::another_id(|message: &mut Message| message.metadata.id = 1, Reply::Unrelated)]
    #[case::another_case(|message: &mut Message| {
        message.queries[0].set_name(Name::from_ascii("WWW.example.org.").unwrap());
    }, Reply::Unrelated)]
    #[case::another_question(|message: &mut Message| {
        message.queries[0].set_query_type(RecordType::AAAA);
    }, Reply::Unrelated)]
    #[case::no_response(|message: &mut Message| {
        message.metadata.message_type = MessageType::Query;
    }, Reply::Unrelated)]
    #[case::cut(|message: &mut Message| message.metadata.truncation = true, Reply::Truncated)]
    #[case::refused(|message: &mut Message| {
        message.metadata.response_code = ResponseCode::Refused;
    }, Reply::Unusable)]
    #[case::failed(|message: &mut Message| {
        message.metadata.response_code = ResponseCode::ServFail;
    }, Reply::Unusable)]
    #[case::circle(|message: &mut Message| {
        let name = |text| Name::from_ascii(text).unwrap();
        message.add_answer(Record::from_rdata(name("www.example.org."), 1, cname("b.example.org.")));
        message.add_answer(Record::from_rdata(name("b.example.org."), 1, cname("www.example.org.")));
    }, Reply::Unusable)]
    fn replies_are_judged(#[case] spoil: fn(&mut Message), #[case] wanted: Reply) {
        let asked = asked("www.example.org.", None);
        let mut message = reply("www.example.org.", ResponseCode::NoError, Vec::new());
        assert!(matches!(judge(&asked, &message), Reply::Usable(_)));
        spoil(&mut message);
        assert_eq!(judge(&asked, &message), wanted);
    }

    #[test]
    fn a_reply_with_wrong_counts_is_rejected() {
        let asked = asked("www.example.org.", None);
        let reply = reply("www.example.org.", ResponseCode::NoError, Vec::new());
        let mut octets = reply.to_vec().unwrap();
        octets[6..8].copy_from_slice(&[0xff, 0xff]);
        let judged = asked.judge(
            &asked.upstream_query(ID),
            &octets,
            &RebindProtection::default(),
        );
        assert_eq!(judged, Reply::Unusable);
    }

    #[test]
    fn bytes_that_are_no_reply_are_rejected() {
        let asked = asked("www.example.org.", None);
        let query = asked.upstream_query(ID);
        let good = reply(
            "www.example.org.",
            ResponseCode::NoError,
            vec![(1, "www.example.org.", a(1))],
        );
        let octets = good.to_vec().unwrap();
        for length in 0..octets.len() {
            let judged = asked.judge(&query, &octets[..length], &RebindProtection::default());
            assert!(
                matches!(judged, Reply::Unrelated | Reply::Unusable),
                "{length}: {judged:?}"
            );
        }
    }

    #[rstest]
    #[case(None, true)]
    #[case(Some(1232), false)]
    fn answers_too_long_for_the_client_are_truncated(
        #[case] payload: Option<u16>,
        #[case] cut: bool,
    ) {
        let asked = asked("www.example.org.", payload);
        let answers = (0..40).map(|i| (60, "www.example.org.", a(i))).collect();
        let stored = usable(
            &asked,
            &reply("www.example.org.", ResponseCode::NoError, answers),
        );
        let message = written(&stored, &asked, 0);
        assert_eq!(message.metadata.truncation, cut);
        assert_eq!(message.answers.len(), if cut { 0 } else { 40 });
        assert_eq!(message.edns.is_some(), payload.is_some());
    }

    fn denial(ttl: u32, minimum: u32) -> Message {
        let mut message = reply("no.example.org.", ResponseCode::NXDomain, Vec::new());
        let zone = Name::from_ascii("example.org.").unwrap();
        let soa = SOA::new(zone.clone(), zone.clone(), 1, 2, 3, 4, minimum);
        message.add_authorities([Record::from_rdata(zone, ttl, RData::SOA(soa))]);
        message
    }

    #[rstest]
    #[case::shortest_record(reply("x.", ResponseCode::NoError, vec![(60, "x.", a(1)), (7, "x.", a(2))]), 7)]
    #[case::bounded(reply("x.", ResponseCode::NoError, vec![(90_000, "x.", a(1))]), KEPT_AT_MOST)]
    #[case::zero(reply("x.", ResponseCode::NoError, vec![(0, "x.", a(1))]), 0)]
    #[case::negative(denial(100, 20), 20)]
    #[case::negative_by_its_own_ttl(denial(10, 20), 10)]
    #[case::negative_bounded(denial(90_000, 90_000), DENIED_AT_MOST)]
    #[case::negative_without_soa(reply("x.", ResponseCode::NXDomain, Vec::new()), 0)]
    fn answers_are_cached_for_their_ttl(#[case] message: Message, #[case] seconds: u32) {
        assert_eq!(lifetime(&message), seconds);
    }

    #[test]
    fn the_cache_drops_expired_answers_and_the_oldest_when_full() {
        let second = Duration::from_secs;
        let entry = |name: &str, ttl| {
            let asked = asked(name, None);
            let stored = usable(
                &asked,
                &reply(name, ResponseCode::NoError, vec![(ttl, name, a(1))]),
            );
            (asked.key().clone(), stored)
        };
        let mut cache = Cache::new(2);
        let names = ["a.example.", "b.example.", "c.example."];
        let keys: Vec<Key> = names.iter().map(|name| entry(name, 10).0).collect();
        for (name, at) in [("a.example.", 0), ("a.example.", 5), ("b.example.", 6)] {
            let (key, stored) = entry(name, 10);
            cache.put(key, stored, second(at));
        }
        let age =
            |cache: &Cache, key: usize, at| cache.get(&keys[key], second(at)).map(|(_, age)| age);
        assert_eq!(age(&cache, 0, 14), Some(9), "the newer answer counts");
        assert_eq!(age(&cache, 0, 15), None, "it has expired");
        assert_eq!(age(&cache, 1, 15), Some(9));
        let (key, stored) = entry("c.example.", 10);
        cache.put(key, stored, second(7));
        assert_eq!(age(&cache, 0, 8), None, "it made room");
        assert_eq!((age(&cache, 1, 8), age(&cache, 2, 8)), (Some(2), Some(1)));
        assert!(cache.entries.len() <= 2 && cache.order.len() <= 2);
        let (key, stored) = entry("a.example.", 0);
        cache.put(key, stored, second(8));
        assert_eq!(
            age(&cache, 1, 8),
            Some(2),
            "what may not be kept takes no room"
        );
        cache.clear();
        assert_eq!(age(&cache, 1, 8), None);
    }

    proptest! {
        /// No reply panics, and what is cached of it can be written and read.
        #[test]
        fn garbage_replies_never_panic(
            changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..6),
            cut in prop::option::of(any::<prop::sample::Index>()),
            age in any::<u32>(),
        ) {
            let asked = asked("www.example.org.", Some(1232));
            let answers = vec![
                (60, "www.example.org.", cname("host.example.org.")),
                (30, "host.example.org.", a(1)),
            ];
            let reply = reply("www.example.org.", ResponseCode::NoError, answers);
            let mut octets = reply.to_vec().unwrap();
            for (place, octet) in changes {
                let place = place.index(octets.len());
                octets[place] = octet;
            }
            octets.truncate(cut.map_or(octets.len(), |cut| cut.index(octets.len() + 1)));
            if let Reply::Usable(stored) = asked.judge(&asked.upstream_query(ID), &octets, &RebindProtection::default()) {
                let message = written(&stored, &asked, age);
                prop_assert_eq!(message.metadata.id, 0x1234);
            }
        }
    }

    #[test]
    fn failures_have_an_extended_error_for_edns_clients() {
        for (reason, code) in [
            (Reason::NotOurs, ResponseCode::Refused),
            (Reason::Stranger, ResponseCode::Refused),
            (Reason::NoReply, ResponseCode::ServFail),
            (Reason::Special, ResponseCode::NXDomain),
        ] {
            let mut out = Vec::new();
            asked("www.example.org.", Some(1232)).write_failure(reason, &mut out);
            let message = Message::from_vec(&out).unwrap();
            assert_eq!(message.metadata.response_code, code);
            assert_eq!(
                message.metadata.recursion_available,
                !matches!(reason, Reason::NotOurs | Reason::Stranger)
            );
            let words = reason.extended_error().1.as_bytes();
            assert!(out.ends_with(words), "{reason:?}: {out:?}");
            assert!(message.edns.is_some());
            asked("www.example.org.", None).write_failure(reason, &mut out);
            assert!(Message::from_vec(&out).unwrap().edns.is_none());
        }
    }
}
