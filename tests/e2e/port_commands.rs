//! What listens on this machine, and ports that are suggested.

use std::io::Write;
use std::net::{IpAddr, TcpListener};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Command;
use std::thread;

use bentlane_tests::{
    App, Background, Start, World, make_certificate, reply, reserve_port, wait_until,
};
use serde_json::Value;

use crate::servers::listening;

fn titled() -> App {
    App::answering(0, |_| {
        let page = "<title>\x1b[2JHighmoor</title>";
        reply(200, &[("content-type", "text/html")], page)
    })
}

/// What the list says of a port.
fn listed(world: &World, port: &str) -> Option<Value> {
    let listed = world.json(&["port", "list"]);
    let ports = listed["ports"].as_array().unwrap().iter();
    let number: u16 = port.parse().unwrap();
    let mut of_port = ports.filter(|it| it["port"] == number);
    of_port.next().cloned()
}

/// A server that sends first.
fn greets() -> String {
    let listener = TcpListener::bind("[::1]:0").unwrap();
    let port = listener.local_addr().unwrap().port().to_string();
    thread::spawn(move || {
        for stream in listener.incoming() {
            // A client that is gone needs no greeting.
            let _ = stream.unwrap().write_all(b"220 larkfell ready\r\n");
        }
    });
    port
}

#[test]
fn what_listens_is_listed_with_its_protocol_and_routes() {
    let world = World::with_routes(&[]);
    let file = |name: &str| world.path(name).display().to_string();
    let (certificate, key) = (file("app.pem"), file("app.key"));
    make_certificate(&["-subj", "/CN=app", "-days", "9"], &certificate, &key);
    let (http, silent) = (titled(), App::echo());
    let tls = App::tls(Path::new(&certificate), Path::new(&key));
    world.ok(&["route", "add", "a.moor.test", &http.port()]);
    world.ok(&[
        "route",
        "add",
        "b.moor.test/api",
        &format!("http://127.0.0.1:{}", http.port()),
    ]);
    let greets = greets();
    for (port, protocol, ip) in [
        (&http.port(), "http", "127.0.0.1"),
        (&tls.port(), "tls", "127.0.0.1"),
        (&silent.port(), "other", "127.0.0.1"),
        (&greets, "other", "::1"),
    ] {
        let listed = listed(&world, port).unwrap();
        assert_eq!(listed["protocol"], protocol, "{listed:#}");
        assert_eq!(listed["process"]["pid"], std::process::id());
        assert_eq!(listed["addresses"], serde_json::json!([ip]));
    }
    let of_app = listed(&world, &http.port()).unwrap();
    assert_eq!(of_app["title"], "\u{fffd}[2JHighmoor");
    assert_eq!(
        of_app["routes"],
        serde_json::json!(["a.moor.test", "b.moor.test/api"])
    );
    let own = listed(&world, &world.address("https").port().to_string()).unwrap();
    assert_eq!(
        (&own["own"], &own["protocol"]),
        (&Value::Bool(true), &Value::Null)
    );
    let table = world.ok(&["port", "list"]);
    let line = table
        .lines()
        .find(|line| line.starts_with(&http.port()))
        .unwrap();
    assert!(
        line.contains("http \"\u{fffd}[2JHighmoor\"") && line.contains("a.moor.test"),
        "{line}"
    );
    let ips = |port: &Value| {
        let all = port["addresses"].as_array().unwrap().clone();
        all.into_iter()
            .map(|ip| ip.as_str().unwrap().parse::<IpAddr>().unwrap())
    };
    let all = world.json(&["port", "list"])["ports"]
        .as_array()
        .unwrap()
        .clone();
    assert!(
        all.iter()
            .all(|port| ips(port).all(|ip| ip.is_loopback() || ip.is_unspecified()))
    );
}

#[test]
fn the_folder_of_a_process_cannot_move_the_cursor() {
    let world = World::with_routes(&[]);
    let folder = world.path("huts\x1b[2J");
    std::fs::create_dir(&folder).unwrap();
    let port = reserve_port();
    let mut command = Command::new("python3");
    command.args([
        "-m",
        "http.server",
        "--bind",
        "127.0.0.1",
        &port.to_string(),
    ]);
    let log = world.path("site.log");
    let _site = listening(command.current_dir(folder), port, log);
    let table = world.ok(&["port", "list"]);
    assert!(
        table.contains("huts[2J") && !table.contains('\x1b'),
        "{table}"
    );
}

#[test]
fn ports_that_open_and_close_are_followed() {
    let world = World::with_routes(&[]);
    let mut command = world.command(&["port", "list", "--follow", "--format", "json"]);
    let follower = Background::start(&mut command, world.path("follower.log"));
    // It reports what is new since it started.
    let app = wait_until("the follower to begin", || {
        let app = titled();
        let opened = format!("\"port\":{},", app.port());
        wait_for(&follower, &["\"change\":\"opened\"", &opened]).then_some(app)
    });
    let closed = format!("\"port\":{},", app.port());
    drop(app);
    assert!(wait_for(&follower, &["\"change\":\"closed\"", &closed]));
}

/// Whether a line with all of these parts comes within some seconds.
fn wait_for(follower: &Background, parts: &[&str]) -> bool {
    for _ in 0..40 {
        let said = follower.output();
        if said
            .lines()
            .any(|line| parts.iter().all(|part| line.contains(part)))
        {
            return true;
        }
        bentlane_tests::pause(std::time::Duration::from_millis(100));
    }
    false
}

#[test]
fn ports_are_suggested_and_written_to_an_environment_file() {
    let world = World::asleep(Start::default());
    let folder = world.path("huts");
    std::fs::create_dir(&folder).unwrap();
    let suggest = |args: &[&str]| {
        let folder = folder.display().to_string();
        world.run(&[&["port", "suggest", "--folder", &folder], args].concat())
    };
    let port = |args: &[&str]| {
        let suggested = suggest(&[&["--format", "json"], args].concat()).json();
        u16::try_from(suggested["ports"][0]["port"].as_u64().unwrap()).unwrap()
    };
    let usual = port(&["--name", "web"]);
    assert_eq!(port(&["--name", "web"]), usual);
    let listener = TcpListener::bind(("127.0.0.1", usual));
    assert_ne!(port(&["--name", "web"]), usual, "another program has it");
    drop(listener);

    let file = folder.join(".env");
    let path = file.display().to_string();
    let before = "KEY=secret\nPORT_WEB=1\n";
    std::fs::write(&file, before).unwrap();
    std::fs::set_permissions(&file, PermissionsExt::from_mode(0o640)).unwrap();
    let write = ["--name", "web,db", "--write", &path];
    let refused = suggest(&write);
    assert_eq!(refused.code, 2, "nobody can be asked: {refused:?}");
    assert_eq!(std::fs::read_to_string(&file).unwrap(), before);
    let written = suggest(&[&write[..], &["--yes"]].concat());
    assert_eq!(written.code, 0, "{written:?}");
    let line = format!("PORT_WEB={usual}\n");
    assert!(written.stderr.contains(&format!("+ {line}")), "{written:?}");
    assert!(
        written.stderr.contains("sets PORT_WEB in line 2, too"),
        "{written:?}"
    );
    let text = std::fs::read_to_string(&file).unwrap();
    assert!(text.starts_with(before) && text.contains(&line), "{text}");
    let mode = std::fs::metadata(&file).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o640);
    let again = suggest(&[&write[..], &["--yes"]].concat());
    assert!(again.stderr.contains("has these ports"), "{again:?}");

    for (content, part) in [
        (
            &b"# Ports of `bentlane port suggest`\nPORT_WEB=1\n"[..],
            "have no end",
        ),
        (b"KEY=\xff\n", "not UTF-8"),
    ] {
        std::fs::write(&file, content).unwrap();
        let refused = suggest(&[&write[..], &["--yes"]].concat());
        assert!(
            refused.code != 0 && refused.stderr.contains(part),
            "{refused:?}"
        );
        assert_eq!(std::fs::read(&file).unwrap(), content);
    }
    for (args, part) in [
        (&["--name", "web,1"][..], "`1` is no name"),
        (&["--name", "a-b,a_b"], "PORT_A_B"),
        (&["0"], "1..=100"),
        (&["--folder", "/nowhere"], "cannot be used multiple times"),
    ] {
        let refused = suggest(args);
        assert!(
            refused.code == 2 && refused.stderr.contains(part),
            "{refused:?}"
        );
    }
}
