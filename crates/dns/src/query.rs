//! A query read from its bytes, without a codec and without allocating.

use hickory_proto::rr::RecordType;

/// Length in bytes of the longest name in text form, without its final dot.
const LONGEST_NAME: usize = 253;
pub(super) const TYPE_OPT: u16 = 41;
pub(super) const CLASS_IN: u16 = 1;
pub(super) const RECURSION_DESIRED: u16 = 0x0100;
pub(super) const RECURSION_AVAILABLE: u16 = 0x0080;
pub(super) const CHECKING_DISABLED: u16 = 0x0010;
pub(super) const DNSSEC_OK: u16 = 0x8000;

/// Reads big-endian numbers and bytes from the front of a message.
pub(super) struct Reader<'a>(pub(super) &'a [u8]);

impl<'a> Reader<'a> {
    pub(super) fn octets(&mut self, count: usize) -> Option<&'a [u8]> {
        let (front, rest) = self.0.split_at_checked(count)?;
        self.0 = rest;
        Some(front)
    }

    pub(super) fn octet(&mut self) -> Option<u8> {
        self.octets(1)?.first().copied()
    }

    pub(super) fn number(&mut self) -> Option<u16> {
        let (front, rest) = self.0.split_first_chunk()?;
        self.0 = rest;
        Some(u16::from_be_bytes(*front))
    }
}

/// A name in text form and lower case, on the stack. The root is empty. An octet that no host name
/// holds becomes [`STRANGE`], so that a dot within a label is not taken for one between two.
#[derive(Debug)]
pub(super) struct Text {
    octets: [u8; LONGEST_NAME],
    length: usize,
}

impl Text {
    fn push(&mut self, octets: impl IntoIterator<Item = u8>) -> Option<()> {
        for octet in octets {
            *self.octets.get_mut(self.length)? = octet;
            self.length = self.length.checked_add(1)?;
        }
        Some(())
    }

    pub(super) fn as_str(&self) -> &str {
        // Only printable ASCII was pushed.
        std::str::from_utf8(self.octets.get(..self.length).unwrap_or_default()).unwrap_or_default()
    }
}

/// Represents a byte that no host name holds.
const STRANGE: u8 = 1;

/// A byte of a label as it is in a [`Text`].
pub(super) fn plain(octet: u8) -> u8 {
    if octet.is_ascii_alphanumeric() || matches!(octet, b'-' | b'_' | b'*') {
        octet.to_ascii_lowercase()
    } else {
        STRANGE
    }
}

/// Reads labels up to the root.
fn read_name(reader: &mut Reader<'_>) -> Option<Text> {
    let mut name = Text {
        octets: [0; LONGEST_NAME],
        length: 0,
    };
    loop {
        let length = reader.octet()?;
        match length {
            0 => return Some(name),
            1..=63 => {
                let label = reader.octets(usize::from(length))?;
                if name.length > 0 {
                    name.push([b'.'])?;
                }
                name.push(label.iter().copied().map(plain))?;
            }
            // A pointer has nothing before it to point to in a question; others are reserved.
            _ => return None,
        }
    }
}

/// What the query's OPT record says (RFC 6891 §6.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Edns {
    pub(super) payload: u16,
    pub(super) version: u8,
    pub(super) flags: u16,
    pub(super) has_options: bool,
}

/// A query with one question.
#[derive(Debug)]
pub(super) struct Query<'a> {
    pub(super) id: &'a [u8],
    pub(super) flags: u16,
    /// Name, type and class as they came.
    pub(super) question: &'a [u8],
    pub(super) name: Text,
    pub(super) kind: u16,
    pub(super) class: u16,
    pub(super) edns: Option<Edns>,
}

impl<'a> Query<'a> {
    /// Reads a message that asks one question; `None` for anything else, malformed or not.
    pub(super) fn read(message: &'a [u8]) -> Option<Self> {
        let mut reader = Reader(message);
        let id = reader.octets(2)?;
        let flags = reader.number()?;
        let counts = [reader.number()?, reader.number()?, reader.number()?];
        let additionals = reader.number()?;
        // A response, or an opcode other than QUERY (RFC 1035 §4.1.1).
        if flags & 0xf800 != 0 || counts != [1, 0, 0] || additionals > 1 {
            return None;
        }
        let questions = reader.0;
        let name = read_name(&mut reader)?;
        let (kind, class) = (reader.number()?, reader.number()?);
        let question = questions.get(..questions.len().checked_sub(reader.0.len())?)?;
        let edns = match additionals {
            0 => None,
            _ => Some(read_edns(&mut reader)?),
        };
        reader.0.is_empty().then_some(Self {
            id,
            flags,
            question,
            name,
            kind,
            class,
            edns,
        })
    }
}

/// Name and type of a question as it lies in a message, for people: the name in lower case, `.` for
/// the root, octets that no host name holds as `?`.
#[must_use]
pub fn question_in_words(question: &[u8]) -> (String, String) {
    let mut reader = Reader(question);
    let name = read_name(&mut reader).map(|name| name.as_str().replace(char::from(STRANGE), "?"));
    let name = name
        .filter(|name| !name.is_empty())
        .unwrap_or_else(|| ".".to_owned());
    let kind = RecordType::from(reader.number().unwrap_or_default());
    (name, kind.to_string())
}

fn read_edns(reader: &mut Reader<'_>) -> Option<Edns> {
    let (root, kind, payload) = (reader.octet()?, reader.number()?, reader.number()?);
    let [code, version] = reader.number()?.to_be_bytes();
    let flags = reader.number()?;
    let length = reader.number()?;
    let mut options = Reader(reader.octets(usize::from(length))?);
    while !options.0.is_empty() {
        let (_code, length) = (options.number()?, options.number()?);
        options.octets(usize::from(length))?;
    }
    (root == 0 && kind == TYPE_OPT && code == 0).then_some(Edns {
        payload,
        version,
        flags,
        has_options: length > 0,
    })
}
