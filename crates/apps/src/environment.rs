//! The environment of an app: that of its user's login shell, as a terminal in its folder has it.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use tokio::io::AsyncReadExt;
use tokio::process::Command;
use tokio::time::timeout;

use crate::files::replace;
use crate::launch::{Environment, LAUNCH_COMMAND};

/// How long the shell may take to start.
const SHELL_LIMIT: Duration = Duration::from_secs(10);
/// Bytes of the largest environment.
const LARGEST: u64 = 4 << 20;
/// Bytes of the largest file with variables.
const LARGEST_FILE: u64 = 1 << 20;
/// What stands before the variables, since a shell's start files may print something.
const BEGIN: &[u8] = b"\0bentlane\0";
/// Variables that belong to the shell that was asked, or to the service.
const NOT_PASSED_ON: [&str; 11] = [
    "_",
    "SHLVL",
    "PWD",
    "OLDPWD",
    "LISTEN_FDS",
    "LISTEN_PID",
    "LISTEN_FDNAMES",
    "NOTIFY_SOCKET",
    "INVOCATION_ID",
    "JOURNAL_STREAM",
    "PORT",
];

/// Reads the environment of the user's interactive login shell in `folder`.
///
/// # Errors
/// When the shell does not start, takes longer than 10 s, or says something else.
pub(crate) async fn read(program: &Path, folder: &Path) -> Result<Environment, String> {
    let shell = std::env::var_os("SHELL").filter(|shell| Path::new(shell).is_absolute());
    let shell = shell.unwrap_or_else(|| "/bin/sh".into());
    // In a session of its own, where a shell that sets a terminal up disturbs nobody.
    let script = format!(
        "exec {} -ilc 'printf \"\\0bentlane\\0\"; exec env -0'",
        quoted(&shell)
    );
    let mut command = Command::new(program);
    command
        .arg(LAUNCH_COMMAND)
        .arg(script)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true);
    for name in NOT_PASSED_ON {
        command.env_remove(name);
    }
    let mut child = command.spawn().map_err(|error| error.to_string())?;
    let Some(stdout) = child.stdout.take() else {
        return Err("its output cannot be read".to_owned());
    };
    let reading = async {
        let mut octets = Vec::new();
        stdout.take(LARGEST).read_to_end(&mut octets).await?;
        Ok::<_, io::Error>(octets)
    };
    let shown = shell.display();
    let octets = timeout(SHELL_LIMIT, reading)
        .await
        .map_err(|_| {
            format!(
                "{shown} took longer than {} s to start",
                SHELL_LIMIT.as_secs()
            )
        })?
        .map_err(|error| error.to_string())?;
    let begin = memchr::memmem::rfind(&octets, BEGIN)
        .ok_or_else(|| format!("{shown} -ilc does not run commands"))?;
    let variables = octets[begin + BEGIN.len()..].split(|octet| *octet == 0);
    Ok(variables
        .filter_map(variable)
        .filter(is_passed_on)
        .collect())
}

/// The environment of this process, for when the shell's cannot be had.
pub(crate) fn own() -> Environment {
    std::env::vars_os().filter(is_passed_on).collect()
}

fn variable(text: &[u8]) -> Option<(OsString, OsString)> {
    let at = memchr::memchr(b'=', text).filter(|at| *at > 0)?;
    let value = |octets: &[u8]| OsString::from_vec(octets.to_vec());
    Some((value(&text[..at]), value(&text[at + 1..])))
}

fn is_passed_on((name, _): &(OsString, OsString)) -> bool {
    let is_own = NOT_PASSED_ON.iter().any(|own| name == own);
    let octets = name.as_bytes();
    !is_own && !octets.starts_with(b"BASH_FUNC_") && !octets.starts_with(b"BENTLANE_")
}

fn quoted(word: &OsStr) -> String {
    format!("'{}'", word.to_string_lossy().replace('\'', r"'\''"))
}

/// The variables of an environment file: `NAME=VALUE` on each line, `export` before it and quotes around
/// the value if one likes, `#` before a comment.
///
/// # Errors
/// Why the file cannot be read, or which line is wrong.
pub fn read_file(path: &Path) -> Result<Vec<(String, String)>, String> {
    let shown = path.display();
    let about = std::fs::metadata(path).map_err(|error| format!("cannot read {shown}: {error}"))?;
    if !about.is_file() {
        return Err(format!("{shown} is no file"));
    }
    if about.len() > LARGEST_FILE {
        return Err(format!("{shown} is larger than 1 MiB"));
    }
    let text =
        std::fs::read_to_string(path).map_err(|error| format!("cannot read {shown}: {error}"))?;
    let mut variables = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let line = line.strip_prefix("export ").unwrap_or(line).trim_start();
        let is_part = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let name = line
            .split_once('=')
            .map(|(name, value)| (name.trim_end(), value.trim()));
        let Some((name, value)) = name.filter(|(name, _)| {
            !name.is_empty()
                && !name.starts_with(|c: char| c.is_ascii_digit())
                && name.chars().all(is_part)
        }) else {
            return Err(format!("{shown}, line {number}: it has no NAME=VALUE"));
        };
        variables.push((name.to_owned(), unquoted(value)));
    }
    Ok(variables)
}

fn unquoted(value: &str) -> String {
    let within = |quote: char| {
        value
            .strip_prefix(quote)?
            .split_once(quote)
            .map(|(value, _)| value)
    };
    if let Some(value) = within('\'') {
        return value.to_owned();
    }
    if let Some(inner) = value.strip_prefix('"') {
        let mut plain = String::new();
        let mut rest = inner.chars();
        while let Some(c) = rest.next() {
            match c {
                '"' => return plain,
                '\\' => match rest.next() {
                    Some('n') => plain.push('\n'),
                    Some('t') => plain.push('\t'),
                    Some(other) => plain.push(other),
                    None => {}
                },
                other => plain.push(other),
            }
        }
        return value.to_owned();
    }
    // A comment may follow.
    let end = value.find(" #").unwrap_or(value.len());
    value[..end].trim_end().to_owned()
}

/// Whether a variable is to be shown as `***`: its name, or a password in a URL, says that it is a
/// secret.
#[must_use]
pub fn is_secret(name: &str, value: &str) -> bool {
    const WORDS: [&str; 11] = [
        "SECRET",
        "TOKEN",
        "PASSWORD",
        "PASSWD",
        "PASSPHRASE",
        "_KEY",
        "APIKEY",
        "CREDENTIAL",
        "AUTH",
        "COOKIE",
        "DSN",
    ];
    let name = name.to_ascii_uppercase();
    let has_password = |value: &str| {
        let authority = value.split_once("://").map(|(_, rest)| rest);
        let authority = authority.and_then(|rest| rest.split('/').next()?.rsplit_once('@'));
        authority.is_some_and(|(user, _)| user.contains(':'))
    };
    WORDS.iter().any(|word| name.contains(word)) || has_password(value)
}

/// Where the environment of an app is kept.
pub(crate) fn kept_in(folder: &Path) -> PathBuf {
    folder.join("environment")
}

/// Reads an environment that was kept.
pub(crate) fn read_kept(path: &Path) -> Option<Environment> {
    let octets = std::fs::read(path).ok()?;
    Some(
        octets
            .split(|octet| *octet == 0)
            .filter_map(variable)
            .collect(),
    )
}

/// Keeps an environment, for this user alone.
pub(crate) fn keep(path: &Path, environment: &Environment) -> io::Result<()> {
    let mut octets = Vec::new();
    for (name, value) in environment {
        octets.extend_from_slice(name.as_bytes());
        octets.push(b'=');
        octets.extend_from_slice(value.as_bytes());
        octets.push(0);
    }
    replace(path, &octets)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("A=1", Some(("A", "1")))]
    #[case("export A = one # two", Some(("A", "one")))]
    #[case("A='one # two'", Some(("A", "one # two")))]
    #[case(r#"A="one\n\"two\"" # x"#, Some(("A", "one\n\"two\"")))]
    #[case("A=", Some(("A", "")))]
    #[case("A=x=y", Some(("A", "x=y")))]
    #[case("A='open", Some(("A", "'open")))]
    #[case("no variable", None)]
    #[case("1A=x", None)]
    fn environment_files_are_read(#[case] line: &str, #[case] variable: Option<(&str, &str)>) {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), format!("# a comment\n\n{line}\n")).unwrap();
        let read = read_file(file.path());
        match variable {
            Some((name, value)) => assert_eq!(read.unwrap(), [(name.to_owned(), value.to_owned())]),
            None => assert!(read.unwrap_err().contains("line 3"), "the line is named"),
        }
    }

    #[rstest]
    #[case("STRIPE_SECRET", "x", true)]
    #[case("Api_Key", "x", true)]
    #[case("DATABASE_URL", "postgres://me:pw@db/huts", true)]
    #[case("DATABASE_URL", "postgres://me@db/huts", false)]
    #[case("KEYBOARD", "x", false)]
    #[case("PATH", "/usr/bin", false)]
    fn secrets_are_known_by_name_or_value(
        #[case] name: &str,
        #[case] value: &str,
        #[case] secret: bool,
    ) {
        assert_eq!(is_secret(name, value), secret);
    }

    #[test]
    fn an_environment_is_kept_for_its_user_alone() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let path = kept_in(folder.path());
        let environment =
            Environment::from([("A".into(), "x\ny=z".into()), ("B".into(), "".into())]);
        keep(&path, &environment).unwrap();
        assert_eq!(read_kept(&path), Some(environment));
        let mode = std::fs::metadata(&path).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
}
