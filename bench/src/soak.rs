//! Soak test: an hour of random faults of cameras and platforms, with calm moments in which the service must not use
//! more resources than in the first one.

use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context as _, ensure};
use clap::Args;
use rand::rngs::StdRng;
use rand::{RngExt as _, SeedableRng as _};
use yonder_sim::{
    Camera, CameraConfig, CameraFaults, CameraStream, Certificate, LoopMedia, Platform, PlatformConfig,
    PlatformFaults, SrtConfig, TestAuthority, railway_feeds,
};

use crate::service::{ResourceSample, Service};

/// Parameters of a soak.
#[derive(Debug, Args)]
pub(crate) struct Soak {
    /// Relays.
    #[arg(long, default_value_t = 20)]
    relays: usize,
    /// Duration in minutes.
    #[arg(long, default_value_t = 60)]
    minutes: u64,
    /// Minutes between calm moments.
    #[arg(long, default_value_t = 5)]
    calm_every: u64,
    /// Seed of the faults; the same seed gives the same faults.
    #[arg(long, default_value_t = 20_261_123)]
    seed: u64,
}

/// Pushes of each relay: RTMP, RTMPS and SRT.
const CHANNELS: [&str; 3] = ["rtmp", "rtmps", "srt"];
/// Mean interval of faults.
const FAULT_EVERY: Duration = Duration::from_secs(3);
/// Maximum duration of a fault, in seconds.
const LONGEST: u64 = 25;
/// Maximum time until all relays are live after the last fault: the longest retry delay to a platform, and the timeout
/// of a silent one.
const MENDED_WITHIN: Duration = Duration::from_secs(75);
/// Maximum increase from the first calm moment to later ones: memory in percent; files and tasks, some of which belong
/// to requests.
const MORE_MEMORY_PERCENT: u64 = 15;
const MORE_FILES: u64 = 10;
/// Mean rate of state lines in the log beyond which states flap.
const MAX_STATE_LINES_PER_SECOND: f64 = 2.0;

/// Camera and platform of a relay.
struct Line {
    name: String,
    path: &'static str,
    camera: Camera,
    platform: Platform,
    /// The present fault and its end; `None` without a fault.
    fault: Option<(Fault, Instant)>,
}

/// Fault. Cameras and platforms get it as a command of their standard input.
#[derive(Debug, Clone, Copy)]
enum Fault {
    CameraOff,
    PlatformOff,
    Camera(&'static str),
    Platform(&'static str),
    /// Hold or stop by command; resume or start at its end.
    Hold,
    Stop,
}

const FAULTS: [Fault; 33] = [
    Fault::CameraOff,
    Fault::CameraOff,
    Fault::Camera("freeze"),
    Fault::Camera("freeze"),
    Fault::Camera("jump 100"),
    Fault::Camera("jump -30"),
    Fault::Camera("renumber"),
    Fault::Camera("garbage"),
    Fault::Camera("goodbye"),
    Fault::Camera("keyframes off"),
    Fault::Camera("lose 5"),
    Fault::Camera("shuffle 5"),
    Fault::Camera("refuse 503"),
    Fault::Camera("refuse 404"),
    Fault::Camera("late 350"),
    Fault::Camera("ntp zero"),
    Fault::Camera("drift 5000"),
    Fault::Camera("drift -5000"),
    Fault::Platform("refuse-app"),
    Fault::Platform("bad-name"),
    Fault::Platform("refuse-key internal error with {key}"),
    Fault::Platform("busy 20"),
    Fault::PlatformOff,
    Fault::PlatformOff,
    Fault::Platform("freeze"),
    Fault::Platform("slow 300"),
    Fault::Platform("silent connect"),
    Fault::Platform("reset"),
    Fault::Platform("flaky 3"),
    Fault::Platform("end"),
    Fault::Platform("lose 2"),
    Fault::Hold,
    Fault::Stop,
];

/// Runs the soak, prints each calm moment, and fails if one is worse than the first.
#[expect(clippy::print_stdout, reason = "a table is what this program is for")]
pub(crate) fn run(soak: &Soak) -> anyhow::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let _inside = runtime.enter();
    let authority = TestAuthority::new()?;
    let mut lines = (0..soak.relays)
        .map(|number| Line::start(number, authority.issue("localhost")?))
        .collect::<anyhow::Result<Vec<_>>>()?;
    let mut service = Service::start()?;
    let authority_file = service.home().join("authority.pem");
    std::fs::write(&authority_file, authority.pem())?;
    for line in &lines {
        line.register(&service, &authority_file.to_string_lossy())?;
    }
    println!("{} relays with {} pushes each, seed {}", soak.relays, CHANNELS.len(), soak.seed);
    println!("minute    live   faults   memory kB   files   tasks   mended within");
    let begun = Instant::now();
    let mut random = StdRng::seed_from_u64(soak.seed);
    let mut calm = Vec::new();
    let mut faults = 0;
    loop {
        let (took, taken) = settle(&mut service, &mut lines)?;
        let (live, pushes) = service.live()?;
        let minute = begun.elapsed().as_secs_f64() / 60.0;
        println!(
            "{minute:>6.1} {live:>4}/{pushes:<3} {faults:>6} {:>11} {:>7} {:>7} {:>9.1} s",
            taken.resident_kb,
            taken.files,
            taken.tasks,
            took.as_secs_f64()
        );
        calm.push(taken);
        if begun.elapsed() >= Duration::from_secs(soak.minutes * 60) {
            break;
        }
        let until = Instant::now() + Duration::from_secs(soak.calm_every * 60);
        while Instant::now() < until {
            mend(&service, &mut lines, false)?;
            let line = random.random_range(0..lines.len());
            let fault = FAULTS[random.random_range(0..FAULTS.len())];
            let lasts = Duration::from_secs(random.random_range(1..=LONGEST));
            if let Some(line) = lines.get_mut(line).filter(|line| line.fault.is_none()) {
                line.suffer(fault, &service, &runtime)?;
                line.fault = Some((fault, Instant::now() + lasts));
                faults += 1;
            }
            let pause = FAULT_EVERY.mul_f64(random.random_range(0.2..1.8));
            std::thread::sleep(pause);
        }
    }
    let log = service.log();
    let crashes = log.lines().filter(|line| line.contains("panic")).count();
    ensure!(crashes == 0, "{crashes} panics are in the log");
    let states = log.lines().filter(|line| line.contains(" state=")).count();
    #[expect(clippy::cast_precision_loss, reason = "some thousands of lines")]
    let per_second = states as f64 / begun.elapsed().as_secs_f64();
    println!("{states} state lines in the log, {per_second:.2} per second");
    ensure!(per_second < MAX_STATE_LINES_PER_SECOND, "states flap: {per_second:.2} lines per second");
    let planted: usize =
        CHANNELS.iter().map(|channel| log.matches(&format!("soak-{channel}-")).count()).sum();
    ensure!(planted == 0, "stream keys are in the log {planted} times");
    check_growth(&calm)
}

impl Line {
    fn start(number: usize, certificate: Certificate) -> anyhow::Result<Self> {
        let feeds = railway_feeds();
        let feed = feeds[number % feeds.len()];
        let stream = CameraStream { path: feed.path.into(), media: Arc::new(feed.main()) };
        let camera = Camera::start(CameraConfig { streams: vec![stream], ..CameraConfig::default() })?;
        let channels = CHANNELS.iter().map(|name| ((*name).to_owned(), key(number, name).into())).collect();
        let platform = Platform::start(PlatformConfig {
            app: "live".into(),
            channels,
            tls: Some((0, certificate)),
            srt: Some(SrtConfig::default()),
            ..PlatformConfig::default()
        })?;
        Ok(Self { name: format!("Line {number:02}"), path: feed.path, camera, platform, fault: None })
    }

    /// Registers feed, destinations and relay by command. Every other feed uses UDP.
    fn register(&self, service: &Service, authority: &str) -> anyhow::Result<()> {
        let number: usize = self.name.trim_start_matches("Line ").parse()?;
        let (name, url) = (self.name.as_str(), self.camera.url(self.path));
        let transport = if number.is_multiple_of(2) { "tcp" } else { "udp" };
        service.must(&["feed", "add", name, "--url", &url, "--transport", transport], "")?;
        let tls_server = self.platform.tls_server().context("it speaks RTMPS")?;
        let srt_server = self.platform.srt_server().context("it speaks SRT")?;
        let servers = [self.platform.server(), tls_server, srt_server];
        let mut relay = vec!["relay", "add", name, "--feed", name];
        let names: Vec<String> = CHANNELS.iter().map(|channel| format!("{name} {channel}")).collect();
        for ((channel, destination), server) in CHANNELS.iter().zip(&names).zip(&servers) {
            let mut add = vec!["destination", "add", destination, "--server", server, "--key-stdin"];
            if *channel == "rtmps" {
                add.extend(["--authority", authority]);
            }
            service.must(&add, &key(number, channel))?;
            relay.extend(["--to", destination]);
        }
        service.must(&relay, "")?;
        service.must(&["relay", "start", name, "--force"], "")?;
        Ok(())
    }

    fn suffer(
        &mut self,
        fault: Fault,
        service: &Service,
        runtime: &tokio::runtime::Runtime,
    ) -> anyhow::Result<()> {
        match fault {
            Fault::CameraOff => runtime.block_on(self.camera.switch_off()),
            Fault::PlatformOff => runtime.block_on(self.platform.switch_off()),
            Fault::Camera(words) => {
                let mut applied = Ok(());
                let other: Arc<LoopMedia> = Arc::new(railway_feeds()[1].main());
                self.camera.change(|faults| applied = faults.apply_command(words, &other));
                applied.map_err(anyhow::Error::msg)?;
            }
            Fault::Platform(words) => {
                let mut applied = Ok(());
                self.platform.change(|faults| applied = faults.apply_command(words));
                applied.map_err(anyhow::Error::msg)?;
            }
            Fault::Hold => {
                service.must(&["relay", "hold", &self.name], "")?;
            }
            Fault::Stop => {
                service.must(&["relay", "stop", &self.name], "")?;
            }
        }
        Ok(())
    }

    /// Ends the fault. Counters of events are kept, so that nothing happens twice. The relay is only touched if it was
    /// stopped or held: all else must recover by itself.
    fn mend(&mut self, service: &Service) -> anyhow::Result<()> {
        let fault = self.fault.take();
        self.camera.change(|faults| {
            let CameraFaults { time_jump, new_source, garbage, goodbye, .. } = *faults;
            *faults = CameraFaults { time_jump, new_source, garbage, goodbye, ..CameraFaults::default() };
        });
        self.platform.change(|faults| {
            let PlatformFaults { resets, forgets, .. } = *faults;
            let ends = faults.ends.clone();
            *faults = PlatformFaults { resets, forgets, ends, ..PlatformFaults::default() };
        });
        self.camera.switch_on()?;
        self.platform.switch_on()?;
        match fault {
            Some((Fault::Stop, _)) => service.must(&["relay", "start", &self.name, "--force"], "")?,
            Some((Fault::Hold, _)) => service.must(&["relay", "resume", &self.name], "")?,
            _ => String::new(),
        };
        Ok(())
    }
}

fn key(number: usize, channel: &str) -> String {
    format!("soak-{channel}-{number}")
}

/// Ends the faults that are due, or all of them.
fn mend(service: &Service, lines: &mut [Line], all: bool) -> anyhow::Result<()> {
    let now = Instant::now();
    for line in lines.iter_mut().filter(|line| line.fault.is_some_and(|(_, ends)| all || ends <= now)) {
        line.mend(service)?;
    }
    Ok(())
}

/// Ends all faults and waits until every push is live; returns the duration, and the resources of the service then.
fn settle(service: &mut Service, lines: &mut [Line]) -> anyhow::Result<(Duration, ResourceSample)> {
    mend(service, lines, true)?;
    let mended = Instant::now();
    loop {
        ensure!(service.is_running(), "the service ended: {}", service.log());
        let (live, pushes) = service.live()?;
        if live == pushes {
            break;
        }
        let stuck = || service.must(&["status"], "").unwrap_or_default();
        ensure!(mended.elapsed() < MENDED_WITHIN, "not all live in time:\n{}", stuck());
        std::thread::sleep(Duration::from_millis(200));
    }
    let took = mended.elapsed();
    // Time for closed connections to disappear.
    std::thread::sleep(Duration::from_secs(8));
    Ok((took, service.sample()?))
}

#[expect(clippy::print_stdout, reason = "the verdict")]
fn check_growth(calm: &[ResourceSample]) -> anyhow::Result<()> {
    // The first calm moment precedes all faults; pools and rings fill afterwards.
    let (Some(first), Some(last)) = (calm.get(1), calm.last()) else { return Ok(()) };
    ensure!(last.files <= first.files + MORE_FILES, "files grew from {} to {}", first.files, last.files);
    ensure!(last.tasks <= first.tasks + MORE_FILES, "tasks grew from {} to {}", first.tasks, last.tasks);
    let (before, after) = memory(calm);
    println!("memory: {before} kB in the first half, {after} kB in the second");
    ensure!(after * 100 <= before * (100 + MORE_MEMORY_PERCENT), "memory grew");
    println!("Flat: memory, files and tasks do not grow.");
    Ok(())
}

/// Returns the mean memory of the calm moments of each half, in kB, without the one before all faults. A single moment
/// depends on the last faults.
fn memory(calm: &[ResourceSample]) -> (u64, u64) {
    let of = |part: &[ResourceSample]| {
        part.iter().map(|taken| taken.resident_kb).sum::<u64>()
            / u64::try_from(part.len().max(1)).unwrap_or(1)
    };
    let rest = calm.get(1..).unwrap_or_default();
    let (first, second) = rest.split_at(rest.len() / 2);
    (of(first), of(second))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn calm(kb: &[u64]) -> Vec<ResourceSample> {
        kb.iter()
            .map(|resident_kb| ResourceSample { resident_kb: *resident_kb, files: 10, tasks: 20 })
            .collect()
    }

    #[test]
    fn growing_memory_is_distinguished_from_fluctuating_memory() {
        assert!(check_growth(&calm(&[100, 118, 140, 120, 141, 126, 139, 119])).is_ok());
        assert!(check_growth(&calm(&[100, 118, 125, 130, 140, 150, 160, 170])).is_err());
    }

    #[test]
    fn growing_files_and_tasks_are_distinguished_from_temporary_ones() {
        let mut samples = calm(&[100, 100, 100]);
        samples[2].files += MORE_FILES;
        assert!(check_growth(&samples).is_ok());
        samples[2].tasks += MORE_FILES + 1;
        assert!(check_growth(&samples).is_err());
    }
}
