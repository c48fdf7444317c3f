use bentlane_tests::{App, World};

use super::Console;

/// Every page and tab, with what waits until it is there.
const PLACES: &[(&str, &str)] = &[
    ("#routes?open=b.moor.test", "[data-slug]"),
    ("#routes?add=route", "[role=dialog]"),
    ("#route/b.moor.test", "#hops"),
    ("#route/a.moor.test?tab=settings", "[data-form=settings]"),
    ("#route/a.moor.test?tab=requests", "[data-exchange]"),
    ("#route/a.moor.test?tab=certificate", "dl"),
    ("#route/a.moor.test?tab=history", "table"),
    ("#route/a.moor.test?tab=values", "table"),
    ("#running", "[role=tablist]"),
    ("#running?tab=containers", "[role=tablist]"),
    ("#running?tab=ports", "[data-port]"),
    ("#traffic", "[data-exchange] button"),
    ("#traffic?tab=rates", ".uplot"),
    ("#names?name=a.moor.test", "[data-zone]"),
    ("#names?tab=records", "[data-form=record]"),
    ("#names?tab=queries", "table"),
    ("#names?tab=upstreams", "h2"),
    ("#names?zone=moor.test", "[data-form=zone-settings]"),
    ("#certificates", "h2"),
    ("#certificates?tab=stores", "table"),
    ("#certificates?tab=served", "table"),
    ("#certificates?tab=files", "[data-form=sign]"),
    ("#system", "#tasks"),
    ("#system?tab=machine", "#plan"),
    ("#system?tab=guides", "pre"),
    ("#system?tab=sessions", "[data-session]"),
    ("#journal", "[data-revision]"),
];

#[tokio::test(flavor = "multi_thread")]
async fn no_page_breaks_a_rule_of_accessibility_in_either_theme() {
    let app = App::new();
    let world = World::with_routes(&[("a.moor.test", &app.port()), ("b.moor.test", "1")]);
    world.curl(&["https://a.moor.test/status/404"]).ok();
    world.dig(&["a.moor.test"]);
    let console = Console::open(&world).await;
    console
        .find("[data-address='b.moor.test'][data-passed=false]")
        .await;
    let mut faults = Vec::new();
    for theme in ["light", "dark"] {
        let script =
            format!("localStorage.setItem('bentlane-theme', '{theme}'); location.reload()");
        console
            .browser
            .client()
            .execute(&script, vec![])
            .await
            .unwrap();
        console.find(&format!("html[data-theme={theme}]")).await;
        for (place, there) in PLACES {
            console.go(place).await;
            console.find(there).await;
            let found = console.browser.accessibility_faults().await;
            faults.extend(found.into_iter().map(|it| format!("{theme} {place}: {it}")));
        }
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));

    // Nothing came from anywhere else, and styles that scripts add carry a nonce.
    let script = "return performance.getEntriesByType('resource').map(({ name }) => name)";
    let loaded = console
        .browser
        .client()
        .execute(script, vec![])
        .await
        .unwrap();
    let loaded = loaded.as_array().unwrap();
    assert!(!loaded.is_empty());
    for url in loaded {
        assert!(url.as_str().unwrap().starts_with(&console.origin), "{url}");
    }
    let page = bentlane_tests::run("curl", &["-sS", "-i", &console.origin]).ok();
    assert!(page.contains("style-src 'self' 'nonce-"), "{page}");
    assert!(!page.contains("unsafe-inline"), "{page}");
    console.close().await;
}
