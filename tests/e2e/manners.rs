//! What a route's settings change of requests and responses, and how the two kinds of listeners
//! understand each other.

use bentlane_tests::{App, World, json, make_certificate, run};
use rstest::rstest;
use serde_json::Value;

/// A response's head, with the fields sorted out of it.
fn head(world: &World, url: &str, args: &[&str]) -> String {
    let quiet = ["-o", "/dev/null", "-D", "-", url];
    world.curl(&[&quiet[..], args].concat()).ok()
}

#[test]
fn urls_of_a_target_are_rewritten() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let (port, https) = (app.port(), world.address("https").port());
    world.ok(&["route", "add", "a.moor.test/api", &port, "--strip-prefix"]);
    let own = format!("http://localhost:{port}");
    let public = format!("https://a.moor.test:{https}");
    for (path, fields, wanted) in [
        (
            "/fields",
            format!("location={own}/login?x"),
            format!("location: {public}/login?x"),
        ),
        (
            "/fields",
            "location=/login".to_owned(),
            "location: /login\r".to_owned(),
        ),
        (
            "/api/fields",
            "location=/login".to_owned(),
            "location: /api/login\r".to_owned(),
        ),
        (
            "/api/fields",
            format!("location={own}/v1"),
            format!("location: {public}/api/v1"),
        ),
        (
            "/fields",
            "set-cookie=a=1;%20Domain=localhost&set-cookie=b=2;%20Path=/".to_owned(),
            "set-cookie: a=1; Domain=a.moor.test\r\nset-cookie: b=2; Path=/\r".to_owned(),
        ),
        (
            "/api/fields",
            "set-cookie=a=1;%20Path=/v1".to_owned(),
            "set-cookie: a=1; Path=/api/v1\r".to_owned(),
        ),
    ] {
        let url = format!("{public}{path}?{fields}");
        let said = head(&world, &url, &[]);
        assert!(said.contains(&wanted), "{url}: {said}");
    }
    let told = json(&world.curl(&["https://a.moor.test/api/v1?x=1"]).ok());
    assert_eq!(told["uri"], "/v1?x=1");
    assert_eq!(told["fields"]["x-forwarded-prefix"], "/api");
    assert_eq!(
        json(&world.curl(&["https://a.moor.test/api"]).ok())["uri"],
        "/"
    );
}

#[test]
fn an_app_that_accepts_only_its_own_host_gets_it() {
    let app = App::new();
    let world = World::with_routes(&[]);
    world.ok(&[
        "route",
        "add",
        "a.moor.test",
        &app.port(),
        "--host",
        "target",
    ]);
    let page = "https://a.moor.test/form";
    let args = [
        "-H",
        "origin: https://a.moor.test",
        "-H",
        &format!("referer: {page}"),
        page,
    ];
    let fields = &json(&world.curl(&args).ok())["fields"];
    let own = format!("localhost:{}", app.port());
    assert_eq!(fields["host"], own);
    assert_eq!(fields["x-forwarded-host"], "a.moor.test");
    assert_eq!(fields["origin"], format!("https://{own}"));
    assert_eq!(fields["referer"], format!("https://{own}/form"));
    let foreign = ["-H", "origin: https://evil.example", page];
    let fields = &json(&world.curl(&foreign).ok())["fields"];
    assert_eq!(fields["origin"], "https://evil.example");
}

#[test]
fn pages_of_allowed_origins_may_read() {
    let app = App::new();
    let world = World::with_routes(&[]);
    world.ok(&[
        "route",
        "add",
        "api.moor.test",
        &app.port(),
        "--allow-origins",
        "https://*.moor.test",
        "--allow-origins",
        "http://localhost:3000",
    ]);
    let ask = |path: &str, origin: &str, args: &[&str]| {
        let origin = format!("origin: {origin}");
        let url = format!("https://api.moor.test{path}");
        head(&world, &url, &[&["-H", &origin], args].concat())
    };
    let wants = [
        "-X",
        "OPTIONS",
        "-H",
        "access-control-request-method: PUT",
        "-H",
    ];
    let wants = [&wants[..], &["access-control-request-headers: x-a, x-b"]].concat();
    for origin in ["https://a.moor.test", "http://localhost:3000"] {
        let preflight = ask("/", origin, &wants);
        for part in [
            "HTTP/2 204",
            &format!("access-control-allow-origin: {origin}"),
            "access-control-allow-methods: PUT",
            "access-control-allow-headers: x-a, x-b",
            "access-control-allow-credentials: true",
        ] {
            assert!(preflight.contains(part), "{part}: {preflight}");
        }
        let said = ask("/", origin, &[]);
        assert!(
            said.contains(&format!("access-control-allow-origin: {origin}")),
            "{said}"
        );
        assert!(said.contains("vary: Origin"), "{said}");
    }
    // What the app says itself is not said twice, and others get nothing from us.
    let path = "/fields?access-control-allow-origin=*";
    let said = ask(path, "https://a.moor.test", &[]);
    assert_eq!(
        said.matches("access-control-allow-origin").count(),
        1,
        "{said}"
    );
    for (origin, args) in [
        ("https://evil.example", &wants[..]),
        ("https://evil.example", &[]),
    ] {
        let said = ask("/", origin, args);
        assert!(
            said.contains("HTTP/2 200") && !said.contains("access-control"),
            "{said}"
        );
    }
}

#[test]
fn headers_are_set_and_removed_in_both_directions() {
    let app = App::new();
    let world = World::with_routes(&[]);
    let add = [
        "route",
        "add",
        "a.moor.test",
        &app.port(),
        "--server-timing",
    ];
    let set = [
        "--set-headers",
        "request X-Env: dev",
        "--set-headers",
        "response x-frame: deny",
    ];
    let remove = [
        "--remove-headers",
        "request user-agent",
        "--remove-headers",
        "response x-gone",
    ];
    world.ok(&[&add[..], &set, &remove].concat());
    let fields = &json(&world.curl(&["https://a.moor.test/"]).ok())["fields"];
    assert_eq!(
        (&fields["x-env"], &fields["user-agent"]),
        (&Value::from("dev"), &Value::Null)
    );
    let said = head(&world, "https://a.moor.test/fields?x-gone=1&x-kept=1", &[]);
    assert!(
        said.contains("x-frame: deny") && said.contains("x-kept: 1"),
        "{said}"
    );
    assert!(
        !said.contains("x-gone") && said.contains("server-timing: "),
        "{said}"
    );
    let trace = "traceparent: 00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01";
    let told = json(&world.curl(&["-H", trace, "https://a.moor.test/"]).ok());
    assert!(trace.ends_with(told["fields"]["traceparent"].as_str().unwrap()));
    world.ok(&["route", "edit", "a.moor.test", "--unset", "set_headers"]);
    let said = world.ok(&["route", "show", "a.moor.test"]);
    assert!(!said.contains("x-env") && said.contains("remove_headers   request user-agent, "));
}

#[test]
fn a_paused_route_says_so_and_its_app_gets_no_request() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.ok(&[
        "route",
        "edit",
        "a.moor.test",
        "--paused",
        "--note",
        "until Monday",
    ]);
    let said = world.curl(&["-i", "https://a.moor.test/"]).ok();
    for part in [
        "HTTP/2 503",
        "route-paused",
        "until Monday",
        "--paused=false",
    ] {
        assert!(said.contains(part), "{part}: {said}");
    }
    let checked = world.run(&["check", "--routes-only", "a.moor.test"]);
    assert_eq!(checked.code, 0, "a paused route is no fault: {checked:?}");
    world.ok(&["route", "edit", "a.moor.test", "--paused=false"]);
    assert!(
        world
            .curl(&["-i", "https://a.moor.test/"])
            .ok()
            .starts_with("HTTP/2 200")
    );
}

#[test]
fn redirects_follow_the_settings_of_the_route() {
    let world = World::with_routes(&[]);
    let to = "redirect:https://moor.example/new";
    let add = ["route", "add", "old.moor.test", to];
    let how = ["--redirect-status", "301", "--keep-path"];
    world.ok(&[&add[..], &how].concat());
    let said = head(&world, "https://old.moor.test/a?b=1", &[]);
    assert!(said.starts_with("HTTP/2 301"), "{said}");
    assert!(
        said.contains("location: https://moor.example/new/a?b=1"),
        "{said}"
    );
}

#[rstest]
#[case("serve", 200)]
#[case("refuse", 403)]
#[case("redirect", 308)]
fn plain_http_follows_the_settings_of_zone_and_route(#[case] plain: &str, #[case] status: u16) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.ok(&["zone", "edit", "moor.test", "--plain", plain]);
    let ask = |name: &str| {
        let url = format!("http://{}/x", world.address("http"));
        let host = format!("host: {name}");
        run("curl", &["-sS", "-i", "-H", &host, &url]).ok()
    };
    let said = ask("a.moor.test");
    assert!(said.starts_with(&format!("HTTP/1.1 {status}")), "{said}");
    if plain == "serve" {
        assert!(said.contains(r#""x-forwarded-proto":"http""#), "{said}");
    }
    let other = if plain == "redirect" {
        "serve"
    } else {
        "redirect"
    };
    world.ok(&["route", "edit", "a.moor.test", "--plain", other]);
    let wanted = if other == "serve" { 200 } else { 308 };
    assert!(ask("a.moor.test").starts_with(&format!("HTTP/1.1 {wanted}")));
}

#[test]
fn each_port_understands_the_other_scheme() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let (http, https) = (world.address("http"), world.address("https"));
    let said = run(
        "curl",
        &[
            "-sS",
            "-i",
            "-H",
            "host: a.moor.test",
            &format!("http://{https}/x?y"),
        ],
    );
    let said = said.ok();
    let location = format!("location: https://a.moor.test:{}/x?y", https.port());
    assert!(
        said.starts_with("HTTP/1.1 308") && said.contains(&location),
        "{said}"
    );
    let resolve = format!("a.moor.test:{}:127.0.0.1", http.port());
    let url = format!("https://a.moor.test:{}/", http.port());
    let root = world.root().display().to_string();
    let said = run(
        "curl",
        &["-sS", "--cacert", &root, "--resolve", &resolve, &url],
    )
    .ok();
    assert_eq!(json(&said)["fields"]["x-forwarded-proto"], "https");
}

#[test]
fn a_connection_serves_only_the_names_of_its_certificate() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port()), ("b.moor.test", &app.port())]);
    let status = |host: &str| {
        let host = format!("host: {host}");
        let quiet = ["-o", "/dev/null", "-w", "%{http_code}", "-H", &host];
        world
            .curl(&[&quiet[..], &["https://a.moor.test/"]].concat())
            .ok()
    };
    assert_eq!(
        (status("a.moor.test"), status("b.moor.test")),
        ("200".into(), "421".into())
    );
    // A certificate that is for both may serve both, as browsers reuse connections.
    let (certificate, key) = (world.path("w.pem"), world.path("w.key"));
    let (certificate, key) = (certificate.to_str().unwrap(), key.to_str().unwrap());
    let names = "subjectAltName=DNS:*.moor.test";
    make_certificate(
        &["-subj", "/CN=w", "-days", "30", "-addext", names],
        certificate,
        key,
    );
    world.ok(&["cert", "import", certificate, key]);
    let status = |host: &str| {
        let host = format!("host: {host}");
        let quiet = ["-k", "-o", "/dev/null", "-w", "%{http_code}", "-H", &host];
        world
            .curl(&[&quiet[..], &["https://a.moor.test/"]].concat())
            .ok()
    };
    assert_eq!(status("b.moor.test"), "200");
    // A route may choose another certificate than the best.
    let issuer = |name: &str| {
        let shown = world.json(&["cert", "show", name]);
        shown["issuer"].as_str().unwrap().to_owned()
    };
    assert!(issuer("a.moor.test").contains("CN=w"));
    world.ok(&["route", "edit", "a.moor.test", "--cert", "issued"]);
    assert!(issuer("a.moor.test").contains("Bent Lane"));
    world.ok(&["route", "edit", "a.moor.test", "--cert", "*.moor.test"]);
    assert!(issuer("a.moor.test").contains("CN=w"));
    let missing = world.run(&["route", "edit", "a.moor.test", "--cert", "x.example"]);
    assert_eq!(missing.code, 2, "{missing:?}");
}

#[test]
fn values_for_other_systems_are_shown() {
    let world = World::with_routes(&[("login.moor.test/sso", "4310")]);
    let port = world.address("https").port();
    let values = &world.json(&["route", "show", "login.moor.test/sso"])["values"];
    assert_eq!(values["origin"], format!("https://login.moor.test:{port}"));
    assert_eq!(
        values["callback_base"],
        format!("https://login.moor.test:{port}/sso/")
    );
    assert_eq!(values["cookie_domain"], "moor.test");
    assert_eq!(
        (&values["host"], &values["port"]),
        (&Value::from("login.moor.test"), &port.into())
    );
    let shown = world.ok(&["route", "show", "login.moor.test/sso"]);
    assert!(
        shown.contains("callbacks") && shown.contains("cookies    moor.test"),
        "{shown}"
    );
}

#[test]
fn similar_routes_are_named_where_there_is_none() {
    let world = World::with_routes(&[("booking.moor.test", "1"), ("weather.moor.test", "2")]);
    let said = world.curl(&["https://boking.moor.test/"]).ok();
    assert!(said.contains("there is booking.moor.test"), "{said}");
    assert!(!said.contains("there is weather"), "{said}");
}
