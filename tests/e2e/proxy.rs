//! The proxy, asked by real clients.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::{Command, Stdio};

use bentlane_tests::{App, World, json, reply, reserve_port, run};
use bytes::Bytes;
use http_body_util::Empty;
use hyper::Request;
use hyper::client::conn::http1;
use hyper_util::rt::TokioIo;
use rstest::rstest;
use serde_json::Value;

#[rstest]
#[case("--http1.1")]
#[case("--http2")]
fn requests_reach_their_target_with_forwarded_fields(#[case] version: &str) {
    let (app, api) = (App::new(), App::new());
    let world = World::with_routes(&[
        ("booking.moor.test", &app.port()),
        (
            "booking.moor.test/api",
            &format!("http://127.0.0.1:{}", api.port()),
        ),
        ("*.hut.moor.test", &app.port()),
    ]);
    let forged = [
        "-H",
        "x-forwarded-for: 6.6.6.6",
        "-H",
        "forwarded: for=6.6.6.6",
    ];
    let private = [
        "-H",
        "connection: x-private",
        "-H",
        "x-private: 1",
        "-H",
        "te: trailers",
    ];
    let url = "https://Booking.moor.test/a/b?c=d";
    let said = world.curl(&[&[version, "-b", "one=1; two=2", url], &forged[..], &private].concat());
    let told = json(&said.ok());
    assert_eq!(told["uri"], "/a/b?c=d");
    let fields = &told["fields"];
    assert_eq!(fields["host"], "Booking.moor.test", "the host is kept");
    assert_eq!(fields["x-forwarded-for"], "127.0.0.1");
    assert_eq!(fields["x-forwarded-host"], "Booking.moor.test");
    assert_eq!(fields["x-forwarded-proto"], "https");
    assert_eq!(
        fields["x-forwarded-port"],
        world.address("https").port().to_string()
    );
    assert_eq!(
        fields["forwarded"],
        "for=127.0.0.1;host=\"Booking.moor.test\";proto=https"
    );
    let via = fields["via"].as_str().unwrap();
    assert!(
        via.starts_with("1.1 bentlane-") && via.ends_with(" (booking.moor.test)"),
        "{via}"
    );
    assert_eq!(fields["cookie"], "one=1; two=2");
    // HTTP/2 has no Connection field, so there curl sends the other as one like any.
    let kept = if version == "--http2" { "1" } else { "" };
    assert_eq!(fields["x-private"].as_str().unwrap_or_default(), kept);
    for gone in ["connection", "te", "upgrade"] {
        assert_eq!(fields[gone], Value::Null, "{gone}: {fields}");
    }

    let hut = json(
        &world
            .curl(&[version, "https://ravenstone.hut.moor.test/"])
            .ok(),
    );
    assert_eq!(hut["fields"]["host"], "ravenstone.hut.moor.test");
    let api = json(
        &world
            .curl(&[version, "https://booking.moor.test/api/huts"])
            .ok(),
    );
    assert_eq!(api["uri"], "/api/huts", "the prefix is kept");
}

#[rstest]
#[case("--http1.1", "HTTP/1.1 200")]
#[case("--http2", "HTTP/2 200")]
fn responses_lose_hop_by_hop_fields(#[case] version: &str, #[case] status: &str) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let said = world
        .curl(&[version, "-i", "https://a.moor.test/connection"])
        .ok();
    assert!(said.starts_with(status), "{said}");
    assert!(
        said.contains("x-public: 1") && said.contains("via: 1.1 bentlane"),
        "{said}"
    );
    assert!(
        !said.contains("x-private: 1") && !said.contains("keep-alive"),
        "{said}"
    );
    let missing = world.curl(&[
        version,
        "-o",
        "/dev/null",
        "-w",
        "%{http_code}",
        "https://a.moor.test/status/404",
    ]);
    assert_eq!(missing.ok(), "404");
    let head = world.curl(&[version, "-I", "https://a.moor.test/status/204"]);
    assert!(head.ok().contains(" 204"));
}

#[rstest]
#[case("--http1.1")]
#[case("--http2")]
fn bodies_stream_both_ways(#[case] version: &str) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let payload: Vec<u8> = (0..5_000_000u32).map(|i| (i % 251) as u8).collect();
    std::fs::write(world.path("up"), &payload).unwrap();
    let upload = format!("@{}", world.path("up").display());
    let down = world.path("down");
    let down_text = down.to_str().unwrap();
    let url = "https://a.moor.test/echo";
    for length in [&["-H", "transfer-encoding: chunked"][..], &[]] {
        // HTTP/2 has no chunks; a body without a length is its form of them.
        let length = if version == "--http2" { &[] } else { length };
        let args = [
            &[version, "--data-binary", &upload, "-o", down_text, url][..],
            length,
        ];
        world.curl(&args.concat()).ok();
        assert!(
            std::fs::read(&down).unwrap() == payload,
            "every byte came back"
        );
    }

    // The first events arrive although the response never ends.
    let ticks = world.curl(&[
        version,
        "-N",
        "--max-time",
        "1",
        "https://a.moor.test/ticks",
    ]);
    assert_eq!(ticks.code, 28, "curl's time ran out: {ticks:?}");
    assert!(
        ticks.stdout.starts_with("data: 0\n\ndata: 1\n\n"),
        "{ticks:?}"
    );
}

#[test]
fn plain_http_is_sent_to_https() {
    let world = World::with_routes(&[]);
    let (http, https) = (world.address("http"), world.address("https"));
    let url = format!("http://{http}/a/b?c=d");
    let redirect = |method| {
        let args = ["-sS", "-i", "-X", method, "-H", "host: A.moor.test", &url];
        run("curl", &args).ok()
    };
    for method in ["GET", "POST"] {
        let said = redirect(method);
        assert!(said.starts_with("HTTP/1.1 308"), "{said}");
        let location = format!("location: https://a.moor.test:{}/a/b?c=d", https.port());
        assert!(said.contains(&location), "{said}");
    }
}

#[rstest]
#[case("-tls1_2", "TLSv1.2", "h2")]
#[case("-tls1_3", "TLSv1.3", "http/1.1")]
fn both_tls_versions_and_protocols_are_offered(
    #[case] flag: &str,
    #[case] version: &str,
    #[case] protocol: &str,
) {
    let world = World::with_routes(&[]);
    let (at, root) = (world.address("https").to_string(), world.root());
    let root = root.to_str().unwrap();
    let connect = |name: &str| {
        let hello = [
            "s_client",
            "-connect",
            &at,
            "-servername",
            name,
            "-CAfile",
            root,
            flag,
        ];
        let verify = ["-alpn", protocol, "-verify_hostname", name, "-brief"];
        run("openssl", &[&hello[..], &verify].concat())
    };
    let said = connect("x.y.moor.test").stderr;
    assert!(said.contains("Verification: OK"), "{said}");
    assert!(said.contains(version), "{said}");
    let unknown = connect("example.com");
    assert_ne!(
        unknown.code, 0,
        "no certificate outside the zones: {unknown:?}"
    );
}

#[test]
fn other_tls_libraries_refuse_a_leaf_outside_the_zones() {
    let world = World::with_routes(&[]);
    let at = world.address("https").to_string();
    let hello = [
        "s_client",
        "-connect",
        &at,
        "-servername",
        "a.moor.test",
        "-showcerts",
    ];
    let chain = run("openssl", &hello).stdout;
    let certificates: Vec<&str> = chain.split_inclusive("-----END CERTIFICATE-----").collect();
    assert_eq!(
        certificates.len(),
        3,
        "leaf, issuer and what follows: {chain}"
    );
    let (leaf, issuer) = (world.path("leaf.pem"), world.path("issuer.pem"));
    std::fs::write(&leaf, certificates[0]).unwrap();
    std::fs::write(&issuer, certificates[1]).unwrap();
    let (root, issuer, leaf) = (
        world.root(),
        issuer.display().to_string(),
        leaf.display().to_string(),
    );
    let verify = [
        "verify",
        "-CAfile",
        root.to_str().unwrap(),
        "-untrusted",
        &issuer,
        &leaf,
    ];
    assert!(run("openssl", &verify).ok().contains("OK"));
    let shown = run(
        "openssl",
        &["x509", "-in", &issuer, "-noout", "-ext", "nameConstraints"],
    )
    .ok();
    assert!(
        shown.contains("critical") && shown.contains("DNS:moor.test"),
        "{shown}"
    );
}

#[rstest]
#[case("http/1.1")]
#[case("h2")]
#[tokio::test(flavor = "multi_thread")]
async fn heads_over_64_kib_get_431(#[case] protocol: &str) {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    for (fields, wanted) in [(3, 200), (5, 431), (8, 431), (3, 200)] {
        let mut request = Request::get("https://a.moor.test/").header("host", "a.moor.test");
        for number in 0..fields {
            request = request.header(format!("x-{number}"), "a".repeat(15_000));
        }
        let request = request.body(Empty::<Bytes>::new()).unwrap();
        let response = if protocol == "h2" {
            let (mut sender, _) = world.http2("a.moor.test").await;
            sender.send_request(request).await
        } else {
            let io = TokioIo::new(world.tls("a.moor.test", protocol).await);
            let (mut sender, connection) = http1::handshake(io).await.unwrap();
            tokio::spawn(connection);
            sender.send_request(request).await
        };
        assert_eq!(response.unwrap().status(), wanted, "{fields} fields");
    }
}

#[test]
fn faults_are_distinguished_and_explained() {
    let closing = App::raw(b"");
    let garbage = App::raw(b"SSH-2.0-OpenSSH_9.2\r\n");
    let down = reserve_port().to_string();
    let world = World::with_routes(&[
        ("down.moor.test", &down),
        ("closing.moor.test", &closing.port()),
        ("garbage.moor.test", &garbage.port()),
        ("unknown.moor.test", "http://no-such-host.invalid:80"),
    ]);
    let rows = [
        (
            "down",
            502,
            "target-refuses",
            format!("nothing listens on port {down}"),
        ),
        (
            "closing",
            502,
            "answer-missing",
            "without a response".to_owned(),
        ),
        (
            "garbage",
            502,
            "answer-malformed",
            "not plain HTTP".to_owned(),
        ),
        (
            "unknown",
            502,
            "target-unknown",
            "does not resolve".to_owned(),
        ),
        (
            "missing",
            404,
            "route-missing",
            "bentlane route add missing.moor.test PORT".to_owned(),
        ),
    ];
    for (label, status, slug, part) in rows {
        let url = format!("https://{label}.moor.test/");
        let text = world.curl(&["-i", &url]).ok();
        assert!(text.starts_with(&format!("HTTP/2 {status}")), "{text}");
        assert!(
            text.contains(&format!("bentlane-finding: {slug}")),
            "{text}"
        );
        assert!(text.contains(&part), "{text}");

        let problem = world.curl(&["-H", "accept: application/json", &url]).ok();
        assert_eq!(json(&problem)["status"], status, "{problem}");
        assert_eq!(json(&problem)["finding"]["slug"], slug, "{problem}");

        let page = world.curl(&["-H", "accept: text/html", &url]).ok();
        assert!(page.contains("<svg") && page.contains(slug), "{page}");
    }
}

#[test]
fn a_truncated_response_is_not_passed_on_as_complete() {
    let broken = App::raw(b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nonly a part");
    let world = World::with_routes(&[("a.moor.test", &broken.port())]);
    for version in ["--http1.1", "--http2"] {
        let run = world.curl(&[version, "https://a.moor.test/"]);
        assert_ne!(run.code, 0, "{run:?}");
    }
}

#[test]
fn a_target_that_restarts_is_reached_again() {
    let app = App::new();
    let port = app.port();
    let world = World::with_routes(&[("a.moor.test", &port)]);
    world.curl(&["https://a.moor.test/"]).ok();
    drop(app);
    let _again = App::on(port.parse().unwrap());
    let url = "https://a.moor.test/";
    let code = world
        .curl(&["-o", "/dev/null", "-w", "%{http_code}", url])
        .ok();
    assert_eq!(
        code, "200",
        "the connection that was kept is not trusted blindly"
    );
}

/// Sends `head` over TLS as it is and gives the status line of the response.
fn raw_request(world: &World, head: &str) -> String {
    let at = world.address("https").to_string();
    let mut client = Command::new("openssl")
        .args([
            "s_client",
            "-quiet",
            "-connect",
            &at,
            "-servername",
            "a.moor.test",
        ])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    client
        .stdin
        .as_mut()
        .unwrap()
        .write_all(head.as_bytes())
        .unwrap();
    let output = client.wait_with_output().unwrap();
    String::from_utf8_lossy(&output.stdout)
        .lines()
        .next()
        .unwrap_or_default()
        .to_owned()
}

#[test]
fn ambiguous_requests_are_refused() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let rows = [
        "GET / HTTP/1.1\r\nconnection: close\r\n\r\n",
        "GET / HTTP/1.1\r\nhost: a.moor.test\r\nhost: b.moor.test\r\nconnection: close\r\n\r\n",
        "GET / HTTP/1.1\r\nhost : a.moor.test\r\nconnection: close\r\n\r\n",
        "GET / HTTP/1.1\r\nhost: a.moor.test/x\r\nconnection: close\r\n\r\n",
        "CONNECT a.moor.test:443 HTTP/1.1\r\nhost: a.moor.test:443\r\nconnection: close\r\n\r\n",
    ];
    for head in rows {
        assert!(
            raw_request(&world, head).starts_with("HTTP/1.1 400"),
            "{head}"
        );
    }
    let fine = "GET / HTTP/1.1\r\nhost: a.moor.test\r\nconnection: close\r\n\r\n";
    assert!(raw_request(&world, fine).starts_with("HTTP/1.1 200"));
    let http10 = "GET / HTTP/1.0\r\nhost: a.moor.test\r\n\r\n";
    assert!(raw_request(&world, http10).starts_with("HTTP/1.0 200"));

    // Bytes that are no handshake end only their own connection.
    let mut stream = TcpStream::connect(world.address("https")).unwrap();
    stream.write_all(b"GET / HTTP/1.1\r\n\r\n").unwrap();
    let _ = stream.read(&mut [0; 64]);
    world.curl(&["https://a.moor.test/"]).ok();
}

#[rstest]
#[case("--http1.1")]
#[case("--http2")]
fn a_body_that_is_not_read_does_not_lose_the_response(#[case] version: &str) {
    let hasty = App::hasty(|_| reply(413, &[], "no"));
    let down = reserve_port().to_string();
    let world = World::with_routes(&[
        ("hasty.moor.test", &hasty.port()),
        ("down.moor.test", &down),
    ]);
    let upload = world.path("upload");
    std::fs::write(&upload, vec![b'x'; 3_000_000]).unwrap();
    let body = format!("@{}", upload.display());
    for (name, status) in [("hasty", "413"), ("down", "502"), ("nowhere", "404")] {
        for octets in ["four", &body] {
            // What comes first, the answer or the end of the body, is another each time.
            for _ in 0..5 {
                let said = world.curl(&[
                    version,
                    "-H",
                    "expect:",
                    "-o",
                    "/dev/null",
                    "-w",
                    "%{http_code}",
                    "--data-binary",
                    octets,
                    &format!("https://{name}.moor.test/"),
                ]);
                assert_eq!(said.stdout, status, "{name}: {}", said.stderr);
            }
        }
    }
}

#[rstest]
#[case(b"HTTP/1.1 204 No Content\r\ncontent-length: 5\r\n\r\n", "204")]
#[case(
    b"HTTP/1.1 304 Not Modified\r\ncontent-length: 5\r\netag: \"a\"\r\n\r\n",
    "304"
)]
fn a_length_of_content_that_is_not_there_is_not_passed(
    #[case] answer: &'static [u8],
    #[case] status: &str,
) {
    let app = App::raw(answer);
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    for version in ["--http1.1", "--http2"] {
        let url = "https://a.moor.test/";
        let answer = world.curl(&[version, "-D", "-", "-w", "ends with %{http_code}", url]);
        let said = answer.ok();
        assert!(
            said.ends_with(&format!("ends with {status}")),
            "{version}: {said}"
        );
        assert!(!said.contains("content-length"), "{version}: {said}");
    }
}

#[tokio::test]
async fn a_client_that_offers_http_1_0_alone_is_served() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let mut stream = world.tls("a.moor.test", "http/1.0").await;
    let request = b"GET / HTTP/1.0\r\nhost: a.moor.test\r\n\r\n";
    tokio::io::AsyncWriteExt::write_all(&mut stream, request)
        .await
        .unwrap();
    let mut said = String::new();
    let _ = tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut said).await;
    assert!(said.starts_with("HTTP/1.0 200"), "{said}");
}

#[test]
fn a_check_takes_the_fields_that_the_proxy_passes() {
    let app = App::answering(0, |_| {
        let value = "x".repeat(1000);
        let names: Vec<String> = (0..60).map(|number| format!("x-field-{number}")).collect();
        let fields: Vec<(&str, &str)> = names.iter().map(|name| (&**name, &*value)).collect();
        reply(200, &fields, "many fields")
    });
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let page = world.curl(&["--http2", "https://a.moor.test/"]);
    assert_eq!(page.ok(), "many fields");
    let checked = world.run(&["check", "--routes-only", "--format", "json"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    assert!(!checked.stdout.contains("answer-missing"), "{checked:?}");
}
