//! Names outside the zones, looked up by a stand-in upstream resolver.

use std::net::UdpSocket;

use bentlane_tests::{Start, Upstream, World, reserve_port, run};
use rstest::rstest;

fn world(upstreams: &[&str]) -> World {
    let flags = upstreams.iter().flat_map(|at| ["--upstream", at]);
    let world = World::with(Start {
        flags: flags.map(str::to_owned).collect(),
        shared_database: true,
        ..Start::default()
    });
    world.ok(&["zone", "add", "moor.test"]);
    world
}

#[rstest]
#[case("www.outside.example", &["status: NOERROR", "qr aa rd ra;", "ANSWER: 2", "192.0.2.7"])]
#[case("missing.example", &["status: NXDOMAIN", "CNAME\tmissing.example.", "SOA"])]
#[case("silent.example", &["status: SERVFAIL", "CNAME\tsilent.example.", "upstream did not answer"])]
fn aliases_are_followed_outside(#[case] target: &str, #[case] wanted: &[&str]) {
    let upstream = Upstream::new();
    let world = world(&[&upstream.address()]);
    world.ok(&[
        "record",
        "add",
        "away.moor.test",
        "CNAME",
        &format!("{target}."),
    ]);
    for _ in 0..2 {
        let said = world.dig(&["away.moor.test"]);
        for part in wanted {
            assert!(said.contains(part), "{part}: {said}");
        }
    }
    let asked = upstream.asked();
    assert!(
        !asked.is_empty() && !asked.concat().contains("moor"),
        "{asked:?}"
    );
    let said = world.dig(&["+norecurse", "away.moor.test"]);
    assert!(
        said.contains("ANSWER: 1"),
        "only who wants it followed: {said}"
    );
}

#[rstest]
#[case("www.outside.example", &["status: NOERROR", "qr rd ra;", "192.0.2.7"])]
#[case("liar.example", &["status: NOERROR", "192.0.2.7"])]
#[case("slow.example", &["status: NOERROR", "192.0.2.7"])]
#[case("long.example", &["status: NOERROR", "ANSWER: 40", "192.0.2.39"])]
#[case("missing.example", &["status: NXDOMAIN", "SOA"])]
#[case("circle.example", &["status: SERVFAIL", "upstream answered what cannot be used"])]
#[case("refused.example", &["status: SERVFAIL", "upstream answered what cannot be used"])]
#[case("cut.example", &["status: SERVFAIL", "upstream did not answer"])]
#[case("silent.example", &["status: SERVFAIL", "upstream did not answer"])]
#[case("moor.test", &["status: NOERROR", "qr aa rd ra;", "127.0.0.1"])]
#[case("fell.test", &["status: NXDOMAIN", "no zone covers this name"])]
#[case("app.localhost", &["status: NOERROR", "127.0.0.1"])]
fn outside_names(#[case] name: &str, #[case] wanted: &[&str]) {
    let upstream = Upstream::new();
    let world = world(&[&upstream.address()]);
    for part in wanted {
        let said = world.dig(&[name]);
        assert!(said.contains(part), "{part}: {said}");
        assert!(!said.contains("192.0.2.66"), "{said}");
    }
    let ours = name.ends_with(".test") || name.ends_with("localhost");
    assert_eq!(upstream.asked().is_empty(), ours, "{:?}", upstream.asked());
}

#[test]
fn answers_are_cached_and_their_ttl_counts_down() {
    let upstream = Upstream::new();
    let world = world(&[&upstream.address()]);
    for name in [
        "www.example",
        "WWW.exAmple",
        "long.example",
        "missing.example",
    ] {
        world.dig(&[name]);
        let again = world.dig(&["+tcp", name]);
        assert!(again.contains(name), "spelled as asked: {again}");
    }
    assert_eq!(
        upstream.asked(),
        ["www.example.", "long.example.", "missing.example."],
        "each was asked once"
    );
    assert_eq!(upstream.over_tcp(), 1);
    let cut = world.dig(&["+ignore", "+bufsize=512", "long.example"]);
    assert!(cut.contains("qr tc rd ra;"), "{cut}");
}

#[test]
fn another_upstream_is_asked_when_one_is_down() {
    let upstream = Upstream::new();
    let away = format!("127.0.0.1:{}", reserve_port());
    let world = world(&[&away, &upstream.address()]);
    for name in ["one.example", "two.example"] {
        let said = world.dig(&[name]);
        assert!(said.contains("192.0.2.7"), "{said}");
    }
}

#[test]
fn identical_queries_are_sent_once_and_slow_ones_delay_no_others() {
    let upstream = Upstream::new();
    let world = world(&[&upstream.address()]);
    let query = |label: &str| {
        let mut message = b"\x12\x34\x01\0\0\x01\0\0\0\0\0\0".to_vec();
        message.push(u8::try_from(label.len()).unwrap());
        message.extend(label.bytes());
        message.extend(b"\x07example\0\0\x01\0\x01");
        message
    };
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.connect(world.address("dns")).unwrap();
    for label in ["slow", "slow", "silent", "slow"] {
        socket.send(&query(label)).unwrap();
    }
    assert!(world.dig(&["quick.moor.test"]).contains("127.0.0.1"));
    assert!(world.dig(&["quick.example"]).contains("192.0.2.7"));
    let mut buffer = [0; 512];
    for _ in 0..3 {
        let length = socket.recv(&mut buffer).unwrap();
        assert_eq!(&buffer[12..17], b"\x04slow", "{:?}", &buffer[..length]);
    }
    let slow = upstream
        .asked()
        .iter()
        .filter(|name| *name == "slow.example.")
        .count();
    assert_eq!(slow, 1);
}

#[test]
fn without_an_upstream_other_names_are_refused_with_the_reason() {
    let world = world(&["none"]);
    let said = world.dig(&["www.example"]);
    for part in ["status: REFUSED", "no zone covers this name"] {
        assert!(said.contains(part), "{part}: {said}");
    }
}

#[rstest]
#[case("doh.moor.test", "127.0.0.1")]
#[case("www.outside.example", "192.0.2.7")]
fn queries_come_over_https_too(#[case] name: &str, #[case] address: &str) {
    let upstream = Upstream::new();
    let world = world(&[&upstream.address()]);
    let https = world.address("https");
    let (server, port) = (format!("@{}", https.ip()), https.port().to_string());
    let authority = format!("+tls-ca={}", world.root().display());
    for method in ["+https=bentlane.localhost/dns-query", "+https-get"] {
        let said = run(
            "kdig",
            &[
                &server,
                "-p",
                &port,
                "+https=bentlane.localhost/dns-query",
                method,
                &authority,
                "+tls-hostname=bentlane.localhost",
                "+tls-sni=bentlane.localhost",
                name,
            ],
        );
        let said = said.ok();
        assert!(
            said.contains(address) && said.contains("HTTP/2"),
            "{method}: {said}"
        );
    }
    let ask = |args: &[&str]| world.curl(&[args, &["-i"]].concat()).ok();
    let url = "https://bentlane.localhost/dns-query";
    let wrong = ask(&["-H", "content-type: text/plain", "-d", "x", url]);
    assert!(wrong.starts_with("HTTP/2 415"), "{wrong}");
    let wrong = ask(&[&format!("{url}?dns=not*base64")]);
    assert!(wrong.starts_with("HTTP/2 400"), "{wrong}");
    // `host x A` of RFC 8484 section 4.1.1, for a name of ours.
    let wire = "AAABAAABAAAAAAAAAXgEbW9vcgR0ZXN0AAABAAE";
    let good = ask(&[&format!("{url}?dns={wire}"), "-o", "/dev/null", "-D", "-"]);
    for part in [
        "HTTP/2 200",
        "content-type: application/dns-message",
        "cache-control: max-age=10",
    ] {
        assert!(good.contains(part), "{part}: {good}");
    }
    assert!(
        ask(&["https://bentlane.localhost/"]).contains("<title>"),
        "the console is there"
    );
}
