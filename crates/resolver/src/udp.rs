use std::io;
use std::net::SocketAddr;
use std::sync::Arc;

use bentlane_core::dns::Transport;
use tokio::net::UdpSocket;
use tokio_util::sync::CancellationToken;
use tracing::debug;

use crate::serve::{Next, View};

/// Queries answered before other tasks of the thread get their turn.
const TURN: usize = 64;
/// Octets of the longest query that is read; what is longer is cut, and so malformed.
const LONGEST_QUERY: usize = 4096;

pub(crate) async fn serve(socket: UdpSocket, view: View, shutdown: CancellationToken) {
    let socket = Arc::new(socket);
    let mut buffer = vec![0; LONGEST_QUERY];
    let mut answer = Vec::new();
    let mut shutdown = std::pin::pin!(shutdown.cancelled());
    loop {
        tokio::select! {
            biased;
            () = &mut shutdown => return,
            ready = socket.readable() => {
                if let Err(cause) = ready {
                    debug!(%cause, "a UDP socket is not readable");
                }
            }
        }
        let mut asked = 0;
        while asked < TURN {
            match socket.try_recv_from(&mut buffer) {
                Ok((length, peer)) => {
                    let query = buffer.get(..length).unwrap_or_default();
                    match view.answer(query, peer.ip(), Transport::Udp, &mut answer) {
                        Next::Send => send(&socket, &answer, peer).await,
                        Next::Ask(asked, forwarder) => {
                            let socket = Arc::clone(&socket);
                            tokio::spawn(async move {
                                let mut answer = Vec::new();
                                forwarder.answer(&asked, Transport::Udp, &mut answer).await;
                                send(&socket, &answer, peer).await;
                            });
                        }
                    }
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                // Left by an answer of ours to a client that is gone (ICMP port unreachable).
                Err(cause) => debug!(%cause, "a UDP socket reports an error"),
            }
            asked += 1;
        }
        if asked == TURN {
            tokio::task::yield_now().await;
        }
    }
}

async fn send(socket: &UdpSocket, answer: &[u8], peer: SocketAddr) {
    if answer.is_empty() {
        return;
    }
    let sent = match socket.try_send_to(answer, peer) {
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
            socket.send_to(answer, peer).await
        }
        sent => sent,
    };
    if let Err(cause) = sent {
        debug!(%peer, %cause, "an answer could not be sent");
    }
}
