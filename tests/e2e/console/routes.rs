use bentlane_tests::{App, World, reserve_port};
use fantoccini::Locator;

use super::{Console, retyped};

#[tokio::test(flavor = "multi_thread")]
async fn a_route_is_added_and_its_lane_turns_solid_when_its_server_starts() {
    let world = World::new();
    let console = Console::open(&world).await;

    // The first zone, from the page that is shown when there is none.
    let zone = console.find("main input").await;
    zone.send_keys("moor.test").await.unwrap();
    console.press_button("Add zone").await;

    // A wrong target is refused by the service's own words while one types.
    console.press_button("Add route").await;
    let fields = Locator::Css("[role=dialog] input:not([name])");
    let client = console.browser.client();
    console.find("[role=dialog]").await;
    let [name, _, target] = <[_; 3]>::try_from(client.find_all(fields).await.unwrap()).unwrap();
    let port = reserve_port();
    name.send_keys("booking.moor.test").await.unwrap();
    target.send_keys("70000").await.unwrap();
    console
        .see("`70000` is no port: ports go from 1 to 65535")
        .await;
    target.send_keys(&retyped(&port.to_string())).await.unwrap();
    console.click("[role=dialog] [type=submit]").await;

    // Its page: the lane is broken, with the cause and the fix.
    let sentence = format!("Nothing listens on port {port} of this machine.");
    console.see(&sentence).await;
    console
        .see("bentlane route edit booking.moor.test --to PORT")
        .await;
    let lane = console.find("svg.lane").await;
    let words = lane.attr("aria-label").await.unwrap().unwrap();
    assert_eq!(
        words,
        "resolve passed, handshake passed, connect broken, answer not reached, expect not reached"
    );

    // Nobody touches the page, and the row turns solid.
    console
        .browser
        .find_text("a", "All routes")
        .await
        .click()
        .await
        .unwrap();
    console
        .find("[data-address='booking.moor.test'][data-passed=false]")
        .await;
    let _app = App::on(port);
    console
        .find("[data-address='booking.moor.test'][data-passed=true]")
        .await;
    console.see("1 route: 1 ready").await;

    rows_have_everything_at_hand(&console, &world).await;
    the_page_of_a_route_shows_all_of_it(&console, port).await;
    settings_are_changed_in_one_form(&console, &world).await;
    console.close().await;
}

/// In the list: a route is paused, resumed by the message, removed, brought back, and checked deeply.
async fn rows_have_everything_at_hand(console: &Console, world: &World) {
    let show = || world.run(&["route", "show", "booking.moor.test"]);
    let menu = "button[aria-label='More for booking.moor.test']";
    console.click(menu).await;
    console.choose("Pause").await;
    console.see("Paused booking.moor.test").await;
    console.see("paused").await;
    assert!(show().stdout.contains("paused"));
    console.undo("Paused booking.moor.test").await;
    console.see("Undone: Paused booking.moor.test").await;
    assert!(!show().stdout.contains("paused"));

    console.click(menu).await;
    console.choose("Remove").await;
    console.gone("[data-address]").await;
    assert_eq!(show().code, 1);
    console.undo("Removed booking.moor.test").await;
    console.find("[data-address='booking.moor.test']").await;
    assert_eq!(show().code, 0);

    console.click(menu).await;
    console.choose("Check deeply").await;
    console.see("checked deeply").await;
    console
        .click("button[aria-label='Unfold booking.moor.test']")
        .await;
    console
        .find("[data-address] [data-slug], [data-address] p a")
        .await;
    assert_eq!(console.place().await, "routes?open=booking.moor.test");
}

async fn the_page_of_a_route_shows_all_of_it(console: &Console, port: u16) {
    console
        .browser
        .find_text("a", "booking.moor.test")
        .await
        .click()
        .await
        .unwrap();
    console.find("#hops").await;
    let connect = console.find("[data-hop=connect]").await;
    let seen = connect.text().await.unwrap();
    assert!(
        seen.contains(&format!("127.0.0.1:{port} accepts")),
        "{seen}"
    );
    console.press_button("Check deeply").await;
    console.find("[data-slug=root-distrusted]").await;

    console.press_button("History").await;
    let was = format!("connect: nothing listens on port {port} of this machine");
    console.browser.find_text("td", &was).await;
    console.browser.find_text("td", "every hop passes").await;
    console.press_button("Certificate").await;
    console.browser.find_text("dd", "booking.moor.test").await;
    console.press_button("Values elsewhere").await;
    console.browser.find_text("td", "Origin").await;
}

/// Several settings are saved together, a wrong value is refused where it was entered, and an empty field is
/// the default again.
async fn settings_are_changed_in_one_form(console: &Console, world: &World) {
    let show = || world.ok(&["route", "show", "booking.moor.test"]);
    console.press_button("Settings").await;
    let field = |name: &str| format!("input[name='{name}']");
    let status = console.find(&field("expect.status")).await;
    status.send_keys("many").await.unwrap();
    let note = console.find(&field("note")).await;
    note.send_keys("the huts").await.unwrap();
    console.click("form [type=submit]").await;
    console.find("form [role=alert]").await;
    assert!(!show().contains("the huts"), "all or nothing");
    status.send_keys(&retyped("404")).await.unwrap();
    console.click("form [type=submit]").await;
    console
        .see("Saved expect.status, note of booking.moor.test")
        .await;
    let shown = show();
    assert!(
        shown.contains("404") && shown.contains("the huts"),
        "{shown}"
    );

    let backspace = char::from(fantoccini::key::Key::Backspace).to_string();
    status.send_keys(&retyped(&backspace)).await.unwrap();
    console.click("form [type=submit]").await;
    console
        .see("Saved expect.status of booking.moor.test")
        .await;
    assert!(!show().contains("expect.status"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_finding_is_fixed_by_its_button() {
    let app = App::new();
    let world =
        World::with_routes(&[("a.moor.test", &format!("https://127.0.0.1:{}", app.port()))]);
    let console = Console::open(&world).await;
    console
        .find("[data-address='a.moor.test'][data-passed=false]")
        .await;
    console
        .click("button[aria-label='Unfold a.moor.test']")
        .await;
    console.press_button("Fix it").await;
    console
        .find("[data-address='a.moor.test'][data-passed=true]")
        .await;
    let shown = world.ok(&["route", "show", "a.moor.test"]);
    assert!(!shown.contains("https://127.0.0.1"), "{shown}");
    console.close().await;
}
