//! Files of a folder as a target.

use std::fs;
use std::os::unix::fs::symlink;

use bentlane_tests::{App, World, reply};

/// A world with a folder behind `docs.moor.test`, and one beside it that nobody should see.
fn world() -> World {
    let world = World::with_routes(&[]);
    let docs = world.path("docs");
    fs::create_dir_all(docs.join("guide")).unwrap();
    fs::create_dir_all(world.path("secret")).unwrap();
    fs::write(world.path("secret/key.txt"), "secret").unwrap();
    fs::write(docs.join("index.html"), "<h1>Highmoor</h1>").unwrap();
    fs::write(docs.join("guide/index.html"), "the guide").unwrap();
    fs::write(docs.join("digits.txt"), "0123456789").unwrap();
    fs::write(docs.join("app.js"), "1").unwrap();
    fs::write(docs.join("huts.bin"), vec![7; 3_000_000]).unwrap();
    symlink("../secret/key.txt", docs.join("out.txt")).unwrap();
    symlink("../secret", docs.join("out")).unwrap();
    symlink("digits.txt", docs.join("within.txt")).unwrap();
    let target = format!("folder:{}", docs.display());
    world.ok(&["route", "add", "docs.moor.test", &target]);
    world
}

/// The head of the response to a request for `path`, and its body.
fn get(world: &World, path: &str, args: &[&str]) -> (String, String) {
    let url = format!("https://docs.moor.test{path}");
    let said = world
        .curl(&[&["-i", "--path-as-is", &url], args].concat())
        .ok();
    let (head, body) = said.split_once("\r\n\r\n").unwrap();
    (head.to_owned(), body.to_owned())
}

#[test]
fn files_are_found_and_nothing_outside_the_folder_is() {
    let world = world();
    for (path, status, part) in [
        ("/", 200, "<h1>Highmoor</h1>"),
        ("/guide/", 200, "the guide"),
        ("/guide?x=1", 307, ""),
        ("/digits.txt", 200, "0123456789"),
        ("/within.txt", 200, "0123456789"),
        ("/digits.txt/", 404, "no file for /digits.txt/"),
        ("/none", 404, "no file for /none"),
        ("/out.txt", 404, "leads out of the folder"),
        ("/out/key.txt", 404, "leads out of the folder"),
        ("/../secret/key.txt", 404, "leads out of the folder"),
        ("/%2e%2e/secret/key.txt", 404, "leads out of the folder"),
        (
            "/guide/%2e%2e/%2e%2e/secret/key.txt",
            404,
            "leads out of the folder",
        ),
    ] {
        let (head, body) = get(&world, path, &[]);
        assert!(
            head.starts_with(&format!("HTTP/2 {status}")),
            "{path}: {head}"
        );
        assert!(
            body.contains(part) && !body.contains("secret\n"),
            "{path}: {body}"
        );
    }
    let (head, _) = get(&world, "/guide?x=1", &[]);
    assert!(head.contains("location: /guide/?x=1"), "{head}");
    let (head, _) = get(&world, "/", &["-X", "POST"]);
    assert!(
        head.starts_with("HTTP/2 405") && head.contains("allow: GET, HEAD"),
        "{head}"
    );
    assert!(
        get(&world, "/app.js", &[])
            .0
            .contains("content-type: text/javascript")
    );
    let output = world.path("huts").display().to_string();
    world
        .curl(&["-o", &output, "https://docs.moor.test/huts.bin"])
        .ok();
    assert_eq!(fs::read(output).unwrap(), vec![7; 3_000_000]);
    assert_eq!(
        world
            .run(&["check", "--routes-only", "docs.moor.test"])
            .code,
        0
    );
}

#[test]
fn ranges_and_conditions_are_honoured() {
    let world = world();
    let (head, _) = get(&world, "/digits.txt", &[]);
    let field = |name: &str| {
        let line = head
            .lines()
            .find_map(|line| line.strip_prefix(name))
            .unwrap();
        line.trim().to_owned()
    };
    let tag = format!("if-none-match: {}", field("etag:"));
    let since = format!("if-modified-since: {}", field("last-modified:"));
    for (args, status, body) in [
        (&["-H", &*tag][..], 304, ""),
        (&["-H", &since], 304, ""),
        (&["-H", "if-none-match: \"x\""], 200, "0123456789"),
        (&["-r", "2-4"], 206, "234"),
        (&["-r", "-3"], 206, "789"),
        (&["-r", "20-"], 416, ""),
        (&["-r", "2-4", "-H", "if-range: \"x\""], 200, "0123456789"),
        (&["-r", "2-4", "--http1.1"], 206, "234"),
    ] {
        let (head, got) = get(&world, "/digits.txt", args);
        assert!(head.contains(&format!(" {status}")), "{args:?}: {head}");
        assert_eq!(got, body, "{args:?}");
    }
    let url = "https://docs.moor.test/digits.txt";
    let head = world.curl(&["-I", url]).ok();
    assert!(head.contains("content-length: 10"), "{head}");
}

#[test]
fn a_single_page_app_gets_its_page_for_every_path() {
    let world = world();
    world.ok(&[
        "route",
        "edit",
        "docs.moor.test",
        "--fallback",
        "index.html",
    ]);
    let (head, body) = get(&world, "/huts/ravenstone", &[]);
    assert!(
        head.starts_with("HTTP/2 200") && body.contains("Highmoor"),
        "{head}"
    );
    assert!(head.contains("content-type: text/html"), "{head}");
    let docs = format!("folder:{}", world.path("docs").display());
    world.ok(&[
        "route",
        "add",
        "a.moor.test/manual",
        &docs,
        "--strip-prefix",
    ]);
    let said = world.curl(&["https://a.moor.test/manual/digits.txt"]).ok();
    assert_eq!(said, "0123456789");
    let gone = world.path("gone").display().to_string();
    let refused = world.run(&["route", "add", "b.moor.test", &format!("folder:{gone}")]);
    assert_eq!(refused.code, 1, "{refused:?}");
    assert!(refused.stderr.contains("cannot read"), "{refused:?}");
    fs::remove_dir_all(world.path("docs")).unwrap();
    let (head, _) = get(&world, "/", &[]);
    assert!(
        head.contains("bentlane-finding: folder-unreadable"),
        "{head}"
    );
}

#[test]
fn the_app_behind_a_folder_gets_what_is_no_file() {
    let app = App::answering(0, |request| {
        let said = format!("the app has {} {}", request.method(), request.uri());
        reply(200, &[("content-type", "text/html")], &said)
    });
    let world = world();
    fs::write(world.path("docs/index.php"), "<?php secret();").unwrap();
    fs::create_dir(world.path("docs/huts")).unwrap();
    world.ok(&["route", "edit", "docs.moor.test", "--else", &app.port()]);
    for (path, args, part) in [
        ("/", &[][..], "<h1>Highmoor</h1>"),
        ("/digits.txt", &[], "0123456789"),
        ("/api?x=1", &[], "the app has GET /api?x=1"),
        ("/digits.txt", &["-d", "a"], "the app has POST /digits.txt"),
        ("/index.php", &[], "the app has GET /index.php"),
        ("/huts", &[], "the app has GET /huts"),
        ("/huts/", &[], "the app has GET /huts/"),
        ("/out.txt", &[], "the app has GET /out.txt"),
    ] {
        let (head, body) = get(&world, path, args);
        assert!(head.starts_with("HTTP/2 200"), "{path}: {head}");
        assert!(body.contains(part), "{path}: {body}");
    }
    let (head, _) = get(&world, "/guide", &[]);
    assert!(head.contains("location: /guide/"), "{head}");
    let check = [
        "check",
        "--routes-only",
        "docs.moor.test",
        "--format",
        "json",
    ];
    assert_eq!(world.run(&check).code, 0);
    let shown = world.ok(&["route", "show", "docs.moor.test"]);
    let setting = shown.lines().find(|line| line.starts_with("else "));
    assert!(
        setting.is_some_and(|it| it.ends_with(&app.port())),
        "{shown}"
    );

    // Without the app, files are still served, and the rest says what is missing.
    drop(app);
    assert_eq!(get(&world, "/digits.txt", &[]).1, "0123456789");
    let (head, body) = get(&world, "/api", &[]);
    assert!(head.contains("bentlane-finding: target-refuses"), "{head}");
    assert!(body.contains("--else PORT"), "{body}");
    let checked = world.run(&check);
    assert_eq!(checked.code, 1, "{checked:?}");
    let finding = &checked.json()["verdicts"][0]["findings"][0];
    assert_eq!(finding["slug"], "target-refuses");
    let command = "bentlane route edit docs.moor.test --else PORT";
    assert_eq!(finding["fix"]["command"], command);

    let refused = world.run(&["route", "edit", "docs.moor.test", "--else", "folder:/srv"]);
    assert!(refused.stderr.contains("is no app"), "{refused:?}");
    world.ok(&["route", "edit", "docs.moor.test", "--unset", "else"]);
    assert!(get(&world, "/api", &[]).0.starts_with("HTTP/2 404"));
}
