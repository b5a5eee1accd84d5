//! Requests that the service runs as jobs, which the client follows across lost connections.

use std::io::{self, IsTerminal as _};
use std::thread::sleep;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use serde::Serialize;
use serde::de::DeserializeOwned;
use ureq::Body;
use ureq::http::Response;
use yonder_api::{Job, JobState};

use super::{Client, TIMEOUT, check, read};
use crate::failure::Failure;

/// Maximum wait of the service for the end of the job, in seconds.
const WAIT_S: u32 = 10;
/// Time without contact after which the command gives up; the job continues.
const LOST_TIMEOUT: Duration = Duration::from_secs(120);
/// Interval of attempts to reach the service again.
const RETRY_INTERVAL: Duration = Duration::from_secs(1);
/// Interval of progress requests.
const PROGRESS_INTERVAL: Duration = Duration::from_millis(500);
/// Interval without a terminal: the request itself waits for the job.
const QUIET_INTERVAL: Duration = Duration::ZERO;

impl Client {
    /// Runs a request as a job, and returns its result.
    pub(crate) fn run_job<B: Serialize, T: DeserializeOwned>(
        &self,
        path: &[&str],
        body: &B,
    ) -> Result<T, Failure> {
        let response = self.begin_job(path, &serde_json::to_value(body).map_err(anyhow::Error::from)?)?;
        if response.status() != 202 {
            return read(response);
        }
        let job = self.wait_for_job(read(response)?)?;
        let result = job.result.unwrap_or_default();
        serde_json::from_value(result).map_err(|error| {
            Failure::NotReachable(format!("The result of job {} has an unexpected form: {error}.", job.id))
        })
    }

    /// Runs a job whose result is a file, and returns the job once it is done.
    pub(crate) fn run_file_job(&self, path: &[&str]) -> Result<Job, Failure> {
        self.wait_for_job(read(self.begin_job(path, &serde_json::json!({}))?)?)
    }

    /// Sends a request, and repeats it after a lost response: the idempotency key identifies it.
    fn begin_job(&self, path: &[&str], body: &serde_json::Value) -> Result<Response<Body>, Failure> {
        let key = format!("{:016x}", rand::random::<u64>());
        let begun = Instant::now();
        loop {
            let request = self.agent.post(self.url(path)).header("Authorization", self.authorization());
            let request = request.header("Prefer", "respond-async").header("Idempotency-Key", &key);
            let sent = request.config().timeout_global(Some(TIMEOUT)).build().send_json(body);
            match sent {
                Err(error) if is_lost(&error) && begun.elapsed() < LOST_TIMEOUT => sleep(RETRY_INTERVAL),
                sent => return check(self.sent(sent)?),
            }
        }
    }

    /// Follows a job until it has ended, with its progress on a terminal.
    pub(crate) fn wait_for_job(&self, mut job: Job) -> Result<Job, Failure> {
        let bar = Progress::new();
        let mut last_contact = Instant::now();
        loop {
            bar.show(&job);
            match job.state {
                JobState::Running => {}
                JobState::Done => return Ok(job),
                JobState::Failed | JobState::Canceled => {
                    let problem = job.problem.map(Box::new);
                    return Err(problem.map_or(Failure::AlreadyReported, Failure::Refused));
                }
            }
            match self.job(&job.id, bar.wait_s()) {
                Ok(news) => {
                    job = news;
                    last_contact = Instant::now();
                    sleep(bar.interval(&job));
                }
                Err(Failure::NotReachable(_)) if last_contact.elapsed() < LOST_TIMEOUT => {
                    bar.show_lost();
                    sleep(RETRY_INTERVAL);
                }
                Err(Failure::NotReachable(text)) => {
                    return Err(Failure::NotReachable(format!(
                        "{text} Job {} may still run: `yonder job show {}`.",
                        job.id, job.id
                    )));
                }
                Err(Failure::Refused(problem)) if problem.status == 404 => {
                    return Err(Failure::Other(anyhow::anyhow!(
                        "job {} is gone: the service was restarted before it ended",
                        job.id
                    )));
                }
                Err(failure) => return Err(failure),
            }
        }
    }

    /// Returns a job, at the latest after `wait_s` seconds.
    pub(crate) fn job(&self, id: &str, wait_s: u32) -> Result<Job, Failure> {
        self.get_with(&["jobs", id], &[("wait_s", &wait_s.to_string())])
    }
}

/// Returns true if the connection was lost after the request may have arrived. An unreachable service is reported at once.
fn is_lost(error: &ureq::Error) -> bool {
    match error {
        ureq::Error::Io(error) => error.kind() != io::ErrorKind::ConnectionRefused,
        ureq::Error::Timeout(_) => true,
        _ => false,
    }
}

/// Progress on standard error, if that is a terminal.
pub(crate) struct Progress(Option<ProgressBar>);

impl Progress {
    pub(crate) fn new() -> Self {
        Self(io::stderr().is_terminal().then(|| {
            let bar = ProgressBar::new_spinner();
            bar.enable_steady_tick(Duration::from_millis(120));
            bar
        }))
    }

    /// Shows a step without a known number of parts.
    pub(crate) fn show_step(&self, step: &'static str) {
        if let Some(bar) = &self.0 {
            bar.set_message(step);
        }
    }

    fn show(&self, job: &Job) {
        let Some(bar) = &self.0 else { return };
        if let Some(total) = job.progress.total
            && let Ok(style) = ProgressStyle::with_template("{spinner} {bar:30} {pos}/{len} {msg}")
        {
            bar.set_style(style);
            bar.set_length(u64::from(total));
            bar.set_position(u64::from(job.progress.done));
        }
        bar.set_message(job.progress.step.clone());
        if job.state.has_ended() {
            bar.finish_and_clear();
        }
    }

    fn show_lost(&self) {
        if let Some(bar) = &self.0 {
            bar.set_message("the service does not answer; still trying");
        }
    }

    /// Returns the maximum wait: a terminal shows each step, otherwise only the end matters.
    fn wait_s(&self) -> u32 {
        if self.0.is_some() { 0 } else { WAIT_S }
    }

    fn interval(&self, job: &Job) -> Duration {
        if self.0.is_some() && !job.state.has_ended() { PROGRESS_INTERVAL } else { QUIET_INTERVAL }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let Some(bar) = &self.0 {
            bar.finish_and_clear();
        }
    }
}
