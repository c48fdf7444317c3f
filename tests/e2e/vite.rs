//! A real Vite dev server behind the proxy, with hot reload over a WebSocket.

use std::fs;
use std::process::Command;

use bentlane_tests::{Background, Browser, World, repository, reserve_port, wait_until};

/// Vite on `port`, with a site in the world's folder `site` and these settings of its server.
pub(crate) fn vite(world: &World, port: u16, settings: &str) -> Background {
    let site = world.path("site");
    fs::create_dir(&site).unwrap();
    let page = "<title>Highmoor</title><h1></h1><script type=module src=/main.js></script>";
    fs::write(site.join("index.html"), page).unwrap();
    fs::write(site.join("main.js"), "").unwrap();
    let settings = format!("export default {{ cacheDir: '.vite', server: {{ {settings} }} }};");
    fs::write(site.join("vite.config.js"), settings).unwrap();
    let vite = repository().join("demo/node_modules/.bin/vite");
    assert!(vite.exists(), "run `npm ci` in demo/, as scripts/test does");
    let mut command = Command::new(vite);
    let port = port.to_string();
    command.args(["--port", &port, "--strictPort", "--clearScreen", "false"]);
    Background::start(command.current_dir(&site), world.path("vite.log"))
}

#[tokio::test(flavor = "multi_thread")]
async fn hot_reload_reaches_the_browser_without_a_page_reload() {
    let port = reserve_port();
    let world = World::with_routes(&[("booking.moor.test", &port.to_string())]);
    let site = world.path("site");
    let _vite = vite(&world, port, "allowedHosts: ['.moor.test']");
    let module = site.join("word.js");
    fs::write(&module, "export const word = 'before';").unwrap();
    let main = "import { word } from './word.js';
        const heading = document.querySelector('h1');
        heading.textContent = word;
        window.stayed = true;
        import.meta.hot.accept('./word.js', (next) => { heading.textContent = next.word; });";
    fs::write(site.join("main.js"), main).unwrap();
    wait_until("Vite to answer", || {
        (world.run(&["check", "--routes-only"]).code == 0).then_some(())
    });

    let browser = Browser::open(&world.path(""), &world.root()).await;
    let https = world.address("https").port();
    browser
        .client()
        .goto(&format!("https://booking.moor.test:{https}/"))
        .await
        .unwrap();
    browser.find_text("h1", "before").await;
    browser
        .client()
        .execute("window.stayed = 'yes'", vec![])
        .await
        .unwrap();
    // Vite's client connects on its own; until then a change reaches nobody, so it is repeated.
    for round in 0.. {
        fs::write(&module, format!("export const word = 'after'; // {round}")).unwrap();
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        let heading = browser.find("h1").await.text().await.unwrap();
        if heading == "after" {
            break;
        }
        assert!(round < 60, "the change never reached the page: {heading}");
    }
    let stayed = browser
        .client()
        .execute("return window.stayed", vec![])
        .await
        .unwrap();
    assert_eq!(
        stayed, "yes",
        "the module was replaced without a page reload"
    );
    browser.close().await;
}
