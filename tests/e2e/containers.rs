//! Routes to containers of a real engine, and the findings when they cannot be reached.

use bentlane_tests::{Containers, Start, World, wait_until};
use serde_json::Value;

/// Waits until a check finds this of `address`; `None` for a route that passes.
fn wait_for(world: &World, address: &str, slug: Option<&str>) -> Value {
    wait_until(slug.unwrap_or("the route to pass"), || {
        let run = world.run(&["check", "--routes-only", address, "--format", "json"]);
        let verdict = run.json()["verdicts"][0].clone();
        let mut findings = verdict["findings"].as_array().unwrap().iter();
        let broken = findings.find(|it| it["severity"] == "error");
        let found = broken.map(|it| it["slug"].as_str().unwrap().to_owned());
        (found.as_deref() == slug).then(|| broken.cloned().unwrap_or_default())
    })
}

#[test]
fn routes_follow_their_containers() {
    let mut world = World::asleep(Start::default());
    let mut engine = Containers::start(&world);
    let socket = engine.socket().display().to_string();
    let start = Start {
        flags: vec!["--engine".to_owned(), socket],
        ..Start::default()
    };
    world.start_as(start);
    world.wake();
    world.ok(&["zone", "add", "moor.test"]);

    // By the only port that is published, whichever that is.
    engine.start_hut("tiles", &["--publish", "127.0.0.1::80"]);
    // In a network of its own it leaves the apps of other tests alone.
    let variables = [
        format!("DOCKER_HOST=unix://{}", engine.socket().display()),
        format!("BENTLANE_DATA_DIR={}", world.data_dir().display()),
        bentlane_tests::binary().display().to_string(),
    ];
    let [host, data, program] = variables.each_ref().map(String::as_str);
    let inside = ["--net", "--", "env", host, data, program];
    let setup = ["setup", "--dry-run", "--only", "routes", "--format", "json"];
    let plan = bentlane_tests::run("unshare", &[&inside[..], &setup].concat());
    let plan = bentlane_tests::json(&plan.ok());
    let routes = plan["routes"].as_array().unwrap();
    let tiles = routes.iter().find(|it| it["target"] == "container:tiles");
    assert_eq!(tiles.unwrap()["address"], "tiles.moor.test", "{plan}");
    world.ok(&[
        "route",
        "add",
        "tiles.moor.test",
        "container:tiles",
        "--expect-title",
        "Tiles",
    ]);
    wait_for(&world, "tiles.moor.test", None);
    let listed = world.json(&["port", "list"]);
    let mut ports = listed["ports"].as_array().unwrap().iter();
    let tiles = ports.find(|port| port["container"] == "tiles").unwrap();
    assert_eq!(tiles["routes"][0], "tiles.moor.test", "{tiles}");
    let page = world.curl(&["https://tiles.moor.test/"]).ok();
    assert_eq!(page, "<title>Tiles</title>");
    world.ok(&["route", "add", "*.box.moor.test", "--container-from-name"]);
    wait_until("the container by its name", || {
        let page = world.curl(&["https://tiles.box.moor.test/"]);
        (page.stdout == "<title>Tiles</title>").then_some(())
    });

    engine.ok(&["stop", "--time", "0", "tiles"]);
    let found = wait_for(&world, "tiles.moor.test", Some("container-stopped"));
    assert_eq!(found["hop"], "connect");
    let told = world.curl(&["https://tiles.moor.test/"]).ok();
    assert!(
        told.contains("the container tiles is not running"),
        "{told}"
    );
    engine.ok(&["start", "tiles"]);
    wait_for(&world, "tiles.moor.test", None);

    certificates_follow_their_container(&world, &mut engine);
    ports_are_the_published_ones(&world, &engine);
    routes_are_checked_from_containers(&world, &engine);

    // Without its engine a container is served where it was, and a new one is not found.
    engine.silence();
    wait_until("a word about the engine", || {
        let checked = world.run(&["check", "--routes-only", "tiles.moor.test"]);
        (checked.code == 0 && checked.stdout.contains("engine-silent")).then_some(())
    });
    assert!(
        world
            .curl(&["https://tiles.moor.test/"])
            .ok()
            .contains("Tiles")
    );
    world.ok(&["route", "add", "unknown.moor.test", "container:unknown"]);
    let found = wait_for(&world, "unknown.moor.test", Some("engine-silent"));
    assert_eq!(found["hop"], "connect");
    engine.serve();
    wait_for(&world, "unknown.moor.test", Some("container-gone"));
    wait_for(&world, "tiles.moor.test", None);

    let refused = world.run(&["route", "add", "x.moor.test", "container:-x"]);
    assert_eq!(refused.code, 2, "{refused:?}");
}

/// Certificates are copied into a container, also when it is made again.
fn certificates_follow_their_container(world: &World, engine: &mut Containers) {
    let files = ["tiles.moor.test.pem", "tiles.moor.test.key"];
    world.ok(&[
        "cert",
        "export",
        "tiles.moor.test",
        "--for-container",
        "tiles",
        "--to",
        "/tls",
    ]);
    let read = |engine: &Containers, file: &str| {
        let path = format!("/tls/{file}");
        engine.run(&["exec", "tiles", "/bin/busybox", "cat", &path])
    };
    let first = files.map(|file| read(engine, file).ok());
    assert!(first[0].contains("BEGIN CERTIFICATE") && first[1].contains("PRIVATE KEY"));

    engine.ok(&["rm", "--force", "--time", "0", "tiles"]);
    let found = wait_for(world, "tiles.moor.test", Some("container-gone"));
    assert_eq!(found["summary"], "there is no container tiles");
    engine.start_hut("tiles", &["--publish", "127.0.0.1::80"]);
    wait_for(world, "tiles.moor.test", None);
    wait_until("the new container to have the files", || {
        let again = files.map(|file| read(engine, file).stdout);
        (again == first).then_some(())
    });
    // Files that are new while no engine answers reach it once it does.
    let kept = world.data_dir().join("exported/tiles_tls").join(files[0]);
    engine.silence();
    world.ok(&["authority", "rotate"]);
    wait_until("new files", || {
        (std::fs::read_to_string(&kept).unwrap() != first[0]).then_some(())
    });
    engine.serve();
    wait_until("the container to have the new files", || {
        let now = std::fs::read_to_string(&kept).unwrap();
        (read(engine, files[0]).stdout == now).then_some(())
    });
    let stop = [
        "cert",
        "export",
        "--stop",
        "--for-container",
        "tiles",
        "--to",
        "/tls",
    ];
    world.ok(&stop);
}

/// A container without a published port needs one in the route.
fn ports_are_the_published_ones(world: &World, engine: &Containers) {
    engine.start_hut("quiet", &[]);
    world.ok(&["route", "add", "quiet.moor.test", "container:quiet"]);
    let found = wait_for(world, "quiet.moor.test", Some("container-unpublished"));
    let command = found["fix"]["command"]
        .as_str()
        .unwrap()
        .replace("PORT", "80");
    let words: Vec<&str> = command.split(' ').skip(1).collect();
    world.ok(&words);
    wait_for(world, "quiet.moor.test", None);

    engine.start_hut("alone", &["--network", "none"]);
    world.ok(&["route", "add", "alone.moor.test", "container:alone:80"]);
    let found = wait_for(world, "alone.moor.test", Some("container-elsewhere"));
    assert_eq!(found["evidence"][0], "its network: none");
    engine.ok(&["rm", "--force", "--time", "0", "alone"]);
    engine.start_hut("alone", &["--publish", "127.0.0.1::80"]);
    wait_for(world, "alone.moor.test", None);
}

/// What a container sees of a route is another matter.
fn routes_are_checked_from_containers(world: &World, engine: &Containers) {
    let https = format!("quiet.moor.test:{}", "127.0.0.1");
    for (name, settings, slug) in [
        (
            "bridged",
            &["--dns", "127.0.0.9"][..],
            Some("container-asks-elsewhere"),
        ),
        (
            "misled",
            &["--add-host", &https],
            Some("container-loopback"),
        ),
        (
            "cut-off",
            &["--add-host", "quiet.moor.test:10.88.0.1"],
            Some("container-cut-off"),
        ),
        (
            "sharing",
            &["--network", "host", "--add-host", &https],
            None,
        ),
    ] {
        engine.ok(&[
            &["run", "--detach", "--name", name],
            settings,
            &["hut", "/bin/busybox", "sleep", "600"],
        ]
        .concat());
        let from = format!("container:{name}");
        let socket = engine.socket().display().to_string();
        let run = world.run(&[
            "check",
            "quiet.moor.test",
            "--from",
            &from,
            "--engine",
            &socket,
            "--format",
            "json",
        ]);
        let verdict = &run.json()["verdicts"][0];
        let found = verdict["findings"][0]["slug"].as_str();
        assert_eq!(found, slug, "{verdict:#}");
        assert_eq!(verdict["hops"].as_array().unwrap().len(), 2);
        engine.ok(&["rm", "--force", "--time", "0", name]);
    }
    let socket = engine.socket().display().to_string();
    let nobody = ["check", "--from", "container:nobody", "--engine", &socket];
    let gone = world.run(&nobody);
    assert_eq!(gone.code, 2, "{gone:?}");
}
