use bentlane_tests::World;

use super::{Console, add_huts};
use crate::apps::any_app;

#[tokio::test(flavor = "multi_thread")]
async fn the_running_page_starts_apps_and_shows_their_output() {
    let world = World::with_routes(&[]);
    add_huts(
        &world,
        &format!("echo going to serve; exec {}", any_app("")),
    );
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "Running")
        .await
        .click()
        .await
        .unwrap();
    console.find("[data-app=huts][data-state=stopped]").await;
    console
        .click("button[aria-label='Show the output of huts']")
        .await;
    console.click("button[aria-label='Start huts']").await;
    console.find("[data-app=huts][data-state=running]").await;
    console.see("going to serve").await;
    assert_eq!(console.place().await, "running?app=huts");
    let filter = console
        .find("input[aria-label='Show lines of huts with this text']")
        .await;
    filter.send_keys("no such line").await.unwrap();
    console.see("No line has this text.").await;
    console.click("button[aria-label='Stop huts']").await;
    console.find("[data-app=huts][data-state=stopped]").await;

    // What has no route yet can be given one from here.
    console.go("#running").await;
    console
        .browser
        .find_text("a", "Add a route")
        .await
        .click()
        .await
        .unwrap();
    let name = console.find("[role=dialog] input").await;
    name.send_keys("huts.moor.test").await.unwrap();
    console.click("[role=dialog] [type=submit]").await;
    console.browser.find_text("h1", "huts.moor.test").await;
    assert!(world.ok(&["route", "list"]).contains("app:huts"));
    console.close().await;
}
