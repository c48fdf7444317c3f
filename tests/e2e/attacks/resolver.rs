//! The resolver: names of strangers that lead to this machine, and DNS over HTTPS for others.

use bentlane_tests::{Start, Upstream, World, run};
use rstest::rstest;

use super::as_other_user;

fn world(upstream: &Upstream, flags: &[&str]) -> World {
    let at = upstream.address();
    let flags = [&["--upstream", &at], flags].concat();
    let world = World::with(Start {
        flags: flags.into_iter().map(str::to_owned).collect(),
        shared_database: true,
        ..Start::default()
    });
    world.ok(&["zone", "add", "moor.test"]);
    world
}

#[rstest]
#[case(&[], "near.evil.example", Some("127.0.0.1"))]
#[case(&["--rebind-protection", "loopback"], "near.evil.example", None)]
#[case(&["--rebind-protection", "loopback"], "lan.corp.example", Some("192.168.7.7"))]
#[case(&["--rebind-protection", "private"], "lan.evil.example", None)]
#[case(&["--rebind-protection", "private", "--rebind-exception", "corp.example"], "lan.corp.example", Some("192.168.7.7"))]
#[case(&["--rebind-protection", "private", "--rebind-exception", "corp.example"], "lan.notcorp.example", None)]
#[case(&["--rebind-protection", "private"], "www.outside.example", Some("192.0.2.7"))]
#[case(&["--rebind-protection", "private"], "a.moor.test", Some("127.0.0.1"))]
fn a_foreign_name_does_not_resolve_to_this_machine(
    #[case] flags: &[&str],
    #[case] name: &str,
    #[case] address: Option<&str>,
) {
    let upstream = Upstream::new();
    let world = world(&upstream, flags);
    let said = world.dig(&[name]);
    if let Some(address) = address {
        assert!(said.contains(&format!("\t{address}")), "{said}");
        return;
    }
    assert!(
        said.contains("status: NOERROR") && said.contains("ANSWER: 0"),
        "{said}"
    );
    assert!(
        said.contains("rebind_protection"),
        "the reason is told: {said}"
    );
    for transport in ["+tcp", "+notcp"] {
        assert_eq!(world.dig(&["+short", transport, name]).trim(), "");
    }
    world.ok(&[
        "record",
        "add",
        "away.moor.test",
        "CNAME",
        &format!("{name}."),
    ]);
    let alias = world.dig(&["away.moor.test"]);
    assert!(
        !alias.contains("192.168") && !alias.contains("\t127."),
        "{alias}"
    );
    let log = world.get("/queries?limit=50");
    let blocked = log["queries"].as_array().unwrap().iter();
    let blocked = blocked.filter(|it| it["outcome"] == "blocked" && it["name"] == name);
    assert!(blocked.count() > 0, "{log:#}");
}

#[test]
fn dns_over_https_answers_this_machine_and_no_other_origin() {
    let upstream = Upstream::new();
    let world = world(&upstream, &[]);
    // The question a.moor.test A (RFC 8484 §4.1).
    let question = "AAABAAABAAAAAAAAAWEEbW9vcgR0ZXN0AAABAAE";
    let path = format!("/dns-query?dns={question}");
    let own = format!("https://bentlane.localhost{path}");
    let code = ["-o", "/dev/null", "-w", "%{http_code}"];
    let ask = |args: &[&str]| world.curl(&[&code[..], args].concat()).stdout;
    assert_eq!(ask(&[&own]), "200");
    assert_eq!(ask(&[&own, "-H", "origin: https://evil.example"]), "403");
    assert_eq!(ask(&[&own, "-H", "origin: null"]), "403");
    // The console's own listener does not serve it, whatever name it is asked by.
    let link = world.sign_in_link();
    let (console, _) = link.split_once("/#").unwrap();
    let plain = run(
        "curl",
        &[&["-sS", &format!("{console}{path}")][..], &code].concat(),
    );
    assert_eq!(plain.stdout, "403");
    let by_address = format!("http://{}{path}", world.address("console"));
    let rebound = as_other_user("curl", &[&["-sS", &by_address][..], &code].concat());
    assert_eq!(rebound.stdout, "421");
}
