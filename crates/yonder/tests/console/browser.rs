//! A browser with a driver of its own.

use std::net::TcpListener;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::elements::Element;
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};
use tokio::sync::{Semaphore, SemaphorePermit};

use crate::support;

/// Debian's driver of its own browser.
const DRIVER: &str = "/usr/bin/chromedriver";

/// Process of a driver, which is killed when it is dropped, with its browser: that ends when its debugging pipe is closed.
struct Driver(Child);

impl Drop for Driver {
    fn drop(&mut self) {
        self.0.kill().unwrap();
        self.0.wait().unwrap();
    }
}

/// A browser with a driver of its own.
pub(crate) struct Browser {
    _driver: Driver,
    /// Address of the driver.
    address: String,
    pub(crate) client: Client,
    _permit: SemaphorePermit<'static>,
}

/// Maximum number of browsers at a time: more of them take each other's processor, and pages are measured.
static BROWSERS: Semaphore = Semaphore::const_new(2);

impl Browser {
    /// # Panics
    /// Without the packages chromium and chromium-driver.
    pub(crate) async fn start(width: u32, height: u32) -> Self {
        assert!(PathBuf::from(DRIVER).exists(), "{DRIVER} is missing: install chromium and chromium-driver");
        let permit = BROWSERS.acquire().await.unwrap();
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new(DRIVER)
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let driver = Driver(driver);
        let arguments = [
            "--remote-debugging-pipe".to_owned(),
            "--headless=new".to_owned(),
            "--no-sandbox".to_owned(),
            "--disable-gpu".to_owned(),
            "--disable-dev-shm-usage".to_owned(),
            "--disable-background-networking".to_owned(),
            "--disable-component-update".to_owned(),
            "--disable-sync".to_owned(),
            "--no-first-run".to_owned(),
            "--hide-scrollbars".to_owned(),
            format!("--window-size={width},{height}"),
        ];
        let mut capabilities = Capabilities::new();
        let options = json!({"args": arguments, "binary": "/usr/bin/chromium"});
        capabilities.insert("goog:chromeOptions".to_owned(), options);
        // The certificates of the tests are self-signed.
        capabilities.insert("acceptInsecureCerts".to_owned(), json!(true));
        // Scripts that scroll long lists take their time on a busy machine.
        capabilities.insert("timeouts".to_owned(), json!({"script": 120_000}));
        capabilities.insert("goog:loggingPrefs".to_owned(), json!({"browser": "ALL"}));
        let address = format!("http://127.0.0.1:{port}");
        let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
        let client = loop {
            let mut builder = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
            match builder.capabilities(capabilities.clone()).connect(&address).await {
                Ok(client) => break client,
                Err(error) => assert!(tokio::time::Instant::now() < deadline, "no browser: {error}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let browser = Self { _driver: driver, address, client, _permit: permit };
        browser.resize(width, height).await;
        browser
    }

    /// Makes the page so large; the window's own frame comes on top.
    pub(crate) async fn resize(&self, width: u32, height: u32) {
        self.client.set_window_size(width, height).await.unwrap();
        let inner = self.client.execute("return [innerWidth, innerHeight]", Vec::new()).await.unwrap();
        let frame = |at: usize, wanted: u32| {
            wanted.saturating_sub(u32::try_from(inner[at].as_u64().unwrap()).unwrap())
        };
        self.client.set_window_size(width + frame(0, width), height + frame(1, height)).await.unwrap();
    }

    pub(crate) async fn close(self) {
        self.client.close().await.unwrap();
    }

    pub(crate) async fn see(&self, xpath: &str) -> Element {
        let found =
            self.client.wait().at_most(support::WAIT_TIMEOUT).for_element(Locator::XPath(xpath)).await;
        match found {
            Ok(element) => element,
            Err(error) => {
                let page = self.client.find(Locator::Css("body")).await.unwrap().text().await.unwrap();
                panic!("{xpath}: {error}; the page says:\n{page}")
            }
        }
    }

    /// Clicks what is there, once it can be clicked: a menu that goes may lie over it for a moment.
    pub(crate) async fn click(&self, xpath: &str) {
        let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
        loop {
            let element = self.see(xpath).await;
            match element.click().await {
                Ok(()) => return,
                Err(error) => {
                    assert!(tokio::time::Instant::now() < deadline, "{xpath}: {error}");
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            }
        }
    }

    /// Clicks the button of that name: its text, or its label.
    pub(crate) async fn press(&self, name: &str) {
        self.click(&format!("//button[normalize-space()='{name}' or @aria-label='{name}'][not(@disabled)]"))
            .await;
    }

    /// Waits until nothing is there any more.
    pub(crate) async fn gone(&self, xpath: &str) {
        let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
        while !self.client.find_all(Locator::XPath(xpath)).await.unwrap().is_empty() {
            assert!(tokio::time::Instant::now() < deadline, "{xpath} stays");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Runs a script in the page; what it returns may be a promise.
    pub(crate) async fn run(&self, script: &str) -> Value {
        let script = format!(
            "const done = arguments[arguments.length - 1]; \
             (async () => {{ {script} }})().then(done, (error) => done({{ failed: String(error) }}))"
        );
        let value = self.client.execute_async(&script, Vec::new()).await.unwrap();
        assert!(value.get("failed").is_none(), "{script}: {value}");
        value
    }

    /// Types into the field of a label, after what it holds.
    pub(crate) async fn fill(&self, label: &str, text: &str) {
        let field = self.see(&format!("//input[@id = //label[text()='{label}']/@for]")).await;
        field.send_keys(text).await.unwrap();
    }

    /// Types into the field of a label, in place of what it holds.
    pub(crate) async fn replace(&self, label: &str, text: &str) {
        let field = self.see(&format!("//input[@id = //label[text()='{label}']/@for]")).await;
        // As a person does: everything is marked and written over.
        field.send_keys("\u{E009}a\u{E000}").await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    /// Keeps a picture, if pictures are asked for.
    pub(crate) async fn picture(&self, name: &str) {
        let Some(folder) = std::env::var_os("YONDER_SCREENSHOTS") else { return };
        // Failed requests are repeated after ten seconds.
        self.run(
            "const shown = () => [...document.querySelectorAll('[data-still]')] \
                 .filter((still) => still.getBoundingClientRect().top < innerHeight) \
                 .every((still) => still.querySelector('img')?.complete); \
             for (let tries = 0; tries < 60 && !shown(); tries++) { await new Promise((go) => setTimeout(go, 200)); }",
        )
        .await;
        let png = self.client.screenshot().await.unwrap();
        std::fs::write(PathBuf::from(folder).join(format!("{name}.png")), png).unwrap();
    }

    /// Keeps a picture that something else made.
    pub(crate) fn keep(name: &str, png: &[u8]) {
        let Some(folder) = std::env::var_os("YONDER_SCREENSHOTS") else { return };
        std::fs::write(PathBuf::from(folder).join(format!("{name}.png")), png).unwrap();
    }

    /// Chooses a theme in the menu, as a person does.
    pub(crate) async fn choose_theme(&self, theme: &str) {
        let label = if theme == "night" { "Night" } else { "Paper" };
        self.click("//header//button").await;
        self.click(&format!("//*[@role='menuitemradio'][contains(., '{label}')]")).await;
        self.see(&format!("//html[@data-theme='{theme}']")).await;
        // The menu leaves the page a moment after it is closed.
        self.gone("//*[@role='menu']").await;
    }

    /// Returns the messages of the browser console since the last call.
    pub(crate) async fn log(&self) -> Vec<Value> {
        let session = self.client.session_id().await.unwrap().unwrap();
        let url = format!("{}/session/{session}/se/log", self.address);
        let answer = tokio::task::spawn_blocking(move || {
            let request = ureq::post(url).header("Content-Type", "application/json");
            request.send(r#"{"type":"browser"}"#).unwrap().body_mut().read_to_string().unwrap()
        });
        let answer: Value = serde_json::from_str(&answer.await.unwrap()).unwrap();
        answer["value"].as_array().cloned().unwrap_or_default()
    }

    /// Returns the playback position of the live video, in seconds.
    pub(crate) async fn video_time(&self) -> f64 {
        let script = "return document.querySelector('video').currentTime";
        self.client.execute(script, Vec::new()).await.unwrap().as_f64().unwrap()
    }

    /// Waits until the live picture has gone on for some seconds.
    pub(crate) async fn see_the_picture_move(&self) {
        self.see("//*[@role='status'][text()='Live.']").await;
        let shown = self.video_time().await;
        let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
        while self.video_time().await < shown + 2.0 {
            assert!(tokio::time::Instant::now() < deadline, "the picture does not move");
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
    }

    /// Signs the first person in by the link that the service printed, with what was asked for.
    pub(crate) async fn set_up(&self, service: &support::Service, password: &str) {
        self.client.goto(&service.set_up_link()).await.unwrap();
        self.fill("Name", "night desk").await;
        self.fill("Password", password).await;
        self.press("Set up and sign in").await;
        self.see("//header").await;
    }
}
