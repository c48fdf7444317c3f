use bentlane_tests::{App, World};

use super::{Console, retyped};

#[tokio::test(flavor = "multi_thread")]
async fn the_traffic_page_is_live_and_filters() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.curl(&["https://a.moor.test/before"]).ok();
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "Traffic")
        .await
        .click()
        .await
        .unwrap();
    console.find("[data-exchange='/before']").await;

    // What passes now shows up by itself, with the newest first and no secret in it.
    world.curl(&["https://a.moor.test/status/500"]).ok();
    world.curl(&["https://a.moor.test/now?token=s3cr3t"]).ok();
    console.find("[data-exchange='/now?token=***']").await;
    let first = console.find("[data-exchange]").await;
    let seen = first.text().await.unwrap();
    assert!(
        seen.contains("200") && seen.contains("a.moor.test/now"),
        "{seen}"
    );

    // One request: where its time went.
    console.click("[data-exchange='/status/500'] button").await;
    console.see("Until the first byte").await;
    console.press_button("Close").await;

    // A filter leaves the rest out, and what comes later is filtered, too. It is in the address.
    let text = console
        .find("input[aria-label='Only with this text in name or path']")
        .await;
    text.send_keys("status").await.unwrap();
    world.curl(&["https://a.moor.test/later"]).ok();
    world.curl(&["https://a.moor.test/status/503"]).ok();
    console.find("[data-exchange='/status/503']").await;
    assert_eq!(console.count("[data-exchange]").await, 2);
    assert_eq!(console.place().await, "traffic?text=status");
    console.browser.client().refresh().await.unwrap();
    console.find("[data-exchange='/status/503']").await;
    assert_eq!(console.count("[data-exchange]").await, 2);

    // Paused, it stands still until it is resumed.
    console.press_button("Pause").await;
    world.curl(&["https://a.moor.test/status/418"]).ok();
    console.press_button("Resume").await;
    console.find("[data-exchange='/status/418']").await;
    console.browser.find_text("button", "Save as HAR").await;
    let text = console
        .find("input[aria-label='Only with this text in name or path']")
        .await;
    text.send_keys(&retyped("nothing of the kind"))
        .await
        .unwrap();
    console.see("No request matches the filter").await;

    // Rates over time, of all routes and of one.
    console.press_button("Rates").await;
    console.find(".uplot canvas").await;
    console
        .browser
        .find_text("a", "a.moor.test")
        .await
        .click()
        .await
        .unwrap();
    console.browser.find_text("h2", "a.moor.test").await;
    console.close().await;
}
