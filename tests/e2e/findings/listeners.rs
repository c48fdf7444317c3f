//! Other programs where we are to listen for a route.

use std::process::Command;

use bentlane_tests::{App, Background, World, reserve_port, wait_until};

use super::{check, page, worst};

#[test]
fn another_program_on_the_listener_of_a_raw_route_is_named() {
    let app = App::echo();
    let world = World::with_routes(&[]);
    let port = reserve_port().to_string();
    let mut command = Command::new("python3");
    command.args(["-m", "http.server", "--bind", "127.77.0.5", &port]);
    let other = Background::start(&mut command, world.path("other.log"));
    wait_until("the other program to listen", || {
        std::net::TcpStream::connect(format!("127.77.0.5:{port}")).ok()
    });
    let address = format!("db.moor.test:{port}");
    world.ok(&[
        "route",
        "add",
        &address,
        &app.port(),
        "--address",
        "127.77.0.5",
    ]);
    let verdict = check(&world, &address);
    let found = worst(&verdict);
    assert_eq!(found["slug"], "listener-held", "{verdict:#}");
    assert_eq!(found["hop"], "handshake");
    let command = format!("kill {}", other.pid());
    assert_eq!(found["fix"]["command"], command.as_str(), "{found:#}");
    assert_eq!(
        found["evidence"][0],
        "127.77.0.5 is the own address of db.moor.test"
    );

    // Left to that program, which is what is proved then.
    world.ok(&["route", "edit", &address, "--listen=false"]);
    let verdict = check(&world, &address);
    assert_eq!(verdict["passed"], true, "{verdict:#}");
    let hops = verdict["hops"].as_array().unwrap().iter();
    let connect = hops.clone().find(|hop| hop["hop"] == "connect").unwrap();
    assert_eq!(
        connect["detail"],
        format!("127.77.0.5:{port}"),
        "{verdict:#}"
    );
    drop(other);
    let verdict = check(&world, &address);
    assert_eq!(worst(&verdict)["slug"], "target-refuses", "{verdict:#}");
    world.ok(&["route", "edit", &address, "--unset", "listen"]);
    wait_until("the service to take the port", || {
        (world.run(&["check", "--routes-only", &address]).code == 0).then_some(())
    });
}

#[test]
fn another_program_on_the_own_address_of_a_name_is_named() {
    let app = page(0);
    let world = World::with_routes(&[]);
    let port = world.address("https").port();
    let held = std::net::TcpListener::bind(("127.77.0.6", port)).unwrap();
    let add = ["route", "add", "a.moor.test", &app.port()];
    world.ok(&[&add[..], &["--address", "127.77.0.6"]].concat());
    let verdict = check(&world, "a.moor.test");
    let findings = verdict["findings"].as_array().unwrap();
    let found = findings.iter().find(|it| it["slug"] == "listener-held");
    assert_eq!(found.unwrap()["severity"], "error", "{verdict:#}");
    drop(held);
    wait_until("the service to take the port", || {
        (check(&world, "a.moor.test")["passed"] == true).then_some(())
    });
    let refused = world.run(&["route", "add", "b.moor.test", "1", "--listen=false"]);
    assert!(refused.stderr.contains("can be left to"), "{refused:?}");
}
