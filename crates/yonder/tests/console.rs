//! The console in headless Chromium, driven by `WebDriver`.
//!
//! Needs Debian's packages `chromium` and `chromium-driver`; where they are missing the tests say so and pass.
//! With `YONDER_SCREENSHOTS` naming a folder, pictures of each page are kept there.

#![expect(clippy::unwrap_used, reason = "a test ends where something unexpected happens")]

mod support;

use std::net::TcpListener;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::json;
use support::{Service, World};

const DRIVER: &str = "/usr/bin/chromedriver";
const PASSWORD: &str = "three lamps at night";

/// A browser with a driver of its own.
struct Browser {
    driver: Child,
    client: Client,
}

impl Browser {
    /// `None`, and a word about it, where there is no browser.
    async fn start(width: u32, height: u32) -> Option<Self> {
        if !PathBuf::from(DRIVER).exists() {
            #[expect(clippy::print_stdout, reason = "a skipped test must say so")]
            let () = println!("skipped: {DRIVER} is not there; install chromium and chromium-driver");
            return None;
        }
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let driver = Command::new(DRIVER)
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let arguments = [
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
        capabilities.insert("goog:loggingPrefs".to_owned(), json!({"browser": "ALL"}));
        let address = format!("http://127.0.0.1:{port}");
        let deadline = tokio::time::Instant::now() + support::PATIENCE;
        let client = loop {
            let mut builder = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
            match builder.capabilities(capabilities.clone()).connect(&address).await {
                Ok(client) => break client,
                Err(error) => assert!(tokio::time::Instant::now() < deadline, "no browser: {error}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let browser = Self { driver, client };
        browser.resize(width, height).await;
        Some(browser)
    }

    /// Makes the page so large; the window's own frame comes on top.
    async fn resize(&self, width: u32, height: u32) {
        self.client.set_window_size(width, height).await.unwrap();
        let inner = self.client.execute("return [innerWidth, innerHeight]", Vec::new()).await.unwrap();
        let frame = |at: usize, wanted: u32| {
            wanted.saturating_sub(u32::try_from(inner[at].as_u64().unwrap()).unwrap())
        };
        self.client.set_window_size(width + frame(0, width), height + frame(1, height)).await.unwrap();
    }

    async fn close(mut self) {
        self.client.close().await.unwrap();
        self.driver.kill().unwrap();
        self.driver.wait().unwrap();
    }

    async fn see(&self, xpath: &str) -> fantoccini::elements::Element {
        let found = self.client.wait().at_most(support::PATIENCE).for_element(Locator::XPath(xpath)).await;
        match found {
            Ok(element) => element,
            Err(error) => {
                let page = self.client.find(Locator::Css("body")).await.unwrap().text().await.unwrap();
                panic!("{xpath}: {error}; the page says:\n{page}")
            }
        }
    }

    async fn click(&self, xpath: &str) {
        self.see(xpath).await.click().await.unwrap();
    }

    async fn fill(&self, label: &str, text: &str) {
        self.see(&format!("//input[@id = //label[text()='{label}']/@for]"))
            .await
            .send_keys(text)
            .await
            .unwrap();
    }

    /// Keeps a picture, if pictures are asked for.
    async fn picture(&self, name: &str) {
        let Some(folder) = std::env::var_os("YONDER_SCREENSHOTS") else { return };
        let png = self.client.screenshot().await.unwrap();
        std::fs::write(PathBuf::from(folder).join(format!("{name}.png")), png).unwrap();
    }

    /// Keeps a picture that something else made.
    fn keep(name: &str, png: &[u8]) {
        let Some(folder) = std::env::var_os("YONDER_SCREENSHOTS") else { return };
        std::fs::write(PathBuf::from(folder).join(format!("{name}.png")), png).unwrap();
    }

    /// A picture in each theme, chosen in the menu as a person does.
    async fn pictures_in_both_themes(&self, name: &str) {
        for (theme, label) in [("night", "Night"), ("paper", "Paper")] {
            self.click("//header//button").await;
            self.click(&format!("//*[@role='menuitemradio'][contains(., '{label}')]")).await;
            self.see(&format!("//html[@data-theme='{theme}']")).await;
            // The menu leaves the page a moment after it is closed.
            let deadline = tokio::time::Instant::now() + support::PATIENCE;
            while !self.client.find_all(Locator::Css("[role=menu]")).await.unwrap().is_empty() {
                assert!(tokio::time::Instant::now() < deadline, "the menu stays open");
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            self.picture(&format!("{name}-{theme}")).await;
        }
    }
}

fn row(destination: &str, state: &str) -> String {
    format!("//li[@aria-label='{destination}'][.//span[text()='{state}']]")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn set_up_sign_in_see_a_relay_live_stop_it_and_start_it() {
    let Some(browser) = Browser::start(1280, 800).await else { return };
    let (service, world) = tokio::task::spawn_blocking(|| (Service::start(), World::start())).await.unwrap();
    let link = loop {
        if let Some(link) =
            service.printed().lines().find_map(|line| line.strip_prefix("Set up the first person: "))
        {
            break link.to_owned();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    browser.client.goto(&link).await.unwrap();
    browser.fill("Name", "night desk").await;
    browser.fill("Password", "short").await;
    browser.click("//button[text()='Set up and sign in']").await;
    browser.see("//*[@role='alert'][contains(., 'request.invalid')]").await;
    browser.picture("set-up-refused").await;
    browser.fill("Password", PASSWORD).await;
    browser.click("//button[text()='Set up and sign in']").await;
    browser.see("//h1[text()='No lines yet']").await;
    assert!(
        !browser.client.current_url().await.unwrap().as_str().contains('#'),
        "the code has left the address"
    );

    service.set_up_line(&world);
    browser.see("//li[@aria-label='Line']").await;
    browser.click("//li[@aria-label='Line']//button[text()='Start']").await;
    browser.see(&row("Bramble", "live")).await;
    browser.see("//h1[text()='All lines are up']").await;

    browser.click("//li[@aria-label='Line']//button[text()='Stop']").await;
    let question = browser.see("//*[@role='alertdialog']").await.text().await.unwrap();
    assert!(question.contains("The broadcast on Bramble ends"), "{question}");
    browser.click("//button[text()='Stop the broadcast']").await;
    browser.see(&row("Bramble", "off")).await;
    browser.click("//li[@aria-label='Line']//button[text()='Start']").await;
    browser.see(&row("Bramble", "live")).await;

    // Signing out shuts the door; only the right password opens it.
    browser.click("//header//button").await;
    browser.click("//*[@role='menuitem'][text()='Sign out']").await;
    browser.fill("Name", "night desk").await;
    browser.fill("Password", "wrong").await;
    browser.click("//button[text()='Sign in']").await;
    browser.see("//*[@role='alert'][contains(., 'request.sign-in-refused')]").await;
    browser.fill("Password", PASSWORD).await;
    browser.click("//button[text()='Sign in']").await;
    browser.see(&row("Bramble", "live")).await;
    browser.close().await;
    drop((service, world));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn trouble_shows_by_itself_with_side_sentence_and_code_and_passes() {
    let Some(browser) = Browser::start(390, 844).await else { return };
    let (mut service, world) =
        tokio::task::spawn_blocking(|| (Service::start(), World::start())).await.unwrap();
    sign_in_first_person(&browser, &service).await;
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    browser.see(&row("Bramble", "live")).await;
    let world = tokio::task::spawn_blocking(move || {
        world.camera_off();
        world
    })
    .await
    .unwrap();
    browser.see("//h1[text()='One line wants attention']").await;
    let note =
        browser.see("//li[@aria-label='Line']//div[strong][contains(., 'feed.connection-refused')]").await;
    assert!(note.text().await.unwrap().starts_with("Camera side."));
    browser.picture("lines-narrow-trouble").await;
    world.camera_on();
    browser.see(&row("Bramble", "live")).await;

    service.kill();
    browser.see("//*[@role='alert'][contains(., 'The service is away.')]").await;
    browser.close().await;
}

async fn sign_in_first_person(browser: &Browser, service: &Service) {
    let link = loop {
        if let Some(link) =
            service.printed().lines().find_map(|line| line.strip_prefix("Set up the first person: "))
        {
            break link.to_owned();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    browser.client.goto(&link).await.unwrap();
    browser.fill("Name", "night desk").await;
    browser.fill("Password", PASSWORD).await;
    browser.click("//button[text()='Set up and sign in']").await;
    browser.see("//h1[text()='No lines yet']").await;
}

/// The railway as the demonstration shows it, for people to look at; also a check that nothing on the page
/// breaks the content policy.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_demonstration_is_shown_without_complaint_from_the_browser() {
    let Some(browser) = Browser::start(1280, 800).await else { return };
    let home = tempfile::tempdir().unwrap();
    let mut demo = Command::new(support::program())
        .args(["demo", "--listen", "127.0.0.1:0", "--home"])
        .arg(home.path())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let (url, password, rest) = tokio::task::spawn_blocking({
        let out = demo.stdout.take().unwrap();
        move || {
            use std::io::{BufRead as _, BufReader};
            let mut lines = BufReader::new(out).lines();
            let mut url = String::new();
            loop {
                let line = lines.next().unwrap().unwrap();
                if let Some(found) = line.trim().strip_prefix("Console") {
                    url = found.trim().to_owned();
                }
                if let Some((_, password)) = line.split_once("password `") {
                    break (url, password.trim_end_matches('`').to_owned(), lines);
                }
            }
        }
    })
    .await
    .unwrap();
    browser.client.goto(&url).await.unwrap();
    browser.see("//h1[text()='Sign in']").await;
    browser.picture("sign-in").await;
    browser.fill("Name", "night desk").await;
    browser.fill("Password", &password).await;
    browser.click("//button[text()='Sign in']").await;
    browser.see("//h1[text()='All lines are up']").await;
    if std::env::var_os("YONDER_SCREENSHOTS").is_some() {
        // Rates and ages worth looking at.
        tokio::time::sleep(Duration::from_secs(8)).await;
    }
    browser.pictures_in_both_themes("lines").await;
    browser.click("//button[@aria-label='Watch Summit Station']").await;
    browser.see("//*[@role='status'][text()='Live.']").await;
    let shown = browser.video_time().await;
    let deadline = tokio::time::Instant::now() + Duration::from_secs(10);
    while browser.video_time().await < shown + 2.0 {
        assert!(tokio::time::Instant::now() < deadline, "the picture does not move");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    browser.picture("preview").await;
    browser.click("//button[text()='Close']").await;
    browser.resize(390, 844).await;
    browser.picture("lines-narrow").await;
    let complaints = browser
        .client
        .execute(
            "return window.performance.getEntriesByType('resource').map(entry => entry.name)",
            Vec::new(),
        )
        .await
        .unwrap();
    for resource in complaints.as_array().unwrap() {
        assert!(resource.as_str().unwrap().starts_with(&url), "{resource} comes from elsewhere");
    }
    browser.close().await;
    drop(rest);
    demo.kill().unwrap();
    demo.wait().unwrap();
}

impl Browser {
    /// Where the live picture on the page is in its own time.
    async fn video_time(&self) -> f64 {
        let script = "return document.querySelector('video').currentTime";
        self.client.execute(script, Vec::new()).await.unwrap().as_f64().unwrap()
    }
}

/// What commands print, drawn as a terminal would.
fn terminal_page(command: &str, output: &str) -> String {
    let mut text = output.replace('&', "&amp;").replace('<', "&lt;");
    for (code, colour) in [
        ("1", "#fffdf7;font-weight:700"),
        ("2", "#8fa3a0"),
        ("36", "#4cc0b1"),
        ("33", "#e2b24d"),
        ("31", "#f28d7b"),
    ] {
        text = text.replace(&format!("\x1b[{code}m"), &format!("<span style='color:{colour}'>"));
    }
    text = text.replace("\x1b[0m", "</span>");
    format!(
        "<body style='margin:0;background:#0d191b;color:#d5d8cd;padding:28px 32px;font:15px/1.5 DejaVu Sans Mono,monospace'>\
         <pre style='margin:0;font:inherit;white-space:pre-wrap'><span style='color:#8fa3a0'>$</span> {command}\n{text}</pre></body>"
    )
}

impl Browser {
    async fn terminal_picture(&self, name: &str, command: &str, output: &str) {
        self.client.goto("about:blank").await.unwrap();
        let page = json!(terminal_page(command, output));
        self.client.execute("document.write(arguments[0])", vec![page]).await.unwrap();
        self.picture(name).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn commands_print_what_people_can_read() {
    let Some(browser) = Browser::start(1280, 800).await else { return };
    let home = tempfile::tempdir().unwrap();
    let run = |arguments: &[&str]| {
        let mut command = Command::new(support::program());
        command.arg("--home").arg(home.path()).args(arguments).env("CLICOLOR_FORCE", "1");
        command.stdout(Stdio::piped()).spawn().unwrap()
    };
    let printed = |arguments: &[&str]| {
        let output = tokio::task::block_in_place(|| run(arguments).wait_with_output().unwrap());
        support::text(&output.stdout)
    };
    let demo = run(&["demo", "--for", "34s", "--listen", "127.0.0.1:0"]);
    let deadline = tokio::time::Instant::now() + Duration::from_secs(10);
    let status = loop {
        let output = run(&["status"]).wait_with_output().unwrap();
        let text = support::text(&output.stdout);
        // Once keyframes have come twice, everything is measured.
        if text.matches("keyframe every 2 s").count() == 4 || tokio::time::Instant::now() > deadline {
            break text;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    assert!(status.contains("4 of 4 relays flow as they should"), "{status}");
    assert_eq!(status.matches("keyframe every 2 s").count(), 4, "{status}");
    let survey = printed(&["feed", "survey", "Summit Station", "--for", "4s"]);
    assert!(survey.contains("No sound"), "{survey}");
    let password = home.path().join("camera-password");
    let found = printed(&["feed", "find", "--user", "rail", "--password-file", password.to_str().unwrap()]);
    assert!(found.contains("Summit Station") && found.contains("640x360"), "{found}");
    let failed = printed(&["feed", "survey", "--url", "rtsp://localhost:9/main", "--for", "2s"]);
    assert!(failed.contains("feed.connection-refused"), "{failed}");
    let destinations = printed(&["destination", "list"]);
    assert!(
        destinations.contains("Thistle Stage Summit") && destinations.contains("srt, encrypted"),
        "{destinations}"
    );
    // A relay that cannot work: too many lines, and a key that is in use.
    printed(&["relay", "add", "Concert night", "--feed", "Bandstand", "--to", "Thistle Stage Summit"]);
    let preflight = printed(&["relay", "preflight", "Concert night"]);
    assert!(preflight.contains("takes up to 1280×720, the feed has 1920×1080"), "{preflight}");
    assert!(preflight.contains("the relay Summit Station pushes to this destination already"), "{preflight}");
    let budget = printed(&["budget", "--what-fits", "6"]);
    assert!(budget.contains("Office fibre") && budget.contains("What fits"), "{budget}");
    printed(&["relay", "remove", "Concert night"]);
    let book = home.path().join("railway.toml");
    let exported = printed(&["book", "export"]);
    let changed = exported
        .replacen("rate = \"40Mbit/s\"", "rate = \"50Mbit/s\"\nsource = \"192.0.2.7\"", 1)
        .replacen(
            "hold_after_s = 3",
            "hold_after_s = 10\non_air = [\"daily 05:30-22:30\"]\nzone = \"Europe/Lisbon\"",
            1,
        )
        + "\n[feed.\"Tunnel Mouth\"]\nurl = \"rtsp://192.0.2.14/tunnel\"\n\n[alert.Down]\nwhen = \"down 60s\"\n";
    std::fs::write(&book, changed).unwrap();
    let difference = printed(&["book", "diff", &book.display().to_string()]);
    assert!(difference.contains("4 records would be touched: 2 added, 2 changed."), "{difference}");
    let output = tokio::task::spawn_blocking(|| demo.wait_with_output().unwrap()).await.unwrap();
    let summary = support::text(&output.stdout);
    assert!(summary.contains("Every push was live and graded good."), "{summary}");
    browser.terminal_picture("status", "yonder status", &status).await;
    browser.terminal_picture("destination-list", "yonder destination list", &destinations).await;
    browser.terminal_picture("preflight", "yonder relay preflight 'Concert night'", &preflight).await;
    browser.terminal_picture("budget", "yonder budget --what-fits 6", &budget).await;
    browser.terminal_picture("book-diff", "yonder book diff railway.toml", &difference).await;
    browser.terminal_picture("demo", "yonder demo --for 34s", &summary).await;
    browser.terminal_picture("feed-survey", "yonder feed survey 'Summit Station' --for 4s", &survey).await;
    let command = "yonder feed find --user rail --password-file camera-password";
    browser.terminal_picture("feed-find", command, &found).await;
    browser
        .terminal_picture("feed-failed", "yonder feed survey --url rtsp://localhost:9/main", &failed)
        .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bad_hour_is_told_by_the_record_and_bridged_by_the_holding_picture() {
    let Some(browser) = Browser::start(1280, 800).await else { return };
    let (logbook, report, outages, card) = tokio::task::block_in_place(|| {
        let (mut service, world) = (Service::start(), World::start());
        let url = world.camera.url("/viaduct/main");
        let feed =
            ["feed", "add", "Viaduct", "--url", &url, "--site", "Fell", "--user", "rail", "--password-stdin"];
        service.must(&feed, support::CAMERA_PASSWORD);
        let server = world.platform.server();
        let destination = ["destination", "add", "Bramble TV", "--server", &server, "--key-stdin"];
        service.must(&destination, support::KEY);
        service.must(&["platform", "add", "Bramble", "--set", "broadcast.survives-silence=2s"], "");
        service.must(&["destination", "edit", "Bramble TV", "--platform", "Bramble"], "");
        service.must(&["relay", "add", "Night Trains", "--feed", "Viaduct", "--to", "Bramble TV"], "");
        service.must(&["relay", "start", "Night Trains"], "");
        service.wait_live("Night Trains");
        world.camera_off();
        service.wait("Night Trains", "held", |relay| relay["pushes"][0]["state"] == "holding");
        let card = service.home.path().join("card.png");
        service.must(&["relay", "holding-picture", "Night Trains", "--out", card.to_str().unwrap()], "");
        // Clearly longer than its platform waits.
        std::thread::sleep(Duration::from_secs(4));
        world.camera_on();
        service.wait_live("Night Trains");
        // The record is written a moment after what it tells of.
        let deadline = std::time::Instant::now() + support::PATIENCE;
        while !service.must(&["logbook"], "").contains("kept the broadcast for") {
            assert!(std::time::Instant::now() < deadline, "{}", service.must(&["logbook"], ""));
            std::thread::sleep(Duration::from_millis(50));
        }
        service.kill();
        service.start_again();
        service.wait_live("Night Trains");
        std::thread::sleep(Duration::from_secs(1));
        let printed = |arguments: &[&str]| {
            let mut command = Command::new(support::program());
            command.arg("--home").arg(service.home.path()).args(arguments).env("CLICOLOR_FORCE", "1");
            support::text(&command.output().unwrap().stdout)
        };
        (
            printed(&["logbook"]),
            printed(&["report"]),
            printed(&["report", "--outages"]),
            std::fs::read(card).unwrap(),
        )
    });
    assert!(logbook.contains("kept the broadcast for"), "{logbook}");
    assert!(report.contains("site Fell") && report.contains("camera"), "{report}");
    assert!(outages.contains("a crash, or a power cut"), "{outages}");
    browser.terminal_picture("logbook", "yonder logbook", &logbook).await;
    let both = format!("{report}\n\x1b[2m$\x1b[0m yonder report --outages\n{outages}");
    browser.terminal_picture("report", "yonder report", &both).await;
    Browser::keep("holding-picture", &card);
    browser.close().await;
}
