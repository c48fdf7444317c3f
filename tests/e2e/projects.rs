//! Project files: loaded, changed, taken over, moved, watched and written.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, chown, symlink};
use std::path::{Path, PathBuf};
use std::process::Stdio;

use bentlane_tests::{App, Run, World, wait_until};
use rstest::rstest;

use crate::apps::any_app;

/// A folder with a project file.
fn project(world: &World, name: &str, text: &str) -> PathBuf {
    let folder = world.path(name);
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("bentlane.toml"), text).unwrap();
    folder
}

fn load(world: &World, folder: &Path, flags: &[&str]) -> Run {
    let file = folder.join("bentlane.toml").display().to_string();
    world.run(&[&["project", "load", &file], flags].concat())
}

fn answers(world: &World, url: &str) -> String {
    world.curl(&["-w", "\n%{http_code}", url]).stdout
}

#[test]
fn a_project_is_loaded_changed_and_taken_out_again() {
    let world = World::new();
    let app = App::new();
    let text = format!(
        "zone = \"moor.test\"\nrecords = [\"mail A 127.0.0.9\"]\n\n[routes]\n\
         \"huts.moor.test\" = \"app:huts\"\n\"api.moor.test\" = {{ to = \"api\", note = \"first\" }}\n\n\
         [apps.huts]\ncommand = \"{}\"\n\n[ports]\napi = {}\n\n[certs.tls]\nnames = [\"mail.moor.test\"]\nfolder = \"tls\"\n",
        any_app(""),
        app.port()
    );
    let folder = project(&world, "huts", &text);
    fs::create_dir(folder.join(".git")).unwrap();
    let refused = load(&world, &folder, &["--yes"]);
    assert!(
        refused.stderr.contains("add it to .gitignore"),
        "{refused:?}"
    );
    fs::write(folder.join(".gitignore"), "tls/\n").unwrap();

    let planned = load(&world, &folder, &["--dry-run"]);
    assert_eq!(planned.code, 0, "{planned:?}");
    for part in [
        "new      route   huts.moor.test",
        "new      app     huts",
        "new      zone    moor.test",
        "Commands that it runs as you",
    ] {
        assert!(planned.stdout.contains(part), "{part} in {planned:?}");
    }
    let unasked = load(&world, &folder, &[]);
    assert_ne!(
        unasked.code, 0,
        "without consent nothing is loaded: {unasked:?}"
    );
    assert_eq!(world.get("/routes")["routes"].as_array().unwrap().len(), 0);
    let loaded = load(&world, &folder, &["--yes", "--wait", "--check"]);
    assert_eq!(loaded.code, 0, "{loaded:?}");
    assert!(answers(&world, "https://huts.moor.test/").contains("<h1>app "));
    assert!(answers(&world, "https://api.moor.test/").ends_with("200"));
    assert_eq!(world.dig(&["+short", "mail.moor.test"]).trim(), "127.0.0.9");
    assert!(folder.join("tls/mail.moor.test.key").exists());
    let shown = world.get("/routes/huts.moor.test");
    assert!(
        shown["project"]
            .as_str()
            .unwrap()
            .ends_with("/huts/bentlane.toml"),
        "{shown}"
    );

    let again = load(&world, &folder, &["--yes"]);
    assert!(again.stderr.contains("nothing has changed"), "{again:?}");
    let less = text
        .replace("\"huts.moor.test\" = \"app:huts\"\n", "")
        .replace("first", "second");
    fs::write(folder.join("bentlane.toml"), less).unwrap();
    let planned = load(&world, &folder, &["--dry-run"]);
    for part in [
        "gone     route   huts.moor.test",
        "changed  route   api.moor.test",
        "note=first → note=second",
        "same     2",
    ] {
        assert!(planned.stdout.contains(part), "{part} in {planned:?}");
    }
    assert_eq!(load(&world, &folder, &["--yes"]).code, 0);
    assert!(answers(&world, "https://huts.moor.test/").ends_with("404"));
    let listed = world.ok(&["project", "list"]);
    assert!(
        listed.contains("loaded") && listed.contains("/huts/bentlane.toml"),
        "{listed}"
    );

    let file = folder.join("bentlane.toml").display().to_string();
    world.ok(&["project", "unload", &file]);
    for list in ["/routes", "/apps", "/zones", "/projects"] {
        let all = world.get(list);
        let all = all.as_object().unwrap().values().next().unwrap();
        assert_eq!(all.as_array().unwrap().len(), 0, "{list}: {all}");
    }
    world.ok(&["undo"]);
    assert!(answers(&world, "https://api.moor.test/").ends_with("200"));
    fs::rename(&folder, world.path("moved")).unwrap();
    let checked = world.run(&["check", "api.moor.test", "--routes-only"]);
    assert!(
        checked.stdout.contains("project-file-missing"),
        "{checked:?}"
    );
}

#[rstest]
#[case(
    "zon = \"moor.test\"\n",
    "line 1, column 1: there is no key `zon`; the nearest is `zone`"
)]
#[case(
    "[routes]\n\"a.moor.test\" = { to = 1, notes = \"x\" }\n",
    "the nearest is `note`"
)]
#[case(
    "[routes]\n\"a.moor.test\" = 1\n\"a.moor.test\" = 2\n",
    "line 3, column 1: duplicate key"
)]
#[case("[routes]\n\"a.nowhere.test\" = 1\n", "is in no zone")]
#[case("[routes]\n\"a.moor.test\" = \"app:huts\"\n", "there is no app `huts`")]
#[case(
    "[apps.huts]\ncommand = \"x\"\nfolder = \"gone\"\n",
    "there is no folder"
)]
#[case("[requires]\nversion = \">=99\"\n", "it needs Bent Lane >=99")]
#[case("[requires]\nstandard_ports = true\n", "it needs the ports 80 and 443")]
#[case("[requires]\nengine = true\n", "it needs a container engine")]
fn what_a_file_cannot_have_is_said(#[case] text: &str, #[case] reason: &str) {
    let world = World::new().add_routes(&[]);
    let folder = project(&world, "huts", text);
    let refused = load(&world, &folder, &["--yes"]);
    assert!(matches!(refused.code, 1 | 2), "{refused:?}");
    assert!(refused.stderr.contains(reason), "{refused:?}");
    assert!(
        world.get("/projects")["projects"]
            .as_array()
            .unwrap()
            .is_empty()
    );
}

#[test]
fn two_projects_and_two_working_copies_live_side_by_side() {
    let world = World::new().add_routes(&[]);
    let app = App::new();
    let text = |note: &str| {
        format!(
            "zone = \"moor.test\"\n[routes]\n\"huts.moor.test\" = \"app:huts\"\n\"api.moor.test\" = {{ to = {}, note = \"{note}\" }}\n[apps.huts]\ncommand = \"{}\"\n",
            app.port(),
            any_app("")
        )
    };
    let one = project(&world, "one", &text("one"));
    let two = project(&world, "two", &text("two"));
    assert_eq!(load(&world, &one, &["--yes"]).code, 0);
    let refused = load(&world, &two, &["--yes"]);
    assert_eq!(refused.code, 1, "{refused:?}");
    for part in [
        "one/bentlane.toml",
        "two/bentlane.toml",
        "--take-over",
        "`huts`",
    ] {
        assert!(refused.stderr.contains(part), "{refused:?}");
    }
    // A further working copy has names and apps of its own.
    let moved = load(&world, &two, &["--yes", "--zone", "fix.moor.test"]);
    assert_eq!(moved.code, 0, "{moved:?}");
    let ports = |app: &str| world.get(&format!("/apps/{app}"))["ports"][""].clone();
    assert_ne!(ports("huts"), ports("huts-fix"));
    assert!(answers(&world, "https://huts.fix.moor.test/").contains("<h1>app "));
    let file = two.join("bentlane.toml").display().to_string();
    world.ok(&["project", "unload", &file]);
    assert!(answers(&world, "https://huts.fix.moor.test/").ends_with("404"));

    let taken = load(&world, &two, &["--yes", "--take-over"]);
    assert_eq!(taken.code, 0, "{taken:?}");
    assert_eq!(
        world.get("/routes/api.moor.test")["settings"]["note"],
        "two"
    );
    let both = world.get("/projects");
    assert!(
        both["projects"][0]["routes"].as_array().unwrap().is_empty(),
        "{both}"
    );
}

#[test]
fn files_of_others_are_not_loaded() {
    let world = World::new().add_routes(&[]);
    let text = "[routes]\n\"a.moor.test\" = 1\n";
    let folder = project(&world, "huts", text);
    let file = folder.join("bentlane.toml");
    chown(&file, Some(65534), None).unwrap();
    let refused = load(&world, &folder, &["--yes"]);
    assert!(
        refused.stderr.contains("belongs to another user"),
        "{refused:?}"
    );
    chown(&file, Some(0), None).unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o666)).unwrap();
    let refused = load(&world, &folder, &["--yes"]);
    assert!(
        refused.stderr.contains("every user can write"),
        "{refused:?}"
    );
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
    // By a link it is the same project.
    let link = world.path("link");
    symlink(&folder, &link).unwrap();
    assert_eq!(load(&world, &link, &["--yes"]).code, 0);
    assert_eq!(load(&world, &folder, &["--yes"]).code, 0);
    let listed = world.get("/projects");
    assert_eq!(listed["projects"].as_array().unwrap().len(), 1, "{listed}");
    // What leads beyond the project is shown.
    let beyond = "[routes]\n\"b.moor.test\" = \"folder:/etc\"\n\"c.moor.test\" = \"http://198.51.100.1:80\"\n";
    fs::write(&file, beyond).unwrap();
    let planned = load(&world, &folder, &["--dry-run"]);
    for part in [
        "Beyond its folder",
        "serves /etc",
        "leads to http://198.51.100.1",
    ] {
        assert!(planned.stdout.contains(part), "{planned:?}");
    }
}

#[test]
fn a_file_is_written_from_what_exists_and_keeps_its_comments() {
    let world = World::new().add_routes(&[]);
    let folder = world.path("web");
    fs::create_dir(&folder).unwrap();
    fs::write(
        folder.join("package.json"),
        r#"{"name":"web","scripts":{"dev":"node server.mjs"}}"#,
    )
    .unwrap();
    let at = folder.display().to_string();
    let written = world.run(&["project", "init", &at, "--yes"]);
    assert_eq!(written.code, 0, "{written:?}");
    let text = fs::read_to_string(folder.join("bentlane.toml")).unwrap();
    for part in [
        "zone = \"moor.test\"",
        "\"web.moor.test\" = \"app:web\"",
        "[apps.web]",
        "# ",
    ] {
        assert!(text.contains(part), "{part} in {text}");
    }
    assert_eq!(load(&world, &folder, &["--yes"]).code, 0);
    let commented = text.replace("\"web.moor.test\"", "# the site\n\"web.moor.test\"");
    let file = folder.join("bentlane.toml");
    fs::write(&file, commented).unwrap();
    world.ok(&["route", "edit", "web.moor.test", "--note", "edited by hand"]);
    let export = [
        "project",
        "export",
        &file.display().to_string(),
        "--write",
        "--yes",
    ];
    world.ok(&export);
    let exported = fs::read_to_string(&file).unwrap();
    assert!(exported.contains("# the site\n"), "{exported}");
    assert!(exported.contains("note = \"edited by hand\""), "{exported}");
    let again = load(&world, &folder, &["--dry-run"]);
    assert!(!again.stdout.contains("changed"), "{again:?}");
    assert_eq!(world.run(&["project", "init", &at, "--yes"]).code, 2);

    // What was started in a folder has a route proposed.
    let here = world.path("site");
    fs::create_dir(&here).unwrap();
    let port = bentlane_tests::reserve_port().to_string();
    let mut server = std::process::Command::new("python3");
    server
        .args(["-m", "http.server", "--bind", "127.0.0.1", &port])
        .current_dir(&here);
    let _server = bentlane_tests::Background::start(&mut server, world.path("site.log"));
    let at = here.display().to_string();
    wait_until("the server to be proposed", || {
        let proposed = world.run(&["project", "init", &at]);
        proposed
            .stderr
            .contains(&format!("\"site.moor.test\" = {port}"))
            .then_some(())
    });
}

#[test]
fn a_watched_file_is_loaded_when_it_changes_and_commands_need_consent() {
    let world = World::new().add_routes(&[]);
    let text = "[routes]\n\"a.moor.test\" = { to = 4310, note = \"one\" }\n";
    let folder = project(&world, "huts", text);
    let file = folder.join("bentlane.toml");
    let log = world.path("watch.log");
    let mut watching = world
        .command(&[
            "project",
            "load",
            &file.display().to_string(),
            "--yes",
            "--watch",
        ])
        .stdin(Stdio::null())
        .stderr(fs::File::create(&log).unwrap())
        .spawn()
        .unwrap();
    let said = |part: &str| {
        wait_until(part, || {
            fs::read_to_string(&log)
                .unwrap()
                .contains(part)
                .then_some(())
        });
    };
    said("watching");
    watching.kill().unwrap();
    watching.wait().unwrap();
    // Without --yes.
    let mut watching = world
        .command(&["project", "load", &file.display().to_string(), "--watch"])
        .stdin(Stdio::null())
        .stderr(fs::File::create(&log).unwrap())
        .spawn()
        .unwrap();
    said("watching");
    fs::write(&file, text.replace("one", "two")).unwrap();
    said("loaded");
    assert_eq!(world.get("/routes/a.moor.test")["settings"]["note"], "two");
    fs::write(&file, "zone = ").unwrap();
    said("line 1, column 8");
    fs::write(
        &file,
        format!("{text}\n[apps.huts]\ncommand = \"sleep 60\"\n"),
    )
    .unwrap();
    said("Commands that it runs as you");
    assert!(
        world.get("/apps")["apps"].as_array().unwrap().is_empty(),
        "nobody agreed"
    );
    watching.kill().unwrap();
    watching.wait().unwrap();
}

#[test]
fn many_routes_and_two_loads_at_once_are_all_there() {
    let world = World::new().add_routes(&[]);
    let many: String = (0..10_000)
        .map(|it| format!("\"r{it}.moor.test\" = 4310\n"))
        .collect();
    let one = project(&world, "one", &format!("[routes]\n{many}"));
    let two = project(&world, "two", "[routes]\n\"two.moor.test\" = 4310\n");
    let outcomes = std::thread::scope(|scope| {
        let both = [&one, &two].map(|folder| scope.spawn(|| load(&world, folder, &["--yes"])));
        both.map(|it| it.join().unwrap())
    });
    for outcome in outcomes {
        assert_eq!(
            outcome.code,
            0,
            "{}",
            outcome.stderr.chars().rev().take(500).collect::<String>()
        );
    }
    assert_eq!(world.get("/status")["routes"], 10_001);
}

#[test]
fn the_schema_is_served() {
    let world = World::new();
    let schema = world.get("/project.schema.json");
    assert_eq!(schema["properties"]["zone"]["type"], "string");
}
