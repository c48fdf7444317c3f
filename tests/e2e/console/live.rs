use bentlane_tests::World;
use rustix::process::Signal;

use super::Console;

#[tokio::test(flavor = "multi_thread")]
async fn changes_of_others_show_in_every_tab_and_after_a_gap() {
    let mut world = World::on_kept_ports().add_routes(&[("a.moor.test", "4310")]);
    let console = Console::open(&world).await;
    let client = console.browser.client().clone();
    let first = client.window().await.unwrap();
    let second = client.new_window(true).await.unwrap().handle;
    client.switch_to_window(second.clone()).await.unwrap();
    console.go("#routes").await;
    console.find("[data-address='a.moor.test']").await;

    // From the terminal, and from the other tab.
    world.ok(&["route", "add", "b.moor.test", "4311"]);
    console.find("[data-address='b.moor.test']").await;
    client.switch_to_window(first.clone()).await.unwrap();
    console.find("[data-address='b.moor.test']").await;
    console
        .click("button[aria-label='More for b.moor.test']")
        .await;
    console.choose("Remove").await;
    console.gone("[data-address='b.moor.test']").await;
    client.switch_to_window(second).await.unwrap();
    console.gone("[data-address='b.moor.test']").await;

    // The service starts again in place: the session and the page go on.
    world.ok(&["restart"]);
    world.ok(&["route", "add", "c.moor.test", "4312"]);
    console.find("[data-address='c.moor.test']").await;
    console.gone("[data-connection=lost]").await;

    // It is away: what was read stays, and is said to be old. Once it is back, one signs in again.
    world.end(Signal::TERM);
    console.find("[data-connection=lost]").await;
    console.find("[data-address='c.moor.test']").await;
    world.wake();
    console.see("You are not signed in").await;
    console.close().await;
}
