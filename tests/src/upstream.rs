use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, UdpSocket};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use hickory_proto::op::{Message, MessageType, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, CNAME, SOA};
use hickory_proto::rr::{Name, RData, Record};

/// A stand-in for an upstream resolver, which does what the first label of a name says:
///
/// - `near` leads to 127.0.0.1, and `lan` to 192.168.7.7,
/// - `silent` gets no answer, `slow` one after 400 ms,
/// - `liar` gets answers with a wrong id and to another question first,
/// - `circle` leads round in CNAMEs, `refused` is refused, `missing` does not exist,
/// - `long` has 40 addresses: cut over UDP, whole over TCP; `cut` is cut, and TCP hangs up,
/// - any other is 192.0.2.7 for a minute.
#[derive(Debug)]
pub struct Upstream {
    address: SocketAddr,
    asked: Arc<Mutex<Vec<String>>>,
    over_tcp: Arc<AtomicUsize>,
    end: Arc<AtomicBool>,
}

impl Upstream {
    /// Starts one on a free port of 127.0.0.1. It ends when it is dropped.
    #[must_use]
    pub fn new() -> Self {
        let (udp, tcp) = loop {
            let udp = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
            if let Ok(tcp) = TcpListener::bind(udp.local_addr().unwrap()) {
                break (udp, tcp);
            }
        };
        let upstream = Self {
            address: udp.local_addr().unwrap(),
            asked: Arc::default(),
            over_tcp: Arc::default(),
            end: Arc::default(),
        };
        udp.set_read_timeout(Some(Duration::from_millis(100)))
            .unwrap();
        let (asked, end) = (Arc::clone(&upstream.asked), Arc::clone(&upstream.end));
        let udp = Arc::new(udp);
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while !end.load(Ordering::Relaxed) {
                let Ok((length, peer)) = udp.recv_from(&mut buffer) else {
                    continue;
                };
                let query = Message::from_vec(&buffer[..length]).unwrap();
                asked.lock().unwrap().push(name_of(&query));
                let udp = Arc::clone(&udp);
                std::thread::spawn(move || {
                    for reply in replies(&query, false) {
                        let _ = udp.send_to(&reply.to_vec().unwrap(), peer);
                    }
                });
            }
        });
        let (over_tcp, end) = (Arc::clone(&upstream.over_tcp), Arc::clone(&upstream.end));
        std::thread::spawn(move || {
            for stream in tcp.incoming() {
                if end.load(Ordering::Relaxed) {
                    return;
                }
                let Ok(mut stream) = stream else { continue };
                over_tcp.fetch_add(1, Ordering::Relaxed);
                let mut length = [0; 2];
                if stream.read_exact(&mut length).is_err() {
                    continue;
                }
                let mut query = vec![0; usize::from(u16::from_be_bytes(length))];
                stream.read_exact(&mut query).unwrap();
                for reply in replies(&Message::from_vec(&query).unwrap(), true) {
                    let reply = reply.to_vec().unwrap();
                    let length = u16::try_from(reply.len()).unwrap().to_be_bytes();
                    stream.write_all(&[&length[..], &reply].concat()).unwrap();
                }
            }
        });
        upstream
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> String {
        self.address.to_string()
    }

    /// The names that it was asked for over UDP, in lower case.
    #[must_use]
    pub fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }

    /// How often it was asked over TCP.
    #[must_use]
    pub fn over_tcp(&self) -> usize {
        self.over_tcp.load(Ordering::Relaxed)
    }
}

impl Default for Upstream {
    fn default() -> Self {
        Self::new()
    }
}

impl Drop for Upstream {
    fn drop(&mut self) {
        self.end.store(true, Ordering::Relaxed);
        let _ = std::net::TcpStream::connect(self.address); // wakes the one that accepts
    }
}

fn name_of(query: &Message) -> String {
    query.queries[0].name().to_lowercase().to_ascii()
}

#[allow(
    clippy::disallowed_methods,
    reason = "each reply is made on its own thread"
)]
fn replies(query: &Message, tcp: bool) -> Vec<Message> {
    let owner = query.queries[0].name().clone();
    let mut reply = Message::new(query.metadata.id, MessageType::Response, OpCode::Query);
    reply.metadata.recursion_available = true;
    reply.add_query(query.queries[0].clone());
    let record = |owner: &Name, data| Record::from_rdata(owner.clone(), 60, data);
    let address = |last| RData::A(A(Ipv4Addr::new(192, 0, 2, last)));
    match name_of(query).split('.').next().unwrap() {
        "silent" => return Vec::new(),
        "near" | "lan" => {
            let near = name_of(query).starts_with("near");
            let ip = if near {
                Ipv4Addr::LOCALHOST
            } else {
                Ipv4Addr::new(192, 168, 7, 7)
            };
            reply.add_answer(record(&owner, RData::A(A(ip))));
            return vec![reply];
        }
        "slow" => std::thread::sleep(Duration::from_millis(400)),
        "refused" => {
            reply.metadata.response_code = ResponseCode::Refused;
            return vec![reply];
        }
        "missing" => {
            reply.metadata.response_code = ResponseCode::NXDomain;
            let zone = Name::from_ascii("example.").unwrap();
            let soa = SOA::new(zone.clone(), zone.clone(), 1, 2, 3, 4, 60);
            reply.add_authorities([record(&zone, RData::SOA(soa))]);
            return vec![reply];
        }
        "circle" => {
            let other = Name::from_ascii("other.example.").unwrap();
            reply.add_answer(record(&owner, RData::CNAME(CNAME(other.clone()))));
            reply.add_answer(record(&other, RData::CNAME(CNAME(owner))));
            return vec![reply];
        }
        "long" | "cut" if !tcp => {
            reply.metadata.truncation = true;
            return vec![reply];
        }
        "cut" => return Vec::new(),
        "long" => {
            reply.add_answers((0..40).map(|last| record(&owner, address(last))));
            return vec![reply];
        }
        "liar" => {
            let mut wrong_id = reply.clone();
            wrong_id.metadata.id = query.metadata.id.wrapping_add(1);
            wrong_id.add_answer(record(&owner, address(66)));
            let mut wrong_question = reply.clone();
            let other = Name::from_ascii("other.example.").unwrap();
            wrong_question.queries[0].set_name(other.clone());
            wrong_question.add_answer(record(&other, address(66)));
            reply.add_answer(record(&owner, address(7)));
            return vec![wrong_id, wrong_question, reply];
        }
        _ => {}
    }
    reply.add_answer(record(&owner, address(7)));
    vec![reply]
}
