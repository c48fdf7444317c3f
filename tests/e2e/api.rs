//! The API itself: who may call, and what it says of itself.

use bentlane_tests::{World, run};
use serde_json::Value;

/// Calls the console's listener with curl, at the console's own origin; gives the status and the body.
fn call(world: &World, path: &str, args: &[&str]) -> (u16, String) {
    let origin = origin(&world.sign_in_link());
    status_of(&format!("{origin}{path}"), args)
}

fn status_of(url: &str, args: &[&str]) -> (u16, String) {
    let said = run(
        "curl",
        &[&["-sS", "-w", "\n%{http_code}", url], args].concat(),
    )
    .ok();
    let (body, status) = said.rsplit_once('\n').unwrap();
    (status.parse().unwrap(), body.to_owned())
}

/// The origin of a link to sign in.
fn origin(link: &str) -> String {
    link.split_once("/#").unwrap().0.to_owned()
}

/// Signs in with a new link; gives the field that shows the session.
fn signed_in(world: &World) -> String {
    let link = world.sign_in_link();
    let (status, given) = exchange(&link);
    assert_eq!(status, 201, "{given}");
    let given: Value = serde_json::from_str(&given).unwrap();
    format!(
        "authorization: Bearer {}",
        given["session"].as_str().unwrap()
    )
}

/// Turns the code of a link into a session, as the page does.
fn exchange(link: &str) -> (u16, String) {
    let (origin, code) = link.split_once("/#code=").unwrap();
    let body = format!(r#"{{"code":"{code}"}}"#);
    status_of(&format!("{origin}/sign-in"), &["-d", &body])
}

#[test]
fn a_signed_in_browser_may_call_only_from_the_consoles_origin() {
    let world = World::with_routes(&[]);
    let bearer = signed_in(&world);
    let own = origin(&world.sign_in_link());
    let at = world.address("console");
    let status = |args: &[&str]| call(&world, "/api/v1/routes", args).0;
    assert_eq!(status(&[]), 401);
    assert_eq!(status(&["-H", "authorization: Bearer wrong"]), 401);
    assert_eq!(status(&["-H", &bearer]), 200);
    assert_eq!(
        status(&["-H", &bearer, "-H", &format!("origin: {own}")]),
        200
    );
    for host in [
        "evil.example",
        &at.to_string(),
        &format!("localhost:{}", at.port()),
    ] {
        let host = format!("host: {host}");
        assert_eq!(status(&["-H", &bearer, "-H", &host]), 421, "{host}");
        assert_eq!(call(&world, "/", &["-H", &host]).0, 421, "the page, too");
    }
    for other in [
        "origin: http://evil.example",
        "origin: null",
        "sec-fetch-site: cross-site",
        "sec-fetch-site: same-site",
    ] {
        assert_eq!(status(&["-H", &bearer, "-H", other]), 403, "{other}");
    }
    assert_eq!(call(&world, "/api/v1/nothing", &["-H", &bearer]).0, 404);
}

#[test]
fn a_link_signs_in_once_and_changes_are_in_the_journal() {
    let world = World::with_routes(&[]);
    let link = world.ok(&["console", "--print"]);
    let (status, given) = exchange(link.trim());
    assert_eq!(status, 201);
    assert_eq!(exchange(link.trim()).0, 410, "used");
    let given: Value = serde_json::from_str(&given).unwrap();
    let bearer = format!(
        "authorization: Bearer {}",
        given["session"].as_str().unwrap()
    );
    let json = ["-H", "content-type: application/json"];
    let add = [&json[..], &["-H", &bearer, "-d", r#"{"name":"fell.test"}"#]].concat();
    assert_eq!(call(&world, "/api/v1/zones", &add).0, 201);
    let by_program = world.call(
        "/zones",
        &[&json[..], &["-d", r#"{"name":"beck.test"}"#]].concat(),
    );
    by_program.ok();

    let journal = world.json(&["journal"]);
    let who = |index: usize| {
        journal["entries"][index]["who"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    assert!(who(0).ends_with(", API"), "{}", who(0));
    assert!(who(1).ends_with(", console"), "{}", who(1));
    assert!(who(2).ends_with(", zone add"), "{}", who(2));
    let uid = rustix::process::geteuid().as_raw();
    assert!((0..3).all(|index| who(index).contains(&format!("(uid {uid})"))));
}

#[test]
fn sessions_are_listed_and_ended() {
    let world = World::with_routes(&[]);
    let (one, two) = (signed_in(&world), signed_in(&world));
    let list = |bearer: &str| {
        let (status, body) = call(&world, "/api/v1/sessions", &["-H", bearer]);
        (status, serde_json::from_str::<Value>(&body).unwrap())
    };
    let (_, seen) = list(&one);
    let sessions = seen["sessions"].as_array().unwrap();
    assert_eq!(sessions.len(), 2);
    let own = |session: &Value| session["own"].as_bool().unwrap();
    assert_eq!(sessions.iter().map(own).collect::<Vec<_>>(), [true, false]);
    assert!(sessions[0]["browser"].as_str().unwrap().starts_with("curl"));

    let path = format!("/api/v1/sessions/{}", sessions[1]["id"]);
    assert_eq!(call(&world, &path, &["-X", "DELETE", "-H", &one]).0, 204);
    assert_eq!(call(&world, &path, &["-X", "DELETE", "-H", &one]).0, 404);
    assert_eq!((list(&one).0, list(&two).0), (200, 401));
    assert_eq!(
        world.ok(&["console", "--sign-out"]).trim(),
        "signed one browser out"
    );
    assert_eq!(list(&one).0, 401);
}

#[test]
fn every_operation_of_the_document_exists_and_behaves() {
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    let document: Value = world.call("/openapi.json", &[]).json();
    assert_eq!(document["openapi"], "3.1.0");
    let mut operations = 0;
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            operations += 1;
            let place = path
                .replace("{address}", "a.moor.test")
                .replace("{name}", "fell.test")
                .replace("{id}", "7")
                .replace("{system}", "macos")
                .replace("/api/v1", "");
            let method = method.to_uppercase();
            let args = ["-X", &method, "--max-time", "20", "-w", "\n%{http_code}"];
            let json = ["-H", "content-type: application/json", "-d", "{}"];
            let described: Vec<u16> = operation["responses"]
                .as_object()
                .unwrap()
                .keys()
                .map(|status| status.parse().unwrap())
                .collect();
            if path.ends_with("/events") {
                continue; // a stream without end; followed below
            }
            let args = if method == "GET" {
                args.to_vec()
            } else {
                [&args[..], &json].concat()
            };
            let said = world.call(&place, &args).ok();
            let (body, status) = said.rsplit_once('\n').unwrap();
            assert!(
                described.contains(&status.parse().unwrap()),
                "{method} {place}: {status} {body}"
            );
        }
    }
    assert!(operations >= 13, "{operations} operations");
}

#[test]
fn changes_and_verdicts_are_events() {
    let world = World::with_routes(&[]);
    let socket = world.socket().display().to_string();
    let following = std::thread::spawn(move || {
        let url = "http://localhost/api/v1/events";
        run(
            "curl",
            &["-sSN", "--max-time", "3", "--unix-socket", &socket, url],
        )
        .stdout
    });
    // Adding goes on until the stream has been there for one of them.
    for label in 0..20 {
        world.ok(&["route", "add", &format!("n{label}.moor.test"), "1"]);
    }
    let events = following.join().unwrap();
    assert!(
        events.contains("event: configuration\ndata: {\"revision\":"),
        "{events}"
    );
    assert!(
        events.contains("event: verdict\ndata: {\"address\":\"n"),
        "{events}"
    );
}
