//! CPU per delivered byte of feeds that encoders publish, beside that of the same feeds when they are pulled.

use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use serde_json::Value;
use yonder_address::{StreamKey, read_server};
use yonder_sim::{Encoder, EncoderConfig};

use crate::capacity::register;
use crate::children::Count;
use crate::load::{Load, key};
use crate::service::Service;
use crate::starts::wait_live;

/// Time for connections, first keyframes and first allocations, which are not part of the figure.
const SETTLE: Duration = Duration::from_secs(12);
/// Options that start the listeners.
const LISTENERS: [&str; 4] = ["--ingest-rtmp", "127.0.0.1:0", "--ingest-srt", "127.0.0.1:0"];

/// Measures pulled feeds, then feeds that are published by RTMP, then by SRT.
#[expect(clippy::print_stdout, reason = "this is the figure")]
pub(crate) fn run(publishers: u32, pushes: u32, kbps: u32, seconds: u64) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
    let load = runtime.block_on(async { Load::with_audio(kbps, publishers * pushes) })?;
    println!("{publishers} feeds of {kbps} kbit/s with AAC, {pushes} pushes each, {seconds} s");
    println!("source    ns/byte   cores   resident");
    let pulled = {
        let service = Service::start()?;
        register(&service, &load, publishers, pushes)?;
        print("pulled", &measure(&service, seconds)?, &service, seconds)?
    };
    for protocol in ["rtmp", "srt"] {
        let service = Service::start_with(&LISTENERS)?;
        let mut encoders = Vec::new();
        for feed in 0..publishers {
            let name = format!("Line {feed:03}");
            service.must(&["feed", "add", &name, "--ingest"], "")?;
            let access: Value =
                serde_json::from_str(&service.must(&["feed", "reveal", &name, "--json"], "")?)?;
            let server = match protocol {
                "srt" => access["srt"]["address"].as_str().and_then(|address| address.split('?').next()),
                _ => access["rtmp"]["server"].as_str(),
            };
            let mut add: Vec<String> = ["relay", "add", &name, "--feed", &name].map(str::to_owned).to_vec();
            for push in 0..pushes {
                let at = feed * pushes + push;
                let (to, server) = (format!("Channel {at:03}"), load.platform.server());
                service.must(&["destination", "add", &to, "--server", &server, "--key-stdin"], &key(at))?;
                add.extend(["--to".to_owned(), to]);
            }
            service.must(&add.iter().map(String::as_str).collect::<Vec<_>>(), "")?;
            service.must(&["relay", "start", &name, "--force"], "")?;
            let config = EncoderConfig {
                server: read_server(server.context("the service listens")?)?.0,
                key: StreamKey::from_stored(access["key"].as_str().context("a key")?.to_owned().into()),
                encryption: None,
                media: Arc::clone(&load.media),
            };
            encoders.push(runtime.block_on(async { Encoder::start(config) }));
        }
        let published = print(protocol, &measure(&service, seconds)?, &service, seconds)?;
        println!("          {:.2} of the pulled figure", published / pulled);
    }
    Ok(())
}

fn measure(service: &Service, seconds: u64) -> anyhow::Result<Count> {
    wait_live(service)?;
    std::thread::sleep(SETTLE);
    let (cpu_before, bytes_before) = (service.cpu_us()?, service.sent_bytes()?);
    std::thread::sleep(Duration::from_secs(seconds));
    Ok(Count { cpu_us: service.cpu_us()? - cpu_before, bytes: service.sent_bytes()? - bytes_before })
}

/// Prints a line, and returns the nanoseconds per delivered byte.
#[expect(clippy::print_stdout, reason = "this is the figure")]
#[expect(clippy::cast_precision_loss, reason = "counts here are far below the precision of a float")]
fn print(source: &str, count: &Count, service: &Service, seconds: u64) -> anyhow::Result<f64> {
    let cores = count.cpu_us as f64 / (seconds as f64 * 1e6);
    let resident = service.sample()?.resident_kb / 1_024;
    println!("{source:<8} {:>8.2} {cores:>7.3} {resident:>7} MB", count.ns_per_byte());
    Ok(count.ns_per_byte())
}
