//! Errors of the service, each with a stable code and a remedy.

use yonder_address::{AddressError, PassphraseError, PasteError};
use yonder_api::{BookFault, Check};
use yonder_core::budget::UnitError;
use yonder_core::preflight::CheckStatus;
use yonder_core::{NameError, Role};
use yonder_engine::CauseView;
use yonder_rtsp::UrlError;
use yonder_store::{RecordKind, StoreError};

/// Error of the service.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// Invalid value.
    #[error("{detail}")]
    Invalid {
        /// Field of the request.
        field: &'static str,
        /// Message, without secrets.
        detail: String,
        /// Remedy.
        hint: &'static str,
    },
    /// The request is not valid JSON of the expected structure.
    #[error("{0}")]
    Malformed(String),
    /// No record with this name.
    #[error("there is no {kind} named {name:?}")]
    NotFound {
        /// Kind of record.
        kind: RecordKind,
        /// Requested name.
        name: String,
        /// Similar name.
        nearest: Option<String>,
    },
    /// No job with this ID, or it has expired.
    #[error("there is no job {0:?}")]
    NoSuchJob(String),
    /// Too many jobs are running.
    #[error("{0} jobs run already")]
    TooManyJobs(usize),
    /// Too many event streams or previews are open.
    #[error("too many streams are open")]
    TooManyStreams,
    /// The body of a request was not complete in time.
    #[error("the body of the request was not complete in time")]
    BodyTimeout,
    /// A job was canceled.
    #[error("the job was canceled; nothing was changed")]
    Canceled,
    /// No resource at this address.
    #[error("{0} does not exist")]
    NoSuchPage(String),
    /// The address does not support this method.
    #[error("the method {0} is not allowed here")]
    WrongMethod(String),
    /// The operation requires that it does not run.
    #[error("the {kind} {name:?} runs")]
    Running {
        /// Kind of record.
        kind: RecordKind,
        /// Its name.
        name: String,
    },
    /// The operation requires that it runs.
    #[error("the relay {0:?} is off")]
    NotRunning(String),
    /// A test notification could not be delivered.
    #[error("{0}")]
    TestNotDelivered(String),
    /// Another destination has the same key at the same server.
    #[error("the destination {0:?} has the same key at the same server")]
    SameKey(String),
    /// Another running relay pushes under the same key.
    #[error("the relay {relay:?} pushes to {destination:?} already, under the same key")]
    KeyInUse {
        /// Destination of both relays.
        destination: String,
        /// Running relay.
        relay: String,
    },
    /// A site book was refused as a whole.
    #[error("the site book is refused: {}", first_fault(.0))]
    BookRefused(Vec<BookFault>),
    /// Checks of the preflight have failed.
    #[error("the preflight of {relay:?} failed: {}", failures(.checks))]
    PreflightFailed {
        /// Relay.
        relay: String,
        /// All checks.
        checks: Vec<Check>,
    },
    /// The camera could not be pulled.
    #[error("{}", .0.message.trim_end_matches('.'))]
    Camera(Box<CauseView>),
    /// The device service of a camera could not be used.
    #[error(transparent)]
    Device(#[from] DeviceProblem),
    /// There is no still picture.
    #[error("there is no still picture: {0}")]
    NoStill(String),
    /// No survey with this ID, or it has expired.
    #[error("there is no survey {0:?}")]
    NoSuchSurvey(String),
    /// Too many surveys are running.
    #[error("{0} surveys are under way already")]
    TooManySurveys(usize),
    /// Authentication is required.
    #[error("not signed in")]
    SignInNeeded,
    /// Wrong name or password.
    #[error("name or password is wrong")]
    SignInRefused,
    /// The set-up code is wrong or used.
    #[error("this set-up link is not valid any more")]
    SetUpRefused,
    /// The invitation code is wrong, used or expired.
    #[error("this invitation is not valid any more")]
    InvitationRefused,
    /// The role is not sufficient.
    #[error("your role, {}, does not allow this", has.as_str())]
    RoleNeeded {
        /// Role of the caller.
        has: Role,
        /// Required role.
        needs: Role,
    },
    /// A change authenticated by a cookie lacks the CSRF token.
    #[error("this change lacks the token of its session")]
    TokenMissing,
    /// Too many attempts.
    #[error("too many attempts; try again in {0} s")]
    TooManyAttempts(u64),
    /// Error of the store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The record has changed since the expected revision.
    #[error("the {kind} {name:?} was changed by another person meanwhile")]
    Stale {
        /// Kind of record.
        kind: RecordKind,
        /// Its name.
        name: String,
    },
    /// The records have changed since the plan of a site book was made.
    #[error("the records have been changed since this plan was made")]
    StaleBook,
    /// The relay was changed during its preflight.
    #[error("the relay {0:?} was changed while it was checked")]
    ChangedMeanwhile(String),
    /// A stored secret cannot be decrypted.
    #[error("the stored {secret} of the {kind} {name:?} cannot be decrypted")]
    SecretLost {
        /// Kind of record.
        kind: RecordKind,
        /// Its name.
        name: String,
        /// Name of the secret, such as `password`.
        secret: &'static str,
    },
    /// Internal error.
    #[error("internal error: {0}")]
    Internal(&'static str),
}

/// Problem with the device service of a camera.
#[derive(Debug, thiserror::Error)]
pub enum DeviceProblem {
    /// It does not answer as needed.
    #[error("{}", .message.trim_end_matches('.'))]
    NotUsable {
        /// Message.
        message: String,
        /// Authentication is required, or has failed.
        needs_sign_in: bool,
    },
    /// It has no profile or encoder for the feed.
    #[error("{0}")]
    NoProfile(String),
    /// The camera has refused a change.
    #[error("the camera refuses the change: {}", .0.trim_end_matches('.'))]
    Refused(String),
    /// The account may read the settings of the camera, and not change them.
    #[error("the account of the feed may read the settings of the camera, but not change them")]
    NotPermitted,
    /// Other profiles use the same encoder.
    #[error("the encoder is used by other profiles of the camera as well: {}", .0.join(", "))]
    Shared(Vec<String>),
    /// Another change of the camera runs.
    #[error("the camera of the feed {0:?} is being changed already")]
    Busy(String),
    /// There is no change that could be undone.
    #[error("there is no change of the camera of the feed {0:?} that could be undone")]
    NothingToUndo(String),
}

impl DeviceProblem {
    fn code(&self) -> &'static str {
        match self {
            Self::NotUsable { needs_sign_in: true, .. } => "device.sign-in-refused",
            Self::NotUsable { needs_sign_in: false, .. } => "device.unreachable",
            Self::NoProfile(_) => "device.no-profile",
            Self::Refused(_) => "device.refused",
            Self::NotPermitted => "device.not-permitted",
            Self::Shared(_) => "device.shared-encoder",
            Self::Busy(_) => "device.busy",
            Self::NothingToUndo(_) => "device.nothing-to-undo",
        }
    }

    fn hint(&self) -> &'static str {
        match self {
            Self::NotUsable { needs_sign_in: true, .. } => {
                "Give the feed an account that may use ONVIF; in many cameras it is created separately."
            }
            Self::NotUsable { needs_sign_in: false, .. } => {
                "Enable ONVIF in the camera, and give the address of its device service with --device HOST:PORT."
            }
            Self::NoProfile(_) => {
                "Find the camera's streams with `yonder feed find --at`, and use one of their addresses."
            }
            Self::Refused(_) => {
                "Change the settings in the camera's own web page, or let the service adapt the stream."
            }
            Self::NotPermitted => {
                "Give the feed an account of the camera's administrators, or change the settings in the camera's own web page."
            }
            Self::Shared(_) => "Allow it with --shared: the streams of those profiles change, too.",
            Self::Busy(_) => "Wait until that change is done.",
            Self::NothingToUndo(_) => "See the present settings with `yonder feed tune --show`.",
        }
    }
}

/// Formats the failed checks in one line.
fn failures(checks: &[Check]) -> String {
    let failed = checks.iter().filter(|check| check.level == CheckStatus::Fail);
    failed.map(|check| format!("{}: {}", check.subject, check.reason)).collect::<Vec<_>>().join("; ")
}

impl ServiceError {
    /// Creates the error for an invalid name.
    pub fn name(error: &NameError) -> Self {
        Self::Invalid { field: "name", detail: error.to_string(), hint: "Give a name like Summit Station." }
    }

    /// Creates the error for an invalid camera address.
    pub(crate) fn camera_url(field: &'static str, error: &UrlError) -> Self {
        let hint = "Give an address like rtsp://192.0.2.7/main; percent-encode characters like @ : / # in a password.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// Creates the error for an invalid server address.
    pub fn server(field: &'static str, error: &AddressError) -> Self {
        let hint = "Paste the server address as the platform shows it, like rtmp://ingest.example.net/live.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// Creates the error for an invalid server address or key.
    pub fn pasted(error: &PasteError) -> Self {
        let hint = "Copy the stream key from the platform's page again.";
        match error {
            PasteError::Server(error) => Self::server("server", error),
            PasteError::NoServer => Self::Invalid {
                field: "server",
                detail: error.to_string(),
                hint: "Paste the server address as the platform shows it, like rtmp://ingest.example.net/live.",
            },
            _ => Self::Invalid { field: "key", detail: error.to_string(), hint },
        }
    }

    /// Creates the error for an invalid passphrase.
    pub fn passphrase(error: PassphraseError) -> Self {
        let hint = "Copy the passphrase from the platform's page again.";
        Self::Invalid { field: "passphrase", detail: error.to_string(), hint }
    }

    /// Creates the error for an invalid rate or volume.
    pub fn unit(field: &'static str, error: &UnitError) -> Self {
        let hint = "Write the unit as well: a small b counts bits, a large B bytes.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// Returns the stable code, such as `request.invalid`.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::Invalid { .. } => "request.invalid",
            Self::Malformed(_) => "request.malformed",
            Self::Canceled => "job.canceled",
            Self::TooManyJobs(_) => "request.too-many-jobs",
            Self::NotFound { .. }
            | Self::NoSuchJob(_)
            | Self::NoSuchSurvey(_)
            | Self::Store(StoreError::NotFound { .. }) => "request.not-found",
            Self::NoSuchPage(_) => "request.no-such-page",
            Self::Running { .. } => "request.running",
            Self::NotRunning(_) => "relay.off",
            Self::TestNotDelivered(_) => "contact.unreachable",
            Self::SameKey(_) => "destination.same-key",
            Self::KeyInUse { .. } => "relay.key-in-use",
            Self::PreflightFailed { .. } => "relay.preflight-failed",
            Self::BookRefused(_) => "book.refused",
            Self::Camera(cause) => cause.code,
            Self::Device(problem) => problem.code(),
            Self::NoStill(_) => "feed.no-still",
            Self::TooManySurveys(_) => "request.too-many-surveys",
            Self::SignInNeeded => "request.sign-in-needed",
            Self::SignInRefused => "request.sign-in-refused",
            Self::SetUpRefused => "request.set-up-refused",
            Self::InvitationRefused => "request.invitation-refused",
            Self::RoleNeeded { .. } => "request.role-needed",
            Self::TokenMissing => "request.token-missing",
            Self::TooManyAttempts(_) => "request.too-many-attempts",
            Self::TooManyStreams => "request.too-many-streams",
            Self::BodyTimeout => "request.timeout",
            Self::WrongMethod(_) => "request.wrong-method",
            Self::SecretLost { .. } => "request.secret-lost",
            Self::Stale { .. } | Self::StaleBook => "request.stale",
            Self::ChangedMeanwhile(_) => "relay.changed-meanwhile",
            Self::Store(StoreError::NameTaken { .. }) => "request.name-taken",
            Self::Store(StoreError::InUse { .. }) => "request.in-use",
            Self::Store(StoreError::LastAdmin(_)) => "person.last-admin",
            Self::Store(StoreError::Full) => "service.disk-full",
            Self::Store(StoreError::Locked) => "service.records-locked",
            Self::Store(StoreError::Damaged(_)) => "service.records-damaged",
            Self::Store(_) | Self::Internal(_) => "service.internal",
        }
    }

    /// Returns the message, without secrets.
    #[must_use]
    pub fn detail(&self) -> String {
        let text = self.to_string();
        let mut rest = text.chars();
        let first = rest.next().map(char::to_uppercase).into_iter().flatten();
        first.chain(rest).chain(['.']).collect()
    }

    /// Returns the invalid field of the request.
    #[must_use]
    pub fn field(&self) -> Option<&'static str> {
        match self {
            Self::Invalid { field, .. } => Some(field),
            _ => None,
        }
    }

    /// Returns the next step.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        let hint = match self {
            Self::Invalid { hint, .. } => *hint,
            Self::Malformed(_) => "See /api/v1/openapi.json for the fields of each request.",
            Self::NotFound { kind, nearest: Some(nearest), .. } => {
                return Some(format!("Did you mean the {kind} {nearest:?}?"));
            }
            Self::NotFound { .. } | Self::Store(StoreError::NotFound { .. }) => {
                "List the existing ones, or add it first."
            }
            Self::Store(StoreError::NameTaken { .. }) => "Choose another name, or edit the existing one.",
            Self::Store(StoreError::InUse { .. }) => "Change or remove the records that use it first.",
            Self::Store(StoreError::LastAdmin(_)) => "Make another person an admin first.",
            Self::Running { .. } => "Stop it first.",
            Self::NotRunning(_) => "Start it first: there is no broadcast to hold.",
            Self::TestNotDelivered(_) => "Check its address and secret, and that this machine can reach it.",
            Self::SameKey(_) => "Give each destination its own key: platforms accept one broadcast per key.",
            Self::KeyInUse { .. } => "Stop that relay first, or add another destination with its own key.",
            Self::BookRefused(_) => "Correct the listed errors and try again. Nothing was changed.",
            Self::PreflightFailed { .. } => "Follow the advice of the failed checks, or start with force.",
            Self::Camera(cause) => return Some(cause.hint.clone()),
            Self::Device(problem) => problem.hint(),
            Self::NoStill(_) => "Survey the feed to see its streams.",
            Self::NoSuchSurvey(_) => "Only recent surveys are retained. Start another one.",
            Self::TooManySurveys(_) => "Wait until one of them is done.",
            Self::SignInNeeded => "Sign in, or send a bearer token.",
            Self::SignInRefused => "Try again; upper and lower case count in the password.",
            Self::SetUpRefused => "Restart the service: it prints a new link until the first account exists.",
            Self::InvitationRefused => "Ask for another link; links work once and expire after three days.",
            Self::RoleNeeded { needs, .. } => {
                return Some(format!("Ask an admin for it: {}.", needs.description()));
            }
            Self::TokenMissing => "Reload the page and try again.",
            Self::NoSuchJob(_) => {
                "Jobs are retained for an hour, until the service ends. See `yonder job list`."
            }
            Self::TooManyJobs(_) => "Wait until some have ended, or cancel one.",
            Self::Canceled => "Start it again.",
            Self::StaleBook => "Create a new plan with `yonder book diff`, and apply that.",
            Self::Stale { .. } => "Reload it, and repeat your change.",
            Self::ChangedMeanwhile(_) => "Start it again: the preflight then checks the current settings.",
            Self::SecretLost { .. } => {
                "It is damaged, or was encrypted with another master key. Set it again; everything else keeps running."
            }
            Self::Store(StoreError::Full) => {
                "Free space on the disk of the data directory. Running broadcasts continue."
            }
            Self::Store(StoreError::Locked) => {
                "Find the program that has yonder.db open, and try again. Running broadcasts continue."
            }
            Self::Store(StoreError::Damaged(_)) => {
                "Stop the service and restore the last backup with `yonder restore`."
            }
            Self::Store(_) | Self::Internal(_) => "See the log of the service.",
            Self::TooManyStreams => "Close other pages or previews first.",
            Self::NoSuchPage(_) | Self::TooManyAttempts(_) | Self::BodyTimeout | Self::WrongMethod(_) => {
                return None;
            }
        };
        Some(hint.to_owned())
    }
}

/// Formats the first fault of a book, and their number.
fn first_fault(faults: &[BookFault]) -> String {
    let Some(first) = faults.first() else { return "nothing is wrong".to_owned() };
    let more = faults.len() - 1;
    let more = if more > 0 { format!(" (and {more} more)") } else { String::new() };
    format!("{} {:?}: {}{more}", first.kind, first.name, first.detail.trim_end_matches('.'))
}
