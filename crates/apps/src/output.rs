//! What an app printed: the last of it in memory, and more of it in files.

use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use tokio::sync::watch;
use tracing::warn;

use crate::text::{clean, plain};

/// Bytes that are kept in memory.
const IN_MEMORY: usize = 1 << 20;
/// Bytes of a file before the next one is begun; there are two.
const IN_FILE: u64 = 8 << 20;
/// Bytes of the longest line; a longer one is cut in pieces.
const LONGEST_LINE: usize = 16 * 1024;
/// Bytes that wait for a write at most.
const WRITE_AT: usize = 64 * 1024;
/// Bytes of a former service's output that are read back.
const READ_BACK: u64 = 256 * 1024;
/// The stream of what we say ourselves.
const OURS: &str = "bentlane";
/// What a line takes beside its text.
const PER_LINE: usize = 64;

/// A line of output.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutputLine {
    /// Its number: each line has a higher one.
    pub number: u64,
    /// When it was printed.
    pub at: OffsetDateTime,
    /// Where: `terminal`, `stdout`, `stderr`, a log file's name, or `bentlane` for what we say.
    pub stream: Arc<str>,
    /// Its text, with colours.
    pub text: Box<str>,
}

/// What an app printed. Cloning gives another handle to the same.
#[derive(Clone, Debug)]
pub(crate) struct Output(Arc<Shared>);

#[derive(Debug)]
struct Shared {
    kept: Mutex<Kept>,
    /// The number of the last line.
    last: watch::Sender<u64>,
}

#[derive(Debug)]
struct Kept {
    folder: PathBuf,
    lines: VecDeque<OutputLine>,
    octets: usize,
    next: u64,
    file: Option<File>,
    written: u64,
    pending: Vec<u8>,
    /// Whether a write failed, which is said once.
    failed: bool,
    was_read_back: bool,
}

/// Takes what comes from one place apart into lines.
#[derive(Debug)]
pub(crate) struct Lines {
    output: Output,
    stream: Arc<str>,
    rest: Vec<u8>,
}

impl OutputLine {
    /// Its text without colours; what we say ourselves is marked.
    #[must_use]
    pub fn shown_plain(&self) -> String {
        match &*self.stream {
            OURS => format!("— {}", self.text),
            "terminal" | "stdout" | "stderr" => plain(&self.text),
            file => format!("{file}: {}", plain(&self.text)),
        }
    }
}

impl Output {
    /// What is printed from now on, kept in files of `folder`.
    pub(crate) fn new(folder: PathBuf) -> Self {
        Self(Arc::new(Shared {
            kept: Mutex::new(Kept {
                folder,
                lines: VecDeque::new(),
                octets: 0,
                next: 1,
                file: None,
                written: 0,
                pending: Vec::new(),
                failed: false,
                was_read_back: false,
            }),
            last: watch::Sender::new(0),
        }))
    }

    fn kept(&self) -> MutexGuard<'_, Kept> {
        let mut kept = self.0.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if !kept.was_read_back {
            kept.was_read_back = true;
            kept.read_back();
        }
        kept
    }

    pub(crate) fn from(&self, stream: &str) -> Lines {
        Lines {
            output: self.clone(),
            stream: stream.into(),
            rest: Vec::new(),
        }
    }

    /// Adds a line of our own.
    pub(crate) fn say(&self, text: &str) {
        let mut kept = self.kept();
        kept.push(&Moment::now(&OURS.into()), text.into());
        kept.flush();
        self.0.last.send_replace(kept.next - 1);
    }

    /// The last lines behind the one with the number `after`, `most` at most, and how the last line of
    /// all is numbered.
    pub(crate) fn lines(&self, after: u64, most: usize) -> (Vec<OutputLine>, u64) {
        let kept = self.kept();
        let skipped = kept.lines.partition_point(|line| line.number <= after);
        let from = skipped.max(kept.lines.len().saturating_sub(most));
        let lines = kept.lines.range(from..).cloned().collect();
        (lines, kept.next - 1)
    }

    /// The last lines of the app itself, without colours.
    pub(crate) fn last_plain(&self, most: usize, since: Option<OffsetDateTime>) -> Vec<String> {
        let kept = self.kept();
        let is_new = |line: &&OutputLine| since.is_none_or(|since| line.at >= since);
        let lines = kept.lines.iter().rev().take_while(is_new);
        let shown = |line: &OutputLine| line.shown_plain();
        let mut lines: Vec<String> = lines.take(most).map(shown).collect();
        lines.reverse();
        lines
    }

    /// Waits until there is a line behind the one with this number.
    pub(crate) async fn wait_beyond(&self, number: u64) {
        let mut last = self.0.last.subscribe();
        // The sender lives as long as `self`.
        let _ = last.wait_for(|last| *last > number).await;
    }

    /// Has everything written to the file.
    pub(crate) fn flush(&self) {
        self.kept().flush();
    }
}

impl Lines {
    /// Adds what was read.
    pub(crate) fn push(&mut self, mut octets: &[u8]) {
        let now = Moment::now(&self.stream);
        let mut kept = self.output.kept();
        while let Some(end) = memchr::memchr(b'\n', octets) {
            let (line, rest) = octets.split_at(end);
            octets = &rest[1..];
            if self.rest.is_empty() {
                kept.push_in_pieces(&now, line);
            } else {
                self.rest.extend_from_slice(line);
                kept.push_in_pieces(&now, &std::mem::take(&mut self.rest));
            }
        }
        self.rest.extend_from_slice(octets);
        if self.rest.len() > LONGEST_LINE {
            let rest = std::mem::take(&mut self.rest);
            let whole = rest.len() - rest.len() % LONGEST_LINE;
            kept.push_in_pieces(&now, &rest[..whole]);
            self.rest.extend_from_slice(&rest[whole..]);
        }
        let last = kept.next - 1;
        drop(kept);
        self.output.0.last.send_if_modified(|known| {
            let is_new = *known != last;
            *known = last;
            is_new
        });
    }

    /// Ends the line that was begun, such as a question, when nothing follows it for a while.
    pub(crate) fn end_line(&mut self) {
        if !self.rest.is_empty() {
            self.push(b"\n");
        }
        self.output.flush();
    }

    /// Has everything written to the file.
    pub(crate) fn flush(&self) {
        self.output.flush();
    }

    /// Whether a line was begun.
    pub(crate) fn has_begun(&self) -> bool {
        !self.rest.is_empty()
    }
}

/// When and where some lines came, which are read at once.
struct Moment {
    at: OffsetDateTime,
    stream: Arc<str>,
    /// What stands before each line in the file: time and place.
    written: String,
}

impl Moment {
    fn now(stream: &Arc<str>) -> Self {
        let at = OffsetDateTime::now_utc();
        let written = at.format(&Rfc3339).unwrap_or_default();
        Self {
            at,
            stream: Arc::clone(stream),
            written: format!("{written} {} ", stream.replace(' ', "_")),
        }
    }
}

impl Kept {
    fn push_in_pieces(&mut self, now: &Moment, line: &[u8]) {
        if line.len() <= LONGEST_LINE {
            return self.push(now, clean(line).into());
        }
        for piece in line.chunks(LONGEST_LINE) {
            self.push(now, clean(piece).into());
        }
    }

    fn push(&mut self, now: &Moment, text: Box<str>) {
        self.pending.extend_from_slice(now.written.as_bytes());
        self.pending.extend_from_slice(text.as_bytes());
        self.pending.push(b'\n');
        let line = OutputLine {
            number: self.next,
            at: now.at,
            stream: Arc::clone(&now.stream),
            text,
        };
        self.next += 1;
        if self.pending.len() >= WRITE_AT {
            self.flush();
        }
        self.keep(line);
    }

    fn keep(&mut self, line: OutputLine) {
        self.octets += line.text.len() + PER_LINE;
        self.lines.push_back(line);
        while self.octets > IN_MEMORY
            && let Some(old) = self.lines.pop_front()
        {
            self.octets -= old.text.len() + PER_LINE;
        }
    }

    fn flush(&mut self) {
        if self.pending.is_empty() {
            return;
        }
        let pending = std::mem::take(&mut self.pending);
        match self.write(&pending) {
            Ok(()) => self.failed = false,
            Err(_) if self.failed => {}
            Err(error) => {
                self.failed = true;
                let folder = self.folder.display();
                warn!(%error, %folder, "cannot write what an app prints; the last of it is in memory");
            }
        }
        // Kept for the next lines, unless one was very long.
        self.pending = pending;
        self.pending.clear();
        self.pending.shrink_to(2 * WRITE_AT);
    }

    fn write(&mut self, octets: &[u8]) -> io::Result<()> {
        if self.written > IN_FILE {
            self.file = None;
            fs::rename(file(&self.folder), older(&self.folder))?;
        }
        let open = match &mut self.file {
            Some(open) => open,
            none => {
                fs::create_dir_all(&self.folder)?;
                let mut options = OpenOptions::new();
                options.append(true).create(true).mode(0o600);
                let open = options.open(file(&self.folder))?;
                self.written = open.metadata()?.len();
                none.insert(open)
            }
        };
        open.write_all(octets)?;
        self.written += octets.len() as u64;
        Ok(())
    }

    /// Reads the end of what a former service wrote.
    fn read_back(&mut self) {
        let Ok(octets) = tail(&file(&self.folder), READ_BACK) else {
            return;
        };
        let text = String::from_utf8_lossy(&octets);
        for line in text.lines().filter_map(read_line) {
            let line = OutputLine {
                number: self.next,
                ..line
            };
            self.next += 1;
            self.keep(line);
        }
    }
}

fn file(folder: &Path) -> PathBuf {
    folder.join("output.log")
}

fn older(folder: &Path) -> PathBuf {
    folder.join("output.1.log")
}

/// The last bytes of a file, from the beginning of a line on.
fn tail(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    let mut file = File::open(path)?;
    let length = file.metadata()?.len();
    let from = length.saturating_sub(most);
    file.seek(SeekFrom::Start(from))?;
    let mut octets = Vec::new();
    file.take(most).read_to_end(&mut octets)?;
    if from > 0 {
        let end = memchr::memchr(b'\n', &octets).map_or(octets.len(), |at| at + 1);
        octets.drain(..end);
    }
    Ok(octets)
}

fn read_line(line: &str) -> Option<OutputLine> {
    let (at, rest) = line.split_once(' ')?;
    let (stream, text) = rest.split_once(' ')?;
    Some(OutputLine {
        number: 0,
        at: OffsetDateTime::parse(at, &Rfc3339).ok()?,
        stream: stream.into(),
        text: text.into(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(output: &Output) -> Vec<String> {
        let (lines, _) = output.lines(0, usize::MAX);
        lines.iter().map(|line| line.text.to_string()).collect()
    }

    #[test]
    fn lines_are_put_together_kept_and_read_back() {
        let folder = tempfile::tempdir().unwrap();
        let output = Output::new(folder.path().join("huts"));
        let mut lines = output.from("terminal");
        lines.push(b"one\ntw");
        lines.push(b"o\r\nthe password: ");
        assert!(lines.has_begun());
        lines.end_line();
        output.say("it ended");
        let all = ["one", "two", "the password: ", "it ended"];
        assert_eq!(texts(&output), all);
        assert_eq!(output.lines(2, 10).0.len(), 2);
        assert_eq!(output.lines(0, 1).0[0].number, 4);

        let later = Output::new(folder.path().join("huts"));
        assert_eq!(texts(&later), all);
        assert_eq!(&*later.lines(0, 1).0[0].stream, "bentlane");
        later.from("stdout").push(b"more\n");
        assert_eq!(later.lines(4, 10).0[0].number, 5);
    }

    #[test]
    fn what_is_kept_is_bounded() {
        let folder = tempfile::tempdir().unwrap();
        let output = Output::new(folder.path().to_owned());
        let mut lines = output.from("stdout");
        // No line ends for a while.
        lines.push(&vec![b'x'; 3 * LONGEST_LINE + 5]);
        assert_eq!(texts(&output).len(), 3);
        lines.push(b"\n");
        assert_eq!(texts(&output)[3].len(), 5);
        let chunk = format!("{}\n", "a flood ".repeat(60)).repeat(400);
        for _ in 0..100 {
            lines.push(chunk.as_bytes());
        }
        lines.end_line();
        assert!(output.kept().octets <= IN_MEMORY);
        let sizes = [file(folder.path()), older(folder.path())].map(|path| {
            let most = IN_FILE + 2 * WRITE_AT as u64;
            let size = fs::metadata(path).unwrap().len();
            assert!(size <= most, "{size}");
            size
        });
        assert!(sizes[1] > IN_FILE, "{sizes:?}");
    }
}
