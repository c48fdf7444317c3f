//! Presentation format (RFC 1035 §5.1): the words and entries of which records are written as text.

use std::fmt;

/// What is wrong with a file, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {reason}")]
pub struct ZoneFileError {
    /// The line, from 1.
    pub line: usize,
    /// What is wrong there.
    pub reason: String,
}

/// One entry of a file: a record or a directive, over as many lines as its parentheses span.
#[derive(Debug)]
pub struct Entry {
    /// The line on which it begins, from 1.
    pub line: usize,
    /// Whether it begins with a blank: then its owner is that of the entry before.
    pub indented: bool,
    /// Its words, quotes and escapes resolved.
    pub words: Vec<Word>,
}

/// Splits text into entries, without regard to what they mean.
///
/// # Errors
/// At a quote or parenthesis without its partner, and an escape that is none.
pub fn entries(text: &str) -> Result<Vec<Entry>, ZoneFileError> {
    let mut entries = Vec::new();
    let mut open: Option<Entry> = None;
    let mut depth = 0_usize;
    for (index, line) in text.lines().enumerate() {
        let number = index.saturating_add(1);
        let error = |reason: &str| ZoneFileError {
            line: number,
            reason: reason.to_owned(),
        };
        let entry = open.get_or_insert_with(|| Entry {
            line: number,
            indented: line.starts_with([' ', '\t']),
            words: Vec::new(),
        });
        let mut octets = line.bytes().peekable();
        while let Some(octet) = octets.next() {
            match octet {
                b';' => break,
                b' ' | b'\t' | b'\r' => {}
                b'(' => depth = depth.saturating_add(1),
                b')' => {
                    depth = depth
                        .checked_sub(1)
                        .ok_or_else(|| error("a parenthesis is closed that was not opened"))?;
                }
                b'"' => {
                    let mut word = Vec::new();
                    loop {
                        match octets.next() {
                            Some(b'"') => break,
                            Some(b'\\') => word.push(escaped(&mut octets).ok_or_else(|| {
                                error("`\\` escapes one character, or a number up to 255")
                            })?),
                            Some(octet) => word.push(octet),
                            None => return Err(error("a quote is not closed")),
                        }
                    }
                    entry.words.push(Word(word));
                }
                first => {
                    let mut word = Vec::new();
                    let mut next = Some(first);
                    while let Some(octet) = next {
                        word.push(match octet {
                            b'\\' => escaped(&mut octets).ok_or_else(|| {
                                error("`\\` escapes one character, or a number up to 255")
                            })?,
                            octet => octet,
                        });
                        next = octets.next_if(|octet| !b" \t\r();\"".contains(octet));
                    }
                    entry.words.push(Word(word));
                }
            }
        }
        if depth == 0 {
            entries.extend(open.take().filter(|entry| !entry.words.is_empty()));
        }
    }
    match open {
        Some(entry) => Err(ZoneFileError {
            line: entry.line,
            reason: "a parenthesis is not closed".to_owned(),
        }),
        None => Ok(entries),
    }
}

/// The octet that an escape stands for: `\DDD`, or the character itself.
fn escaped(octets: &mut impl Iterator<Item = u8>) -> Option<u8> {
    let first = octets.next()?;
    if !first.is_ascii_digit() {
        return Some(first);
    }
    let digits = [first, octets.next()?, octets.next()?];
    std::str::from_utf8(&digits).ok()?.parse().ok()
}

/// The words of one record's data.
///
/// # Errors
/// When the text is not exactly one entry.
pub fn words(data: &str) -> Result<Vec<Word>, String> {
    let entries = entries(data).map_err(|error| error.reason)?;
    match <[Entry; 1]>::try_from(entries) {
        Ok([entry]) => Ok(entry.words),
        Err(_) => Err("the data is empty, or more than one record's".to_owned()),
    }
}

/// A word of a master file: octets, with quotes and escapes resolved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Word(pub Vec<u8>);

impl Word {
    /// The word as text, when it is.
    #[must_use]
    pub fn as_str(&self) -> Option<&str> {
        std::str::from_utf8(&self.0).ok()
    }

    /// The word in quotes, with escapes where they are needed (RFC 1035 §5.1).
    #[must_use]
    pub fn quoted(&self) -> String {
        let mut text = String::from("\"");
        for octet in &self.0 {
            match octet {
                b'"' | b'\\' => {
                    text.push('\\');
                    text.push(char::from(*octet));
                }
                b' '..=b'~' => text.push(char::from(*octet)),
                _ => text.push_str(&format!("\\{octet:03}")),
            }
        }
        text.push('"');
        text
    }
}

impl fmt::Display for Word {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&String::from_utf8_lossy(&self.0))
    }
}
