//! Real servers from npm and PyPI behind the proxy, and real clients in front of it.

use std::path::PathBuf;
use std::process::Command;

use bentlane_tests::{App, Background, World, repository, reserve_port, run, wait_until};
use serde_json::Value;

/// A script of `tests/apps`, run by Node or by the Python that `scripts/test` has made ready.
pub(crate) fn script(name: &str, args: &[&str]) -> Command {
    let apps = repository().join("tests/apps");
    let mut command = if name.ends_with(".py") {
        Command::new(python())
    } else {
        Command::new("node")
    };
    command.current_dir(&apps).arg(apps.join(name)).args(args);
    command
}

pub(crate) fn python() -> PathBuf {
    let python = repository().join("tests/apps/.python/bin/python");
    assert!(
        python.exists(),
        "{} is missing: scripts/test makes it",
        python.display()
    );
    python
}

/// Starts a server and waits until it listens on `port`.
pub(crate) fn listening(command: &mut Command, port: u16, log: PathBuf) -> Background {
    let server = Background::start(command, log);
    wait_until("the server to listen", || {
        std::net::TcpStream::connect(("127.0.0.1", port)).ok()
    });
    server
}

/// A world with a server behind `a.moor.test`, which is ready when `ready` says so.
fn world(
    target: fn(u16) -> String,
    server: impl Fn(&str) -> Command,
    settings: &[&str],
) -> (World, Background) {
    let world = World::with_routes(&[]);
    let port = reserve_port();
    let mut server = server(&port.to_string());
    let server = listening(&mut server, port, world.path("server.log"));
    let add = ["route", "add", "a.moor.test", &target(port)];
    world.ok(&[&add[..], settings].concat());
    (world, server)
}

fn url(world: &World) -> String {
    format!("https://a.moor.test:{}", world.address("https").port())
}

#[test]
fn express_sees_the_public_origin_and_its_events_stream() {
    let server = |port: &str| script("express.js", &[port]);
    let (world, _server) = world(|port| port.to_string(), server, &[]);
    let url = url(&world);
    let told = world.curl(&["-i", &format!("{url}/")]).ok();
    let (head, body) = told.split_once("\r\n\r\n").unwrap();
    let body: Value = serde_json::from_str(body).unwrap();
    assert_eq!(body["origin"], url.as_str());
    assert_eq!(body["secure"], true);
    assert!(
        head.contains("set-cookie: session=1; Domain=a.moor.test"),
        "{head}"
    );
    let sent = world.curl(&[
        "-o",
        "/dev/null",
        "-w",
        "%{redirect_url}",
        &format!("{url}/login"),
    ]);
    assert_eq!(sent.ok(), format!("{url}/"));
    let events = format!("{url}/events");
    let heard = world.curl(&["-N", "--max-time", "2", &events]);
    assert!(heard.stdout.contains("data: 2\n\n"), "{heard:?}");
}

#[test]
fn socket_io_upgrades_from_polling() {
    let server = |port: &str| script("chat.js", &["serve", port]);
    let (world, _server) = world(|port| port.to_string(), server, &[]);
    let mut talk = script("chat.js", &["talk", &url(&world)]);
    // Its look-up goes to our listener's address by the system's hosts file, which has no such name.
    talk.env("NODE_EXTRA_CA_CERTS", world.root());
    talk.env("NODE_OPTIONS", format!("--import {}", preload(&world)));
    let output = talk.output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    assert_eq!(said, "websocket\nhello from the hut\n", "{output:?}");
}

/// A module that has Node look names up as the world's resolver would.
fn preload(world: &World) -> String {
    let file = world.path("lookup.mjs");
    let text = "import dns from 'node:dns';\n\
                const lookup = (name, options, done) => {\n\
                  const all = typeof options === 'object' && options.all;\n\
                  (done ?? options)(null, all ? [{ address: '127.0.0.1', family: 4 }] : '127.0.0.1', 4);\n\
                };\n\
                dns.lookup = lookup;\n";
    std::fs::write(&file, text).unwrap();
    format!("file://{}", file.display())
}

#[test]
fn django_passes_its_own_checks() {
    for (host, settings) in [
        ("a.moor.test", &[][..]),
        ("localhost", &["--host", "target"]),
    ] {
        let server = move |port: &str| script("django_app.py", &[port, host]);
        let (world, _server) = world(|port| port.to_string(), server, settings);
        let url = format!("{}/", url(&world));
        let jar = world.path("jar").display().to_string();
        let page = world.curl(&["-c", &jar, &url]).ok();
        let (seen, token) = page.split_once(' ').unwrap();
        // The app that gets its own Host knows no other, and nothing of it reaches the browser.
        assert_eq!(seen == url, host == "a.moor.test", "{seen}");
        let sent = world.curl(&[
            "-o",
            "/dev/null",
            "-w",
            "%{redirect_url}",
            &format!("{url}old"),
        ]);
        let public = if host == "localhost" { &url } else { seen };
        assert_eq!(
            sent.ok().replace("http://", "https://"),
            public.replace("http://", "https://")
        );
        let form = format!("csrfmiddlewaretoken={token}");
        let origin = format!("origin: {}", url.trim_end_matches('/'));
        let referer = format!("referer: {url}");
        let fields = ["-b", &jar, "-H", &origin, "-H", &referer, "-d", &form, &url];
        assert_eq!(world.curl(&fields).ok(), "taken", "{host}");
    }
}

#[test]
fn grpc_calls_streams_and_trailers_work() {
    let server = |port: &str| script("grpc_pair.py", &["serve", port]);
    let (world, _server) = world(|port| format!("h2c://127.0.0.1:{port}"), server, &[]);
    let (at, root) = (world.address("https").to_string(), world.root());
    let root = root.to_str().unwrap();
    let output = script("grpc_pair.py", &["talk", &at, "a.moor.test", root]).output();
    let output = output.unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    let wanted = "hello\n3000000\n['a', 'b', 'c']\nNOT_FOUND no such hut ravenstone\n";
    assert_eq!(said, wanted, "{output:?}");
}

#[test]
fn other_clients_work() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let (at, root) = (world.address("https"), world.root());
    let root = root.to_str().unwrap();
    // Asked by address, so that the certificate is that of localhost and no server name is sent.
    let by_address = format!("https://{at}/echo");
    let wget = [
        "-q",
        "-O",
        "-",
        "--ca-certificate",
        root,
        "--header",
        "host: a.moor.test",
    ];
    let said = run(
        "wget",
        &[&wget[..], &["--post-data", "hello", &by_address]].concat(),
    );
    assert_eq!(said.ok(), "hello");
    let (place, url) = (
        at.to_string(),
        format!("https://a.moor.test:{}/x", at.port()),
    );
    let load = [
        "-n",
        "2000",
        "-c",
        "4",
        "-m",
        "20",
        "--connect-to",
        &place,
        &url,
    ];
    let said = run("h2load", &load).ok();
    assert!(
        said.contains("2000 succeeded, 0 failed, 0 errored"),
        "{said}"
    );
    let said = run(
        "nghttp",
        &["-nsy", "-H", ":authority: a.moor.test", &by_address],
    )
    .ok();
    assert!(said.contains(" 200 "), "{said}");
    let upload = world.path("upload");
    std::fs::write(&upload, vec![7; 100_000]).unwrap();
    let upload = format!("@{}", upload.display());
    let waits = [
        "--http1.1",
        "-H",
        "expect: 100-continue",
        "--data-binary",
        &upload,
        "-v",
    ];
    let waits = [&waits[..], &["-o", "/dev/null", "https://a.moor.test/echo"]].concat();
    let said = world.curl(&waits);
    assert!(
        said.stderr.contains("HTTP/1.1 100 Continue"),
        "{}",
        said.stderr
    );
}
