use std::io::Read;
use std::path::{Path, PathBuf};

use crate::error::CliError;

/// A file's text; `-` is standard input.
pub(crate) fn read_text(file: &Path) -> Result<String, CliError> {
    let text = if file == Path::new("-") {
        let mut text = String::new();
        let read = std::io::stdin().lock().read_to_string(&mut text);
        read.map(|_| text)
    } else {
        std::fs::read_to_string(file)
    };
    text.map_err(|source| CliError::Io {
        verb: format!("read {}", file.display()),
        source,
    })
}

/// The whole path of a file or folder that is there, for the service to use it. Links are left for the
/// service to judge.
pub(crate) fn whole_path(file: &Path) -> Result<PathBuf, CliError> {
    let whole = std::path::absolute(file);
    let there = whole.and_then(|path| std::fs::metadata(&path).map(|_| path));
    there.map_err(|source| CliError::Io {
        verb: format!("read {}", file.display()),
        source,
    })
}
