//! Records of one's own, zone settings and master files.

use std::fs;

use bentlane_tests::{World, wait_until};
use rustix::process::Signal;

#[test]
fn records_are_added_served_stored_and_removed() {
    let mut world = World::with_routes(&[]);
    world.ok(&["record", "add", "moor.test", "mx", "10 mail.moor.test."]);
    world.ok(&[
        "record",
        "add",
        "mail.moor.test",
        "A",
        "192.0.2.25",
        "--ttl",
        "60",
    ]);
    world.ok(&[
        "record",
        "add",
        "_sip._tcp.moor.test",
        "SRV",
        "0 5 5060 sip.moor.test.",
    ]);
    world.ok(&["record", "add", "moor.test", "TXT", "\"v=spf1 -all\" plain"]);
    world.end(Signal::KILL);
    world.wake();
    assert_eq!(
        world.dig(&["+short", "moor.test", "MX"]).trim(),
        "10 mail.moor.test."
    );
    assert!(
        world
            .dig(&["mail.moor.test"])
            .contains("mail.moor.test.\t\t60\tIN\tA\t192.0.2.25")
    );
    assert!(
        world
            .dig(&["+short", "_sip._tcp.moor.test", "SRV"])
            .contains("0 5 5060 sip.moor.test.")
    );
    assert_eq!(
        world.dig(&["+short", "moor.test", "TXT"]).trim(),
        "\"v=spf1 -all\" \"plain\""
    );
    assert_eq!(
        world.dig(&["+short", "other.moor.test"]).trim(),
        "127.0.0.1"
    );

    export_remove_and_import(&world);
}

fn export_remove_and_import(world: &World) {
    let exported = world.ok(&["zone", "export", "moor.test"]);
    world.ok(&["record", "remove", "moor.test", "txt"]);
    world.ok(&["record", "remove", "mail.moor.test"]);
    assert_eq!(world.dig(&["+short", "mail.moor.test"]).trim(), "127.0.0.1");
    let file = world.path("moor.zone");
    fs::write(&file, exported).unwrap();
    let path = file.to_str().unwrap();
    let would = world.run(&["zone", "import", "moor.test", path, "--dry-run"]);
    assert!(
        would.stderr.contains("would have these 4 records"),
        "{would:?}"
    );
    assert_eq!(world.dig(&["+short", "mail.moor.test"]).trim(), "127.0.0.1");
    world.ok(&["zone", "import", "moor.test", path]);
    assert_eq!(
        world.dig(&["+short", "mail.moor.test"]).trim(),
        "192.0.2.25"
    );
    let shown = world.ok(&["zone", "show", "moor.test"]);
    assert!(
        shown.contains("_sip._tcp.moor.test") && shown.contains("5060"),
        "{shown}"
    );
    assert_eq!(
        world.json(&["record", "list"])["records"]
            .as_array()
            .unwrap()
            .len(),
        4
    );
    let journal = world.json(&["journal"]);
    assert_eq!(
        journal["entries"][0]["after"]["records"]
            .as_array()
            .unwrap()
            .len(),
        4
    );
}

#[test]
fn zones_can_resolve_elsewhere_and_only_for_routed_names() {
    let world = World::with_routes(&[("booking.moor.test", "4310")]);
    world.ok(&[
        "zone",
        "edit",
        "moor.test",
        "--ipv4",
        "127.0.0.9",
        "--ttl",
        "77",
    ]);
    let answer = world.dig(&["x.moor.test"]);
    assert!(answer.contains("77\tIN\tA\t127.0.0.9"), "{answer}");
    world.ok(&[
        "zone",
        "edit",
        "moor.test",
        "--unset",
        "ipv4",
        "--answers",
        "routed-names",
    ]);
    assert!(world.dig(&["x.moor.test"]).contains("status: NXDOMAIN"));
    assert_eq!(
        world.dig(&["+short", "booking.moor.test"]).trim(),
        "127.0.0.1"
    );
    let zones = world.json(&["zone", "list"]);
    assert_eq!(zones["zones"][0]["settings"]["answers"], "routed-names");
    assert_eq!(zones["zones"][0]["settings"]["ttl"], 77);
}

#[test]
fn wrong_records_change_nothing() {
    let world = World::with_routes(&[]);
    let file = world.path("bad.zone");
    fs::write(&file, "a A 127.0.0.1\nb A nowhere\nc CAA 0 issue x\n").unwrap();
    let path = file.to_str().unwrap();
    let rows: &[(&[&str], i32, &str)] = &[
        (
            &["record", "add", "x.fell.test", "A", "127.0.0.1"],
            2,
            "owner: `x.fell.test` is in no zone",
        ),
        (
            &["record", "add", "x..moor.test", "A", "127.0.0.1"],
            2,
            "owner: `x..moor.test` is no name",
        ),
        (
            &["record", "add", "x.moor.test", "A", "nowhere"],
            2,
            "data: `nowhere` is no data of an A record",
        ),
        (
            &["record", "add", "x.moor.test", "CAA", "0 issue x"],
            2,
            "data: records of the type `CAA` are not kept",
        ),
        (
            &["record", "add", "moor.test", "CNAME", "x.moor.test."],
            2,
            "owner: `moor.test` is the zone itself",
        ),
        (
            &["record", "remove", "x.moor.test"],
            1,
            "there is no own record of `x.moor.test`",
        ),
        (
            &["zone", "import", "moor.test", path],
            2,
            "line 2: `nowhere` is no data of an A record",
        ),
        (
            &["zone", "import", "fell.test", path],
            1,
            "there is no zone `fell.test`",
        ),
        (
            &["zone", "import", "moor.test", "/nonexistent"],
            1,
            "cannot read /nonexistent",
        ),
        (
            &["zone", "edit", "moor.test", "--ttl", "90000"],
            2,
            "ttl: 90000 s is more than a day",
        ),
        (
            &["zone", "edit", "moor.test", "--ipv4", "nowhere"],
            2,
            "ipv4: invalid IPv4 address",
        ),
        (
            &["zone", "edit", "moor.test", "--unset", "address"],
            2,
            "--unset: there is no setting `address`; there are: ttl, answers, ipv4, ipv6, plain",
        ),
        (
            &["zone", "show", "fell.test"],
            1,
            "there is no zone `fell.test`",
        ),
    ];
    let before = world.json(&["journal"]);
    for (args, code, part) in rows {
        let run = world.run(args);
        assert_eq!(run.code, *code, "{args:?}: {run:?}");
        assert!(run.stderr.contains(part), "{args:?}: {run:?}");
    }
    assert_eq!(world.json(&["journal"]), before);
}

#[test]
fn the_query_log_can_be_read() {
    let world = World::with_routes(&[]);
    for name in ["a.moor.test", "A.moor.test", "b.moor.test", "www.example"] {
        world.dig(&[name]);
    }
    world.dig(&["+tcp", "a.moor.test", "MX"]);
    let read = |query: &str| world.get(&format!("/queries{query}"));
    // Who asked is looked up beside, so that the last may be written down a moment later.
    let all = wait_until("all questions to be written down", || {
        let all = read("");
        (all["total"] == 5).then_some(all)
    });
    assert_eq!(all["left_out"], 0, "{all}");
    assert_eq!(all["queries"][0]["type"], "MX", "newest first: {all}");
    assert_eq!(all["queries"][0]["client"], "127.0.0.1");
    assert_eq!(all["queries"][1]["name"], "www.example");
    assert_eq!(all["queries"][1]["outcome"], "refused");
    assert_eq!(all["queries"][1]["code"], "REFUSED");
    assert_eq!(all["counts"][0]["name"], "a.moor.test");
    assert_eq!(all["counts"][0]["count"], 2, "whatever the case: {all}");
    let ours = read("?zone=moor.test&limit=2");
    assert_eq!(ours["queries"].as_array().unwrap().len(), 2);
    assert!(!ours["counts"].to_string().contains("example"), "{ours}");
    assert_eq!(read("?zone=fell.test")["status"], 404);
    let shown = world.ok(&["zone", "show", "moor.test"]);
    let line = |line: &&str| line.starts_with("a.moor.test  A ");
    let line = shown
        .lines()
        .find(line)
        .unwrap_or_else(|| panic!("{shown}"));
    assert!(line.contains("from the zone  2"), "{line}");
}

#[test]
fn the_query_log_has_the_process_that_asked() {
    let world = World::with_routes(&[]);
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let query = b"\x12\x34\x01\0\0\x01\0\0\0\0\0\0\x01w\x04moor\x04test\0\0\x01\0\x01";
    socket.send_to(query, world.address("dns")).unwrap();
    socket.recv_from(&mut [0; 512]).unwrap();
    // The socket is still open, so its owner can be told.
    let all = world.get("/queries");
    assert_eq!(all["queries"][0]["pid"], std::process::id(), "{all}");
    let name = all["queries"][0]["process"].as_str().unwrap();
    assert_eq!(all["counts"][0]["processes"][name], 1);
}
