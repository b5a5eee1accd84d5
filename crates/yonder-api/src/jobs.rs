//! Jobs: work that takes longer than a request should.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

use crate::Problem;

/// Kind of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobKind {
    /// Checks before a start.
    Preflight,
    /// Start of a relay, with its preflight.
    Start,
    /// Start of several relays, each with its preflight.
    BulkStart,
    /// Rehearsal of a push.
    Rehearsal,
    /// Search for cameras.
    Find,
    /// A site book that is applied or compared.
    SiteBook,
    /// Copy of the records.
    Backup,
}

impl JobKind {
    /// Returns the name used in the API.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Preflight => "preflight",
            Self::Start => "start",
            Self::BulkStart => "bulk-start",
            Self::Rehearsal => "rehearsal",
            Self::Find => "find",
            Self::SiteBook => "site-book",
            Self::Backup => "backup",
        }
    }
}

/// State of a job.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobState {
    /// It runs.
    Running,
    /// It has ended with a result.
    Done,
    /// It has ended with a problem.
    Failed,
    /// It was canceled before it could end.
    Canceled,
}

impl JobState {
    /// True once the job has ended.
    #[must_use]
    pub fn has_ended(self) -> bool {
        self != Self::Running
    }

    /// Returns the name used in the API.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Canceled => "canceled",
        }
    }
}

/// Progress of a job.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct JobProgress {
    /// Current step, like `measuring the feed`.
    pub step: String,
    /// Steps done.
    pub done: u32,
    /// Number of steps, where that is known.
    pub total: Option<u32>,
}

/// Work in the background.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Id.
    pub id: String,
    /// Kind of work.
    pub kind: JobKind,
    /// Name of the record that it is about.
    pub about: Option<String>,
    /// State.
    pub state: JobState,
    /// It was asked to end early.
    pub cancel_requested: bool,
    /// Person or token that has begun it.
    pub who: String,
    /// When it began.
    pub began: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended: Option<String>,
    /// Progress.
    pub progress: JobProgress,
    /// Result of a job that is done: the body that the request would have had without a job.
    pub result: Option<Value>,
    /// Problem of a job that has failed.
    pub problem: Option<Problem>,
}

/// How long to wait for news of a job.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct JobRequest {
    /// Seconds to wait for the end of the job: 0 unless said otherwise, 30 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<u32>,
}

/// Relays to be started.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkStart {
    /// Names of the relays; all that are off where none is named.
    #[serde(default)]
    pub relays: Vec<String>,
    /// Start in spite of what the preflights say.
    #[serde(default)]
    pub force: bool,
}

/// Outcome of the start of one relay among several.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StartOutcome {
    /// Name of the relay.
    pub relay: String,
    /// It runs.
    pub started: bool,
    /// Why it does not.
    pub problem: Option<Problem>,
}
