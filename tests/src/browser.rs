use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use fantoccini::elements::Element;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;

use crate::ports::reserve_port;
use crate::process::{Background, run, run_command, wait_until};

/// How long a page may take to show what is waited for.
const PATIENCE: Duration = Duration::from_secs(30);
const LOOK_AGAIN: Duration = Duration::from_millis(50);

/// A headless browser with its own profile, that trusts a world's root.
#[derive(Debug)]
pub struct Browser {
    client: Client,
    profile: PathBuf,
    _driver: Background,
}

impl Drop for Browser {
    fn drop(&mut self) {
        // After a panic it was not closed, and it outlives the driver that started it.
        let profile = format!("user-data-dir={}", self.profile.display());
        run("pkill", &["-KILL", "-f", &profile]);
    }
}

impl Browser {
    /// Opens the browser. It keeps everything in `folder`; names below `moor.test` lead to this
    /// machine, and the certificate `root` is in its trust store.
    pub async fn open(folder: &Path, root: &Path) -> Self {
        trust(folder, root);
        let mut command = Command::new("chromedriver");
        // Given port 0, it takes a free port of IPv4 and ends when that is taken on IPv6.
        let port = reserve_port();
        command.arg(format!("--port={port}")).env("HOME", folder);
        let driver = Background::start(&mut command, folder.join("chromedriver.log"));
        wait_until("chromedriver to be ready", || {
            driver
                .output()
                .contains("started successfully")
                .then_some(())
        });
        let profile = folder.join("profile");
        let args = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
            "--host-resolver-rules=MAP *.moor.test 127.0.0.1",
            &format!("--user-data-dir={}", profile.display()),
        ];
        let capabilities =
            json!({ "goog:chromeOptions": { "args": args, "binary": "/usr/bin/chromium" } });
        let client = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        Self {
            client,
            profile,
            _driver: driver,
        }
    }

    /// What drives the browser.
    #[must_use]
    pub fn client(&self) -> &Client {
        &self.client
    }

    /// Waits for an element by CSS selector.
    pub async fn find(&self, selector: &str) -> Element {
        self.wait_for(Locator::Css(selector)).await
    }

    /// Waits for an element by XPath.
    pub async fn find_path(&self, path: &str) -> Element {
        self.wait_for(Locator::XPath(path)).await
    }

    /// Waits until no element matches a CSS selector.
    ///
    /// # Panics
    /// When one still does after half a minute.
    pub async fn gone(&self, selector: &str) {
        let start = Instant::now();
        loop {
            let left = self.client.find_all(Locator::Css(selector)).await.unwrap();
            if left.is_empty() {
                return;
            }
            assert!(start.elapsed() < PATIENCE, "{selector} is still there");
            tokio::time::sleep(LOOK_AGAIN).await;
        }
    }

    /// What the accessibility rules of axe-core (WCAG 2 A and AA, and its own of good practice) have
    /// against the page, a line for each rule.
    pub async fn accessibility_faults(&self) -> Vec<String> {
        let rules = concat!(
            env!("CARGO_MANIFEST_DIR"),
            "/../console/node_modules/axe-core/axe.min.js"
        );
        let rules = std::fs::read_to_string(rules).unwrap();
        self.client.execute(&rules, vec![]).await.unwrap();
        let script = "const done = arguments[0]; axe.run({ resultTypes: ['violations'] }).then(
            ({ violations }) => done(violations.map(({ id, help, nodes }) =>
                `${id}: ${help}: ${nodes.map((node) => node.html.slice(0, 200)).join(' ')}`)),
            (error) => done([String(error)]))";
        let faults = self.client.execute_async(script, vec![]).await.unwrap();
        serde_json::from_value(faults).unwrap()
    }

    /// Waits for an element by its visible text, within elements of one tag.
    pub async fn find_text(&self, tag: &str, text: &str) -> Element {
        let path = format!("//{tag}[normalize-space()='{text}']");
        self.wait_for(Locator::XPath(&path)).await
    }

    async fn wait_for(&self, what: Locator<'_>) -> Element {
        let found = self.client.wait().at_most(PATIENCE).for_element(what).await;
        match found {
            Ok(element) => element,
            Err(error) => {
                let body = self.client.find(Locator::Css("body")).await;
                let shown = body.unwrap().text().await.unwrap();
                panic!("{what:?}: {error}; the page shows:\n{shown}")
            }
        }
    }

    /// Closes the browser.
    pub async fn close(self) {
        self.client.clone().close().await.unwrap();
    }
}

/// Puts `root` into the store that Chromium on Linux reads.
fn trust(folder: &Path, root: &Path) {
    let store = folder.join(".pki/nssdb");
    std::fs::create_dir_all(&store).unwrap();
    let place = format!("sql:{}", store.display());
    let certutil = |args: &[&str]| {
        let run = run_command(Command::new("certutil").args(["-d", &place]).args(args));
        assert_eq!(run.code, 0, "{run:?}");
    };
    certutil(&["-N", "--empty-password"]);
    certutil(&[
        "-A",
        "-n",
        "root",
        "-t",
        "C,,",
        "-i",
        root.to_str().unwrap(),
    ]);
}
