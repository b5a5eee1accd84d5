//! `yonder book …`: the site book.

mod changes;
mod file;

use std::fs;
use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use yonder_api::{BookOutcome, BookRequest, Relay, SiteBook, Start};
use yonder_core::DesiredState;

use crate::client::Client;
use crate::failure::Failure;
use crate::output::{print, print_json, wants_json};

use file::BookFile;

/// Book file and scope.
#[derive(Debug, Args)]
pub(crate) struct BookArguments {
    /// Book (TOML file).
    book: PathBuf,
    /// Remove records that the book does not contain.
    #[arg(long)]
    prune: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum BookCommand {
    /// Check a book for errors. Nothing is changed, and no secrets are asked for.
    Check(BookArguments),
    /// Show the changes that a book would make.
    Diff(BookArguments),
    /// Apply a book completely or not at all. Only relays with changed parts are touched.
    Apply {
        #[command(flatten)]
        arguments: BookArguments,
        /// Start relays in spite of failed preflights.
        #[arg(long)]
        force: bool,
        /// Apply only if the records have the revision shown by `yonder book diff`.
        #[arg(long, value_name = "REVISION")]
        expect: Option<String>,
    },
    /// Export all settings as a book, without secrets.
    Export {
        /// File to write; standard output by default.
        #[arg(long, value_name = "FILE")]
        out: Option<PathBuf>,
    },
}

/// Runs a command. Errors in a book are reported without a running service.
pub(crate) fn run(
    command: BookCommand,
    client: impl FnOnce() -> Result<Client, Failure>,
) -> Result<(), Failure> {
    match command {
        BookCommand::Check(arguments) => check(&arguments, client),
        BookCommand::Diff(arguments) => {
            let file = BookFile::read(&arguments.book)?;
            let request = request(file.book(true)?, arguments.prune, true);
            let outcome = send(&client()?, &file, &request)?;
            if wants_json() {
                return print_json(&outcome);
            }
            print(&changes::changes_text(&outcome, "would change"));
            if !outcome.changes.is_empty() {
                print(&format!(
                    "\nThe records are at revision {0}. To apply exactly this plan: yonder book apply --expect {0}\n",
                    outcome.revision
                ));
            }
            Ok(())
        }
        BookCommand::Apply { arguments, force, expect } => apply(&arguments, force, expect, client),
        BookCommand::Export { out } => export(out.as_deref(), &client()?),
    }
}

fn check(arguments: &BookArguments, client: impl FnOnce() -> Result<Client, Failure>) -> Result<(), Failure> {
    let file = BookFile::read(&arguments.book)?;
    let outcome = send(&client()?, &file, &request(file.book(false)?, arguments.prune, true))?;
    if wants_json() {
        return print_json(&outcome);
    }
    print(&format!("{}\n", changes::validity_text(&file, outcome.changes.len())));
    Ok(())
}

fn apply(
    arguments: &BookArguments,
    force: bool,
    expected_revision: Option<String>,
    client: impl FnOnce() -> Result<Client, Failure>,
) -> Result<(), Failure> {
    let file = BookFile::read(&arguments.book)?;
    let client = client()?;
    let request = BookRequest { expected_revision, ..request(file.book(true)?, arguments.prune, false) };
    let outcome = send(&client, &file, &request)?;
    if wants_json() {
        print_json(&outcome)?;
    } else {
        print(&changes::changes_text(&outcome, "changed"));
    }
    start(&client, &outcome, force, !wants_json())
}

/// Starts relays, each after its preflight. A failure does not affect the others.
fn start(client: &Client, outcome: &BookOutcome, force: bool, tell: bool) -> Result<(), Failure> {
    let mut good = true;
    for relay in &outcome.to_start {
        let name = &relay.relay;
        let started =
            client.run_job(&["relays", name, "start"], &Start { force }).and_then(|started: Relay| {
                let held = relay.wanted == DesiredState::Hold;
                if held {
                    client.post(&["relays", name, "hold"], &serde_json::json!({}))
                } else {
                    Ok(started)
                }
            });
        match started {
            Ok(_) if tell => print(&format!("Relay {name} is started.\n")),
            Ok(_) => {}
            Err(failure) => {
                failure.print();
                good = false;
            }
        }
    }
    if good { Ok(()) } else { Err(Failure::AlreadyReported) }
}

fn request(book: SiteBook, prune: bool, look_only: bool) -> BookRequest {
    BookRequest { book, prune, look_only, expected_revision: None }
}

fn send(client: &Client, file: &BookFile, request: &BookRequest) -> Result<BookOutcome, Failure> {
    client.run_job(&["book"], request).map_err(|failure| file.located(failure))
}

fn export(out: Option<&Path>, client: &Client) -> Result<(), Failure> {
    let book: SiteBook = client.get(&["book"])?;
    let text = file::written(&book)?;
    let Some(path) = out else {
        print(&text);
        return Ok(());
    };
    fs::write(path, text).map_err(|error| Failure::Usage(format!("{}: {error}", path.display())))?;
    print(&format!("The site book was written to {}.\n", path.display()));
    Ok(())
}
