#![warn(clippy::indexing_slicing, clippy::arithmetic_side_effects)]

use hickory_proto::op::{
    Edns, Message, MessageType, Metadata, OpCode, Query as Question, ResponseCode,
};
use hickory_proto::rr::{DNSClass, Name as WireName, Record, RecordType};

use super::cookie::{self, Cookie};
use super::fast_path;
use super::forward::{ForwardedQuestion, Reason};
use super::local_zone::{AnswerData, LocalZone, NameData};
use super::query::{CLASS_IN, Query, plain};
use super::settings::Settings;
use super::wire::{PLAIN_UDP_LIMIT, SHORTEST_RECORD, Transport, UDP_LIMIT, encode};
use bentlane_model::Snapshot;

/// Length of a DNS header in bytes (RFC 1035 §4.1.1).
const HEADER_LENGTH: usize = 12;
/// What became of a query.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It deserves silence; `out` is empty.
    Silence,
    /// The answer is in `out`.
    Answer,
    /// What we know of the answer is in `out`: aliases that lead to a name outside the zones. What
    /// others say of that can be added with [`ForwardedQuestion::join`].
    Alias(ForwardedQuestion),
    /// It is for others to answer; `out` is empty.
    Elsewhere(ForwardedQuestion),
}

/// Answers one query from the zones of `snapshot` into `out`, or says nothing. What `out` held
/// before is gone; its memory is used again.
///
/// Silence is for what cannot be answered: fewer octets than a header, and messages that are
/// answers themselves, since two servers could go on answering each other. A query
/// that does not parse gets FORMERR (RFC 1035 §4.1.1), one with several questions too
/// (RFC 9619 §4), another opcode NOTIMP, and an EDNS version above 0 BADVERS (RFC 6891 §6.1.3).
/// Names in a zone always exist; a type they lack is answered with no data and the zone's SOA
/// (RFC 2308 §2.2). A name outside every zone is [`Outcome::Elsewhere`], but for names that
/// belong to no public DNS (RFC 6761): those of `localhost` are this machine's, and `test`,
/// `invalid`, `onion` and `local` have none.
pub fn answer(
    query: &[u8],
    snapshot: &Snapshot,
    settings: &Settings,
    transport: Transport,
    out: &mut Vec<u8>,
) -> Outcome {
    out.clear();
    if let Some(query) = Query::read(query) {
        // An answer of the short way fits every transport.
        if fast_path::answer(&query, snapshot, settings, out).is_some() {
            return Outcome::Answer;
        }
        if let Some(asked) = elsewhere(&query, snapshot) {
            if special(query.name.as_str()) {
                asked.write_failure(Reason::Special, out);
                return Outcome::Answer;
            }
            return Outcome::Elsewhere(asked);
        }
    }
    match answer_any(query, snapshot, settings, transport) {
        Some((octets, outcome)) => {
            *out = octets;
            outcome
        }
        None => Outcome::Silence,
    }
}

/// Writes that `query`, which comes from another machine, is not answered. One that cannot be read gets
/// nothing, which leaves `out` empty.
pub fn refuse(query: &[u8], out: &mut Vec<u8>) {
    out.clear();
    if let Some(asked) = Query::read(query).as_ref().and_then(ForwardedQuestion::new) {
        asked.write_failure(Reason::Stranger, out);
    }
}

/// The question, when it is one that a resolver elsewhere could answer.
fn elsewhere(query: &Query<'_>, snapshot: &Snapshot) -> Option<ForwardedQuestion> {
    let transfer = matches!(
        RecordType::from(query.kind),
        RecordType::AXFR | RecordType::IXFR
    );
    let served = query.class == CLASS_IN
        && !transfer
        && query.edns.is_none_or(|edns| edns.version == 0)
        && LocalZone::of(snapshot, query.name.as_str()).is_none();
    served.then(|| ForwardedQuestion::new(query)).flatten()
}

/// Names that no upstream resolver is asked for, at or below these (RFC 6761 §6, RFC 6762 §12,
/// RFC 7686 §2).
fn special(name: &str) -> bool {
    let top = name.rsplit('.').next().unwrap_or_default();
    matches!(top, "test" | "invalid" | "onion" | "local")
}

/// The long way, through the codec, for every query there is.
fn answer_any(
    query: &[u8],
    snapshot: &Snapshot,
    settings: &Settings,
    transport: Transport,
) -> Option<(Vec<u8>, Outcome)> {
    let header = Header::read(query)?;
    if header.is_response() {
        return None;
    }
    let refuse = |code| Some((encode(&header.refuse(code), transport)?, Outcome::Answer));
    if header.op_code() != OpCode::Query {
        return refuse(ResponseCode::NotImp);
    }
    let Some(message) = header.parse(query) else {
        return refuse(ResponseCode::FormErr);
    };
    let (response, leads_to) = respond(&message, snapshot, settings);
    let onward = leads_to.and_then(|name| onward(&message, name));
    let outcome = onward.map_or(Outcome::Answer, Outcome::Alias);
    Some((encode(&response, transport)?, outcome))
}

/// The question for the name that an alias leads to, when `query` wants it followed and others can
/// be asked.
fn onward(query: &Message, name: WireName) -> Option<ForwardedQuestion> {
    if !query.metadata.recursion_desired || special(&text_of(&name)) {
        return None;
    }
    let mut next = query.clone();
    let kind = next.queries.first()?.query_type();
    next.queries = vec![Question::query(name, kind)];
    if let Some(edns) = &mut next.edns {
        let mut plain = Edns::new();
        plain
            .set_max_payload(edns.max_payload())
            .set_dnssec_ok(edns.flags().dnssec_ok);
        *edns = plain;
    }
    let octets = next.to_vec().ok()?;
    Query::read(&octets)
        .as_ref()
        .and_then(ForwardedQuestion::new)
}

/// The fields of the header that decide what may be said at all.
struct Header {
    id: u16,
    flags: u16,
    questions: u16,
    answers: u16,
    authorities: u16,
    additionals: u16,
}

impl Header {
    fn read(query: &[u8]) -> Option<Self> {
        let (header, _) = query.split_first_chunk::<HEADER_LENGTH>()?;
        let [i0, i1, f0, f1, q0, q1, a0, a1, n0, n1, d0, d1] = *header;
        Some(Self {
            id: u16::from_be_bytes([i0, i1]),
            flags: u16::from_be_bytes([f0, f1]),
            questions: u16::from_be_bytes([q0, q1]),
            answers: u16::from_be_bytes([a0, a1]),
            authorities: u16::from_be_bytes([n0, n1]),
            additionals: u16::from_be_bytes([d0, d1]),
        })
    }

    fn is_response(&self) -> bool {
        self.flags & 0x8000 != 0
    }

    fn op_code(&self) -> OpCode {
        OpCode::from_u8(u8::try_from((self.flags >> 11) & 0xf).unwrap_or_default())
    }

    /// The whole message, when its counts can be true. They are checked first because the codec
    /// reserves memory by them, and a datagram of 12 octets may claim 65,535 records.
    fn parse(&self, query: &[u8]) -> Option<Message> {
        let room = query
            .len()
            .saturating_sub(HEADER_LENGTH)
            .checked_div(SHORTEST_RECORD)?;
        let plausible = self.questions == 1
            && self.answers == 0
            && self.authorities == 0
            && usize::from(self.additionals) <= room;
        plausible.then(|| Message::from_vec(query).ok()).flatten()
    }

    fn refuse(&self, code: ResponseCode) -> Message {
        let mut message = Message::response(self.id, self.op_code());
        message.metadata.recursion_desired = self.flags & 0x0100 != 0;
        message.metadata.response_code = code;
        message
    }
}

/// The response, and the name outside the zones that it leads to.
fn respond(
    query: &Message,
    snapshot: &Snapshot,
    settings: &Settings,
) -> (Message, Option<WireName>) {
    let mut response = Message::new(query.metadata.id, MessageType::Response, OpCode::Query);
    response.metadata = Metadata::response_from_request(&query.metadata);
    response.metadata.checking_disabled = false;
    response.metadata.recursion_available = settings.recursion;
    response.add_queries(query.queries.iter().cloned());
    if let Some(asked) = &query.edns {
        let mut edns = Edns::new();
        edns.set_max_payload(UDP_LIMIT)
            .set_version(0)
            .set_dnssec_ok(asked.flags().dnssec_ok);
        // The client's limit rides along in our OPT until `encode` has obeyed it.
        edns.set_max_payload(asked.max_payload().clamp(PLAIN_UDP_LIMIT, UDP_LIMIT));
        let cookie = Cookie::of(asked);
        if let Cookie::Client(client) = cookie {
            edns.options_mut()
                .insert(cookie::answer(client, settings.cookie_secret));
        }
        response.set_edns(edns);
        if asked.version() > 0 {
            response.metadata.response_code = ResponseCode::BADVERS;
            return (response, None);
        }
        if cookie == Cookie::Malformed {
            response.metadata.response_code = ResponseCode::FormErr;
            return (response, None);
        }
    }
    let question = query.queries.first();
    let leads_to = question.and_then(|question| fill(&mut response, question, snapshot, settings));
    (response, leads_to)
}

/// Fills in the data; gives the name outside the zones that it leads to.
fn fill(
    response: &mut Message,
    question: &Question,
    snapshot: &Snapshot,
    settings: &Settings,
) -> Option<WireName> {
    let name = text_of(question.name());
    let name = name.as_str();
    let class_known = matches!(question.query_class(), DNSClass::IN | DNSClass::ANY);
    let kind = question.query_type();
    let transfer = matches!(kind, RecordType::AXFR | RecordType::IXFR);
    let realm = LocalZone::of(snapshot, name).filter(|_| class_known && !transfer);
    let Some((realm, apex)) = realm.and_then(|realm| Some((realm, realm.apex_name()?))) else {
        response.metadata.response_code = ResponseCode::Refused;
        return None;
    };
    response.metadata.authoritative = true;

    let owner = question.name().clone();
    let serial = snapshot.configuration().revision;
    let settings = realm.settings(settings);
    let data = realm.data(snapshot, name, kind, &settings);
    if data.is_none() {
        response.metadata.response_code = ResponseCode::NXDomain;
    }
    let NameData {
        data,
        is_negative,
        is_missing,
        leads_to,
    } = data.unwrap_or(NameData {
        is_negative: true,
        ..NameData::default()
    });
    if is_missing {
        response.metadata.response_code = ResponseCode::NXDomain;
    }
    if is_negative {
        let soa = realm.soa(&settings, serial);
        response.add_authorities(soa.map(|soa| Record::from_rdata(apex, settings.ttl, soa)));
    }
    response.add_answers(data.into_iter().map(|AnswerData { name, ttl, data }| {
        Record::from_rdata(name.unwrap_or_else(|| owner.clone()), ttl, data)
    }));
    leads_to
}

/// A name in the form in which the snapshot knows names.
fn text_of(name: &WireName) -> String {
    let mut text = String::with_capacity(name.len());
    for label in name.iter() {
        if !text.is_empty() {
            text.push('.');
        }
        text.extend(label.iter().map(|octet| char::from(plain(*octet))));
    }
    text
}

#[cfg(test)]
#[allow(
    clippy::indexing_slicing,
    clippy::arithmetic_side_effects,
    reason = "a test that panics has failed, as it should"
)]
mod tests {
    use std::net::Ipv4Addr;

    use hickory_proto::rr::RData;
    use hickory_proto::rr::rdata::A;
    use hickory_proto::rr::rdata::opt::{EdnsCode, EdnsOption};
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use bentlane_model::{Answers, Route};
    use bentlane_model::{Configuration, Zone};

    fn snapshot() -> Snapshot {
        Snapshot::compile(Configuration {
            revision: 7,
            zones: vec![Zone::new("moor.test".parse().unwrap())],
            routes: Vec::new(),
            ..Configuration::default()
        })
    }

    fn query(name: &str, kind: RecordType) -> Message {
        let mut message = Message::new(0x1234, MessageType::Query, OpCode::Query);
        message.metadata.recursion_desired = true;
        message.add_query(Question::query(WireName::from_ascii(name).unwrap(), kind));
        message
    }

    fn ask(query: &[u8], transport: Transport) -> Option<Message> {
        let mut octets = Vec::new();
        answer(
            query,
            &snapshot(),
            &Settings::default(),
            transport,
            &mut octets,
        );
        (!octets.is_empty()).then(|| Message::from_vec(&octets).unwrap())
    }

    fn ask_message(message: &Message) -> Message {
        ask(&message.to_vec().unwrap(), Transport::Udp).unwrap()
    }

    #[rstest]
    #[case("booking.moor.test.", RecordType::A, &["127.0.0.1"])]
    #[case("moor.test.", RecordType::A, &["127.0.0.1"])]
    #[case("a.b.c.moor.test.", RecordType::AAAA, &["::1"])]
    #[case("moor.test.", RecordType::NS, &["ns.moor.test."])]
    #[case("moor.test.", RecordType::SOA, &["ns.moor.test. hostmaster.moor.test. 7 3600 600 86400 10"])]
    #[case("x.moor.test.", RecordType::ANY, &["127.0.0.1"])]
    #[case("x.moor.test.", RecordType::HTTPS, &["1 . alpn=h2,http/1.1,"])]
    #[case("app.localhost.", RecordType::HTTPS, &[])]
    #[case("1.0.0.127.in-addr.arpa.", RecordType::PTR, &["localhost."])]
    #[case("1.0.0.127.in-addr.arpa.", RecordType::ANY, &["localhost."])]
    #[case("1.0.0.127.in-addr.arpa.", RecordType::A, &[])]
    #[case("127.in-addr.arpa.", RecordType::NS, &["ns.127.in-addr.arpa."])]
    #[case(
        "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.ip6.arpa.",
        RecordType::PTR,
        &["localhost."]
    )]
    #[case("x.moor.test.", RecordType::MX, &[])]
    #[case("x.moor.test.", RecordType::SOA, &[])]
    #[case("x.moor.test.", RecordType::TXT, &[])]
    #[case("x\\.y.moor.test.", RecordType::A, &["127.0.0.1"])]
    #[case("localhost.", RecordType::A, &["127.0.0.1"])]
    #[case("app.localhost.", RecordType::AAAA, &["::1"])]
    fn zone_answers(#[case] name: &str, #[case] kind: RecordType, #[case] wanted: &[&str]) {
        let response = ask_message(&query(name, kind));
        let found: Vec<_> = response
            .answers
            .iter()
            .map(|r| r.data.to_string())
            .collect();
        assert_eq!(found, wanted);
        assert_eq!(response.metadata.response_code, ResponseCode::NoError);
        assert!(response.metadata.authoritative && !response.metadata.recursion_available);
        assert!(
            response.metadata.recursion_desired,
            "RD is copied (RFC 1035 section 4.1.1)"
        );
        let negative = response
            .authorities
            .iter()
            .map(Record::record_type)
            .collect::<Vec<_>>();
        let soa = if wanted.is_empty() {
            vec![RecordType::SOA]
        } else {
            vec![]
        };
        assert_eq!(
            negative, soa,
            "a negative answer carries the SOA, others do not"
        );
    }

    /// A zone that answers for routed names alone, with records of the user's own.
    fn own_records(answers: Answers) -> Snapshot {
        let mut zone = Zone::new("moor.test".parse().unwrap());
        zone.settings.answers = answers;
        zone.settings.ttl = 30;
        let file = "@ MX 10 mail\n@ TXT one\nmail 5 A 192.0.2.25\nwww CNAME mail\n\
                    away CNAME host.example.\nround CNAME again\nagain CNAME round\n\
                    lost CNAME nowhere\n*.wild TXT star\na.b.deep TXT deep\n";
        zone.records = crate::zone_file::read(file, &zone.name).unwrap();
        let route = |address: &str| Route::new(address.parse().unwrap(), "1".parse().unwrap());
        Snapshot::compile(Configuration {
            revision: 7,
            zones: vec![zone],
            routes: vec![route("booking.moor.test"), route("*.hut.moor.test/x")],
            ..Configuration::default()
        })
    }

    /// Routes that choose what their names resolve to.
    fn chosen() -> Snapshot {
        let route = |address: &str, to: &str, ip: Option<&str>| {
            let mut route = Route::new(address.parse().unwrap(), to.parse().unwrap());
            route.settings.address = ip.map(|ip| ip.parse().unwrap());
            route
        };
        let www = "redirect:https://www.moor.test";
        Snapshot::compile(Configuration {
            revision: 7,
            zones: vec![Zone::new("moor.test".parse().unwrap())],
            routes: vec![
                route("store.moor.test", "1", Some("127.64.0.5")),
                route("store.moor.test/api", "2", None),
                route("*.vm.moor.test", "3", Some("192.0.2.7")),
                route("six.moor.test", "3", Some("2001:db8::7")),
                route("old.moor.test", www, None),
                route("older.moor.test", "redirect:https://old.moor.test", None),
                route("part.moor.test/x", www, None),
                route("moor.test", www, None),
                route("away.moor.test", "redirect:https://host.example", None),
                route("vm.moor.test", "redirect:https://a.vm.moor.test", None),
                route("self.moor.test", "redirect:https://self.moor.test/x", None),
            ],
            ..Configuration::default()
        })
    }

    #[rstest]
    #[case("store.moor.test.", RecordType::A, &["10 127.64.0.5"])]
    #[case("store.moor.test.", RecordType::AAAA, &["NoError"])]
    #[case("store.moor.test.", RecordType::HTTPS, &["10 1 . alpn=h2,http/1.1,"])]
    #[case("a.vm.moor.test.", RecordType::A, &["10 192.0.2.7"])]
    #[case("a.vm.moor.test.", RecordType::HTTPS, &["NoError"])]
    #[case("six.moor.test.", RecordType::A, &["NoError"])]
    #[case("six.moor.test.", RecordType::AAAA, &["10 2001:db8::7"])]
    #[case("old.moor.test.", RecordType::A, &["10 www.moor.test.", "10 127.0.0.1"])]
    #[case("old.moor.test.", RecordType::CNAME, &["10 www.moor.test."])]
    #[case("older.moor.test.", RecordType::A, &["10 old.moor.test.", "10 www.moor.test.", "10 127.0.0.1"])]
    #[case("part.moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("away.moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("vm.moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("self.moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("other.moor.test.", RecordType::A, &["10 127.0.0.1"])]
    #[case("5.0.64.127.in-addr.arpa.", RecordType::PTR, &["10 store.moor.test."])]
    #[case("5.0.64.127.in-addr.arpa.", RecordType::A, &["NoError"])]
    #[case("64.127.in-addr.arpa.", RecordType::PTR, &["NoError"])]
    #[case("0.127.in-addr.arpa.", RecordType::PTR, &["NoError"])]
    #[case("6.0.64.127.in-addr.arpa.", RecordType::PTR, &["NXDomain"])]
    fn routes_choose_what_their_names_resolve_to(
        #[case] name: &str,
        #[case] kind: RecordType,
        #[case] wanted: &[&str],
    ) {
        assert_eq!(answers_of(&chosen(), name, kind), wanted);
    }

    /// What is answered: the data, or the code when there is none.
    fn answers_of(snapshot: &Snapshot, name: &str, kind: RecordType) -> Vec<String> {
        let octets = query(name, kind).to_vec().unwrap();
        let mut out = Vec::new();
        answer(
            &octets,
            snapshot,
            &Settings::default(),
            Transport::Udp,
            &mut out,
        );
        let response = Message::from_vec(&out).unwrap();
        let negative = response.answers.is_empty();
        if negative {
            assert_eq!(
                response.authorities.len(),
                1,
                "{name}: how long to remember it"
            );
            return vec![format!("{:?}", response.metadata.response_code)];
        }
        assert_eq!(response.metadata.response_code, ResponseCode::NoError);
        let data = |record: &Record| format!("{} {}", record.ttl, record.data);
        response.answers.iter().map(data).collect()
    }

    #[rstest]
    #[case("moor.test.", RecordType::MX, &["30 10 mail.moor.test."])]
    #[case("moor.test.", RecordType::TXT, &["30 one"])]
    #[case("mail.moor.test.", RecordType::A, &["5 192.0.2.25"])]
    #[case("mail.moor.test.", RecordType::AAAA, &["NoError"])]
    #[case("mail.moor.test.", RecordType::HTTPS, &["NoError"])]
    #[case("www.moor.test.", RecordType::A, &["30 mail.moor.test.", "5 192.0.2.25"])]
    #[case("www.moor.test.", RecordType::CNAME, &["30 mail.moor.test."])]
    #[case("www.moor.test.", RecordType::MX, &["30 mail.moor.test."])]
    #[case("away.moor.test.", RecordType::A, &["30 host.example."])]
    #[case("x.wild.moor.test.", RecordType::TXT, &["30 star"])]
    #[case("y.x.wild.moor.test.", RecordType::TXT, &["30 star"])]
    #[case("wild.moor.test.", RecordType::TXT, &["NoError"])]
    #[case("x.a.b.deep.moor.test.", RecordType::TXT, &["NXDomain"])]
    #[case("b.deep.moor.test.", RecordType::A, &["NoError"])]
    #[case("deep.moor.test.", RecordType::TXT, &["NoError"])]
    #[case("booking.moor.test.", RecordType::A, &["30 127.0.0.1"])]
    #[case("booking.moor.test.", RecordType::TXT, &["NoError"])]
    #[case("x.hut.moor.test.", RecordType::AAAA, &["30 ::1"])]
    #[case("hut.moor.test.", RecordType::A, &["NoError"])]
    #[case("other.moor.test.", RecordType::A, &["NXDomain"])]
    #[case("moor.test.", RecordType::A, &["NoError"])]
    fn records_that_users_added(
        #[case] name: &str,
        #[case] kind: RecordType,
        #[case] wanted: &[&str],
    ) {
        let snapshot = own_records(Answers::RoutedNames);
        assert_eq!(answers_of(&snapshot, name, kind), wanted);
    }

    #[rstest]
    #[case("other.moor.test.", RecordType::A, &["30 127.0.0.1"])]
    #[case("moor.test.", RecordType::A, &["30 127.0.0.1"])]
    #[case("x.wild.moor.test.", RecordType::A, &["30 127.0.0.1"])]
    #[case("mail.moor.test.", RecordType::A, &["5 192.0.2.25"])]
    #[case("lost.moor.test.", RecordType::A, &["30 nowhere.moor.test.", "30 127.0.0.1"])]
    fn every_other_name_resolves_beside_them(
        #[case] name: &str,
        #[case] kind: RecordType,
        #[case] wanted: &[&str],
    ) {
        let snapshot = own_records(Answers::EveryName);
        assert_eq!(answers_of(&snapshot, name, kind), wanted);
    }

    /// What others say of the name that an alias of ours leads to.
    fn joined(theirs: &str, code: ResponseCode, transport: Transport, count: u8) -> Message {
        let mut message = query("away.moor.test.", RecordType::A);
        message.metadata.recursion_desired = true;
        let mut edns = Edns::new();
        let cookie = EdnsOption::Unknown(10, vec![7; 8]);
        edns.set_max_payload(700).options_mut().insert(cookie);
        message.set_edns(edns);
        let (snapshot, mut ours) = (own_records(Answers::EveryName), Vec::new());
        let settings = Settings::default();
        let octets = message.to_vec().unwrap();
        let Outcome::Alias(asked) = answer(&octets, &snapshot, &settings, transport, &mut ours)
        else {
            panic!("it leads elsewhere");
        };
        let sent = Message::from_vec(&asked.upstream_query(1)).unwrap();
        assert_eq!(sent.queries[0].to_string(), "host.example. IN A");
        let mut reply = Message::response(1, OpCode::Query);
        reply.metadata.response_code = code;
        let owner = WireName::from_ascii(theirs).unwrap();
        reply.add_answers((0..count).map(|last| {
            let ip = Ipv4Addr::new(192, 0, 2, last);
            Record::from_rdata(owner.clone(), 60, RData::A(A(ip)))
        }));
        let reply = reply.to_vec().unwrap();
        Message::from_vec(&asked.join(&ours, &reply, transport).unwrap()).unwrap()
    }

    #[rstest]
    #[case(ResponseCode::NoError, Transport::Udp, 1, &["30 host.example.", "60 192.0.2.0"])]
    #[case(ResponseCode::NXDomain, Transport::Udp, 0, &["30 host.example."])]
    #[case(ResponseCode::ServFail, Transport::Udp, 0, &["30 host.example."])]
    #[case(ResponseCode::NoError, Transport::Udp, 60, &[])]
    fn aliases_lead_to_names_outside_the_zones(
        #[case] code: ResponseCode,
        #[case] transport: Transport,
        #[case] count: u8,
        #[case] wanted: &[&str],
    ) {
        let response = joined("host.example.", code, transport, count);
        assert_eq!(response.metadata.response_code, code);
        assert_eq!(response.metadata.truncation, wanted.is_empty());
        assert_eq!(response.queries[0].name().to_ascii(), "away.moor.test.");
        let data = |record: &Record| format!("{} {}", record.ttl, record.data);
        let answers: Vec<String> = response.answers.iter().map(data).collect();
        assert_eq!(answers, wanted);
    }

    /// RFC 6604 §3: the code is that of the last name.
    #[test]
    fn an_alias_of_a_missing_name_is_nxdomain() {
        let settings = Settings::default();
        let octets = query("lost.moor.test.", RecordType::A).to_vec().unwrap();
        let mut out = Vec::new();
        let snapshot = own_records(Answers::RoutedNames);
        answer(&octets, &snapshot, &settings, Transport::Udp, &mut out);
        let response = Message::from_vec(&out).unwrap();
        assert_eq!(response.metadata.response_code, ResponseCode::NXDomain);
        assert_eq!(response.answers.len(), 1, "with the alias itself");
    }

    #[test]
    fn alias_loops_end() {
        let answers = answers_of(
            &own_records(Answers::EveryName),
            "round.moor.test.",
            RecordType::A,
        );
        assert!(answers.len() < 20, "{answers:?}");
    }

    #[test]
    fn a_zone_can_resolve_to_another_address() {
        let mut zone = Zone::new("moor.test".parse().unwrap());
        zone.settings.ipv4 = Some([192, 0, 2, 9].into());
        let snapshot = Snapshot::compile(Configuration {
            zones: vec![zone],
            ..Configuration::default()
        });
        for (kind, wanted) in [
            (RecordType::A, "10 192.0.2.9"),
            (RecordType::AAAA, "NoError"),
            (RecordType::HTTPS, "NoError"),
        ] {
            assert_eq!(answers_of(&snapshot, "x.moor.test.", kind), [wanted]);
        }
    }

    #[rstest]
    #[case("example.com.", RecordType::A)]
    #[case("blackmoor.example.", RecordType::A)]
    #[case("x\\.moor.test.example.", RecordType::A)]
    #[case(".", RecordType::NS)]
    fn names_outside_the_zones_are_forwarded(#[case] name: &str, #[case] kind: RecordType) {
        let octets = query(name, kind).to_vec().unwrap();
        let mut out = vec![1];
        let outcome = answer(
            &octets,
            &snapshot(),
            &Settings::default(),
            Transport::Udp,
            &mut out,
        );
        assert!(matches!(outcome, Outcome::Elsewhere(_)), "{outcome:?}");
        assert!(out.is_empty());
    }

    #[rstest]
    #[case("test.", RecordType::SOA, ResponseCode::NXDomain)]
    #[case("blackmoor.test.", RecordType::A, ResponseCode::NXDomain)]
    #[case("x\\.moor.test.", RecordType::A, ResponseCode::NXDomain)]
    #[case("printer.local.", RecordType::A, ResponseCode::NXDomain)]
    #[case("moor.test.", RecordType::AXFR, ResponseCode::Refused)]
    #[case("example.com.", RecordType::IXFR, ResponseCode::Refused)]
    fn special_names_are_not_forwarded(
        #[case] name: &str,
        #[case] kind: RecordType,
        #[case] code: ResponseCode,
    ) {
        let response = ask_message(&query(name, kind));
        assert_eq!(response.metadata.response_code, code);
        assert!(!response.metadata.authoritative && response.answers.is_empty());
    }

    #[test]
    fn the_answer_has_the_case_of_the_query() {
        let response = ask_message(&query("BooKing.MOOR.tesT.", RecordType::A));
        assert_eq!(response.queries[0].name().to_ascii(), "BooKing.MOOR.tesT.");
        assert_eq!(response.answers[0].name.to_ascii(), "BooKing.MOOR.tesT.");
    }

    #[test]
    fn a_missing_family_is_answered_with_no_data() {
        let settings = Settings {
            ipv6: None,
            ..Settings::default()
        };
        let octets = query("x.moor.test.", RecordType::AAAA).to_vec().unwrap();
        let mut answered = Vec::new();
        answer(
            &octets,
            &snapshot(),
            &settings,
            Transport::Udp,
            &mut answered,
        );
        let response = Message::from_vec(&answered).unwrap();
        assert_eq!(response.metadata.response_code, ResponseCode::NoError);
        assert!(response.answers.is_empty() && response.authorities.len() == 1);
    }

    fn edns(payload: u16, version: u8) -> Message {
        let mut message = query("x.moor.test.", RecordType::A);
        let mut edns = Edns::new();
        edns.set_max_payload(payload)
            .set_version(version)
            .set_dnssec_ok(true);
        message.set_edns(edns);
        message
    }

    #[test]
    fn an_https_record_has_a_port_that_is_not_443() {
        let settings = Settings {
            https_port: 17443,
            ..Settings::default()
        };
        let octets = query("x.moor.test.", RecordType::HTTPS).to_vec().unwrap();
        let mut answered = Vec::new();
        answer(
            &octets,
            &snapshot(),
            &settings,
            Transport::Udp,
            &mut answered,
        );
        let response = Message::from_vec(&answered).unwrap();
        let data = response.answers[0].data.to_string();
        assert!(data.contains("port=17443"), "{data}");
    }

    #[test]
    fn reverse_queries_for_other_loopback_addresses_are_nxdomain() {
        let response = ask_message(&query("9.0.0.127.in-addr.arpa.", RecordType::PTR));
        assert_eq!(response.metadata.response_code, ResponseCode::NXDomain);
        assert!(response.metadata.authoritative && response.authorities.len() == 1);
    }

    #[rstest]
    #[case(&[7; 8], Some(16), ResponseCode::NoError)]
    #[case(&[7; 16], Some(16), ResponseCode::NoError)]
    #[case(&[7; 40], Some(16), ResponseCode::NoError)]
    #[case(&[7; 7], None, ResponseCode::FormErr)]
    #[case(&[7; 12], None, ResponseCode::FormErr)]
    #[case(&[7; 41], None, ResponseCode::FormErr)]
    fn cookies_are_answered(
        #[case] cookie: &[u8],
        #[case] length: Option<usize>,
        #[case] code: ResponseCode,
    ) {
        let mut message = edns(1232, 0);
        let option = EdnsOption::Unknown(10, cookie.to_vec());
        message.edns.as_mut().unwrap().options_mut().insert(option);
        let response = ask_message(&message);
        assert_eq!(response.metadata.response_code, code);
        let edns = response.edns.unwrap();
        let found = edns.option(EdnsCode::Cookie).map(|option| match option {
            EdnsOption::Unknown(_, octets) => octets.clone(),
            other => panic!("{other:?}"),
        });
        assert_eq!(found.as_ref().map(Vec::len), length);
        if let Some(octets) = found {
            assert!(octets.starts_with(&cookie[..8]));
            assert_ne!(octets[8..], cookie[..8], "the rest is ours");
        }
    }

    #[test]
    fn edns_is_answered_with_edns() {
        let response = ask_message(&edns(4096, 0));
        let edns = response.edns.unwrap();
        assert_eq!((edns.max_payload(), edns.version()), (UDP_LIMIT, 0));
        assert!(edns.flags().dnssec_ok);
        assert!(
            ask_message(&query("x.moor.test.", RecordType::A))
                .edns
                .is_none()
        );
    }

    #[test]
    fn a_later_edns_version_is_badvers() {
        let response = ask_message(&edns(4096, 1));
        // 16 is BADVERS in an OPT record; the codec calls it BADSIG, as it is elsewhere.
        assert_eq!(u16::from(response.metadata.response_code), 16);
        assert_eq!(response.edns.unwrap().version(), 0);
        assert!(response.answers.is_empty());
    }

    #[rstest]
    #[case(Transport::Udp, None, true)]
    #[case(Transport::Udp, Some(600), true)]
    #[case(Transport::Udp, Some(1000), false)]
    #[case(Transport::Tcp, None, false)]
    fn long_answers_are_truncated(
        #[case] transport: Transport,
        #[case] payload: Option<u16>,
        #[case] truncated: bool,
    ) {
        let mut message = query("x.moor.test.", RecordType::A);
        let owner = message.queries[0].name().clone();
        message.add_answers((0..50u8).map(|i| {
            Record::from_rdata(owner.clone(), 10, RData::A(A(Ipv4Addr::new(127, 0, 0, i))))
        }));
        if let Some(payload) = payload {
            let mut edns = Edns::new();
            edns.set_max_payload(payload);
            message.set_edns(edns);
        }
        let octets = encode(&message, transport).unwrap();
        let response = Message::from_vec(&octets).unwrap();
        assert_eq!(response.metadata.truncation, truncated);
        assert_eq!(response.answers.len(), if truncated { 0 } else { 50 });
        assert_eq!(response.queries.len(), 1);
        assert_eq!(response.edns.is_some(), payload.is_some());
    }

    /// One valid query, changed in one place.
    fn changed(position: usize, octets: &[u8]) -> Vec<u8> {
        let mut message = query("x.moor.test.", RecordType::A).to_vec().unwrap();
        message.splice(position..position + octets.len(), octets.iter().copied());
        message
    }

    #[rstest]
    #[case::two_questions(changed(4, &[0, 2]), ResponseCode::FormErr)]
    #[case::no_question(changed(4, &[0, 0]), ResponseCode::FormErr)]
    #[case::claims_records(changed(10, &[0xff, 0xff]), ResponseCode::FormErr)]
    #[case::claims_answers(changed(6, &[0, 1]), ResponseCode::FormErr)]
    #[case::pointer_to_itself(changed(12, &[0xc0, 12]), ResponseCode::FormErr)]
    #[case::pointer_forward(changed(12, &[0xc0, 14]), ResponseCode::FormErr)]
    #[case::label_past_the_end(changed(12, &[63]), ResponseCode::FormErr)]
    #[case::reserved_label_type(changed(12, &[0x80]), ResponseCode::FormErr)]
    #[case::header_alone(changed(0, &[])[..12].to_vec(), ResponseCode::FormErr)]
    #[case::cut_short(changed(0, &[])[..20].to_vec(), ResponseCode::FormErr)]
    #[case::status(changed(2, &[0x10]), ResponseCode::NotImp)]
    #[case::notify(changed(2, &[0x20]), ResponseCode::NotImp)]
    #[case::update(changed(2, &[0x28]), ResponseCode::NotImp)]
    #[case::chaos_class(changed(27, &[0, 3]), ResponseCode::Refused)]
    fn malformed_queries(#[case] octets: Vec<u8>, #[case] code: ResponseCode) {
        let response = ask(&octets, Transport::Udp).unwrap();
        assert_eq!(response.metadata.response_code, code);
        assert_eq!(response.metadata.id, 0x1234);
        assert_eq!(response.metadata.message_type, MessageType::Response);
    }

    #[test]
    fn short_messages_and_responses_get_no_answer() {
        for length in 0..HEADER_LENGTH {
            assert_eq!(ask(&changed(0, &[])[..length], Transport::Udp), None);
        }
        assert_eq!(ask(&changed(2, &[0x81]), Transport::Udp), None);
    }

    proptest! {
        /// Whatever comes, an answer parses and repeats the id.
        #[test]
        fn garbage_never_panics(
            mut octets in prop::collection::vec(any::<u8>(), 0..80),
            plausible in any::<bool>(),
        ) {
            if plausible && octets.len() >= HEADER_LENGTH {
                octets.splice(2..HEADER_LENGTH, [1, 0, 0, 1, 0, 0, 0, 0, 0, octets[11] % 3]);
            }
            if let Some(response) = ask(&octets, Transport::Udp) {
                let id = u16::from_be_bytes([octets[0], octets[1]]);
                prop_assert_eq!(response.metadata.id, id);
            }
        }

        /// The fast path answers, and with the same bytes as the codec.
        #[test]
        fn the_fast_path_and_the_codec_give_the_same_bytes(
            labels in prop::collection::vec("[a-zA-Z0-9_.*-]{1,20}|store|old|vm|six", 0..4),
            zone in prop::sample::select(vec!["moor.test", "MOOR.Test", "fell.test", "test"]),
            kind in prop::sample::select(vec![1u16, 28, 15, 255]),
            flags in prop::sample::select(vec![[0u8, 0], [1, 0], [1, 0x20], [1, 0x10], [1, 0x80], [3, 0]]),
            edns in prop::option::of((any::<u16>(), prop::sample::select(vec![[0u8, 0], [0x80, 0]]))),
            change in prop::option::of((any::<prop::sample::Index>(), any::<u8>())),
            chosen_zone in any::<bool>(),
        ) {
            let mut octets = vec![0x12, 0x34, flags[0], flags[1], 0, 1, 0, 0, 0, 0, 0, 0];
            octets[11] = u8::from(edns.is_some());
            let ours = zone.split('.');
            for label in labels.iter().map(String::as_str).chain(ours) {
                octets.push(u8::try_from(label.len()).unwrap());
                octets.extend(label.bytes());
            }
            octets.push(0);
            octets.extend(kind.to_be_bytes());
            octets.extend([0, 1]);
            if let Some((payload, flags)) = edns {
                octets.extend([0, 0, 41]);
                octets.extend(payload.to_be_bytes());
                octets.extend([0, 0, flags[0], flags[1], 0, 0]);
            }
            if let Some((place, octet)) = change {
                let place = place.index(octets.len());
                octets[place] = octet;
            }
            let snapshot = if chosen_zone { chosen() } else { snapshot() };
            let settings = Settings::default();
            let mut short = Vec::new();
            let known = Query::read(&octets).is_some_and(|query| {
                fast_path::answer(&query, &snapshot, &settings, &mut short).is_some()
            });
            let long = answer_any(&octets, &snapshot, &settings, Transport::Udp);
            if known {
                prop_assert_eq!(Some((short, Outcome::Answer)), long);
            } else {
                prop_assert!(short.is_empty());
            }
            let plain = zone.to_lowercase() == "moor.test"
                && kind < 100 && kind != 15 && flags[1] & 0x80 == 0 && flags[0] < 2
                && !chosen_zone;
            prop_assert!(known || !plain || change.is_some());
        }
    }
}
