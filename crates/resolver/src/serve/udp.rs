use std::array;
use std::io::{self, IoSlice, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, SocketAddrV4, SocketAddrV6, UdpSocket};
use std::os::fd::AsRawFd;
use std::pin::Pin;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use bentlane_dns::Transport;
use bentlane_supervisor::Stop;
use nix::errno::Errno;
use nix::sys::socket::{MsgFlags, MultiHeaders, SockaddrStorage, recvmmsg, sendmmsg};
use rustix::net::{Shutdown, shutdown};
use tracing::{debug, warn};

use super::{AnswerSource, NextStep};

/// Length in bytes of the longest query that is read; longer ones are cut, and so malformed.
const LONGEST_QUERY: usize = 4096;
/// Queries that are taken with one call of the system at most, and answered with one.
const AT_ONCE: usize = 16;

/// What becomes of a query that is asked upstream.
pub(crate) type Query = Pin<Box<dyn Future<Output = ()> + Send>>;

/// Answers queries until `stop`, on a thread that does nothing else: waiting in the system's
/// own call for the next query costs half of what an event loop does, and those that came in the
/// meantime are taken with it. It has to be [woken](wake) to see that it should stop; a time limit
/// would cost each query a timer. What has to be asked for upstream goes on where `spawn` puts it.
pub(crate) fn serve(
    socket: &Arc<UdpSocket>,
    view: &AnswerSource,
    spawn: &dyn Fn(Query),
    stop: &Stop,
) {
    let mut buffers = Box::new([[0; LONGEST_QUERY]; AT_ONCE]);
    let mut headers = MultiHeaders::preallocate(AT_ONCE, None);
    let mut answers = AnswerBatch::new();
    let mut faults = ErrorBackoff::default();
    while !stop.is_set() {
        let mut rooms = buffers.each_mut().map(|buffer| [IoSliceMut::new(buffer)]);
        let queries = match recvmmsg(
            socket.as_raw_fd(),
            &mut headers,
            rooms.iter_mut(),
            MsgFlags::MSG_WAITFORONE,
            None,
        ) {
            Ok(queries) => queries,
            Err(Errno::EINTR) => continue,
            Err(cause) => {
                if faults.is_first() {
                    warn!(%cause, "cannot read DNS queries from a socket; trying again");
                }
                pause(faults.next_pause());
                continue;
            }
        };
        faults = ErrorBackoff::default();
        for query in queries {
            let Some(peer) = query.address.as_ref().and_then(address) else {
                continue;
            };
            let octets = query.iovs().next().unwrap_or_default();
            match view.answer(
                octets,
                peer,
                Transport::Udp,
                answers.next_for(query.address),
            ) {
                NextStep::Send => answers.keep(),
                NextStep::Ask(errand) => {
                    let socket = Arc::clone(socket);
                    spawn(Box::pin(async move {
                        let mut answer = Vec::new();
                        errand.run(Transport::Udp, &mut answer).await;
                        send(&socket, &answer, peer);
                    }));
                }
            }
        }
        answers.send(socket);
    }
}

/// How long to wait after the first fault of a socket, and after many: twice as long each time.
const FIRST_PAUSE: Duration = Duration::from_millis(1);
const LONGEST_PAUSE: Duration = Duration::from_millis(500);

/// Errors of a socket that follow each other without a query between: a fault that stays must not
/// keep a core busy.
#[derive(Debug, Default)]
struct ErrorBackoff {
    last: Option<Duration>,
}

impl ErrorBackoff {
    fn is_first(&self) -> bool {
        self.last.is_none()
    }

    fn next_pause(&mut self) -> Duration {
        let next = self.last.map_or(FIRST_PAUSE, |last| last.saturating_mul(2));
        *self.last.insert(next.min(LONGEST_PAUSE))
    }
}

#[allow(
    clippy::disallowed_methods,
    reason = "this thread serves one socket, which has nothing to give at the moment"
)]
fn pause(time: Duration) {
    thread::sleep(time);
}

fn address(of: &SockaddrStorage) -> Option<SocketAddr> {
    let v4 = of.as_sockaddr_in().map(|at| SocketAddrV4::from(*at).into());
    v4.or_else(|| {
        of.as_sockaddr_in6()
            .map(|at| SocketAddrV6::from(*at).into())
    })
}

/// Answers that are sent together.
struct AnswerBatch {
    octets: [Vec<u8>; AT_ONCE],
    peers: [Option<SockaddrStorage>; AT_ONCE],
    count: usize,
    headers: MultiHeaders<SockaddrStorage>,
}

impl AnswerBatch {
    fn new() -> Self {
        Self {
            octets: array::from_fn(|_| Vec::new()),
            peers: [None; AT_ONCE],
            count: 0,
            headers: MultiHeaders::preallocate(AT_ONCE, None),
        }
    }

    /// Where the next answer, which goes to `peer`, is written.
    fn next_for(&mut self, peer: Option<SockaddrStorage>) -> &mut Vec<u8> {
        self.peers[self.count] = peer;
        &mut self.octets[self.count]
    }

    /// The answer that was written last is to be sent, unless it is empty.
    fn keep(&mut self) {
        self.count += usize::from(!self.octets[self.count].is_empty());
    }

    /// Sends all of them. A datagram is sent at once or not at all, so this does not block.
    fn send(&mut self, socket: &UdpSocket) {
        let mut first = 0;
        while first < self.count {
            let octets = self.octets[first..self.count].iter();
            let slices: [[IoSlice<'_>; 1]; AT_ONCE] = {
                let mut octets = octets.map(|answer| IoSlice::new(answer));
                array::from_fn(|_| [octets.next().unwrap_or(IoSlice::new(&[]))])
            };
            let sent = sendmmsg(
                socket.as_raw_fd(),
                &mut self.headers,
                slices.iter().take(self.count - first),
                &self.peers[first..self.count],
                [],
                MsgFlags::empty(),
            );
            first += match sent {
                Ok(sent) => sent.count().max(1),
                Err(cause) => {
                    debug!(%cause, "an answer could not be sent");
                    1
                }
            };
        }
        self.count = 0;
    }
}

/// Ends all waiting on `socket`, for good.
pub(crate) fn close(socket: &UdpSocket) {
    // It wakes those who wait, and then fails since the socket has no peer.
    let _ = shutdown(socket, Shutdown::Both);
}

/// Wakes the thread that waits on `socket`, so that it checks whether to stop.
pub(crate) fn wake(socket: &UdpSocket) -> io::Result<()> {
    let mut address = socket.local_addr()?;
    if address.ip().is_unspecified() {
        address.set_ip(match address {
            SocketAddr::V4(_) => IpAddr::V4(Ipv4Addr::LOCALHOST),
            SocketAddr::V6(_) => IpAddr::V6(Ipv6Addr::LOCALHOST),
        });
    }
    // Nothing at all is no query, and gets no answer.
    socket.send_to(&[], address).map(drop)
}

/// A datagram is sent at once or not at all, so this does not block.
fn send(socket: &UdpSocket, answer: &[u8], peer: SocketAddr) {
    if answer.is_empty() {
        return;
    }
    if let Err(cause) = socket.send_to(answer, peer) {
        debug!(%peer, %cause, "an answer could not be sent");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_failing_socket_is_read_with_growing_pauses() {
        let mut faults = ErrorBackoff::default();
        assert!(faults.is_first());
        let pauses: Vec<u128> = (0..12).map(|_| faults.next_pause().as_millis()).collect();
        assert_eq!(pauses, [1, 2, 4, 8, 16, 32, 64, 128, 256, 500, 500, 500]);
        assert!(!faults.is_first());
    }
}
