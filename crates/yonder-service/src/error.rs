//! Errors of the service, each with a stable code and a hint.

use yonder_address::{AddressError, PassphraseError, PasteError};
use yonder_api::{BookFault, Check};
use yonder_core::budget::UnitError;
use yonder_core::preflight::Level as CheckLevel;
use yonder_core::{NameError, Role};
use yonder_engine::CauseView;
use yonder_rtsp::UrlError;
use yonder_store::{Kind, StoreError};

/// Why the service said no.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// A value is not usable.
    #[error("{detail}")]
    Invalid {
        /// Field of the request.
        field: &'static str,
        /// Message, without any secret.
        detail: String,
        /// Correction.
        hint: &'static str,
    },
    /// The request is no JSON of the right shape.
    #[error("{0}")]
    Malformed(String),
    /// There is no record of that name.
    #[error("there is no {kind} named {name:?}")]
    NotFound {
        /// Kind of record.
        kind: Kind,
        /// Name asked for.
        name: String,
        /// A name that is like it.
        nearest: Option<String>,
    },
    /// There is no job of that id, or no longer.
    #[error("there is no job {0:?}")]
    NoSuchJob(String),
    /// Too many jobs run.
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
    /// There is nothing at this address.
    #[error("there is nothing at {0}")]
    NoSuchPage(String),
    /// The address does not take this method.
    #[error("the method {0} is not allowed here")]
    WrongMethod(String),
    /// It runs, and must not.
    #[error("the {kind} {name:?} runs")]
    Running {
        /// Kind of record.
        kind: Kind,
        /// Its name.
        name: String,
    },
    /// It is off, and must run for this.
    #[error("the relay {0:?} is off")]
    NotRunning(String),
    /// A contact could not be notified.
    #[error("{0}")]
    NotTold(String),
    /// Another destination has the same key at the same server.
    #[error("the destination {0:?} has the same key at the same server")]
    SameKey(String),
    /// Another running relay pushes under the same key.
    #[error("the relay {relay:?} pushes to {destination:?} already, under the same key")]
    KeyInUse {
        /// The destination that both have.
        destination: String,
        /// The relay that runs.
        relay: String,
    },
    /// A site book is refused; nothing of it is kept.
    #[error("the site book is refused: {}", first_fault(.0))]
    BookRefused(Vec<BookFault>),
    /// The preflight found what will not work.
    #[error("the preflight of {relay:?} failed: {}", failures(.checks))]
    PreflightFailed {
        /// The relay.
        relay: String,
        /// All checks.
        checks: Vec<Check>,
    },
    /// The camera gives no picture.
    #[error("{}", .0.message.trim_end_matches('.'))]
    Camera(Box<CauseView>),
    /// There is no still picture.
    #[error("there is no still picture: {0}")]
    NoStill(String),
    /// There is no survey of that number, or no longer.
    #[error("there is no survey {0:?}")]
    NoSuchSurvey(String),
    /// As many surveys as may be are under way.
    #[error("{0} surveys are under way already")]
    TooManySurveys(usize),
    /// The caller is not signed in.
    #[error("nobody is signed in")]
    SignInNeeded,
    /// Name or password is wrong.
    #[error("name or password is wrong")]
    SignInRefused,
    /// The set-up code is wrong or used up.
    #[error("this set-up link is not valid any more")]
    SetUpRefused,
    /// The invitation's code is wrong, used up or too old.
    #[error("this invitation is not valid any more")]
    InvitationRefused,
    /// The caller may not do this.
    #[error("your role, {}, does not allow this", has.word())]
    RoleNeeded {
        /// Role of the caller.
        has: Role,
        /// Required role.
        needs: Role,
    },
    /// A change made with a cookie lacks its token.
    #[error("this change lacks the token of its session")]
    TokenMissing,
    /// Too many attempts.
    #[error("too many attempts; try again in {0} s")]
    TooManyAttempts(u64),
    /// The records.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The record has been changed since the revision that the change was made against.
    #[error("the {kind} {name:?} has been changed by somebody else meanwhile")]
    Stale {
        /// Kind of record.
        kind: Kind,
        /// Its name.
        name: String,
    },
    /// The records have been changed since the plan of a site book was made.
    #[error("the records have been changed since this plan was made")]
    StaleBook,
    /// The set-up of a relay was changed while it was checked.
    #[error("the relay {0:?} was changed while it was checked")]
    ChangedMeanwhile(String),
    /// A stored secret cannot be opened.
    #[error("the stored {secret} of the {kind} {name:?} cannot be opened")]
    SecretLost {
        /// Kind of record.
        kind: Kind,
        /// Its name.
        name: String,
        /// Name of the secret, like `password`.
        secret: &'static str,
    },
    /// Internal error.
    #[error("the service failed inside: {0}")]
    Internal(&'static str),
}

/// The failed checks in one line.
fn failures(checks: &[Check]) -> String {
    let failed = checks.iter().filter(|check| check.level == CheckLevel::Fail);
    failed.map(|check| format!("{}: {}", check.subject, check.reason)).collect::<Vec<_>>().join("; ")
}

impl ServiceError {
    /// A name that is not usable.
    pub(crate) fn name(error: &NameError) -> Self {
        Self::Invalid { field: "name", detail: error.to_string(), hint: "Give a name like Summit Station." }
    }

    /// A camera address that is not usable.
    pub(crate) fn camera_url(field: &'static str, error: &UrlError) -> Self {
        let hint = "Give an address like rtsp://192.0.2.7/main; characters like @ : / # in a password as percent codes.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// A server address that is not usable.
    pub(crate) fn server(field: &'static str, error: &AddressError) -> Self {
        let hint = "Paste the server address as the platform shows it, like rtmp://ingest.example.net/live.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// Server address and key that are not usable, together or apart.
    pub(crate) fn pasted(error: &PasteError) -> Self {
        let hint = "Copy the stream key from the platform's page once more.";
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

    /// A passphrase that is not usable.
    pub(crate) fn passphrase(error: PassphraseError) -> Self {
        let hint = "Copy the passphrase from the platform's page once more.";
        Self::Invalid { field: "passphrase", detail: error.to_string(), hint }
    }

    /// A rate or a volume that is not usable.
    pub(crate) fn unit(field: &'static str, error: &UnitError) -> Self {
        let hint = "Write the unit as well: a small b counts bits, a large B bytes.";
        Self::Invalid { field, detail: error.to_string(), hint }
    }

    /// Stable code of the error, like `request.invalid`.
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
            Self::NotTold(_) => "contact.unreachable",
            Self::SameKey(_) => "destination.same-key",
            Self::KeyInUse { .. } => "relay.key-in-use",
            Self::PreflightFailed { .. } => "relay.preflight-failed",
            Self::BookRefused(_) => "book.refused",
            Self::Camera(cause) => cause.code,
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

    /// The error as a sentence, without any secret.
    #[must_use]
    pub fn detail(&self) -> String {
        let text = self.to_string();
        let mut rest = text.chars();
        let first = rest.next().map(char::to_uppercase).into_iter().flatten();
        first.chain(rest).chain(['.']).collect()
    }

    /// Field of the request that is at fault.
    #[must_use]
    pub fn field(&self) -> Option<&'static str> {
        match self {
            Self::Invalid { field, .. } => Some(field),
            _ => None,
        }
    }

    /// The next step.
    #[must_use]
    pub fn hint(&self) -> Option<String> {
        let hint = match self {
            Self::Invalid { hint, .. } => *hint,
            Self::Malformed(_) => "See /api/v1/openapi.json for the fields of each request.",
            Self::NotFound { kind, nearest: Some(nearest), .. } => {
                return Some(format!("Is it the {kind} {nearest:?} that you mean?"));
            }
            Self::NotFound { .. } | Self::Store(StoreError::NotFound { .. }) => {
                "List what there is, or add it first."
            }
            Self::Store(StoreError::NameTaken { .. }) => {
                "Choose another name, or edit the one that is there."
            }
            Self::Store(StoreError::InUse { .. }) => "Change or remove what uses it first.",
            Self::Store(StoreError::LastAdmin(_)) => "Make somebody else an admin first.",
            Self::Running { .. } => "Stop it first.",
            Self::NotRunning(_) => "Start it first: there is no broadcast to hold.",
            Self::NotTold(_) => "Check its address and secret, and that this machine can reach it.",
            Self::SameKey(_) => {
                "Give each destination a key of its own: a platform takes one broadcast per key."
            }
            Self::KeyInUse { .. } => {
                "Stop that relay first, or make another destination with a key of its own."
            }
            Self::BookRefused(_) => "Put right what is listed, and try again: nothing was changed.",
            Self::PreflightFailed { .. } => "Do what the failed checks say, or start with force.",
            Self::Camera(cause) => return Some(cause.hint.clone()),
            Self::NoStill(_) => "Survey the feed to see what it sends.",
            Self::NoSuchSurvey(_) => "Only the surveys of late are kept; begin another one.",
            Self::TooManySurveys(_) => "Wait until one of them is done.",
            Self::SignInNeeded => "Sign in, or send a token as a bearer.",
            Self::SignInRefused => "Try again; upper and lower case count in the password.",
            Self::SetUpRefused => "Start the service again: it prints a fresh link while nobody can sign in.",
            Self::InvitationRefused => "Ask for another link; each works once, for three days.",
            Self::RoleNeeded { needs, .. } => {
                return Some(format!("Ask an admin for it: {}.", needs.in_words()));
            }
            Self::TokenMissing => "Reload the page and try again.",
            Self::NoSuchJob(_) => {
                "Jobs are kept for an hour, and end with the service. See `yonder job list`."
            }
            Self::TooManyJobs(_) => "Wait until some have ended, or cancel one.",
            Self::Canceled => "Begin it again to have it done.",
            Self::StaleBook => "Make the plan again with `yonder book diff`, and apply that.",
            Self::Stale { .. } => "Read it again, and make your change on what is there now.",
            Self::ChangedMeanwhile(_) => "Start it again: the preflight then checks what is there now.",
            Self::SecretLost { .. } => {
                "It is damaged, or was sealed under another master key. Set it again; everything else keeps running."
            }
            Self::Store(StoreError::Full) => {
                "Make room on the disk that the home folder lies on. Running broadcasts continue."
            }
            Self::Store(StoreError::Locked) => {
                "Find the program that has yonder.db open, and try again. Running broadcasts continue."
            }
            Self::Store(StoreError::Damaged(_)) => {
                "Stop the service and restore the last backup with `yonder restore`."
            }
            Self::Store(_) | Self::Internal(_) => "The service's log tells more.",
            Self::TooManyStreams => "Close other pages or previews first.",
            Self::NoSuchPage(_) | Self::TooManyAttempts(_) | Self::BodyTimeout | Self::WrongMethod(_) => {
                return None;
            }
        };
        Some(hint.to_owned())
    }
}

/// The first thing that is wrong with a book, and how many there are.
fn first_fault(faults: &[BookFault]) -> String {
    let Some(first) = faults.first() else { return "nothing is wrong".to_owned() };
    let more = faults.len() - 1;
    let more = if more > 0 { format!(" (and {more} more)") } else { String::new() };
    format!("{} {:?}: {}{more}", first.kind, first.name, first.detail.trim_end_matches('.'))
}
