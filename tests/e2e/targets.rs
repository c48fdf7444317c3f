//! Targets of every kind: over TLS, HTTP/2 without TLS, and the messages when they fail.

use std::path::Path;

use bentlane_tests::{App, World, json, make_certificate};
use bytes::Bytes;
use http_body_util::{BodyExt, Empty};
use hyper::Request;
use rstest::rstest;

/// An app over TLS in `world`, whose certificate is for `name`, with the file of that.
fn tls_app(world: &World, name: &str) -> (App, String) {
    let file = |ending: &str| {
        world
            .path(&format!("{name}.{ending}"))
            .display()
            .to_string()
    };
    let (certificate, key) = (file("pem"), file("key"));
    let names = format!("subjectAltName=DNS:{name}");
    let arguments = ["-subj", "/CN=vm", "-days", "9", "-addext", &names];
    make_certificate(&arguments, &certificate, &key);
    (
        App::tls(Path::new(&certificate), Path::new(&key)),
        certificate,
    )
}

fn slug_of(world: &World, url: &str) -> String {
    let said = world.curl(&["-H", "accept: application/json", url]).ok();
    json(&said)["finding"]["slug"]
        .as_str()
        .unwrap_or_default()
        .to_owned()
}

#[test]
fn the_certificate_of_a_target_is_verified_as_the_route_says() {
    let world = World::with_routes(&[]);
    let (app, certificate) = tls_app(&world, "vm.example");
    let target = format!("https://127.0.0.1:{}", app.port());
    world.ok(&["route", "add", "a.moor.test", &target]);
    let url = "https://a.moor.test/x";
    assert_eq!(slug_of(&world, url), "target-untrusted");
    let verdict = &world.json(&["check", "--routes-only", "a.moor.test"])["verdicts"][0];
    // A check looks at the certificate itself: it is not even for the address.
    assert_eq!(
        verdict["findings"][0]["slug"], "target-other-name",
        "{verdict}"
    );
    for how in ["none", &certificate] {
        world.ok(&["route", "edit", "a.moor.test", "--target-tls", how]);
        let told = json(&world.curl(&[url]).ok());
        assert_eq!(told["uri"], "https://a.moor.test/x", "over HTTP/2: {told}");
        assert_eq!(told["fields"]["x-forwarded-proto"], "https");
        assert_eq!(
            world.run(&["check", "--routes-only", "a.moor.test"]).code,
            0
        );
    }
    let (_, other) = tls_app(&world, "other.example");
    world.ok(&["route", "edit", "a.moor.test", "--target-tls", &other]);
    assert_eq!(slug_of(&world, url), "target-untrusted");
}

#[test]
fn a_certificate_of_ours_is_verified_by_the_name_that_the_route_gives() {
    let world = World::with_routes(&[]);
    let out = world.path("tls").display().to_string();
    world.ok(&["cert", "issue", "vm.moor.test", "--out", &out]);
    let folder = world.path("tls");
    let app = App::tls(
        &folder.join("vm.moor.test.pem"),
        &folder.join("vm.moor.test.key"),
    );
    let target = format!("https://127.0.0.1:{}", app.port());
    let add = ["route", "add", "a.moor.test", &target];
    world.ok(&add);
    let url = "https://a.moor.test/";
    // The file holds the chain, of which this app sends the first certificate alone.
    assert_eq!(slug_of(&world, url), "target-untrusted", "for another name");
    let refused = world.run(&["route", "edit", "a.moor.test", "--target-name", "-x-"]);
    assert_eq!(refused.code, 2, "{refused:?}");
}

#[test]
fn a_wrong_scheme_of_a_target_is_reported() {
    let world = World::with_routes(&[]);
    let (secure, _) = tls_app(&world, "vm.example");
    let plain = App::new();
    let plain_target = format!("https://127.0.0.1:{}", plain.port());
    world.ok(&["route", "add", "secure.moor.test", &secure.port()]);
    world.ok(&["route", "add", "plain.moor.test", &plain_target]);
    for (name, slug, fix) in [
        (
            "secure",
            "target-speaks-tls",
            format!(
                "bentlane route edit secure.moor.test --to https://127.0.0.1:{} --target-tls none",
                secure.port()
            ),
        ),
        (
            "plain",
            "target-speaks-plain",
            format!(
                "bentlane route edit plain.moor.test --to http://127.0.0.1:{}",
                plain.port()
            ),
        ),
    ] {
        let url = format!("https://{name}.moor.test/");
        let said = json(&world.curl(&["-H", "accept: application/json", &url]).ok());
        assert_eq!(said["finding"]["slug"], slug, "{said}");
        assert_eq!(said["finding"]["fix"]["command"], fix.as_str(), "{said}");
        let address = format!("{name}.moor.test");
        let verdict = &world
            .run(&["check", "--routes-only", &address, "--format", "json"])
            .json()["verdicts"][0];
        assert_eq!(verdict["findings"][0]["slug"], slug, "{verdict}");
        assert_eq!(verdict["hops"][2]["state"], "broken", "{verdict}");
        // The fix removes it.
        let words: Vec<&str> = fix.split(' ').skip(1).collect();
        world.ok(&words);
        assert_eq!(json(&world.curl(&[&url]).ok())["method"], "GET");
    }
}

#[test]
fn a_target_on_the_other_family_is_found() {
    let app = App::new();
    let target = format!("[::1]:{}", app.port());
    let world = World::with_routes(&[("a.moor.test", &target)]);
    let url = "https://a.moor.test/";
    let said = json(&world.curl(&["-H", "accept: application/json", url]).ok());
    assert_eq!(said["finding"]["slug"], "target-other-family", "{said}");
    let verdict = &world.json(&["check", "--routes-only"])["verdicts"][0];
    assert_eq!(
        verdict["findings"][0]["slug"], "target-other-family",
        "{verdict}"
    );
    world.ok(&["route", "edit", "a.moor.test", "--to", &app.port()]);
    assert_eq!(json(&world.curl(&[url]).ok())["method"], "GET");
}

#[rstest]
#[case("h2")]
#[case("http/1.1")]
#[tokio::test(flavor = "multi_thread")]
async fn trailers_pass_from_http2_in_the_clear(#[case] protocol: &str) {
    let app = App::h2c();
    let target = format!("h2c://127.0.0.1:{}", app.port());
    let world = World::with_routes(&[("grpc.moor.test", &target)]);
    if protocol == "http/1.1" {
        let said = world
            .curl(&["--http1.1", "https://grpc.moor.test/a?b"])
            .ok();
        assert_eq!(json(&said)["uri"], "http://grpc.moor.test/a?b");
        return;
    }
    let (mut sender, _) = world.http2("grpc.moor.test").await;
    for (te, wanted) in [(Some("trailers"), "trailers"), (None, "none")] {
        let mut request = Request::post("https://grpc.moor.test/trailers");
        if let Some(te) = te {
            request = request.header("te", te);
        }
        let request = request.body(Empty::<Bytes>::new()).unwrap();
        let response = sender.send_request(request).await.unwrap();
        assert_eq!(response.headers()["x-te"], wanted);
        let body = response.into_body().collect().await.unwrap();
        let trailers = body.trailers().cloned().unwrap();
        assert_eq!(trailers["grpc-status"], "0");
        assert_eq!(body.to_bytes(), "body");
    }
}

#[test]
fn heads_over_the_limit_are_distinguished_from_garbage() {
    let head = format!("HTTP/1.1 200 OK\r\nx: {}\r\n\r\n", "a".repeat(300_000));
    let app = App::raw(Box::leak(head.into_boxed_str()).as_bytes());
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    assert_eq!(slug_of(&world, "https://a.moor.test/"), "answer-oversized");
}

#[test]
fn a_route_that_leads_back_to_us_is_answered_with_its_loop() {
    let world = World::with_routes(&[]);
    let https = world.address("https");
    let back = format!("https://{https}");
    for (name, to) in [("a", "b"), ("b", "a")] {
        let (address, to) = (format!("{name}.moor.test"), format!("{to}.moor.test"));
        world.ok(&[
            "route",
            "add",
            &address,
            &back,
            "--target-name",
            &to,
            "--host",
            "keep",
        ]);
    }
    // The Host is kept, so the request for a comes back to a.
    let said = world.curl(&["-i", "https://a.moor.test/"]).ok();
    assert!(said.starts_with("HTTP/2 421"), "{said}");
    assert!(
        said.contains("this connection is for b.moor.test"),
        "{said}"
    );
    world.ok(&[
        "route",
        "edit",
        "a.moor.test",
        "--target-name",
        "a.moor.test",
    ]);
    let said = world.curl(&["-i", "https://a.moor.test/"]).ok();
    assert!(said.starts_with("HTTP/2 508"), "{said}");
    assert!(said.contains("a.moor.test → a.moor.test"), "{said}");
}
