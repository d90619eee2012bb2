//! A headless Chromium under remote control, with a profile of its own.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;
use tempfile::TempDir;

use crate::processes;
use crate::strangers;
use crate::world::{PATIENCE, project};

/// No window is narrower; below, a phone is emulated.
const NARROWEST: u32 = 500;

/// Height of a headless window that is not used for the page.
const WINDOW_FRAME: u32 = 143;

pub(crate) struct Browser {
    driver: Child,
    profile: TempDir,
    pub(crate) page: Client,
}

/// A driver and its port; none where it gave up, as it does when the port that it chose for one family of
/// addresses is taken in the other.
fn start_driver(user: Option<u32>, home: &Path) -> Option<(Child, u16)> {
    let mut driver = match user {
        Some(user) => strangers::command(user, "/usr/bin/chromedriver"),
        None => Command::new("/usr/bin/chromedriver"),
    };
    let mut driver = driver
        .env("HOME", home)
        .arg("--port=0")
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("chromedriver is installed (Debian package chromium-driver)");
    let mut lines = BufReader::new(driver.stdout.take().unwrap()).lines();
    let port = lines.find_map(|line| {
        let line = line.unwrap();
        let rest = line.split("started successfully on port ").nth(1)?.to_owned();
        rest.trim_end_matches('.').parse::<u16>().ok()
    });
    let Some(port) = port else {
        let _ = driver.wait();
        return None;
    };
    std::thread::spawn(move || lines.for_each(drop));
    Some((driver, port))
}

impl Browser {
    pub(crate) async fn open(width: u32, height: u32) -> Self {
        Self::open_as(None, width, height).await
    }

    /// A browser of another user of this machine.
    pub(crate) async fn open_as(user: Option<u32>, width: u32, height: u32) -> Self {
        let profile = tempfile::tempdir().unwrap();
        std::os::unix::fs::chown(profile.path(), user, user).unwrap();
        let (driver, port) = (0..5)
            .find_map(|_| start_driver(user, profile.path()))
            .expect("chromedriver prints its port");
        let mut capabilities = json!({"goog:chromeOptions": {
            "binary": "/usr/bin/chromium",
            "args": [
                "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                "--disable-background-networking", "--disable-component-update", "--disable-sync",
                format!("--window-size={width},{}", height + WINDOW_FRAME),
                format!("--user-data-dir={}", profile.path().display()),
            ],
        }});
        if width < NARROWEST {
            let metrics = json!({"width": width, "height": height, "pixelRatio": 2.0});
            capabilities["goog:chromeOptions"]["mobileEmulation"] =
                json!({"deviceMetrics": metrics});
        }
        let page = ClientBuilder::new(HttpConnector::new())
            .capabilities(capabilities.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("chromium starts");
        Self { driver, profile, page }
    }

    /// Waits for an element.
    pub(crate) async fn see(&self, selector: &str) -> fantoccini::elements::Element {
        let wait = self.page.wait().at_most(PATIENCE).every(Duration::from_millis(50));
        wait.for_element(Locator::Css(selector))
            .await
            .unwrap_or_else(|error| panic!("`{selector}` does not appear: {error}"))
    }

    /// Waits until the page, or a dialog or menu over it, says something. Head and foot of all pages do not count.
    pub(crate) async fn read(&self, text: &str) {
        self.read_in("main .v-container, .v-overlay--active", text).await;
    }

    /// Waits until elements say something.
    pub(crate) async fn read_in(&self, selector: &str, text: &str) {
        let deadline = tokio::time::Instant::now() + PATIENCE;
        loop {
            let mut found = Vec::new();
            for element in self.page.find_all(Locator::Css(selector)).await.unwrap_or_default() {
                // It may be gone by now.
                found.push(element.text().await.unwrap_or_default());
            }
            if found.iter().any(|found| found.contains(text)) {
                return;
            }
            let late = tokio::time::Instant::now() >= deadline;
            assert!(!late, "`{text}` does not appear in `{selector}`:\n{}", found.join("\n---\n"));
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Checks the page, or the dialog over it, against the rules of axe-core for people who use it by keyboard, by ear, or with little
    /// contrast.
    pub(crate) async fn check_access(&self, what: &str) {
        self.check_rules(what, "{}").await;
    }

    /// The same, for contrast only: what else there is to check does not depend on the theme.
    pub(crate) async fn check_contrast(&self, what: &str) {
        self.check_rules(what, "{ runOnly: ['color-contrast'] }").await;
    }

    async fn check_rules(&self, what: &str, rules: &str) {
        let axe = project("console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("axe-core is installed with the console");
        self.page.execute(&axe, vec![]).await.unwrap();
        let ask = format!(
            "const done = arguments[arguments.length - 1]
            const over = [...document.querySelectorAll('.v-overlay--active')]
            // A busy button has a name; the ring on it is an ornament.
            const context = {{ include: over.length ? over : document, exclude: ['.v-btn__loader'] }}
            const told = (node) => node.html + ' ' + node.failureSummary
            axe.run(context, {rules}).then(({{ violations }}) =>
                done(violations.map((found) => found.id + ': ' + found.nodes.map(told).join('; '))))"
        );
        let found = self.page.execute_async(&ask, vec![]).await.unwrap();
        let found: Vec<String> = serde_json::from_value(found).unwrap();
        assert!(found.is_empty(), "{what}:\n{}", found.join("\n"));
    }

    /// Clicks the button with that label inside an element.
    pub(crate) async fn press(&self, within: &str, label: &str) {
        let path = format!(
            "//*[{within}]//*[self::button or self::a][normalize-space(.)='{label}' or @aria-label='{label}']"
        );
        let wait = self.page.wait().at_most(PATIENCE).every(Duration::from_millis(50));
        let button = wait.for_element(Locator::XPath(&path)).await;
        let button = button.unwrap_or_else(|error| panic!("no `{label}` in `{within}`: {error}"));
        button.click().await.unwrap();
    }

    /// Clicks the entry of an open menu.
    pub(crate) async fn press_item(&self, label: &str) {
        let path = format!("//*[contains(@class,'v-list-item')][normalize-space(.)='{label}']");
        let wait = self.page.wait().at_most(PATIENCE).every(Duration::from_millis(50));
        let item = wait.for_element(Locator::XPath(&path)).await;
        let item = item.unwrap_or_else(|error| panic!("no `{label}` in a menu: {error}"));
        // Menus open with a movement: it is clicked where it stays.
        let mut before = None;
        until_async("the menu stands still", async || {
            let now = item.rectangle().await.ok();
            let is_still = now.is_some() && now == before;
            before = now;
            is_still
        })
        .await;
        item.click().await.unwrap();
    }

    /// Saves a picture, if `DEFT_PICTURES` names a folder.
    pub(crate) async fn picture(&self, name: &str) {
        if let Some(folder) = std::env::var_os("DEFT_PICTURES") {
            tokio::time::sleep(Duration::from_millis(600)).await;
            let picture = self.page.screenshot().await.unwrap();
            std::fs::write(std::path::Path::new(&folder).join(format!("{name}.png")), picture)
                .unwrap();
        }
    }
}

/// Asks again and again until it is so.
async fn until_async(what: &str, mut is_so: impl AsyncFnMut() -> bool) {
    let deadline = tokio::time::Instant::now() + PATIENCE;
    while !is_so().await {
        assert!(tokio::time::Instant::now() < deadline, "{what}: not within {PATIENCE:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        // After a failed test the page is still open, and the browser outlives its driver.
        for (browser, _) in processes::of_folder(self.profile.path()) {
            processes::end(browser);
        }
    }
}
