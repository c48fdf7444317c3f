//! How many files and sockets there may be, and how many connections follow from that.

use bentlane_api_types::Capacity;
use bentlane_proxy::Limits;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use tracing::{info, warn};

/// Files and sockets for everything but the proxy's clients and their targets: listeners, the API,
/// the resolver, the database, logs.
const RESERVE: u64 = 1024;
/// For a client's connection and for the one to its target.
const EACH: u64 = 2;
/// Fewer connections than a load test may need, and so worth a warning.
const FEW: usize = 1000;

/// Raises the limit of open files as far as `limits` need it and the system allows, and lowers the
/// number of connections to what fits.
pub(crate) fn make_room(limits: Limits) -> (Limits, Capacity) {
    let wanted = RESERVE + EACH * limits.connections as u64;
    let descriptors = raise(wanted);
    if descriptors >= wanted {
        let connections = limits.connections;
        let capacity = Capacity {
            connections,
            descriptors,
            wanted: None,
        };
        return (limits, capacity);
    }
    let (connections, capacity) = lowered(descriptors, wanted);
    if connections < FEW {
        warn!(
            descriptors,
            wanted,
            connections,
            "the system allows few open files, and so few connections (RLIMIT_NOFILE)"
        );
    }
    let limits = Limits {
        connections,
        ..limits
    };
    (limits, capacity)
}

/// What fits into so many descriptors.
fn lowered(descriptors: u64, wanted: u64) -> (usize, Capacity) {
    // With very few, a half for clients is still better than none.
    let for_clients = descriptors.saturating_sub(RESERVE).max(descriptors / 2);
    let connections = usize::try_from(for_clients / EACH)
        .unwrap_or(usize::MAX)
        .max(1);
    let capacity = Capacity {
        connections,
        descriptors,
        wanted: Some(wanted),
    };
    (connections, capacity)
}

/// Raises the soft limit to `wanted`, or to the hard limit; gives what it is then.
fn raise(wanted: u64) -> u64 {
    let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
    let (current, most) = (current.unwrap_or(u64::MAX), maximum.unwrap_or(u64::MAX));
    if current >= wanted {
        return current;
    }
    let next = wanted.min(most);
    if next == current {
        return current;
    }
    let limit = Rlimit {
        current: Some(next),
        maximum,
    };
    match setrlimit(Resource::Nofile, limit) {
        Ok(()) => {
            info!(from = current, to = next, "raised the limit of open files");
            next
        }
        Err(cause) => {
            warn!(%cause, "cannot raise the limit of open files");
            current
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(20_000, 9_488)]
    #[case(4_096, 1_536)]
    #[case(1_024, 256)]
    #[case(1, 1)]
    fn connections_fit_into_the_descriptors(#[case] descriptors: u64, #[case] wanted: usize) {
        let (connections, capacity) = lowered(descriptors, 21_024);
        assert_eq!(connections, wanted);
        assert_eq!(capacity.wanted, Some(21_024));
    }
}
