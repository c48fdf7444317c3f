//! What a browser shows of an app that is not ready, and who may restart one from there.

use bentlane_tests::{Browser, World, wait_until};
use fantoccini::Locator;
use rstest::rstest;

use super::{any_app, ask, script, status, with_app};

async fn open(world: &World) -> Browser {
    let browser = Browser::open(&world.path(""), &world.root()).await;
    let https = world.address("https").port();
    let url = format!("https://huts.moor.test:{https}/");
    browser.client().goto(&url).await.unwrap();
    browser
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_sees_what_an_app_prints_until_it_is_ready() {
    let world = with_app(&any_app("--after 3"), &[]);
    let browser = open(&world).await;
    browser.find_text("h1", "The app huts is starting.").await;
    let printed = "//pre[contains(., 'going to listen')]";
    let printed = browser.client().wait().for_element(Locator::XPath(printed));
    printed.await.unwrap();
    let heading = browser.find_text("title", "Huts");
    heading.await;
    browser.find("h1").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_crash_is_shown_with_its_trace_and_a_button_that_starts_the_app_again() {
    let broken =
        "import sys\ndef load(hut):\n    raise LookupError(f'no hut {hut}')\nload('larkfell')\n";
    let world = World::new().add_routes(&[]);
    let code = world.path("huts/huts.py");
    std::fs::create_dir_all(code.parent().unwrap()).unwrap();
    std::fs::write(&code, broken).unwrap();
    super::add(&world, "huts", "python3 huts.py", &[]);
    let browser = open(&world).await;
    browser
        .find_text("h1", "The app huts crashed with exit code 1.")
        .await;
    let shown = browser.find("#output").await.text().await.unwrap();
    assert!(shown.contains("LookupError: no hut larkfell"), "{shown}");
    assert!(shown.contains("line 3, in load"), "{shown}");
    let fixed = format!(
        "import os\nos.execvp('sh', ['sh', '-c', {:?}])\n",
        any_app("")
    );
    std::fs::write(&code, fixed).unwrap();
    browser.find("#restart").await.click().await.unwrap();
    browser.find_text("title", "Huts").await;
    browser.close().await;
}

/// Asks for a restart as a page does, with these fields.
fn restart(world: &World, fields: &[&str]) -> String {
    let mut args = vec!["-X", "POST", "-w", "%{http_code}", "-o", "/dev/null"];
    for field in fields {
        args.extend(["-H", field]);
    }
    args.push("https://huts.moor.test/.well-known/bentlane/app");
    world.curl(&args).stdout
}

#[test]
fn only_the_page_itself_can_ask_for_a_restart_and_once() {
    let flag = "no-such-hut";
    let world = with_app(flag, &[]);
    let started = world.run(&["app", "start", "huts"]);
    assert_eq!(started.code, 1, "{started:?}");
    let page = |world: &World| {
        let html = ["-H", "accept: text/html", "https://huts.moor.test/"];
        let page = world.curl(&html).stdout;
        let token = page.split_once("data-token=\"").unwrap().1;
        format!("bentlane-token: {}", token.split_once('"').unwrap().0)
    };
    let own = "sec-fetch-site: same-origin";
    let token = page(&world);
    for (fields, code) in [
        (vec![], "403"),
        (vec![own], "403"),
        (vec![own, "bentlane-token: 00"], "403"),
        (vec![&*token], "403"),
        (vec!["sec-fetch-site: cross-site", &*token], "403"),
        (vec!["sec-fetch-site: same-site", &*token], "403"),
        (vec![own, &*token], "202"),
    ] {
        assert_eq!(restart(&world, &fields), code, "{fields:?}");
    }
    wait_until("the crash", || {
        (status(&world)["state"] == "crashed").then_some(())
    });
    assert_eq!(restart(&world, &[own, &token]), "403", "it was used");
}

/// What another page, a device or another app's page can learn or do: nothing.
#[rstest]
#[case("https://huts.moor.test/.well-known/bentlane/app/x", "503 app-")]
#[case("https://huts.moor.test/.well-known/bentlane/../app", "503 app-")]
fn only_one_path_is_ours(#[case] url: &str, #[case] end: &str) {
    let world = with_app("no-such-hut", &[]);
    let shown = [
        "-w",
        "\n%{http_code} %header{bentlane-finding}",
        "--path-as-is",
        url,
    ];
    let asked = world.curl(&shown);
    assert!(asked.stdout.contains(end), "{asked:?}");
}

#[test]
fn a_ready_app_gets_every_path_itself() {
    let world = with_app(&any_app(""), &[]);
    assert!(ask(&world, "/").stdout.contains("<h1>app "));
    let asked = ask(&world, "/.well-known/bentlane/app");
    assert!(
        asked.stdout.ends_with("\n200 ") && asked.stdout.contains("<h1>app "),
        "{asked:?}"
    );
}

#[test]
fn a_script_that_prints_markup_is_shown_as_text() {
    let world = World::new().add_routes(&[]);
    let printing = script(
        &world,
        "huts/run",
        "#!/bin/sh\necho '<script>alert(1)</script>{{slug}}'\nexit 1\n",
    );
    super::add(&world, "huts", &printing, &[]);
    let _ = world.run(&["app", "start", "huts"]);
    let page = world
        .curl(&["-H", "accept: text/html", "https://huts.moor.test/"])
        .stdout;
    assert!(
        page.contains("&lt;script&gt;alert(1)&lt;/script&gt;&#123;&#123;slug}}"),
        "{page}"
    );
    assert!(!page.contains("<script>alert"), "{page}");
}

#[test]
fn another_user_of_this_machine_does_not_see_what_an_app_prints() {
    let world = World::new().add_routes(&[]);
    let text = "#!/bin/sh\necho the password of the hut\nexit 1\n";
    let printing = script(&world, "huts/run", text);
    super::add(&world, "huts", &printing, &[]);
    let _ = world.run(&["app", "start", "huts"]);
    let own = ask(&world, "/").stdout;
    assert!(own.contains("the password of the hut"), "{own}");
    let https = world.address("https").port();
    let news = "https://huts.moor.test/.well-known/bentlane/app";
    for url in ["https://huts.moor.test/", news] {
        let to_us = format!("::127.0.0.1:{https}");
        let curl = [
            "curl",
            "-sk",
            "--max-time",
            "20",
            "--connect-to",
            &to_us,
            url,
        ];
        let other = ["--reuid=65534", "--clear-groups"];
        let seen = bentlane_tests::run("setpriv", &[&other[..], &curl].concat());
        assert!(seen.stdout.contains("crashed with exit code 1"), "{seen:?}");
        assert!(!seen.stdout.contains("password"), "{seen:?}");
    }
}
