use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use bentlane_checks::{FromContainer, LookupResult};
use bentlane_model::Name;

use crate::{connect, lookup};

/// Looks `name` up as the network that this runs in does, by what its hosts file says or else by its
/// name servers in their order, and connects to where that leads.
pub async fn look_from_here(
    in_hosts: &[IpAddr],
    nameservers: &[SocketAddr],
    name: &Name,
    port: u16,
    limit: Duration,
) -> FromContainer {
    let mut seen = FromContainer {
        name: name.clone(),
        addresses: in_hosts.to_vec(),
        by_hosts: !in_hosts.is_empty(),
        nameservers: nameservers.to_vec(),
        refusals: Vec::new(),
        open: None,
    };
    if !seen.by_hosts {
        let said = lookup::ask_nameservers(nameservers, name, limit).await;
        let first = said.into_iter().find(|it| it.said != LookupResult::Nothing);
        if let Some(LookupResult::Addresses(found)) = first.map(|it| it.said) {
            seen.addresses = found;
        }
    }
    for ip in &seen.addresses {
        match connect::attempt((*ip, port).into(), limit).await {
            Ok(at) => {
                seen.open = Some(at);
                break;
            }
            Err(attempt) => seen.refusals.push(attempt.to_string()),
        }
    }
    seen
}
