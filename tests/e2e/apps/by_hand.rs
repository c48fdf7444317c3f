//! Apps in a terminal of one's own, under the same name.

use bentlane_tests::{World, wait_until};
use rustix::process::Signal;

use super::{any_app, ask, beside, processes_of, status, wait_for, with_app};

#[test]
fn an_app_in_a_terminal_takes_the_place_of_the_supervised_one() {
    let world = with_app(&any_app(""), &["--env", "HUT=ravenstone"]);
    let supervised = ask(&world, "/").stdout;
    let mut by_hand = beside(&world, &["app", "run", "huts"], "run.log");
    let status = wait_until("the other process", || {
        let status = status(&world);
        (status["by_hand"] == true && status["state"] == "running").then_some(status)
    });
    assert_ne!(ask(&world, "/").stdout, supervised);
    assert_eq!(ask(&world, "/env/HUT").stdout, "ravenstone\n200 ");
    assert!(
        by_hand.output().contains("going to listen"),
        "{}",
        by_hand.output()
    );
    assert!(
        by_hand.output().contains("huts.moor.test"),
        "{}",
        by_hand.output()
    );
    // Ours never end it.
    world.ok(&["app", "stop", "huts"]);
    let pid = u32::try_from(status["pid"].as_i64().unwrap()).unwrap();
    assert!(std::path::Path::new(&format!("/proc/{pid}")).exists());
    let children = super::sh(&format!("pkill -TERM -P {pid}; kill -TERM {pid}"));
    drop(children);
    wait_until("the command to end", || by_hand.ended());
    wait_for(&world, "stopped");
    assert!(
        ask(&world, "/").stdout.contains("<h1>app "),
        "it is served as before"
    );
    by_hand.end(Signal::TERM);
}

#[test]
fn a_command_has_a_name_for_as_long_as_it_runs() {
    let world = World::new().add_routes(&[]);
    let command = any_app("");
    let args = ["app", "try", "--route", "huts.moor.test", "--", &command];
    let mut attempt = beside(&world, &args, "try.log");
    wait_until("the app", || {
        ask(&world, "/").stdout.contains("<h1>app ").then_some(())
    });
    let listed = world.json(&["app", "list"]);
    let pid = listed["apps"][0]["status"]["pid"].as_i64().unwrap();
    drop(super::sh(&format!(
        "pkill -TERM -P {pid}; kill -TERM {pid}"
    )));
    wait_until("the command to end", || attempt.ended());
    assert_eq!(world.get("/apps")["apps"].as_array().unwrap().len(), 0);
    assert_eq!(world.get("/routes")["routes"].as_array().unwrap().len(), 0);
    assert_eq!(processes_of(&world.path("huts")), Vec::<String>::new());
    attempt.end(Signal::TERM);
}
