//! Handing runs over to the same process once it has executed its program again: in a message on a
//! socket, since descriptors in a message are owned by nobody else meanwhile.

use std::io::{self, IoSlice, IoSliceMut};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::net::UnixDatagram;

use rustix::net::{
    RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, SendAncillaryBuffer,
    SendAncillaryMessage, SendFlags, recvmsg, sendmsg,
};

use crate::runner::HandedOver;

/// Descriptors in one message (unix(7)).
const MOST_DESCRIPTORS: usize = 253;
/// Bytes of the message.
const LARGEST: usize = 128 * 1024;

/// A socket that has `runs` in it; `None` when there are none. What does not fit is left out.
///
/// # Errors
/// When the system does not take the message.
pub fn pack(runs: &[HandedOver]) -> io::Result<Option<OwnedFd>> {
    let mut about: Vec<(&str, usize)> = Vec::new();
    let mut descriptors: Vec<BorrowedFd<'_>> = Vec::new();
    for HandedOver {
        about: text,
        sources,
    } in runs
    {
        if descriptors.len() + sources.len() <= MOST_DESCRIPTORS {
            about.push((text, sources.len()));
            descriptors.extend(sources.iter().map(AsFd::as_fd));
        }
    }
    if about.is_empty() {
        return Ok(None);
    }
    let message = serde_json::to_vec(&about)?;
    let (ours, theirs) = UnixDatagram::pair()?;
    let mut space = vec![MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MOST_DESCRIPTORS))];
    let mut ancillary = SendAncillaryBuffer::new(&mut space);
    if !descriptors.is_empty() {
        ancillary.push(SendAncillaryMessage::ScmRights(&descriptors));
    }
    sendmsg(
        &ours,
        &[IoSlice::new(&message)],
        &mut ancillary,
        SendFlags::empty(),
    )?;
    Ok(Some(theirs.into()))
}

/// The runs in a socket that [`pack`] gave.
///
/// # Errors
/// When there is no message in it, or another one.
pub fn unpack(socket: &UnixDatagram) -> io::Result<Vec<HandedOver>> {
    socket.set_nonblocking(true)?;
    let mut message = vec![0; LARGEST];
    let mut space = vec![MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(MOST_DESCRIPTORS))];
    let mut ancillary = RecvAncillaryBuffer::new(&mut space);
    let received = recvmsg(
        socket,
        &mut [IoSliceMut::new(&mut message)],
        &mut ancillary,
        RecvFlags::CMSG_CLOEXEC,
    )?;
    let mut descriptors: Vec<OwnedFd> = Vec::new();
    for part in ancillary.drain() {
        if let RecvAncillaryMessage::ScmRights(passed) = part {
            descriptors.extend(passed);
        }
    }
    let about: Vec<(String, usize)> = serde_json::from_slice(&message[..received.bytes])?;
    let mut descriptors = descriptors.into_iter();
    let runs = about.into_iter().map(|(about, count)| HandedOver {
        about,
        sources: descriptors.by_ref().take(count).collect(),
    });
    Ok(runs.collect())
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};

    use super::*;

    #[test]
    fn what_is_packed_is_unpacked() {
        let (reader, mut writer) = io::pipe().unwrap();
        let runs = ["huts", "shop"].map(|about| HandedOver {
            about: about.to_owned(),
            sources: Vec::new(),
        });
        let [mut huts, shop] = runs;
        huts.sources.push(reader.into());
        let socket = pack(&[huts, shop]).unwrap().unwrap();
        let mut runs = unpack(&UnixDatagram::from(socket)).unwrap();
        assert_eq!(runs[1].about, "shop");
        writer.write_all(b"it goes on").unwrap();
        drop(writer);
        let mut text = String::new();
        let mut reader = io::PipeReader::from(runs[0].sources.remove(0));
        reader.read_to_string(&mut text).unwrap();
        assert_eq!(text, "it goes on");
        assert!(pack(&[]).unwrap().is_none());
    }
}
