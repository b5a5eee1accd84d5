//! Each page on the demonstration's data, in a good and in a bad hour: by day and by night, wide and narrow; without
//! complaint from the browser, from the content policy, or from a checker of accessibility.

use std::io::{BufRead as _, BufReader, Lines};
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};
use tempfile::TempDir;

use crate::browser::Browser;
use crate::support::{self, Service, World};

/// Address, what is there once it is drawn, and the name of its picture.
const PAGES: [(&str, &str, &str); 15] = [
    ("/", "//article[@aria-label='Viaduct']", "lines"),
    ("/relays/Summit%20Station", "//section[@aria-label='Recent entries']//li", "relay"),
    ("/new", "//*[@role='tab'][text()='Search']", "new-relay"),
    ("/feeds", "//ul[@aria-label='Feeds']/li", "feeds"),
    ("/feeds/Summit%20Station", "//section[@aria-label='Survey']", "feed"),
    ("/find", "//button[text()='Search']", "find"),
    ("/patterns", "//section[@aria-label='Cairn recorder']", "patterns"),
    ("/destinations", "//section[@aria-label='Marrow Hall Viaduct']", "destinations"),
    ("/signposts", "//section[@aria-label='summit']", "signposts"),
    ("/platforms", "//section[@aria-label='Thistle Stage']", "platforms"),
    ("/budget", "//section[@aria-label='Capacity']//td", "budget"),
    ("/logbook", "//section[@aria-label='Lines']//li", "logbook"),
    ("/report", "//section[@aria-label='Availability']//td", "report"),
    ("/settings/people", "//section[@aria-label='People']//li", "settings"),
    ("/settings/care", "//section[@aria-label='Health']//li", "care"),
];
/// Pages whose pictures are kept, by day and wide, unless said otherwise.
const KEPT: [&str; 10] = [
    "relay",
    "new-relay",
    "feeds",
    "destinations",
    "signposts",
    "platforms",
    "budget",
    "logbook",
    "report",
    "settings",
];

/// The demonstration, running.
pub(crate) struct Demo {
    child: Child,
    pub(crate) url: String,
    password: String,
    _home: TempDir,
    _rest: Lines<BufReader<ChildStdout>>,
}

impl Demo {
    pub(crate) async fn start(arguments: &[&str]) -> Self {
        let home = tempfile::tempdir().unwrap();
        #[expect(clippy::zombie_processes, reason = "it is waited for when the demonstration is dropped")]
        let mut child = Command::new(support::program())
            .args(["demo", "--listen", "127.0.0.1:0", "--home"])
            .arg(home.path())
            .args(arguments)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let out = child.stdout.take().unwrap();
        tokio::task::spawn_blocking(move || {
            let mut lines = BufReader::new(out).lines();
            let mut url = String::new();
            loop {
                let line = lines.next().unwrap().unwrap();
                if let Some(found) = line.trim().strip_prefix("Console") {
                    found.trim().clone_into(&mut url);
                }
                if let Some((_, password)) = line.split_once("password `") {
                    let password = password.trim_end_matches('`').to_owned();
                    return Self { child, url, password, _home: home, _rest: lines };
                }
            }
        })
        .await
        .unwrap()
    }

    pub(crate) async fn sign_in(&self, browser: &Browser) {
        browser.client.goto(&self.url).await.unwrap();
        browser.see("//h1[text()='Sign in']").await;
        browser.check_accessibility("sign-in").await;
        browser.fill("Name", "night desk").await;
        browser.fill("Password", &self.password).await;
        browser.press("Sign in").await;
        browser.see("//header").await;
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

impl Browser {
    /// Has the page looked at by axe-core; what it calls serious or critical fails.
    pub(crate) async fn check_accessibility(&self, name: &str) {
        let axe =
            Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(&axe).unwrap_or_else(|error| panic!("{}: {error}", axe.display()));
        self.client.execute(&axe, Vec::new()).await.unwrap();
        let found = self
            .run(
                "const tags = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'];
                 const { violations } = await axe.run(document, { runOnly: tags });
                 return violations
                     .filter(({ impact }) => impact === 'serious' || impact === 'critical')
                     .map(({ id, nodes }) => [id, nodes.slice(0, 3).map(({ html, failureSummary }) => [html.slice(0, 200), failureSummary])]);",
            )
            .await;
        assert_eq!(found, json!([]), "{name}: {found:#}");
    }

    /// The page is not wider than its window.
    async fn check_width(&self, name: &str) {
        let over = self.run("return document.documentElement.scrollWidth - innerWidth").await;
        assert!(over.as_i64().unwrap() <= 0, "{name} is {over} wider than the window");
    }

    /// Nothing came from elsewhere, and the browser complained of nothing but being signed out at first.
    async fn check_complaints(&self, url: &str) {
        let names =
            self.run("return performance.getEntriesByType('resource').map((entry) => entry.name)").await;
        for resource in names.as_array().unwrap() {
            assert!(resource.as_str().unwrap().starts_with(url), "{resource} comes from elsewhere");
        }
        let complaints: Vec<Value> = self.log().await;
        let grave = complaints.iter().filter(|line| line["level"] == "SEVERE").filter(|line| {
            let text = line["message"].as_str().unwrap_or_default();
            !text.contains("401") && !text.contains("still.jpg")
        });
        assert_eq!(grave.collect::<Vec<_>>(), Vec::<&Value>::new());
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn all_pages_render_without_faults() {
    let browser = Browser::start(1280, 800).await;
    let demo = Demo::start(&[]).await;
    demo.sign_in(&browser).await;
    browser.see("//h1[text()='All lines are up']").await;
    if std::env::var_os("YONDER_SCREENSHOTS").is_some() {
        // Rates and ages worth looking at.
        tokio::time::sleep(Duration::from_secs(75)).await;
    }
    for (theme, width, height) in
        [("night", 1280, 800), ("paper", 1280, 800), ("paper", 390, 844), ("night", 360, 740)]
    {
        browser.resize(width, height).await;
        browser.client.goto(&demo.url).await.unwrap();
        browser.see("//header").await;
        browser.choose_theme(theme).await;
        for (address, seen, name) in PAGES {
            browser.client.goto(&format!("{}{address}", demo.url)).await.unwrap();
            browser.see(seen).await;
            let page = format!("{name}, {theme}, {width}");
            browser.check_accessibility(&page).await;
            browser.check_width(&page).await;
            match (name, theme, width) {
                ("lines", "paper", 1280) => browser.picture("lines-paper").await,
                (name, "paper", 1280) if KEPT.contains(&name) => browser.picture(name).await,
                _ => {}
            }
        }
    }
    browser.check_complaints(&demo.url).await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn faults_are_shown_on_a_phone_in_the_dark_theme() {
    let browser = Browser::start(390, 844).await;
    let demo = Demo::start(&["--with-faults", "--light"]).await;
    demo.sign_in(&browser).await;
    browser.choose_theme("night").await;
    browser.see("//h1[text()='Three lines need attention']").await;
    browser.see("//article[@aria-label='Engine Shed'][contains(., 'push.key-refused')]").await;
    browser
        .see("//article[@aria-label='Viaduct'][.//span[text()='holding']][contains(., 'Camera side.')]")
        .await;
    browser.see("//article[@aria-label='Summit Station'][contains(., 'push.too-slow')]").await;
    browser.check_accessibility("lines in a bad hour").await;
    browser.check_width("lines in a bad hour").await;
    browser.picture("lines-phone").await;
    for relay in ["Viaduct", "Engine%20Shed", "Summit%20Station"] {
        browser.client.goto(&format!("{}/relays/{relay}", demo.url)).await.unwrap();
        browser.see("//section[@aria-label='Recent entries']//li").await;
        browser.check_accessibility(relay).await;
        browser.check_width(relay).await;
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_survey_lays_main_and_sub_side_by_side() {
    let browser = Browser::start(1280, 1240).await;
    let demo = Demo::start(&["--light"]).await;
    demo.sign_in(&browser).await;
    browser.client.goto(&format!("{}/feeds/Summit%20Station", demo.url)).await.unwrap();
    browser.press("Run survey").await;
    browser.see("//section[@aria-label='Advice']").await;
    browser.see("//section[@aria-label='main stream'][.//img][contains(., '1280×720')]").await;
    browser.see("//section[@aria-label='sub stream'][.//img][contains(., '640×360')]").await;
    browser.check_accessibility("survey").await;
    browser.picture("survey").await;
    // It is there again after a reload.
    browser.client.refresh().await.unwrap();
    browser.see("//section[@aria-label='sub stream'][contains(., '640×360')]").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn encoder_is_connected_from_the_page_of_its_feed() {
    let browser = Browser::start(1280, 800).await;
    let demo = Demo::start(&["--light"]).await;
    demo.sign_in(&browser).await;
    browser.client.goto(&format!("{}/feeds/Bandstand", demo.url)).await.unwrap();
    browser.see("//section[@aria-label='Encoder'][contains(., 'RTMP')][contains(., '127.0.0.1:')]").await;
    browser.press("Connect an encoder").await;
    browser.press("Reveal server and key").await;
    browser.see("//output[@aria-label='Server'][contains(., 'rtmp://127.0.0.1:')]").await;
    browser.see("//*[local-name()='title'][contains(., 'QR code')]").await;
    browser.check_accessibility("encoder access").await;
    browser.picture("encoder").await;
    browser.resize(390, 844).await;
    browser.check_width("encoder access on a phone").await;
    browser.check_accessibility("encoder access on a phone").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lost_service_is_shown_and_missed_events_are_loaded() {
    let browser = Browser::start(1280, 800).await;
    let (mut service, world) =
        tokio::task::spawn_blocking(|| (Service::start(), World::start())).await.unwrap();
    browser.set_up(&service, crate::PASSWORD).await;
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    browser.see("//article[@aria-label='Line']//li[@aria-label='Bramble'][.//span[text()='live']]").await;
    let address = service.url().trim_start_matches("http://").to_owned();
    service.kill();
    browser.see("//*[@role='alert'][contains(., 'No connection to the service.')]").await;
    service.start_again_at(&address);
    service.must(&["relay", "add", "Second", "--feed", "Viaduct", "--to", "Bramble"], "");
    browser.see("//article[@aria-label='Second']").await;
    browser.gone("//*[@role='alert'][contains(., 'No connection to the service.')]").await;
    browser.see("//article[@aria-label='Line']//li[@aria-label='Bramble'][.//span[text()='live']]").await;
    browser.close().await;
    drop((service, world));
}
