//! A database that hangs, refuses, or goes away at the wrong moment.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use bentlane_tests::{App, World, run, signal, wait_until};
use rstest::rstest;
use rustix::process::Signal;

/// The processes of the private database server: they work in its folder.
fn server_processes(world: &World) -> Vec<u32> {
    let folder = world.database_folder();
    let processes = fs::read_dir("/proc").unwrap().flatten();
    let pids = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok());
    pids.filter(|pid| fs::read_link(format!("/proc/{pid}/cwd")).is_ok_and(|at| at == folder))
        .collect()
}

#[test]
fn calls_fail_with_the_reason_while_the_database_hangs() {
    let app = App::new();
    let mut world = World::with_private_server().add_routes(&[("a.moor.test", &app.port())]);
    let processes = server_processes(&world);
    assert!(processes.len() > 1, "{processes:?}");
    processes.iter().for_each(|pid| signal(*pid, Signal::STOP));
    let refused = world.run(&["route", "add", "b.moor.test", "4310"]);
    assert_eq!(refused.code, 1, "{refused:?}");
    assert!(
        refused.stderr.contains("did not answer within 4 s"),
        "{refused:?}"
    );
    // Now that it is known, others do not wait for it.
    for command in [&["journal"][..], &["route", "remove", "a.moor.test"]] {
        let refused = world.run(command);
        assert!(refused.stderr.contains("did not answer"), "{refused:?}");
    }
    let status = world.json(&["status"]);
    assert_eq!(status["database"]["reachable"], false);
    let url = "https://a.moor.test/";
    assert!(world.curl(&[url]).ok().contains("a.moor.test"));
    processes.iter().for_each(|pid| signal(*pid, Signal::CONT));
    wait_until("the database to be back", || {
        (world.run(&["route", "add", "c.moor.test", "4310"]).code == 0).then_some(())
    });
    // A stop does not wait for a server that hangs.
    let processes = server_processes(&world);
    processes.iter().for_each(|pid| signal(*pid, Signal::STOP));
    assert_eq!(world.end(Signal::TERM), 0);
    assert_eq!(server_processes(&world), [0; 0]);
}

#[test]
fn a_server_that_does_not_start_is_reported_with_its_reason_and_logged_once() {
    let world = World::with_private_server();
    let folder = world.database_folder();
    let mode = |mode| fs::set_permissions(&folder, fs::Permissions::from_mode(mode)).unwrap();
    mode(0o777);
    signal(world.database_pid().unwrap(), Signal::KILL);
    wait_until("the reason in `status`", || {
        let status = world.json(&["status"]);
        let error = status["database"]["error"].as_str().unwrap_or_default();
        error.contains("invalid permissions").then_some(())
    });
    let refused = world.run(&["zone", "add", "moor.test"]);
    assert!(
        refused.stderr.contains("invalid permissions"),
        "{refused:?}"
    );
    assert!(world.ok(&["status"]).contains("invalid permissions"));
    mode(0o700);
    wait_until("the database to be back", || {
        (world.run(&["zone", "add", "moor.test"]).code == 0).then_some(())
    });
    let output = world.service().output();
    let logged = output.matches("the database is still away").count();
    assert!((1..=2).contains(&logged), "{logged} times: {output}");
}

/// The commit takes longer than the service waits for it.
#[rstest]
#[case("", &["zone", "add", "moor.test"], "every name below it resolve")]
#[case("RAISE EXCEPTION 'not made';", &["zone", "add", "moor.test"], "every name below it resolve")]
#[case("", &["zone", "remove", "fell.test"], "removed the zone fell.test")]
fn the_outcome_of_a_change_that_was_cut_off_is_found_out(
    #[case] end: &str,
    #[case] command: &[&str],
    #[case] said: &str,
) {
    let world = World::new();
    world.ok(&["zone", "add", "fell.test"]);
    // A deferred trigger is fired by the commit; a sequence is not set back.
    let statement = format!(
        "CREATE SEQUENCE fault;
         CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
           IF nextval('fault') = 1 THEN PERFORM pg_sleep(6); {end} END IF;
           RETURN NULL;
         END $$;
         CREATE CONSTRAINT TRIGGER slow AFTER UPDATE ON revision DEFERRABLE INITIALLY DEFERRED
           FOR EACH ROW EXECUTE FUNCTION slow();"
    );
    let _ = world.query(&statement);
    let outcome = world.run(command);
    let shown = format!("{}{}", outcome.stdout, outcome.stderr);
    assert_eq!(outcome.code, 0, "{shown}");
    assert!(shown.contains(said), "{shown}");
    let journal = world.json(&["journal"]);
    assert_eq!(journal["entries"].as_array().unwrap().len(), 2, "{journal}");
    wait_until("the change to be in force", || {
        (world.json(&["status"])["revision"] == 2).then_some(())
    });
}

#[test]
fn a_repeated_call_is_done_once() {
    let world = World::new();
    let post = |key: &str, body: &str| {
        let key = format!("idempotency-key: {key}");
        let fields = [
            "-H",
            "content-type: application/json",
            "-H",
            &key,
            "-d",
            body,
        ];
        world
            .call("/zones", &[&fields[..], &["-w", "%{http_code}"]].concat())
            .ok()
    };
    let zone = r#"{"name":"moor.test"}"#;
    assert!(post("7c1f", zone).ends_with("201"));
    assert!(post("7c1f", zone).ends_with("201"));
    assert!(post("another", zone).ends_with("409"));
    let long = "x".repeat(256);
    for wrong in [&long, "two words"] {
        let refused = post(wrong, r#"{"name":"fell.test"}"#);
        assert!(
            refused.ends_with("400") && refused.contains("visible ASCII"),
            "{refused}"
        );
    }
    world.ok(&["route", "add", "a.moor.test", "4310"]);
    let edit = |key: &str| {
        let (tag, key) = ("if-match: \"2\"", format!("idempotency-key: {key}"));
        let fields = [
            "-X",
            "PATCH",
            "-H",
            "content-type: application/json",
            "-H",
            &key,
        ];
        let more = ["-H", tag, "-d", r#"{"note":"hut"}"#];
        world
            .call("/routes/a.moor.test", &[&fields[..], &more].concat())
            .ok()
    };
    let first = edit("9e02");
    assert!(first.contains("hut"), "{first}");
    world.ok(&["route", "remove", "a.moor.test"]);
    assert_eq!(
        edit("9e02"),
        r#"{"made_before":3}"#,
        "the route is gone since"
    );
    assert!(edit("other").contains("404"));
    assert_eq!(world.json(&["status"])["revision"], 4);
}

/// What happens to the database's folder while the service is stopped.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Loss {
    Deleted,
    Emptied,
    Older,
    Damaged,
}

#[rstest]
#[case(Loss::Deleted, "it is new and empty", "last-known-good", 2)]
#[case(Loss::Emptied, "it is new and empty", "database", 0)]
#[case(
    Loss::Older,
    "it is older: revision 2, and 3 was in force",
    "last-known-good",
    2
)]
#[case(Loss::Older, "it is older", "database", 1)]
fn a_lost_database_is_noticed_and_restored(
    #[case] loss: Loss,
    #[case] reason: &str,
    #[case] from: &str,
    #[case] routes: usize,
) {
    let app = App::new();
    let mut world = World::with_private_server().add_routes(&[("a.moor.test", &app.port())]);
    let (folder, copy) = (world.database_folder(), world.path("copy"));
    if loss == Loss::Older {
        world.end(Signal::TERM);
        let copied = run(
            "cp",
            &["-a", folder.to_str().unwrap(), copy.to_str().unwrap()],
        );
        copied.ok();
        world.wake();
    }
    world.ok(&["route", "add", "b.moor.test", &app.port()]);
    world.end(Signal::TERM);
    let known = fs::read(world.data_dir().join("last-known-good.json")).unwrap();
    lose(&world, loss);
    if loss == Loss::Older {
        fs::rename(&copy, &folder).unwrap();
    }
    world.wake();
    let refused = wait_until("the loss to be noticed", || {
        let refused = world.run(&["route", "add", "c.moor.test", "4310"]);
        refused.stderr.contains("was in use").then_some(refused)
    });
    assert!(
        refused.code == 1 && refused.stderr.contains(reason),
        "{refused:?}"
    );
    assert!(
        refused.stderr.contains("bentlane restore --from"),
        "{refused:?}"
    );
    assert!(world.ok(&["status"]).contains(reason));
    assert!(
        world
            .curl(&["https://b.moor.test/"])
            .ok()
            .contains("b.moor.test")
    );
    let now = fs::read(world.data_dir().join("last-known-good.json")).unwrap();
    assert!(now == known, "it is kept");

    let restored = world.ok(&["restore", "--from", from, "--yes"]);
    assert!(
        restored.contains(&format!("routes: {routes}")),
        "{restored}"
    );
    let again = world.run(&["restore", "--from", from, "--yes"]);
    assert!(again.stderr.contains("nothing to restore"), "{again:?}");
    world.end(Signal::TERM);
    world.wake();
    let listed = world.json(&["route", "list"]);
    assert_eq!(listed["routes"].as_array().unwrap().len(), routes);
    wait_until("a change to succeed", || {
        (world.run(&["zone", "add", "fell.test"]).code == 0).then_some(())
    });
}

fn lose(world: &World, loss: Loss) {
    let folder = world.database_folder();
    match loss {
        Loss::Deleted | Loss::Older => fs::remove_dir_all(&folder).unwrap(),
        Loss::Emptied => {
            let emptied = run(
                "find",
                &[folder.to_str().unwrap(), "-mindepth", "1", "-delete"],
            );
            emptied.ok();
        }
        Loss::Damaged => fs::remove_file(folder.join("PG_VERSION")).unwrap(),
    }
}

#[test]
fn a_damaged_database_is_left_as_it_is() {
    let app = App::new();
    let mut world = World::with_private_server().add_routes(&[("a.moor.test", &app.port())]);
    world.end(Signal::TERM);
    let version = world.database_folder().join("PG_VERSION");
    let before = fs::read(&version).unwrap();
    lose(&world, Loss::Damaged);
    world.wake();
    wait_until("the reason", || {
        let status = world.ok(&["status"]);
        status.contains("is no database any more").then_some(())
    });
    assert!(
        world
            .curl(&["https://a.moor.test/"])
            .ok()
            .contains("a.moor.test")
    );
    fs::write(&version, before).unwrap();
    wait_until("the database to be used again", || {
        (world.run(&["zone", "add", "fell.test"]).code == 0).then_some(())
    });
}
