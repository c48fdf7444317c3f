use bentlane_tests::World;

use super::Console;

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_shows_who_changed_what_and_undoes_it() {
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    world.ok(&["route", "edit", "a.moor.test", "--to", "4311"]);
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "Journal")
        .await
        .click()
        .await
        .unwrap();
    let first = console.find("tr[data-revision]").await;
    let text = first.text().await.unwrap();
    assert!(text.contains("to: 4310 → 4311"), "{text}");
    assert!(
        text.contains("route edit"),
        "who, and by which command: {text}"
    );
    console
        .click("button[aria-label='Show the values of a.moor.test']")
        .await;
    console.see("+ to: 4311").await;

    console.press_button("Undo").await;
    console
        .browser
        .find_path("//li[contains(., 'Undid change')]")
        .await;
    assert!(world.ok(&["route", "list"]).contains("4310"));
    // The undo is a change, too, by the console.
    let undone = console.browser.find_path("//tr[@data-revision][1]").await;
    let text = undone.text().await.unwrap();
    assert!(
        text.contains("console") && text.contains("undoes"),
        "{text}"
    );

    let filter = console.find("[data-filter]").await;
    filter.send_keys("nothing of the kind").await.unwrap();
    console.see("No change has this text").await;
    console.close().await;
}
