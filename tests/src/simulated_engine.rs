use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use serde_json::{Value, json};

/// How a simulated engine behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EngineManner {
    /// It answers.
    Well,
    /// It takes requests and answers nothing.
    Hangs,
    /// Its answers are no JSON.
    Malformed,
    /// It closes the connection in the middle of an answer.
    BreaksOff,
}

/// An engine that does what a real one cannot be made to do: it answers on a socket with containers that
/// there are none of.
#[derive(Debug)]
pub struct SimulatedEngine {
    socket: PathBuf,
    state: Arc<Mutex<State>>,
}

#[derive(Debug)]
struct State {
    manner: EngineManner,
    /// For each container: its name, its label, and the port of this machine that leads to its port 80.
    containers: Vec<(String, String, u16)>,
    /// Who follows what happens.
    listeners: Vec<Sender<String>>,
}

impl SimulatedEngine {
    /// An engine at this socket.
    #[must_use]
    pub fn start(socket: &Path) -> Self {
        let listener = UnixListener::bind(socket).unwrap();
        let state = Arc::new(Mutex::new(State {
            manner: EngineManner::Well,
            containers: Vec::new(),
            listeners: Vec::new(),
        }));
        let shared = Arc::clone(&state);
        // It ends with the test's process.
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                thread::spawn(move || serve(stream, &shared));
            }
        });
        Self {
            socket: socket.to_owned(),
            state,
        }
    }

    /// Its socket.
    #[must_use]
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    /// Has it behave so from now on.
    pub fn behave(&self, manner: EngineManner) {
        self.state.lock().unwrap().manner = manner;
    }

    /// Has it have these containers, which run, and report those that come and go.
    pub fn set_containers(&self, containers: Vec<(String, String, u16)>) {
        let mut state = self.state.lock().unwrap();
        let before = std::mem::replace(&mut state.containers, containers);
        let named = |all: &[(String, String, u16)], name: &str| all.iter().any(|it| it.0 == name);
        let gone = before.iter().filter(|it| !named(&state.containers, &it.0));
        let come = state.containers.iter().filter(|it| !before.contains(it));
        let names: Vec<String> = gone.chain(come).map(|(name, ..)| name.clone()).collect();
        state
            .listeners
            .retain(|listener| names.iter().all(|name| listener.send(name.clone()).is_ok()));
    }
}

/// Answers the requests of one connection.
fn serve(stream: UnixStream, state: &Mutex<State>) {
    let mut writer = stream.try_clone().unwrap();
    let mut lines = BufReader::new(stream).lines();
    while let Some(Ok(first)) = lines.next() {
        while lines
            .next()
            .is_some_and(|line| line.is_ok_and(|it| !it.is_empty()))
        {}
        let path = first.split(' ').nth(1).unwrap_or_default().to_owned();
        let (manner, answer) = {
            let state = state.lock().unwrap();
            (state.manner, answer_to(&path, &state.containers))
        };
        let (status, body) = match (manner, answer) {
            (EngineManner::Hangs, _) => loop {
                thread::park_timeout(Duration::from_secs(3600));
            },
            (EngineManner::Malformed, _) => ("200 OK", "{\"never\": [closed".to_owned()),
            (_, Some(body)) => ("200 OK", body.to_string()),
            (_, None) => (
                "404 Not Found",
                json!({ "message": "no such thing" }).to_string(),
            ),
        };
        if path.contains("/events") && manner == EngineManner::Well {
            let head = "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ntransfer-encoding: chunked\r\n\r\n";
            let _ = writer.write_all(head.as_bytes());
            let (sender, events) = channel();
            state.lock().unwrap().listeners.push(sender);
            for name in events {
                let event =
                    json!({ "Type": "container", "Action": "start", "Actor": { "ID": name } });
                let event = format!("{event}\n");
                let chunk = format!("{:x}\r\n{event}\r\n", event.len());
                if writer.write_all(chunk.as_bytes()).is_err() {
                    return;
                }
            }
            return;
        }
        let length = body.len();
        let head = format!(
            "HTTP/1.1 {status}\r\ncontent-type: application/json\r\ncontent-length: {length}\r\n\r\n"
        );
        let whole = head + &body;
        let sent = match manner {
            EngineManner::BreaksOff => &whole.as_bytes()[..whole.len() - length / 2 - 1],
            _ => whole.as_bytes(),
        };
        if writer.write_all(sent).is_err() || manner == EngineManner::BreaksOff {
            return;
        }
    }
}

fn answer_to(path: &str, containers: &[(String, String, u16)]) -> Option<Value> {
    let path = path.split('?').next().unwrap_or_default();
    if path.ends_with("/containers/json") {
        let listed = containers.iter().map(|(name, ..)| {
            json!({ "Id": name, "Names": [format!("/{name}")], "State": "running", "Status": "Up" })
        });
        return Some(listed.collect());
    }
    let name = path.strip_suffix("/json")?.rsplit('/').next()?;
    let (name, label, port) = containers.iter().find(|(known, ..)| known == name)?;
    Some(json!({
        "Id": name,
        "Name": format!("/{name}"),
        "Created": "2026-12-01T10:00:00Z",
        "State": { "Status": "running", "Running": true, "Pid": 1 },
        "Config": { "Labels": { "bentlane.routes": label }, "Image": "hut" },
        "NetworkSettings": {
            "Ports": { "80/tcp": [{ "HostIp": "127.0.0.1", "HostPort": port.to_string() }] },
            "Networks": {},
        },
    }))
}
