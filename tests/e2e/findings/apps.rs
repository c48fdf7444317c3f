//! What is known of the process behind a port, and of its files.

use bentlane_tests::{World, reserve_port, wait_until};
use rustix::process::Signal;
use serde_json::Value;

use super::{check, finding, has, site, worst};

#[test]
fn an_app_that_runs_with_old_configuration_is_reported() {
    let world = World::with_routes(&[]);
    let port = reserve_port();
    let written = world.path("Highmoor").join(".env");
    std::fs::create_dir(world.path("Highmoor")).unwrap();
    std::fs::write(&written, "HUTS=3").unwrap();
    let first = site(&world, "Highmoor", port);
    world.ok(&["route", "add", "a.moor.test", &port.to_string()]);
    // It was written before the app was started.
    assert!(!has(&check(&world, "a.moor.test"), "old-configuration"));
    let age = || {
        std::fs::metadata(&written)
            .unwrap()
            .modified()
            .unwrap()
            .elapsed()
    };
    wait_until("the app to be old", || {
        age()
            .unwrap_or_default()
            .gt(&std::time::Duration::from_secs(4))
            .then_some(())
    });
    std::fs::write(&written, "HUTS=4").unwrap();
    let verdict = check(&world, "a.moor.test");
    let found = finding(&verdict, "old-configuration");
    assert_eq!(
        (&found["hop"], &found["severity"]),
        (&"connect".into(), &"hint".into())
    );
    assert!(
        found["evidence"][1]
            .as_str()
            .unwrap()
            .starts_with(".env was written")
    );
    assert_eq!(verdict["passed"], true);
    drop(first);
    let _again = site(&world, "Highmoor", port);
    assert!(!has(&check(&world, "a.moor.test"), "old-configuration"));
}

#[test]
fn sources_are_not_served_unless_the_route_says_so() {
    let world = World::with_routes(&[]);
    let folder = world.path("shop");
    std::fs::create_dir(&folder).unwrap();
    std::fs::write(folder.join("index.html"), "<title>Shop</title>").unwrap();
    std::fs::write(folder.join("pay.PHP"), "<?php $password = 'hut';").unwrap();
    let target = format!("folder:{}", folder.display());
    world.ok(&["route", "add", "a.moor.test", &target]);
    let verdict = check(&world, "a.moor.test");
    let found = worst(&verdict);
    assert_eq!(found["slug"], "sources-not-served", "{verdict:#}");
    assert_eq!(
        (&found["hop"], &found["severity"]),
        (&"answer".into(), &"warning".into())
    );
    let command = found["fix"]["command"].as_str().unwrap();
    assert!(
        command.starts_with("php -S 127.0.0.1:PORT -t /"),
        "{command}"
    );
    let ask = || world.curl(&["-i", "https://a.moor.test/pay.PHP"]).stdout;
    let refused = ask();
    assert!(
        refused.contains("bentlane-finding: sources-not-served"),
        "{refused}"
    );
    assert!(
        refused.starts_with("HTTP/2 403") && !refused.contains("$password"),
        "{refused}"
    );
    world.ok(&["route", "edit", "a.moor.test", "--serve-sources"]);
    assert!(ask().contains("$password"));
    assert!(!has(&check(&world, "a.moor.test"), "sources-not-served"));
}

#[test]
fn a_failing_route_says_until_when_it_was_proved_and_what_changed() {
    let mut world = World::with_routes(&[]);
    let port = reserve_port();
    let first = site(&world, "Highmoor", port);
    let git = world.path("Highmoor").join(".git");
    std::fs::create_dir(&git).unwrap();
    std::fs::write(git.join("HEAD"), "ref: refs/heads/main").unwrap();
    world.ok(&["route", "add", "a.moor.test", &port.to_string()]);
    let proved = check(&world, "a.moor.test");
    assert_eq!(
        (&proved["passed"], &proved["since"]),
        (&true.into(), &Value::Null)
    );

    let process = format!("(process {} in ", first.pid());
    drop(first);
    std::fs::write(git.join("HEAD"), "ref: refs/heads/fix").unwrap();
    std::fs::write(world.path("Highmoor").join(".env"), "HUTS=3").unwrap();
    let edit = ["route", "edit", "a.moor.test", "--note", "x"];
    world.ok(&[&edit[..], &["--server-timing"]].concat());
    let failing = check(&world, "a.moor.test");
    let since = &failing["since"];
    assert_eq!(since["proved_at"], proved["checked_at"], "{since:#}");
    let changes = since["changes"].as_array().unwrap();
    let what = |change: &Value| change["what"].as_str().unwrap().to_owned();
    let all: Vec<String> = changes.iter().map(what).collect();
    for (part, timed) in [
        (".env was written", true),
        (
            "the route a.moor.test was edited (note, server_timing) by ",
            true,
        ),
        (&process, false),
        ("the branch is fix, and was main", false),
    ] {
        let found = all.iter().position(|what| what.contains(part));
        let found = found.unwrap_or_else(|| panic!("{part}: {all:?}"));
        assert_eq!(changes[found]["at"].is_string(), timed, "{part}");
    }
    // In the terminal, and where the page was looked for.
    let shown = world.run(&["check", "--routes-only", "a.moor.test"]);
    assert!(shown.stdout.contains("ago: .env was written"), "{shown:?}");
    let url = "https://a.moor.test/";
    let page = world.curl(&["-H", "accept: text/html", url]).stdout;
    assert!(page.contains("the branch is fix, and was main"), "{page}");
    let text = world.curl(&[url]).stdout;
    let parts = ["\nproved ", ".env was written"];
    assert!(parts.iter().all(|part| text.contains(part)), "{text}");
    // A restart of the service does not forget it.
    world.end(Signal::TERM);
    world.wake();
    let again = wait_until("what was proved to be known", || {
        let verdict = check(&world, "a.moor.test");
        verdict["since"].is_object().then_some(verdict)
    });
    assert_eq!(again["since"]["proved_at"], since["proved_at"], "{again:#}");
}
