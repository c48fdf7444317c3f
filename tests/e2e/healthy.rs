//! Set-ups that are as they should be: a check finds nothing above a hint, however deep it looks.

use std::any::Any;
use std::path::Path;

use bentlane_tests::{App, World, events, make_certificate, reply, reserve_port, wait_until};
use rstest::rstest;
use serde_json::Value;

use crate::servers::{listening, script};

struct SetUp {
    address: &'static str,
    target: String,
    settings: Vec<String>,
    /// What has to run meanwhile.
    _runs: Box<dyn Any>,
}

fn set_up(target: impl ToString, runs: impl Any) -> SetUp {
    SetUp {
        address: "a.moor.test",
        target: target.to_string(),
        settings: Vec::new(),
        _runs: Box::new(runs),
    }
}

fn app(app: App) -> SetUp {
    set_up(app.port(), app)
}

impl SetUp {
    fn at(mut self, address: &'static str) -> Self {
        self.address = address;
        self
    }

    fn with(mut self, settings: &[&str]) -> Self {
        self.settings = settings.iter().map(ToString::to_string).collect();
        self
    }
}

fn server(world: &World, name: &str, args: &[&str]) -> SetUp {
    let port = reserve_port();
    let text = port.to_string();
    let args: Vec<&str> = args
        .iter()
        .map(|it| if *it == "PORT" { &*text } else { it })
        .collect();
    let mut command = script(name, &args);
    let server = listening(&mut command, port, world.path("server.log"));
    set_up(port, server)
}

fn vite(world: &World) -> SetUp {
    let port = reserve_port();
    let server = crate::vite::vite(world, port, "allowedHosts: ['.moor.test']");
    wait_until("Vite to listen", || {
        std::net::TcpStream::connect(("localhost", port)).ok()
    });
    set_up(port, server).with(&["--expect-title", "Highmoor"])
}

fn python_site(world: &World) -> SetUp {
    let port = reserve_port();
    let server = crate::findings::site(world, "Highmoor", port);
    set_up(port, server).with(&["--expect-title", "Highmoor"])
}

fn over_tls(world: &World) -> SetUp {
    let file = |name: &str| world.path(name).display().to_string();
    let (certificate, key) = (file("vm.pem"), file("vm.key"));
    let names = "subjectAltName=DNS:vm.example";
    let arguments = ["-subj", "/CN=vm", "-days", "9", "-addext", names];
    make_certificate(&arguments, &certificate, &key);
    let app = App::tls(Path::new(&certificate), Path::new(&key));
    let target = format!("https://127.0.0.1:{}", app.port());
    set_up(target, app).with(&["--target-tls", &certificate])
}

fn folder(world: &World) -> SetUp {
    let folder = world.path("docs");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("index.html"), "<title>Docs</title>").unwrap();
    set_up(format!("folder:{}", folder.display()), ())
}

fn html(body: &'static str) -> App {
    App::answering(0, move |_| {
        reply(200, &[("content-type", "text/html")], body)
    })
}

fn signs_in() -> App {
    App::answering(0, |request| match request.uri().path() {
        "/" => reply(
            302,
            &[
                ("location", "/sign-in"),
                ("set-cookie", "s=1; Path=/; HttpOnly; SameSite=Lax"),
            ],
            "",
        ),
        _ => reply(
            200,
            &[("content-type", "text/html")],
            "<title>Sign in</title>",
        ),
    })
}

/// Redirects to itself until its cookie comes back.
fn tries_cookies() -> App {
    App::answering(0, |_| {
        reply(
            302,
            &[("location", "/"), ("set-cookie", "try=1; Secure")],
            "",
        )
    })
}

fn news() -> App {
    App::answering(0, |request| match request.uri().path() {
        "/news" => events(&[], &[(0, 1), (400, 1), (400, 1)]),
        _ => reply(
            200,
            &[("content-type", "text/html")],
            "<script>new EventSource('/news')</script>",
        ),
    })
}

fn quiet_news() -> App {
    App::answering(0, |request| match request.uri().path() {
        "/news" => events(&[], &[]),
        _ => reply(200, &[], ""),
    })
}

fn h2c(_: &World) -> SetUp {
    let app = App::h2c();
    set_up(format!("h2c://127.0.0.1:{}", app.port()), app)
}

fn echo(_: &World) -> SetUp {
    app(App::echo()).at("db.moor.test:5432")
}

#[rstest]
#[case::vite(vite)]
#[case::express(|world: &World| server(world, "express.js", &["PORT"]))]
#[case::socket_io(|world: &World| server(world, "chat.js", &["serve", "PORT"]).with(&["--expect-websocket", "/socket.io/?EIO=4&transport=websocket"]))]
#[case::django(|world: &World| server(world, "django_app.py", &["PORT", "a.moor.test"]))]
#[case::python_site(python_site)]
#[case::json(|_: &World| app(App::new()).with(&["--expect-json", "/method=GET"]))]
#[case::prefix(|_: &World| app(App::new()).at("a.moor.test/api").with(&["--strip-prefix"]))]
#[case::own_host(|_: &World| app(App::new()).with(&["--host", "target"]))]
#[case::wildcard(|_: &World| app(html("<title>Huts</title>")).at("*.hut.moor.test"))]
#[case::tls(over_tls)]
#[case::h2c(h2c)]
#[case::raw_tcp(echo)]
#[case::folder(folder)]
#[case::redirect(|_: &World| set_up("redirect:https://www.example/", ()))]
#[case::paused(|_: &World| set_up(reserve_port(), ()).with(&["--paused"]))]
#[case::needs_sign_in(|_: &World| app(signs_in()))]
#[case::tries_cookies(|_: &World| app(tries_cookies()))]
#[case::not_for_everybody(|_: &World| app(App::answering(0, |_| reply(401, &[("www-authenticate", "Basic")], ""))))]
#[case::nothing_at_the_root(|_: &World| app(App::answering(0, |_| reply(404, &[], "no page here"))))]
#[case::event_stream(|_: &World| app(news()).with(&["--expect-events", "/news"]))]
#[case::quiet_event_stream(|_: &World| app(quiet_news()).with(&["--expect-events", "/news"]))]
#[case::own_address(|_: &World| app(App::new()).with(&["--address", "own"]))]
#[case::plain_served(|_: &World| app(App::new()).with(&["--plain", "serve"]))]
fn healthy_routes_have_no_findings(#[case] make: fn(&World) -> SetUp) {
    let world = World::with_routes(&[]);
    let set_up = make(&world);
    let add = ["route", "add", set_up.address, &set_up.target];
    let settings: Vec<&str> = set_up.settings.iter().map(String::as_str).collect();
    world.ok(&[&add[..], &settings].concat());
    let run = world.run(&["check", "--routes-only", "--deep", "--format", "json"]);
    let verdict = &run.json()["verdicts"][0];
    let findings = verdict["findings"].as_array().unwrap().iter();
    let above: Vec<&Value> = findings.filter(|it| it["severity"] != "hint").collect();
    assert!(above.is_empty(), "{verdict:#}");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
    assert_eq!(run.code, 0);
}
