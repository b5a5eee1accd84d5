//! The public pages of signposts, as a viewer's browser plays them.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::TcpListener;
use std::time::Duration;

use fantoccini::Locator;
use serde_json::{Value, json};
use tokio::time::Instant;

use crate::browser::Browser;
use crate::support::{Service, WAIT_TIMEOUT, World};

/// Position and interruptions of the playback.
struct Playback {
    time: f64,
    stalls: u64,
    delay_s: f64,
}

/// Counts interruptions after the first picture.
const COUNT_STALLS: &str = "
    const video = document.querySelector('video');
    if (window.stalls === undefined) {
        window.stalls = 0;
        video.addEventListener('waiting', () => { window.stalls += 1; });
    }
    const end = video.buffered.length > 0 ? video.buffered.end(video.buffered.length - 1) : 0;
    return { time: video.currentTime, stalls: window.stalls, delay: end - video.currentTime };";

/// State of the page, for a test that fails.
const STATE: &str = "
    const video = document.querySelector('video');
    const ranges = [];
    for (let i = 0; i < video.buffered.length; i++) { ranges.push([video.buffered.start(i), video.buffered.end(i)]); }
    return {
        time: video.currentTime, paused: video.paused, hidden: video.hidden, ready: video.readyState, ranges,
        error: video.error && video.error.message, message: document.querySelector('#message').textContent,
    };";

async fn playback(browser: &Browser) -> Playback {
    let value = browser.run(COUNT_STALLS).await;
    let number = |name: &str| value[name].as_f64().unwrap();
    Playback { time: number("time"), stalls: value["stalls"].as_u64().unwrap(), delay_s: number("delay") }
}

/// Waits until the picture has gone on for some seconds.
async fn see_progress(browser: &Browser, seconds: f64) {
    let deadline = Instant::now() + WAIT_TIMEOUT + Duration::from_secs_f64(seconds);
    let (mut last, mut progress) = (playback(browser).await.time, 0.0);
    while progress < seconds {
        tokio::time::sleep(Duration::from_millis(250)).await;
        let time = playback(browser).await.time;
        // A stream that begins again begins at another time.
        progress += (time - last).clamp(0.0, 0.5);
        last = time;
        if Instant::now() >= deadline {
            let state = browser.run(STATE).await;
            let log = browser.log().await;
            panic!("the picture has gone on for {progress} of {seconds} s: {state:#}, {log:#?}");
        }
    }
}

fn public(service: &Service) -> String {
    let facts = std::fs::read(service.home.path().join("service.json")).unwrap();
    let facts: Value = serde_json::from_slice(&facts).unwrap();
    facts["public"].as_str().unwrap().to_owned()
}

/// Serves a page at an origin of its own, and returns its address.
fn serve_page(html: String) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let mut head = BufReader::new(stream.try_clone().unwrap()).lines();
            while head.next().is_some_and(|line| line.is_ok_and(|line| !line.is_empty())) {}
            let length = html.len();
            // The browser may have gone.
            let _written = write!(
                stream,
                "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n{html}"
            );
        }
    });
    format!("http://{address}/")
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    tokio::task::spawn_blocking(work).await.unwrap()
}

/// Starts a service with a signpost, whose relay is off.
async fn start() -> (Service, World) {
    blocking(|| {
        let service = Service::start_with(|command| {
            command.args(["--public", "127.0.0.1:0"]);
        });
        let world = World::start();
        service.set_up_line(&world);
        let add = [
            "signpost",
            "add",
            "viaduct",
            "--relay",
            "Line",
            "--title",
            "The viaduct",
            "--status-page",
            "on",
        ];
        service.must(&add, "");
        (service, world)
    })
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_page_goes_live_by_itself_and_comes_back_after_every_break() {
    let browser = Browser::start(1280, 800).await;
    let (service, world) = start().await;
    let public = public(&service);
    browser.client.goto(&format!("{public}/w/viaduct")).await.unwrap();
    browser.see("//p[@role='status'][text()='Nothing is on air at the moment.']").await;
    browser.picture("watch-off-air").await;
    let service = blocking(move || {
        service.must(&["relay", "start", "Line"], "");
        service.wait_live("Line");
        service
    })
    .await;
    browser.see("//video[not(@hidden)]").await;
    see_progress(&browser, 3.0).await;
    // No interruption while nothing is wrong, and not far behind.
    let before = playback(&browser).await;
    see_progress(&browser, 20.0).await;
    let after = playback(&browser).await;
    assert_eq!(after.stalls - before.stalls, 0, "the playback was interrupted");
    assert!(after.delay_s < 6.0, "{} s are buffered", after.delay_s);
    browser.picture("watch").await;

    // The camera is away for some seconds; there is no holding picture yet.
    let world = blocking(move || {
        world.camera_off();
        std::thread::sleep(Duration::from_secs(5));
        world.camera_on();
        world
    })
    .await;
    see_progress(&browser, 8.0).await;

    // The service restarts at the same address.
    let address = public.trim_start_matches("http://").to_owned();
    let service = blocking(move || {
        let mut service = service;
        assert!(service.stop());
        service.start_again_with(|command| {
            command.args(["--public", &address]);
        });
        service.wait_live("Line");
        service
    })
    .await;
    see_progress(&browser, 8.0).await;

    // The page was not touched.
    let pauses = browser.run("return document.querySelector('video').paused;").await;
    assert_eq!(pauses, json!(false));
    browser.client.goto(&format!("{public}/w/viaduct/status")).await.unwrap();
    browser.see("//p[contains(., 'available in the last 24 hours')]").await;
    browser.picture("watch-status").await;
    browser.close().await;
    drop((service, world));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_embedded_page_plays_in_another_site() {
    let browser = Browser::start(1280, 800).await;
    let (service, world) = start().await;
    let snippet = blocking({
        let shown = service.must(&["signpost", "show", "viaduct", "--json"], "");
        move || {
            serde_json::from_str::<Value>(&shown).unwrap()["links"]["snippet"].as_str().unwrap().to_owned()
        }
    })
    .await;
    let service = blocking(move || {
        service.must(&["relay", "start", "Line"], "");
        service.wait_live("Line");
        service
    })
    .await;
    // A page of another origin.
    let page = format!(
        "<!doctype html><body style=\"margin:2rem;max-width:40rem\"><h1>The client</h1>{snippet}</body>"
    );
    browser.client.goto(&serve_page(page)).await.unwrap();
    let frame = browser.see("//iframe").await;
    let size = frame.rectangle().await.unwrap();
    assert!((size.2 / size.3 - 16.0 / 9.0).abs() < 0.02, "{size:?}");
    frame.enter_frame().await.unwrap();
    browser.see("//video[not(@hidden)]").await;
    see_progress(&browser, 5.0).await;
    assert!(browser.client.find(Locator::XPath("//h1")).await.unwrap().text().await.unwrap().is_empty());
    browser.client.enter_parent_frame().await.unwrap();
    browser.picture("watch-embed").await;
    browser.close().await;
    drop((service, world));
}
