//! What the system throws away before it waits to be read.

use std::io;
use std::net::UdpSocket;

/// Has the system drop what cannot be a query, so that a flood of it takes no room in the queue: what is
/// shorter than a header, a response, and what has a response code (RFC 1035 §4.1.1). No
/// client asks like that. An empty datagram passes: it wakes the thread that reads.
#[cfg(target_os = "linux")]
pub(crate) fn drop_garbage(socket: &UdpSocket) -> io::Result<()> {
    use socket2::{SockFilter, SockRef};

    // The instructions of bpf(4): load the length, load an octet, and conditional jumps.
    const LOAD_LENGTH: u16 = 0x80;
    const LOAD_OCTET: u16 = 0x30;
    const IF_EQUAL: u16 = 0x15;
    const IF_AT_LEAST: u16 = 0x35;
    const IF_ANY_BIT: u16 = 0x45;
    const RETURN: u16 = 0x06;
    // The datagram comes with the header of UDP.
    const UDP: u32 = 8;
    const HEADER: u32 = 12;
    const WHOLE: u32 = u32::MAX;
    // After the condition: how many instructions to skip when it holds, and when it does not.
    let program = [
        SockFilter::new(LOAD_LENGTH, 0, 0, 0),
        SockFilter::new(IF_EQUAL, 5, 0, UDP),
        SockFilter::new(IF_AT_LEAST, 0, 5, UDP + HEADER),
        SockFilter::new(LOAD_OCTET, 0, 0, UDP + 2),
        SockFilter::new(IF_ANY_BIT, 3, 0, 0x80),
        SockFilter::new(LOAD_OCTET, 0, 0, UDP + 3),
        SockFilter::new(IF_ANY_BIT, 1, 0, 0x0f),
        SockFilter::new(RETURN, 0, 0, WHOLE),
        SockFilter::new(RETURN, 0, 0, 0),
    ];
    SockRef::from(socket).attach_filter(&program)
}

#[cfg(not(target_os = "linux"))]
pub(crate) fn drop_garbage(_: &UdpSocket) -> io::Result<()> {
    Ok(())
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn only_what_may_be_a_query_waits() {
        for place in ["127.0.0.1:0", "[::1]:0"] {
            let socket = UdpSocket::bind(place).unwrap();
            drop_garbage(&socket).unwrap();
            let at = socket.local_addr().unwrap();
            let client = UdpSocket::bind((at.ip(), 0)).unwrap();
            let query = *b"\0\x07\x01\0\0\x01\0\0\0\0\0\0\0\0\x01\0\x01";
            let with = |place: usize, octet: u8| {
                let mut message = query.to_vec();
                message[place] = octet;
                message
            };
            let rows: [(Vec<u8>, bool); 8] = [
                (query.to_vec(), true),
                (Vec::new(), true),
                (query[..12].to_vec(), true),
                (query[..11].to_vec(), false),
                (vec![0], false),
                (with(2, 0x81), false),
                (with(3, 0x03), false),
                // Authenticated data, checking disabled.
                (with(3, 0x30), true),
            ];
            let wait = Some(Duration::from_millis(100));
            socket.set_read_timeout(wait).unwrap();
            for (message, passes) in rows {
                client.send_to(&message, at).unwrap();
                let mut read = [0; 512];
                let came = socket.recv(&mut read).ok();
                assert_eq!(came, passes.then_some(message.len()), "{message:?}");
            }
        }
    }
}
