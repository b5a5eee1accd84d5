//! Time of changes with many relays: a site book, and starts by single calls.

use std::time::{Duration, Instant};

use anyhow::Context as _;
use serde_json::{Value, json};

use crate::load::{Load, PATH, key};
use crate::service::Service;
use crate::starts::wait_live;

/// Applies a site book of relays with two pushes each, applies it again without changes, starts every relay by a
/// separate call, and stops them.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(relays: u32) -> anyhow::Result<()> {
    let pushes = relays * 2;
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::start(1, pushes) })?;
    let service = Service::start()?;
    let agent = agent();
    let call = |path: &str, body: &Value| service.post(&agent, path, body);
    let book = json!({ "book": book(&load, relays) });
    println!("{relays} relays with two pushes each");
    for name in ["site book, new", "site book, unchanged"] {
        println!("{name:>24} {:>8.2} s", timed(|| call("book", &book))?.as_secs_f64());
    }
    let each = |act: &str, body: &Value| -> anyhow::Result<Duration> {
        timed(|| (0..relays).try_for_each(|at| call(&format!("relays/relay-{at}/{act}"), body).map(|_| ())))
    };
    println!(
        "{:>24} {:>8.2} s",
        "starts, one by one",
        each("start", &json!({ "force": true }))?.as_secs_f64()
    );
    wait_live(&service)?;
    let cpu = service.cpu_us()?;
    std::thread::sleep(Duration::from_secs(10));
    println!(
        "{:>24} {:>8.1} % of a core, with the media",
        "running",
        (service.cpu_us()? - cpu) as f64 / 100_000.0
    );
    println!("{:>24} {:>8} ms", "GET /relays", service.relays_request_time()?.as_millis());
    println!("{:>24} {:>8.2} s", "site book, unchanged", timed(|| call("book", &book))?.as_secs_f64());
    println!("{:>24} {:>8.2} s", "stops, one by one", each("stop", &json!({}))?.as_secs_f64());
    Ok(())
}

fn agent() -> ureq::Agent {
    ureq::Agent::config_builder().timeout_global(Some(Duration::from_secs(600))).build().into()
}

fn timed<T>(work: impl FnOnce() -> anyhow::Result<T>) -> anyhow::Result<Duration> {
    let begun = Instant::now();
    work()?;
    Ok(begun.elapsed())
}

fn book(load: &Load, relays: u32) -> Value {
    let camera = load.camera.address();
    let feeds = (0..relays)
        .map(|at| json!({ "name": format!("feed-{at}"), "url": format!("rtsp://{camera}{PATH}") }));
    let destinations = (0..relays * 2)
        .map(|at| json!({ "name": format!("push-{at}"), "server": load.platform.server(), "key": key(at) }));
    let lines = (0..relays).map(|at| {
        let to = [format!("push-{}", 2 * at), format!("push-{}", 2 * at + 1)];
        json!({ "name": format!("relay-{at}"), "feed": format!("feed-{at}"), "to": to })
    });
    json!({
        "feeds": feeds.collect::<Vec<_>>(),
        "destinations": destinations.collect::<Vec<_>>(),
        "relays": lines.collect::<Vec<_>>(),
    })
}

impl Service {
    /// Posts to the API and returns the response.
    fn post(&self, agent: &ureq::Agent, path: &str, body: &Value) -> anyhow::Result<Value> {
        let (url, token) = self.access()?;
        let request =
            agent.post(format!("{url}/api/v1/{path}")).header("Authorization", format!("Bearer {token}"));
        let mut response = request.send_json(body).with_context(|| format!("POST {path}: {}", self.log()))?;
        Ok(response.body_mut().with_config().limit(256 * 1024 * 1024).read_json()?)
    }
}
