use bentlane_tests::{App, Browser, World, reserve_port};

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
