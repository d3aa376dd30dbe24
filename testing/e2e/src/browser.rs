//! Chromium without a window, driven through ChromeDriver (W3C WebDriver).

use std::path::Path;
use std::process::Command;
use std::time::Duration;

use fantoccini::elements::Element;
use fantoccini::{Client, ClientBuilder, Locator};
use kanzlei_harness::ports;
use kanzlei_harness::process::Process;
use kanzlei_harness::wait::Deadline;

/// How long an element or a text may take to appear.
pub const PATIENCE: Duration = Duration::from_secs(15);

/// A browser with its driver; both end with it.
pub struct Browser {
    pub client: Client,
    _driver: Process,
    profile: std::path::PathBuf,
}

impl Browser {
    pub async fn start(dir: &Path) -> Self {
        std::fs::create_dir_all(dir).expect("folder");
        let port = ports::free().expect("port");
        let mut command = Command::new("/usr/bin/chromedriver");
        command.arg(format!("--port={port}"));
        let mut driver = Process::start("ChromeDriver", command, &dir.join("chromedriver.log"))
            .expect("ChromeDriver; is chromium-driver installed?");
        driver
            .wait_for(Duration::from_secs(20), || std::net::TcpStream::connect(("127.0.0.1", port)).ok())
            .expect("ChromeDriver is ready");
        let profile = dir.join(format!("profile-{port}"));
        let args = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-dev-shm-usage",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--force-prefers-reduced-motion",
            "--window-size=1280,800",
        ];
        let mut args: Vec<String> = args.map(str::to_owned).to_vec();
        args.push(format!("--user-data-dir={}", profile.display()));
        let capabilities = serde_json::json!({"goog:chromeOptions": {"args": args}, "goog:loggingPrefs": {"browser": "ALL", "performance": "ALL"}});
        let serde_json::Value::Object(capabilities) = capabilities else { unreachable!() };
        let client = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("Chromium starts");
        // The window is higher than the page it shows, which is 800.
        client.set_window_size(1280, 943).await.expect("size");
        Browser { client, _driver: driver, profile }
    }

    pub async fn goto(&self, url: &str) {
        self.client.goto(url).await.expect("page");
    }

    /// Waits for an element.
    pub async fn find(&self, css: &str) -> fantoccini::elements::Element {
        let end = Deadline::after(PATIENCE);
        loop {
            match self.client.find(Locator::Css(css)).await {
                Ok(element) => return element,
                Err(error) if end.is_over() => panic!("no {css}: {error}; the page says: {}", self.text().await),
                Err(_) => tokio::time::sleep(Duration::from_millis(30)).await,
            }
        }
    }

    /// Whether an element stays where it is for two frames: what moves while it is pressed is not pressed.
    pub async fn is_still(&self, element: &Element) -> bool {
        let script = "const [element, done] = arguments;
            const place = () => JSON.stringify(element.getBoundingClientRect());
            const first = place();
            requestAnimationFrame(() => requestAnimationFrame(() => done(first === place())));";
        let element = serde_json::to_value(element).unwrap_or_default();
        matches!(self.client.execute_async(script, vec![element]).await, Ok(serde_json::Value::Bool(true)))
    }

    /// Waits for a button or a link with this text below what an XPath means, and presses it.
    pub async fn press(&self, within: &str, label: &str) {
        let path = format!("{within}//*[self::button or self::a][normalize-space()=\"{label}\" and not(@disabled)]");
        let end = Deadline::after(PATIENCE);
        loop {
            // Drawn anew meanwhile: what was found may be gone.
            for button in self.client.find_all(Locator::XPath(&path)).await.unwrap_or_default() {
                let ready = button.is_displayed().await.unwrap_or(false) && self.is_still(&button).await;
                if ready && button.click().await.is_ok() {
                    return;
                }
            }
            assert!(!end.is_over(), "no button or link {label:?} in {within}; the page says: {}", self.text().await);
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
    }

    /// Waits until the page shows a text.
    pub async fn see(&self, wanted: &str) {
        let end = Deadline::after(PATIENCE);
        loop {
            let text = self.text().await;
            if text.contains(wanted) {
                return;
            }
            assert!(!end.is_over(), "the page does not show {wanted:?}; it says: {text}");
            tokio::time::sleep(Duration::from_millis(30)).await;
        }
    }

    pub async fn text(&self) -> String {
        let text = self.client.execute("return document.body ? document.body.innerText : ''", vec![]).await;
        text.ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
    }

    /// Signs in to the console with a token.
    pub async fn sign_in(&self, control: &str, token: &str) {
        self.goto(control).await;
        self.find("#token").await.send_keys(token).await.expect("typing");
        self.find("form button[type=submit]").await.click().await.expect("click");
        self.find("nav[aria-label=Main]").await;
    }

    pub async fn picture(&self, file: &Path) {
        // Fonts and transitions are part of the picture.
        let _ = self
            .client
            .execute_async("const done = arguments[0]; document.fonts.ready.then(() => setTimeout(done, 250))", vec![])
            .await;
        let png = self.client.screenshot().await.expect("picture");
        std::fs::write(file, png).expect("file");
    }

    /// Addresses of all requests that the browser made since the last call.
    pub async fn requests(&self) -> Vec<String> {
        let script = "return performance.getEntriesByType('resource').map(e => e.name).concat([location.href])";
        let list = self.client.execute(script, vec![]).await.expect("script");
        list.as_array().into_iter().flatten().filter_map(|v| v.as_str().map(str::to_owned)).collect()
    }

    pub async fn close(self) {
        let _ = self.client.close().await;
        let _ = std::fs::remove_dir_all(&self.profile);
    }
}
