use bentlane_tests::World;
use fantoccini::key::Key;

use super::{Console, add_huts};
use crate::apps::any_app;

#[tokio::test(flavor = "multi_thread")]
async fn every_page_does_its_work_by_keyboard_alone() {
    let world = World::with_routes(&[("a.moor.test", "1"), ("b.moor.test", "2")]);
    add_huts(&world, &format!("exec {}", any_app("")));
    let console = Console::open(&world).await;
    console.find("[data-address='b.moor.test']").await;

    // Routes: the filter, from row to row, unfold, pause.
    console.keys("/").await;
    console.keys("moor").await;
    assert_eq!(console.place().await, "routes?text=moor");
    console
        .tab_to("[data-address='a.moor.test'] [data-row]")
        .await;
    console.key(Key::Down).await;
    console
        .find("[data-address='b.moor.test'] [data-row]:focus")
        .await;
    console.key(Key::Enter).await;
    console
        .find("[data-address='b.moor.test'] [data-slug=target-refuses]")
        .await;
    console.keys("p").await;
    console.see("Paused b.moor.test").await;
    // F8 leads to the message, and its button undoes.
    console.key(Key::F8).await;
    console
        .tab_to("[data-radix-collection-item] button, li button")
        .await;
    console.key(Key::Enter).await;
    console.see("Undone: Paused b.moor.test").await;
    console
        .tab_to("[data-address='b.moor.test'] [data-row]")
        .await;
    console
        .tab_to("button[aria-label='More for b.moor.test']")
        .await;
    console.key(Key::Enter).await;
    console.find("[role=menu]").await;
    console.keys("edit").await;
    console.key(Key::Enter).await;
    console.find("[data-form=settings]").await;

    // Route: a setting, with all of it in the form.
    console.tab_to("input[name=note]").await;
    console.keys("by keys").await;
    console.key(Key::Enter).await;
    console.see("Saved note of b.moor.test").await;
    assert!(
        world
            .ok(&["route", "show", "b.moor.test"])
            .contains("by keys")
    );

    // Names: explain one. The palette leads there.
    console.palette("names").await;
    console.tab_to("#explain").await;
    console.keys("any.moor.test").await;
    console.key(Key::Enter).await;
    console
        .see("The zone moor.test gives every name the address of the proxy.")
        .await;

    // Certificates and system: from tab to tab.
    console.palette("certif").await;
    console.tab_to("[role=tab]").await;
    console.key(Key::Right).await;
    console.find("[role=tab][aria-selected=true]:focus").await;
    assert_eq!(console.place().await, "certificates?tab=stores");
    console.palette("system").await;
    console.tab_to("[role=tab]").await;
    console.key(Key::End).await;
    console.tab_to("[data-session] button").await;

    // Running: start an app.
    console.palette("running").await;
    console.tab_to("button[aria-label='Start huts']").await;
    console.key(Key::Enter).await;
    console.find("[data-app=huts][data-state=running]").await;

    // Traffic: look at a request.
    assert_eq!(
        world
            .curl(&["-o", "/dev/null", "https://a.moor.test/seen"])
            .code,
        0
    );
    console.palette("traffic").await;
    console.find("[data-exchange='/seen']").await;
    console.tab_to("[data-exchange='/seen'] button").await;
    console.key(Key::Enter).await;
    console.see("Until the first byte").await;

    // Journal: undo the last change.
    console.palette("journal").await;
    console.tab_to("button[aria-label^='Undo change']").await;
    console.key(Key::Enter).await;
    console
        .browser
        .find_path("//li[contains(., 'Undid change')]")
        .await;
    assert!(
        !world
            .ok(&["route", "show", "b.moor.test"])
            .contains("by keys")
    );
    console.close().await;
}
