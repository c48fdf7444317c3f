//! The API itself: who may call, and what it says of itself.

use bentlane_tests::{World, run};
use serde_json::Value;

/// Calls the API with curl; gives the status and the body.
fn call(world: &World, path: &str, args: &[&str]) -> (u16, String) {
    let url = format!("http://{}{path}", world.address("api"));
    let said = run(
        "curl",
        &[&["-sS", "-w", "\n%{http_code}", &url], args].concat(),
    )
    .ok();
    let (body, status) = said.rsplit_once('\n').unwrap();
    (status.parse().unwrap(), body.to_owned())
}

#[test]
fn only_those_who_signed_in_may_call_and_only_under_our_names() {
    let world = World::with_routes(&[]);
    let bearer = format!("authorization: Bearer {}", world.token());
    let api = world.address("api");
    let status = |args: &[&str]| call(&world, "/api/v1/routes", args).0;
    assert_eq!(status(&[]), 401);
    assert_eq!(status(&["-H", "authorization: Bearer wrong"]), 401);
    assert_eq!(status(&["-H", &bearer]), 200);
    assert_eq!(
        status(&[
            "-H",
            &bearer,
            "-H",
            &format!("host: localhost:{}", api.port())
        ]),
        200
    );
    assert_eq!(status(&["-H", &bearer, "-H", "host: evil.example"]), 421);
    assert_eq!(
        status(&["-H", &bearer, "-H", "origin: http://evil.example"]),
        403
    );
    assert_eq!(status(&["-H", &bearer, "-H", "origin: null"]), 403);
    assert_eq!(
        status(&["-H", &bearer, "-H", &format!("origin: http://{api}")]),
        200
    );
    assert_eq!(call(&world, "/api/v1/nothing", &["-H", &bearer]).0, 404);
    assert_eq!(
        call(&world, "/", &["-H", "host: evil.example"]).0,
        421,
        "the console, too"
    );
}

#[test]
fn a_sign_in_link_works_once() {
    let world = World::with_routes(&[]);
    let link = world.ok(&["console", "--print"]);
    let path = link
        .trim()
        .split_once(&world.address("api").to_string())
        .unwrap()
        .1
        .to_owned();
    let jar = world.path("jar").display().to_string();
    assert_eq!(call(&world, &path, &["-c", &jar]).0, 303);
    assert_eq!(call(&world, &path, &[]).0, 410);
    assert_eq!(call(&world, "/api/v1/routes", &["-b", &jar]).0, 200);
    let kept = std::fs::read_to_string(&jar).unwrap();
    assert!(kept.contains("#HttpOnly_127.0.0.1"), "{kept}");

    let body = [
        "-b",
        &jar,
        "-H",
        "content-type: application/json",
        "-d",
        r#"{"name":"fell.test"}"#,
    ];
    assert_eq!(
        call(&world, "/api/v1/zones", &body).0,
        403,
        "without an Origin"
    );
    let origin = format!("origin: http://{}", world.address("api"));
    let body = [&body[..], &["-H", &origin]].concat();
    assert_eq!(call(&world, "/api/v1/zones", &body).0, 201);
    let journal = world.json(&["journal"]);
    assert_eq!(journal["entries"][0]["who"], "console");
    assert_eq!(journal["entries"][1]["who"], "command line");
}

#[test]
fn every_operation_of_the_document_is_there_and_behaves() {
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    let bearer = format!("authorization: Bearer {}", world.token());
    let (_, document) = call(&world, "/api/v1/openapi.json", &["-H", &bearer]);
    let document: Value = serde_json::from_str(&document).unwrap();
    assert_eq!(document["openapi"], "3.1.0");
    let mut operations = 0;
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            operations += 1;
            let place = path
                .replace("{address}", "a.moor.test")
                .replace("{name}", "fell.test");
            let method = method.to_uppercase();
            let args = ["-X", &method, "-H", &bearer, "--max-time", "20"];
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
            let (status, body) = call(&world, &place, &args);
            assert!(
                described.contains(&status),
                "{method} {place}: {status} {body}"
            );
        }
    }
    assert!(operations >= 13, "{operations} operations");
}

#[test]
fn events_tell_of_changes_and_verdicts() {
    let world = World::with_routes(&[]);
    let url = format!("http://{}/api/v1/events", world.address("api"));
    let bearer = format!("authorization: Bearer {}", world.token());
    let following = std::thread::spawn(move || {
        run("curl", &["-sSN", "--max-time", "3", "-H", &bearer, &url]).stdout
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
