//! HTTP on ports of a name's own, and clients of raw TCP that belong there.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::process::Command;
use std::time::Duration;

use bentlane_tests::{App, Run, World, reply, reserve_port, run_command};
use serde_json::{Value, json};

use crate::findings::carry_out;
use crate::raw_tcp::place;

/// An app that says its name, and what it was asked.
fn named(name: &'static str) -> App {
    App::answering(0, move |request| {
        let field = |name: &str| {
            let value = request.headers().get(name);
            value.map_or("", |value| value.to_str().unwrap()).to_owned()
        };
        let (host, port) = (field("host"), field("x-forwarded-port"));
        let said = format!("{name} {} {host} {port}", request.uri());
        reply(200, &[("content-type", "text/html")], &said)
    })
}

/// Asks for a URL at the address of the name's own.
fn get(world: &World, at: SocketAddr, url: &str) -> Run {
    let resolve = format!("a.moor.test:{}:{}", at.port(), at.ip());
    get_from(world, &["--resolve", &resolve], url)
}

/// Asks for a URL, and says status and redirect, too.
fn get_from(world: &World, args: &[&str], url: &str) -> Run {
    let mut command = Command::new("curl");
    let told = "%{http_code} %{redirect_url}";
    command
        .args(["-sS", "--max-time", "20", "-w", told])
        .args(args);
    run_command(command.arg("--cacert").arg(world.root()).arg(url))
}

#[test]
fn each_port_of_a_name_has_its_own_routes() {
    let (usual, admin, api) = (named("usual"), named("admin"), named("api"));
    let world = World::with_routes(&[("a.moor.test", &usual.port())]);
    let (first, second) = (reserve_port(), reserve_port());
    let http = ["--protocol", "http"];
    let add = |address: &str, app: &App, settings: &[&str]| {
        let add = ["route", "add", address, &app.port()];
        world.ok(&[&add[..], &http, settings].concat());
    };
    let address = format!("a.moor.test:{first}");
    add(&address, &admin, &[]);
    add(&format!("{address}/api"), &api, &["--strip-prefix"]);
    add(
        &format!("a.moor.test:{second}"),
        &admin,
        &["--plain", "serve"],
    );

    let at = place(&world, &address);
    let on_second = SocketAddr::new(at.ip(), second);
    let on_usual = SocketAddr::new(at.ip(), world.address("https").port());
    let url = |at: SocketAddr, path: &str| format!("https://a.moor.test:{}{path}", at.port());
    let host = |at: SocketAddr| format!("a.moor.test:{} {}", at.port(), at.port());
    for (at, url, wanted) in [
        (at, url(at, "/"), format!("admin / {}200 ", host(at))),
        (at, url(at, "/api/x"), format!("api /x {}200 ", host(at))),
        (
            on_second,
            url(on_second, "/api/x"),
            format!("admin /api/x {}200 ", host(on_second)),
        ),
        (
            on_usual,
            url(on_usual, "/api/x"),
            format!("usual /api/x {}200 ", host(on_usual)),
        ),
        (
            at,
            format!("http://a.moor.test:{first}/x?y"),
            format!("308 {}", url(at, "/x?y")),
        ),
        (
            on_second,
            format!("http://a.moor.test:{second}/"),
            format!("admin / {}200 ", host(on_second)),
        ),
    ] {
        assert_eq!(get(&world, at, &url).ok(), wanted, "{url}");
    }
    // Other names have nothing there.
    let other = format!("https://b.moor.test:{first}/");
    let connect = format!("::{}:{first}", at.ip());
    world.ok(&["route", "add", "b.moor.test", &usual.port()]);
    let refused = get_from(
        &world,
        &["--connect-to", &connect, "-o", "/dev/null"],
        &other,
    );
    assert_eq!(refused.ok(), "404 ");

    are_checked(&world, at, &address);
    take_what_goes_together(&world, first, &address);
    world.ok(&["route", "remove", &format!("a.moor.test:{second}")]);
    assert!(TcpStream::connect(on_second).is_err());
}

/// Each route has its own verdict and URL, and a URL leads to its route.
fn are_checked(world: &World, at: SocketAddr, address: &str) {
    let checked = world.run(&["check", "--routes-only", "--deep", "--format", "json"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    let verdicts = checked.json()["verdicts"].as_array().unwrap().clone();
    let of = |address: &str| {
        verdicts
            .iter()
            .find(|it| it["address"] == address)
            .unwrap()
            .clone()
    };
    assert_eq!(
        of(&format!("{address}/api"))["url"],
        format!("https://a.moor.test:{}/api", at.port())
    );
    for verdict in &verdicts {
        let findings = verdict["findings"].as_array().unwrap();
        assert!(
            findings.iter().all(|it| it["severity"] == "hint"),
            "{verdict:#}"
        );
    }
    let named = world.run(&[
        "check",
        "--routes-only",
        "--format",
        "json",
        &format!("https://a.moor.test:{}/api/x", at.port()),
    ]);
    assert_eq!(
        named.json()["verdicts"][0]["address"],
        format!("{address}/api")
    );
}

/// What cannot be on one port together is refused.
fn take_what_goes_together(world: &World, first: u16, address: &str) {
    for (args, part) in [
        (
            &["route", "edit", address, "--unset", "protocol"][..],
            "uses another protocol",
        ),
        (
            &["route", "add", &format!("a.moor.test:{first}/x"), "1"],
            "takes `--protocol http`",
        ),
        (
            &["route", "add", "c.moor.test", "1", "--protocol", "tcp"],
            "needs a port",
        ),
        (
            &["route", "edit", address, "--tls", "passthrough"],
            "is raw TCP",
        ),
    ] {
        let refused = world.run(args);
        assert!(
            refused.code != 0 && refused.stderr.contains(part),
            "{refused:?}"
        );
    }
}

/// The findings on a route that are no hints about this machine.
fn findings(world: &World, address: &str) -> Vec<Value> {
    let checked = world.run(&["check", "--routes-only", "--format", "json", address]);
    let findings = checked.json()["verdicts"][0]["findings"].clone();
    let own = findings
        .as_array()
        .unwrap()
        .iter()
        .filter(|it| it["hop"] == "answer");
    own.cloned().collect()
}

/// Carries out the fixes of a route.
fn fix(world: &World, address: &str) {
    let fixed = world.run(&["check", "--routes-only", "--fix", "--yes", address]);
    assert_eq!(fixed.code, 0, "{fixed:?}");
}

/// Sends this, and reads what comes back; nothing when the other side refuses.
fn ask(at: SocketAddr, said: &[u8]) -> Vec<u8> {
    let mut stream = TcpStream::connect(at).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(20)))
        .unwrap();
    stream.write_all(said).unwrap();
    let mut heard = vec![0; 4096];
    let length = stream.read(&mut heard);
    heard.truncate(length.unwrap_or_default());
    heard
}

#[test]
fn http_on_a_route_for_raw_tcp_is_noticed_and_moved() {
    let app = named("app");
    let world = World::with_routes(&[]);
    let address = format!("a.moor.test:{}", reserve_port());
    world.ok(&["route", "add", &address, &app.port()]);
    assert_eq!(findings(&world, &address), [json!(null); 0]);
    let at = place(&world, &address);
    let url = format!("http://{address}/");
    assert!(get(&world, at, &url).ok().starts_with("app / "));
    let found = findings(&world, &address);
    assert_eq!(found[0]["slug"], "raw-carries-http");
    let command = format!("bentlane route edit {address} --plain serve --protocol http");
    assert_eq!(found[0]["fix"]["command"], command);
    carry_out(&world, &command);
    for url in [&url, &url.replace("http:", "https:")] {
        assert!(get(&world, at, url).ok().starts_with("app / "), "{url}");
    }
    assert_eq!(findings(&world, &address), [json!(null); 0]);
}

#[test]
fn a_postgresql_client_of_a_route_that_begins_with_tls_is_noticed() {
    let app = App::echo();
    let world = World::with_routes(&[]);
    let address = format!("a.moor.test:{}", reserve_port());
    world.ok(&["route", "add", &address, &app.port(), "--tls", "here"]);
    let at = place(&world, &address);
    let request = [0, 0, 0, 8, 4, 210, 22, 47];
    assert_eq!(ask(at, &request), b"");
    let found = findings(&world, &address);
    assert_eq!(
        (&found[0]["slug"], &found[0]["severity"]),
        (&json!("postgres-refused"), &json!("warning"))
    );
    fix(&world, &address);
    assert_eq!(ask(at, &request), b"S");
    assert_eq!(findings(&world, &address), [json!(null); 0]);
}
