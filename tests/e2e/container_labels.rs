//! Routes that containers of a real engine ask for by a label, and engines that do not answer well.

use std::collections::BTreeSet;

use bentlane_tests::{
    App, Containers, EngineManner, Run, SimulatedEngine, Start, World, wait_until,
};
use rstest::rstest;

/// A world with a zone, whose service follows these engines.
fn world_with(engines: impl FnOnce(&World) -> Vec<String>) -> World {
    let mut world = World::asleep(Start::default());
    let flags = engines(&world).into_iter();
    world.start_as(Start {
        flags: flags
            .flat_map(|socket| ["--engine".to_owned(), socket])
            .collect(),
        ..Start::default()
    });
    world.wake();
    world.ok(&["zone", "add", "moor.test"]);
    world
}

fn with_real_engine() -> (World, Containers) {
    let mut started = None;
    let world = world_with(|world| {
        let engine = started.insert(Containers::start(world));
        vec![engine.socket().display().to_string()]
    });
    (world, started.unwrap())
}

fn with_simulated_engine() -> (World, SimulatedEngine) {
    let mut started = None;
    let world = world_with(|world| {
        let engine = started.insert(SimulatedEngine::start(&world.path("engine")));
        vec![engine.socket().display().to_string()]
    });
    (world, started.unwrap())
}

fn ask(world: &World, url: &str) -> Run {
    world.curl(&["-w", "\n%{http_code} %header{bentlane-finding}", url])
}

/// Waits until `url` is answered with something that ends so.
#[track_caller]
fn wait_for(world: &World, url: &str, end: &str) -> String {
    wait_until(end, || {
        let asked = ask(world, url).stdout;
        asked.ends_with(end).then_some(asked)
    })
}

fn label(lines: &str) -> String {
    format!("bentlane.routes={lines}")
}

#[test]
fn containers_have_routes_by_their_labels() {
    let (world, engine) = with_real_engine();
    let lines = "tiles.moor.test 80 --expect-title Tiles\n# more\n*.map.moor.test 80\ndb.moor.test:5432 80\ncertificates /tls";
    engine.start_hut("tiles", &["--label", &label(lines)]);
    wait_for(&world, "https://tiles.moor.test/", "200 ");
    wait_for(&world, "https://north.map.moor.test/", "200 ");
    let listed = world.ok(&["route", "list"]);
    assert!(listed.contains("container:tiles:80 (label)"), "{listed}");
    let checked = world.run(&["check", "tiles.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    // Raw TCP, on a loopback address of the name's own.
    let address = world.dig(&["+short", "db.moor.test"]);
    let url = format!("http://{}:5432/", address.trim());
    wait_until("the raw route", || {
        let page = bentlane_tests::run("curl", &["-sS", "--max-time", "20", &url]);
        (page.stdout == "<title>Tiles</title>").then_some(())
    });
    // Certificates, in the folder that the label names.
    wait_until("certificates in the container", || {
        let read = ["exec", "tiles", "/bin/busybox", "ls", "/tls"];
        engine
            .run(&read)
            .stdout
            .contains("tiles.moor.test.key")
            .then_some(())
    });
    edits_are_refused_and_ones_own_routes_come_first(&world);
    routes_follow_their_container(&world, &engine);
    a_visit_starts_a_container(&world, &engine);
    labels_of_images_count_for_nothing(&world, &engine);
    shown_containers_say_all(&world, &engine);
}

fn edits_are_refused_and_ones_own_routes_come_first(world: &World) {
    for change in [
        &["route", "edit", "tiles.moor.test", "--paused"][..],
        &["route", "remove", "tiles.moor.test"],
    ] {
        let refused = world.run(change);
        assert_eq!(refused.code, 1, "{refused:?}");
        assert!(
            refused.stderr.contains("label of the container tiles"),
            "{refused:?}"
        );
    }
    let app = App::new();
    world.ok(&["route", "add", "tiles.moor.test", &app.port()]);
    let asked = ask(world, "https://tiles.moor.test/").stdout;
    assert!(!asked.contains("Tiles"), "{asked}");
    let shown = world.run(&["container", "show", "tiles"]);
    assert_eq!(shown.code, 1, "{shown:?}");
    for part in [
        "label-name-taken",
        "a route of your own has `tiles.moor.test`",
    ] {
        assert!(shown.stdout.contains(part), "{shown:?}");
    }
    world.ok(&["route", "remove", "tiles.moor.test"]);
    let asked = ask(world, "https://tiles.moor.test/").stdout;
    assert!(asked.contains("Tiles"), "{asked}");
}

fn routes_follow_their_container(world: &World, engine: &Containers) {
    engine.ok(&["rename", "tiles", "moor-tiles"]);
    wait_until("the new name", || {
        let listed = world.ok(&["route", "list"]);
        listed.contains("container:moor-tiles:80").then_some(())
    });
    engine.ok(&["stop", "--time", "0", "moor-tiles"]);
    wait_for(world, "https://tiles.moor.test/", "404 route-missing");
    // A route of a person's stays, and says what is the case.
    world.ok(&["route", "add", "kept.moor.test", "container:moor-tiles"]);
    let asked = wait_for(world, "https://kept.moor.test/", "502 container-stopped");
    assert!(
        asked.contains("bentlane container show moor-tiles"),
        "{asked}"
    );
    let started = world.ok(&["container", "start", "moor-tiles"]);
    assert!(started.contains("moor-tiles is running"), "{started}");
    wait_for(world, "https://tiles.moor.test/", "200 ");
    engine.ok(&["rm", "--force", "--time", "0", "moor-tiles"]);
    wait_for(world, "https://tiles.moor.test/", "404 route-missing");
}

fn a_visit_starts_a_container(world: &World, engine: &Containers) {
    let lines = label("lazy.moor.test 80 --start visit");
    engine.start_hut("lazy", &["--label", &lines]);
    wait_for(world, "https://lazy.moor.test/", "200 ");
    engine.ok(&["stop", "--time", "0", "lazy"]);
    wait_until("it to be stopped", || {
        let shown = world.get("/containers/lazy");
        (shown["running"] == false).then_some(())
    });
    let checked = world.json(&["check", "lazy.moor.test", "--routes-only"]);
    let mut findings = checked["verdicts"][0]["findings"]
        .as_array()
        .unwrap()
        .iter();
    let finding = findings
        .find(|it| it["slug"] == "container-stopped")
        .unwrap();
    assert_eq!(finding["severity"], "hint");
    assert_eq!(
        world.get("/containers/lazy")["running"],
        false,
        "a check starts nothing"
    );
    let asked = ask(world, "https://lazy.moor.test/").stdout;
    assert!(asked.ends_with("200 "), "{asked}");
    engine.ok(&["rm", "--force", "--time", "0", "lazy"]);
}

fn labels_of_images_count_for_nothing(world: &World, engine: &Containers) {
    let change = "LABEL bentlane.routes=stolen.moor.test\\ 80";
    let image = world.path("containers/image.tar").display().to_string();
    engine.ok(&["import", "--quiet", "--change", change, &image, "labelled"]);
    engine.ok(&[
        "run",
        "--detach",
        "--name",
        "thief",
        "labelled",
        "/bin/busybox",
        "sleep",
        "600",
    ]);
    let shown = wait_until("the container", || {
        let shown = world.run(&["container", "show", "thief"]);
        shown
            .stdout
            .contains("label-invalid")
            .then_some(shown.stdout)
    });
    assert!(shown.contains("the label came with the image"), "{shown}");
    assert!(
        ask(world, "https://stolen.moor.test/")
            .stdout
            .ends_with("404 route-missing")
    );
    engine.ok(&["rm", "--force", "--time", "0", "thief"]);
}

fn shown_containers_say_all(world: &World, engine: &Containers) {
    // On a network of its own, by the container's own address.
    engine.ok(&["network", "create", "huts"]);
    engine.start_hut(
        "inner",
        &["--network", "huts", "--label", &label("inner.moor.test 80")],
    );
    wait_for(world, "https://inner.moor.test/", "200 ");
    assert_eq!(world.get("/containers/inner")["networks"][0], "huts");
    engine.ok(&["rm", "--force", "--time", "0", "inner"]);
    engine.ok(&["network", "rm", "huts"]);

    engine.start_hut("plain", &["--publish", "127.0.0.1::80"]);
    let command = wait_until("the container", || {
        let shown = world.call("/containers/plain", &[]).stdout;
        let shown: serde_json::Value = serde_json::from_str(&shown).ok()?;
        Some(shown["route_command"].as_str()?.to_owned())
    });
    assert_eq!(
        command,
        "bentlane route add plain.moor.test container:plain"
    );
    let listed = world.ok(&["container", "list"]);
    for part in ["plain", "running", "to 80", &command] {
        assert!(listed.contains(part), "{part} in {listed}");
    }
    world.ok(&[
        "route",
        "add",
        "plain.moor.test",
        "container:plain",
        "--note",
        "a map",
    ]);
    let compose = world.ok(&["container", "show", "plain", "--for-compose"]);
    for part in [
        "bentlane.routes: |\n        plain.moor.test '--note=a map'",
        "root.pem:ro",
        "host-gateway",
    ] {
        assert!(compose.contains(part), "{part} in {compose}");
    }
    assert_eq!(world.run(&["container", "show", "nobody"]).code, 1);
}

#[test]
fn requests_are_spread_over_the_containers_of_a_service() {
    let (world, engine) = with_real_engine();
    let lines = label("web.moor.test 80 --expect-text huts-web");
    let labels = |extra: &[&'static str]| {
        let compose = [
            "--label",
            "com.docker.compose.project=huts",
            "--label",
            "com.docker.compose.service=web",
        ];
        [&compose[..], extra].concat()
    };
    for name in ["huts-web-1", "huts-web-2"] {
        let settings = [&labels(&[])[..], &["--label", &lines]].concat();
        engine.start_hut(name, &settings);
        let write = format!("echo {name} > /www/index.html");
        engine.ok(&["exec", name, "/bin/busybox", "sh", "-c", &write]);
    }
    let answers = |world: &World| -> BTreeSet<String> {
        let asked = (0..8).map(|_| world.curl(&["https://web.moor.test/"]).ok());
        asked.map(|it| it.trim().to_owned()).collect()
    };
    wait_until("both to answer", || {
        let asked = ask(&world, "https://web.moor.test/").stdout;
        (asked.ends_with("200 ") && answers(&world).len() == 2).then_some(())
    });
    // One that does not listen is left out, and a check says which.
    let settings = [&labels(&[])[..], &["--label", &lines]].concat();
    let idle = ["hut", "/bin/busybox", "sleep", "600"];
    engine.ok(&[
        &["run", "--detach", "--name", "huts-web-3"],
        &settings[..],
        &idle,
    ]
    .concat());
    wait_until("the third to be seen", || {
        let checked = world.json(&["check", "web.moor.test", "--routes-only"]);
        let findings = checked["verdicts"][0]["findings"].to_string();
        (findings.contains("replica-unreachable") && findings.contains("huts-web-3")).then_some(())
    });
    assert_eq!(answers(&world).len(), 2);
    // So does it for one that answers, and not with what the route expects.
    let write = "echo another app > /www/index.html";
    engine.ok(&["exec", "huts-web-1", "/bin/busybox", "sh", "-c", write]);
    wait_until("the first to answer otherwise", || {
        let checked = world.json(&["check", "web.moor.test", "--routes-only"]);
        let mut findings = checked["verdicts"][0]["findings"].as_array()?.iter();
        let failing = findings.find(|it| it["slug"] == "replica-failing")?;
        failing["evidence"]
            .to_string()
            .contains("huts-web-1: ")
            .then_some(())
    });
    for gone in ["huts-web-1", "huts-web-3"] {
        engine.ok(&["rm", "--force", "--time", "0", gone]);
    }
    wait_until("the one that is left", || {
        let left = BTreeSet::from(["huts-web-2".to_owned()]);
        (answers(&world) == left).then_some(())
    });
}

#[test]
fn a_check_says_which_of_several_ports_speaks_http() {
    let (world, engine) = with_real_engine();
    engine.start_hut(
        "tiles",
        &["--publish", "127.0.0.1::80", "--publish", "127.0.0.1::9000"],
    );
    world.ok(&["route", "add", "tiles.moor.test", "container:tiles"]);
    let checked = wait_until("the finding", || {
        let checked = world.run(&["check", "tiles.moor.test", "--routes-only"]);
        checked
            .stdout
            .contains("container-port-unclear")
            .then_some(checked)
    });
    for line in [
        "port 80 speaks HTTP",
        "port 9000 does not speak HTTP",
        "bentlane route edit tiles.moor.test --to container:tiles:80",
    ] {
        assert!(
            checked.stdout.contains(line),
            "{line} in {}",
            checked.stdout
        );
    }
    world.ok(&[
        "route",
        "edit",
        "tiles.moor.test",
        "--to",
        "container:tiles:80",
    ]);
    wait_for(&world, "https://tiles.moor.test/", "200 ");
}

#[test]
fn requests_wait_for_the_health_check() {
    let (world, engine) = with_real_engine();
    let check = "test -e /www/well";
    let settings = [
        "--label",
        &label("slow.moor.test 80"),
        "--health-cmd",
        check,
        "--health-start-period",
        "60s",
    ];
    engine.start_hut("slow", &settings);
    wait_until("the health check to be pending", || {
        let shown = world.get("/containers");
        let container = shown["containers"].as_array()?.first()?.clone();
        (container["health"] == "starting").then_some(())
    });
    let checked = world.run(&["check", "slow.moor.test", "--routes-only"]);
    assert!(checked.stdout.contains("container-starting"), "{checked:?}");
    let args = [
        "-w",
        "%{http_code}",
        "-o",
        "/dev/null",
        "https://slow.moor.test/",
    ];
    let waiting = world
        .curl_command(&args)
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    engine.ok(&["exec", "slow", "/bin/busybox", "touch", "/www/well"]);
    engine.ok(&["healthcheck", "run", "slow"]);
    let answered = waiting.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&answered.stdout), "200");
}

/// What a check from inside a container says of `tiles.moor.test`; `None` when it passes.
fn from_inside(world: &World, engine: &Containers) -> Option<String> {
    let socket = engine.socket().display().to_string();
    let from = [
        "--from",
        "container:asker",
        "--engine",
        &socket,
        "--format",
        "json",
    ];
    let run = world.run(&[&["check", "tiles.moor.test"], &from[..]].concat());
    let found = run.json()["verdicts"][0]["findings"][0]["slug"].clone();
    found.as_str().map(str::to_owned)
}

#[test]
fn containers_on_an_open_network_reach_the_names_and_nobody_else_does() {
    let (world, engine) = with_real_engine();
    engine.start_hut("tiles", &["--label", &label("tiles.moor.test 80")]);
    wait_for(&world, "https://tiles.moor.test/", "200 ");
    let listed = world.json(&["container", "list", "--networks"]);
    let mut networks = listed["networks"].as_array().unwrap().iter();
    let network = networks.find(|it| it["name"] == "bridge").unwrap();
    assert_eq!(network["is_open"], false, "{listed}");
    let gateway = network["gateway"].as_str().unwrap().to_owned();
    let asks = ["hut", "/bin/busybox", "sleep", "600"];
    let settings = ["run", "--detach", "--name", "asker", "--dns", &gateway];
    engine.ok(&[&settings[..], &asks].concat());
    assert_eq!(
        from_inside(&world, &engine).as_deref(),
        Some("container-asks-elsewhere")
    );

    let opened = world.run(&["container", "open"]);
    assert_eq!(opened.code, 0, "{opened:?}");
    assert!(
        opened.stdout.contains(&format!("--dns {gateway}")),
        "{opened:?}"
    );
    wait_until("a check from inside to pass", || {
        from_inside(&world, &engine).is_none().then_some(())
    });
    let asked = [
        "exec",
        "asker",
        "/bin/busybox",
        "nslookup",
        "tiles.moor.test",
        &gateway,
    ];
    assert!(engine.run(&asked).stdout.contains(&gateway));
    assert_eq!(
        world.dig(&["+short", "tiles.moor.test"]).trim(),
        "127.0.0.1"
    );

    let https = world.address("https").port();
    let at = |name: &str, flags: &[&str]| {
        let (root, resolve) = (
            world.root().display().to_string(),
            format!("{name}:{https}:{gateway}"),
        );
        let url = format!("https://{name}:{https}/");
        let own = [
            "-sS",
            "--max-time",
            "5",
            "--cacert",
            &root,
            "--resolve",
            &resolve,
            "-w",
            "%{http_code}",
            &url,
        ];
        bentlane_tests::run("curl", &[&own[..], flags].concat())
    };
    assert!(at("tiles.moor.test", &[]).stdout.ends_with("200"));
    // Our own pages are for this machine alone, and others than the network's are not served.
    assert!(at("bentlane.localhost", &[]).stdout.ends_with("404"));
    assert_ne!(at("tiles.moor.test", &["--interface", "127.0.0.1"]).code, 0);

    world.ok(&["container", "close"]);
    wait_until("the listener to be gone", || {
        (at("tiles.moor.test", &[]).code == 7).then_some(())
    });
    wait_until("names to be gone", || from_inside(&world, &engine));
    assert_eq!(world.run(&["container", "open", "nowhere"]).code, 1);
}

#[rstest]
#[case(EngineManner::Hangs)]
#[case(EngineManner::Malformed)]
#[case(EngineManner::BreaksOff)]
fn an_engine_that_misbehaves_disturbs_nothing(#[case] manner: EngineManner) {
    let app = App::new();
    let mut engines = Vec::new();
    let world = world_with(|world| {
        engines = ["one", "two"]
            .map(|name| SimulatedEngine::start(&world.path(name)))
            .into();
        engines
            .iter()
            .map(|it| it.socket().display().to_string())
            .collect()
    });
    let port: u16 = app.port().parse().unwrap();
    let one = |name: &str| (name.to_owned(), format!("{name}.moor.test 80"), port);
    engines[0].set_containers(vec![one("first")]);
    engines[1].set_containers(vec![one("second")]);
    wait_for(&world, "https://first.moor.test/", "200 ");
    wait_for(&world, "https://second.moor.test/", "200 ");
    engines[0].behave(manner);
    // The other one is followed as before, and what was there is served.
    engines[1].set_containers(vec![one("second"), one("third")]);
    wait_for(&world, "https://third.moor.test/", "200 ");
    wait_until("the fault to be shown", || {
        let status = world.get("/status");
        let engine = status["engines"].as_array()?.first()?.clone();
        engine["fault"].is_string().then_some(())
    });
    assert!(
        ask(&world, "https://first.moor.test/")
            .stdout
            .ends_with("200 ")
    );
    let checked = world.run(&["check", "first.moor.test", "--routes-only"]);
    assert!(checked.stdout.contains("engine-silent"), "{checked:?}");
    engines[0].behave(EngineManner::Well);
    engines[0].set_containers(vec![one("fourth")]);
    wait_for(&world, "https://fourth.moor.test/", "200 ");
    wait_for(&world, "https://first.moor.test/", "404 route-missing");
}

#[test]
fn labels_that_are_nonsense_or_clash_harm_nobody() {
    let app = App::new();
    let (world, engine) = with_simulated_engine();
    let port: u16 = app.port().parse().unwrap();
    let many = (0..200).map(|number| {
        (
            format!("hut{number}"),
            format!("hut{number}.moor.test 80"),
            port,
        )
    });
    let odd = [
        ("odd0", "\u{1b}[2J\u{0} 1"),
        ("odd1", "hut3.moor.test 80"),
        ("odd2", "a.moor.test 80 --access-log /tmp/x"),
        ("odd3", "bentlane.localhost 80"),
        ("odd4", "'"),
    ];
    let odd = odd.map(|(name, label)| (name.to_owned(), label.to_owned(), port));
    engine.set_containers(many.chain(odd).collect());
    for number in [0, 3, 199] {
        wait_for(&world, &format!("https://hut{number}.moor.test/"), "200 ");
    }
    let routes = world.get("/routes");
    assert_eq!(routes["routes"].as_array().unwrap().len(), 200);
    let listed = world.ok(&["container", "list"]);
    assert!(!listed.contains('\u{1b}'), "{listed}");
    for number in 0..5 {
        let shown = world.get(&format!("/containers/odd{number}"));
        assert_eq!(shown["findings"].as_array().unwrap().len(), 1, "{shown:#}");
    }
}

#[test]
fn a_project_that_is_removed_and_made_again_is_routed_each_time() {
    let app = App::new();
    let (world, engine) = with_simulated_engine();
    let port: u16 = app.port().parse().unwrap();
    for round in 0..50 {
        let name = format!("huts-web-{round}");
        engine.set_containers(vec![(name, "web.moor.test 80".to_owned(), port)]);
        wait_for(&world, "https://web.moor.test/", "200 ");
        let shown = world.get("/routes/web.moor.test");
        assert_eq!(
            shown["to"],
            format!("container:huts-web-{round}:80"),
            "{shown}"
        );
        engine.set_containers(Vec::new());
        wait_for(&world, "https://web.moor.test/", "404 route-missing");
    }
}

#[test]
fn a_compose_project_has_the_routes_of_its_labels() {
    let (world, engine) = with_real_engine();
    // The name of the folder is that of the project, and of its network.
    let folder = world.path(&format!("huts{}", std::process::id()));
    std::fs::create_dir(&folder).unwrap();
    let compose = r#"
services:
  web:
    image: localhost/hut
    command: /bin/busybox httpd -f -p 80 -h /www
    ports: ["127.0.0.1::80"]
    labels:
      bentlane.routes: |
        web.moor.test 80 --expect-title Tiles
"#;
    std::fs::write(folder.join("compose.yml"), compose).unwrap();
    for _ in 0..2 {
        engine.compose(&folder, &["up", "-d"]).ok();
        wait_for(&world, "https://web.moor.test/", "200 ");
        let checked = world.run(&["check", "web.moor.test", "--routes-only"]);
        assert_eq!(checked.code, 0, "{checked:?}");
        let containers = world.get("/containers");
        let container = &containers["containers"][0];
        assert_eq!(container["service"], "web", "{container:#}");
        engine.compose(&folder, &["down"]).ok();
        wait_for(&world, "https://web.moor.test/", "404 route-missing");
    }
    let network = format!("{}_default", folder.file_name().unwrap().display());
    engine.ok(&["network", "rm", "--force", &network]);
}
