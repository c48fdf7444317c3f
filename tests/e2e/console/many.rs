use std::fmt::Write as _;

use bentlane_tests::World;

use super::{Console, retyped};

#[tokio::test(flavor = "multi_thread")]
async fn of_a_thousand_routes_those_in_view_are_drawn() {
    let world = World::with_routes(&[]);
    let mut lines = String::new();
    for number in 0..1000 {
        // None of them is checked, so that they stay in their order.
        writeln!(lines, "r{number:03}.moor.test 4310 --paused").unwrap();
    }
    let file = world.path("routes");
    std::fs::write(&file, lines).unwrap();
    world.ok(&["route", "add", "--from", file.to_str().unwrap()]);
    let console = Console::open(&world).await;
    console.find("[data-address='r000.moor.test']").await;
    let drawn = console.count("[data-row]").await;
    assert!((20..100).contains(&drawn), "{drawn} rows are drawn");
    let row = console
        .find("[aria-setsize='1000'][aria-posinset='1']")
        .await;
    assert!(row.text().await.unwrap().contains("r000.moor.test"));

    // To the end, and back by the filter.
    let script = "scrollTo(0, document.body.scrollHeight)";
    console
        .browser
        .client()
        .execute(script, vec![])
        .await
        .unwrap();
    console.find("[data-address='r999.moor.test']").await;
    let filter = console.find("[data-filter]").await;
    filter.send_keys("r50").await.unwrap();
    console.see("10 of 1000").await;
    console.find("[data-address='r500.moor.test']").await;
    assert_eq!(console.count("[data-row]").await, 10);
    filter
        .send_keys(&retyped("r50 no such state"))
        .await
        .unwrap();
    console.see("No route has this text").await;
    console.press_button("Show all 1000").await;
    console.find("[data-address='r000.moor.test']").await;
    console.close().await;
}
