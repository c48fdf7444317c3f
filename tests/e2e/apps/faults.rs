//! Apps that do not run as they should: each has its finding.

use std::fs;

use bentlane_tests::{App, World, reserve_port, wait_until};
use rstest::rstest;

use super::{add, any_app, ask, processes_of, status, wait_for, with_app};

#[rstest]
#[case::missing("no-such-hut --serve", &[], "app-command-missing", "there is no such command")]
#[case::ends_well("echo done", &[], "app-crashed", "ended by itself (exit code 0)")]
#[case::ends("echo Traceback; exit 3", &[], "app-crashed", "crashed with exit code 3")]
#[case::killed("kill -SEGV $$", &[], "app-crashed", "was ended by SIGSEGV")]
#[case::never_ready("sleep 60", &["--start-timeout", "1s"], "app-not-ready", "does not listen on port")]
#[case::never_says("sleep 60", &["--start-timeout", "1s", "--ready", "output:Ready"], "app-not-ready", "has not printed “Ready”")]
#[case::asks(
    "printf 'Which hut? '; read hut; echo $hut",
    &["--start-timeout", "2s"],
    "app-not-ready",
    "Which hut?"
)]
#[case::no_newline("head -c 300000 /dev/zero | tr '\\0' x; sleep 60", &["--start-timeout", "2s"], "app-not-ready", "xxx")]
fn each_fault_has_its_finding(
    #[case] command: &str,
    #[case] settings: &[&str],
    #[case] finding: &str,
    #[case] shown: &str,
) {
    let world = with_app(command, settings);
    let asked = ask(&world, "/");
    assert!(
        asked.stdout.ends_with(&format!("503 {finding}")),
        "{asked:?}"
    );
    assert!(asked.stdout.contains(shown), "{asked:?}");
    let shown = world.run(&["app", "show", "huts"]);
    assert_eq!(shown.code, 1, "{shown:?}");
    assert!(shown.stdout.contains(finding), "{shown:?}");
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 1, "{checked:?}");
    assert!(checked.stdout.contains(finding), "{checked:?}");
    assert_eq!(processes_of(&world.path("huts")), Vec::<String>::new());
}

#[test]
fn a_folder_that_is_gone_and_a_port_that_is_taken_are_said() {
    let world = World::new().add_routes(&[]);
    add(&world, "huts", &any_app(""), &[]);
    let folder = world.path("huts");
    fs::remove_dir(&folder).unwrap();
    let asked = ask(&world, "/");
    assert!(
        asked.stdout.ends_with("503 app-folder-missing"),
        "{asked:?}"
    );
    fs::create_dir(&folder).unwrap();
    world.ok(&["app", "start", "huts"]);
    world.ok(&["app", "stop", "huts"]);

    let port = reserve_port();
    let held = std::net::TcpListener::bind(("127.0.0.1", port)).unwrap();
    world.ok(&["app", "edit", "huts", "--port", &port.to_string()]);
    let started = world.run(&["app", "start", "huts"]);
    assert_eq!(started.code, 1, "{started:?}");
    assert!(started.stdout.contains("app-port-held"), "{started:?}");
    assert!(
        started.stdout.contains(&format!("has its port {port}")),
        "{started:?}"
    );
    drop(held);
    // A port that was assigned gives way to another one.
    world.ok(&["app", "edit", "huts", "--unset", "port"]);
    let assigned = world.get("/apps/huts")["ports"][""].as_u64().unwrap();
    let held = std::net::TcpListener::bind(("127.0.0.1", u16::try_from(assigned).unwrap()));
    let started = world.ok(&["app", "start", "huts"]);
    assert!(started.contains("is running at"), "{started}");
    if held.is_ok() {
        let output = world.ok(&["app", "output", "huts"]);
        assert!(output.contains("this time"), "{output}");
    }
}

#[test]
fn who_has_a_port_is_said_before_and_after_two_want_it() {
    let world = World::new().add_routes(&[]);
    let app = App::new();
    let added = world.run(&["route", "add", "a.moor.test", &app.port()]);
    let belongs = format!("port {} belongs to", app.port());
    assert!(added.stderr.contains(&belongs), "{added:?}");
    let added = world.run(&["route", "add", "b.moor.test", &app.port()]);
    let shared = format!("a.moor.test leads to port {}, too", app.port());
    assert!(added.stderr.contains(&shared), "{added:?}");

    let port = reserve_port().to_string();
    add(&world, "huts", &any_app(""), &["--port", &port]);
    world.ok(&["app", "start", "huts"]);
    let added = world.run(&["route", "add", "c.moor.test", &port]);
    let owned = format!("port {port} is that of the app huts: app:huts leads to it");
    assert!(added.stderr.contains(&owned), "{added:?}");
    let folder = world.path("huts").display().to_string();
    let command = any_app("");
    let settings = ["--command", &command, "--folder", &folder, "--port", &port];
    let refused = world.run(&[&["app", "add", "shop"], &settings[..]].concat());
    assert!(
        refused.stderr.contains("the app `huts` has the port"),
        "{refused:?}"
    );

    let held = app.port();
    let settings = ["--command", &command, "--folder", &folder, "--port", &held];
    let added = world.run(&[&["app", "add", "shop"], &settings[..]].concat());
    assert!(added.stderr.contains(&belongs), "{added:?}");
    let started = world.run(&["app", "start", "shop"]);
    assert_eq!(started.code, 1, "{started:?}");
    for shown in ["app-port-held", "it has run since", "bentlane port list"] {
        assert!(started.stdout.contains(shown), "{started:?}");
    }
}

#[test]
fn an_app_that_crashes_is_started_again_until_it_is_a_loop() {
    let world = with_app(&any_app(""), &[]);
    for crash in 1..=5 {
        wait_until("an answer", || {
            ask(&world, "/").stdout.ends_with("200 ").then_some(())
        });
        let _ = ask(&world, "/end/3");
        wait_until("the crash to be noticed", || {
            let status = status(&world);
            (status["crashes"] == crash).then_some(())
        });
    }
    let status = wait_for(&world, "crash-loop");
    assert_eq!(status["problem"]["code"], 3);
    let asked = ask(&world, "/");
    assert!(asked.stdout.ends_with("503 app-crash-loop"), "{asked:?}");
    assert!(
        asked.stdout.contains("Traceback: no hut is open"),
        "{asked:?}"
    );
    world.ok(&["app", "restart", "huts"]);
    assert!(ask(&world, "/").stdout.ends_with("200 "));
}

#[test]
fn what_changed_since_the_last_good_start_is_said() {
    let world = with_app(&any_app(""), &[]);
    assert!(ask(&world, "/").stdout.ends_with("200 "));
    fs::write(world.path("huts/settings.py"), "broken").unwrap();
    let _ = ask(&world, "/end/1");
    let status = wait_for(&world, "crashed");
    assert_eq!(status["changed"][0]["path"], "settings.py", "{status}");
    let shown = world.run(&["app", "show", "huts"]);
    assert!(
        shown.stdout.contains("settings.py was changed"),
        "{shown:?}"
    );
}

#[test]
fn a_flood_and_fifty_apps_at_once_disturb_nobody() {
    let world = with_app(&any_app(""), &[]);
    assert!(ask(&world, "/").stdout.ends_with("200 "));
    add(
        &world,
        "flood",
        "yes 'a line of a flood'",
        &["--start-timeout", "20s"],
    );
    for number in 0..50 {
        let name = format!("many{number}");
        add(&world, &name, "exec sleep 30", &["--ready", "output:never"]);
    }
    for number in 0..50 {
        let _ = world.post(&format!("/apps/many{number}/start"), "");
    }
    let _ = world.post("/apps/flood/start", "");
    for _ in 0..20 {
        let asked = ask(&world, "/");
        assert!(asked.stdout.ends_with("200 "), "{asked:?}");
    }
    let listed = world.get("/apps");
    let apps = listed["apps"].as_array().unwrap();
    let starting = apps
        .iter()
        .filter(|app| app["status"]["state"] == "starting");
    assert_eq!(starting.count(), 51);
    world.ok(&["app", "stop", "flood"]);
}
