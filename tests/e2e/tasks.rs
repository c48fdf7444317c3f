//! What the service does when one of its own tasks ends before its time.

use bentlane_tests::{App, Start, World, wait_until};
use serde_json::Value;

fn world() -> World {
    let hooks = ["env", "BENTLANE_TEST_HOOKS=1"].map(str::to_owned);
    World::with(Start {
        wrapper: hooks.to_vec(),
        ..Start::default()
    })
}

fn tasks(world: &World) -> Vec<Value> {
    let status = world.json(&["status"]);
    status["tasks"].as_array().unwrap().clone()
}

/// Ends a task as a fault of its own would.
fn kill(world: &World, name: &str) {
    let path = format!("/test/tasks/{}/kill", name.replace(' ', "%20"));
    let how = ["-X", "POST", "-o", "/dev/null", "-w", "%{http_code}"];
    assert_eq!(world.call(&path, &how).stdout, "204", "{name}");
}

fn is_fatal(name: &str) -> bool {
    name.starts_with("proxy-")
}

#[test]
fn every_task_that_ends_is_restarted_and_works() {
    let app = App::new();
    let world = world();
    world.ok(&["zone", "add", "moor.test"]);
    world.ok(&["route", "add", "a.moor.test", &app.port()]);
    let names: Vec<String> = tasks(&world)
        .iter()
        .map(|task| task["name"].as_str().unwrap().to_owned())
        .collect();
    for part in [
        "api",
        "checks",
        "console 127",
        "database",
        "dns tcp",
        "dns udp",
        "http 127",
        "https 127",
        "traffic",
    ] {
        assert!(
            names.iter().any(|name| name.starts_with(part)),
            "{part} in {names:?}"
        );
    }
    let restarted = names.iter().filter(|name| !is_fatal(name));
    for name in restarted.clone() {
        kill(&world, name);
        wait_until("the task to be started again", || {
            let tasks = tasks(&world);
            let task = tasks.iter().find(|task| task["name"] == **name)?;
            (task["state"] == "running" && task["restarts"] == 1).then_some(())
        });
    }
    let shown = world.ok(&["status"]);
    for name in restarted {
        assert!(
            shown.contains(&format!("{name} ended and was started again once")),
            "{shown}"
        );
    }
    // Everything goes on: names, requests, changes, checks, what is recorded, the console.
    world.ok(&["route", "add", "b.moor.test", &app.port()]);
    world.ok(&["check", "--routes-only"]);
    let page = world.curl(&["https://b.moor.test/"]);
    assert_eq!(page.code, 0, "{page:?}");
    wait_until("the exchange to be recorded", || {
        let traffic = world.json(&["traffic"]);
        traffic.to_string().contains("b.moor.test").then_some(())
    });
    let link = world.sign_in_link();
    assert!(link.starts_with("http"), "{link}");
}

#[test]
fn the_end_of_an_essential_task_ends_the_service_with_the_reason() {
    let mut world = world();
    kill(&world, "proxy-0");
    let code = wait_until("the service to end", || world.service_mut().ended());
    assert_eq!(code, 1);
    let said = world.service().output();
    assert!(
        said.contains("proxy-0 ended: it returned; start the service again"),
        "{said}"
    );
}

#[test]
fn tasks_cannot_be_killed_without_the_hook() {
    let world = World::new();
    let how = ["-X", "POST", "-o", "/dev/null", "-w", "%{http_code}"];
    assert_eq!(world.call("/test/tasks/checks/kill", &how).stdout, "404");
}
