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

/// A file's whole path, for the service to read it.
pub(crate) fn whole_path(file: &Path) -> Result<PathBuf, CliError> {
    std::fs::canonicalize(file).map_err(|source| CliError::Io {
        verb: format!("read {}", file.display()),
        source,
    })
}
