//! Keys in a git work tree, which must not be committed.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use bentlane_system::{Folder, read_file};

use super::confirm;
use crate::error::CliError;
use crate::output::Output;

const IGNORE: &str = ".gitignore";
/// Bytes of such a file.
const LARGEST: u64 = 1024 * 1024;
const PUBLIC: u32 = 0o644;

/// Says that a file with a key is in a work tree and not ignored there, and offers to ignore it.
pub(super) fn offer(output: &Output, file: &Path) -> Result<(), CliError> {
    let Some((tree, entry)) = not_ignored(file) else {
        return Ok(());
    };
    output.say(&format!(
        "{} has a private key and is in the git work tree {}: keep it out of commits with the entry \
         `{entry}` in {IGNORE}",
        file.display(),
        tree.display()
    ));
    if !confirm::is_asked() || !output.is_table() || !confirm::agreed(output)? {
        return Ok(());
    }
    let folder = Folder::open(&tree)?;
    let there = folder
        .read(OsStr::new(IGNORE), LARGEST)?
        .unwrap_or_default();
    folder.write(OsStr::new(IGNORE), &with_entry(there, &entry), PUBLIC)?;
    output.say(&format!("{} has it now", tree.join(IGNORE).display()));
    Ok(())
}

/// The work tree that a file is in, and the entry that has git ignore it; `None` outside of one, and
/// where an entry of the same words, or one for every file with this ending, is there.
fn not_ignored(file: &Path) -> Option<(PathBuf, String)> {
    let file = std::path::absolute(file).ok()?;
    let tree = file
        .ancestors()
        .skip(1)
        .find(|it| it.join(".git").exists())?;
    let entry = format!("/{}", file.strip_prefix(tree).ok()?.to_str()?);
    let name = file.file_name()?.to_str()?;
    let ending = file.extension().and_then(OsStr::to_str);
    let ending = ending.map(|ending| format!("*.{ending}"));
    let ignores = |line: &str| {
        let line = line.trim();
        line == entry
            || line == name
            || entry.strip_prefix('/') == Some(line)
            || Some(line) == ending.as_deref()
    };
    let text = read_file(&tree.join(IGNORE), LARGEST).unwrap_or_default();
    let text = String::from_utf8_lossy(&text);
    (!text.lines().any(ignores)).then(|| (tree.to_owned(), entry))
}

/// The entry, appended as a line.
fn with_entry(mut there: Vec<u8>, entry: &str) -> Vec<u8> {
    if there.last().is_some_and(|last| *last != b'\n') {
        there.push(b'\n');
    }
    there.extend_from_slice(entry.as_bytes());
    there.push(b'\n');
    there
}

#[cfg(test)]
mod tests {
    use std::fs;

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", true)]
    #[case("node_modules\n", true)]
    #[case("*.key\n", false)]
    #[case("/tls/a.key\n", false)]
    #[case("tls/a.key\n", false)]
    #[case(" a.key \n", false)]
    #[case("a.keys\n", true)]
    fn keys_that_git_would_commit_are_named(#[case] ignored: &str, #[case] named: bool) {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir_all(folder.path().join("tls")).unwrap();
        let key = folder.path().join("tls/a.key");
        assert_eq!(not_ignored(&key), None, "not a work tree");
        fs::create_dir(folder.path().join(".git")).unwrap();
        fs::write(folder.path().join(IGNORE), ignored).unwrap();
        let found = not_ignored(&key);
        assert_eq!(found.is_some(), named);
        if let Some((tree, entry)) = found {
            assert_eq!(
                (tree.as_path(), entry.as_str()),
                (folder.path(), "/tls/a.key")
            );
        }
    }

    #[test]
    fn an_entry_is_on_its_own_line() {
        assert_eq!(with_entry(b"a".to_vec(), "/b"), b"a\n/b\n");
        assert_eq!(with_entry(Vec::new(), "/b"), b"/b\n");
    }
}
