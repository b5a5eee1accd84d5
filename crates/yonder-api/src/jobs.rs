//! Jobs: work that may take longer than a request.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};

use crate::Problem;

/// Kind of work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum JobKind {
    /// Preflight of a relay.
    Preflight,
    /// Start of a relay, with its preflight.
    Start,
    /// Start of several relays, each with its preflight.
    BulkStart,
    /// Rehearsal of a push.
    Rehearsal,
    /// Camera discovery.
    Find,
    /// Change of a camera's encoder settings.
    Tune,
    /// Application or comparison of a site book.
    SiteBook,
    /// Backup of the records.
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
            Self::Tune => "tune",
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
    /// It has ended with an error.
    Failed,
    /// It was canceled.
    Canceled,
}

impl JobState {
    /// Returns true once the job has ended.
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
    /// Current step, such as `measuring the feed`.
    pub step: String,
    /// Completed steps.
    pub done: u32,
    /// Number of steps, if known.
    pub total: Option<u32>,
}

/// Background job.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// ID.
    pub id: String,
    /// Kind of work.
    pub kind: JobKind,
    /// Name of the record concerned.
    pub about: Option<String>,
    /// State.
    pub state: JobState,
    /// Cancellation was requested.
    pub cancel_requested: bool,
    /// Person or token that started it.
    pub who: String,
    /// When it began.
    pub began: String,
    /// When it ended.
    #[schema(format = DateTime)]
    pub ended: Option<String>,
    /// Progress.
    pub progress: JobProgress,
    /// Result: the body of the response without a job.
    pub result: Option<Value>,
    /// Error of a failed job.
    pub problem: Option<Problem>,
}

/// Wait for a change of a job.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct JobRequest {
    /// Maximum wait for the end of the job, in seconds: 0 by default, at most 30.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_s: Option<u32>,
}

/// Relays to be started.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BulkStart {
    /// Names of the relays; all that are off if empty.
    #[serde(default)]
    pub relays: Vec<String>,
    /// Start in spite of failed preflights.
    #[serde(default)]
    pub force: bool,
}

/// Outcome of the start of one of several relays.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StartOutcome {
    /// Name of the relay.
    pub relay: String,
    /// It was started.
    pub started: bool,
    /// Reason for not starting it.
    pub problem: Option<Problem>,
}
