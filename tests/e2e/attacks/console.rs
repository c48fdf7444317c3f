//! The API and the console: pages, neighbouring ports and other users that want in.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::net::UnixStream;
use std::process::Command;
use std::time::Duration;

use bentlane_tests::{App, Browser, World, reply, run, run_command, wait_until};
use rstest::rstest;
use rustix::process::Signal;

use super::{OTHER, as_other_user};

/// The origin of a link to sign in, and its code.
fn parts(link: &str) -> (String, String) {
    let (origin, code) = link.split_once("/#code=").unwrap();
    (origin.to_owned(), format!(r#"{{"code":"{code}"}}"#))
}

/// A session of the service's own user: the origin, and the field that shows it.
fn session(world: &World) -> (String, String) {
    let (origin, code) = parts(&world.sign_in_link());
    let given = run(
        "curl",
        &["-sS", "-i", "-d", &code, &format!("{origin}/sign-in")],
    )
    .ok();
    assert!(!given.to_lowercase().contains("set-cookie"), "{given}");
    let (_, body) = given.split_once("\r\n\r\n").unwrap();
    let given = bentlane_tests::json(body);
    let session = given["session"].as_str().unwrap();
    (origin, format!("authorization: Bearer {session}"))
}

const STATUS: [&str; 5] = ["-sS", "-o", "/dev/null", "-w", "%{http_code}"];

#[test]
fn another_user_cannot_use_a_code_a_session_or_the_socket() {
    let world = World::with_routes(&[]);
    let (origin, code) = parts(&world.sign_in_link());
    let stolen = as_other_user("curl", &["-sS", "-d", &code, &format!("{origin}/sign-in")]);
    assert!(
        stolen.stdout.contains(&format!("(uid {OTHER})")),
        "{stolen:?}"
    );
    assert!(stolen.stdout.contains("\"status\":403"), "{stolen:?}");
    // It was not used up by that.
    let own = run("curl", &["-sS", "-d", &code, &format!("{origin}/sign-in")]).ok();
    assert!(own.contains("session"), "{own}");

    let (origin, bearer) = session(&world);
    let routes = format!("{origin}/api/v1/routes");
    let args = [&STATUS[..], &["-H", &bearer, &routes]].concat();
    assert_eq!(run("curl", &args).stdout, "200");
    assert_eq!(as_other_user("curl", &args).stdout, "401");

    let socket = world.socket().display().to_string();
    let status = "http://localhost/api/v1/status";
    let closed = as_other_user("curl", &["-sS", "--unix-socket", &socket, status]);
    assert_ne!(closed.code, 0, "{closed:?}");
    // Also when the folder lets it through, as an earlier version's did.
    use std::os::unix::fs::PermissionsExt;
    let open = |mode: u32, path: &std::path::Path| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    open(0o711, &world.data_dir());
    open(0o666, &world.socket());
    let closed = as_other_user("curl", &["-sS", "--unix-socket", &socket, status]);
    assert!(closed.code != 0 && closed.stdout.is_empty(), "{closed:?}");
    assert!(
        world
            .service()
            .output()
            .contains("refused a client of another user")
    );
}

/// The terminal that asked for the link is asked before another user's browser is let in.
const TERMINAL: &str = r#"
import os, pty, subprocess, sys, threading
answer, out = sys.argv[1], open(sys.argv[2], 'w')
pid, terminal = pty.fork()
if pid == 0:
    os.execvp(sys.argv[3], sys.argv[3:])
seen = ''
while True:
    try:
        some = os.read(terminal, 4096).decode()
    except OSError:
        break
    if not some:
        break
    out.write(some); out.flush()
    seen += some
    if 'Type y for yes' in seen:
        seen = ''
        os.write(terminal, (answer + '\n').encode())
os.waitpid(pid, 0)
"#;

#[rstest]
#[case("y", true)]
#[case("n", false)]
fn only_the_terminal_admits_the_browser_of_another_user(
    #[case] answer: &str,
    #[case] let_in: bool,
) {
    let world = World::with_routes(&[]);
    let said = world.path("terminal");
    let mut terminal = Command::new("python3");
    terminal
        .args(["-c", TERMINAL, answer])
        .arg(&said)
        .arg(bentlane_tests::binary())
        .args(["console", "--print"])
        .env("BENTLANE_DATA_DIR", world.data_dir())
        .env_remove("DISPLAY");
    let asking = std::thread::spawn(move || run_command(&mut terminal));
    let link = wait_until("the link", || {
        let text = std::fs::read_to_string(&said).ok()?;
        let link = text.lines().find(|line| line.contains("#code="))?;
        Some(link.trim().to_owned())
    });
    let (origin, code) = parts(&link);
    let given = as_other_user("curl", &["-sS", "-d", &code, &format!("{origin}/sign-in")]);
    assert_eq!(given.stdout.contains("session"), let_in, "{given:?}");
    asking.join().unwrap();
    let text = std::fs::read_to_string(&said).unwrap();
    assert!(
        text.contains(&format!("(uid {OTHER}) wants to sign in")),
        "{text}"
    );
    if let_in {
        let given = given.json();
        let bearer = format!(
            "authorization: Bearer {}",
            given["session"].as_str().unwrap()
        );
        let url = format!("{origin}/api/v1/routes");
        let args = [&STATUS[..], &["-H", &bearer, &url]].concat();
        assert_eq!(as_other_user("curl", &args).stdout, "200");
        assert_eq!(run("curl", &args).stdout, "401", "it is that user's alone");
    }
}

#[test]
fn a_process_that_takes_the_socket_after_a_crash_gets_nothing() {
    let mut world = World::with_routes(&[]);
    let (origin, _) = session(&world);
    world.end(Signal::KILL);
    let socket = world.socket();
    std::fs::remove_file(&socket).unwrap();
    // As another user's process would be seen, had it got into the folder.
    let script = format!(
        "import socket, sys, os\n\
         s = socket.socket(socket.AF_UNIX)\n\
         s.bind(sys.argv[1])\n\
         os.setgroups([]); os.setgid({OTHER}); os.setuid({OTHER})\n\
         s.listen()\n\
         c, _ = s.accept()\n\
         print(repr(c.recv(4096)))"
    );
    let mut stranger = Command::new("/usr/bin/python3");
    stranger
        .args(["-c", &script])
        .arg(&socket)
        .stdout(std::process::Stdio::piped());
    let stranger = stranger.spawn().unwrap();
    let asked = wait_until("the stranger to listen", || {
        let asked = world.run(&["status"]);
        asked.stderr.contains("listens there").then_some(asked)
    });
    assert_eq!(asked.code, 3, "{asked:?}");
    assert!(asked.stderr.contains("nothing was sent to it"), "{asked:?}");
    let heard = stranger.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&heard.stdout).trim(), "b''");

    // The next service has another origin, in which nothing of the former is left.
    std::fs::remove_file(&socket).unwrap();
    world.wake();
    let (next, _) = parts(&world.sign_in_link());
    let label = |origin: &str| origin.split('.').next().unwrap().to_owned();
    assert_ne!(label(&origin), label(&next));
    assert!(label(&next).len() > 20, "{next}");
}

/// A page of another port of this machine, which the developer opens while signed in.
const PAGE: &str = r#"<!doctype html><title>waiting</title><body><script>
const [origin, code] = decodeURIComponent(location.search.slice(1)).split(' ');
const tries = {
  read: () => fetch(origin + '/api/v1/routes', { credentials: 'include' }).then((r) => r.text()),
  change: () => fetch(origin + '/api/v1/zones', { method: 'POST', mode: 'no-cors', credentials: 'include',
    headers: { 'content-type': 'text/plain' }, body: '{"name":"evil.test"}' }).then((r) => { if (r.type !== 'opaque' || r.ok) throw 0; throw 'sent'; }),
  sign: () => fetch(origin + '/sign-in', { method: 'POST', body: JSON.stringify({ code }) }).then((r) => r.text()),
  frame: () => new Promise((resolve, reject) => {
    const frame = document.createElement('iframe');
    frame.onload = () => { try { frame.contentWindow.location.href; reject('same'); } catch (e) { reject(e); } };
    frame.src = origin + '/';
    document.body.append(frame);
    setTimeout(() => reject('none'), 3000);
  }),
  storage: async () => { if (localStorage.getItem('bentlane-session') === null) throw 0; },
};
(async () => {
  const worked = [];
  for (const [name, work] of Object.entries(tries)) {
    try { await work(); worked.push(name); } catch { /* as it should be */ }
  }
  document.title = 'worked: ' + worked.join(' ');
})();
</script>"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_another_port_can_do_nothing_while_the_developer_is_signed_in() {
    let app = App::answering(0, |_| reply(200, &[("content-type", "text/html")], PAGE));
    let world = World::with_routes(&[]);
    let browser = Browser::open(&world.path(""), &world.root()).await;
    browser.client().goto(&world.sign_in_link()).await.unwrap();
    browser.find_text("button", "Add route").await;
    let (origin, _) = parts(&world.sign_in_link());
    let (_, code) = parts(&world.sign_in_link());
    for host in ["127.0.0.1", "localhost", "evil.localhost"] {
        let question = format!(
            "{origin}%20{}",
            code.replace(['{', '}', '"'], "").replace("code:", "")
        );
        let url = format!("http://{host}:{}/?{question}", app.port());
        browser.client().goto(&url).await.unwrap();
        let title = loop {
            let title = browser.client().title().await.unwrap();
            if title.starts_with("worked:") {
                break title;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        };
        assert_eq!(title.trim(), "worked:", "{host}");
    }
    let zones = world.json(&["zone", "list"]).to_string();
    assert!(!zones.contains("evil"), "{zones}");
    browser.close().await;
}

#[test]
fn a_session_ends_with_the_service() {
    let mut world = World::with_routes(&[]);
    let (_, bearer) = session(&world);
    assert_eq!(world.end(Signal::TERM), 0);
    world.wake();
    let (origin, _) = parts(&world.sign_in_link());
    let url = format!("{origin}/api/v1/routes");
    let args = [&STATUS[..], &["-H", &bearer, &url]].concat();
    assert_eq!(run("curl", &args).stdout, "401");
}

#[test]
fn a_browser_makes_no_links_and_every_answer_is_hardened() {
    let world = World::with_routes(&[]);
    let (origin, bearer) = session(&world);
    let json = ["-H", "content-type: application/json", "-d", "{}"];
    let url = format!("{origin}/api/v1/sign-in-links");
    let args = [&STATUS[..], &["-H", &bearer, &url], &json].concat();
    assert_eq!(
        run("curl", &args).stdout,
        "403",
        "a session would never end"
    );
    for path in ["/", "/api/v1/routes", "/assets/none.js", "/dns-query"] {
        let head = run("curl", &["-sS", "-i", &format!("{origin}{path}")])
            .ok()
            .to_lowercase();
        for part in [
            "x-content-type-options: nosniff",
            "frame-ancestors 'none'",
            "no-referrer",
        ] {
            assert!(head.contains(part), "{path}: {part}: {head}");
        }
    }
}

#[test]
fn silent_connections_do_not_block_others() {
    let world = World::with_routes(&[]);
    let console = world.address("console");
    // More than there may be, on both doors.
    let silent: Vec<TcpStream> = (0..150)
        .filter_map(|_| TcpStream::connect(console).ok())
        .collect();
    for stream in &silent {
        let mut stream: &TcpStream = stream;
        let _ = stream.write_all(b"GET / HT");
    }
    world.ok(&["status"]);
    let quiet: Vec<UnixStream> = (0..100)
        .filter_map(|_| UnixStream::connect(world.socket()).ok())
        .collect();
    world.ok(&["status"]);
    // The silent ones are ended after ten seconds.
    let (origin, _) = parts(&world.sign_in_link());
    let page = run("curl", &["-sS", "--max-time", "40", &origin]).ok();
    assert!(page.contains("Bent Lane"), "{page}");
    for mut stream in silent.into_iter().take(1) {
        stream
            .set_read_timeout(Some(Duration::from_secs(20)))
            .unwrap();
        let mut rest = Vec::new();
        let _ = stream.read_to_end(&mut rest);
    }
    drop(quiet);
}

#[test]
fn event_streams_and_bodies_are_limited() {
    let world = World::with_routes(&[]);
    let open = || {
        let mut stream = UnixStream::connect(world.socket()).unwrap();
        stream
            .write_all(b"GET /api/v1/events HTTP/1.1\r\nhost: localhost\r\n\r\n")
            .unwrap();
        let mut start = [0; 12];
        stream.read_exact(&mut start).unwrap();
        (String::from_utf8_lossy(&start).into_owned(), stream)
    };
    let streams: Vec<_> = (0..32).map(|_| open()).collect();
    assert!(streams.iter().all(|(start, _)| start == "HTTP/1.1 200"));
    assert_eq!(open().0, "HTTP/1.1 429");
    drop(streams);
    wait_until("a place to be free again", || {
        (open().0 == "HTTP/1.1 200").then_some(())
    });

    let large = world.path("large");
    std::fs::write(&large, vec![b' '; 4 * 1024 * 1024]).unwrap();
    let body = format!("@{}", large.display());
    let json = "content-type: application/json";
    let args = [
        "-H",
        json,
        "--data-binary",
        &body,
        "-o",
        "/dev/null",
        "-w",
        "%{http_code}",
    ];
    assert_eq!(world.call("/zones", &args).stdout, "413");
}
