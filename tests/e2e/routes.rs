//! What routes choose beside their target: addresses, redirects, and coming in numbers.

use std::fs;
use std::net::{IpAddr, TcpListener};

use bentlane_tests::{App, World, run, wait_until};

fn own_address(world: &World, name: &str) -> IpAddr {
    let found = world.dig(&["+short", name]);
    found.trim().parse().unwrap_or_else(|_| panic!("{found}"))
}

/// What a client gets that connects to `ip`.
fn status_at(world: &World, ip: IpAddr, name: &str) -> String {
    let port = world.address("https").port();
    let (root, resolve) = (world.root(), format!("{name}:{port}:{ip}"));
    let url = format!("https://{name}:{port}/");
    let args = [
        "-sS",
        "-m",
        "5",
        "-o",
        "/dev/null",
        "-w",
        "%{http_code}",
        "--cacert",
        root.to_str().unwrap(),
        "--resolve",
        &resolve,
        &url,
    ];
    run("curl", &args).stdout
}

#[test]
fn the_zone_of_a_route_is_added_where_asked_for() {
    let app = App::new();
    let world = World::with_routes(&[]);
    let add = ["route", "add", "a.deep.fell.test", &app.port()];
    let refused = world.run(&add);
    assert_eq!(refused.code, 2, "{refused:?}");
    assert!(
        refused.stderr.contains("`bentlane zone add fell.test`"),
        "{refused:?}"
    );
    let added = world.run(&[&add[..], &["--add-zone"]].concat());
    assert_eq!(added.code, 0, "{added:?}");
    assert!(
        added
            .stderr
            .contains("fell.test and every name below it resolve"),
        "{added:?}"
    );
    assert_eq!(world.curl(&["https://a.deep.fell.test/x"]).code, 0);
    // A zone that is there is enough, and one that can be a real domain takes its own command.
    let again = world.ok(&["route", "add", "b.fell.test", &app.port(), "--add-zone"]);
    assert!(again.contains("b.fell.test"), "{again}");
    let real = world.run(&["route", "add", "a.example.com", &app.port(), "--add-zone"]);
    assert_eq!(real.code, 2, "{real:?}");
    assert!(
        real.stderr
            .contains("bentlane zone add example.com --anyway"),
        "{real:?}"
    );
    let known: Vec<String> = world.json(&["zone", "list"])["zones"]
        .as_array()
        .unwrap()
        .iter()
        .map(|zone| zone["name"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(known, ["fell.test", "moor.test"]);
}

#[test]
fn a_name_can_have_a_loopback_address_of_its_own() {
    let app = App::new();
    let mut world = World::with_routes(&[("shared.moor.test", &app.port())]);
    let port = app.port();
    let added = world.ok(&["route", "add", "store.moor.test", &port, "--address", "own"]);
    let own = own_address(&world, "store.moor.test");
    assert!(
        own.is_loopback() && own != IpAddr::from([127, 0, 0, 1]),
        "{own}"
    );
    assert!(
        added.contains(&format!("address          {own}")),
        "{added}"
    );
    assert!(
        added.contains("answer     status 200"),
        "every hop passes: {added}"
    );
    assert_eq!(world.dig(&["+short", "store.moor.test", "AAAA"]), "");
    assert_eq!(
        world.dig(&["+short", "-x", &own.to_string()]).trim(),
        "store.moor.test."
    );
    assert_eq!(status_at(&world, own, "store.moor.test"), "200");

    let taken = world.run(&[
        "route",
        "add",
        "b.moor.test",
        &port,
        "--address",
        &own.to_string(),
    ]);
    assert_eq!(taken.code, 1);
    assert!(
        taken
            .stderr
            .contains("is the own address of `store.moor.test`"),
        "{taken:?}"
    );
    let wrong = world.run(&[
        "route",
        "edit",
        "store.moor.test",
        "--address",
        "127.0.0.300",
    ]);
    assert_eq!(wrong.code, 2);

    world.end(rustix::process::Signal::KILL);
    world.wake();
    assert_eq!(
        status_at(&world, own, "store.moor.test"),
        "200",
        "it is kept"
    );
    world.ok(&["route", "edit", "store.moor.test", "--unset", "address"]);
    assert_eq!(
        own_address(&world, "store.moor.test"),
        IpAddr::from([127, 0, 0, 1])
    );
    assert_eq!(
        status_at(&world, own, "store.moor.test"),
        "000",
        "nobody listens there now"
    );
}

#[test]
fn an_address_in_use_is_bound_once_it_is_free() {
    let app = App::new();
    let world = World::with_routes(&[]);
    let ip = IpAddr::from([127, 99, 0, 7]);
    let held = TcpListener::bind((ip, world.address("https").port())).unwrap();
    let port = app.port();
    let added = world.ok(&[
        "route",
        "add",
        "busy.moor.test",
        &port,
        "--address",
        &ip.to_string(),
    ]);
    assert!(
        added.contains("handshake-failed") || added.contains("listener-unreachable"),
        "{added}"
    );
    drop(held);
    wait_until("the address to be taken", || {
        (world
            .run(&["check", "--routes-only", "busy.moor.test"])
            .code
            == 0)
            .then_some(())
    });
}

#[test]
fn redirects_send_clients_elsewhere() {
    let app = App::new();
    let world = World::with_routes(&[("www.moor.test", &app.port())]);
    for (name, to) in [
        ("old.moor.test", "redirect:https://www.moor.test"),
        ("fixed.moor.test", "redirect:https://www.moor.test/new"),
        ("away.moor.test", "redirect:https://host.example"),
    ] {
        let added = world.ok(&["route", "add", name, to]);
        assert!(added.contains("answered by us"), "{added}");
    }
    assert_eq!(
        world.dig(&["+short", "old.moor.test"]),
        "www.moor.test.\n127.0.0.1\n"
    );
    assert_eq!(world.dig(&["+short", "away.moor.test"]), "127.0.0.1\n");
    let port = world.address("https").port();
    for (url, location) in [
        (
            "https://old.moor.test/a?b=1",
            format!("https://www.moor.test:{port}/a?b=1"),
        ),
        (
            "https://fixed.moor.test/a",
            format!("https://www.moor.test:{port}/new"),
        ),
        (
            "https://away.moor.test/a",
            "https://host.example/a".to_owned(),
        ),
    ] {
        let answer = world.curl(&[
            "-o",
            "/dev/null",
            "-w",
            "%{http_code} %header{location}",
            url,
        ]);
        assert_eq!(answer.stdout, format!("307 {location}"), "{answer:?}");
    }
    for wrong in [
        "redirect:www.moor.test",
        "redirect:ftp://x.test",
        "redirect:",
    ] {
        let refused = world.run(&["route", "add", "bad.moor.test", wrong]);
        assert_eq!(refused.code, 2, "{refused:?}");
        assert!(
            refused.stderr.contains("is no URL to send clients to"),
            "{refused:?}"
        );
    }
}

#[test]
fn many_routes_are_added_together_or_not_at_all() {
    let world = World::with_routes(&[("first.moor.test", "4310")]);
    let file = world.path("routes.txt");
    let add = |text: &str| {
        fs::write(&file, text).unwrap();
        world.run(&["route", "add", "--from", file.to_str().unwrap()])
    };
    let count = || {
        world.json(&["route", "list"])["routes"]
            .as_array()
            .unwrap()
            .len()
    };
    let wrong = add("a.moor.test 4310\nb.moor.test 99999\nc\n");
    assert_eq!(wrong.code, 2);
    assert!(wrong.stderr.contains("line 2: to: `99999`"), "{wrong:?}");
    assert!(
        wrong.stderr.contains("line 3: a route and its target"),
        "{wrong:?}"
    );
    let taken = add("a.moor.test 4310\nfirst.moor.test 4311\n");
    assert_eq!((taken.code, count()), (1, 1), "{taken:?}");
    let lines: Vec<String> = (0..2500)
        .map(|n| format!("n{n}.moor.test 43{:02}", n % 100))
        .collect();
    let added = add(&format!("# many\n{}\n", lines.join("\n")));
    assert!(added.ok().contains("2500 routes added"));
    assert_eq!(count(), 2501);
    let journal = world.json(&["journal"]);
    assert_eq!(journal["entries"][0]["subject"], "2500 routes");
}

#[test]
fn routes_are_listed_a_page_at_a_time() {
    let world = World::with_routes(&[]);
    let names: Vec<String> = (0..600).map(|it| format!("n{it:03}.moor.test")).collect();
    let inputs = names
        .iter()
        .map(|name| format!(r#"{{"name":"{name}","to":"1"}}"#));
    let body = format!(r#"{{"routes":[{}]}}"#, inputs.collect::<Vec<_>>().join(","));
    assert_eq!(world.post("/routes/many", &body)["added"], 600);
    let (mut seen, mut path) = (Vec::new(), "/routes?limit=250".to_owned());
    let mut pages = 0;
    loop {
        let page = world.get(&path);
        let routes = page["routes"].as_array().unwrap();
        seen.extend(
            routes
                .iter()
                .map(|it| it["name"].as_str().unwrap().to_owned()),
        );
        pages += 1;
        let Some(next) = page["next"].as_str() else {
            break;
        };
        path = format!("/routes?limit=250&after={next}");
    }
    assert_eq!((pages, &seen), (3, &names));
    let whole = world.get("/routes");
    assert_eq!(whole["routes"].as_array().unwrap().len(), 600);
    assert!(whole["next"].is_null());
    let gone = world.get("/routes?after=gone.moor.test").to_string();
    assert!(gone.contains("start again without `after`"), "{gone}");
}

const SHOP: &[u8] =
    b"HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 19\r\n\r\n<title>shop</title>";
const OTHER: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 5\r\n\r\nother";

#[test]
fn a_route_may_cover_every_name_below_its_own() {
    let (app, other) = (App::raw(SHOP), App::raw(OTHER));
    let world = World::with_routes(&[("own.shop.moor.test", &other.port())]);
    world.ok(&[
        "route",
        "add",
        "shop.moor.test",
        &app.port(),
        "--subdomains",
    ]);
    for (name, wanted) in [
        ("shop.moor.test", "shop"),
        ("a.b.shop.moor.test", "shop"),
        ("own.shop.moor.test", "other"),
    ] {
        let page = world.curl(&[&format!("https://{name}/")]).ok();
        assert!(page.contains(wanted), "{name}: {page}");
    }
    let shown = world.ok(&["route", "show", "shop.moor.test"]);
    assert!(shown.contains("subdomains       on"), "{shown}");
    world.ok(&["route", "edit", "shop.moor.test", "--subdomains=false"]);
    let page = world.curl(&["https://a.b.shop.moor.test/"]).ok();
    assert!(page.contains("route-missing"), "{page}");
    let refused = world.run(&["route", "add", "*.x.moor.test", "1", "--subdomains"]);
    assert_eq!(refused.code, 2, "{refused:?}");
}

#[test]
fn third_parties_are_distinguished_before_a_name_is_registered() {
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    let shown = world.ok(&["route", "show", "a.moor.test", "--for", "sso"]);
    for part in [
        "OAuth 2.0 redirect",
        "not by all",
        "RFC 9700",
        "webhooks",
        "rp.id=moor.test",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let all = world.json(&["route", "show", "a.moor.test", "--for", "sso"]);
    assert_eq!(all[3]["accepted"], "no", "{all}");
    // On a terminal, a zone is shown with it before it is taken.
    let add = format!(
        "{} zone add fell.test --data-dir {}",
        bentlane_tests::binary().display(),
        world.data_dir().display()
    );
    let added = run("script", &["-qec", &add, "/dev/null"]).ok();
    assert!(
        added.contains("Do third parties accept its names?"),
        "{added}"
    );
}
