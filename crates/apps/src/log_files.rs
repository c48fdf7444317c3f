//! The log files of an app, shown with its output.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt, OpenOptionsExt};
use std::path::{Component, Path, PathBuf};
use std::time::Duration;

use globset::{Glob, GlobMatcher};
use rustix::fs::OFlags;
use tokio_util::task::AbortOnDropHandle;

use crate::output::{Lines, Output};

/// O_NONBLOCK.
const NO_WAIT: i32 = OFlags::NONBLOCK.bits().cast_signed();
/// How often files are looked at.
const LOOK: Duration = Duration::from_millis(500);
/// Files that are followed at most.
const MOST_FILES: usize = 64;
/// Bytes by which a file is recognized as the one that was read.
const COMPARED: usize = 64;
/// Bytes that are read of a file at once.
const AT_ONCE: u64 = 1 << 20;

/// Follows log files until it is dropped.
#[derive(Debug)]
pub(crate) struct LogFiles {
    _task: AbortOnDropHandle<()>,
}

/// A file that is followed.
struct Followed {
    file: File,
    inode: u64,
    read: u64,
    /// The last bytes that were read.
    last: Vec<u8>,
    lines: Lines,
}

/// A pattern of files: the folder that it begins with, and what its files match.
struct Files {
    folder: PathBuf,
    matcher: GlobMatcher,
}

impl LogFiles {
    /// Follows the files that match `globs` below `folder` from their present end on.
    pub(crate) fn follow(folder: &Path, globs: &[String], output: Output) -> Self {
        let patterns: Vec<Files> = globs
            .iter()
            .filter_map(|glob| files(folder, glob))
            .collect();
        let base = folder.to_owned();
        let work = async move {
            let mut followed: HashMap<PathBuf, Followed> = HashMap::new();
            let mut is_first = true;
            loop {
                let look = tokio::task::spawn_blocking({
                    let base = base.clone();
                    let output = output.clone();
                    let found: Vec<PathBuf> = patterns.iter().flat_map(Files::found).collect();
                    move || {
                        read_all(&base, &found, &mut followed, &output, is_first);
                        followed
                    }
                });
                followed = match look.await {
                    Ok(followed) => followed,
                    Err(_) => return,
                };
                is_first = false;
                tokio::time::sleep(LOOK).await;
            }
        };
        Self {
            _task: AbortOnDropHandle::new(tokio::spawn(work)),
        }
    }
}

/// The folders of log files that are not there.
pub(crate) fn missing_folders(folder: &Path, globs: &[String]) -> Vec<String> {
    let patterns = globs.iter().filter_map(|glob| files(folder, glob));
    let missing = patterns.filter(|files| !files.folder.is_dir());
    let mut missing: Vec<String> = missing
        .map(|files| files.folder.display().to_string())
        .collect();
    missing.dedup();
    missing
}

fn files(folder: &Path, glob: &str) -> Option<Files> {
    let whole = folder.join(glob);
    let is_plain = |part: &Component<'_>| {
        let text = part.as_os_str().to_string_lossy();
        !text.contains(['*', '?', '[', '{'])
    };
    let within: PathBuf = whole.parent()?.components().take_while(is_plain).collect();
    Some(Files {
        folder: within,
        matcher: Glob::new(&whole.display().to_string())
            .ok()?
            .compile_matcher(),
    })
}

impl Files {
    fn found(&self) -> Vec<PathBuf> {
        let walk = ignore::WalkBuilder::new(&self.folder)
            .standard_filters(false)
            .max_depth(Some(4))
            .build();
        let files = walk.flatten().map(ignore::DirEntry::into_path);
        let files = files.filter(|path| self.matcher.is_match(path));
        files.take(MOST_FILES).collect()
    }
}

fn read_all(
    base: &Path,
    found: &[PathBuf],
    followed: &mut HashMap<PathBuf, Followed>,
    output: &Output,
    is_first: bool,
) {
    for path in found {
        if let Some(known) = followed.get_mut(path) {
            // A file that was cut, and has grown again since, has other bytes where it was read to.
            if known.goes_on() {
                // What was written last before the file was replaced is read, too.
                let _ = known.read_on();
                let now = std::fs::metadata(path).ok();
                let is_same = now
                    .as_ref()
                    .is_some_and(|now| now.ino() == known.inode && now.len() >= known.read);
                if is_same {
                    continue;
                }
            }
        }
        let name = path
            .strip_prefix(base)
            .unwrap_or(path)
            .display()
            .to_string();
        let begins_anew = followed.contains_key(path) || !is_first;
        // A file that cannot be read yet may be later.
        if let Ok(new) = Followed::open(path, begins_anew, output.from(&name)) {
            followed.insert(path.clone(), new);
        }
    }
    followed.retain(|path, _| found.contains(path));
}

impl Followed {
    fn open(path: &Path, from_start: bool, lines: Lines) -> io::Result<Self> {
        // A pipe is not waited for.
        let mut options = File::options();
        let mut file = options.read(true).custom_flags(NO_WAIT).open(path)?;
        let about = file.metadata()?;
        if !about.is_file() {
            return Err(io::Error::other("it is no file"));
        }
        let read = match from_start {
            true => 0,
            false => about.len(),
        };
        file.seek(SeekFrom::Start(read))?;
        let mut followed = Self {
            file,
            inode: about.ino(),
            read,
            last: Vec::new(),
            lines,
        };
        followed.read_on()?;
        Ok(followed)
    }

    /// Whether the file still has what was read of it last.
    fn goes_on(&self) -> bool {
        let mut there = vec![0; self.last.len()];
        let begins = self.read.saturating_sub(self.last.len() as u64);
        self.file.read_exact_at(&mut there, begins).is_ok() && there == self.last
    }

    fn read_on(&mut self) -> io::Result<()> {
        let mut octets = Vec::new();
        (&mut self.file).take(AT_ONCE).read_to_end(&mut octets)?;
        self.read += octets.len() as u64;
        self.last.extend_from_slice(&octets);
        self.last.drain(..self.last.len().saturating_sub(COMPARED));
        if !octets.is_empty() {
            self.lines.push(&octets);
            self.lines.flush();
        }
        Ok(())
    }
}
