//! Backups: what they hold, and restoring them here and elsewhere.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use bentlane_tests::{App, World, wait_until};
use rustix::process::Signal;
use serde_json::{Value, json};

/// A file with a passphrase of this world's.
fn passphrase(world: &World, text: &str) -> String {
    let path = world.path("passphrase");
    fs::write(&path, format!("{text}\n")).unwrap();
    path.to_str().unwrap().to_owned()
}

fn back_up(world: &World) -> PathBuf {
    let (file, secret) = (world.path("lanes.json"), passphrase(world, "correct horse"));
    let said = world.ok(&[
        "backup",
        file.to_str().unwrap(),
        "--keys",
        "--passphrase-file",
        &secret,
    ]);
    assert!(said.contains("the keys under their passphrase"), "{said}");
    file
}

/// Everything that a backup is to bring back.
fn configuration(world: &World) -> Value {
    let mut zones = world.json(&["zone", "list"]);
    let mut routes = world.json(&["route", "list"]);
    for route in routes["routes"].as_array_mut().unwrap() {
        route["verdict"] = Value::Null;
        // They name the ports of the world.
        route["values"] = Value::Null;
        route["url"] = Value::Null;
    }
    json!([
        zones["zones"].take(),
        routes["routes"].take(),
        world.json(&["record", "list"])
    ])
}

fn journal(world: &World) -> Vec<Value> {
    let mut journal = world.json(&["journal"]);
    let mut entries: Vec<Value> = serde_json::from_value(journal["entries"].take()).unwrap();
    entries.reverse();
    entries
}

fn world(app: &App) -> World {
    let world = World::with_routes(&[("a.moor.test", &app.port()), ("b.moor.test", "4310")]);
    world.ok(&["route", "edit", "b.moor.test", "--note", "the old desk"]);
    world.ok(&["record", "add", "mail.moor.test", "A", "192.0.2.7"]);
    world.ok(&["route", "remove", "b.moor.test"]);
    world
}

#[test]
fn a_backup_moves_everything_to_another_machine() {
    let app = App::new();
    let (here, there) = (world(&app), World::new());
    let file = back_up(&here);
    let text = fs::read_to_string(&file).unwrap();
    assert!(
        !text.contains("PRIVATE KEY"),
        "the keys are not in clear text"
    );
    assert_eq!(
        fs::metadata(&file).unwrap().permissions().mode() & 0o777,
        0o600
    );
    let again = here.run(&["backup", file.to_str().unwrap()]);
    assert_eq!(
        again.code, 1,
        "a file that is there is left alone: {again:?}"
    );

    let root = here.root();
    let (file, secret) = (file.to_str().unwrap(), passphrase(&there, "correct horse"));
    let restore = [
        "restore",
        file,
        "--keys",
        "--yes",
        "--passphrase-file",
        &secret,
    ];
    let said = there.ok(&restore);
    assert!(said.contains("the journal, the keys"), "{said}");
    assert_eq!(configuration(&there), configuration(&here));
    let (theirs, ours) = (journal(&there), journal(&here));
    assert_eq!(theirs[..ours.len()], ours, "and then the restore");
    assert_eq!(fs::read(there.root()).unwrap(), fs::read(&root).unwrap());
    assert_eq!(there.fetch(&root, "a.moor.test").code, 0);

    // It is one change, and one of the backup's can be undone as well.
    there.ok(&["undo"]);
    assert_eq!(there.json(&["route", "list"])["routes"], json!([]));
    let undo = journal(&there).last().unwrap()["revision"].to_string();
    there.ok(&["undo", &undo]);
    assert_eq!(configuration(&there), configuration(&here));
    let removal = ours.last().unwrap()["revision"].to_string();
    there.ok(&["undo", &removal]);
    assert!(
        there
            .ok(&["route", "show", "b.moor.test"])
            .contains("the old desk")
    );
}

#[test]
fn a_backup_that_is_not_whole_changes_nothing() {
    let app = App::new();
    let world = world(&app);
    let file = back_up(&world);
    let before = configuration(&world);
    let backup: Value = serde_json::from_slice(&fs::read(&file).unwrap()).unwrap();
    let (right, changed) = (world.path("passphrase"), world.path("changed.json"));
    let wrong = world.path("wrong");
    fs::write(&wrong, "correct mule\n").unwrap();
    type Edit = fn(&mut Value);
    let rows: [(&str, Edit, &PathBuf, &str); 7] = [
        ("wrong", |_| (), &wrong, "passphrase"),
        (
            "later",
            |it| it["bentlane_backup"] = json!(2),
            &right,
            "the form 2",
        ),
        ("cut", |it| it["keys"] = json!("AAAA"), &right, "key"),
        (
            "keyless",
            |it| drop(it.as_object_mut().unwrap().remove("keys")),
            &right,
            "has no keys",
        ),
        (
            "outside",
            |it| it["configuration"]["zones"] = json!([]),
            &right,
            "is in no zone",
        ),
        (
            "twice",
            |it| {
                let routes = it["configuration"]["routes"].as_array_mut().unwrap();
                routes.push(routes[0].clone());
            },
            &right,
            "already",
        ),
        (
            "other",
            |it| *it = json!({"zones": []}),
            &right,
            "is no backup",
        ),
    ];
    for (row, edit, secret, reason) in rows {
        let mut edited = backup.clone();
        edit(&mut edited);
        fs::write(&changed, edited.to_string()).unwrap();
        let file = changed.to_str().unwrap();
        let secret = ["--passphrase-file", secret.to_str().unwrap()];
        let refused = world.run(&[&["restore", file, "--keys", "--yes"], &secret[..]].concat());
        assert_ne!(refused.code, 0, "{row}");
        assert!(refused.stderr.contains(reason), "{row}: {refused:?}");
        assert_eq!(configuration(&world), before, "{row}");
    }
    let unasked = world.run(&["restore", file.to_str().unwrap()]);
    assert_ne!(unasked.code, 0, "nobody was there to be asked: {unasked:?}");
}

#[test]
fn a_lost_database_is_made_again_from_a_backup() {
    let app = App::new();
    let mut world = World::with_private_server().add_routes(&[("a.moor.test", &app.port())]);
    let file = back_up(&world);
    let kept = journal(&world);
    world.ok(&["route", "add", "late.moor.test", "4310"]);
    world.end(Signal::TERM);
    fs::remove_dir_all(world.database_folder()).unwrap();
    world.wake();
    wait_until("the loss to be noticed", || {
        world.ok(&["status"]).contains("restore").then_some(())
    });
    world.ok(&["restore", file.to_str().unwrap(), "--yes"]);
    let routes = world.json(&["route", "list"]);
    assert_eq!(routes["routes"].as_array().unwrap().len(), 1);
    assert_eq!(journal(&world)[..kept.len()], kept);
    world.ok(&["route", "add", "next.moor.test", "4310"]);
}
