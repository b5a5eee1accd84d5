//! Signposts: public pages and streams, as viewers get them.

use std::time::{Duration, Instant};

use bytes::Bytes;
use serde_json::Value;
use yonder_sim::{HlsChecker, Wanted};

use crate::support::{CAMERA_PASSWORD, KEY, Service, WAIT_TIMEOUT, World, text};

struct Site {
    service: Service,
    world: World,
}

impl Site {
    /// Starts a service with a public listener, and a relay that runs.
    fn start() -> Self {
        let service = Service::start_with(|command| {
            command.args(["--public", "127.0.0.1:0"]);
        });
        let world = World::start();
        service.set_up_line(&world);
        service.must(&["relay", "start", "Line"], "");
        service.wait_live("Line");
        Self { service, world }
    }

    fn public(&self) -> String {
        let facts: Value =
            serde_json::from_slice(&std::fs::read(self.service.home.path().join("service.json")).unwrap())
                .unwrap();
        facts["public"].as_str().unwrap().to_owned()
    }

    fn get(&self, path: &str) -> Answer {
        get(&format!("{}{path}", self.public()))
    }

    fn state(&self, alias: &str) -> Value {
        serde_json::from_str(&self.get(&format!("/w/{alias}/state")).body()).unwrap()
    }

    fn wait_state(&self, alias: &str, what: &str, wished: impl Fn(&Value) -> bool) -> Value {
        let deadline = Instant::now() + WAIT_TIMEOUT;
        loop {
            let state = self.state(alias);
            if wished(&state) {
                return state;
            }
            assert!(Instant::now() < deadline, "not {what}: {state:#}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    fn signpost(&self, alias: &str) -> Value {
        serde_json::from_str(&self.service.must(&["signpost", "show", alias, "--json"], "")).unwrap()
    }
}

struct Answer {
    status: u16,
    headers: ureq::http::HeaderMap,
    content: Vec<u8>,
}

impl Answer {
    fn header(&self, name: &str) -> &str {
        self.headers.get(name).map_or("", |value| value.to_str().unwrap())
    }

    fn body(&self) -> String {
        text(&self.content)
    }
}

fn get(url: &str) -> Answer {
    request(url, "Lamp/1")
}

fn request(url: &str, browser: &str) -> Answer {
    let agent: ureq::Agent =
        ureq::Agent::config_builder().http_status_as_error(false).max_redirects(0).build().into();
    let mut response = agent.get(url).header("User-Agent", browser).call().unwrap();
    let (status, headers) = (response.status().as_u16(), response.headers().clone());
    let content = response.body_mut().with_config().limit(64 << 20).read_to_vec().unwrap();
    Answer { status, headers, content }
}

/// Viewer that fetches each segment once.
struct Viewer {
    base: String,
    checker: HlsChecker,
}

impl Viewer {
    fn open(site: &Site, alias: &str) -> Self {
        Self { base: format!("{}/w/{alias}/", site.public()), checker: HlsChecker::default() }
    }

    /// Fetches what is new. Returns false while there is no stream.
    fn fetch(&mut self) -> bool {
        let master = get(&format!("{}live.m3u8", self.base));
        if master.status != 200 {
            return false;
        }
        let master = master.body();
        let media = get(&format!("{}{}", self.base, master.lines().last().unwrap()));
        assert_eq!(media.header("content-type"), "application/vnd.apple.mpegurl");
        for wanted in self.checker.playlist(&media.body()) {
            match wanted {
                Wanted::Init(uri) => {
                    let init = get(&format!("{}{uri}", self.base));
                    self.checker.init(&uri, &init.content);
                }
                Wanted::Segment(number, uri) => {
                    let segment = get(&format!("{}{uri}", self.base));
                    assert_eq!((segment.status, segment.header("content-type")), (200, "video/mp4"), "{uri}");
                    self.checker.segment(number, &Bytes::from(segment.content));
                }
            }
        }
        true
    }

    fn watch(&mut self, seconds: f64) {
        let deadline = Instant::now() + Duration::from_secs_f64(seconds) + WAIT_TIMEOUT;
        let until = self.checker.seconds() + seconds;
        while self.checker.seconds() < until {
            self.fetch();
            assert!(Instant::now() < deadline, "{} s of video", self.checker.seconds());
            std::thread::sleep(Duration::from_millis(300));
        }
    }
}

#[test]
fn viewers_get_the_picture_through_a_hold_and_a_restart() {
    let mut site = Site::start();
    site.service.must(&["relay", "edit", "Line", "--hold-after", "1s"], "");
    let printed =
        site.service.must(&["signpost", "add", "summit", "--relay", "Line", "--title", "The summit"], "");
    assert!(printed.contains("/w/summit\n") && printed.contains("<iframe src="), "{printed}");
    let state = site
        .wait_state("summit", "live", |state| state["state"] == "live" && state["playlist"] == "live.m3u8");
    assert_eq!((state["title"].as_str(), &state["leads_to"]), (Some("The summit"), &Value::Null));
    let mut viewer = Viewer::open(&site, "summit");
    viewer.watch(8.0);
    site.world.camera_off();
    viewer.watch(6.0);
    site.world.camera_on();
    viewer.watch(8.0);
    assert_eq!(viewer.checker.faults(), [""; 0]);
    assert!(viewer.checker.discontinuities() >= 1, "to the holding picture and back");
    let shown = site.signpost("summit");
    assert_eq!((shown["viewers"].as_u64(), shown["viewers_today"].as_u64()), (Some(1), Some(1)));
    let bytes = shown["bytes_today"].as_u64().unwrap();
    assert!(bytes > 1_000_000, "{bytes}");
    let metrics = site.service.metrics();
    let bytes_of = |line: &str| line.rsplit(' ').next().unwrap().parse::<u64>().unwrap();
    let line = metrics.lines().find(|line| line.starts_with("yonder_signpost_bytes_total{")).unwrap();
    assert!(line.contains("signpost=\"summit\"") && bytes_of(line) > 1_000_000, "{line}");
    assert!(metrics.contains("yonder_signpost_viewers{signpost=\"summit\"} 1"), "{metrics}");
    // The stream continues under the same addresses, with later numbers.
    let public = site.public();
    assert!(site.service.stop());
    let address = public.trim_start_matches("http://").to_owned();
    site.service.start_again_with(|command| {
        command.args(["--public", &address]);
    });
    site.wait_state("summit", "live again", |state| {
        state["state"] == "live" && state["playlist"] == "live.m3u8"
    });
    viewer.watch(6.0);
    assert_eq!(viewer.checker.faults(), [""; 0]);
    let shown = site.signpost("summit");
    assert!(shown["bytes_today"].as_u64().unwrap() > bytes, "traffic of the day outlives a restart");
}

#[test]
fn pages_have_strict_headers_and_no_secrets_and_nothing_else_is_public() {
    let site = Site::start();
    site.service
        .must(&["signpost", "add", "summit", "--relay", "Line", "--random", "--status-page", "on"], "");
    let list: Value = serde_json::from_str(&site.service.must(&["signpost", "list", "--json"], "")).unwrap();
    let alias = list[0]["name"].as_str().unwrap().to_owned();
    assert_eq!(alias.len(), "summit-".len() + 12);
    site.wait_state(&alias, "live", |state| state["playlist"] == "live.m3u8");
    let page = site.get(&format!("/w/{alias}"));
    assert_eq!((page.status, page.header("content-type")), (200, "text/html; charset=utf-8"));
    assert!(page.header("content-security-policy").contains("frame-ancestors 'none'"));
    assert_eq!((page.header("set-cookie"), page.header("x-content-type-options")), ("", "nosniff"));
    assert!(page.body().contains("noindex"), "{}", page.body());
    let embed = site.get(&format!("/w/{alias}/embed"));
    assert!(embed.header("content-security-policy").contains("frame-ancestors *"));
    let status = site.get(&format!("/w/{alias}/status"));
    assert!(status.body().contains("available in the last 24 hours"), "{}", status.body());
    let poster = site.get(&format!("/w/{alias}/poster.jpg"));
    assert_eq!((poster.status, poster.header("content-type")), (200, "image/jpeg"));
    let script = site.get("/assets/watch.js");
    assert!(script.status == 200 && script.content.len() < 60_000, "{}", script.content.len());
    // The still is hidden with the picture.
    site.service.must(&["relay", "hold", "Line"], "");
    assert_eq!(site.get(&format!("/w/{alias}/poster.jpg")).status, 404);
    site.service.must(&["relay", "resume", "Line"], "");
    for path in ["", "/embed", "/state", "/status", "/live.m3u8"] {
        let body = site.get(&format!("/w/{alias}{path}")).body();
        for secret in [KEY, CAMERA_PASSWORD, "rtsp://", "rtmp", "Line"] {
            // The title is the name of the relay.
            let allowed = secret == "Line" && path != "/live.m3u8";
            assert!(allowed || !body.contains(secret), "{path} has {secret}: {body}");
        }
    }
    for path in [
        "/",
        "/api/v1/status",
        "/api/v1/session",
        "/metrics",
        "/healthz",
        "/readyz",
        "/setup",
        "/w/",
        "/w/other",
        "/w/summit",
    ] {
        let answer = site.get(path);
        assert_eq!(answer.status, 404, "{path}");
        assert!(answer.body().contains("There is no such page"), "{path}");
    }
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let head = agent.head(format!("{}/w/{alias}", site.public())).call().unwrap();
    assert_eq!(head.status().as_u16(), 200, "proxies check pages by HEAD");
    let posted = agent.post(format!("{}/w/{alias}", site.public())).send_empty().unwrap();
    assert_eq!(posted.status().as_u16(), 405);
}

#[test]
fn a_signpost_leads_to_the_live_watch_page_and_can_be_paused() {
    let site = Site::start();
    let page = "https://watch.bramble.example.net/summit";
    let relay: Value = site.service.relay("Line");
    let destination = relay["pushes"][0]["destination"].as_str().unwrap().to_owned();
    let refused = site.service.run(&["signpost", "add", "go", "--relay", "Line", "--to", &destination]);
    assert!(text(&refused.stderr).contains("has no watch page"), "{refused:?}");
    site.service.must(&["destination", "edit", &destination, "--watch-page", page], "");
    site.service
        .must(&["signpost", "add", "go", "--relay", "Line", "--player", "off", "--to", &destination], "");
    let answer = site.get("/w/go/go");
    assert_eq!((answer.status, answer.header("location")), (302, page));
    let state = site.state("go");
    assert_eq!(
        (state["state"].as_str(), &state["playlist"], state["leads_to"].as_str()),
        (Some("live"), &Value::Null, Some(page))
    );
    assert_eq!(site.get("/w/go/live.m3u8").status, 404, "without the own player there is no stream");
    // Paused: nothing is shown, and nothing leads anywhere.
    site.service.must(&["signpost", "pause", "go"], "");
    let state = site.state("go");
    assert_eq!((state["state"].as_str(), &state["leads_to"]), (Some("paused"), &Value::Null));
    assert_eq!(site.get("/w/go/go").header("location"), "../go");
    site.service.must(&["signpost", "resume", "go"], "");
    // The platform refuses the key: nothing is live there, although it should be.
    site.world.platform.set_key("one", "another-key-altogether".into());
    site.world.platform.change(|faults| faults.resets += 1);
    let state = site.wait_state("go", "interrupted", |state| state["state"] == "interrupted");
    assert_eq!(state["leads_to"], Value::Null);
    site.world.platform.set_key("one", KEY.into());
    site.service.must(&["relay", "start", "Line", "--force"], "");
    site.wait_state("go", "live again", |state| state["state"] == "live");
    // Stopped: off air.
    site.service.must(&["relay", "stop", "Line"], "");
    site.wait_state("go", "off air", |state| state["state"] == "off-air");
    let refused = site.service.run(&["relay", "remove", "Line"]);
    assert!(text(&refused.stderr).contains("go"), "{refused:?}");
    let book = site.service.must(&["book", "export"], "");
    assert!(book.contains("[signpost.go]") && book.contains("player = false"), "{book}");
    let file = site.service.file(
        "book.toml",
        &book.replace("player = false\n", "").replace("max_viewers = 500", "max_viewers = 7"),
    );
    site.service.must(&["book", "apply", &file], "");
    let shown = site.signpost("go");
    assert_eq!((shown["player"].as_bool(), shown["max_viewers"].as_u64()), (Some(true), Some(7)));
    site.service.must(&["signpost", "edit", "go", "--rename", "station", "--to", ""], "");
    assert_eq!((site.get("/w/go").status, site.get("/w/station").status), (404, 200));
    site.service.must(&["signpost", "remove", "station"], "");
    assert_eq!(site.get("/w/station").status, 404);
    site.service.must(&["relay", "remove", "Line"], "");
    assert!(site.service.must(&["audit"], "").contains("paused signpost go"));
}

#[test]
fn viewers_and_traffic_are_limited() {
    let site = Site::start();
    site.service
        .must(&["signpost", "add", "summit", "--relay", "Line", "--max-viewers", "2", "--daily", "3MB"], "");
    site.wait_state("summit", "live", |state| state["playlist"] == "live.m3u8");
    let master = format!("{}/w/summit/live.m3u8", site.public());
    assert_eq!(request(&master, "Lamp/1").status, 200);
    assert_eq!(request(&master, "Lamp/2").status, 200);
    let refused = request(&master, "Lamp/3");
    assert_eq!((refused.status, refused.header("retry-after")), (503, "30"));
    assert!(refused.body().contains("as many viewers"), "{}", refused.body());
    assert_eq!(request(&master, "Lamp/1").status, 200, "those who watch stay");
    let mut viewer = Viewer::open(&site, "summit");
    let deadline = Instant::now() + Duration::from_secs(60);
    while viewer.fetch() {
        assert!(Instant::now() < deadline, "no limit of traffic");
        std::thread::sleep(Duration::from_millis(200));
    }
    assert!(get(&master).body().contains("today"));
}
