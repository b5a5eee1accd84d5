//! Five hundred lines with live changes: the list stays smooth, and the stream of events bounded.

use crate::PASSWORD;
use crate::browser::Browser;
use crate::support::{CAMERA_PASSWORD, Service, World, say};

const LINES: usize = 500;
/// Longest task of the page, with an allowance for busy machines. Tasks longer than 50 ms are noticeable.
const LONGEST_TASK_MS: f64 = 400.0;
/// Maximum bytes per second to a browser.
const MAX_EVENT_BYTES: f64 = 600_000.0;

/// Five hundred relays of one camera that flows, each to a channel on a server that is not there: every second all
/// of them move, and some dial and fail.
fn set_up(service: &Service, world: &World) {
    let url = world.camera.url("/viaduct/main");
    let mut book = format!(
        "book = 1\n\n[feed.Viaduct]\nurl = {url:?}\nuser = \"rail\"\npassword = {{ file = \"camera\" }}\n"
    );
    service.file("camera", CAMERA_PASSWORD);
    for at in 0..LINES {
        service.file(&format!("key-{at}"), &format!("a-key-of-some-length-{at}"));
        book += &format!(
            "\n[destination.\"Channel {at}\"]\nserver = \"rtmp://127.0.0.1:9/live\"\nkey = {{ file = \"key-{at}\" }}\n\
             \n[relay.\"Line {at}\"]\nfeed = \"Viaduct\"\nto = [\"Channel {at}\"]\nwanted = \"on\"\n"
        );
    }
    let book = service.file("crowd.toml", &book);
    service.must(&["book", "apply", &book, "--force"], "");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn five_hundred_relays_with_live_changes_scroll_and_filter_smoothly() {
    let browser = Browser::start(1280, 800).await;
    let (service, world) = tokio::task::spawn_blocking(|| {
        let (service, world) = (Service::start(), World::start());
        set_up(&service, &world);
        (service, world)
    })
    .await
    .unwrap();
    browser.set_up(&service, PASSWORD).await;
    browser.see("//article").await;
    // Drawing the list for the first time is not part of it.
    let idle = "for (let round = 0; round < 3; round++) await new Promise((done) => requestIdleCallback(done)); return true;";
    browser.run(idle).await;
    let figures = browser
        .run(
            "const tasks = [];
             new PerformanceObserver((list) => list.getEntries().forEach((entry) => tasks.push(entry.duration))).observe({ type: 'longtask' });
             const rest = (ms) => new Promise((done) => setTimeout(done, ms));
             const begun = performance.now();
             const height = document.documentElement.scrollHeight;
             let most = 0;
             for (let y = 0; y < height && y < 60_000; y += 400) {
                 scrollTo(0, y);
                 await rest(16);
                 most = Math.max(most, document.querySelectorAll('article').length);
             }
             scrollTo(0, 0);
             const search = document.querySelector('input[type=search]');
             const type = (text) => {
                 Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(search, text);
                 search.dispatchEvent(new Event('input', { bubbles: true }));
             };
             for (const text of ['L', 'Li', 'Line', 'Line 4', 'Line 49', 'Line 499', '']) {
                 type(text);
                 await rest(150);
             }
             const seconds = (performance.now() - begun) / 1000;
             return { height, most, seconds, tasks: tasks.length, longest: Math.max(0, ...tasks), busy: tasks.reduce((sum, each) => sum + each, 0) };",
        )
        .await;
    let number = |name: &str| figures[name].as_f64().unwrap();
    say(&format!(
        "{LINES} lines: {:.1} s of scrolling and filtering, {} tasks over 50 ms, the longest {:.0} ms, {:.0} ms in all; \
         {} lines drawn at most",
        number("seconds"),
        number("tasks"),
        number("longest"),
        number("busy"),
        number("most")
    ));
    assert!(number("height") > 40_000.0 && number("most") < 40.0, "{figures}");
    assert!(number("longest") < LONGEST_TASK_MS, "{figures}");

    let bytes = browser
        .run(
            "const cut = new AbortController();
             const stream = (await fetch('/api/v1/events', { signal: cut.signal })).body.getReader();
             const begun = performance.now();
             let [bytes, first] = [0, null];
             while (performance.now() - begun < 6000) {
                 const { value } = await stream.read();
                 // The initial state is sent once.
                 if (performance.now() - begun > 2000) {
                     first ??= performance.now();
                     bytes += value.length;
                 }
             }
             const seconds = (performance.now() - first) / 1000;
             cut.abort();
             return bytes / seconds;",
        )
        .await;
    let bytes = bytes.as_f64().unwrap();
    say(&format!("{LINES} lines: {:.0} kB of events a second", bytes / 1000.0));
    assert!(bytes > 0.0 && bytes < MAX_EVENT_BYTES, "{bytes}");
    browser.close().await;
    drop((service, world));
}
