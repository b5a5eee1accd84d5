//! Jobs: background work that may take longer than an HTTP request. A job has progress, can be canceled, and continues
//! when the caller disconnects.

use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use parking_lot::Mutex;
use rand::RngExt as _;
use serde_json::Value;
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use yonder_api::{JobKind, JobProgress, JobState};

use crate::error::ServiceError;
use crate::time;

/// Maximum running jobs.
const MAX_RUNNING: usize = 32;
/// Maximum ended jobs; the oldest are dropped.
const MAX_ENDED: usize = 200;
/// Retention of an ended job.
const ENDED_TTL: Duration = Duration::from_secs(3_600);

/// Outcome of a job, as in the API.
pub type Outcome = Result<Value, Arc<ServiceError>>;

/// Parameters of a new job.
#[derive(Debug, Clone)]
pub struct NewJob {
    /// Kind of work.
    pub kind: JobKind,
    /// Name of the record concerned.
    pub about: Option<String>,
    /// Person or token that started it.
    pub who: String,
    /// Idempotency key of the request: a repeated request returns the same job.
    pub request_key: Option<String>,
}

impl NewJob {
    fn is_same_request(&self, other: &Self) -> bool {
        self.request_key.is_some()
            && (self.kind, &self.about, &self.who, &self.request_key)
                == (other.kind, &other.about, &other.who, &other.request_key)
    }
}

/// Job.
#[derive(Debug)]
pub struct JobEntry {
    id: String,
    new: NewJob,
    began: SystemTime,
    cancel: CancellationToken,
    status: watch::Sender<Status>,
    /// File created by the job, removed with it.
    file: Mutex<Option<TemporaryFile>>,
}

/// Progress and outcome of a job.
#[derive(Debug, Clone, Default)]
struct Status {
    progress: JobProgress,
    outcome: Option<Outcome>,
    ended: Option<(Instant, SystemTime)>,
}

impl JobEntry {
    /// Returns the ID.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Returns the person or token that started it.
    #[must_use]
    pub fn who(&self) -> &str {
        &self.new.who
    }

    /// Returns the job for the API; `problem` converts an error to a problem document.
    #[must_use]
    pub fn to_api(&self, problem: impl FnOnce(&ServiceError) -> yonder_api::Problem) -> yonder_api::Job {
        let Status { progress, outcome, ended } = self.status.borrow().clone();
        let state = match &outcome {
            None => JobState::Running,
            Some(Ok(_)) => JobState::Done,
            Some(Err(error)) if matches!(**error, ServiceError::Canceled) => JobState::Canceled,
            Some(Err(_)) => JobState::Failed,
        };
        let (result, problem) = match outcome {
            Some(Ok(result)) => (Some(result), None),
            Some(Err(error)) => (None, Some(problem(&error))),
            None => (None, None),
        };
        yonder_api::Job {
            id: self.id.clone(),
            kind: self.new.kind,
            about: self.new.about.clone(),
            state,
            cancel_requested: self.cancel.is_cancelled(),
            who: self.new.who.clone(),
            began: time::text(self.began),
            ended: ended.map(|(_, at)| time::text(at)),
            progress,
            result,
            problem,
        }
    }

    /// Requests cancellation. A job past its last check completes.
    pub fn cancel(&self) {
        self.cancel.cancel();
    }

    /// Waits until the job has ended, and returns its outcome; `None` after `longest`.
    ///
    /// # Cancel safety
    /// When dropped, the job continues.
    pub async fn wait(&self, longest: Duration) -> Option<Outcome> {
        let mut status = self.status.subscribe();
        let ended = timeout(longest, status.wait_for(|status| status.outcome.is_some())).await.ok()?.ok()?;
        ended.outcome.clone()
    }

    /// Returns the path of the file created by the job.
    #[must_use]
    pub fn file(&self) -> Option<PathBuf> {
        self.file.lock().as_ref().map(|file| file.0.clone())
    }

    fn has_ended(&self) -> bool {
        self.status.borrow().outcome.is_some()
    }
}

/// Handle of a running job for its work.
#[derive(Debug, Clone)]
pub struct JobContext(Arc<JobEntry>);

impl JobContext {
    /// Sets the current step.
    pub fn set_step(&self, step: impl Into<String>) {
        self.0.status.send_modify(|status| status.progress.step = step.into());
    }

    /// Sets the current step with its progress.
    pub fn set_progress(&self, step: impl Into<String>, done: usize, total: usize) {
        let number = |count: usize| u32::try_from(count).unwrap_or(u32::MAX);
        let progress = JobProgress { step: step.into(), done: number(done), total: Some(number(total)) };
        self.0.status.send_modify(|status| status.progress = progress);
    }

    /// Returns an error if cancellation was requested.
    ///
    /// # Errors
    /// [`ServiceError::Canceled`].
    pub fn check_canceled(&self) -> Result<(), ServiceError> {
        if self.0.cancel.is_cancelled() { Err(ServiceError::Canceled) } else { Ok(()) }
    }

    /// Runs a future that is dropped at cancellation.
    ///
    /// # Errors
    /// [`ServiceError::Canceled`], and the error of `work`.
    pub async fn unless_canceled<T>(
        &self,
        work: impl Future<Output = Result<T, ServiceError>>,
    ) -> Result<T, ServiceError> {
        tokio::select! {
            () = self.0.cancel.cancelled() => Err(ServiceError::Canceled),
            done = work => done,
        }
    }

    /// Attaches a file, which is removed with the job.
    pub(crate) fn attach(&self, path: &Path) {
        *self.0.file.lock() = Some(TemporaryFile(path.to_owned()));
    }

    /// Returns the id of the job.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.0.id
    }
}

/// File that is removed on drop.
#[derive(Debug)]
struct TemporaryFile(PathBuf);

impl Drop for TemporaryFile {
    fn drop(&mut self) {
        if let Err(error) = std::fs::remove_file(&self.0) {
            tracing::debug!(path = %self.0.display(), %error, "file of a job not removed");
        }
    }
}

/// Running and recently ended jobs, the oldest first.
#[derive(Debug, Default)]
pub struct Jobs(Mutex<VecDeque<Arc<JobEntry>>>);

impl Jobs {
    /// Starts a job on `runtime`, or returns the job of an earlier request with the same key. A panic in `work` fails
    /// that job alone.
    ///
    /// # Errors
    /// [`ServiceError::TooManyJobs`].
    pub fn begin<F>(
        &self,
        runtime: &Handle,
        new: NewJob,
        work: impl FnOnce(JobContext) -> F,
    ) -> Result<Arc<JobEntry>, ServiceError>
    where
        F: Future<Output = Result<Value, ServiceError>> + Send + 'static,
    {
        let entry = {
            let mut jobs = self.0.lock();
            forget_ended(&mut jobs);
            if let Some(known) = jobs.iter().find(|job| job.new.is_same_request(&new)) {
                return Ok(Arc::clone(known));
            }
            if jobs.iter().filter(|job| !job.has_ended()).count() >= MAX_RUNNING {
                return Err(ServiceError::TooManyJobs(MAX_RUNNING));
            }
            let id = format!("{:016x}", rand::rng().random::<u64>());
            let entry = Arc::new(JobEntry {
                id,
                new,
                began: SystemTime::now(),
                cancel: CancellationToken::new(),
                status: watch::Sender::new(Status::default()),
                file: Mutex::default(),
            });
            jobs.push_back(Arc::clone(&entry));
            entry
        };
        let running = runtime.spawn(work(JobContext(Arc::clone(&entry))));
        let ending = Arc::clone(&entry);
        runtime.spawn(async move {
            let done = running.await.unwrap_or(Err(ServiceError::Internal("a job has failed")));
            if let Err(error) = &done {
                tracing::info!(id = ending.id, kind = ending.new.kind.as_str(), %error, "job ended with an error");
            }
            ending.status.send_modify(|status| {
                status.outcome = Some(done.map_err(Arc::new));
                status.ended = Some((Instant::now(), SystemTime::now()));
            });
        });
        Ok(entry)
    }

    /// Returns a job.
    ///
    /// # Errors
    /// [`ServiceError::NoSuchJob`].
    pub fn get(&self, id: &str) -> Result<Arc<JobEntry>, ServiceError> {
        let mut jobs = self.0.lock();
        forget_ended(&mut jobs);
        jobs.iter().find(|job| job.id == id).cloned().ok_or_else(|| ServiceError::NoSuchJob(id.to_owned()))
    }

    /// Returns all jobs, the latest first.
    #[must_use]
    pub fn list(&self) -> Vec<Arc<JobEntry>> {
        let mut jobs = self.0.lock();
        forget_ended(&mut jobs);
        jobs.iter().rev().cloned().collect()
    }
}

fn forget_ended(jobs: &mut VecDeque<Arc<JobEntry>>) {
    let is_old = |job: &JobEntry| job.status.borrow().ended.is_some_and(|(at, _)| at.elapsed() > ENDED_TTL);
    jobs.retain(|job| !is_old(job));
    let mut excess = jobs.iter().filter(|job| job.has_ended()).count().saturating_sub(MAX_ENDED);
    jobs.retain(|job| {
        let goes = excess > 0 && job.has_ended();
        excess -= usize::from(goes);
        !goes
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    const WAIT_TIMEOUT: Duration = Duration::from_secs(10);

    fn new(kind: JobKind) -> NewJob {
        NewJob { kind, about: Some("Line".to_owned()), who: "desk".to_owned(), request_key: None }
    }

    fn problem(error: &ServiceError) -> yonder_api::Problem {
        yonder_api::Problem {
            kind: String::new(),
            title: String::new(),
            status: 0,
            detail: error.to_string(),
            code: error.code().to_owned(),
            hint: None,
            field: None,
            checks: Vec::new(),
            faults: Vec::new(),
        }
    }

    #[tokio::test]
    async fn job_shows_its_progress_and_then_its_result() {
        let jobs = Jobs::default();
        let (go, gone) = tokio::sync::oneshot::channel::<()>();
        let work = |context: JobContext| async move {
            context.set_progress("applying", 2, 5);
            let _gone = gone.await;
            Ok(Value::from(7))
        };
        let job = jobs.begin(&Handle::current(), new(JobKind::SiteBook), work).unwrap();
        assert!(job.wait(Duration::from_millis(50)).await.is_none());
        let shown = jobs.get(job.id()).unwrap().to_api(problem);
        assert_eq!((shown.state, shown.progress.done, shown.progress.total), (JobState::Running, 2, Some(5)));
        go.send(()).unwrap();
        assert_eq!(job.wait(WAIT_TIMEOUT).await.unwrap().unwrap(), Value::from(7));
        let shown = job.to_api(problem);
        assert_eq!((shown.state, shown.result, shown.problem), (JobState::Done, Some(Value::from(7)), None));
        assert!(shown.ended.is_some());
    }

    #[tokio::test]
    async fn same_request_gets_the_same_job() {
        let jobs = Jobs::default();
        let begin = |key: &str, who: &str| {
            let new =
                NewJob { request_key: Some(key.to_owned()), who: who.to_owned(), ..new(JobKind::Start) };
            let job = jobs.begin(&Handle::current(), new, |_| async { Ok(Value::Null) }).unwrap();
            job.id().to_owned()
        };
        let first = begin("k1", "desk");
        assert_eq!(begin("k1", "desk"), first);
        assert_ne!(begin("k2", "desk"), first);
        assert_ne!(begin("k1", "another"), first);
    }

    #[tokio::test]
    async fn canceled_job_drops_its_work() {
        let jobs = Jobs::default();
        let work = |context: JobContext| async move {
            let never = std::future::pending::<Result<Value, ServiceError>>();
            context.unless_canceled(never).await
        };
        let job = jobs.begin(&Handle::current(), new(JobKind::Find), work).unwrap();
        job.cancel();
        assert!(job.wait(WAIT_TIMEOUT).await.unwrap().is_err());
        let shown = job.to_api(problem);
        assert_eq!((shown.state, shown.cancel_requested), (JobState::Canceled, true));
    }

    #[tokio::test]
    async fn panic_fails_the_job_alone() {
        let jobs = Jobs::default();
        async fn fail() -> Result<Value, ServiceError> {
            panic!("a fault in the work")
        }
        let job = jobs.begin(&Handle::current(), new(JobKind::Start), |_| fail()).unwrap();
        assert!(job.wait(WAIT_TIMEOUT).await.unwrap().is_err());
        assert_eq!(job.to_api(problem).problem.unwrap().code, "service.internal");
        let next =
            jobs.begin(&Handle::current(), new(JobKind::Start), |_| async { Ok(Value::Null) }).unwrap();
        assert!(next.wait(WAIT_TIMEOUT).await.unwrap().is_ok());
    }

    #[tokio::test]
    async fn jobs_are_limited_and_ended_ones_are_forgotten_with_their_files() {
        let jobs = Jobs::default();
        let folder = std::env::temp_dir().join(format!("yonder-job-{}", std::process::id()));
        std::fs::write(&folder, "copy").unwrap();
        let path = folder.clone();
        let work = |context: JobContext| async move {
            context.attach(&path);
            Ok(Value::Null)
        };
        let first = jobs.begin(&Handle::current(), new(JobKind::Backup), work).unwrap();
        first.wait(WAIT_TIMEOUT).await.unwrap().unwrap();
        assert_eq!(first.file().as_deref(), Some(folder.as_path()));
        let id = first.id().to_owned();
        drop(first);
        for _ in 0..=MAX_ENDED {
            let job =
                jobs.begin(&Handle::current(), new(JobKind::Start), |_| async { Ok(Value::Null) }).unwrap();
            job.wait(WAIT_TIMEOUT).await.unwrap().unwrap();
        }
        assert!(matches!(jobs.get(&id), Err(ServiceError::NoSuchJob(_))));
        assert!(!folder.exists());
        assert_eq!(jobs.list().len(), MAX_ENDED);
        for _ in 0..MAX_RUNNING {
            jobs.begin(&Handle::current(), new(JobKind::Find), |_| std::future::pending()).unwrap();
        }
        let refused = jobs.begin(&Handle::current(), new(JobKind::Find), |_| async { Ok(Value::Null) });
        assert!(matches!(refused, Err(ServiceError::TooManyJobs(MAX_RUNNING))));
    }
}
