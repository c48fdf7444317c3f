use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use bentlane_checks::{LookupResult, NameserverResult, Resolve, SystemLookup};
use bentlane_dns::CHECK_MARK;
use bentlane_model::Name;
use futures_util::future::join_all;
use hickory_proto::op::{Edns, Message, Query, ResponseCode};
use hickory_proto::rr::rdata::opt::EdnsOption;
use hickory_proto::rr::{Name as WireName, RData, RecordType};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket, lookup_host};
use tokio::time::timeout;

/// How long clients wait for an answer, as resolvers of the usual C libraries do (resolv.conf(5)).
const CLIENT_PATIENCE: Duration = Duration::from_secs(5);

/// How a question travels.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LookupTransport {
    Udp,
    Tcp,
}

/// Asks `resolver` for both families of `name`.
pub(crate) async fn look_up(
    resolver: SocketAddr,
    name: &Name,
    over: LookupTransport,
    limit: Duration,
) -> Resolve {
    let both = async {
        tokio::try_join!(
            ask(resolver, name, RecordType::A, over),
            ask(resolver, name, RecordType::AAAA, over)
        )
    };
    match timeout(limit, both).await {
        Err(_) => Resolve::Silent,
        Ok(Err(error)) => Resolve::Failed(error.to_string()),
        Ok(Ok((ipv4, ipv6))) => {
            let failed = [&ipv4, &ipv6]
                .into_iter()
                .find(|message| message.metadata.response_code != ResponseCode::NoError);
            match failed {
                Some(message) => Resolve::Code(code_name(message.metadata.response_code)),
                None => Resolve::Addresses(addresses(&ipv4).chain(addresses(&ipv6)).collect()),
            }
        }
    }
}

/// The addresses that the resolver at `resolver` gives for `name`, within the time that clients wait.
pub async fn resolve(resolver: SocketAddr, name: &Name) -> Resolve {
    look_up(resolver, name, LookupTransport::Udp, CLIENT_PATIENCE).await
}

/// The system's own look-up (`getaddrinfo`).
pub(crate) async fn ask_system(name: &Name, limit: Duration) -> SystemLookup {
    match timeout(limit, lookup_host((name.as_str(), 443))).await {
        Err(_) => SystemLookup::Silent,
        Ok(Err(error)) => SystemLookup::NotFound(error.to_string()),
        Ok(Ok(found)) => {
            let mut found: Vec<IpAddr> = found.map(|at| at.ip()).collect();
            found.sort_unstable();
            found.dedup();
            SystemLookup::Addresses(found)
        }
    }
}

/// What each of the system's name servers says, all asked at once.
pub(crate) async fn ask_nameservers(
    servers: &[SocketAddr],
    name: &Name,
    limit: Duration,
) -> Vec<NameserverResult> {
    let said = servers.iter().map(|server| async {
        let said = match timeout(
            limit,
            ask(*server, name, RecordType::A, LookupTransport::Udp),
        )
        .await
        {
            Ok(Ok(message)) => said(&message),
            _ => LookupResult::Nothing,
        };
        NameserverResult {
            server: *server,
            said,
        }
    });
    join_all(said).await
}

fn said(message: &Message) -> LookupResult {
    let code = message.metadata.response_code;
    let found: Vec<IpAddr> = addresses(message).collect();
    match code {
        ResponseCode::NoError if !found.is_empty() => LookupResult::Addresses(found),
        ResponseCode::NoError | ResponseCode::NXDomain => {
            let soa = message.authorities.iter().find_map(|record| {
                let RData::SOA(soa) = &record.data else {
                    return None;
                };
                let zone = record.name.to_ascii().trim_end_matches('.').to_lowercase();
                Some((zone, record.ttl.min(soa.minimum)))
            });
            LookupResult::Negative {
                code: code_name(code),
                zone: soa.as_ref().map(|(zone, _)| zone.clone()),
                ttl: soa.map(|(_, ttl)| ttl),
            }
        }
        _ => LookupResult::Nothing,
    }
}

async fn ask(
    resolver: SocketAddr,
    name: &Name,
    kind: RecordType,
    over: LookupTransport,
) -> io::Result<Message> {
    let mut owner = WireName::from_ascii(name.as_str()).map_err(io::Error::other)?;
    owner.set_fqdn(true);
    let mut query = Message::query();
    query.metadata.recursion_desired = true;
    query.add_query(Query::query(owner, kind));
    let (code, content) = CHECK_MARK;
    let mut edns = Edns::new();
    edns.options_mut()
        .insert(EdnsOption::Unknown(code, content.to_vec()));
    query.set_edns(edns);
    let octets = query.to_vec().map_err(io::Error::other)?;
    match over {
        LookupTransport::Udp => over_udp(resolver, &octets, query.metadata.id).await,
        LookupTransport::Tcp => over_tcp(resolver, &octets).await,
    }
}

async fn over_udp(resolver: SocketAddr, query: &[u8], id: u16) -> io::Result<Message> {
    let local: IpAddr = match resolver {
        SocketAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
        SocketAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
    };
    let socket = UdpSocket::bind((local, 0)).await?;
    socket.connect(resolver).await?;
    socket.send(query).await?;
    let mut buffer = [0; 1500];
    loop {
        let length = socket.recv(&mut buffer).await?;
        match Message::from_vec(&buffer[..length]) {
            Ok(answer) if answer.metadata.id == id => return Ok(answer),
            // Not the answer to this question: it is still to come, or the limit ends the wait.
            _ => {}
        }
    }
}

/// A message over TCP has its length before it (RFC 1035 §4.2.2).
async fn over_tcp(resolver: SocketAddr, query: &[u8]) -> io::Result<Message> {
    let mut stream = TcpStream::connect(resolver).await?;
    let length = u16::try_from(query.len()).map_err(io::Error::other)?;
    stream
        .write_all(&[&length.to_be_bytes(), query].concat())
        .await?;
    let mut answer = vec![0; usize::from(stream.read_u16().await?)];
    stream.read_exact(&mut answer).await?;
    Message::from_vec(&answer).map_err(io::Error::other)
}

fn addresses(message: &Message) -> impl Iterator<Item = IpAddr> + '_ {
    message
        .answers
        .iter()
        .filter_map(|record| match &record.data {
            RData::A(ip) => Some(IpAddr::V4(ip.0)),
            RData::AAAA(ip) => Some(IpAddr::V6(ip.0)),
            _ => None,
        })
}

/// The code's name in the IANA registry of DNS RCODEs.
fn code_name(code: ResponseCode) -> String {
    match code {
        ResponseCode::FormErr => "FORMERR".to_owned(),
        ResponseCode::ServFail => "SERVFAIL".to_owned(),
        ResponseCode::NXDomain => "NXDOMAIN".to_owned(),
        ResponseCode::NotImp => "NOTIMP".to_owned(),
        ResponseCode::Refused => "REFUSED".to_owned(),
        other => other.to_str().to_owned(),
    }
}
