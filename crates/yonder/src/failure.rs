//! Failures of the program, with the exit codes that scripts rely on.

use std::fmt;
use std::process::ExitCode;

use serde_json::{Value, json};
use yonder_api::Problem;

use crate::commands::preflight::checks;
use crate::output::wants_json;

/// Why a command failed.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The service said no.
    Refused(Box<Problem>),
    /// The command was given something that it cannot use.
    Usage(String),
    /// The service cannot be reached.
    NotReachable(String),
    /// A camera gave no picture; what there is to say has been said.
    Camera(String),
    /// A site book is refused, for these reasons.
    Book(Vec<String>),
    /// The output could not be written, as on a full disk.
    Output(std::io::Error),
    /// It did not come out well, and that has been said.
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

    /// Tells on standard error: the code, a sentence, the next step.
    #[expect(clippy::print_stderr, reason = "this is where a command tells why it failed")]
    pub(crate) fn print(&self) {
        if wants_json() {
            eprintln!("{:#}", self.problem());
            return;
        }
        match self {
            Self::Refused(problem) => {
                if !problem.checks.is_empty() {
                    eprintln!("{}", checks(&problem.checks, false));
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
            Self::Camera(code) => eprintln!("yonder: the camera gave no picture ({code})"),
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
    /// Returns what `--json` prints: the problem document of the service, or one of the same form with the code of a failure here.
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
            Self::Camera(code) => write!(f, "the camera gave no picture ({code})"),
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
