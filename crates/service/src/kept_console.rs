//! What a service that starts again in place keeps of its console, so that pages that are open go on: the
//! name under which it is reached, and who is signed in.

use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixDatagram;

use serde::{Deserialize, Serialize};

use crate::sign_in::KeptSession;

/// Bytes of the longest message: sessions are bounded in number and in what they have of a browser.
const LARGEST: usize = 128 * 1024;
/// How its message begins. That about apps begins otherwise.
const BEGINS: u8 = b'{';

/// The console of the process that ran before.
#[derive(Debug, PartialEq, Serialize, Deserialize)]
pub(crate) struct KeptConsole {
    /// The label of its name below `localhost`.
    pub(crate) label: String,
    /// Who is signed in.
    pub(crate) sessions: Vec<KeptSession>,
}

impl KeptConsole {
    /// A socket that has this in it, readable once, by who holds it alone.
    pub(crate) fn pack(&self) -> io::Result<OwnedFd> {
        let (ours, theirs) = UnixDatagram::pair()?;
        ours.send(&serde_json::to_vec(self)?)?;
        Ok(theirs.into())
    }

    /// What is in a socket that [`KeptConsole::pack`] gave; `None`, and the socket as it was, when it is
    /// another one.
    pub(crate) fn unpack(socket: &UnixDatagram) -> Option<Self> {
        socket.set_nonblocking(true).ok()?;
        let mut first = [0; 1];
        let peek = rustix::net::RecvFlags::PEEK;
        rustix::net::recv(socket, &mut first, peek).ok()?;
        if first != [BEGINS] {
            return None;
        }
        let mut message = vec![0; LARGEST];
        let length = socket.recv(&mut message).ok()?;
        serde_json::from_slice(message.get(..length)?).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_comes_out_as_it_went_in_and_another_message_is_left_alone() {
        let kept = KeptConsole {
            label: "abc".to_owned(),
            sessions: Vec::new(),
        };
        let socket = UnixDatagram::from(kept.pack().unwrap());
        assert_eq!(KeptConsole::unpack(&socket), Some(kept));
        assert_eq!(KeptConsole::unpack(&socket), None, "it is read once");

        let (ours, theirs) = UnixDatagram::pair().unwrap();
        ours.send(b"[1]").unwrap();
        assert_eq!(KeptConsole::unpack(&theirs), None);
        let mut left = [0; 8];
        assert_eq!(theirs.recv(&mut left).unwrap(), 3);
    }
}
