//! Failures of commands, with the exit codes for scripts.

use std::fmt;
use std::process::ExitCode;

use serde_json::{Value, json};
use yonder_api::Problem;

use crate::checks::checks_text;
use crate::json_mode::wants_json;

/// Failure of a command.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The service refused the request.
    Refused(Box<Problem>),
    /// Invalid arguments.
    Usage(String),
    /// The service cannot be reached.
    NotReachable(String),
    /// A camera could not be pulled; the reason was printed.
    Camera(String),
    /// A site book was refused, for these reasons.
    Book(Vec<String>),
    /// The output could not be written, as on a full disk.
    Output(std::io::Error),
    /// The failure was already printed.
    AlreadyReported,
    /// Any other error.
    Other(anyhow::Error),
}

impl Failure {
    pub(crate) fn exit_code(&self) -> ExitCode {
        ExitCode::from(match self {
            Self::Refused(_)
            | Self::Camera(_)
            | Self::Book(_)
            | Self::Output(_)
            | Self::AlreadyReported
            | Self::Other(_) => 1,
            Self::Usage(_) => 2,
            Self::NotReachable(_) => 3,
        })
    }

    /// Prints code, message and next step on standard error.
    #[expect(clippy::print_stderr, reason = "errors of commands go to standard error")]
    pub(crate) fn print(&self) {
        if wants_json() {
            eprintln!("{:#}", self.problem());
            return;
        }
        match self {
            Self::Refused(problem) => {
                if !problem.checks.is_empty() {
                    eprintln!("{}", checks_text(&problem.checks, false));
                }
                eprintln!("yonder: {} ({})", problem.detail, problem.code);
                if let Some(hint) = &problem.hint {
                    eprintln!("        {hint}");
                }
            }
            Self::Output(error) => {
                eprintln!("yonder: the output could not be written: {error} (output.failed)");
            }
            Self::AlreadyReported => {}
            Self::Book(faults) => {
                for fault in faults {
                    eprintln!("{fault}");
                }
                let faults =
                    if faults.len() == 1 { "1 fault".to_owned() } else { format!("{} faults", faults.len()) };
                eprintln!("yonder: the book is refused ({faults}); nothing was changed (book.refused)");
            }
            Self::Usage(text) => eprintln!("yonder: {text}"),
            Self::NotReachable(text) => {
                eprintln!("yonder: {text} (service.not-reachable)");
                eprintln!("        Start it with `yonder serve`, or name it with --home or --url.");
            }
            Self::Camera(code) => eprintln!("yonder: no frame was received ({code})"),
            Self::Other(error) => {
                eprintln!("yonder: {error}");
                for cause in error.chain().skip(1) {
                    eprintln!("        {cause}");
                }
            }
        }
    }
}

impl Failure {
    /// Returns the JSON form: the problem document of the service, or one of the same form for a local failure.
    fn problem(&self) -> Value {
        let code = match self {
            Self::Refused(problem) => {
                return serde_json::to_value(problem).unwrap_or_else(|_| json!({ "code": problem.code }));
            }
            Self::Camera(code) => code.as_str(),
            Self::Book(_) => "book.refused",
            Self::Output(_) => "output.failed",
            Self::Usage(_) => "command.usage",
            Self::NotReachable(_) => "service.not-reachable",
            Self::AlreadyReported => "command.not-passed",
            Self::Other(_) => "command.failed",
        };
        json!({ "code": code, "detail": self.to_string() })
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused(problem) => f.write_str(&problem.detail),
            Self::Usage(text) | Self::NotReachable(text) => f.write_str(text),
            Self::Camera(code) => write!(f, "no frame was received ({code})"),
            Self::Book(faults) => f.write_str(&faults.join("; ")),
            Self::Output(error) => write!(f, "the output could not be written: {error}"),
            Self::AlreadyReported => f.write_str("the command has failed; the reason was printed"),
            Self::Other(error) => write!(f, "{error:#}"),
        }
    }
}

impl From<anyhow::Error> for Failure {
    fn from(error: anyhow::Error) -> Self {
        Self::Other(error)
    }
}
