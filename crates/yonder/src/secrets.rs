//! Secrets from files, standard input or the terminal, never from arguments.

use std::fs;
use std::io::{self, BufRead as _, IsTerminal as _, Read as _};
use std::path::{Path, PathBuf};

use yonder_api::Secret;

use crate::failure::Failure;

/// Maximum size of a secret, to detect a wrong file.
const LONGEST: u64 = 64 * 1024;

/// Source of a secret.
#[derive(Debug)]
pub(crate) enum Source<'a> {
    File(&'a Path),
    Stdin,
}

impl<'a> Source<'a> {
    /// Returns the source selected by two options, if any.
    pub(crate) fn of(file: Option<&'a PathBuf>, stdin: bool) -> Option<Self> {
        match file {
            Some(file) => Some(Self::File(file)),
            None if stdin => Some(Self::Stdin),
            None => None,
        }
    }

    /// Reads the secret unchanged: the service corrects blanks and line ends, and reports that.
    pub(crate) fn read(&self, what: &str) -> Result<Secret, Failure> {
        match self {
            Self::File(path) => {
                let at = |error: io::Error| Failure::Usage(format!("{}: {error}", path.display()));
                let length = fs::metadata(path).map_err(at)?.len();
                if length > LONGEST {
                    let text = format!("{} has {length} bytes; that is no {what}", path.display());
                    return Err(Failure::Usage(text));
                }
                fs::read_to_string(path).map(Secret::from).map_err(at)
            }
            Self::Stdin if io::stdin().is_terminal() => {
                let text = rpassword::prompt_password(format!("{what}: "));
                text.map(Secret::from)
                    .map_err(|error| Failure::Usage(format!("the {what} cannot be read: {error}")))
            }
            Self::Stdin => {
                let mut text = String::new();
                let read = io::stdin().lock().take(LONGEST).read_to_string(&mut text);
                read.map_err(|error| Failure::Usage(format!("the {what} cannot be read: {error}")))?;
                Ok(text.into())
            }
        }
    }

    /// Reads one line: from a terminal without echo, or from standard input.
    pub(crate) fn read_line(&self, what: &str) -> Result<Secret, Failure> {
        let Self::Stdin = self else { return self.read_password() };
        let unread = |error: io::Error| Failure::Usage(format!("the {what} cannot be read: {error}"));
        if io::stdin().is_terminal() {
            return rpassword::prompt_password(format!("{what}: ")).map(Secret::from).map_err(unread);
        }
        let mut line = String::new();
        if io::stdin().lock().read_line(&mut line).map_err(unread)? == 0 {
            return Err(Failure::Usage(format!("standard input ended before the {what}")));
        }
        Ok(line.trim_end_matches(['\r', '\n']).to_owned().into())
    }

    /// Reads a password, without a final line end.
    pub(crate) fn read_password(&self) -> Result<Secret, Failure> {
        let text = self.read("password")?;
        Ok(text.expose().trim_end_matches(['\r', '\n']).to_owned().into())
    }
}
