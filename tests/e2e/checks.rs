//! `bentlane check` and what `route add` says at once.

use bentlane_tests::{App, World, wait_until};

#[test]
fn checks_say_which_hop_breaks_and_notice_when_it_is_mended() {
    let app = App::new();
    let closing = App::raw(b"");
    let down = App::free_port();
    let world = World::with_routes(&[("booking.moor.test", &app.port())]);
    let proved = world.run(&["check"]);
    assert_eq!(proved.code, 0, "{proved:?}");
    assert!(
        proved.stdout.contains("1 route, every hop proved"),
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

    let run = world.run(&["check", "--format", "json"]);
    assert_eq!(run.code, 1);
    let verdicts = run.json();
    let rows: Vec<_> = verdicts["verdicts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|verdict| {
            let states = verdict["hops"].as_array().unwrap().iter();
            let states: Vec<_> = states.map(|hop| hop["state"].as_str().unwrap()).collect();
            let slug = verdict["findings"][0]["slug"].as_str().unwrap_or("none");
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
            "*.hut.moor.test answer-missing passed passed passed broken",
            "booking.moor.test none passed passed passed passed",
            "late.moor.test/x target-refuses passed broken not-reached not-reached",
        ]
    );

    // One route alone, and the exit code is its own.
    assert_eq!(world.run(&["check", "booking.moor.test"]).code, 0);
    assert_eq!(world.run(&["check", "late.moor.test/x"]).code, 1);

    // Nobody asks again: the service itself notices that the app has come up.
    let _late = App::on(down);
    wait_until("the background check to notice", || {
        let route = world.json(&["route", "show", "late.moor.test/x"]);
        (route["verdict"]["passed"] == true).then_some(())
    });
    let status = world.ok(&["status"]);
    assert!(status.contains("3 routes: 2 proved, 1 broken"), "{status}");
}

#[test]
fn a_check_of_an_app_that_fails_says_so() {
    let app = App::raw(b"HTTP/1.1 503 Service Unavailable\r\ncontent-length: 0\r\n\r\n");
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    let run = world.run(&["check"]);
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
    assert_eq!(world.run(&["check"]).code, 0);
    assert_eq!(world.curl(&["https://six.moor.test/"]).ok(), "six");
}
