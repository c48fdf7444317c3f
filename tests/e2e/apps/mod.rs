//! Apps: commands that the service runs.

mod by_hand;
mod by_name;
mod commands;
mod faults;
mod output;
mod pages;
mod processes;
mod visits;

use std::path::Path;
use std::process::Command;

use bentlane_tests::{Background, Run, World, repository, run_command, wait_until};
use serde_json::Value;

/// The command of an app for tests, with these options.
pub(crate) fn any_app(options: &str) -> String {
    let script = repository().join("tests/apps/any_app.py");
    format!("python3 {} {options}", script.display())
}

/// A world with the zone `moor.test` and an app `huts` at `huts.moor.test`, with these settings.
fn with_app(command: &str, settings: &[&str]) -> World {
    let world = World::new().add_routes(&[]);
    add(&world, "huts", command, settings);
    world
}

/// Adds an app with a route to it.
fn add(world: &World, name: &str, command: &str, settings: &[&str]) {
    let (folder, route) = (world.path(name), format!("{name}.moor.test"));
    std::fs::create_dir_all(&folder).unwrap();
    let folder = folder.to_str().unwrap();
    let usual = [
        "app",
        "add",
        name,
        "--folder",
        folder,
        "--command",
        command,
        "--route",
        &route,
    ];
    world.ok(&[&usual[..], settings].concat());
}

/// What the app answers, or the page in its place.
fn ask(world: &World, path: &str) -> Run {
    let shown = ["-w", "\n%{http_code} %header{bentlane-finding}"];
    let url = format!("https://huts.moor.test{path}");
    world.curl(&[&shown[..], &[&url]].concat())
}

/// How the app `huts` is, as the API says.
fn status(world: &World) -> Value {
    world.get("/apps/huts")["status"].clone()
}

/// Waits until the app `huts` is in this state.
fn wait_for(world: &World, state: &str) -> Value {
    wait_until(&format!("the app to be {state}"), || {
        let status = status(world);
        (status["state"] == state).then_some(status)
    })
}

/// The processes with this text in their command lines or folders.
fn processes_of(place: &Path) -> Vec<String> {
    let place = place.to_str().unwrap();
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").unwrap().flatten() {
        let folder = entry.path();
        let words = std::fs::read(folder.join("cmdline")).unwrap_or_default();
        let words = String::from_utf8_lossy(&words).replace('\0', " ");
        let own = std::fs::read_link(folder.join("cwd")).unwrap_or_default();
        let is_there = own.starts_with(place) || words.contains(&format!("{place}/"));
        if is_there && !words.contains("postgres") && !words.starts_with("bentlane") {
            found.push(format!("{} {words}", entry.file_name().display()));
        }
    }
    found
}

/// A command of this program that goes on beside the test.
fn beside(world: &World, args: &[&str], log: &str) -> Background {
    let mut command = world.command(args);
    Background::start(command.current_dir(world.path("")), world.path(log))
}

/// `app` started in a script of its own, as a version manager does.
fn script(world: &World, name: &str, text: &str) -> String {
    use std::os::unix::fs::PermissionsExt;
    let path = world.path(name);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(&path, text).unwrap();
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    path.display().to_string()
}

fn sh(script: &str) -> Run {
    run_command(Command::new("sh").args(["-c", script]))
}
