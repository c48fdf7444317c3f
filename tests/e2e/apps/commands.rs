//! Adding, editing and showing apps.

use std::fs;

use bentlane_tests::{Run, Start, World};
use rstest::rstest;
use serde_json::json;

use super::{any_app, ask, with_app};

/// A world whose folder `project` has these files.
fn with_project(files: &[(&str, &str)]) -> World {
    let world = World::new().add_routes(&[]);
    let project = world.path("project");
    for (name, text) in files {
        let path = project.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    world
}

fn add_in(world: &World, args: &[&str]) -> Run {
    let mut command = world.command(&[&["app", "add"][..], args].concat());
    bentlane_tests::run_command(command.current_dir(world.path("project")))
}

#[test]
fn a_project_says_what_its_app_is() {
    let world = with_project(&[
        (
            "package.json",
            r#"{"name":"@moor/booking","scripts":{"dev":"vite"}}"#,
        ),
        ("package-lock.json", "{}"),
        (".env", "SECRET=x\n"),
    ]);
    let shown = add_in(&world, &["--dry-run"]);
    assert_eq!(shown.code, 0, "{shown:?}");
    for part in [
        "npm run dev -- --port $PORT --strictPort",
        "booking.moor.test",
        "package.json has the script `dev` (`vite`), and there is package-lock.json",
    ] {
        assert!(shown.stderr.contains(part), "{part}: {shown:?}");
    }
    assert_eq!(world.get("/apps")["apps"], json!([]), "nothing was added");
    // Without a terminal nobody can be asked.
    let asked = add_in(&world, &[]);
    assert_eq!(asked.code, 2, "{asked:?}");
    let added = add_in(&world, &["--yes"]);
    assert_eq!(added.code, 0, "{added:?}");
    let app = world.get("/apps/booking");
    assert_eq!(
        app["settings"]["command"],
        "npm run dev -- --port $PORT --strictPort"
    );
    assert_eq!(app["routes"][0]["address"], "booking.moor.test");
    let again = add_in(&world, &["--yes"]);
    assert_eq!(again.code, 1, "{again:?}");
    assert!(
        again.stderr.contains("bentlane app show booking"),
        "{again:?}"
    );
}

#[rstest]
#[case(&["app", "add", "huts", "--command", "x", "--folder", "/nowhere"], "/nowhere")]
#[case(&["app", "add", "../huts", "--command", "x"], "no name of an app")]
#[case(&["app", "add", "huts", "--command", "x", "--ready", "soon"], "none of `port`, a path")]
#[case(&["app", "add", "huts", "--command", "x", "--env", "A"], "has no `=`")]
#[case(&["app", "add", "huts", "--command", "x", "--restart-on", "src/["], "restart_on")]
#[case(&["app", "add", "huts", "--command", "x", "--route", "huts.other.test"], "is in no zone")]
#[case(&["app", "add", "huts", "--folder", "/"], "say it with --command")]
#[case(&["app", "edit", "huts"], "say what to change")]
#[case(&["app", "edit", "huts", "--note", "x"], "no app `huts`")]
#[case(&["app", "start", "huts"], "bentlane app list")]
#[case(&["app", "remove", "huts"], "no app `huts`")]
#[case(&["app", "output", "huts"], "no app `huts`")]
#[case(&["app", "run", "huts"], "no app `huts`")]
#[case(&["route", "add", "a.moor.test", "app:huts"], "bentlane app add huts")]
#[case(&["route", "add", "a.moor.test", "app:"], "no name of an app")]
fn mistakes_are_said_and_change_nothing(#[case] args: &[&str], #[case] reason: &str) {
    let world = World::new().add_routes(&[]);
    let run = world.run(args);
    assert!(run.code == 1 || run.code == 2, "{run:?}");
    assert!(run.stderr.contains(reason), "{run:?}");
    assert_eq!(world.get("/apps")["apps"], json!([]));
    assert_eq!(world.get("/routes")["routes"], json!([]));
}

#[test]
fn settings_are_changed_and_a_running_app_goes_on_until_it_is_restarted() {
    let world = with_app(&any_app(""), &["--env", "HUT=ravenstone"]);
    assert_eq!(ask(&world, "/env/HUT").stdout, "ravenstone\n200 ");
    let edited = world.run(&["app", "edit", "huts", "--env", "HUT=larkfell"]);
    assert!(
        edited.stderr.contains("bentlane app restart huts"),
        "{edited:?}"
    );
    assert_eq!(ask(&world, "/env/HUT").stdout, "ravenstone\n200 ");
    world.ok(&["app", "restart", "huts"]);
    assert_eq!(ask(&world, "/env/HUT").stdout, "larkfell\n200 ");
    let journal = world.json(&["journal"]);
    let entry = &journal["entries"][0];
    assert_eq!(
        (&entry["kind"], &entry["action"]),
        (&json!("app"), &json!("edit"))
    );
    world.ok(&["undo"]);
    assert_eq!(
        world.get("/apps/huts")["settings"]["env"],
        json!(["HUT=ravenstone"])
    );
    let port = world.get("/apps/huts")["ports"][""].clone();
    world.ok(&["app", "edit", "huts", "--start", "manual"]);
    assert_eq!(
        world.get("/apps/huts")["ports"][""],
        port,
        "it keeps its port"
    );
}

#[test]
fn an_app_has_the_environment_of_its_users_shell() {
    let home = tempfile_home();
    let wrapper = [
        "env".to_owned(),
        format!("HOME={}", home.path().display()),
        "SHELL=/bin/bash".to_owned(),
        "BENTLANE_SECRET_OF_OURS=x".to_owned(),
    ];
    let world = World::with(Start {
        wrapper: wrapper.to_vec(),
        shared_database: true,
        ..Start::default()
    })
    .add_routes(&[]);
    let file = world.path("app.env");
    fs::write(&file, "# huts\nFROM_FILE='a value'\nBOTH=file\n").unwrap();
    let settings = ["--env-file", file.to_str().unwrap(), "--env", "BOTH=flag"];
    super::add(&world, "huts", &any_app(""), &settings);
    for (name, value) in [
        ("FROM_PROFILE", "read at login"),
        ("FROM_FILE", "a value"),
        ("BOTH", "flag"),
        ("TERM", "xterm-256color"),
        ("BENTLANE_SECRET_OF_OURS", "not set"),
        ("LISTEN_FDS", "not set"),
    ] {
        let said = ask(&world, &format!("/env/{name}")).stdout;
        assert_eq!(said, format!("{value}\n200 "), "{name}");
    }
    let shown = world.ok(&["app", "show", "huts", "--env"]);
    assert!(shown.contains("FROM_PROFILE=read at login"), "{shown}");
    assert!(shown.contains("API_TOKEN=***"), "{shown}");
    assert!(!shown.contains("made up"), "{shown}");
    fs::write(
        home.path().join(".bash_profile"),
        "export FROM_PROFILE=later\n",
    )
    .unwrap();
    world.ok(&["app", "restart", "huts"]);
    assert_eq!(
        ask(&world, "/env/FROM_PROFILE").stdout,
        "read at login\n200 "
    );
    world.ok(&["app", "edit", "huts", "--refresh-environment"]);
    world.ok(&["app", "restart", "huts"]);
    assert_eq!(ask(&world, "/env/FROM_PROFILE").stdout, "later\n200 ");
    let kept = world.data_dir().join("apps/huts/environment");
    let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(kept).unwrap());
    assert_eq!(mode & 0o077, 0, "it may have secrets");
}

fn tempfile_home() -> tempfile::TempDir {
    let home = tempfile::tempdir().unwrap();
    let profile = "echo hello from your profile\nexport FROM_PROFILE='read at login'\n\
                   export API_TOKEN='made up'\n";
    fs::write(home.path().join(".bash_profile"), profile).unwrap();
    home
}

#[test]
fn a_backup_has_the_apps_and_says_what_they_run() {
    let world = with_app(&any_app(""), &[]);
    let file = world.path("lanes.json");
    let file = file.to_str().unwrap();
    world.ok(&["backup", file]);
    world.ok(&["app", "remove", "huts", "--with-routes"]);
    let restored = world.run(&["restore", file, "--yes"]);
    assert_eq!(restored.code, 0, "{restored:?}");
    assert!(
        restored.stderr.contains("huts runs `python3 "),
        "{restored:?}"
    );
    assert!(restored.stdout.contains("apps: 1"), "{restored:?}");
    assert!(ask(&world, "/").stdout.contains("<h1>app "));
}
