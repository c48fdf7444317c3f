//! The console in a real browser.

mod accessibility;
mod certificates;
mod journal;
mod keyboard;
mod live;
mod many;
mod names;
mod routes;
mod running;
mod sign_in;
mod system;
mod traffic;

use bentlane_tests::{Browser, World};
use fantoccini::elements::Element;
use fantoccini::key::Key;

/// A console that is signed in to the service of a world.
struct Console {
    browser: Browser,
    origin: String,
}

impl Console {
    async fn open(world: &World) -> Self {
        let browser = Browser::open(&world.path(""), &world.root()).await;
        let link = world.sign_in_link();
        browser.client().goto(&link).await.unwrap();
        let (origin, _) = link.split_once("/#").unwrap();
        let console = Self {
            browser,
            origin: origin.to_owned(),
        };
        console.browser.find("nav[aria-label=Pages]").await;
        console
    }

    /// Goes to a place of the console by its address.
    async fn go(&self, hash: &str) {
        let url = format!("{}/{hash}", self.origin);
        self.browser.client().goto(&url).await.unwrap();
    }

    async fn find(&self, selector: &str) -> Element {
        self.browser.find(selector).await
    }

    /// Waits for an element of any kind whose own text is this.
    async fn see(&self, text: &str) -> Element {
        let path = format!(
            "//body//*[not(self::script)][normalize-space()=\"{text}\"][not(*[normalize-space()=\"{text}\"])]"
        );
        self.browser.find_path(&path).await
    }

    async fn click(&self, selector: &str) {
        self.find(selector).await.click().await.unwrap();
    }

    /// Clicks the button with this text.
    async fn press_button(&self, text: &str) {
        let button = self.browser.find_text("button", text).await;
        button.click().await.unwrap();
    }

    /// Waits for the message that something was done, and undoes it.
    async fn undo(&self, done: &str) {
        let path = format!("//li[contains(., \"{done}\")]//button[normalize-space()='Undo']");
        self.browser.find_path(&path).await.click().await.unwrap();
    }

    /// Chooses an item of the menu that is open.
    async fn choose(&self, item: &str) {
        let path = format!("//*[@role='menuitem'][starts-with(normalize-space(), '{item}')]");
        self.browser.find_path(&path).await.click().await.unwrap();
    }

    /// Waits until nothing matches any more.
    async fn gone(&self, selector: &str) {
        self.browser.gone(selector).await;
    }

    /// Types, wherever the focus is.
    async fn keys(&self, keys: &str) {
        let active = self.browser.client().active_element().await.unwrap();
        active.send_keys(keys).await.unwrap();
    }

    async fn key(&self, key: Key) {
        self.keys(&char::from(key).to_string()).await;
    }

    /// Presses Tab until something that matches has the focus.
    async fn tab_to(&self, selector: &str) {
        for _ in 0..80 {
            let script = format!("return document.activeElement.matches(`{selector}`)");
            let there = self.browser.client().execute(&script, vec![]);
            if there.await.unwrap() == true {
                return;
            }
            self.key(Key::Tab).await;
        }
        panic!("Tab does not lead to {selector}");
    }

    /// Goes somewhere, or does something, by the palette.
    async fn palette(&self, text: &str) {
        let (control, release) = (char::from(Key::Control), char::from(Key::Null));
        self.keys(&format!("{control}k{release}")).await;
        self.find("[role=combobox][aria-controls]").await;
        self.keys(text).await;
        self.find("[role=option][aria-selected=true]").await;
        self.key(Key::Enter).await;
    }

    /// What is in the page's address behind `#`.
    async fn place(&self) -> String {
        let url = self.browser.client().current_url().await.unwrap();
        url.fragment().unwrap_or_default().to_owned()
    }

    async fn count(&self, selector: &str) -> usize {
        let all = fantoccini::Locator::Css(selector);
        self.browser.client().find_all(all).await.unwrap().len()
    }

    async fn close(self) {
        self.browser.close().await;
    }
}

/// Adds an app `huts` without a route, which the command starts.
fn add_huts(world: &World, command: &str) {
    let folder = world.path("huts");
    std::fs::create_dir(&folder).unwrap();
    let folder = folder.to_str().unwrap();
    let args = [
        "app",
        "add",
        "huts",
        "--folder",
        folder,
        "--command",
        command,
    ];
    world.ok(&[&args[..], &["--yes"]].concat());
}

/// The keys that replace what is in a field by `text`.
fn retyped(text: &str) -> String {
    let (control, release) = (char::from(Key::Control), char::from(Key::Null));
    format!("{control}a{release}{text}")
}
