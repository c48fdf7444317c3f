use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, UdpSocket};
use std::sync::Arc;

use bentlane_core::dns::Transport;
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;
use tracing::debug;

use crate::serve::{Next, View};

/// Octets of the longest query that is read; what is longer is cut, and so malformed.
const LONGEST_QUERY: usize = 4096;

/// Answers queries until `shutdown`, on a thread that does nothing else: waiting in the system's
/// own call for the next query costs half of what an event loop does. It has to be [woken](wake) to
/// see that it should stop; a time limit would cost each query a timer. What has to be asked for
/// upstream goes on in `runtime`.
pub(crate) fn serve(
    socket: &Arc<UdpSocket>,
    view: &View,
    runtime: &Handle,
    shutdown: &CancellationToken,
) {
    let mut buffer = vec![0; LONGEST_QUERY];
    let mut answer = Vec::new();
    while !shutdown.is_cancelled() {
        let (length, peer) = match socket.recv_from(&mut buffer) {
            Ok(received) => received,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(cause) => {
                debug!(%cause, "a UDP socket reports an error");
                continue;
            }
        };
        let query = buffer.get(..length).unwrap_or_default();
        match view.answer(query, peer, Transport::Udp, &mut answer) {
            Next::Send => send(socket, &answer, peer),
            Next::Ask(errand) => {
                let socket = Arc::clone(socket);
                runtime.spawn(async move {
                    let mut answer = Vec::new();
                    errand.run(Transport::Udp, &mut answer).await;
                    send(&socket, &answer, peer);
                });
            }
        }
    }
}

/// Has the thread that waits on `socket` look whether it should stop.
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

/// A datagram leaves at once or not at all, so this holds up nobody.
fn send(socket: &UdpSocket, answer: &[u8], peer: SocketAddr) {
    if answer.is_empty() {
        return;
    }
    if let Err(cause) = socket.send_to(answer, peer) {
        debug!(%peer, %cause, "an answer could not be sent");
    }
}
