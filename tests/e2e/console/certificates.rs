use bentlane_tests::{World, run};
use fantoccini::Locator;

use super::Console;

#[tokio::test(flavor = "multi_thread")]
async fn the_certificates_page_shows_limits_trust_and_expiry_and_issues() {
    let world = World::with_routes(&[("booking.moor.test", "4310")]);
    let console = Console::open(&world).await;
    console
        .browser
        .find_text("a", "Certificates")
        .await
        .click()
        .await
        .unwrap();
    console
        .see(
            "It can vouch for names at or below localhost and test, and for the loopback addresses of this machine. For nothing else: clients refuse a \
             certificate beyond that, whoever holds its key.",
        )
        .await;
    console
        .browser
        .find_text("button", "Export as Apple profile")
        .await;
    console.press_button("Trust stores").await;
    console.browser.find_text("td", "The system").await;
    console.press_button("Served").await;
    console.browser.find_text("td", "booking.moor.test").await;
    console.browser.find_text("td", "issuing certificate").await;

    files_are_issued_and_requests_signed(&console, &world).await;

    // A root whose key is locked cannot be replaced for another zone.
    let secret = world.path("secret");
    std::fs::write(&secret, "correct horse\n").unwrap();
    let protect = ["authority", "protect", "--new-passphrase-file"];
    world.ok(&[&protect[..], &[secret.to_str().unwrap()]].concat());
    world.ok(&["zone", "add", "moor.example", "--anyway"]);
    console.press_button("Authority").await;
    console.find("p[role=alert]").await;
    console.close().await;
}

async fn files_are_issued_and_requests_signed(console: &Console, world: &World) {
    console.press_button("Files and requests").await;
    let folder = world.path("tls");
    std::fs::create_dir(&folder).unwrap();
    let fields = Locator::Css("form[data-form=export] input");
    let [names, into] =
        <[_; 2]>::try_from(console.browser.client().find_all(fields).await.unwrap()).unwrap();
    names.send_keys("api.moor.test").await.unwrap();
    into.send_keys(folder.to_str().unwrap()).await.unwrap();
    console.press_button("Issue").await;
    console.browser.find_text("td", "api.moor.test").await;
    assert!(std::fs::read_dir(&folder).unwrap().count() > 0);
    console.press_button("End").await;
    console.gone("#exported ~ * td, td button").await;

    let (key, request) = (world.path("db.key"), world.path("db.csr"));
    let made = run(
        "openssl",
        &[
            "req",
            "-new",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:prime256v1",
            "-nodes",
            "-keyout",
            key.to_str().unwrap(),
            "-out",
            request.to_str().unwrap(),
            "-subj",
            "/CN=db.moor.test",
            "-addext",
            "subjectAltName=DNS:db.moor.test",
        ],
    );
    assert_eq!(made.code, 0, "{made:?}");
    let field = console.find("form[data-form=sign] textarea").await;
    field.send_keys("nonsense").await.unwrap();
    console.press_button("Sign").await;
    console.find("form[data-form=sign] [role=alert]").await;
    let text = std::fs::read_to_string(request).unwrap();
    field.send_keys(&super::retyped(&text)).await.unwrap();
    console.press_button("Sign").await;
    console
        .browser
        .find_text("button", "Save it with its chain")
        .await;
}
