//! The real program in its own data directory, driven by commands.

use std::fs::{self, File};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context as _, ensure};
use serde_json::Value;
use tempfile::TempDir;

/// Timeout of the start.
const WAIT_TIMEOUT: Duration = Duration::from_secs(20);

/// Resources used by a running service.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct ResourceSample {
    pub(crate) resident_kb: u64,
    pub(crate) files: u64,
    pub(crate) tasks: u64,
}

pub(crate) struct Service {
    home: TempDir,
    child: Option<Child>,
    options: &'static [&'static str],
}

impl Service {
    /// Returns a service with nothing to do yet.
    pub(crate) fn start() -> anyhow::Result<Self> {
        Self::start_with(&[])
    }

    /// The same with further options.
    pub(crate) fn start_with(options: &'static [&'static str]) -> anyhow::Result<Self> {
        let mut service = Self { home: tempfile::tempdir()?, child: None, options };
        service.start_again()?;
        Ok(service)
    }

    /// Starts the program in the same data directory; returns the time until it was ready.
    pub(crate) fn start_again(&mut self) -> anyhow::Result<Duration> {
        let announced = self.home.path().join("service.json");
        // After a kill the old service file still exists.
        let _missing = fs::remove_file(&announced);
        let log = File::options().create(true).append(true).open(self.home.path().join("log.txt"))?;
        let begun = Instant::now();
        let child = Command::new(program()?)
            .args(["serve", "--listen", "127.0.0.1:0", "--home"])
            .arg(self.home.path())
            .args(self.options)
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .context("the program cannot be started; build it with `cargo build --release -p yonder`")?;
        self.child = Some(child);
        while !announced.exists() {
            ensure!(begun.elapsed() < WAIT_TIMEOUT, "the service does not start: {}", self.log());
            std::thread::sleep(Duration::from_millis(5));
        }
        Ok(begun.elapsed())
    }

    /// Kills the program, as a power failure would.
    pub(crate) fn kill(&mut self) -> anyhow::Result<()> {
        if let Some(mut child) = self.child.take() {
            child.kill()?;
            child.wait()?;
        }
        Ok(())
    }

    /// Returns whether the process still runs.
    pub(crate) fn is_running(&mut self) -> bool {
        self.child.as_mut().is_some_and(|child| matches!(child.try_wait(), Ok(None)))
    }

    pub(crate) fn log(&self) -> String {
        fs::read_to_string(self.home.path().join("log.txt")).unwrap_or_default()
    }

    pub(crate) fn home(&self) -> &Path {
        self.home.path()
    }

    /// Runs a command that must succeed, and returns its output.
    pub(crate) fn must(&self, arguments: &[&str], input: &str) -> anyhow::Result<String> {
        let mut child = Command::new(program()?)
            .arg("--home")
            .arg(self.home.path())
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()?;
        child.stdin.take().context("it has an input")?.write_all(input.as_bytes())?;
        let output = child.wait_with_output()?;
        ensure!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        Ok(String::from_utf8(output.stdout)?)
    }

    /// Returns all relays from the API.
    pub(crate) fn relays(&self) -> anyhow::Result<Vec<Value>> {
        let status: Value = serde_json::from_str(&self.must(&["status", "--json"], "")?)?;
        status["relays"].as_array().cloned().context("a status has relays")
    }

    /// Returns the number of live pushes, and of all pushes.
    pub(crate) fn live(&self) -> anyhow::Result<(usize, usize)> {
        let relays = self.relays()?;
        let pushes: Vec<&Value> =
            relays.iter().filter_map(|relay| relay["pushes"].as_array()).flatten().collect();
        Ok((pushes.iter().filter(|push| push["state"] == "live").count(), pushes.len()))
    }

    /// Returns the CPU time of the service, user and system, in microseconds.
    pub(crate) fn cpu_us(&self) -> anyhow::Result<i64> {
        /// Clock ticks per second of `/proc` on Linux.
        const TICKS_PER_SECOND: i64 = 100;
        let child = self.child.as_ref().context("the service runs")?;
        let stat = fs::read_to_string(format!("/proc/{}/stat", child.id()))?;
        // The name in parentheses may contain spaces; the times are the 14th and 15th field.
        let (_, fields) = stat.rsplit_once(')').context("a process has a name")?;
        let times: Vec<i64> =
            fields.split_whitespace().skip(11).take(2).map_while(|time| time.parse().ok()).collect();
        ensure!(times.len() == 2, "unexpected format of /proc: {stat}");
        Ok(times.iter().sum::<i64>() * 1_000_000 / TICKS_PER_SECOND)
    }

    /// Returns the bytes sent by all pushes.
    pub(crate) fn sent_bytes(&self) -> anyhow::Result<u64> {
        let relays = self.relays()?;
        let pushes = relays.iter().filter_map(|relay| relay["pushes"].as_array()).flatten();
        Ok(pushes.filter_map(|push| push["bytes"].as_u64()).sum())
    }

    /// Returns the duration of a request for all relays.
    pub(crate) fn relays_request_time(&self) -> anyhow::Result<Duration> {
        let (url, token) = self.access()?;
        let begun = Instant::now();
        ureq::get(format!("{url}/api/v1/relays"))
            .header("Authorization", format!("Bearer {token}"))
            .call()?
            .body_mut()
            .with_config()
            .limit(256 * 1024 * 1024)
            .read_to_string()?;
        Ok(begun.elapsed())
    }

    /// Returns URL and token of the service.
    pub(crate) fn access(&self) -> anyhow::Result<(String, String)> {
        let facts: Value = serde_json::from_str(&fs::read_to_string(self.home.path().join("service.json"))?)?;
        let url = facts["url"].as_str().context("service.json has no address")?.to_owned();
        let token = fs::read_to_string(self.home.path().join("token"))?;
        Ok((url, token.trim().to_owned()))
    }

    /// Returns memory, open files and tasks, as reported by the service.
    pub(crate) fn sample(&self) -> anyhow::Result<ResourceSample> {
        let (url, token) = self.access()?;
        let text = ureq::get(format!("{url}/metrics"))
            .header("Authorization", format!("Bearer {token}"))
            .call()?
            .body_mut()
            .read_to_string()?;
        let figure = |name: &str| -> anyhow::Result<u64> {
            let value = text.lines().find_map(|line| line.strip_prefix(name)?.trim().parse().ok());
            value.with_context(|| format!("{name} is missing"))
        };
        Ok(ResourceSample {
            resident_kb: figure("yonder_process_resident_memory_bytes ")? / 1024,
            files: figure("yonder_process_open_files ")?,
            tasks: figure("yonder_process_tasks ")?,
        })
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        // The process may have ended already.
        let _gone = self.kill();
    }
}

/// Returns the path of the program built next to this one.
fn program() -> anyhow::Result<PathBuf> {
    Ok(std::env::current_exe()?.with_file_name("yonder"))
}
