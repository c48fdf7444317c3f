//! Names that say where they lead.

use bentlane_tests::{App, World};

use super::{add, any_app};

#[test]
fn names_lead_to_the_port_that_they_begin_with() {
    let world = World::new().add_routes(&[]);
    let app = App::new();
    let raw = App::raw(b"no HTTP at all\r\n");
    world.ok(&["route", "add", "*.at.moor.test", "--port-from-name"]);
    let get = |label: &str| {
        let shown = ["-w", "\n%{http_code} %header{bentlane-finding}"];
        let url = format!("https://{label}.at.moor.test/");
        world.curl(&[&shown[..], &[&url]].concat()).stdout
    };
    let asked = get(&app.port());
    assert!(asked.ends_with("\n200 "), "{asked}");
    let https = world.address("https").port().to_string();
    for (label, reason) in [
        (https.as_str(), "is Bent Lane's own"),
        (raw.port().as_str(), "does not speak HTTP"),
        ("1", "nothing listens on port 1"),
        ("70000", "its first label is not one"),
        ("huts", "its first label is not one"),
        (&format!("a.{}", app.port()), "its first label is not one"),
    ] {
        let asked = get(label);
        assert!(asked.contains(reason), "{label}: {asked}");
        assert!(
            asked.ends_with("404 name-leads-nowhere"),
            "{label}: {asked}"
        );
    }
    let checked = world.run(&["check", "*.at.moor.test", "--routes-only"]);
    assert_eq!(checked.code, 0, "{checked:?}");
    let own = format!("{}.at.moor.test", app.port());
    let listed = world.ok(&["route", "list"]);
    assert!(listed.contains(&own), "{listed}");
    for other in [&https, &raw.port()] {
        let other = format!("{other}.at.moor.test");
        assert!(!listed.contains(&other), "{listed}");
    }
    world.ok(&["route", "edit", "*.at.moor.test", "--ports", "1-2"]);
    let asked = get(&app.port());
    assert!(asked.contains("leads to the ports 1-2 alone"), "{asked}");
    // A route of a name's own comes first.
    world.ok(&["route", "edit", "*.at.moor.test", "--unset", "ports"]);
    world.ok(&["route", "add", &own, &app.port()]);
    assert!(get(&app.port()).ends_with("\n200 "));
    let shown = world.get("/routes/*.at.moor.test");
    let matches = shown["matches"].to_string();
    assert!(!matches.contains(&own), "{matches}");
}

#[test]
fn names_lead_to_apps_which_they_start() {
    let world = World::new().add_routes(&[]);
    add(&world, "huts", &any_app(""), &[]);
    world.ok(&["route", "add", "*.run.moor.test", "--app-from-name"]);
    let asked = world.curl(&["https://huts.run.moor.test/"]).stdout;
    assert!(asked.contains("<h1>app "), "{asked}");
    let asked = world.curl(&["https://shop.run.moor.test/"]).stdout;
    assert!(asked.contains("there is no app shop"), "{asked}");
    let listed = world.ok(&["route", "list"]);
    assert!(listed.contains("huts.run.moor.test"), "{listed}");
    let refused = world.run(&["route", "add", "run.moor.test", "--app-from-name"]);
    assert!(refused.stderr.contains("is for a wildcard"), "{refused:?}");
    let refused = world.run(&["route", "edit", "*.run.moor.test", "--ports", "1-2"]);
    assert!(refused.stderr.contains("ports"), "{refused:?}");
}
