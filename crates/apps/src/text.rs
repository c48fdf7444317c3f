//! What an app prints, made safe to show: colours stay, and nothing else that a terminal obeys.

const ESCAPE: u8 = 0x1b;
const BELL: u8 = 0x07;

/// The text of a line with its colours (SGR, ECMA-48 §8.3.117). Of what was written over itself by a
/// carriage return, the last stays; other control functions and characters go.
pub(crate) fn clean(line: &[u8]) -> String {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    let line = match memchr::memrchr(b'\r', line) {
        Some(at) => &line[at + 1..],
        None => line,
    };
    let mut kept = Vec::with_capacity(line.len());
    let mut rest = line;
    while let Some(at) = first_control(rest) {
        let (plain, after) = rest.split_at(at);
        kept.extend_from_slice(plain);
        rest = &after[1..];
        if after[0] == ESCAPE {
            let (function, after) = control_function(rest);
            if function.ends_with(b"m") && function.starts_with(b"[") {
                kept.push(ESCAPE);
                kept.extend_from_slice(function);
            }
            rest = after;
        }
    }
    kept.extend_from_slice(rest);
    let is_ascii = kept.is_ascii();
    match String::from_utf8(kept) {
        Ok(text) if is_ascii => text,
        Ok(text) => without_c1(text),
        Err(error) => without_c1(String::from_utf8_lossy(error.as_bytes()).into_owned()),
    }
}

/// Where the first control character is. Many at a time are looked at, as most lines have none.
fn first_control(line: &[u8]) -> Option<usize> {
    const AT_ONCE: usize = 32;
    let has_one = |chunk: &[u8]| {
        chunk
            .iter()
            .fold(false, |any, octet| any | !is_plain(*octet))
    };
    let mut chunks = line.chunks(AT_ONCE).enumerate();
    let (number, chunk) = chunks.find(|(_, chunk)| has_one(chunk))?;
    let at = chunk.iter().position(|octet| !is_plain(*octet))?;
    Some(number * AT_ONCE + at)
}

fn is_plain(octet: u8) -> bool {
    octet >= 0x20 && octet != 0x7f || octet == b'\t'
}

/// Without the control characters beyond ASCII, which some terminals obey (ECMA-48 §5.3).
fn without_c1(text: String) -> String {
    let is_c1 = |c: char| ('\u{80}'..'\u{a0}').contains(&c);
    match text.contains(is_c1) {
        true => text.replace(is_c1, "\u{fffd}"),
        false => text,
    }
}

/// Splits a control function, of which the escape character has been read, from what follows it.
fn control_function(rest: &[u8]) -> (&[u8], &[u8]) {
    let end = match rest.first() {
        // A control sequence ends with a letter or the like (§5.4).
        Some(b'[') => {
            let is_end = |octet: &u8| (0x40..=0x7e).contains(octet);
            rest.iter().skip(1).position(is_end).map(|at| at + 2)
        }
        // A control string ends with a bell, as terminals have it, or ST (§5.6).
        Some(b']' | b'P' | b'X' | b'^' | b'_') => {
            let bell = memchr::memchr(BELL, rest).map(|at| at + 1);
            let st = memchr::memmem::find(rest, b"\x1b\\").map(|at| at + 2);
            match (bell, st) {
                (Some(bell), Some(st)) => Some(bell.min(st)),
                (bell, st) => bell.or(st),
            }
        }
        // Of two or three characters, the last of which is no intermediate byte (ECMA-35 §13).
        Some(_) => {
            let is_end = |octet: &u8| !(0x20..=0x2f).contains(octet);
            rest.iter().position(is_end).map(|at| at + 1)
        }
        None => None,
    };
    rest.split_at(end.unwrap_or(rest.len()))
}

/// The same without colours.
#[must_use]
pub fn plain(text: &str) -> String {
    let mut kept = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        kept.push_str(&rest[..at]);
        let sequence = &rest[at..];
        let end = sequence.find('m').map_or(sequence.len(), |end| end + 1);
        rest = &sequence[end..];
    }
    kept.push_str(rest);
    kept.replace('\t', "    ")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(b"ready\r", "ready", "ready")]
    #[case(b"10%\r20%\r100%", "100%", "100%")]
    #[case(b"\x1b[32mok\x1b[0m", "\x1b[32mok\x1b[0m", "ok")]
    #[case(b"\x1b[2J\x1b[H\x1b[3Jstart", "start", "start")]
    #[case(
        b"\x1b]0;title\x07x\x1b]8;;http://a\x1b\\link\x1b]8;;\x1b\\",
        "xlink",
        "xlink"
    )]
    #[case(b"\x1b(B\x1bcx", "x", "x")]
    #[case(b"\x1bPq#0;2\x1b\\x", "x", "x")]
    #[case(b"a\x08\x00b\tc", "ab\tc", "ab    c")]
    #[case(b"\xff\xc2\x9b2Jx", "\u{fffd}\u{fffd}2Jx", "\u{fffd}\u{fffd}2Jx")]
    #[case(b"cut off \x1b[3", "cut off ", "cut off ")]
    #[case(b"cut off \x1b]0;", "cut off ", "cut off ")]
    #[case("Hütte ✓".as_bytes(), "Hütte ✓", "Hütte ✓")]
    #[case(
        b"0123456789012345678901234567890123456789\x1b[1m0\x08",
        "0123456789012345678901234567890123456789\x1b[1m0",
        "01234567890123456789012345678901234567890"
    )]
    fn colours_stay_and_nothing_else(
        #[case] line: &[u8],
        #[case] kept: &str,
        #[case] without: &str,
    ) {
        let text = clean(line);
        assert_eq!(text, kept);
        assert_eq!(plain(&text), without);
    }
}
