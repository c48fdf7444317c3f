//! Changes of the configuration: partial updates, several at once, and taking them back.

use std::thread;

use bentlane_tests::{Namespace, Run, Start, World};
use serde_json::{Value, json};

const ZONE_FILE: &str = "mail 60 IN A 127.0.0.8\nhut 60 IN TXT \"open\"\n";

fn two_routes() -> World {
    World::with_routes(&[("a.moor.test", "4310"), ("b.moor.test", "4311")])
}

/// Everything that is stored, from the API.
fn configuration(world: &World) -> Value {
    let routes: Vec<Value> = world.get("/routes")["routes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|route| json!([route["address"], route["to"], route["settings"]]))
        .collect();
    let zones: Vec<Value> = world.get("/zones")["zones"]
        .as_array()
        .unwrap()
        .iter()
        .map(|zone| json!([zone["name"], zone["settings"]]))
        .collect();
    json!([routes, zones, world.get("/records")["records"]])
}

/// A call with a body; gives the status and the whole answer.
fn status_of(
    world: &World,
    method: &str,
    path: &str,
    body: &str,
    fields: &[&str],
) -> (String, Run) {
    let mut args = vec!["-i", "-X", method, "-H", "content-type: application/json"];
    for field in fields {
        args.extend(["-H", field]);
    }
    args.extend(["-d", body]);
    let run = world.call(path, &args);
    let status = run.stdout.split(' ').nth(1).unwrap_or_default().to_owned();
    (status, run)
}

#[test]
fn patches_at_the_same_time_lose_nothing() {
    let world = two_routes();
    let keys = [
        r#"{"note":"hut NUMBER"}"#,
        r#"{"paused":true}"#,
        r#"{"host":"target"}"#,
        r#"{"server_timing":true}"#,
        r#"{"expect":{"status":200}}"#,
        r#"{"expect":{"title":"Highmoor"}}"#,
        r#"{"allow_origins":["https://*.moor.test"]}"#,
        r#"{"set_headers":["request x-hut: NUMBER"]}"#,
        r#"{"drop_hsts":true}"#,
        r#"{"plain":"serve"}"#,
    ];
    let routes: Vec<String> = (0..10)
        .map(|number| format!("c{number}.moor.test"))
        .collect();
    for route in &routes {
        world.ok(&["route", "add", route, "1"]);
    }
    let before = revision(&world);
    thread::scope(|scope| {
        for (number, route) in routes.iter().enumerate() {
            for key in keys {
                let body = key.replace("NUMBER", &number.to_string());
                let world = &world;
                scope.spawn(move || world.patch(&format!("/routes/{route}"), &body));
            }
        }
    });
    assert_eq!(revision(&world), before + 100);
    for (number, route) in routes.iter().enumerate() {
        let settings = world.get(&format!("/routes/{route}"))["settings"].clone();
        let wanted = json!({
            "note": format!("hut {number}"), "paused": true, "host": "target", "server_timing": true,
            "expect": { "status": 200, "title": "Highmoor" },
            "allow_origins": ["https://*.moor.test"], "drop_hsts": true, "plain": "serve",
            "set_headers": [format!("request x-hut: {number}")],
        });
        assert_eq!(settings, wanted, "{route}");
    }
}

fn revision(world: &World) -> u64 {
    world.get("/journal?limit=1")["entries"][0]["revision"]
        .as_u64()
        .unwrap()
}

#[test]
fn null_unsets_and_only_that() {
    let world = two_routes();
    let path = "/routes/a.moor.test";
    world.patch(
        path,
        r#"{"note":"none","expect":{"status":200,"text":"x"}}"#,
    );
    let settings = || world.get(path)["settings"].clone();
    assert_eq!(
        settings(),
        json!({ "note": "none", "expect": { "status": 200, "text": "x" } })
    );
    world.patch(path, r#"{"expect":{"text":null}}"#);
    assert_eq!(
        settings(),
        json!({ "note": "none", "expect": { "status": 200 } })
    );
    world.ok(&[
        "route",
        "edit",
        "a.moor.test",
        "--unset",
        "expect",
        "--unset",
        "note",
    ]);
    assert_eq!(settings(), json!({}));

    world.patch("/zones/moor.test", r#"{"ttl":77,"ipv4":"127.0.0.9"}"#);
    world.patch("/zones/moor.test", r#"{"ttl":null,"ipv4":null}"#);
    let zone = world.get("/zones/moor.test")["settings"].clone();
    assert_eq!((&zone["ttl"], &zone["ipv4"]), (&json!(10), &Value::Null));
    let wrong = world.patch(path, r#"{"note":1,"colour":"red","expect":{"colour":1}}"#);
    let fields: Vec<&str> = wrong["errors"]
        .as_array()
        .unwrap()
        .iter()
        .map(|error| error["field"].as_str().unwrap())
        .collect();
    assert_eq!(fields, ["settings", "settings", "note"], "{wrong}");
}

#[test]
fn a_redirect_becomes_a_port_again() {
    let world = World::with_routes(&[]);
    let add = [
        "route",
        "add",
        "old.moor.test",
        "redirect:https://a.moor.test",
    ];
    world.ok(&[&add[..], &["--redirect-status", "308", "--keep-path=false"]].concat());
    let refused = world.run(&["route", "edit", "old.moor.test", "--to", "4310"]);
    assert_eq!(refused.code, 2, "{refused:?}");
    let flags = "--unset redirect_status --unset keep_path";
    assert!(refused.stderr.contains(flags), "{refused:?}");
    let unset: Vec<&str> = flags.split(' ').collect();
    world.ok(&[
        &["route", "edit", "old.moor.test", "--to", "4310"],
        &unset[..],
    ]
    .concat());
}

#[test]
fn a_change_of_an_older_revision_is_refused() {
    let world = two_routes();
    for (path, body) in [
        ("/routes/a.moor.test", r#"{"note":"x"}"#),
        ("/zones/moor.test", r#"{"ttl":60}"#),
    ] {
        let read = world.call(path, &["-i"]).stdout;
        let tag = read
            .lines()
            .find_map(|line| line.strip_prefix("etag: "))
            .unwrap();
        let matching = format!("if-match: {}", tag.trim());
        world.ok(&["route", "edit", "b.moor.test", "--note", path]);
        let before = configuration(&world);
        let (status, answer) = status_of(&world, "PATCH", path, body, &[&matching]);
        assert_eq!(status, "412", "{answer:?}");
        assert!(answer.stdout.contains("read it again"), "{answer:?}");
        assert_eq!(configuration(&world), before);
        let now = format!("if-match: \"{}\"", revision(&world));
        for fields in [&[&*now][..], &["if-match: *"]] {
            let (status, answer) = status_of(&world, "PATCH", path, body, fields);
            assert_eq!(status, "200", "{answer:?}");
        }
    }
    for tag in ["W/\"1\"", "1", "\"x\""] {
        let field = format!("if-match: {tag}");
        let (status, answer) = status_of(&world, "PATCH", "/zones/moor.test", "{}", &[&field]);
        assert_eq!(status, "412", "{tag}: {answer:?}");
    }
}

/// Every kind of change, as one types it.
const CHANGES: [&str; 15] = [
    "zone add fell.test",
    "zone edit moor.test --ttl 60 --ipv4 127.0.0.9 --plain serve",
    "zone edit moor.test --unset ttl --answers routed-names",
    "zone remove tarn.test",
    "zone remove moor.test --with-routes",
    "zone import tarn.test FILE",
    "record add tarn.test TXT two",
    "record remove mail.tarn.test",
    "route add c.moor.test/api 4312 --strip-prefix --note api",
    "route add store.moor.test:5432 4313",
    "route add --from ROUTES",
    "route edit a.moor.test --to 4320 --expect-status 200",
    "route edit b.moor.test --unset note --unset expect",
    "route edit b.moor.test --address own",
    "route remove b.moor.test",
];

#[test]
fn every_kind_of_change_can_be_undone() {
    let world = two_routes();
    world.ok(&["zone", "add", "tarn.test"]);
    world.ok(&["zone", "edit", "moor.test", "--ttl", "20"]);
    world.ok(&["record", "add", "mail.tarn.test", "A", "127.0.0.7"]);
    let edit = [
        "route",
        "edit",
        "b.moor.test",
        "--note",
        "two",
        "--expect-text",
        "hut",
    ];
    world.ok(&edit);
    let (file, routes) = (world.path("tarn.zone"), world.path("routes.txt"));
    std::fs::write(&file, ZONE_FILE).unwrap();
    std::fs::write(&routes, "x.moor.test 1\ny.moor.test 2\n").unwrap();
    let before = configuration(&world);
    for change in CHANGES {
        let change = change.replace("FILE", file.to_str().unwrap());
        let change = change.replace("ROUTES", routes.to_str().unwrap());
        world.ok(&change.split(' ').collect::<Vec<_>>());
        let after = configuration(&world);
        assert_ne!(before, after, "{change}");
        let said = world.ok(&["undo"]);
        assert_eq!(configuration(&world), before, "{change}: {said}");
        let redo = said.rsplit_once("`bentlane undo ").unwrap().1;
        let said = world.ok(&["undo", redo.split_once('`').unwrap().0]);
        assert_eq!(configuration(&world), after, "{change}: {said}");
        world.ok(&["undo"]);
        assert_eq!(configuration(&world), before, "{change}");
    }
}

#[test]
fn undo_restores_a_zone_with_its_routes_and_records() {
    let world = World::with_routes(&[]);
    world.ok(&["zone", "add", "tarn.test"]);
    world.ok(&["record", "add", "mail.tarn.test", "A", "127.0.0.7"]);
    world.ok(&["route", "add", "a.tarn.test", "4310", "--note", "one"]);
    world.ok(&["route", "add", "b.tarn.test", "4311"]);
    let before = configuration(&world);
    world.ok(&["zone", "remove", "tarn.test", "--with-routes"]);
    world.ok(&["undo"]);
    assert_eq!(configuration(&world), before);
    assert_eq!(world.dig(&["+short", "mail.tarn.test"]).trim(), "127.0.0.7");
}

#[test]
fn undo_refuses_what_has_changed_since() {
    let world = two_routes();
    world.ok(&[
        "route",
        "edit",
        "a.moor.test",
        "--to",
        "4320",
        "--note",
        "one",
    ]);
    let first = revision(&world).to_string();
    world.ok(&["route", "edit", "a.moor.test", "--paused"]);
    world.ok(&["undo", &first]);
    let route = world.get("/routes/a.moor.test");
    assert_eq!(route["to"], "4310");
    assert_eq!(
        route["settings"],
        json!({ "paused": true }),
        "the later change stays"
    );

    world.ok(&["route", "edit", "a.moor.test", "--to", "4330"]);
    let second = revision(&world).to_string();
    world.ok(&[
        "route",
        "edit",
        "a.moor.test",
        "--to",
        "4340",
        "--note",
        "two",
    ]);
    let before = configuration(&world);
    let refused = world.run(&["undo", &second]);
    assert_eq!(refused.code, 1, "{refused:?}");
    let conflict = "`to` of the route `a.moor.test` was `4330` after that change and is `4340` now";
    assert!(refused.stderr.contains(conflict), "{refused:?}");
    world.ok(&["route", "remove", "a.moor.test"]);
    let refused = world.run(&["undo", &second]);
    let gone = "there is no route `a.moor.test` any more";
    assert!(refused.stderr.contains(gone), "{refused:?}");
    world.ok(&["undo"]);
    assert_eq!(configuration(&world), before);

    // What a change added has been changed since.
    world.ok(&["route", "add", "new.moor.test", "1"]);
    let added = revision(&world).to_string();
    world.ok(&["route", "edit", "new.moor.test", "--note", "one"]);
    let refused = world.run(&["undo", &added]);
    let changed = "the route `new.moor.test` has changed";
    assert!(refused.stderr.contains(changed), "{refused:?}");

    // The zone that a change added has routes since.
    world.ok(&["zone", "add", "tarn.test"]);
    let zone = revision(&world).to_string();
    world.ok(&["route", "add", "x.tarn.test", "1"]);
    let refused = world.run(&["undo", &zone]);
    assert!(
        refused.stderr.contains("has routes (`x.tarn.test`)"),
        "{refused:?}"
    );
    for (number, words) in [("99999", "no change 99999"), ("0", "no change 0")] {
        let missing = world.run(&["undo", number]);
        assert_eq!(missing.code, 1, "{missing:?}");
        assert!(missing.stderr.contains(words), "{missing:?}");
    }
}

#[test]
fn undo_goes_back_step_by_step() {
    let world = World::new();
    world.ok(&["zone", "add", "moor.test"]);
    world.ok(&["route", "add", "a.moor.test", "4310"]);
    world.ok(&["route", "edit", "a.moor.test", "--to", "4311"]);
    world.ok(&["undo"]);
    assert_eq!(world.get("/routes/a.moor.test")["to"], "4310");
    world.ok(&["undo"]);
    assert_eq!(world.get("/routes")["routes"], json!([]));
    world.ok(&["undo"]);
    assert_eq!(world.get("/zones")["zones"], json!([]));
    let nothing = world.run(&["undo"]);
    assert_eq!(nothing.code, 1);
    assert!(
        nothing.stderr.contains("there is no change to undo"),
        "{nothing:?}"
    );
    let journal = world.ok(&["journal"]);
    assert!(journal.contains("remove zone; undoes 1"), "{journal}");
}

/// Attaching and detaching in a namespace, each undone.
const MACHINE: &str = r#"
set -eu
private_machine
nameservers 127.0.0.9
mkdir -p "$HOME/.pki/nssdb"
certutil -d "sql:$HOME/.pki/nssdb" -N --empty-password
update-ca-certificates --fresh >/dev/null 2>&1
state() {
  cat /etc/hosts /etc/resolv.conf; cat /etc/ssl/certs/ca-certificates.crt
  ls -R /etc/chromium /etc/firefox /usr/local/share/ca-certificates 2>/dev/null || true
  cat /etc/chromium/policies/managed/* /etc/firefox/policies/* 2>/dev/null || true
  keytool -list -keystore /etc/ssl/certs/java/cacerts -storepass changeit 2>/dev/null | grep -o 'SHA-256.*' | sort
  certutil -L -d "sql:$HOME/.pki/nssdb"
}
same() { state | cmp - "$FOLDER/$1" && echo "as $1" || true; }
"$BENTLANE" serve >"$FOLDER/service.log" 2>&1 & service=$!
trap 'kill $service 2>/dev/null || true; wait' EXIT
await_service
"$BENTLANE" zone add moor.test >/dev/null
"$BENTLANE" route add hut.moor.test 4310 >/dev/null
state > "$FOLDER/before"
step dry; "$BENTLANE" system attach --only lookups --yes >/dev/null 2>&1; state > "$FOLDER/lookups"
"$BENTLANE" undo --dry-run; same lookups
step lookups; "$BENTLANE" undo --yes 2>&1; same before
step redo; "$BENTLANE" undo "$("$BENTLANE" journal --format json | python3 -c 'import json, sys; print(json.load(sys.stdin)["entries"][0]["revision"])')" --yes 2>&1; same lookups
step trust; "$BENTLANE" system attach --yes >/dev/null 2>&1; state > "$FOLDER/all"
"$BENTLANE" undo --yes 2>&1; same lookups
step hosts; "$BENTLANE" system attach --only hosts --yes >/dev/null 2>&1; "$BENTLANE" undo --yes >/dev/null 2>&1; same lookups
step detach; "$BENTLANE" system attach --yes >/dev/null 2>&1; same all
"$BENTLANE" system detach --yes >/dev/null 2>&1; same before; "$BENTLANE" undo --yes 2>&1; same all
step api; "$BENTLANE" system detach --only lookups --yes >/dev/null 2>&1
curl -sS --unix-socket "$BENTLANE_DATA_DIR/api.sock" http://localhost/api/v1/undo -H 'content-type: application/json' -d '{}'
step journal; "$BENTLANE" journal
step conflict; "$BENTLANE" system attach --only lookups --yes >/dev/null 2>&1
echo '# mine' >> /etc/resolv.conf; state > "$FOLDER/mine"
"$BENTLANE" undo --yes 2>&1 || echo "exit $?"; same mine
"#;

#[test]
fn changes_of_this_machine_are_undone_too() {
    let world = World::asleep(Start::default());
    Namespace::run(&world, MACHINE).expect(&[
        (
            "dry",
            &["/etc/resolv.conf  restore the former file", "as lookups"],
        ),
        ("lookups", &["everything is restored", "as before"]),
        ("redo", &["undid change", "as lookups"]),
        ("trust", &["Java's trust store", "as lookups"]),
        ("hosts", &["as lookups"]),
        ("detach", &["as all\nas before", "undid change", "as all"]),
        ("api", &["`sudo bentlane undo", "\"status\":409"]),
        (
            "journal",
            &[
                "attach machine",
                "detach machine; undoes",
                "/etc/resolv.conf",
            ],
        ),
        (
            "conflict",
            &["/etc/resolv.conf has changed since", "exit 2", "as mine"],
        ),
    ]);
}
