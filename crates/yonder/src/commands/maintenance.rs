//! `yonder backup`, `yonder restore` and `yonder selfcheck`.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use clap::Args;
use yonder_api::Check;
use yonder_core::preflight::CheckStatus;
use yonder_service::{DataDir, DataDirError, RestoreOptions, Upgrade};
use yonder_store::StoreError;

use crate::checks::checks_text;
use crate::client::Client;
use crate::failure::Failure;
use crate::output::{has_color, print, print_json, wants_json};

#[derive(Debug, Args)]
pub(crate) struct BackupArguments {
    /// File to write; it must not exist.
    #[arg(long, value_name = "FILE")]
    out: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct RestoreArguments {
    /// Backup file.
    file: PathBuf,
    /// Switch every relay off, for a second machine with the same destinations.
    #[arg(long)]
    relays_off: bool,
    /// Keep the sessions and invitations of the backup, which are removed by default.
    #[arg(long)]
    keep_sessions: bool,
}

#[derive(Debug, Args)]
pub(crate) struct UpgradeArguments {
    /// Only try it, on a temporary copy of the records. The service may be running, also in its former version.
    #[arg(long)]
    check: bool,
}

/// Writes a backup of all records, readable by its owner only.
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
                "{}: {kilobytes} kB. Its secrets can be decrypted only with the master key: keep a copy of the key elsewhere.\n",
                out.display()
            ));
            Ok(())
        }
        Err(failure) => {
            // An incomplete backup must not remain.
            let _removed = std::fs::remove_file(out);
            Err(failure)
        }
    }
}

/// Restores a backup; no service may be running in the data directory.
pub(crate) fn restore(arguments: &RestoreArguments, home: &Path) -> Result<(), Failure> {
    let RestoreArguments { file, relays_off, keep_sessions } = arguments;
    let options = RestoreOptions { relays_off: *relays_off, keep_sessions: *keep_sessions };
    let restored = DataDir::new(home).restore(file, options).map_err(explain)?;
    let off = if *relays_off { ", all switched off" } else { "" };
    let mut text = format!("Restored into {}: {} relays{off}.\n", home.display(), restored.relays);
    if let Some(before) = restored.before {
        text += &format!("The previous records are in {}.\n", before.display());
    }
    let (people, tokens) = (restored.people, restored.tokens);
    text += &format!("{people} accounts and {tokens} tokens are restored");
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
    let folder = DataDir::new(home);
    let done = if arguments.check { folder.check_upgrade() } else { folder.upgrade() };
    let Upgrade { found, known, relays, lost } = done.map_err(explain_upgrade)?;
    let mut text = match (found == known, arguments.check) {
        (true, _) => {
            format!("The records have version {known}, that of this program: no migration is needed.\n")
        }
        (false, true) => format!(
            "The records can be migrated from version {found} to {known}: a migrated copy with {relays} relays is valid. \
             All broadcasts end while the service is restarted.\n"
        ),
        (false, false) => format!(
            "The records were migrated from version {found} to {known}. A copy of the previous ones is in the same directory, with before-migration-{found} in its name.\n"
        ),
    };
    for secret in &lost {
        text += &format!(
            "  {} {}: its {} cannot be decrypted; set it again\n",
            secret.kind, secret.name, secret.secret
        );
    }
    print(&text);
    Ok(())
}

/// Adds the next step to the error of a migration.
fn explain_upgrade(error: DataDirError) -> Failure {
    let hint = match &error {
        DataDirError::Taken(_) => "Stop the service first, or use --check, which works on a copy.",
        DataDirError::NoRecords { .. } => "Set the data directory of the service with --home.",
        DataDirError::MasterKeyMissing { .. } | DataDirError::MasterKeyForeign { .. } => {
            "Set the file of the master key with YONDER_MASTER_KEY_FILE."
        }
        DataDirError::Store(StoreError::TooNew { .. }) => {
            "These records were written by a newer version of the program: install that version."
        }
        _ => return anyhow::Error::from(error).into(),
    };
    Failure::Other(anyhow::anyhow!("{:#}\n        {hint}", anyhow::Error::from(error)))
}

/// Adds the next step to the error of a restore.
fn explain(error: DataDirError) -> Failure {
    let hint = match &error {
        DataDirError::Taken(_) => {
            Some("Stop the service first: its records cannot be replaced while it runs.")
        }
        DataDirError::MasterKeyMissing { .. } | DataDirError::MasterKeyForeign { .. } => Some(
            "Copy the master key of the original service into the data directory, or set YONDER_MASTER_KEY_FILE.",
        ),
        DataDirError::Store(StoreError::TooNew { .. }) => Some("Restore it with the newer program."),
        DataDirError::Store(_) => Some("The file is not a backup, or it is damaged. Nothing was changed."),
        _ => None,
    };
    let error = anyhow::Error::from(error);
    Failure::Other(match hint {
        Some(hint) => anyhow::anyhow!("{error:#}\n        {hint}"),
        None => error,
    })
}

/// Runs the self-check.
pub(crate) fn selfcheck(client: &Client) -> Result<(), Failure> {
    let found: Vec<Check> = client.get(&["selfcheck"])?;
    if wants_json() {
        print_json(&found)?;
    } else {
        print(&(checks_text(&found, has_color()) + "\n"));
    }
    if found.iter().any(|check| check.level == CheckStatus::Fail) {
        Err(Failure::AlreadyReported)
    } else {
        Ok(())
    }
}
