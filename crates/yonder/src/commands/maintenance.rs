//! `yonder backup`, `yonder restore` and `yonder selfcheck`.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use clap::Args;
use yonder_api::Check;
use yonder_core::preflight::Level;
use yonder_service::{Home, HomeError, RestoreOptions, Upgrade};
use yonder_store::StoreError;

use crate::client::Client;
use crate::commands::preflight::checks;
use crate::failure::Failure;
use crate::output::{has_color, print, print_json, wants_json};

#[derive(Debug, Args)]
pub(crate) struct BackupArguments {
    /// File to write; one that is there already is left alone.
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct RestoreArguments {
    /// File that `yonder backup` wrote.
    file: PathBuf,
    /// Switch every relay off: for a machine that shall not push what another one pushes already.
    #[arg(long)]
    relays_off: bool,
    /// Keep the sessions and invitations of the backup, which are ended otherwise.
    #[arg(long)]
    keep_sessions: bool,
}

#[derive(Debug, Args)]
pub(crate) struct UpgradeArguments {
    /// Only try it, on a copy of the records that is removed again. The service may run, also one of the former version.
    #[arg(long)]
    check: bool,
}

/// Writes a copy of all records, readable by its owner alone.
pub(crate) fn backup(arguments: &BackupArguments, client: &Client) -> Result<(), Failure> {
    let out = &arguments.out;
    let at = |error: std::io::Error| Failure::Usage(format!("{}: {error}", out.display()));
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(out).map_err(at)?;
    let copied = client.run_file_job(&["backup"]).and_then(|job| {
        let bytes = client.write_job_file(&job.id, &mut file)?;
        let made = job.result.as_ref().and_then(|result| result.get("bytes")?.as_u64());
        if made.is_some_and(|made| made != bytes) {
            return Err(Failure::NotReachable("The copy did not arrive complete.".to_owned()));
        }
        file.sync_all().map_err(at)?;
        Ok(bytes)
    });
    match copied {
        Ok(bytes) => {
            let kilobytes = bytes.div_ceil(1_000);
            print(&format!(
                "{}: {kilobytes} kB. Its secrets open under the master key only: keep a copy of that elsewhere.\n",
                out.display()
            ));
            Ok(())
        }
        Err(failure) => {
            // Half a copy is worse than none.
            let _removed = std::fs::remove_file(out);
            Err(failure)
        }
    }
}

/// Puts a backup in the place of the records; no service may run in the home folder.
pub(crate) fn restore(arguments: &RestoreArguments, home: &Path) -> Result<(), Failure> {
    let RestoreArguments { file, relays_off, keep_sessions } = arguments;
    let options = RestoreOptions { relays_off: *relays_off, keep_sessions: *keep_sessions };
    let restored = Home::new(home).restore(file, options).map_err(explain)?;
    let off = if *relays_off { ", all switched off" } else { "" };
    let mut text = format!("Restored into {}: {} relays{off}.\n", home.display(), restored.relays);
    if let Some(before) = restored.before {
        text += &format!("What was there before lies in {}.\n", before.display());
    }
    let (people, tokens) = (restored.people, restored.tokens);
    text +=
        &format!("{people} people may sign in and {tokens} tokens are valid, as at the time of the backup");
    text += if *keep_sessions {
        "; sessions and invitations are kept.\n"
    } else {
        "; all sessions have ended.\n"
    };
    print(&text);
    Ok(())
}

/// Migrates the records, or a copy of them, to this version.
pub(crate) fn upgrade(arguments: &UpgradeArguments, home: &Path) -> Result<(), Failure> {
    let folder = Home::new(home);
    let done = if arguments.check { folder.check_upgrade() } else { folder.upgrade() };
    let Upgrade { found, known, relays, lost } = done.map_err(explain_upgrade)?;
    let mut text = match (found == known, arguments.check) {
        (true, _) => {
            format!("The records are of this program's version, {known}: nothing is to be migrated.\n")
        }
        (false, true) => format!(
            "The records can be brought from version {found} to {known}: a copy of them was, with {relays} relays, and is sound. \
             All broadcasts end while the service is restarted.\n"
        ),
        (false, false) => format!(
            "The records were brought from version {found} to {known}. A copy of the former ones is beside them, with \
             before-migration-{found} in its name.\n"
        ),
    };
    for secret in &lost {
        text += &format!(
            "  {} {}: set its {} again, it cannot be opened\n",
            secret.kind, secret.name, secret.secret
        );
    }
    print(&text);
    Ok(())
}

/// Adds the next step to why records cannot be migrated.
fn explain_upgrade(error: HomeError) -> Failure {
    let hint = match &error {
        HomeError::Taken(_) => "Stop the service first, or use --check, which works on a copy.",
        HomeError::NoRecords { .. } => "Name the home folder of the service by --home.",
        HomeError::MasterKeyMissing { .. } | HomeError::MasterKeyForeign { .. } => {
            "Name the file of the master key by YONDER_MASTER_KEY_FILE."
        }
        HomeError::Store(StoreError::TooNew { .. }) => {
            "These records are of a newer program: install that one."
        }
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{:#}\n        {hint}", anyhow::Error::from(error)))
}

/// Returns the failure of a refused restore, with the next step.
fn explain(error: HomeError) -> Failure {
    let hint = match &error {
        HomeError::Taken(_) => Some("Stop the service first: its records cannot be replaced while it runs."),
        HomeError::MasterKeyMissing { .. } | HomeError::MasterKeyForeign { .. } => Some(
            "Put the master key of the service that was backed up into the home folder, or name it by YONDER_MASTER_KEY_FILE.",
        ),
        HomeError::Store(StoreError::TooNew { .. }) => Some("Restore it with the newer program."),
        HomeError::Store(_) => Some("The file is no backup, or a damaged one. Nothing was changed."),
        _ => None,
    };
    let error = anyhow::Error::from(error);
    Failure::Other(match hint {
        Some(hint) => anyhow::anyhow!("{error:#}\n        {hint}"),
        None => error,
    })
}

/// Looks at what the service stands on.
pub(crate) fn selfcheck(client: &Client) -> Result<(), Failure> {
    let found: Vec<Check> = client.get(&["selfcheck"])?;
    if wants_json() {
        print_json(&found)?;
    } else {
        print(&(checks(&found, has_color()) + "\n"));
    }
    if found.iter().any(|check| check.level == Level::Fail) { Err(Failure::AlreadyReported) } else { Ok(()) }
}
