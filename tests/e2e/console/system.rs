use bentlane_tests::World;

use super::Console;

#[tokio::test(flavor = "multi_thread")]
async fn the_system_page_shows_the_service_the_machine_and_guides() {
    let world = World::with_routes(&[("a.moor.test", "4310")]);
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "System")
        .await
        .click()
        .await
        .unwrap();
    let socket = world.socket().display().to_string();
    console.browser.find_text("dd", &socket).await;
    console.browser.find_text("td", "traffic").await;

    console.press_button("This machine").await;
    console.find("tr[data-state=failed]").await;
    // The plan is that of the command, before anybody runs it.
    console.see("sudo bentlane system attach").await;

    console.press_button("Other systems").await;
    let script = console.find("pre[aria-label='The script']").await;
    let text = script.text().await.unwrap();
    assert!(text.contains("/etc/resolver/moor.test"), "{text}");
    assert_eq!(
        text.trim_end(),
        world
            .ok(&["system", "guide", "macos", "--script"])
            .trim_end()
    );

    console.press_button("Sessions").await;
    console.browser.find_text("span", "· this one").await;
    console.press_button("Sign out").await;
    console.see("You are not signed in").await;
    console.close().await;
}
