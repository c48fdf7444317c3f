//! The console in headless Chromium with a thousand routes: how soon its first view is there, and how long
//! a filter takes.

use std::path::Path;
use std::process::Command;

use bentlane_tests::Browser;
use serde_json::Value;
use tokio::runtime::Runtime;

use crate::measure::{Aim, Report, Scale};
use crate::subject::{ROUTES, Subject};

/// From the start of the navigation to the largest thing that is drawn, which is the list.
const FIRST_VIEW: &str = "
    const done = arguments[0];
    const read = () => new PerformanceObserver((entries) => {
        const last = entries.getEntries().at(-1);
        done(last.startTime);
    }).observe({ type: 'largest-contentful-paint', buffered: true });
    const wait = () => (document.querySelector('[data-row]') ? setTimeout(read, 300) : setTimeout(wait, 20));
    wait();";

/// From a text in the filter to the frame in which the list has only what matches.
const FILTER: &str = "
    const [text, count, done] = arguments;
    const field = document.querySelector('[data-filter]');
    const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
    const begun = performance.now();
    set.call(field, text);
    field.dispatchEvent(new Event('input', { bubbles: true }));
    const wait = () => {
        const is = document.querySelector('[aria-setsize]')?.getAttribute('aria-setsize') === String(count);
        if (is) requestAnimationFrame(() => done(performance.now() - begun));
        else requestAnimationFrame(wait);
    };
    requestAnimationFrame(wait);";

/// The longest time between two frames while the list scrolls from end to end.
const SCROLL: &str = "
    const done = arguments[0];
    const height = document.body.scrollHeight - innerHeight;
    let step = 0;
    let last = performance.now();
    let longest = 0;
    const next = () => {
        const now = performance.now();
        longest = Math.max(longest, now - last);
        last = now;
        step += 1;
        if (step > 60) { done(longest); return; }
        scrollTo(0, (height * step) / 60);
        requestAnimationFrame(next);
    };
    requestAnimationFrame(next);";

pub(crate) fn measure(
    bentlane: &Path,
    folder: &Path,
    upstream: std::net::SocketAddr,
    target: &str,
    scale: Scale,
    report: &mut Report,
) {
    let subject = Subject::start(bentlane, &folder.join("console"), upstream);
    subject.fill(ROUTES, target);
    subject.check_all();
    let link = Command::new(bentlane)
        .args(["console", "--print", "--data-dir"])
        .arg(folder.join("console"))
        .output()
        .unwrap();
    let link = String::from_utf8(link.stdout).unwrap();
    let (mut views, mut filters, mut frames) = (Vec::new(), Vec::new(), Vec::new());
    Runtime::new().unwrap().block_on(async {
        let home = folder.join("browser");
        std::fs::create_dir(&home).unwrap();
        let browser = Browser::open(&home, &subject.root()).await;
        let client = browser.client();
        client.goto(link.trim()).await.unwrap();
        browser.find("[data-row]").await;
        let number = |value: Value| value.as_f64().unwrap();
        for _ in 0..scale.rounds {
            client.refresh().await.unwrap();
            views.push(number(
                client.execute_async(FIRST_VIEW, vec![]).await.unwrap(),
            ));
            for (text, count) in [("n1", 111), ("n12", 11), ("", ROUTES)] {
                let args = vec![text.into(), count.into()];
                filters.push(number(client.execute_async(FILTER, args).await.unwrap()));
            }
            frames.push(number(client.execute_async(SCROLL, vec![]).await.unwrap()));
            client.execute("scrollTo(0, 0)", vec![]).await.unwrap();
        }
        browser.close().await;
    });
    report.alone(
        "console: first view of 1,000 routes",
        "ms",
        views,
        Aim::AtMost(300.0),
    );
    report.alone(
        "console: filter over 1,000 routes",
        "ms",
        filters,
        Aim::AtMost(100.0),
    );
    report.alone(
        "console: longest frame while scrolling",
        "ms",
        frames,
        Aim::AtMost(100.0),
    );
}
