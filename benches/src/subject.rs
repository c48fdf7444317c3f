use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;

use crate::grow::many;
use crate::measure::{Aim, Report, Scale};
use crate::process::resident_kib;

/// Routes that the service has while it is measured.
pub(crate) const ROUTES: usize = 1_000;

/// The real service, in its own data folder.
#[derive(Debug)]
pub(crate) struct Subject {
    binary: PathBuf,
    data_dir: PathBuf,
    child: Child,
    /// Who answers for names outside the zones.
    upstream: SocketAddr,
    status: Value,
}

impl Subject {
    /// Starts it and waits until it is ready.
    pub(crate) fn start(binary: &Path, data_dir: &Path, upstream: SocketAddr) -> Self {
        // The database's own account passes through when this runs as root.
        std::fs::create_dir_all(data_dir).unwrap();
        let parent = data_dir.parent().unwrap();
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o711);
        std::fs::set_permissions(parent, open).unwrap();
        let mut command = serve(binary, data_dir, upstream);
        let places = ["--http", "127.0.0.1:0", "--https", "127.0.0.1:0"];
        let child = command.args(places).spawn().unwrap();
        let mut subject = Self {
            binary: binary.to_owned(),
            data_dir: data_dir.to_owned(),
            child,
            upstream,
            status: Value::Null,
        };
        subject.wait_until_ready();
        subject
    }

    fn wait_until_ready(&mut self) {
        let limit = Instant::now() + Duration::from_secs(60);
        loop {
            let output = Command::new(&self.binary)
                .args(["status", "--format", "json", "--data-dir"])
                .arg(&self.data_dir)
                .output()
                .unwrap();
            if output.status.success() {
                self.status = serde_json::from_slice(&output.stdout).unwrap();
                return;
            }
            assert!(Instant::now() < limit, "the service does not get ready");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Adds routes `n0.moor.test` and so on, which all lead to `target`.
    pub(crate) fn add_routes(&self, count: usize, target: &str) {
        self.post("zones", r#"{"name":"moor.test"}"#);
        self.post("routes/many", &many(0, count - 1, target));
        // For names that nothing has been asked of before.
        let any = format!(r#"{{"name":"*.any.moor.test","to":"{target}"}}"#);
        self.post("routes", &any);
        // Every route is checked once, so that the figures are those of an idle service.
        self.check_all();
    }

    /// Adds so many routes, and nothing else.
    pub(crate) fn fill(&self, count: usize, target: &str) {
        self.post("zones", r#"{"name":"moor.test"}"#);
        self.post("routes/many", &many(0, count, target));
    }

    /// Has every route checked; all of them pass.
    pub(crate) fn check_all(&self) {
        let check = self
            .client(&["check", "--routes-only", "--format", "json"])
            .output();
        assert!(check.unwrap().status.success(), "every route is proved");
    }

    /// Adds as many as are missing from `count` routes, all at once. They are checked in the
    /// background from then on, a few at a time.
    pub(crate) fn add_many(&self, count: usize, target: &str) {
        self.post("routes/many", &many(ROUTES, count - ROUTES, target));
    }

    /// How many exchanges were not recorded since the start, and how many were but are not in the
    /// database.
    #[allow(
        clippy::cast_precision_loss,
        reason = "some hundred thousand exchanges"
    )]
    pub(crate) fn lost(&self) -> (f64, f64) {
        let (_, summary) = self.get("traffic/summary?seconds=3600");
        let summary: Value = serde_json::from_slice(&summary).unwrap();
        let lost = |key: &str| summary[key].as_u64().unwrap() as f64;
        (lost("left_out"), lost("not_kept"))
    }

    /// What the API answers, with the time to its first byte and to its last, in ms.
    pub(crate) fn get(&self, path: &str) -> ((f64, f64), Vec<u8>) {
        let mut api = UnixStream::connect(self.data_dir.join("api.sock")).unwrap();
        let start = Instant::now();
        let millis = |start: Instant| start.elapsed().as_secs_f64() * 1e3;
        write!(
            api,
            "GET /api/v1/{path} HTTP/1.0\r\nhost: localhost\r\n\r\n",
        )
        .unwrap();
        let mut answer = vec![0; 4096];
        let length = api.read(&mut answer).unwrap();
        let first = millis(start);
        answer.truncate(length);
        api.read_to_end(&mut answer).unwrap();
        let last = millis(start);
        assert!(answer.starts_with(b"HTTP/1.0 200"));
        let head = answer.windows(4).position(|four| four == b"\r\n\r\n");
        ((first, last), answer.split_off(head.unwrap() + 4))
    }

    /// Edits a route, which makes another snapshot.
    pub(crate) fn edit(&self, number: usize) {
        let note = format!("edit {number}");
        let edit = ["route", "edit", "n7.moor.test", "--note", &note];
        let edited = self.client(&edit).output().unwrap();
        assert!(edited.status.success(), "{edited:?}");
    }

    /// Has something done that changes no configuration.
    pub(crate) fn act(&self, path: &str) {
        let mut api = UnixStream::connect(self.data_dir.join("api.sock")).unwrap();
        write!(
            api,
            "POST /api/v1/{path} HTTP/1.1\r\nhost: localhost\r\ncontent-length: 0\r\n\r\n"
        )
        .unwrap();
        let mut answer = [0; 12];
        api.read_exact(&mut answer).unwrap();
        assert_eq!(&answer, b"HTTP/1.1 200");
    }

    pub(crate) fn post(&self, path: &str, body: &str) {
        let mut api = UnixStream::connect(self.data_dir.join("api.sock")).unwrap();
        write!(
            api,
            "POST /api/v1/{path} HTTP/1.1\r\nhost: localhost\r\n\
             content-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
            body.len(),
        )
        .unwrap();
        let mut answer = [0; 4096];
        let length = api.read(&mut answer).unwrap();
        let answer = String::from_utf8_lossy(&answer[..length]);
        assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    }

    /// How long the service takes from its start to its first answer, when the database server of
    /// one that was killed still runs.
    pub(crate) fn restarts(&mut self, routes: &str, scale: Scale, report: &mut Report) {
        let mut times = Vec::new();
        for _ in 0..scale.starts {
            times.push(self.restart());
        }
        let aim = Aim::AtMost(500.0);
        report.alone(
            format!("ready after a start, {routes} routes"),
            "ms",
            times,
            aim,
        );
    }

    /// Kills it and starts it again; returns after how many ms it answers.
    pub(crate) fn restart(&mut self) -> f64 {
        let http = self.address("http");
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        let start = Instant::now();
        let mut command = serve(&self.binary, &self.data_dir, self.upstream);
        command.args(["--http", &http.to_string(), "--https", "127.0.0.1:0"]);
        self.child = command.spawn().unwrap();
        while !answers(http) {
            assert!(start.elapsed() < Duration::from_secs(60));
            std::thread::sleep(Duration::from_millis(1));
        }
        let took = start.elapsed().as_secs_f64() * 1e3;
        self.wait_until_ready();
        took
    }

    fn client(&self, args: &[&str]) -> Command {
        let mut command = Command::new(&self.binary);
        command.args(args).arg("--data-dir").arg(&self.data_dir);
        command
    }

    pub(crate) fn resident_kib(&self) -> u64 {
        resident_kib(self.pid())
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    pub(crate) fn root(&self) -> PathBuf {
        self.data_dir.join("root.pem")
    }

    pub(crate) fn https(&self) -> SocketAddr {
        self.address("https")
    }

    pub(crate) fn dns(&self) -> SocketAddr {
        self.address("dns")
    }

    pub(crate) fn address(&self, listener: &str) -> SocketAddr {
        let text = self.status["listeners"][listener][0].as_str().unwrap();
        text.parse().unwrap()
    }
}

impl Drop for Subject {
    fn drop(&mut self) {
        if let Some(pid) = i32::try_from(self.pid()).ok().and_then(Pid::from_raw) {
            let _ = kill_process(pid, Signal::TERM);
        }
        let _ = self.child.wait();
    }
}

fn serve(binary: &Path, data_dir: &Path, upstream: SocketAddr) -> Command {
    let mut command = Command::new(binary);
    command.arg("serve").arg("--data-dir").arg(data_dir);
    command.args(["--upstream", &upstream.to_string()]);
    for flag in ["--dns", "--console"] {
        command.args([flag, "127.0.0.1:0"]);
    }
    command
        .env("XDG_CONFIG_HOME", data_dir)
        .stderr(Stdio::null());
    command
}

/// Whether a request is answered. Connections are taken in before the service is ready, so that
/// one waits for its answer until it is.
fn answers(at: SocketAddr) -> bool {
    let Ok(mut stream) = TcpStream::connect(at) else {
        return false;
    };
    let limit = Some(Duration::from_secs(10));
    stream.set_read_timeout(limit).unwrap();
    stream
        .write_all(b"GET / HTTP/1.1\r\nhost: n1.moor.test\r\n\r\n")
        .unwrap();
    stream.read(&mut [0; 16]).is_ok_and(|length| length > 0)
}
