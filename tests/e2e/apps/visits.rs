//! What a visit does: it starts an app, once, and waits until that is ready.

use std::fs;
use std::process::Command;
use std::time::Duration;

use bentlane_tests::{Background, World, pause, repository, reserve_port, wait_until};
use rstest::rstest;
use rustix::process::Signal;

use crate::servers::python;

use super::{add, any_app, ask, script, status, wait_for, with_app};

#[test]
fn a_hundred_requests_start_an_app_once_and_a_check_does_not() {
    let world = World::new().add_routes(&[]);
    let starts = world.path("starts");
    let options = format!("--starts {} --after 0.5", starts.display());
    add(&world, "huts", &any_app(&options), &[]);
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    assert!(checked.stdout.contains("app-stopped"), "{checked:?}");
    assert!(
        checked.stdout.contains("1 stopped until a visit"),
        "{checked:?}"
    );
    assert!(!starts.exists(), "a check starts nothing");

    let all = [
        "--parallel",
        "--parallel-immediate",
        "--parallel-max",
        "100",
        "-o",
        "/dev/null",
    ];
    let told = [
        "-w",
        "%{http_code}%header{bentlane-finding}\n",
        "https://huts.moor.test/[1-100]",
    ];
    let asked = world.curl(&[&all[..], &told].concat());
    let codes: Vec<&str> = asked.stdout.lines().collect();
    assert_eq!(codes, vec!["200"; 100], "{asked:?}");
    assert_eq!(fs::read_to_string(&starts).unwrap().lines().count(), 1);
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert!(!checked.stdout.contains("app-"), "{checked:?}");
    let listed = world.json(&["app", "list"]);
    assert_eq!(listed["apps"][0]["status"]["state"], "running");
}

/// Servers as people have them, each started by its first visit.
#[rstest]
#[case::python("python3 -m http.server $PORT --bind 127.0.0.1", "Directory listing")]
#[case::node(
    "node -e 'require(\"http\").createServer((q,r)=>r.end(\"node \"+process.env.PORT)).listen(process.env.PORT)'",
    "node 2"
)]
#[case::django("PYTHON DJANGO $PORT huts.moor.test", "https://huts.moor.test")]
#[case::vite("VITE --port $PORT --strictPort", "vite")]
#[case::shim("SHIM", "app")]
fn servers_run_as_apps(#[case] command: &str, #[case] shown: &str) {
    let world = World::new().add_routes(&[]);
    let root = repository();
    let shim = script(
        &world,
        "shims/hut",
        &format!("#!/bin/sh\nexec {} \"$@\"\n", any_app("")),
    );
    let places = [
        ("PYTHON", python().display().to_string()),
        (
            "DJANGO",
            root.join("tests/apps/django_app.py").display().to_string(),
        ),
        (
            "VITE",
            root.join("demo/node_modules/.bin/vite")
                .display()
                .to_string(),
        ),
        ("SHIM", shim),
    ];
    let command = places
        .iter()
        .fold(command.to_owned(), |command, (word, place)| {
            command.replace(word, place)
        });
    add(&world, "huts", &command, &["--env", "PYTHONPATH="]);
    let folder = world.path("huts");
    fs::write(
        folder.join("index.html"),
        "<title>Directory listing</title>",
    )
    .unwrap();
    fs::write(
        folder.join("vite.config.js"),
        "export default { cacheDir: '.vite', server: { allowedHosts: ['.moor.test'] } };",
    )
    .unwrap();
    let asked = ask(&world, "/");
    assert!(
        asked.stdout.ends_with("\n200 "),
        "{asked:?}\n{}",
        world.ok(&["app", "output", "huts"])
    );
    assert!(asked.stdout.contains(shown), "{asked:?}");
}

#[rstest]
#[case::only_ipv6("--at ::1", &[], None)]
#[case::every_address("--at 0.0.0.0", &[], None)]
#[case::late("--after 1", &[], None)]
#[case::elsewhere("--port 0", &[], Some("app-listens-elsewhere"))]
#[case::answers_a_path("--after 0.3", &["--ready", "/health"], None)]
#[case::prints_a_text("", &["--ready", "output:going to listen on"], None)]
#[case::without_a_terminal("", &["--terminal=false"], None)]
fn an_app_is_found_where_it_listens(
    #[case] options: &str,
    #[case] settings: &[&str],
    #[case] hint: Option<&str>,
) {
    let world = with_app(&any_app(options), settings);
    let asked = ask(&world, "/");
    assert!(asked.stdout.contains("<h1>app "), "{asked:?}");
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    let found = checked.stdout.contains("app-listens-elsewhere");
    assert_eq!(
        found.then_some("app-listens-elsewhere"),
        hint,
        "{checked:?}"
    );
}

#[test]
fn an_app_has_several_ports_each_with_its_route() {
    let world = World::new().add_routes(&[]);
    let command = format!(
        "PORT=$PORT_API {} & exec {}",
        any_app(""),
        any_app("--port $PORT_WEB")
    );
    add(&world, "huts", &command, &["--ports", "web,api"]);
    world.ok(&["route", "add", "huts.moor.test/api", "app:huts:api"]);
    let refused = world.run(&["route", "add", "x.moor.test", "app:huts:mail"]);
    assert!(refused.stderr.contains("it has web, api"), "{refused:?}");
    let ports = world.get("/apps/huts")["ports"].clone();
    assert_ne!(ports["web"], ports["api"], "{ports}");
    let said = |path: &str| {
        let asked = wait_until("an answer", || {
            let asked = ask(&world, path);
            asked.stdout.ends_with("\n200 ").then_some(asked)
        });
        asked.stdout
    };
    assert_ne!(said("/"), said("/api"), "two processes");
    assert_eq!(said("/env/PORT_API"), format!("{}\n200 ", ports["api"]));
}

#[test]
fn an_app_is_stopped_once_nothing_is_asked_of_it() {
    let world = with_app(&any_app(""), &["--stop-when-idle", "2s"]);
    assert!(ask(&world, "/").stdout.contains("<h1>app "));
    let mut command = world.curl_command(&["-N", "https://huts.moor.test/stream"]);
    let mut stream = Background::start(&mut command, world.path("stream.log"));
    pause(Duration::from_secs(5));
    assert_eq!(status(&world)["state"], "running", "a stream is open");
    stream.end(Signal::TERM);
    wait_for(&world, "stopped");
    let output = world.ok(&["app", "output", "huts"]);
    assert!(
        output.contains("nothing was asked of it for 2 s"),
        "{output}"
    );
    assert!(
        ask(&world, "/").stdout.contains("<h1>app "),
        "and it starts again"
    );
}

#[test]
fn what_starts_an_app_is_chosen() {
    let mut world = World::new().add_routes(&[]);
    add(&world, "huts", &any_app(""), &["--start", "manual"]);
    let asked = ask(&world, "/");
    assert!(asked.stdout.ends_with("503 app-stopped"), "{asked:?}");
    let checked = world.run(&["check", "huts.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 1, "{checked:?}");
    let fixed = world.run(&["check", "huts.moor.test", "--routes-only", "--fix", "--yes"]);
    assert_eq!(fixed.code, 0, "{fixed:?}");
    assert!(ask(&world, "/").stdout.contains("<h1>app "));

    world.ok(&["app", "edit", "huts", "--start", "service"]);
    world.end(Signal::TERM);
    world.wake();
    wait_for(&world, "running");
}

#[test]
fn raw_tcp_and_folders_lead_to_apps_too() {
    let world = with_app(&any_app(""), &[]);
    let address = format!("store.moor.test:{}", reserve_port());
    world.ok(&["route", "add", &address, "app:huts"]);
    let at = world.get(&format!("/routes/{}", address.replace(':', "%3A")));
    let ip = at["resolves_to"][0].as_str().unwrap();
    let at = format!("http://{ip}:{}/", at["values"]["port"]);
    let asked =
        bentlane_tests::run_command(Command::new("curl").args(["-sS", "--max-time", "20", &at]));
    assert!(asked.stdout.contains("<h1>app "), "{asked:?}");
    world.ok(&["app", "stop", "huts"]);
    let folder = format!("folder:{}", world.path("huts").display());
    world.ok(&[
        "route",
        "add",
        "docs.moor.test",
        &folder,
        "--else",
        "app:huts",
    ]);
    let asked = world.curl(&["https://docs.moor.test/x"]);
    assert!(asked.stdout.contains("<h1>app "), "{asked:?}");
}

#[test]
fn a_change_of_a_file_restarts_an_app() {
    let world = with_app(&any_app(""), &["--restart-on", "src"]);
    let folder = world.path("huts");
    fs::create_dir(folder.join("src")).unwrap();
    let first = ask(&world, "/").stdout;
    pause(Duration::from_millis(300));
    fs::write(folder.join("note.txt"), "x").unwrap();
    pause(Duration::from_secs(1));
    assert_eq!(ask(&world, "/").stdout, first, "that file does not matter");
    fs::write(folder.join("src/app.py"), "x").unwrap();
    wait_until("another process", || {
        let now = ask(&world, "/").stdout;
        (now.ends_with("200 ") && now != first).then_some(())
    });
    let output = world.ok(&["app", "output", "huts"]);
    assert!(
        output.contains("src/app.py has changed: it is restarted"),
        "{output}"
    );
}
