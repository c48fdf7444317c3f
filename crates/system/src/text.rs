//! Files of the system are bytes, which are usually UTF-8. As a text, each byte that is not part of
//! UTF-8 is one character from the end of a private plane, so that nothing is lost in either direction.

/// The character of the byte 0; those of the others follow.
const FIRST: u32 = 0x10_FF00;

/// Bytes as text.
pub(crate) fn decode(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for character in chunk.valid().chars() {
            match u32::from(character) {
                // It would be taken for a byte.
                FIRST.. => {
                    let mut buffer = [0; 4];
                    text.extend(character.encode_utf8(&mut buffer).bytes().map(stand_in));
                }
                _ => text.push(character),
            }
        }
        text.extend(chunk.invalid().iter().copied().map(stand_in));
    }
    text
}

/// The bytes of a text from [`decode`], or of any other.
pub(crate) fn encode(text: &str) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(text.len());
    for character in text.chars() {
        let byte = u32::from(character).checked_sub(FIRST);
        match byte.and_then(|byte| u8::try_from(byte).ok()) {
            Some(byte) => bytes.push(byte),
            None => bytes.extend(character.encode_utf8(&mut [0; 4]).bytes()),
        }
    }
    bytes
}

fn stand_in(byte: u8) -> char {
    char::from_u32(FIRST + u32::from(byte)).unwrap_or(char::REPLACEMENT_CHARACTER)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(b"127.0.0.1 localhost\n")]
    #[case("10.0.0.1 h\u{fc}tte\n".as_bytes())]
    #[case(b"10.0.0.1 h\xfctte # Latin-1\n")]
    #[case(b"\xff\xfe\x00 \xc3")]
    #[case("\u{10ff00}\u{10ffff}\u{10feff}".as_bytes())]
    fn bytes_are_preserved(#[case] bytes: &[u8]) {
        let text = decode(bytes);
        assert_eq!(encode(&text), bytes);
        assert_eq!(text.lines().count(), 1);
    }
}
