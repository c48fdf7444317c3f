//! `bentlane check` and what `route add` says at once.

use bentlane_tests::{App, Start, World, reserve_port, wait_until};

#[test]
fn checks_say_which_hop_fails_and_notice_when_it_works_again() {
    let app = App::new();
    let closing = App::raw(b"");
    let down = reserve_port();
    let world = World::with_routes(&[("booking.moor.test", &app.port())]);
    let proved = world.run(&["check", "--routes-only"]);
    assert_eq!(proved.code, 0, "{proved:?}");
    assert!(
        proved
            .stdout
            .ends_with("1 route: 1 ready; this machine was left out\n"),
        "{proved:?}"
    );

    let added = world.ok(&["route", "add", "late.moor.test/x", &down.to_string()]);
    let url = format!("https://late.moor.test:{}/x", world.address("https").port());
    for part in [
        &url,
        &format!("nothing listens on port {down}"),
        "bentlane route edit late.moor.test/x --to PORT",
    ] {
        assert!(added.contains(part), "{part}: {added}");
    }
    world.ok(&["route", "add", "*.hut.moor.test", &closing.port()]);

    let run = world.run(&["check", "--routes-only", "--format", "json"]);
    assert_eq!(run.code, 1);
    let verdicts = run.json();
    let rows: Vec<_> = verdicts["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|verdict| {
            let states = verdict["hops"].as_array().unwrap().iter();
            let states: Vec<_> = states.map(|hop| hop["state"].as_str().unwrap()).collect();
            let findings = verdict["findings"].as_array().unwrap().iter();
            let mut broken = findings.filter(|finding| finding["severity"] == "error");
            let slug = broken
                .next()
                .map_or("none", |it| it["slug"].as_str().unwrap());
            format!(
                "{} {slug} {}",
                verdict["address"].as_str().unwrap(),
                states.join(" ")
            )
        })
        .collect();
    assert_eq!(
        rows,
        [
            "*.hut.moor.test answer-missing passed passed passed broken not-reached",
            "booking.moor.test none passed passed passed passed not-declared",
            "late.moor.test/x target-refuses passed passed broken not-reached not-reached",
        ]
    );

    // One route alone, and the exit code is its own.
    assert_eq!(
        world
            .run(&["check", "--routes-only", "booking.moor.test"])
            .code,
        0
    );
    assert_eq!(
        world
            .run(&["check", "--routes-only", "late.moor.test/x"])
            .code,
        1
    );

    // Nobody asks again: the service itself notices that the app has come up.
    let _late = App::on(down);
    wait_until("the background check to notice", || {
        let route = world.json(&["route", "show", "late.moor.test/x"]);
        (route["verdict"]["passed"] == true).then_some(())
    });
    let status = world.ok(&["status"]);
    assert!(status.contains("3 routes: 2 ready, 1 broken"), "{status}");
}

#[test]
fn a_route_is_proved_only_where_this_machine_reaches_it() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let run = world.run(&["check"]);
    assert_eq!(run.code, 1, "{run:?}");
    let machine = "This machine\n";
    for part in [
        machine,
        "lookups",
        "moor.test",
        "1 ready",
        "this machine does not find",
    ] {
        assert!(run.stdout.contains(part), "{part}: {run:?}");
    }
    assert!(!run.stdout.contains("proved"), "{run:?}");
    let status = world.ok(&["status"]);
    assert!(status.contains("1 route: 1 ready") && status.contains("bentlane system check"));
    let checked = world.run(&["check", "--format", "json"]).json();
    assert_eq!(checked["machine"]["passed"], false);
    assert_eq!(checked["verdicts"][0]["passed"], true);

    // The same part alone, in each format.
    let alone = world.run(&["system", "check", "--format", "json"]);
    assert_eq!((alone.code, &alone.json()["passed"]), (1, &false.into()));
    let waited = world.run(&["system", "check", "--wait", "5s", "--format", "junit"]);
    assert_eq!(waited.code, 1);
    let failure = r#"<failure type="lookups" message="names are not found"#;
    assert!(waited.stdout.contains(failure), "{waited:?}");
    assert!(waited.stderr.contains("waiting: moor.test"), "{waited:?}");
    assert_eq!(world.run(&["system", "show"]).code, 1);
}

#[test]
fn a_check_of_an_app_that_fails_says_so() {
    let app = App::raw(b"HTTP/1.1 503 Service Unavailable\r\ncontent-length: 0\r\n\r\n");
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let run = world.run(&["check", "--routes-only"]);
    assert_eq!(run.code, 1);
    assert!(run.stdout.contains("(app-fails)"), "{run:?}");
}

#[test]
fn an_app_on_the_other_family_of_loopback_is_reached() {
    let Ok(listener) = std::net::TcpListener::bind("[::1]:0") else {
        panic!("this machine has no IPv6 loopback");
    };
    let port = listener.local_addr().unwrap().port().to_string();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            use std::io::{Read, Write};
            let _ = stream.read(&mut [0; 4096]);
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 3\r\n\r\nsix");
        }
    });
    let world = World::with_routes(&[("six.moor.test", &port)]);
    assert_eq!(world.run(&["check", "--routes-only"]).code, 0);
    assert_eq!(world.curl(&["https://six.moor.test/"]).ok(), "six");
}

#[test]
fn checks_come_as_test_reports_hop_by_hop_and_with_honest_addresses() {
    let app = App::new();
    let down = reserve_port().to_string();
    let world = World::with_routes(&[("a.moor.test", &app.port()), ("b.moor.test", &down)]);
    let report = world.run(&["check", "--routes-only", "--format", "junit"]);
    assert_eq!(report.code, 1);
    std::fs::write(world.path("report.xml"), &report.stdout).unwrap();
    // A reader that is not ours.
    let read = "import sys, xml.etree.ElementTree as e
r = e.parse(sys.argv[1]).getroot()
print(r.tag, r.get('tests'), r.get('failures'))
for s in r: print(s.get('name'), [(c.get('name'), [x.tag + ' ' + x.get('type', '') for x in c]) for c in s])";
    let path = world.path("report.xml").display().to_string();
    let read = bentlane_tests::run("python3", &["-c", read, &path]).ok();
    assert!(read.starts_with("testsuites 10 1\n"), "{read}");
    assert!(
        read.contains("b.moor.test [('resolve', []), ('handshake', []), ('connect', ['failure target-refuses'])"),
        "{read}"
    );
    let elsewhere = world.run(&["route", "list", "--format", "junit"]);
    assert_eq!(elsewhere.code, 2, "{elsewhere:?}");

    let only = world.run(&[
        "check",
        "--routes-only",
        "--only",
        "connect",
        "--format",
        "json",
    ]);
    let verdicts = only.json();
    let hops = verdicts["verdicts"][1]["hops"].as_array().unwrap();
    assert_eq!((hops.len(), only.code), (1, 1));
    assert_eq!(hops[0]["hop"], "connect");
    assert_eq!(
        world
            .run(&["check", "--routes-only", "--only", "nothing"])
            .code,
        2
    );

    // A route that was removed between listing and checking is reported as gone by the API.
    let body = r#"{"addresses":["a.moor.test","gone.moor.test"],"known":true}"#;
    let told = world.post("/checks", body);
    assert_eq!(told["gone"][0], "gone.moor.test", "{told}");
    assert_eq!(told["verdicts"].as_array().unwrap().len(), 1);
}

#[test]
fn results_are_stored_and_flapping_is_reported() {
    let port = reserve_port();
    let mut world = World::with_routes(&[("a.moor.test", &port.to_string())]);
    for round in 0..3 {
        assert_eq!(
            world.run(&["check", "--routes-only"]).code,
            1,
            "down in round {round}"
        );
        let _app = App::on(port);
        assert_eq!(
            world.run(&["check", "--routes-only"]).code,
            0,
            "up in round {round}"
        );
    }
    let history = wait_until("the verdicts to be kept", || {
        let history = world.get("/routes/a.moor.test/verdicts");
        let verdicts = history["verdicts"].as_array().unwrap().clone();
        (verdicts.len() >= 6).then_some(verdicts)
    });
    let flapping = history.iter().filter(|it| it["flapping"] == true).count();
    assert!(flapping > 0 && flapping < history.len(), "{history:#?}");
    let times: Vec<&str> = history
        .iter()
        .map(|it| it["checked_at"].as_str().unwrap())
        .collect();
    assert!(times.is_sorted_by(|a, b| a > b), "newest first: {times:?}");

    // What is too old is forgotten when the service starts, and each hour.
    let newest = times[0].to_owned();
    world.end(rustix::process::Signal::TERM);
    world.start_as(Start {
        flags: ["--check-days", "0"].map(str::to_owned).to_vec(),
        ..Start::default()
    });
    world.wake();
    wait_until("old verdicts to be forgotten", || {
        let history = world.get("/routes/a.moor.test/verdicts");
        let mut verdicts = history["verdicts"].as_array()?.iter();
        let new = |it: &serde_json::Value| it["checked_at"].as_str().unwrap() > &*newest;
        verdicts.all(new).then_some(())
    });
}

#[test]
fn one_request_is_followed_with_each_decision() {
    let app = App::new();
    let world = World::with_routes(&[
        ("a.moor.test/api", &app.port()),
        ("*.moor.test", &app.port()),
        ("a.moor.test", &app.port()),
    ]);
    world.ok(&[
        "route",
        "edit",
        "a.moor.test/api",
        "--strip-prefix",
        "--host",
        "target",
    ]);
    let trace = world.json(&["trace", "https://a.moor.test/api/huts"]);
    let steps = trace["steps"].as_array().unwrap();
    let names: Vec<&str> = steps
        .iter()
        .map(|it| it["step"].as_str().unwrap())
        .collect();
    let wanted = [
        "resolve",
        "listener",
        "handshake",
        "route",
        "request",
        "connect",
        "answer",
    ];
    assert_eq!(names, wanted, "{trace:#}");
    let of = |step: &str| steps.iter().find(|it| it["step"] == step).unwrap();
    assert_eq!(
        of("route")["decision"],
        format!("a.moor.test/api leads to {}", app.port())
    );
    let others = of("route")["details"].to_string();
    assert!(
        others.contains("not *.moor.test: an exact name goes before"),
        "{others}"
    );
    assert!(
        others.contains("not a.moor.test: its path is shorter"),
        "{others}"
    );
    // What is said of the request is what the app gets.
    assert_eq!(
        of("request")["decision"],
        format!("the Host becomes localhost:{}", app.port())
    );
    let got = bentlane_tests::json(&world.curl(&["https://a.moor.test/api/huts"]).ok());
    assert_eq!(got["fields"]["host"], format!("localhost:{}", app.port()));
    assert_eq!(got["uri"], "/huts");
    assert!(
        of("request")["details"]
            .to_string()
            .contains("without /api")
    );
    assert!(
        of("answer")["decision"]
            .as_str()
            .unwrap()
            .starts_with("status 200")
    );

    assert_eq!(world.run(&["trace", "nope.example"]).code, 1);
    let down = reserve_port().to_string();
    world.ok(&["route", "add", "down.moor.test", &down]);
    let run = world.run(&["trace", "down.moor.test"]);
    assert_eq!(run.code, 1);
    assert!(run.stdout.contains("→ start the app on port"), "{run:?}");
}

#[test]
fn watch_prints_changes_as_they_happen() {
    let port = reserve_port();
    let world = World::with_routes(&[("a.moor.test", &port.to_string())]);
    let mut command = std::process::Command::new(bentlane_tests::binary());
    command
        .args(["check", "--watch", "--data-dir"])
        .arg(world.data_dir());
    let watching = bentlane_tests::Background::start(&mut command, world.path("watch.log"));
    let told = |part: &str| {
        wait_until(part, || watching.output().contains(part).then_some(()));
    };
    told("a.moor.test  connect: nothing listens on port");
    let _app = App::on(port);
    told("a.moor.test  every hop passes");
}
