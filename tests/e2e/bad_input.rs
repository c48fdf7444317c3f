//! What is wrong is named by field and rule, and changes nothing.

use bentlane_tests::World;

/// A command, its exit code, and what its one line of error says.
const ROWS: &[(&[&str], i32, &str)] = &[
    (&["zone", "add", "moor..test"], 2, "name: a label is empty"),
    (
        &["zone", "add", "--", "-moor.test"],
        2,
        "name: the label `-moor` starts or ends with a hyphen",
    ),
    (
        &["zone", "add", "127.0.0.1"],
        2,
        "name: the last label is a number",
    ),
    (
        &["zone", "add", "moor.test"],
        1,
        "name: the zone `moor.test` is there already",
    ),
    (
        &["zone", "add", "moor.co.uk"],
        2,
        "can be somebody's real domain: what is really there would be out of reach for this machine; \
         `moor.test` would be better, or `bentlane zone add moor.co.uk --anyway` takes it all the same",
    ),
    (&["zone", "add", "dev"], 2, "`dev` is a public suffix"),
    (
        &["zone", "remove", "fell.test"],
        1,
        "there is no zone `fell.test`",
    ),
    (&["zone", "remove", "moor.test"], 1, "--with-routes"),
    (
        &["route", "add", "a.fell.test", "4310"],
        2,
        "name: `a.fell.test` is in no zone",
    ),
    (
        &["route", "add", "a_b.moor.test", "4310"],
        2,
        "name: the character '_' is not allowed",
    ),
    (
        &["route", "add", "a.*.moor.test", "4310"],
        2,
        "name: `*` stands only as the whole first label",
    ),
    (
        &["route", "add", "https://a.moor.test", "4310"],
        2,
        "name: an address has no scheme: leave out `https://` and write `a.moor.test`",
    ),
    (
        &["route", "add", "booking.moor.test", "4311"],
        1,
        "is there already and leads to 4310",
    ),
    (
        &["route", "add", "a.moor.test", "0"],
        2,
        "to: `0` is no port: ports go from 1 to 65535",
    ),
    (
        &["route", "add", "a.moor.test", "65536"],
        2,
        "to: `65536` is no port",
    ),
    (
        &["route", "add", "a.moor.test", "vite"],
        2,
        "to: `vite` is no target",
    ),
    (
        &["route", "add", "a.moor.test", "ftp://x"],
        2,
        "to: targets of the kind `ftp://`",
    ),
    (
        &["route", "add", "a.moor.test/a b", "1"],
        2,
        "prefix: the character ' ' is not allowed",
    ),
    (
        &["route", "add", "a.moor.test//b", "1"],
        2,
        "prefix: a path prefix has no empty",
    ),
    (
        &["route", "edit", "booking.moor.test", "--to", "x"],
        2,
        "to: `x` is no target",
    ),
    (
        &["route", "edit", "a.moor.test", "--to", "1"],
        1,
        "there is no route `a.moor.test`",
    ),
    (
        &["route", "remove", "a.moor.test"],
        1,
        "there is no route `a.moor.test`",
    ),
    (&["check", "a..test"], 2, "addresses: a label is empty"),
    (
        &["serve", "--https", "0.0.0.0:443"],
        2,
        "not a loopback address",
    ),
    (
        &["serve", "--dns", "70000"],
        2,
        "not an address to listen on",
    ),
    (
        &["--config", "/nonexistent.toml", "status"],
        2,
        "cannot read /nonexistent.toml",
    ),
];

#[test]
fn wrong_values_are_refused_with_the_field_and_the_rule() {
    let world = World::with_routes(&[("booking.moor.test", "4310")]);
    let before = world.json(&["journal"]);
    for (args, code, part) in ROWS {
        let run = world.run(args);
        assert_eq!(run.code, *code, "{args:?}: {run:?}");
        assert!(run.stderr.contains(part), "{args:?}: {run:?}");
        assert!(run.stdout.is_empty(), "{args:?}: {run:?}");
        if !args.contains(&"serve") {
            assert_eq!(run.stderr.lines().count(), 1, "{args:?}: {run:?}");
        }
    }
    assert_eq!(world.json(&["journal"]), before, "nothing was changed");
}

/// What no command can send, since the grammar of its arguments is in the way.
#[test]
fn the_api_names_the_field_too() {
    let world = World::with_routes(&[]);
    let rows = [
        (
            r#"{"name":"a.moor.test","prefix":"api","to":"1"}"#,
            422,
            "a path prefix starts with a slash: write `/api`",
        ),
        (r#"{"name":"a.moor.test"}"#, 422, "missing field `to`"),
        (
            r#"{"name":"a.moor.test","to":"1","colour":"red"}"#,
            422,
            "there is no setting `colour`; there are: address, listen, strip_prefix",
        ),
        (r#"{"name":"#, 400, "EOF"),
    ];
    for (body, status, part) in rows {
        let json = "content-type: application/json";
        let said = world.call("/routes", &["-i", "-H", json, "-d", body]).ok();
        assert!(
            said.contains(&format!("HTTP/1.1 {status}")),
            "{body}: {said}"
        );
        assert!(
            said.contains("content-type: application/problem+json"),
            "{body}: {said}"
        );
        assert!(said.contains(part), "{body}: {said}");
    }
}

#[test]
fn unknown_and_missing_commands_suggest_others() {
    let world = World::with_routes(&[]);
    let none = world.run(&[]);
    assert_eq!(none.code, 0, "{none:?}");
    assert!(none.stdout.contains("1 zone, no route yet"), "{none:?}");
    assert!(
        none.stderr.contains("bentlane route add NAME PORT"),
        "{none:?}"
    );
    for (words, right) in [
        (&["rout", "list"][..], "'route'"),
        (&["route", "lst"], "'list'"),
        (&["check", "--fixx"], "'--fix'"),
    ] {
        let wrong = world.run(words);
        assert_eq!(wrong.code, 2, "{wrong:?}");
        assert!(wrong.stderr.contains(right), "{wrong:?}");
    }
}

#[test]
fn questionable_names_are_accepted_with_advice() {
    let world = World::new();
    let rows: &[(&[&str], &str)] = &[
        (
            &["zone", "add", "moor.local"],
            "note: `.local` belongs to multicast DNS",
        ),
        (
            &["zone", "add", "test"],
            "note: right under the single label `test`",
        ),
        (
            &["zone", "add", "moor.dev", "--anyway"],
            "note: browsers speak HTTPS only below `.dev`",
        ),
        (
            &["route", "add", "booking.test", "4310"],
            "note: right under the single label `test`",
        ),
    ];
    for (args, part) in rows {
        let run = world.run(args);
        assert_eq!(run.code, 0, "{run:?}");
        assert!(run.stderr.contains(part), "{args:?}: {run:?}");
    }
    let run = world.run(&["zone", "add", "moor.test"]);
    assert_eq!(run.stderr, "");
}
