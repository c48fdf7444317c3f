//! The console in a real browser.

use bentlane_tests::{App, Browser, World, reserve_port};
use fantoccini::key::Key;

#[tokio::test(flavor = "multi_thread")]
async fn a_route_is_added_and_its_lane_turns_solid_when_its_server_starts() {
    let world = World::new();
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let link = world.sign_in_link();
    browser.client().goto(&link).await.unwrap();

    // The first zone, from the page that is shown when there is none.
    let zone = browser.find("main input").await;
    zone.send_keys("moor.test").await.unwrap();
    browser
        .find_text("button", "Add zone")
        .await
        .click()
        .await
        .unwrap();

    // A wrong target is refused by the service's own words while one types.
    browser
        .find_text("button", "Add route")
        .await
        .click()
        .await
        .unwrap();
    let [name, _, target] = <[_; 3]>::try_from(
        browser
            .client()
            .find_all(fantoccini::Locator::Css("[role=dialog] input"))
            .await
            .unwrap(),
    )
    .unwrap();
    let port = reserve_port();
    name.send_keys("booking.moor.test").await.unwrap();
    target.send_keys("70000").await.unwrap();
    browser
        .find_text("p", "`70000` is no port: ports go from 1 to 65535")
        .await;
    target.clear().await.unwrap();
    target.send_keys(&port.to_string()).await.unwrap();
    target
        .send_keys(&char::from(Key::Enter).to_string())
        .await
        .unwrap();

    // Its lane is broken, with the cause and the fix.
    browser
        .find("[data-address='booking.moor.test'][data-passed=false]")
        .await;
    let sentence = format!("Nothing listens on port {port} of this machine.");
    browser.find_text("p", &sentence).await;
    browser
        .find_text("code", "bentlane route edit booking.moor.test --to PORT")
        .await;
    let lane = browser.find("[data-address='booking.moor.test'] svg").await;
    let words = lane.attr("aria-label").await.unwrap().unwrap();
    assert_eq!(
        words,
        "resolve passed, handshake passed, connect broken, answer not reached, expect not reached"
    );

    // Nobody touches the page, and the lane turns solid.
    let _app = App::on(port);
    browser
        .find("[data-address='booking.moor.test'][data-passed=true]")
        .await;
    browser.find_text("p", "1 route: 1 ready").await;

    check_by_hand_and_open_the_routes_page(&browser, port).await;
    change_settings(&browser, &world).await;
    browser.close().await;
}

async fn check_by_hand_and_open_the_routes_page(browser: &Browser, port: u16) {
    browser
        .find_text("button", "Check all now")
        .await
        .click()
        .await
        .unwrap();
    browser.find_text("button", "Check all now").await;

    // The route's own page: what each hop showed, and how it has been.
    let own = browser.find_text("a", "booking.moor.test").await;
    own.click().await.unwrap();
    browser.find_text("h2", "What each hop showed").await;
    let connect = browser.find("[data-hop=connect]").await;
    let seen = connect.text().await.unwrap();
    assert!(
        seen.contains(&format!("127.0.0.1:{port} accepts")),
        "{seen}"
    );
    let was = format!("connect: nothing listens on port {port} of this machine");
    browser.find_text("td", &was).await;
    browser.find_text("td", "every hop passes").await;
    let deep = browser.find_text("button", "Check deeply").await;
    deep.click().await.unwrap();
    browser.find("[data-slug=root-distrusted]").await;
}

/// On the route's page: sets what it lacks, sees the error of a wrong value, and goes back to the default.
async fn change_settings(browser: &Browser, world: &World) {
    let show = || world.ok(&["route", "show", "booking.moor.test"]);
    let settings = browser.find("[aria-labelledby=settings] select").await;
    settings.select_by_label("expect.status").await.unwrap();
    let field = browser.find("form [aria-label='expect.status']").await;
    field.send_keys("many").await.unwrap();
    let save = browser.find("form[data-form] [type=submit]").await;
    save.click().await.unwrap();
    browser.find("form[data-form] [role=alert]").await;
    assert!(!show().contains("expect.status"));
    field.send_keys(&retyped("404")).await.unwrap();
    save.click().await.unwrap();
    let row = browser.find("[data-setting='expect.status']").await;
    let seen = row.text().await.unwrap();
    assert!(seen.contains("404"), "{seen}");
    assert!(show().contains("expect.status"));

    let change = browser.find("[data-setting='expect.status'] button").await;
    change.click().await.unwrap();
    browser
        .find_text("button", "Unset")
        .await
        .click()
        .await
        .unwrap();
    browser
        .find_text("p", "Every setting has its default.")
        .await;
    assert!(!show().contains("expect.status"));
}

/// The keys that replace what is in a field by `text`.
fn retyped(text: &str) -> String {
    let (control, release) = (char::from(Key::Control), char::from(Key::Null));
    format!("{control}a{release}{text}")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_names_page_shows_advice_records_and_queries() {
    let world = World::with_routes(&[]);
    world.ok(&["record", "add", "moor.test", "MX", "10 mail.moor.test."]);
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let link = world.sign_in_link();
    browser.client().goto(&link).await.unwrap();
    let names = browser.find_text("a", "Names").await;
    names.click().await.unwrap();
    browser.find_text("td", "10 mail.moor.test.").await;

    // A question that is asked now shows up by itself.
    let dns = world.address("dns");
    let port = dns.port().to_string();
    let args = ["@127.0.0.1", "-p", &port, "seen.moor.test", "AAAA"];
    bentlane_tests::run("dig", &args).ok();
    browser.find_text("td", "seen.moor.test").await;

    // Advice comes while one types, and what needs consent is not taken.
    let zone = browser.find("main form input").await;
    zone.send_keys("fell.local").await.unwrap();
    let advice = browser.find("main form p").await;
    browser
        .find_text(
            "p",
            "Note: `.local` belongs to multicast DNS (RFC 6762): some systems never ask a resolver \
             for it, and others wait for seconds first; fell.test would be better",
        )
        .await;
    zone.send_keys(&retyped("fell.dev")).await.unwrap();
    let submit = browser.find_text("button", "Add zone").await;
    submit.click().await.unwrap();
    browser.find("main form p[role=alert]").await;
    let said = advice.text().await.unwrap();
    assert!(said.contains("somebody's real domain"), "{said}");
    zone.send_keys(&retyped("fell.test")).await.unwrap();
    submit.click().await.unwrap();
    browser.find_text("span", "fell.test").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_certificates_page_shows_limits_trust_and_expiry() {
    let world = World::with_routes(&[("booking.moor.test", "4310")]);
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let link = world.sign_in_link();
    browser.client().goto(&link).await.unwrap();
    let page = browser.find_text("a", "Certificates").await;
    page.click().await.unwrap();
    browser
        .find_text(
            "p",
            "It can vouch for names at or below localhost and test, and for the loopback addresses of this machine. For nothing else: clients refuse a \
             certificate beyond that, whoever holds its key.",
        )
        .await;
    browser.find_text("td", "booking.moor.test").await;
    browser.find_text("td", "issuing certificate").await;
    browser.find_text("td", "The system").await;
    browser.find_text("button", "Export as Apple profile").await;
    // A root whose key is locked cannot be replaced for another zone.
    let secret = world.path("secret");
    std::fs::write(&secret, "correct horse\n").unwrap();
    let protect = ["authority", "protect", "--new-passphrase-file"];
    world.ok(&[&protect[..], &[secret.to_str().unwrap()]].concat());
    world.ok(&["zone", "add", "moor.example", "--anyway"]);
    browser.find("p[role=alert]").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_traffic_page_is_live_and_filters() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port())]);
    world.curl(&["https://a.moor.test/before"]).ok();
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let link = world.sign_in_link();
    browser.client().goto(&link).await.unwrap();
    let page = browser.find_text("a", "Traffic").await;
    page.click().await.unwrap();
    browser.find("[data-exchange='/before']").await;

    // What passes now shows up by itself, with the newest first and no secret in it.
    world.curl(&["https://a.moor.test/status/500"]).ok();
    world.curl(&["https://a.moor.test/now?token=s3cr3t"]).ok();
    browser.find("[data-exchange='/now?token=***']").await;
    let first = browser.find("[data-exchange]").await;
    let seen = first.text().await.unwrap();
    assert!(
        seen.contains("200") && seen.contains("a.moor.test/now"),
        "{seen}"
    );
    browser.find_text("h2", "The last quarter of an hour").await;

    // A filter leaves the rest out, and what comes later is filtered, too.
    let text = browser
        .find("input[aria-label='Only with this text']")
        .await;
    text.send_keys("status").await.unwrap();
    world.curl(&["https://a.moor.test/later"]).ok();
    world.curl(&["https://a.moor.test/status/503"]).ok();
    browser.find("[data-exchange='/status/503']").await;
    let shown = fantoccini::Locator::Css("[data-exchange]");
    assert_eq!(browser.client().find_all(shown).await.unwrap().len(), 2);
    browser.find_text("button", "Save as HAR").await;
    text.send_keys(&retyped("nothing of the kind"))
        .await
        .unwrap();
    browser
        .find_text("p", "Nothing of that kind has passed.")
        .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_explains_signing_in_and_an_error_page_reloads_itself() {
    let port = reserve_port();
    let world = World::with_routes(&[("late.moor.test", &port.to_string())]);
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let client = browser.client();
    let link = world.sign_in_link();
    let (console, _) = link.split_once('#').unwrap();
    client.goto(console).await.unwrap();
    browser.find_text("h2", "You are not signed in").await;

    let https = world.address("https").port();
    client
        .goto(&format!("https://late.moor.test:{https}/"))
        .await
        .unwrap();
    let heading = format!("Nothing listens on port {port} of this machine.");
    browser.find_text("h1", &heading).await;
    let _app = App::on(port);
    let page = browser.find("pre").await;
    let body = page.text().await.unwrap();
    assert!(
        body.contains("x-forwarded-proto"),
        "the app's own page: {body}"
    );
    browser.close().await;
}
