//! Headless Chromium, driven through ChromeDriver.

use std::{
    net::TcpListener,
    os::unix::process::CommandExt,
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};

use fantoccini::{Client, ClientBuilder, Locator, elements::Element, error::CmdError};
use serde_json::json;

use super::{need, wait_for};

/// Longest wait for something to appear.
const PATIENCE: Duration = Duration::from_secs(20);

/// A browser window, closed with the value.
pub struct Browser {
    pub client: Client,
    driver: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Opens a window of this size.
    pub async fn open(width: u32, height: u32, dark: bool) -> Self {
        let chromium = need("/usr/bin/chromium", "chromium");
        let driver = need("/usr/bin/chromedriver", "chromium-driver");
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new(driver)
            .arg(format!("--port={port}"))
            .process_group(0)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        wait_for("ChromeDriver", PATIENCE, || std::net::TcpStream::connect(("127.0.0.1", port)).ok());
        let profile = tempfile::tempdir().unwrap();
        let mut arguments: Vec<String> = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--no-proxy-server",
        ]
        .map(String::from)
        .into();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
        arguments.push(format!("--window-size={width},{height}"));
        let capabilities = json!({ "goog:chromeOptions": { "binary": chromium, "args": arguments } });
        let client = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        let browser = Self { client, driver, _profile: profile };
        // Headless windows have a frame that the given size includes; the page itself is what matters.
        browser
            .cdp(
                "Emulation.setDeviceMetricsOverride",
                json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500 }),
            )
            .await;
        let scheme = if dark { "dark" } else { "light" };
        let features = json!({ "features": [{ "name": "prefers-color-scheme", "value": scheme }] });
        browser.cdp("Emulation.setEmulatedMedia", features).await;
        browser
    }

    async fn cdp(&self, command: &str, parameters: serde_json::Value) {
        let call = Cdp { command: command.into(), parameters };
        self.client.issue_cmd(call).await.unwrap();
    }

    pub async fn go(&self, url: &str) {
        self.client.goto(url).await.unwrap();
    }

    /// The text of the whole page.
    pub async fn text(&self) -> String {
        self.client.find(Locator::Css("body")).await.unwrap().text().await.unwrap()
    }

    /// Waits until the page's text holds `text`.
    pub async fn wait_for_text(&self, text: &str) {
        let end = std::time::Instant::now() + PATIENCE;
        loop {
            let page = self.text().await;
            if page.contains(text) {
                return;
            }
            assert!(std::time::Instant::now() < end, "the page never said {text:?}; it says\n{page}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Waits until the element that `css` finds has a text that holds `text`.
    pub async fn wait_for_text_in(&self, css: &str, text: &str) {
        let end = std::time::Instant::now() + PATIENCE;
        loop {
            let found = self.texts(css).await;
            if found.iter().any(|found| found.contains(text)) {
                return;
            }
            assert!(std::time::Instant::now() < end, "{css} never said {text:?}; it says {found:#?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Waits until the elements that `css` finds have exactly these texts.
    pub async fn wait_for_texts(&self, css: &str, expected: &[&str]) {
        let end = std::time::Instant::now() + PATIENCE;
        loop {
            let found = self.texts(css).await;
            if found == expected {
                return;
            }
            assert!(std::time::Instant::now() < end, "{css} has {found:#?}, not {expected:#?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Does something to the element that `css` finds. One that is just being drawn, or is drawn anew in another place, is
    /// waited for as a person waits for it.
    async fn act<T, F>(&self, css: &str, act: impl Fn(Element) -> F) -> T
    where
        F: Future<Output = Result<T, CmdError>>,
    {
        self.act_on(Locator::Css(css), css, act).await
    }

    async fn act_on<T, F>(&self, place: Locator<'_>, css: &str, act: impl Fn(Element) -> F) -> T
    where
        F: Future<Output = Result<T, CmdError>>,
    {
        let end = std::time::Instant::now() + PATIENCE;
        loop {
            let wait = self.client.wait().at_most(PATIENCE);
            let element = wait.for_element(place).await.unwrap_or_else(|error| panic!("{css}: {error}"));
            match act(element).await {
                Err(error)
                    if (error.is_stale_element_reference()
                        || error.is_element_not_interactable()
                        || error.is_no_such_element())
                        && std::time::Instant::now() < end =>
                {
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                Err(error) => panic!("{css}: {error}"),
                Ok(done) => return done,
            }
        }
    }

    /// Clicks an element.
    pub async fn click(&self, css: &str) {
        self.act(css, |element| async move { element.click().await }).await;
    }

    /// Presses the button that says `name`, inside what has that label: a dialog, a toolbar, a form.
    pub async fn press(&self, within: &str, name: &str) {
        let path = format!("//*[@aria-label='{within}']//button[normalize-space()='{name}'][not(@disabled)]");
        self.act_on(Locator::XPath(&path), &path, |element| async move { element.click().await }).await;
    }

    /// Presses the button of the page that says `name`.
    pub async fn press_button(&self, name: &str) {
        let path = format!("//button[normalize-space()='{name}'][not(@disabled)]");
        self.act_on(Locator::XPath(&path), &path, |element| async move { element.click().await }).await;
    }

    /// Sends keys to whatever has the focus.
    pub async fn keys(&self, keys: &str) {
        let element = self.client.active_element().await.unwrap();
        element.send_keys(keys).await.unwrap();
    }

    /// Has files that the page gives out saved in that folder.
    pub async fn save_downloads(&self, folder: &Path) {
        let parameters = json!({ "behavior": "allow", "downloadPath": folder });
        self.cdp("Page.setDownloadBehavior", parameters).await;
    }

    /// Writes into a field in the place of what was there.
    pub async fn fill(&self, css: &str, text: &str) {
        // All of it is marked, then typed over, as a person does.
        self.type_into(css, &format!("\u{e009}a\u{e000}{text}")).await;
    }

    /// Types into a field, or gives files to one that takes files.
    pub async fn type_into(&self, css: &str, keys: &str) {
        self.act(css, |field| {
            let keys = keys.to_owned();
            async move { field.send_keys(&keys).await }
        })
        .await;
    }

    /// Chooses a value of a list, as a person does by its keyboard.
    pub async fn choose(&self, css: &str, value: &str) {
        self.act(css, |list| {
            let value = value.to_owned();
            async move { list.select_by_value(&value).await }
        })
        .await;
    }

    /// Waits until the page's text does not hold `text` any more.
    pub async fn wait_for_no_text(&self, text: &str) {
        let end = std::time::Instant::now() + PATIENCE;
        while self.text().await.contains(text) {
            assert!(std::time::Instant::now() < end, "the page goes on to say {text:?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// Follows a link by the keyboard: a row of a live list may move from under a pointer.
    pub async fn follow(&self, css: &str) {
        self.type_into(css, "\u{e007}").await;
    }

    /// The texts of all elements that fit.
    pub async fn texts(&self, css: &str) -> Vec<String> {
        // Read in one go: one after the other, rows would be read that are drawn anew between.
        let read = "return [...document.querySelectorAll(arguments[0])]
            .map((one) => (one.checkVisibility() ? one.innerText.trim() : ''))";
        let texts = self.client.execute(read, vec![css.into()]).await.unwrap();
        serde_json::from_value(texts).unwrap()
    }

    /// Opens a page, and holds it to the window's width: nothing scrolls sideways.
    pub async fn fits(&self, url: &str) {
        self.go(url).await;
        let wait = self.client.wait().at_most(PATIENCE);
        wait.for_element(Locator::Css("main h1"))
            .await
            .unwrap_or_else(|error| panic!("{url} has no heading: {error}"));
        // What is asked for comes after the heading.
        let end = std::time::Instant::now() + PATIENCE;
        while !self.client.find_all(Locator::Css("[aria-label=Loading]")).await.unwrap().is_empty() {
            assert!(std::time::Instant::now() < end, "{url} is still loading");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let widths = "return [document.documentElement.scrollWidth, window.innerWidth]";
        let widths = self.client.execute(widths, vec![]).await.unwrap();
        assert!(widths[0].as_u64() <= widths[1].as_u64(), "{url} scrolls sideways: {widths}");
    }

    /// Writes a picture of the window to `docs/screenshots/`, where pictures are asked for.
    pub async fn picture(&self, name: &str) {
        if let Some(folder) = std::env::var_os("LASTMILE_SCREENSHOTS") {
            let png = self.client.screenshot().await.unwrap();
            std::fs::write(Path::new(&folder).join(name), png).unwrap();
        }
    }

    pub async fn close(self) {
        self.client.clone().close().await.unwrap();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // With the browser that it started, which a test that failed did not close.
        let group = format!("-{}", self.driver.id());
        let _ = Command::new("kill").args(["-s", "KILL", "--", &group]).status();
        let _ = self.driver.wait();
    }
}

/// A command of Chromium's own protocol, through ChromeDriver.
#[derive(Debug)]
struct Cdp {
    command: String,
    parameters: serde_json::Value,
}

impl fantoccini::wd::WebDriverCompatibleCommand for Cdp {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        let body = json!({ "cmd": self.command, "params": self.parameters });
        (http::Method::POST, Some(body.to_string()))
    }
}
