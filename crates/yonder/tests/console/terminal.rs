//! Output of commands as shown in a terminal.

use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::json;

use crate::browser::Browser;
use crate::support::{self, Service, World};

/// Output of commands, rendered like a terminal.
fn terminal_page(command: &str, output: &str) -> String {
    let mut text = output.replace('&', "&amp;").replace('<', "&lt;");
    for (code, color) in [
        ("1", "#fffdf7;font-weight:700"),
        ("2", "#8fa3a0"),
        ("36", "#4cc0b1"),
        ("33", "#e2b24d"),
        ("31", "#f28d7b"),
    ] {
        text = text.replace(&format!("\x1b[{code}m"), &format!("<span style='color:{color}'>"));
    }
    text = text.replace("\x1b[0m", "</span>");
    format!(
        "<body style='margin:0;background:#0d191b;color:#d5d8cd;padding:14px 32px;font:15px/1.5 DejaVu Sans Mono,monospace'>\
         <pre style='margin:14px 0;font:inherit;white-space:pre-wrap'><span style='color:#8fa3a0'>$</span> {command}\n{text}</pre>"
    )
}

impl Browser {
    /// Commands with what they print, one below the other.
    async fn terminal_picture(&self, name: &str, said: &[(&str, String)]) {
        self.client.goto("about:blank").await.unwrap();
        let pages: String = said.iter().map(|(command, output)| terminal_page(command, output)).collect();
        self.client.execute("document.write(arguments[0])", vec![json!(pages)]).await.unwrap();
        // As tall as what is said, and no taller.
        self.resize(1280, 300).await;
        let height = self.client.execute("return document.body.scrollHeight", Vec::new()).await.unwrap();
        self.resize(1280, u32::try_from(height.as_u64().unwrap()).unwrap()).await;
        self.picture(name).await;
    }
}

/// Searches for cameras, and signs in to those that the search lists. Returns their hosts, and what is printed of them.
fn find_with_sign_in(printed: impl Fn(&[&str]) -> String, password: &std::path::Path) -> (String, String) {
    let search = printed(&["feed", "find"]);
    let hosts = search.lines().find_map(|line| line.split_once("--at ")?.1.split(' ').next()).unwrap();
    let file = password.to_str().unwrap();
    let found = printed(&["feed", "find", "--at", hosts, "--user", "rail", "--password-file", file]);
    assert!(found.contains("Summit Station") && found.contains("640x360"), "{found}");
    (hosts.to_owned(), found)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn commands_print_readable_output() {
    let browser = Browser::start(1280, 800).await;
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
    // Without encoded video, since other tests run beside this one.
    let demo = run(&["demo", "--light", "--for", "34s", "--listen", "127.0.0.1:0"]);
    let deadline = tokio::time::Instant::now() + Duration::from_secs(10);
    let status = loop {
        let output = run(&["status"]).wait_with_output().unwrap();
        let text = support::text(&output.stdout);
        // Once keyframes have come twice, everything is measured.
        if text.matches("keyframe every 2 s").count() == 5 || tokio::time::Instant::now() > deadline {
            break text;
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    assert!(status.contains("5 of 5 relays are up"), "{status}");
    assert_eq!(status.matches("keyframe every 2 s").count(), 5, "{status}");
    let survey = printed(&["feed", "survey", "Summit Station", "--for", "4s"]);
    assert!(survey.contains("No audio"), "{survey}");
    let (hosts, found) = find_with_sign_in(printed, &home.path().join("camera-password"));
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
    assert!(preflight.contains("accepts up to 1280×720, the feed has 1920×1080"), "{preflight}");
    assert!(preflight.contains("the relay Summit Station pushes to this destination already"), "{preflight}");
    let jobs = printed(&["job", "list"]);
    let is_done = |line: &str| ["preflight", "Concert night", "done"].iter().all(|text| line.contains(text));
    assert!(jobs.lines().any(is_done) && jobs.contains("find"), "{jobs}");
    let budget = printed(&["budget", "--what-fits", "6"]);
    assert!(budget.contains("Office fibre") && budget.contains("Capacity"), "{budget}");
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
    assert!(difference.contains("4 records would change: 2 added, 2 changed."), "{difference}");
    let output = tokio::task::spawn_blocking(|| demo.wait_with_output().unwrap()).await.unwrap();
    let summary = support::text(&output.stdout);
    assert!(summary.contains("Every push was live and graded good."), "{summary}");
    let find = format!("yonder feed find --at {hosts} --user rail --password-file camera-password");
    let survey_command = "yonder feed survey 'Summit Station' --for 4s";
    let fail_command = "yonder feed survey --url rtsp://localhost:9/main";
    let camera = [(find.as_str(), found), (survey_command, survey), (fail_command, failed)];
    let platform = [
        ("yonder destination list", destinations),
        ("yonder relay preflight 'Concert night'", preflight),
        ("yonder budget --what-fits 6", budget),
        ("yonder job list", jobs),
    ];
    let keep = [
        ("yonder demo --light --for 34s", summary),
        ("yonder status", status),
        ("yonder book diff railway.toml", difference),
    ];
    browser.terminal_picture("commands-camera", &camera).await;
    browser.terminal_picture("commands-platform", &platform).await;
    browser.terminal_picture("commands-keep", &keep).await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn faults_are_in_the_logbook_and_bridged_by_the_holding_picture() {
    let browser = Browser::start(1280, 800).await;
    let (logbook, audit, report, outages, card) = tokio::task::block_in_place(|| {
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
        service.flow("Night Trains", 100);
        world.camera_on();
        service.wait_live("Night Trains");
        // The record is written a moment after what it tells of.
        let deadline = std::time::Instant::now() + support::WAIT_TIMEOUT;
        while !service.must(&["logbook"], "").contains("kept the broadcast for") {
            assert!(std::time::Instant::now() < deadline, "{}", service.must(&["logbook"], ""));
            std::thread::sleep(Duration::from_millis(50));
        }
        service.kill();
        service.start_again();
        service.wait_live("Night Trains");
        service.flow("Night Trains", 25);
        let printed = |arguments: &[&str]| {
            let mut command = Command::new(support::program());
            command.arg("--home").arg(service.home.path()).args(arguments).env("CLICOLOR_FORCE", "1");
            support::text(&command.output().unwrap().stdout)
        };
        (
            printed(&["logbook"]),
            printed(&["audit", "--limit", "4"]),
            printed(&["report"]),
            printed(&["report", "--outages"]),
            std::fs::read(card).unwrap(),
        )
    });
    assert!(logbook.contains("kept the broadcast for"), "{logbook}");
    assert!(report.contains("site Fell") && report.contains("camera"), "{report}");
    assert!(outages.contains("a crash, or a power cut"), "{outages}");
    assert!(audit.contains("started relay Night Trains\n    wanted: off → on"), "{audit}");
    let record = [
        ("yonder logbook", logbook),
        ("yonder audit --limit 4", audit),
        ("yonder report", report),
        ("yonder report --outages", outages),
    ];
    browser.terminal_picture("commands-record", &record).await;
    Browser::keep("holding-picture", &card);
    browser.close().await;
}
