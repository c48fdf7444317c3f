use std::ffi::OsStr;
use std::fmt::Display;
use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};

/// How long anything may take before a test gives up on it.
const PATIENCE: Duration = Duration::from_secs(60);
/// How often to check the condition.
const LOOK_AGAIN: Duration = Duration::from_millis(20);

/// Waits until `condition` gives something.
///
/// # Panics
/// When that takes longer than a minute; `what` then says what was waited for.
pub fn wait_until<T>(what: &str, mut condition: impl FnMut() -> Option<T>) -> T {
    let start = Instant::now();
    loop {
        if let Some(found) = condition() {
            return found;
        }
        assert!(start.elapsed() < PATIENCE, "gave up waiting for {what}");
        pause(LOOK_AGAIN);
    }
}

/// Does nothing for a time.
#[allow(
    clippy::disallowed_methods,
    reason = "tests drive processes from plain threads"
)]
pub fn pause(time: Duration) {
    std::thread::sleep(time);
}

/// How often to repeat what is a matter of luck: `few` times, unless `scripts/torture` asks for more.
#[must_use]
pub fn rounds(few: usize) -> usize {
    let more = std::env::var("BENTLANE_ROUNDS");
    more.map_or(few, |more| more.parse().unwrap())
}

/// A figure of what a test has found, which `scripts/torture` reports.
///
/// # Panics
/// When it cannot be written.
pub fn figure(name: &str, value: impl Display) {
    let Some(file) = std::env::var_os("BENTLANE_FIGURES") else {
        return;
    };
    let mut file = OpenOptions::new()
        .append(true)
        .create(true)
        .open(file)
        .unwrap();
    file.write_all(format!("{name}\t{value}\n").as_bytes())
        .unwrap();
}

/// The repository that the tests belong to.
#[must_use]
pub fn repository() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .unwrap()
        .to_owned()
}

/// The `bentlane` that was built together with the tests, or that `BENTLANE_PROGRAM` names.
#[must_use]
pub fn binary() -> PathBuf {
    if let Some(program) = std::env::var_os("BENTLANE_PROGRAM") {
        return program.into();
    }
    let test = std::env::current_exe().unwrap();
    let binary = test.ancestors().nth(2).unwrap().join("bentlane");
    assert!(
        binary.exists(),
        "{} is not built: run `cargo build --workspace`",
        binary.display()
    );
    binary
}

/// What a command that ended printed.
#[derive(Clone, Debug)]
pub struct Run {
    /// Its exit code; -1 when a signal ended it.
    pub code: i32,
    /// What it printed.
    pub stdout: String,
    /// What it said.
    pub stderr: String,
}

impl Run {
    /// Its standard output, when it succeeded.
    #[track_caller]
    pub fn ok(self) -> String {
        assert_eq!(self.code, 0, "{self:#?}");
        self.stdout
    }

    /// Its standard output as JSON, whatever its exit code.
    #[track_caller]
    #[must_use]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}: {self:#?}"))
    }
}

/// Reads a text as JSON.
#[track_caller]
#[must_use]
pub fn json(text: &str) -> serde_json::Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

/// Runs a command to its end.
pub fn run(program: impl AsRef<OsStr>, args: &[&str]) -> Run {
    run_command(Command::new(program).args(args))
}

/// Runs a command of one's own making to its end.
///
/// # Panics
/// When it cannot be started.
pub fn run_command(command: &mut Command) -> Run {
    let output = command
        .stdin(Stdio::null())
        .output()
        .unwrap_or_else(|error| panic!("cannot run {command:?}: {error}"));
    Run {
        code: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Sends a signal to a process; one that is gone is no fault.
pub fn signal(pid: u32, signal: Signal) {
    let pid = i32::try_from(pid).ok().and_then(Pid::from_raw).unwrap();
    let _ = kill_process(pid, signal);
}

/// A process that runs beside the test and ends with it.
#[derive(Debug)]
pub struct Background {
    child: Child,
    log: PathBuf,
}

impl Background {
    /// Starts `command`; what it prints goes to the file `log`.
    pub fn start(command: &mut Command, log: PathBuf) -> Self {
        let file = File::options()
            .create(true)
            .append(true)
            .open(&log)
            .unwrap();
        let child = command
            .stdin(Stdio::null())
            .stdout(file.try_clone().unwrap())
            .stderr(file)
            .spawn()
            .unwrap_or_else(|error| panic!("cannot start {command:?}: {error}"));
        Self { child, log }
    }

    /// Its process id.
    #[must_use]
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// What it has printed so far.
    #[must_use]
    pub fn output(&self) -> String {
        let mut text = String::new();
        File::open(&self.log)
            .unwrap()
            .read_to_string(&mut text)
            .unwrap();
        text
    }

    /// Its exit code once it has ended.
    pub fn ended(&mut self) -> Option<i32> {
        self.child
            .try_wait()
            .unwrap()
            .map(|status| status.code().unwrap_or(-1))
    }

    /// Sends `which` and waits for the end; gives the exit code.
    pub fn end(&mut self, which: Signal) -> i32 {
        signal(self.pid(), which);
        let start = Instant::now();
        loop {
            if let Some(code) = self.ended() {
                return code;
            }
            if start.elapsed() > PATIENCE {
                let _ = self.child.kill();
                panic!("the process did not end: {}", self.output());
            }
            pause(LOOK_AGAIN);
        }
    }
}

impl Drop for Background {
    fn drop(&mut self) {
        // Usually ended already; what is left must not outlive the test.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Has `openssl` make a P-256 key and a certificate for it, as these further arguments say.
///
/// # Panics
/// When it does not.
pub fn make_certificate(arguments: &[&str], certificate: &str, key: &str) {
    let usual = "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes";
    let usual: Vec<&str> = usual.split(' ').collect();
    let files = ["-keyout", key, "-out", certificate];
    run("openssl", &[&usual, arguments, &files].concat()).ok();
}
