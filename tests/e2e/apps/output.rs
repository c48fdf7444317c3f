//! What apps print.

use std::fs;

use bentlane_tests::{World, wait_until};

use super::{add, any_app, ask, beside, with_app};

#[test]
fn what_an_app_prints_is_kept_with_its_colours_and_found_again() {
    let mut world = with_app(&any_app(""), &[]);
    assert!(ask(&world, "/").stdout.contains("<h1>app "));
    let read = world.json(&["app", "output", "huts", "--text", "listen"]);
    let line = &read["lines"][0];
    assert!(
        line["text"]
            .as_str()
            .unwrap()
            .starts_with("\u{1b}[32mgoing to listen"),
        "{line}"
    );
    assert_eq!(line["stream"], "terminal");
    let shown = world.ok(&[
        "app", "output", "huts", "--since", "10m", "--text", "warning",
    ]);
    assert!(shown.ends_with("  a warning\n"), "{shown}");
    let nothing = world.run(&["app", "output", "huts", "--since", "1ms"]);
    assert_eq!(nothing.stdout, "", "{nothing:?}");
    // Without a terminal, both streams are told apart.
    add(&world, "pipes", &any_app(""), &["--terminal=false"]);
    world.ok(&["app", "start", "pipes"]);
    let read = world.json(&["app", "output", "pipes", "--text", "warning"]);
    assert_eq!(read["lines"][0]["stream"], "stderr", "{read}");
    // Another start of the service has what was printed before.
    world.end(rustix::process::Signal::TERM);
    world.wake();
    let read = world.json(&["app", "output", "huts", "--text", "listen"]);
    assert_eq!(read["lines"].as_array().unwrap().len(), 1, "{read}");
}

#[test]
fn output_is_followed() {
    let world = with_app(&any_app(""), &[]);
    let follower = beside(&world, &["app", "output", "huts", "--follow"], "follow.log");
    world.ok(&["app", "start", "huts"]);
    wait_until("the output", || {
        follower.output().contains("going to listen").then_some(())
    });
    let _ = ask(&world, "/end/4");
    wait_until("the crash", || {
        follower
            .output()
            .contains("crashed with exit code 4")
            .then_some(())
    });
}

#[test]
fn log_files_are_followed_through_rotation() {
    let world = World::new().add_routes(&[]);
    let folder = world.path("huts");
    let log = folder.join("log/app.log");
    let options = format!("--log {}", log.display());
    add(&world, "huts", &any_app(&options), &["--log", "log/*.log"]);
    world.ok(&["app", "start", "huts"]);
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert!(checked.stdout.contains("app-log-missing"), "{checked:?}");
    fs::create_dir(folder.join("log")).unwrap();
    let is_shown = |path: &str| {
        let text = format!("asked for {path}");
        let read = world.json(&["app", "output", "huts", "--text", &text]);
        let line = read["lines"].get(0).cloned();
        line.filter(|line| line["stream"] == "log/app.log")
    };
    let _ = ask(&world, "/first");
    wait_until("the first line", || is_shown("/first"));
    fs::rename(&log, folder.join("log/app.log.1")).unwrap();
    let _ = ask(&world, "/second");
    wait_until("the line in the new file", || is_shown("/second"));
    // Cut, and longer again before anybody has looked.
    fs::write(&log, "asked for /third\nand for more than before\n").unwrap();
    wait_until("the line after the file was cut", || is_shown("/third"));
}

#[test]
fn nothing_that_an_app_prints_moves_the_cursor() {
    let command = "printf '\\033[2J\\033]0;title\\007\\033[31mred\\033[0m\\b\\233x\\n'; sleep 60";
    let world = with_app(command, &["--ready", "output:red", "--start-timeout", "2s"]);
    let _ = world.run(&["app", "start", "huts"]);
    let read = world.json(&["app", "output", "huts"]);
    assert_eq!(
        read["lines"][1]["text"], "\u{1b}[31mred\u{1b}[0m\u{fffd}x",
        "{read}"
    );
    let shown = world.ok(&["app", "output", "huts"]);
    assert!(!shown.contains('\u{1b}'), "no terminal: {shown:?}");
}
