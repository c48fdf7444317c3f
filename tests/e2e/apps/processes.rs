//! Which processes there are: none is left, none is orphaned, and nothing foreign is touched.

use std::time::Duration;

use bentlane_tests::{World, pause, rounds, wait_until};
use rstest::rstest;
use rustix::process::Signal;

use super::{add, any_app, ask, processes_of, status, wait_for, with_app};

/// Commands whose processes are hard to keep track of, and what ends them.
fn commands() -> Vec<(&'static str, String)> {
    let app = any_app("");
    vec![
        ("plain", app.clone()),
        ("shell", format!("true; {app}; true")),
        (
            "forks",
            format!("setsid {app} >/dev/null 2>&1 & sleep 0.3; exit 0"),
        ),
        (
            "twice",
            format!("(setsid sh -c '{app} >/dev/null 2>&1 &' &); sleep 0.5; exit 0"),
        ),
        ("scrubs", format!("env -i PORT=$PORT PATH=$PATH {app}")),
        ("pair", format!("sleep 300 & {app}")),
    ]
}

#[test]
fn an_app_that_goes_to_the_background_is_kept_and_ended() {
    let world = World::new().add_routes(&[]);
    for (name, command) in commands() {
        add(&world, name, &command, &[]);
        let started = world.run(&["app", "start", name]);
        assert_eq!(
            started.code,
            0,
            "{name}: {started:?}\n{}",
            world.ok(&["app", "output", name])
        );
        let folder = world.path(name);
        assert!(!processes_of(&folder).is_empty(), "{name}");
        world.ok(&["app", "stop", name]);
        assert_eq!(processes_of(&folder), Vec::<String>::new(), "{name}");
    }
}

#[test]
fn an_app_that_ignores_sigterm_is_killed() {
    let world = with_app(&any_app("--deaf"), &[]);
    world.ok(&["app", "start", "huts"]);
    world.ok(&["app", "stop", "huts"]);
    assert_eq!(processes_of(&world.path("huts")), Vec::<String>::new());
}

#[test]
fn no_process_is_left_when_the_service_stops_or_crashes() {
    let mut world = World::new().add_routes(&[]);
    for (name, command) in commands() {
        add(&world, name, &command, &["--start", "service"]);
    }
    let folders: Vec<_> = commands()
        .iter()
        .map(|(name, _)| world.path(name))
        .collect();
    for round in 0..rounds(10) {
        let mut seen = String::new();
        wait_until("the apps to run", || {
            let apps = world.get("/apps");
            let apps = apps["apps"].as_array().unwrap().clone();
            let states: Vec<String> = apps
                .iter()
                .map(|app| format!("{}: {}", app["name"], app["status"]))
                .collect();
            let states = states.join("\n");
            if states != seen {
                println!("round {round}:\n{states}");
                seen = states;
            }
            apps.iter()
                .all(|app| app["status"]["state"] == "running")
                .then_some(())
        });
        let which = if round % 2 == 0 {
            Signal::KILL
        } else {
            Signal::TERM
        };
        world.end(which);
        let left = || {
            folders
                .iter()
                .flat_map(|folder| processes_of(folder))
                .collect::<Vec<_>>()
        };
        if which == Signal::TERM {
            assert_eq!(left(), Vec::<String>::new(), "round {round}");
        } else {
            assert!(!left().is_empty(), "nobody could end them");
        }
        let before = left();
        world.wake();
        wait_until("what was left to be ended", || {
            left().iter().all(|now| !before.contains(now)).then_some(())
        });
    }
    world.end(Signal::TERM);
    let left: Vec<String> = folders
        .iter()
        .flat_map(|folder| processes_of(folder))
        .collect();
    assert_eq!(left, Vec::<String>::new());
}

#[test]
fn a_restart_of_the_service_keeps_apps() {
    let world = World::on_kept_ports().add_routes(&[]);
    let app = any_app("");
    add(&world, "huts", &app, &[]);
    add(&world, "pipes", &app, &["--terminal=false"]);
    add(
        &world,
        "forks",
        &format!("setsid {app} & sleep 0.3; exit 0"),
        &[],
    );
    for name in ["huts", "pipes", "forks"] {
        world.ok(&["app", "start", name]);
    }
    let first = ask(&world, "/").stdout;
    for _ in 0..5 {
        world.ok(&["restart"]);
        assert_eq!(ask(&world, "/").stdout, first, "the same process");
    }
    // After a crash, and in the hands of the next service, it is ended and watched as before.
    let _ = ask(&world, "/end/3");
    wait_until("another process", || {
        let now = ask(&world, "/").stdout;
        (now.ends_with("200 ") && now != first).then_some(())
    });
    world.ok(&["restart"]);
    wait_for(&world, "running");
    for name in ["huts", "pipes", "forks"] {
        let state = world.get(&format!("/apps/{name}"))["status"]["state"].clone();
        assert_eq!(state, "running", "{name}");
        world.ok(&["app", "stop", name]);
        assert_eq!(
            processes_of(&world.path(name)),
            Vec::<String>::new(),
            "{name}"
        );
    }
}

#[rstest]
#[case(true)]
#[case(false)]
fn an_app_ends_with_its_removal(#[case] undo: bool) {
    let world = with_app(&any_app(""), &[]);
    world.ok(&["app", "start", "huts"]);
    match undo {
        true => drop(world.ok(&["undo"])),
        false => {
            let refused = world.run(&["app", "remove", "huts"]);
            assert!(
                refused
                    .stderr
                    .contains("bentlane app remove huts --with-routes"),
                "{refused:?}"
            );
            world.ok(&["app", "remove", "huts", "--with-routes"]);
        }
    }
    assert_eq!(world.get("/apps")["apps"].as_array().unwrap().len(), 0);
    assert_eq!(world.get("/routes")["routes"].as_array().unwrap().len(), 0);
    wait_until("its processes to end", || {
        processes_of(&world.path("huts")).is_empty().then_some(())
    });
    if !undo {
        world.ok(&["undo"]);
        assert_eq!(status(&world)["state"], "stopped", "it is back");
        assert!(ask(&world, "/").stdout.contains("<h1>app "));
    }
}

#[test]
fn a_process_of_somebody_else_is_left_alone() {
    let world = with_app(&any_app(""), &[]);
    let mut other = super::Background::start(
        std::process::Command::new("sleep")
            .arg("60")
            .current_dir(world.path("huts")),
        world.path("other.log"),
    );
    world.ok(&["app", "start", "huts"]);
    world.ok(&["app", "restart", "huts"]);
    world.ok(&["app", "stop", "huts"]);
    pause(Duration::from_millis(200));
    assert_eq!(other.ended(), None);
}
