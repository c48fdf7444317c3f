//! WebSocket frames, as far as a close frame is to go between two of them (RFC 6455 §5.2).

/// Bytes of the longest header: two, a length of eight, and a mask of four.
const LONGEST_HEADER: usize = 14;
/// FIN and the opcode of a close frame.
const CLOSE: u8 = 0x88;
const MASKED: u8 = 0x80;

/// Where a stream of frames is: between two of them, or inside one.
#[derive(Debug, Default)]
pub(crate) struct FrameBoundary {
    header: [u8; LONGEST_HEADER],
    /// Bytes of the header that have come.
    seen: usize,
    /// Bytes of the payload that are still to come.
    payload: u64,
}

impl FrameBoundary {
    /// Goes on by these bytes of the stream.
    pub(crate) fn pass(&mut self, mut octets: &[u8]) {
        while !octets.is_empty() {
            if self.payload > 0 {
                let passed = usize::try_from(self.payload).unwrap_or(usize::MAX);
                let passed = passed.min(octets.len());
                self.payload -= passed as u64;
                octets = octets.get(passed..).unwrap_or_default();
                continue;
            }
            let Some((first, rest)) = octets.split_first() else {
                return;
            };
            octets = rest;
            if let Some(place) = self.header.get_mut(self.seen) {
                *place = *first;
            }
            self.seen += 1;
            if self.seen >= 2 && self.seen == self.header_length() {
                self.payload = self.payload_length();
                self.seen = 0;
            }
        }
    }

    /// Whether the next byte begins a frame.
    pub(crate) fn is_between(&self) -> bool {
        self.seen == 0 && self.payload == 0
    }

    fn header_length(&self) -> usize {
        let [_, second, ..] = self.header;
        let mask = if second & MASKED == 0 { 0 } else { 4 };
        mask + match second & !MASKED {
            126 => 4,
            127 => 10,
            _ => 2,
        }
    }

    fn payload_length(&self) -> u64 {
        let [_, second, a, b, c, d, e, f, g, h, ..] = self.header;
        match second & !MASKED {
            126 => u16::from_be_bytes([a, b]).into(),
            127 => u64::from_be_bytes([a, b, c, d, e, f, g, h]),
            length => length.into(),
        }
    }
}

/// A server's close frame with this code.
pub(crate) fn close_frame(code: u16) -> [u8; 4] {
    let [high, low] = code.to_be_bytes();
    [CLOSE, 2, high, low]
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    // The examples of RFC 6455 §5.7, and lengths of two and of eight bytes.
    #[case::text(b"\x81\x05Hello", 0)]
    #[case::masked(b"\x81\x85\x37\xfa\x21\x3d\x7f\x9f\x4d\x51\x58", 0)]
    #[case::empty(b"\x89\x00", 0)]
    #[case::two_bytes(b"\x82\x7e\x01\x00", 256)]
    #[case::eight_bytes(b"\x82\x7f\x00\x00\x00\x00\x00\x01\x00\x00", 65_536)]
    fn frames_end_where_their_header_says(#[case] start: &[u8], #[case] more: usize) {
        let frame = [start, &vec![b'x'; more]].concat();
        for step in [1, 3, frame.len()] {
            let mut boundary = FrameBoundary::default();
            for _ in 0..2 {
                let mut passed = 0;
                for part in frame.chunks(step) {
                    assert_eq!(boundary.is_between(), passed == 0, "after {passed}");
                    boundary.pass(part);
                    passed += part.len();
                }
            }
            assert!(boundary.is_between());
        }
    }

    #[test]
    fn a_close_frame_carries_its_code() {
        assert_eq!(close_frame(1012), [0x88, 2, 0x03, 0xf4]);
    }
}
