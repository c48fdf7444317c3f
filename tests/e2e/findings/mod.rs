//! Real faults: each is distinguished, at its hop, and its fix removes it.

mod apps;
mod certificates;
mod listeners;
mod network;
mod targets;

use std::process::Command;

use bentlane_tests::{App, Background, Run, World, events, reply, reserve_port, wait_until};
use hyper::Request;
use hyper::body::Incoming;
use rstest::rstest;
use serde_json::Value;

use crate::servers::listening;

/// What removes a fault.
enum Repair {
    /// The command of the finding.
    Command,
    /// This app replaces the former.
    App(fn(u16) -> App),
}

/// The worst finding of a verdict: it comes first.
fn worst(verdict: &Value) -> &Value {
    &verdict["findings"][0]
}

fn find<'a>(verdict: &'a Value, slug: &str) -> Option<&'a Value> {
    let mut findings = verdict["findings"].as_array().unwrap().iter();
    findings.find(|finding| finding["slug"] == slug)
}

fn has(verdict: &Value, slug: &str) -> bool {
    find(verdict, slug).is_some()
}

/// The finding of this kind, which the verdict has.
fn finding<'a>(verdict: &'a Value, slug: &str) -> &'a Value {
    find(verdict, slug).unwrap_or_else(|| panic!("{slug}: {verdict:#}"))
}

fn check(world: &World, address: &str) -> Value {
    let run = world.run(&["check", "--routes-only", address, "--format", "json"]);
    run.json()["verdicts"][0].clone()
}

/// A check that looks at what the page asks, too.
fn check_deep(world: &World, address: &str) -> Value {
    let run = world.run(&[
        "check",
        "--routes-only",
        "--deep",
        address,
        "--format",
        "json",
    ]);
    run.json()["verdicts"][0].clone()
}

/// Runs a command that begins with `bentlane`, as it was shown.
fn run_shown(world: &World, command: &str) -> Run {
    let words = shlex::split(command).unwrap();
    let words: Vec<&str> = words.iter().skip(1).map(String::as_str).collect();
    world.run(&words)
}

/// The same, and it has to succeed.
pub(crate) fn carry_out(world: &World, command: &str) {
    run_shown(world, command).ok();
}

/// Runs the command of a fix twice: what a person has set stays, and the second time nothing changes.
fn keeps_what_a_person_set(world: &World, address: &str, command: &str) {
    let settings = || world.json(&["route", "show", address])["settings"].clone();
    let list = [
        "--allow-origins",
        "https://b.moor.test",
        "--set-headers",
        "request x-env: dev",
    ];
    world.ok(&[&["route", "edit", address, "--note", "mine"], &list[..]].concat());
    let before = settings();
    carry_out(world, command);
    let after = settings();
    for (key, value) in before.as_object().unwrap() {
        match value.as_array() {
            Some(entries) => {
                let list = after[key].as_array().unwrap();
                assert!(entries.iter().all(|it| list.contains(it)), "{after:#}");
            }
            None => assert!(!after[key].is_null(), "{key}: {after:#}"),
        }
    }
    assert_eq!(after["note"], "mine");
    let revision = || world.get("/journal?limit=1")["entries"][0]["revision"].clone();
    let made = revision();
    if command.contains(" route add ") {
        let refused = run_shown(world, command);
        assert!(refused.stderr.contains("is there already"), "{refused:?}");
    } else {
        carry_out(world, command);
    }
    assert_eq!((settings(), revision()), (after, made), "{command}");
}

/// Expects this finding of a route, and that its fix removes it.
fn expect(world: &World, address: &str, slug: &str, hop: &str, app: App, repair: &Repair) {
    let verdict = check(world, address);
    let found = finding(&verdict, slug);
    assert_eq!(found["hop"], hop, "{found:#}");
    let severity = &worst(&verdict)["severity"];
    assert_eq!(
        &found["severity"], severity,
        "nothing is worse: {verdict:#}"
    );
    let broken = verdict["hops"].as_array().unwrap().iter();
    let mut broken = broken.filter(|report| report["state"] == "broken");
    let is_broken = found["severity"] == "error";
    assert_eq!(
        broken.next().map(|report| &report["hop"]),
        is_broken.then_some(&found["hop"]),
        "{verdict:#}"
    );
    let port = app.port().parse().unwrap();
    let _app = match repair {
        Repair::Command => {
            assert!(found["fix"]["action"].is_object(), "{found:#}");
            let command = found["fix"]["command"].as_str().unwrap();
            keeps_what_a_person_set(world, address, command);
            app
        }
        Repair::App(better) => {
            drop(app);
            better(port)
        }
    };
    let verdict = check(world, address);
    assert!(!has(&verdict, slug), "not fixed: {verdict:#}");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
}

fn field<'a>(request: &'a Request<Incoming>, name: &str) -> &'a str {
    let value = request.headers().get(name);
    value
        .and_then(|value| value.to_str().ok())
        .unwrap_or_default()
}

fn html(body: &str) -> hyper::Response<bentlane_tests::AppBody> {
    reply(200, &[("content-type", "text/html")], body)
}

fn page(port: u16) -> App {
    App::answering(port, |_| html("<title>Highmoor</title>"))
}

fn titled(title: &'static str) -> App {
    App::answering(0, move |_| html(&format!("<title>{title}</title>")))
}

fn picky_host(port: u16) -> App {
    App::answering(port, |request| {
        match field(request, "host").starts_with("localhost:") {
            true => html("welcome"),
            false => reply(403, &[], "this host is not allowed"),
        }
    })
}

fn picky_origin(port: u16) -> App {
    App::answering(port, |request| {
        let own = field(request, "origin").contains("://localhost:");
        match (request.uri().path(), own) {
            ("/live", true) => websocket(),
            ("/live", false) => reply(403, &[], "not this origin"),
            _ => html("welcome"),
        }
    })
}

fn websocket() -> hyper::Response<bentlane_tests::AppBody> {
    let fields = [
        ("connection", "Upgrade"),
        ("upgrade", "websocket"),
        ("sec-websocket-accept", "x"),
    ];
    reply(101, &fields, "")
}

fn forces_https(port: u16, believes: bool) -> App {
    App::answering(port, move |request| {
        if believes && field(request, "x-forwarded-proto") == "https" {
            return html("safe");
        }
        let to = format!("https://{}{}", field(request, "host"), request.uri().path());
        reply(301, &[("location", &to)], "")
    })
}

fn leads_to(port: u16, to: fn(&Request<Incoming>) -> String) -> App {
    App::answering(port, move |request| match request.uri().path() {
        "/" => reply(302, &[("location", &to(request))], ""),
        _ => html("here"),
    })
}

fn compressing(port: u16) -> App {
    App::answering(port, |request| {
        match (request.uri().path(), field(request, "accept-encoding")) {
            ("/events", encoding) if encoding.contains("gzip") => {
                events(&[("content-encoding", "gzip")], &[])
            }
            ("/events", _) => events(&[], &[(0, 1), (300, 1), (300, 1)]),
            _ => html("news"),
        }
    })
}

fn streaming(port: u16, lumps: &'static [(u64, usize)]) -> App {
    App::answering(port, move |request| match request.uri().path() {
        "/events" => events(&[], lumps),
        _ => html("news"),
    })
}

/// It refuses the name on the page that its first one leads to.
fn picky_behind_a_redirect() -> App {
    App::answering(0, |request| {
        let own = field(request, "host").starts_with("localhost:");
        match (request.uri().path(), own) {
            ("/", _) => reply(302, &[("location", "/in")], ""),
            (_, true) => html("welcome"),
            (_, false) => reply(403, &[], "this host is not allowed"),
        }
    })
}

/// It sends every client to its own address.
fn canonical() -> App {
    let port = reserve_port();
    App::answering(port, move |request| {
        let own = format!("localhost:{port}");
        if field(request, "host") == own {
            return html("welcome");
        }
        let to = format!("http://{own}{}", request.uri().path());
        reply(301, &[("location", &to)], "")
    })
}

fn circle(port: u16) -> App {
    App::answering(port, |request| {
        let to = match request.uri().path() {
            "/a" => "/b",
            _ => "/a",
        };
        reply(302, &[("location", to)], "")
    })
}

fn leaking() -> App {
    let port = reserve_port();
    App::answering(port, move |request| match request.uri().path() {
        "/" => reply(
            302,
            &[("location", &format!("http://a.moor.test:{port}/in"))],
            "",
        ),
        _ => html("in"),
    })
}

fn without_port(request: &Request<Incoming>) -> String {
    let host = field(request, "host").split(':').next().unwrap_or_default();
    format!("https://{host}/in")
}

fn with_port(request: &Request<Incoming>) -> String {
    format!("https://{}/in", field(request, "host"))
}

fn json_app(port: u16, body: &'static str) -> App {
    let fields = &[("content-type", "application/json"), ("x-app", "huts")];
    App::answering(port, move |_| reply(200, fields, body))
}

const CUT: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nshort";

#[rstest]
#[case("host-refused", "answer", picky_host(0), &[], Repair::Command)]
#[case("host-refused", "answer", picky_behind_a_redirect(), &[], Repair::Command)]
#[case("forwarding-refused", "answer", App::answering(0, |request| match field(request, "x-forwarded-for") { "" => html(""), _ => reply(400, &[], "") }), &[], Repair::Command)]
#[case("own-address-only", "answer", canonical(), &[], Repair::Command)]
#[case("better-directly", "answer", App::answering(0, |request| match (field(request, "host").starts_with("localhost"), field(request, "forwarded")) { (true, "") => html(""), _ => reply(400, &[], "") }), &[], Repair::App(page))]
#[case("redirect-leaves", "answer", leads_to(0, |_| "http://localhost:1/in".to_owned()), &[], Repair::App(page))]
#[case("page-bypasses-routes", "answer", App::answering(0, |_| html("<link rel=stylesheet href='http://localhost:4399/a.css'>")), &[], Repair::App(page))]
#[case("scheme-loop", "answer", forces_https(0, false), &[], Repair::App(|port| forces_https(port, true)))]
#[case("redirect-loop", "answer", circle(0), &[], Repair::App(page))]
#[case("origin-leaked", "answer", leaking(), &[], Repair::App(page))]
#[case("port-lost", "answer", leads_to(0, without_port), &[], Repair::App(|port| leads_to(port, with_port)))]
#[case("app-fails", "answer", App::answering(0, |_| reply(500, &[], "")), &[], Repair::App(page))]
#[case("answer-missing", "answer", App::raw(b""), &[], Repair::App(page))]
#[case("answer-malformed", "answer", App::raw(b"220 mail.moor.test ready\r\n"), &[], Repair::App(page))]
#[case("answer-oversized", "answer", App::raw(Box::leak(format!("HTTP/1.1 200 OK\r\nx: {}\r\n\r\n", "a".repeat(300_000)).into_boxed_str()).as_bytes()), &[], Repair::App(page))]
#[case("answer-cut", "answer", App::raw(CUT), &[], Repair::App(page))]
#[case("upgrade-refused", "answer", page(0), &["--expect-websocket", "/live"], Repair::App(|port| App::answering(port, |request| match request.uri().path() { "/live" => websocket(), _ => html("") })))]
#[case("upgrade-refused", "answer", picky_origin(0), &["--expect-websocket", "/live"], Repair::Command)]
#[case("events-missing", "answer", page(0), &["--expect-events", "/events"], Repair::App(|port| streaming(port, &[(0, 1), (500, 1)])))]
#[case("events-buffered", "answer", streaming(0, &[(1500, 5)]), &["--expect-events", "/events"], Repair::App(|port| streaming(port, &[(0, 1), (500, 1)])))]
#[case("events-buffered", "answer", compressing(0), &["--expect-events", "/events"], Repair::Command)]
#[case("cookie-dropped", "answer", App::answering(0, |_| reply(200, &[("set-cookie", "session=1; Domain=shop.example")], "")), &[], Repair::App(page))]
#[case("cookie-dropped", "answer", App::answering(0, |_| reply(200, &[("set-cookie", "session=1; SameSite=None")], "")), &[], Repair::App(page))]
#[case("mixed-content", "answer", App::answering(0, |_| html("<script src='http://cdn.example/a.js'></script>")), &[], Repair::App(page))]
#[case("other-app", "expect", titled("Shop"), &["--expect-title", "Highmoor"], Repair::App(page))]
#[case("other-app", "expect", titled("Shop"), &["--expect-text", "Highmoor"], Repair::App(page))]
#[case("status-differs", "expect", App::answering(0, |_| reply(404, &[], "")), &["--expect-status", "200"], Repair::App(page))]
#[case("text-differs", "expect", json_app(0, "{}"), &["--expect-text", "Highmoor"], Repair::App(page))]
#[case("header-differs", "expect", page(0), &["--expect-header", "x-app: huts"], Repair::App(|port| json_app(port, "{}")))]
#[case("value-differs", "expect", json_app(0, "{\"ok\":false}"), &["--expect-json", "/ok=true"], Repair::App(|port| json_app(port, "{\"ok\":true}")))]
fn faults_of_apps(
    #[case] slug: &str,
    #[case] hop: &str,
    #[case] app: App,
    #[case] settings: &[&str],
    #[case] repair: Repair,
) {
    let world = World::with_routes(&[]);
    let add = ["route", "add", "a.moor.test", &app.port()];
    world.ok(&[&add[..], settings].concat());
    expect(&world, "a.moor.test", slug, hop, app, &repair);
}

#[test]
fn a_page_that_calls_another_route_needs_permission() {
    let world = World::with_routes(&[]);
    let https = world.address("https").port();
    let asking = App::answering(0, move |_| {
        html(&format!(
            "<script>fetch('https://b.moor.test:{https}/huts')</script>"
        ))
    });
    let asked = App::answering(0, |_| reply(405, &[], ""));
    world.ok(&["route", "add", "a.moor.test", &asking.port()]);
    let other = "https://other.example";
    world.ok(&[
        "route",
        "add",
        "b.moor.test",
        &asked.port(),
        "--allow-origins",
        other,
    ]);
    let verdict = check_deep(&world, "a.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], "preflight-refused", "{verdict:#}");
    assert_eq!(
        (&found["hop"], &found["severity"]),
        (&"answer".into(), &"warning".into())
    );
    // As a command and by itself, it adds to what is allowed already.
    let allowed = || world.get("/routes/b.moor.test")["settings"]["allow_origins"].clone();
    let both = serde_json::json!([other, format!("https://a.moor.test:{https}")]);
    carry_out(&world, found["fix"]["command"].as_str().unwrap());
    assert_eq!(allowed(), both);
    world.ok(&["undo"]);
    let fixing = [
        "check",
        "--routes-only",
        "--deep",
        "--fix",
        "--yes",
        "a.moor.test",
    ];
    let fixed = world.run(&fixing);
    let change = format!("allow_origins: {other} → {other}, https://a.moor.test:{https}");
    assert!(fixed.stderr.contains(&change), "{fixed:?}");
    assert_eq!(allowed(), both);
    let verdict = check_deep(&world, "a.moor.test");
    assert!(!has(&verdict, "preflight-refused"), "{verdict:#}");
}

#[test]
fn a_dev_server_that_refuses_the_name_is_fixed() {
    let world = World::with_routes(&[]);
    let port = reserve_port();
    let _vite = crate::vite::vite(&world, port, "");
    wait_until("Vite to listen", || {
        std::net::TcpStream::connect(("localhost", port)).ok()
    });
    world.ok(&["route", "add", "a.moor.test", &port.to_string()]);
    let verdict = check(&world, "a.moor.test");
    assert_eq!(worst(&verdict)["slug"], "host-refused", "{verdict:#}");
    let fixed = world.run(&["check", "--routes-only", "--fix", "--yes"]);
    assert_eq!(fixed.code, 0, "{fixed:#?}");
    assert!(fixed.stderr.contains("--host target"), "{fixed:#?}");
    let verdict = check(&world, "a.moor.test");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
}

#[test]
fn a_shadowed_wildcard_with_a_path_is_reported() {
    let app = page(0);
    let world = World::with_routes(&[
        ("*.moor.test/api", &app.port()),
        ("booking.moor.test", &app.port()),
    ]);
    expect(
        &world,
        "*.moor.test/api",
        "route-shadowed",
        "answer",
        app,
        &Repair::Command,
    );
}

#[test]
fn a_first_compilation_is_distinguished_from_a_slow_app() {
    let first = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(true));
    let app = App::answering(0, move |_| {
        if first.swap(false, std::sync::atomic::Ordering::Relaxed) {
            // The app's one thread is busy, as a compiler's is: for long enough also when a check in the
            // background has asked a second before.
            let start = std::time::Instant::now();
            while start.elapsed() < std::time::Duration::from_millis(4500) {
                std::hint::spin_loop();
            }
        }
        html("ready")
    });
    let world = World::with_routes(&[]);
    // The check that is made while the route is added is the first to ask.
    let added = world.run(&[
        "route",
        "add",
        "a.moor.test",
        &app.port(),
        "--format",
        "json",
    ]);
    let verdict = &added.json()["verdict"];
    assert!(has(verdict, "slow-at-first"), "{verdict:#}");
    assert!(!has(&check(&world, "a.moor.test"), "slow-at-first"));
}

#[test]
fn a_silent_app_times_out_and_others_are_reported() {
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = silent.local_addr().unwrap().port().to_string();
    let well = page(0);
    let world = World::with_routes(&[("well.moor.test", &well.port())]);
    let body = format!(r#"{{"name":"silent.moor.test","to":"{port}"}}"#);
    // By the API, which does not wait for a check.
    assert_eq!(world.post("/routes", &body)["address"], "silent.moor.test");
    let run = world.run(&["check", "--routes-only", "--format", "json"]);
    let verdicts = run.json();
    let [silent, well] = verdicts["verdicts"].as_array().unwrap().as_slice() else {
        panic!("two routes: {verdicts:#}")
    };
    // A client would still wait, as for an app that compiles first.
    assert_eq!(worst(silent)["slug"], "still-starting", "{silent:#}");
    assert_eq!(worst(silent)["hop"], "answer");
    assert_eq!(silent["hops"][3]["state"], "not-declared", "{silent:#}");
    assert_eq!(well["passed"], true, "{well:#}");
    let waiting = ["check", "--routes-only", "--wait", "1s"];
    let waited = world.run(&waiting);
    assert!(waited.stdout.contains("1 still starting"), "{waited:?}");
    // Where no client waits that long, it is late.
    let edit = ["route", "edit", "silent.moor.test", "--first-byte-timeout"];
    let refused = world.run(&[&edit[..], &["soon"]].concat());
    assert!(refused.stderr.contains("no time such as"), "{refused:?}");
    world.ok(&[&edit[..], &["700ms"]].concat());
    let verdict = check(&world, "silent.moor.test");
    assert_eq!(worst(&verdict)["slug"], "answer-late", "{verdict:#}");
    assert!(
        worst(&verdict)["summary"]
            .as_str()
            .unwrap()
            .contains("700ms")
    );
    let url = "https://silent.moor.test/";
    let status = world.curl(&["-o", "/dev/null", "-w", "%{http_code}", url]);
    assert_eq!(status.stdout, "504", "{status:?}");
    world.ok(&[&edit[..], &["none"]].concat());
    let settings = &world.get("/routes/silent.moor.test")["settings"];
    assert_eq!(settings["first_byte_timeout"], "none");
}

/// A site on `port`, from a folder of its own, which has that name for its title.
pub(crate) fn site(world: &World, name: &str, port: u16) -> Background {
    let folder = world.path(name);
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(folder.join("index.html"), format!("<title>{name}</title>")).unwrap();
    let mut command = Command::new("python3");
    let port_text = port.to_string();
    command.args(["-m", "http.server", "--bind", "127.0.0.1", &port_text]);
    listening(command.current_dir(folder), port, world.path("site.log"))
}

#[test]
fn another_app_on_the_port_and_an_app_on_another_port_are_found() {
    let world = World::with_routes(&[]);
    let port = reserve_port();
    let highmoor = site(&world, "Highmoor", port);
    world.ok(&["route", "add", "a.moor.test", &port.to_string()]);
    assert_eq!(check(&world, "a.moor.test")["passed"], true);
    drop(highmoor);

    // The next project takes the port.
    let shop = site(&world, "Shop", port);
    let verdict = check(&world, "a.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], "target-changed-hands", "{verdict:#}");
    assert_eq!(found["hop"], "connect");
    let folder = world.path("Shop").display().to_string();
    assert!(
        found["evidence"][1].as_str().unwrap().contains(&folder),
        "{found:#}"
    );
    // Which of them is the right one is not decided by a program.
    let fixed = world.run(&["check", "--routes-only", "--fix", "--yes"]);
    assert!(fixed.stderr.contains("left to you"), "{fixed:?}");
    let expected = || world.get("/routes/a.moor.test")["settings"]["expect"].clone();
    assert_eq!(expected()["title"], Value::Null);
    carry_out(&world, found["fix"]["command"].as_str().unwrap());
    assert_eq!(expected()["title"], "Shop");
    assert!(!has(&check(&world, "a.moor.test"), "target-changed-hands"));
    world.ok(&["route", "edit", "a.moor.test", "--expect-title", "Highmoor"]);
    let verdict = check(&world, "a.moor.test");
    assert_eq!(worst(&verdict)["slug"], "other-app", "{verdict:#}");
    drop(shop);

    // It is back on its port and proved; started again, it takes the next.
    let highmoor = site(&world, "Highmoor", port);
    wait_until("the route to be proved", || {
        (world.run(&["check", "--routes-only", "a.moor.test"]).code == 0).then_some(())
    });
    drop(highmoor);
    let Some(next) =
        (port + 1..port + 9).find(|port| std::net::TcpListener::bind(("127.0.0.1", *port)).is_ok())
    else {
        panic!("no port beside {port} is free");
    };
    let _highmoor = site(&world, "Highmoor", next);
    let verdict = check(&world, "a.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], "target-moved", "{verdict:#}");
    carry_out(&world, found["fix"]["command"].as_str().unwrap());
    let verdict = check(&world, "a.moor.test");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
    assert_eq!(verdict["to"], next.to_string());
}

#[test]
fn faults_of_names_are_distinguished() {
    let app = page(0);
    let world = World::with_routes(&[("*.hut.moor.test", &app.port())]);
    for (asked, slug, hop) in [
        ("nope.moor.test", "route-missing", "connect"),
        ("www.example", "name-outside-zones", "resolve"),
    ] {
        let run = world.run(&["check", "--routes-only", asked, "--format", "json"]);
        assert_eq!(run.code, 1);
        let verdict = &run.json()["verdicts"][0];
        assert_eq!(verdict["findings"][0]["slug"], slug, "{verdict:#}");
        assert_eq!(verdict["findings"][0]["hop"], hop);
        let mut hops = verdict["hops"].as_array().unwrap().iter();
        let broken = hops.find(|it| it["state"] == "broken").unwrap();
        assert_eq!(broken["hop"], hop);
    }
    // A name below a wildcard is checked by itself.
    let verdict = check(&world, "https://larkfell.hut.moor.test/x?y=1");
    assert_eq!(verdict["name"], "larkfell.hut.moor.test");
    assert_eq!(verdict["passed"], true, "{verdict:#}");
}

#[rstest]
#[case("moor.local", "a.moor.local", "multicast-name")]
#[case("moor.dev", "a.moor.dev", "public-name")]
#[case("moor.dev", "a.moor.dev", "forced-https")]
#[case("test", "*.test", "wildcard-single-label")]
#[case("moor.lan", "a.moor.lan", "unreserved-suffix")]
fn questionable_names_are_reported(#[case] zone: &str, #[case] address: &str, #[case] slug: &str) {
    let app = page(0);
    let world = World::new();
    world.ok(&["zone", "add", zone, "--anyway"]);
    world.ok(&["route", "add", address, &app.port()]);
    let verdict = check(&world, address);
    let found = finding(&verdict, slug);
    assert_eq!(found["hop"], "resolve");
    assert_ne!(found["severity"], "error");
    assert_ne!(found["fix"]["text"], "");
}
