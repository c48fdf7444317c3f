use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use bentlane_core::Name;
use bentlane_core::check::Resolve;
use bentlane_core::dns::CHECK_MARK;
use hickory_proto::op::{Edns, Message, Query, ResponseCode};
use hickory_proto::rr::rdata::opt::EdnsOption;
use hickory_proto::rr::{Name as WireName, RData, RecordType};
use tokio::net::UdpSocket;
use tokio::time::timeout;

/// Asks `resolver` over UDP for both families of `name`.
pub(crate) async fn look_up(resolver: SocketAddr, name: &Name, limit: Duration) -> Resolve {
    let both = async {
        tokio::try_join!(
            ask(resolver, name, RecordType::A),
            ask(resolver, name, RecordType::AAAA)
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

async fn ask(resolver: SocketAddr, name: &Name, kind: RecordType) -> io::Result<Message> {
    let local: IpAddr = match resolver {
        SocketAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
        SocketAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
    };
    let socket = UdpSocket::bind((local, 0)).await?;
    socket.connect(resolver).await?;
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
    socket
        .send(&query.to_vec().map_err(io::Error::other)?)
        .await?;
    let mut buffer = [0; 1500];
    loop {
        let length = socket.recv(&mut buffer).await?;
        match Message::from_vec(&buffer[..length]) {
            Ok(answer) if answer.metadata.id == query.metadata.id => return Ok(answer),
            // Not the answer to this question: it is still to come, or the limit ends the wait.
            _ => {}
        }
    }
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
