use bentlane_tests::World;

use super::{Console, retyped};

#[tokio::test(flavor = "multi_thread")]
async fn the_names_page_explains_names_and_changes_zones_and_records() {
    let world = World::with_routes(&[("booking.moor.test", "4310")]);
    world.ok(&["record", "add", "moor.test", "MX", "10 mail.moor.test."]);
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "Names")
        .await
        .click()
        .await
        .unwrap();

    // What is answered for a name, and why.
    let name = console.find("#explain").await;
    for (asked, reason) in [
        (
            "booking.moor.test",
            "The zone moor.test gives every name the address of the proxy.",
        ),
        ("moor.test", "The zone moor.test has a record for it."),
        (
            "fell.example",
            "No zone has this name, and there is no upstream resolver to ask.",
        ),
    ] {
        name.send_keys(&retyped(asked)).await.unwrap();
        console.press_button("Explain").await;
        console.see(reason).await;
    }
    console.press_button("Records").await;
    console.browser.find_text("td", "10 mail.moor.test.").await;
    let form = "form[data-form=record]";
    let [owner, data] = <[_; 2]>::try_from(
        console
            .browser
            .client()
            .find_all(fantoccini::Locator::Css(&format!("{form} input")))
            .await
            .unwrap(),
    )
    .unwrap();
    owner.send_keys("printer.moor.test").await.unwrap();
    data.send_keys("192.0.2").await.unwrap();
    console.click(&format!("{form} [type=submit]")).await;
    console.find(&format!("{form} [role=alert]")).await;
    data.send_keys(".7").await.unwrap();
    console.click(&format!("{form} [type=submit]")).await;
    console.browser.find_text("td", "192.0.2.7").await;
    console
        .click("button[aria-label='Remove the A records of printer.moor.test']")
        .await;
    console
        .see("Removed the A records of printer.moor.test")
        .await;

    // A question that is asked now shows up by itself.
    console.press_button("Queries").await;
    let dns = world.address("dns");
    let port = dns.port().to_string();
    let args = ["@127.0.0.1", "-p", &port, "seen.moor.test", "AAAA"];
    bentlane_tests::run("dig", &args).ok();
    console.browser.find_text("td", "seen.moor.test").await;
    console.press_button("Upstream resolvers").await;
    console.see("No upstream resolver").await;

    zones_are_added_with_advice_edited_and_removed(&console, &world).await;
    console.close().await;
}

async fn zones_are_added_with_advice_edited_and_removed(console: &Console, world: &World) {
    console.press_button("Zones").await;
    let zone = console.find("form[data-form=zone] input").await;
    zone.send_keys("fell.local").await.unwrap();
    console
        .see(
            "Note: `.local` belongs to multicast DNS (RFC 6762): some systems never ask a resolver \
             for it, and others wait for seconds first; fell.test would be better",
        )
        .await;
    zone.send_keys(&retyped("fell.dev")).await.unwrap();
    console.press_button("Add zone").await;
    let refused = console.find("form[data-form=zone] [role=alert]").await;
    let said = refused.text().await.unwrap();
    assert!(said.contains("somebody's real domain"), "{said}");
    zone.send_keys(&retyped("fell.test")).await.unwrap();
    console.press_button("Add zone").await;
    console.find("[data-zone='fell.test']").await;

    console.click("button[aria-label='Edit fell.test']").await;
    let address = console.find("form[data-form=zone-settings] input").await;
    address.send_keys("192.0.2").await.unwrap();
    console
        .click("form[data-form=zone-settings] [type=submit]")
        .await;
    console
        .find("form[data-form=zone-settings] [role=alert]")
        .await;
    address.send_keys(".9").await.unwrap();
    console
        .click("form[data-form=zone-settings] [type=submit]")
        .await;
    console.browser.find_text("td", "192.0.2.9").await;
    assert_eq!(console.place().await, "names?name=fell.example");

    console.click("button[aria-label='Remove fell.test']").await;
    console.gone("[data-zone='fell.test']").await;
    console.undo("Removed the zone fell.test").await;
    console.find("[data-zone='fell.test']").await;
    assert!(world.ok(&["zone", "list"]).contains("192.0.2.9"));
}
